#include <math.h>
#include <string.h>

static inline double pd_min(double a, double b) { return a < b ? a : b; }
static inline double pd_max(double a, double b) { return a > b ? a : b; }

void pd_hoist(const double *p, const double *s, double *h)
{
    (void)p; (void)s; (void)h;
    double pd_rhs_0 = (s[1] * s[1]);
    double pd_rhs_1 = (2 * s[0]);
    double pd_rhs_2 = (1.0 - pd_rhs_1);
    double pd_rhs_3 = (s[1] * pd_rhs_2);
    double pd_rhs_4 = (1.0 + pd_rhs_3);
    double pd_rhs_5 = (pd_rhs_4 / 2.0);
    double pd_rhs_6 = (1.0 - p[2]);
    double pd_rhs_7 = (pd_rhs_5 * pd_rhs_6);
    double pd_rhs_8 = (1.0 - pd_rhs_5);
    double pd_rhs_9 = (1 / p[2]);
    double pd_rhs_10 = (1.0 - pd_rhs_9);
    double pd_rhs_11 = (pd_rhs_8 * pd_rhs_10);
    double pd_rhs_12 = (pd_rhs_7 + pd_rhs_11);
    double pd_rhs_13 = (1.0 - pd_rhs_12);
    double pd_rhs_14 = (pd_rhs_13 * pd_rhs_0);
    double pd_rhs_15 = (pd_rhs_12 * pd_rhs_0);
    double pd_rhs_16 = (p[0] * pd_rhs_15);
    double pd_rhs_17 = (1.0 - pd_rhs_0);
    double pd_rhs_18 = (p[0] * pd_rhs_0);
    double pd_rhs_19 = (pd_rhs_17 + pd_rhs_18);
    double pd_rhs_20 = (pd_rhs_16 - pd_rhs_19);
    double pd_rhs_21 = (p[1] * pd_rhs_20);
    double pd_rhs_22 = (pd_rhs_0 / p[1]);
    double pd_rhs_23 = (p[3] * pd_rhs_22);
    double pd_rhs_24 = (pd_rhs_21 - pd_rhs_23);
    double pd_rhs_25 = 1 / pd_rhs_24;
    double pd_rhs_26 = (pd_rhs_14 * pd_rhs_25);
    h[0] = pd_rhs_26;
    double pd_guarded_27 = (pd_rhs_26 * p[1]);
    double pd_guarded_28 = (pd_guarded_27 * p[0]);
    double pd_guarded_29 = (pd_guarded_28 + 1.0);
    double pd_guarded_30 = (-1e-09);
    h[1] = pd_guarded_29;
    h[2] = pd_guarded_30;
    double pd_guarded_31 = (pd_guarded_29 * p[1]);
    double pd_guarded_32 = (pd_rhs_26 * p[3]);
    double pd_guarded_33 = (pd_guarded_31 + pd_guarded_32);
    double pd_guarded_34 = 1 / p[1];
    double pd_guarded_35 = (pd_guarded_33 * pd_guarded_34);
    double pd_guarded_36 = (1.0 + pd_rhs_2);
    double pd_guarded_37 = (pd_guarded_36 / 2.0);
    double pd_guarded_38 = (pd_guarded_37 * pd_rhs_6);
    double pd_guarded_39 = (1.0 - pd_guarded_37);
    double pd_guarded_40 = (pd_guarded_39 * pd_rhs_10);
    double pd_guarded_41 = (pd_guarded_38 + pd_guarded_40);
    double pd_guarded_42 = (pd_guarded_29 * pd_guarded_41);
    double pd_guarded_43 = (pd_guarded_35 - pd_guarded_42);
    h[3] = pd_guarded_43;
    double pd_guarded_44 = (1.0 - pd_rhs_2);
    double pd_guarded_45 = (pd_guarded_44 / 2.0);
    double pd_guarded_46 = (pd_guarded_45 * pd_rhs_6);
    double pd_guarded_47 = (1.0 - pd_guarded_45);
    double pd_guarded_48 = (pd_guarded_47 * pd_rhs_10);
    double pd_guarded_49 = (pd_guarded_46 + pd_guarded_48);
    double pd_guarded_50 = (pd_guarded_29 * pd_guarded_49);
    double pd_guarded_51 = (pd_guarded_50 - pd_guarded_35);
    h[4] = pd_guarded_51;
    h[5] = pd_guarded_28;
    h[6] = pd_guarded_32;
    double pd_signals_52 = (p[1] * p[0]);
    h[7] = pd_signals_52;
    double pd_signals_53 = 1 / 2.0;
    h[8] = pd_signals_53;
}

void pd_rhs(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)dx;
    double v0 = p[1] * x[1];
    dx[0] = v0;
    double v2 = (u[1] * t);
    double v3 = (u[0] + v2);
    double v4 = -(h[0] * v3);
    dx[1] = v4;
    dx[2] = x[1];
}

void pd_guarded(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx, double *g)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)dx; (void)g;
    double v0 = p[1] * x[1];
    dx[0] = v0;
    double v2 = (u[1] * t);
    double v3 = (u[0] + v2);
    double v4 = -(h[0] * v3);
    dx[1] = v4;
    dx[2] = x[1];
    double v7 = h[2] - h[1] * v3;
    g[0] = v7;
    double v9 = h[1] * v3 + h[2];
    g[1] = v9;
    double v11 = p[1] * x[1] + h[2];
    g[2] = v11;
    double v13 = h[2] - p[1] * x[1];
    g[3] = v13;
    double v15 = h[3] * v3;
    g[4] = v15;
    double v17 = h[4] * v3;
    g[5] = v17;
    double v19 = -(p[1] * x[1]);
    g[6] = v19;
    g[7] = v0;
}

void pd_measure(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)y;
}

void pd_signals(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)y;
    double v0 = (u[1] * t);
    double v1 = (u[0] + v0);
    y[0] = v1;
    double v3 = p[1] * x[1];
    y[1] = v3;
    double v5 = (v1 * v3);
    y[2] = v5;
    y[3] = v3;
    y[4] = x[0];
    double v9 = -(h[5] * v1);
    y[5] = v9;
    double v11 = h[5] * v1;
    double v12 = (v3 * v11);
    double v13 = -(v12);
    y[6] = v13;
    y[7] = x[1];
    double v16 = -(h[6] * v1);
    y[8] = v16;
    double v18 = h[1] * v1;
    y[9] = v18;
    double v20 = h[6] * v1;
    double v21 = (v20 * x[1]);
    double v22 = -(v21);
    y[10] = v22;
    double v24 = (v18 * v3);
    double v25 = (v24 + v21);
    y[11] = v25;
    y[12] = x[1];
    y[13] = x[2];
    y[14] = v16;
    double v30 = (x[1] * v20);
    double v31 = -(v30);
    y[15] = v31;
    y[16] = v5;
    y[17] = v25;
    double v35 = h[7] * x[1];
    double v36 = (v35 * v3);
    double v37 = h[8] * v36;
    y[18] = v37;
    double v39 = p[3] * x[1];
    double v40 = (v39 * x[1]);
    double v41 = h[8] * v40;
    y[19] = v41;
}

void pd_jac(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *jac, double *dfdt)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)jac; (void)dfdt;
    jac[0] = 0.0;
    jac[1] = 0.0;
    jac[2] = 0.0;
    jac[3] = p[1];
    jac[4] = 0.0;
    jac[5] = 1.0;
    jac[6] = 0.0;
    jac[7] = 0.0;
    jac[8] = 0.0;
    dfdt[0] = 0.0;
    double v10 = -(h[0] * u[1]);
    dfdt[1] = v10;
    dfdt[2] = 0.0;
}

void pd_hold(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *w, double *grad)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)w; (void)grad;
    double v0 = p[1] * x[1];
    w[0] = v0;
    grad[0] = 0.0;
    grad[1] = p[1];
    grad[2] = 0.0;
}

void pd_demoted(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y, double *jac)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)y; (void)jac;
    double v0 = p[1] * x[1];
    y[0] = v0;
    y[1] = v0;
    jac[0] = 0.0;
    jac[1] = 0.0;
    jac[2] = p[1];
    jac[3] = p[1];
    jac[4] = 0.0;
    jac[5] = 0.0;
}

void pd_affine(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *c, double *k)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)c; (void)k;
    c[0] = 0.0;
    c[1] = 0.0;
    c[2] = 0.0;
    c[3] = 0.0;
    c[4] = 0.0;
    c[5] = (-1e-09);
    c[6] = (-1e-09);
    c[7] = 0.0;
    c[8] = 0.0;
    c[9] = 0.0;
    c[10] = 0.0;
    k[0] = 0.0;
    k[1] = 0.0;
    k[2] = 0.0;
    k[3] = 0.0;
    k[4] = 0.0;
    k[5] = 0.0;
    k[6] = 0.0;
    k[7] = 0.0;
    k[8] = 0.0;
    k[9] = 0.0;
    k[10] = p[1];
    double v22 = -(p[1]);
    k[11] = v22;
    k[12] = 0.0;
    k[13] = 0.0;
    k[14] = v22;
    k[15] = p[1];
    k[16] = 0.0;
    k[17] = 0.0;
    k[18] = 0.0;
    k[19] = 0.0;
    k[20] = 0.0;
    k[21] = 0.0;
    k[22] = 0.0;
    k[23] = 0.0;
}

void pd_forced(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *b)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)b;
    double v0 = (u[1] * t);
    double v1 = (u[0] + v0);
    double v2 = -(h[0] * v1);
    b[0] = v2;
    double v4 = h[2] - h[1] * v1;
    b[1] = v4;
    double v6 = h[1] * v1 + h[2];
    b[2] = v6;
    double v8 = h[3] * v1;
    b[3] = v8;
    double v10 = h[4] * v1;
    b[4] = v10;
}

int pd_looped(void) { return 0; }

int pd_hoisted(void) { return 9; }

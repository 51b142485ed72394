#include <math.h>
#include <string.h>

static inline double pd_min(double a, double b) { return a < b ? a : b; }
static inline double pd_max(double a, double b) { return a > b ? a : b; }

void pd_hoist(const double *p, const double *s, double *h)
{
    (void)p; (void)s; (void)h;
    double pd_rhs_0 = (s[0] * s[0]);
    double pd_rhs_1 = (s[0] * pd_rhs_0);
    double pd_rhs_2 = (1.0 - pd_rhs_0);
    double pd_rhs_3 = (p[2] * pd_rhs_2);
    double pd_rhs_4 = (1e-09 * pd_rhs_2);
    double pd_rhs_5 = (pd_rhs_4 + pd_rhs_0);
    double pd_rhs_6 = (pd_rhs_5 + pd_rhs_3);
    h[0] = pd_rhs_0;
    h[1] = pd_rhs_2;
    h[2] = pd_rhs_6;
    double pd_rhs_7 = (s[0] * p[1]);
    double pd_rhs_8 = (p[3] * pd_rhs_0);
    double pd_rhs_9 = (pd_rhs_7 * pd_rhs_0);
    h[3] = pd_rhs_8;
    h[4] = pd_rhs_9;
    h[5] = pd_rhs_1;
    double pd_rhs_10 = (pd_rhs_2 * p[0]);
    double pd_rhs_11 = (pd_rhs_5 * p[0]);
    h[6] = pd_rhs_10;
    h[7] = pd_rhs_11;
    double pd_guarded_12 = (-1e-09);
    h[8] = pd_guarded_12;
    double pd_guarded_13 = (-p[2]);
    double pd_signals_14 = 1 / 2.0;
    h[9] = pd_signals_14;
    double pd_jac_15 = (pd_rhs_0 * p[3]);
    double pd_jac_16 = (1e-09 * p[3]);
    double pd_jac_17 = (p[3] * pd_rhs_2);
    double pd_jac_18 = (pd_jac_16 * pd_rhs_2);
    double pd_jac_19 = (pd_jac_18 + pd_jac_15);
    h[10] = pd_jac_17;
    h[11] = pd_jac_19;
}

void pd_rhs(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)dx;
    double v0 = (u[1] * t);
    double v1 = (u[0] + v0);
    double v2 = h[1] * v1 + h[2];
    double v3 = (h[0] / v2);
    double v4 = p[3] * x[0];
    double v5 = v1 + 1e-09;
    double v6 = (v4 * v5);
    double v7 = h[3] * x[0] + h[4];
    double v8 = h[1] * v6;
    double v9 = (v7 + v8);
    double v10 = (v3 * v9);
    double v11 = h[5] * v1;
    double v12 = (v11 + v10);
    double v13 = h[6] * v1 + h[7];
    double v14 = (v3 * v13);
    double v15 = v14 + h[1];
    double v16 = (v12 / v15);
    double v17 = -(v16);
    dx[0] = v17;
    dx[1] = x[0];
}

void pd_guarded(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx, double *g)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)dx; (void)g;
    double v0 = (u[1] * t);
    double v1 = (u[0] + v0);
    double v2 = h[1] * v1 + h[2];
    double v3 = (h[0] / v2);
    double v4 = p[3] * x[0];
    double v5 = v1 + 1e-09;
    double v6 = (v4 * v5);
    double v7 = h[3] * x[0] + h[4];
    double v8 = h[1] * v6;
    double v9 = (v7 + v8);
    double v10 = (v3 * v9);
    double v11 = h[5] * v1;
    double v12 = (v11 + v10);
    double v13 = h[6] * v1 + h[7];
    double v14 = (v3 * v13);
    double v15 = v14 + h[1];
    double v16 = (v12 / v15);
    double v17 = -(v16);
    dx[0] = v17;
    dx[1] = x[0];
    double v20 = x[0] + h[8];
    g[0] = v20;
    double v22 = h[8] - x[0];
    g[1] = v22;
    double v24 = p[0] * v16;
    double v25 = (v4 - v24);
    double v26 = (v25 * v5);
    double v27 = h[0] * v25 + h[4];
    double v28 = h[1] * v26;
    double v29 = (v27 + v28);
    double v30 = (v29 / v2);
    double v31 = (v24 + v30);
    double v32 = (v31 - v4);
    double v33 = (v32 - v30);
    double v34 = v1 + p[2];
    double v35 = (v33 - v34);
    g[2] = v35;
    double v37 = (v33 + v34);
    double v38 = -(v37);
    g[3] = v38;
    double v40 = -(x[0]);
    g[4] = v40;
    g[5] = x[0];
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
    double v2 = h[1] * v1 + h[2];
    double v3 = (h[0] / v2);
    double v4 = p[3] * x[0];
    double v5 = v1 + 1e-09;
    double v6 = (v4 * v5);
    double v7 = h[3] * x[0] + h[4];
    double v8 = h[1] * v6;
    double v9 = (v7 + v8);
    double v10 = (v3 * v9);
    double v11 = h[5] * v1;
    double v12 = (v11 + v10);
    double v13 = h[6] * v1 + h[7];
    double v14 = (v3 * v13);
    double v15 = v14 + h[1];
    double v16 = (v12 / v15);
    double v17 = p[0] * v16;
    double v18 = (v4 - v17);
    double v19 = (v18 * v5);
    double v20 = h[0] * v18 + h[4];
    double v21 = h[1] * v19;
    double v22 = (v20 + v21);
    double v23 = (v22 / v2);
    double v24 = -(v23);
    y[0] = v24;
    y[1] = v1;
    double v27 = (v23 * x[0]);
    double v28 = -(v27);
    y[2] = v28;
    y[3] = x[0];
    y[4] = x[1];
    double v32 = -(p[0] * v16);
    y[5] = v32;
    double v34 = (x[0] * v17);
    double v35 = -(v34);
    y[6] = v35;
    y[7] = x[0];
    double v38 = (v17 + v23);
    y[8] = v38;
    double v40 = (v38 * x[0]);
    y[9] = v40;
    y[10] = v40;
    y[11] = v28;
    double v44 = p[0] * x[0];
    double v45 = (v44 * x[0]);
    double v46 = h[9] * v45;
    y[12] = v46;
}

void pd_jac(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *jac, double *dfdt)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)jac; (void)dfdt;
    double v0 = (u[1] * t);
    double v1 = (u[0] + v0);
    double v2 = h[1] * v1 + h[2];
    double v3 = (h[0] / v2);
    double v4 = h[10] * v1 + h[11];
    double v5 = (v3 * v4);
    double v6 = h[6] * v1 + h[7];
    double v7 = (v3 * v6);
    double v8 = v7 + h[1];
    double v9 = (v5 / v8);
    double v10 = -(v9);
    jac[0] = v10;
    jac[1] = 1.0;
    jac[2] = 0.0;
    jac[3] = 0.0;
    double v15 = p[3] * x[0];
    double v16 = (v15 * u[1]);
    double v17 = h[1] * v16;
    double v18 = (v3 * v17);
    double v19 = v1 + 1e-09;
    double v20 = (v15 * v19);
    double v21 = h[3] * x[0] + h[4];
    double v22 = h[1] * v20;
    double v23 = (v21 + v22);
    double v24 = (v3 / v2);
    double v25 = h[1] * u[1];
    double v26 = (v24 * v25);
    double v27 = (v23 * v26);
    double v28 = (v18 - v27);
    double v29 = h[5] * u[1];
    double v30 = (v29 + v28);
    double v31 = (v30 / v8);
    double v32 = (v3 * v23);
    double v33 = h[5] * v1;
    double v34 = (v33 + v32);
    double v35 = (v34 / v8);
    double v36 = (v35 / v8);
    double v37 = h[6] * u[1];
    double v38 = (v3 * v37);
    double v39 = (v6 * v26);
    double v40 = (v38 - v39);
    double v41 = (v36 * v40);
    double v42 = (v31 - v41);
    double v43 = -(v42);
    dfdt[0] = v43;
    dfdt[1] = 0.0;
}

void pd_hold(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *w, double *grad)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)w; (void)grad;
    w[0] = x[0];
    grad[0] = 1.0;
    grad[1] = 0.0;
}

void pd_demoted(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y, double *jac)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)y; (void)jac;
    y[0] = x[0];
    y[1] = x[0];
    jac[0] = 1.0;
    jac[1] = 1.0;
    jac[2] = 0.0;
    jac[3] = 0.0;
}

void pd_affine(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *c, double *k)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)c; (void)k;
}

void pd_forced(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *b)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)b;
}

int pd_looped(void) { return 0; }

int pd_hoisted(void) { return 12; }

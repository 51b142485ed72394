#include <math.h>
#include <string.h>

static inline double pd_min(double a, double b) { return a < b ? a : b; }
static inline double pd_max(double a, double b) { return a > b ? a : b; }

/* Sine and cosine at once, to one unit in the last place, for half the time of the library's. The angle
less the nearest n quarter
 * turns, pi/2 in two parts of which the first times n is exact (Cody and Waite, Software Manual for the Elementary
 Functions,
 * 1980, chapter 8); the polynomials are those of fdlibm (Sun Microsystems 1993, k_sin.c and k_cos.c). */
static inline void pd_turn(double angle, double *sine, double *cosine)
{
    double turns = angle * 0.63661977236758134308 + 6755399441055744.0, n = turns - 6755399441055744.0;
    double r = angle - n * 1.57079632673412561417 - n * 6.07710050650619224932e-11, z = r * r, zz = z * z, s, c;
    union { double d; unsigned long long bits; } quarter;
    if (!(fabs(angle) < 1e6)) { *sine = sin(angle); *cosine = cos(angle); return; }
    quarter.d = turns;
    s = r + r * z * ((-1.66666666666666324348e-01 + z * 8.33333333332248946124e-03)
                     + zz * ((-1.98412698298579493134e-04 + z * 2.75573137070700676789e-06) + zz *
                     (-2.50507602534068634195e-08 + z * 1.58969099521155010221e-10)));
    c = 1 - (0.5 * z - zz * ((4.16666666666666019037e-02 + z * -1.38888888888741095749e-03)
                             + zz * ((2.48015872894767294178e-05 + z * -2.75573143513906633035e-07) + zz *
                             (2.08757232129817482790e-09 + z * -1.13596475577881948265e-11))));
    *sine = quarter.bits & 1 ? c : s;
    *cosine = quarter.bits & 1 ? s : c;
    if (quarter.bits & 2) *sine = -*sine;
    if ((quarter.bits + 1) & 2) *cosine = -*cosine;
}

void pd_hoist(const double *p, const double *s, double *h)
{
    (void)p; (void)s; (void)h;
    double pd_rhs_0 = (1.4142135623730951 * p[0]);
    double pd_rhs_1 = (6.283185307179586 * p[1]);
    h[0] = pd_rhs_1;
    double pd_rhs_2 = sin(p[2]);
    h[1] = pd_rhs_2;
    double pd_rhs_3 = cos(p[2]);
    h[2] = pd_rhs_3;
    h[3] = pd_rhs_0;
    double pd_rhs_4 = (p[7] * s[0]);
    double pd_rhs_5 = 1 / p[8];
    double pd_rhs_6 = (s[0] * pd_rhs_5);
    double pd_rhs_7 = (pd_rhs_4 * pd_rhs_5);
    h[4] = pd_rhs_6;
    h[5] = pd_rhs_7;
    double pd_rhs_8 = (1.0 - s[0]);
    double pd_rhs_9 = 1 / p[6];
    double pd_rhs_10 = (pd_rhs_8 * pd_rhs_9);
    h[6] = pd_rhs_10;
    double pd_rhs_11 = (pd_rhs_8 / p[6]);
    double pd_rhs_12 = (s[0] / p[8]);
    double pd_rhs_13 = (pd_rhs_11 + pd_rhs_12);
    double pd_rhs_14 = 1 / pd_rhs_13;
    h[7] = pd_rhs_14;
    double pd_rhs_15 = 1 / p[4];
    h[8] = pd_rhs_15;
    double pd_rhs_16 = 1 / p[9];
    h[9] = pd_rhs_16;
    double pd_guarded_17 = (-p[7]);
    double pd_guarded_18 = (pd_guarded_17 - 1e-06);
    h[10] = pd_guarded_18;
    double pd_guarded_19 = (2e-12 / p[8]);
    double pd_guarded_20 = (1e-07 + pd_guarded_19);
    double pd_guarded_21 = (-pd_guarded_20);
    h[11] = pd_guarded_21;
    double pd_signals_22 = 1 / 2.0;
    h[12] = pd_signals_22;
    double pd_jac_23 = (s[0] * p[5]);
    double pd_jac_24 = (pd_jac_23 / p[8]);
    double pd_jac_25 = (1.0 + pd_jac_24);
    double pd_jac_26 = (pd_rhs_8 * p[5]);
    double pd_jac_27 = (pd_jac_26 / p[6]);
    double pd_jac_28 = (pd_jac_25 + pd_jac_27);
    double pd_jac_29 = (pd_jac_28 / pd_rhs_13);
    double pd_jac_30 = (p[3] + pd_jac_29);
    double pd_jac_31 = (pd_jac_30 / p[4]);
    double pd_jac_32 = (-pd_jac_31);
    h[13] = pd_jac_32;
    double pd_jac_33 = (1 / p[9]);
    h[14] = pd_jac_33;
    double pd_jac_34 = (1 / p[4]);
    double pd_jac_35 = (-pd_jac_34);
    h[15] = pd_jac_35;
    double pd_jac_36 = (pd_rhs_1 * pd_rhs_0);
    double pd_jac_37 = (pd_jac_36 * pd_rhs_15);
    h[16] = pd_jac_37;
    double pd_affine_38 = (-1e-06);
    h[17] = pd_affine_38;
    double pd_affine_39 = (-1e-07);
    h[18] = pd_affine_39;
    double pd_forced_40 = (s[0] * p[7]);
    double pd_forced_41 = (pd_forced_40 / p[8]);
    double pd_forced_42 = (pd_forced_41 / pd_rhs_13);
    double pd_forced_43 = (-pd_forced_42);
    double pd_forced_44 = (pd_rhs_0 * pd_rhs_15);
    double pd_forced_45 = (pd_forced_43 * pd_rhs_15);
    h[19] = pd_forced_44;
    h[20] = pd_forced_45;
}

void pd_rhs(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)dx;
    double v0 = h[0] * t;
    double sn1, cs1;
    pd_turn(v0, &sn1, &cs1);
    double v3 = (cs1 * h[1] + sn1 * h[2]);
    double v4 = h[3] * v3;
    double v5 = p[3] * x[0];
    double v6 = (v4 - v5);
    double v7 = p[5] * x[0];
    double v8 = (v7 + x[1]);
    double v9 = h[4] * v8 + h[5];
    double v10 = (x[0] + v9);
    double v11 = h[6] * v8;
    double v12 = (v10 + v11);
    double v13 = h[7] * v12;
    double v14 = (v6 - v13);
    double v15 = h[8] * v14;
    dx[0] = v15;
    double v17 = h[9] * x[0];
    dx[1] = v17;
}

void pd_guarded(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx, double *g)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)dx; (void)g;
    double v0 = h[0] * t;
    double sn1, cs1;
    pd_turn(v0, &sn1, &cs1);
    double v3 = (cs1 * h[1] + sn1 * h[2]);
    double v4 = h[3] * v3;
    double v5 = p[3] * x[0];
    double v6 = (v4 - v5);
    double v7 = p[5] * x[0];
    double v8 = (v7 + x[1]);
    double v9 = h[4] * v8 + h[5];
    double v10 = (x[0] + v9);
    double v11 = h[6] * v8;
    double v12 = (v10 + v11);
    double v13 = h[7] * v12;
    double v14 = (v6 - v13);
    double v15 = h[8] * v14;
    dx[0] = v15;
    double v17 = h[9] * x[0];
    dx[1] = v17;
    double v19 = (v13 - v7);
    double v20 = (v19 - x[1]);
    double v21 = v20 + h[10];
    g[0] = v21;
    double v23 = h[11] - x[0];
    g[1] = v23;
}

void pd_measure(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)y;
}

void pd_signals(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)y;
    double v0 = p[5] * x[0];
    double v1 = (v0 + x[1]);
    double v2 = h[4] * v1 + h[5];
    double v3 = (x[0] + v2);
    double v4 = h[6] * v1;
    double v5 = (v3 + v4);
    double v6 = h[7] * v5;
    y[0] = v6;
    y[1] = x[0];
    double v9 = (v6 * x[0]);
    y[2] = v9;
    double v11 = h[0] * t;
    double sn12, cs12;
    pd_turn(v11, &sn12, &cs12);
    double v14 = (cs12 * h[1] + sn12 * h[2]);
    double v15 = h[3] * v14;
    y[3] = v15;
    double v17 = (v6 - v0);
    double v18 = (v6 - v17);
    y[4] = v18;
    y[5] = x[0];
    double v21 = (v18 * x[0]);
    y[6] = v21;
    double v23 = (v17 - x[1]);
    y[7] = v23;
    y[8] = x[0];
    double v26 = (v23 * x[0]);
    y[9] = v26;
    y[10] = x[1];
    y[11] = x[0];
    double v30 = (x[1] * x[0]);
    y[12] = v30;
    double v32 = p[9] * x[1];
    y[13] = v32;
    double v34 = (v15 * x[0]);
    y[14] = v34;
    double v36 = p[3] * x[0];
    double v37 = (v36 * x[0]);
    y[15] = v37;
    y[16] = v21;
    y[17] = v26;
    y[18] = 0.0;
    double v42 = p[4] * x[0];
    double v43 = (v42 * x[0]);
    double v44 = h[12] * v43;
    y[19] = v44;
    double v46 = (v32 * x[1]);
    double v47 = h[12] * v46;
    y[20] = v47;
}

void pd_jac(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *jac, double *dfdt)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)jac; (void)dfdt;
    jac[0] = h[13];
    jac[1] = h[14];
    jac[2] = h[15];
    jac[3] = 0.0;
    double v4 = h[0] * t;
    double sn5, cs5;
    pd_turn(v4, &sn5, &cs5);
    double v7 = (cs5 * h[2] - sn5 * h[1]);
    double v8 = h[16] * v7;
    dfdt[0] = v8;
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
}

void pd_affine(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *c, double *k)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)c; (void)k;
    c[0] = 0.0;
    c[1] = 0.0;
    double v2 = (s[0] * p[7]);
    double v3 = (v2 / p[8]);
    double v4 = 1.0 - s[0];
    double v5 = (v4 / p[6]);
    double v6 = (s[0] / p[8]);
    double v7 = (v5 + v6);
    double v8 = (v3 / v7);
    double v9 = (v8 - p[7]);
    double v10 = v9 + h[17];
    c[2] = v10;
    double v12 = (2e-12 / p[8]);
    double v13 = h[18] - v12;
    c[3] = v13;
    double v15 = (s[0] * p[5]);
    double v16 = (v15 / p[8]);
    double v17 = (v4 * p[5]);
    double v18 = (v17 / p[6]);
    double v19 = v16 + 1.0;
    double v20 = (v19 + v18);
    double v21 = (v20 / v7);
    double v22 = (v21 - p[5]);
    k[0] = v22;
    k[1] = (-1.0);
    k[2] = 0.0;
    k[3] = 0.0;
}

void pd_forced(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *b)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h; (void)b;
    double v0 = h[0] * t;
    double sn1, cs1;
    pd_turn(v0, &sn1, &cs1);
    double v3 = (cs1 * h[1] + sn1 * h[2]);
    double v4 = h[19] * v3 + h[20];
    b[0] = v4;
}

int pd_looped(void) { return 0; }

int pd_hoisted(void) { return 21; }

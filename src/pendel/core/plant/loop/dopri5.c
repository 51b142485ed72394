/* DOPRI5 (Hairer, Norsett, Wanner: Solving Ordinary Differential Equations I, table II.5.2). */

/* One DOPRI5 step of size h from w->x with w->k[0] known; result in xn, derivative there in k[6], guards in g_new. */
static double step_explicit(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    const double *k1 = w->k[0];
    double *k2 = w->k[1], *k3 = w->k[2], *k4 = w->k[3], *k5 = w->k[4], *k6 = w->k[5], *k7 = w->k[6];
    const double *x = w->x;
    double *y = w->xt, *xn = w->xn, num = 0, den = 0, t = w->t;
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (1.0 / 5 * k1[i]);
    derivatives(w, t + 0.2 * h, y, k2, 0);
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (3.0 / 40 * k1[i] + 9.0 / 40 * k2[i]);
    derivatives(w, t + 0.3 * h, y, k3, 0);
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (44.0 / 45 * k1[i] - 56.0 / 15 * k2[i] + 32.0 / 9 * k3[i]);
    derivatives(w, t + 0.8 * h, y, k4, 0);
    for (i = 0; i < nx; i++)
        y[i] = x[i] + h * (19372.0 / 6561 * k1[i] - 25360.0 / 2187 * k2[i] + 64448.0 / 6561 * k3[i] - 212.0 / 729
                           * k4[i]);
    derivatives(w, t + 8.0 / 9 * h, y, k5, 0);
    for (i = 0; i < nx; i++)
        y[i] = x[i] + h * (9017.0 / 3168 * k1[i] - 355.0 / 33 * k2[i] + 46732.0 / 5247 * k3[i] + 49.0 / 176 * k4[i]
                           - 5103.0 / 18656 * k5[i]);
    derivatives(w, t + h, y, k6, 0);
    for (i = 0; i < nx; i++)
        xn[i] = x[i] + h * (35.0 / 384 * k1[i] + 500.0 / 1113 * k3[i] + 125.0 / 192 * k4[i] - 2187.0 / 6784 * k5[i]
                            + 11.0 / 84 * k6[i]);
    derivatives(w, t + h, xn, k7, w->g_new);
    for (i = 0; i < nx; i++) {
        double dk = k7[i] - k6[i], dx = xn[i] - y[i];
        w->err[i] = h * (71.0 / 57600 * k1[i] - 71.0 / 16695 * k3[i] + 71.0 / 1920 * k4[i] - 17253.0 / 339200 * k5[i]
                         + 22.0 / 525 * k6[i] - 1.0 / 40 * k7[i]);
        num += dk * dk;
        den += dx * dx;
    }
    w->radius_num = num;
    w->radius_den = den;
    return error_norm(w, xn, w->err);
}

/* What its continuous extension of order 4 has beyond the cubic through both ends (the same, section II.6; coefficients
 * as in the authors' published code): q^2 (1-q)^2 times this. */
static void quartic_of_explicit(const work_t *w, double h, double *quartic)
{
    const run_t *r = w->r;
    double *const *k = w->k;
    int i;
    for (i = 0; i < NX; i++)
        quartic[i] = h * (-12715105075.0 / 11282082432 * k[0][i] + 87487479700.0 / 32700410799 * k[2][i]
                          - 10690763975.0 / 1880347072 * k[3][i] + 701980252875.0 / 199316789632 * k[4][i]
                          - 1453857185.0 / 822651844 * k[5][i] + 69997945.0 / 29380423 * k[6][i]);
}

static const method_t DOPRI5 = {step_explicit, -0.2, 6, 0, 0, 1, 0, quartic_of_explicit};

/* Heun's method of order 2, compared with Euler's inside it (Hairer, Norsett, Wanner I, table II.1.1). Its last stage lies at the end. */
static double step_heun(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    const double *k1 = w->k[0], *x = w->x;
    double *k2 = w->k[1], *xn = w->xn, sum = 0;
    for (i = 0; i < nx; i++) xn[i] = x[i] + h * k1[i];
    derivatives(w, w->t + h, xn, k2, N_GUARD ? w->g_new : 0);
    for (i = 0; i < nx; i++) {
        double err = h / 2 * (k2[i] - k1[i]), to = xn[i] + err, e = err / tolerated(w, i, to);
        xn[i] = to;
        w->err[i] = err;
        sum += e * e;
    }
    return nx ? sqrt(sum / nx) : 0;
}

static const method_t HEUN = {step_heun, -0.5, 6, 1, 0, 0, 0};

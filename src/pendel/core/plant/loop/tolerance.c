/* Errors over tolerances. */

/* Error over tolerance. A state near zero is measured against a thousandth of its peak: below that, what is left of a
 * current in a blocking device is rounding, and asking more of it would stop the run. */
static inline double tolerated(const work_t *w, int i, double x_new)
{
    const run_t *r = w->r;
    return r->atol[i] + r->rtol * most(1e-3 * w->peak[i], most(fabs(w->x[i]), fabs(x_new)));
}

static double error_norm(work_t *w, const double *x_new, const double *err)
{
    run_t *r = w->r;
    double sum = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double e = err[i] / tolerated(w, i, x_new[i]);
        sum += e * e;
    }
    return NX ? sqrt(sum / NX) : 0;
}

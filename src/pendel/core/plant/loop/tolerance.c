/* Errors over tolerances. */

/* Error over tolerance. A state near zero is measured against a thousandth of its peak: below that, what is left of a
 * current in a blocking device is rounding, and asking more of it would stop the run. */
static inline double tolerated(const work_t *w, int i, double x_new)
{
    const run_t *r = w->r;
    return r->atol[i] + r->rtol * most(1e-3 * w->peak[i], most(fabs(w->x[i]), fabs(x_new)));
}

/* Errors of steps add up over an oscillation that little damps. Ten times the tolerance for a run leaves each step a
 * share of it: without that, 318 free periods were off by 600 tolerances and more. */
static const double PERIODS_A_SHARE = 4, LEAST_SHARES = 5, MOST_SHARES = 1000;
/* Steps to the next edge that make a long stretch. In shorter ones it is the edges that limit steps, not their errors.
 */
static const double LONG_STRETCH = 16;

/* In how many parts the tolerance of a step of h is counted, with so much left to the next edge. How long errors live
 * is asked anew whenever four times as many such steps were taken. */
static double shares(work_t *w, double left, double h)
{
    const run_t *r = w->r;
    if (!(left > LONG_STRETCH * h)) return 1;
    if (++w->long_steps >= w->next_look) {
        /* how long steps were without all this */
        double order = w->stiff ? 4 : 5, alone = w->usual * pow(w->many_shares, 1 / order);
        /* A run without an end has the steps of the drive's ordinary run, which is a thousand of the longest. */
        double length = r->h_max < r->t_end ? 1000 * r->h_max : r->t_end;
        w->next_look *= 4;
        w->many_shares = least(MOST_SHARES, most(LEAST_SHARES, remembered_periods(w, alone, length) / PERIODS_A_SHARE));
    }
    return w->many_shares;
}

/* Of a state: what rounding leaves of the error that a step is judged by. Asking for less, a rectifier took millions of
 * steps. */
static const double LEAST_SHARE = 5e-12;

static double error_norm(work_t *w, const double *x_new, const double *err)
{
    run_t *r = w->r;
    double sum = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double e = err[i] / tolerated(w, i, x_new[i]);
        sum += e * e;
    }
    return NX ? least(w->shares, r->rtol / LEAST_SHARE) * sqrt(sum / NX) : 0;
}

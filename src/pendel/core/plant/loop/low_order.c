/* Methods of low order: between two edges of pulses, and often between two ticks, they are exact enough for half the
 * evaluations. */

/* Within a step of order 3 or less, the cubic through both ends is as exact as the step. */
static void no_quartic(const work_t *w, double h, double *quartic)
{
    (void)h;
    memset(quartic, 0, sizeof(double) * (size_t)w->r->nx);
}

/* How far the slope changes within a step, over the tolerance, squared; with the scales of the last third-order step.
 */
static double curvature(const work_t *w, double h)
{
    run_t *r = w->r;
    double sum = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double change = h * (w->k[1][i] - w->k[0][i]) * w->weight[i];
        sum += change * change;
    }
    return sum;
}

/* One step of Kutta's third-order method (Hairer, Norsett, Wanner I, table II.1.1), compared with the midpoint rule
 * inside it. Its last stage lies at the end, off the result by less than this error, so that the guards there tell
 * whether the step crosses one; the derivative at the end is left to whoever needs it (`finish`). */
static double step_third(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    const double *k1 = w->k[0], *x = w->x;
    double *k2 = w->k[1], *k3 = w->k[2], *y = w->xt, *xn = w->xn, num = 0, den = 0, sum = 0, curved = 0, t = w->t;
    for (i = 0; i < nx; i++) y[i] = x[i] + h * 0.5 * k1[i];
    derivatives(w, t + 0.5 * h, y, k2, 0);
    for (i = 0; i < nx; i++) xn[i] = x[i] + h * (2 * k2[i] - k1[i]);
    derivatives(w, t + h, xn, k3, N_GUARD ? w->g_new : 0);
    for (i = 0; i < nx; i++) {
        double bend = k2[i] - k1[i], dk = k3[i] - k2[i], dx = xn[i] - y[i], err = h / 6 * (dk - bend);
        double to = x[i] + h * k2[i] + err, weight = 1 / tolerated(w, i, to), e = err * weight,
            curve = h * bend * weight;
        xn[i] = to;
        w->err[i] = err;
        w->weight[i] = weight;
        sum += e * e;
        curved += curve * curve;
        num += dk * dk;
        den += dx * dx;
    }
    w->radius_num = num;
    w->radius_den = den;
    w->checked_curvature = curved;
    w->checked_step = h;
    /* Its own error is smaller than that of the midpoint rule as that is smaller than Euler's. */
    return (sum < 0.0025 * curved ? 0.5 : 1) * (nx ? sqrt(sum / nx) : 0);
}

/* One step of the midpoint rule, which tells no error of its own: it goes no further than third-order steps, taken now
 * and then, have found it exact (`max_step_for_order`), and what it finds must be as curved as those were. Where it is
 * not, as after a jump of an input, that is UNLIKE what was proven, unless its error, the fastest rate times the
 * curvature over three, stays within a fifth of the tolerance all the same. Its guards are those in the middle; see
 * `may_cross`. */
static double step_second(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    double *k2 = w->k[1], *y = w->xt, share, fast, curved;
    for (i = 0; i < nx; i++) y[i] = w->x[i] + h * 0.5 * w->k[0][i];
    derivatives(w, w->t + 0.5 * h, y, k2, N_GUARD ? w->g_new : 0);
    for (i = 0; i < nx; i++) w->xn[i] = w->x[i] + h * k2[i];
    share = h / w->checked_step * (h / w->checked_step);
    fast = h * w->set->radius;
    curved = curvature(w, h);
    return curved <= 4 * w->checked_curvature * share * share || fast * fast * curved <= 0.36 * nx ? 0 : UNLIKE;
}

static const method_t KUTTA3 = {step_third, -1.0 / 3, 6, 1, 0, 1, 0, no_quartic};
static const method_t MIDPOINT = {step_second, -0.2, 6, 1, 1, 0, 0, no_quartic};

/* Where within a step a guard is crossed. */

/* Whether a step may end beyond a guard: those at its end tell, or are extrapolated where they were taken in the
 * middle. */
static int may_cross(const work_t *w)
{
    const set_t *set = w->set;
    const int *k = set->active, *end = k + set->n_active;
    if (!w->method->guards_half_way) return some_above(set, w->g_new);
    for (; k < end; k++) if (2 * w->g_new[*k] > w->g[*k]) return 1;
    return 0;
}

/* Level of the guard that is crossed: the worst above zero, else that of the one last seen above (``k``). */
static double crossing(work_t *w, int *k)
{
    int found = worst(w, w->g_new);
    if (found >= 0) *k = found;
    return w->g_new[*k];
}

/* Place between low and high by regula falsi; where one end stays, its level is halved (Illinois). */
typedef struct { double low, high, g_low, g_high; int side; } bracket_t;

static double next_place(const bracket_t *k, int round)
{
    double at = k->low - k->g_low * (k->high - k->low) / (k->g_high - k->g_low);
    if (!(at > k->low && at < k->high) || round % 4 == 3) at = 0.5 * (k->low + k->high);
    return at;
}

static void narrow(bracket_t *k, double at, double level)
{
    if (level > 0) {
        k->high = at; k->g_high = level;
        if (k->side > 0) k->g_low *= 0.5;
        k->side = 1;
    } else {
        k->low = at; k->g_low = level < 0 ? level : -1e-300;
        if (k->side < 0) k->g_high *= 0.5;
        k->side = -1;
    }
}

/* The step of size h crossed a guard: shrink it until it ends just past the crossing. A cubic through both ends finds
 * the place for one evaluation a round; a true step to there confirms it, and where it does not, true steps search on.
 * How near is near enough follows the tolerance, as masses that meet again and again carry each instant's error on; a
 * current is put to zero there anyway. The step is left finished. */
static double locate(work_t *w, double h)
{
    run_t *r = w->r;
    int n = NX, i, round;
    double *x1 = w->end_x, *f1 = w->end_slope, *f0 = w->begin_slope, span, level;
    int guard = 0;
    double near = 1e-5;   /* of the guard's change over the step */
    bracket_t k = {0, h, 0, 0, 0};
    finish(w, h);
    k.g_high = crossing(w, &guard);
    if (held_by(r, r->exit_mode[guard]) != CURRENT) near = least(near, most(r->rtol, 1e-9));
    k.g_low = least(w->g[guard], -1e-300);
    span = k.g_high - k.g_low;
    memcpy(x1, w->xn, sizeof(double) * (size_t)n);
    memcpy(f1, w->k[w->method->end], sizeof(double) * (size_t)n);
    memcpy(f0, w->k[0], sizeof(double) * (size_t)n);
    for (round = 0; round < 40 && k.high - k.low > 1e-9 * h; round++) {
        double at = next_place(&k, round), q = at / h, a, b, c, d;
        a = (1 + 2 * q) * (1 - q) * (1 - q); b = q * (1 - q) * (1 - q) * h;
        c = q * q * (3 - 2 * q); d = q * q * (q - 1) * h;
        for (i = 0; i < n; i++) w->xt[i] = a * w->x[i] + b * f0[i] + c * x1[i] + d * f1[i];
        derivatives(w, w->t + at, w->xt, w->err, w->g_new);
        level = crossing(w, &guard);
        narrow(&k, at, level);
        if (level > 0 && level < 0.1 * near * span) break;
    }
    for (round = 0; round < 3; round++) {
        w->method->step(w, k.high);
        finish(w, k.high);
        level = crossing(w, &guard);
        if (level > 0 && level < near * span) return k.high;
        if (level > 0 || k.high >= h) break;
        k.high = least(h, k.high + 2 * (1e-9 * span - level) / span * h);
    }
    k.low = 0; k.high = h; k.side = 0; k.g_high = span; k.g_low = -1e-3 * span;
    for (round = 0; round < 80 && k.high - k.low > 1e-15 * fabs(w->t) + 1e-10 * h; round++) {
        double at = next_place(&k, round);
        w->method->step(w, at);
        finish(w, at);
        narrow(&k, at, crossing(w, &guard));
    }
    w->method->step(w, k.high);
    finish(w, k.high);
    return k.high;
}

/* Whether an accepted step ends beyond a guard, judged at its very end. */
static int crosses(work_t *w, double h)
{
    finish(w, h);
    return some_above(w->set, w->g_new);
}

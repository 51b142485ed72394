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

static double next_place(const bracket_t *k, int round, double aim)
{
    double at = k->low + (aim - k->g_low) * (k->high - k->low) / (k->g_high - k->g_low);
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

/* What the state within the finished step of size h is made of: the cubic through both ends, and what its method knows
 * better. */
static void span_step(work_t *w, double h)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)NX;
    memcpy(w->end_x, w->xn, bytes);
    memcpy(w->end_slope, w->k[w->method->end], bytes);
    memcpy(w->begin_slope, w->k[0], bytes);
    if (w->method->quartic) w->method->quartic(w, h, w->quartic);
    else memset(w->quartic, 0, bytes);
}

/* The state at a place within it, in w->xt; its derivatives in w->err, and the guards there. */
static void look_within(work_t *w, double h, double at)
{
    run_t *r = w->r;
    double q = at / h, p = 1 - q;
    double from = (1 + 2 * q) * p * p, slope_from = q * p * p * h, to = q * q * (3 - 2 * q), slope_to = -q * q * p * h,
        inner = q * q * p * p;
    int i;
    for (i = 0; i < NX; i++)
        w->xt[i] = from * w->x[i] + slope_from * w->begin_slope[i] + to * w->end_x[i] + slope_to * w->end_slope[i]
            + inner * w->quartic[i];
    derivatives(w, w->t + at, w->xt, w->err, w->g_new);
}

/* End the step where it was looked at last. */
static double end_within(work_t *w, double at)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)NX;
    memcpy(w->xn, w->xt, bytes);
    memcpy(w->k[w->method->end], w->err, bytes);
    return at;
}

/* Of a stiff step, true ones tell where it crosses, about a place where it seems to. */
static double locate_by_steps(work_t *w, double h, double at, int guard, double near, double span)
{
    int round;
    bracket_t k = {0, h, -1e-3 * span, span, 0};
    w->late = 0;   /* it ends as near as can be */
    for (round = 0; round < 3; round++) {
        double level;
        w->method->step(w, at);
        finish(w, at);
        level = crossing(w, &guard);
        if (level > 0 && level < near * span) return at;
        if (level > 0 || at >= h) break;
        at = least(h, at + 2 * (1e-9 * span - level) / span * h);
    }
    for (round = 0; round < 80 && k.high - k.low > 1e-15 * fabs(w->t) + 1e-10 * h; round++) {
        at = next_place(&k, round, 0);
        w->method->step(w, at);
        finish(w, at);
        narrow(&k, at, crossing(w, &guard));
    }
    w->method->step(w, k.high);
    finish(w, k.high);
    return k.high;
}

/* The step of size h crossed a guard: shrink it until it ends just past the crossing. What is known of the state within
 * the step finds the place for one evaluation a round. Where that is as exact as the step, it ends there. How near is
 * near enough follows the tolerance, as masses that meet again and again carry each instant's error on; a current is
 * put to zero there anyway, or goes on through another device. Where one is expected to take it over, the step ends so
 * far behind the crossing that this one's current has begun: what leaks elsewhere else has it go backwards. What that
 * costs is made good by `taken_since_crossing`. The step is left finished. */
static double locate(work_t *w, double h)
{
    run_t *r = w->r;
    int round, guard = 0, crossed = 0;
    double level = crossing(w, &guard), low_level = least(w->g[guard], -1e-300), span = level - low_level;
    int taken = is_taken_over(w, guard);
    double near = 1e-5, aim, enough;   /* near: of the guard's change over the step */
    bracket_t k = {0, h, low_level, level, 0};
    if (held_by(r, r->exit_mode[guard]) != CURRENT) near = least(near, most(r->rtol, 1e-9));
    aim = taken && w->method->quartic ? 0.3 * near * span : 0;
    enough = aim > 0 ? near * span : 0.1 * near * span;
    span_step(w, h);
    for (round = 0; round < 40 && !crossed && k.high - k.low > 1e-9 * h; round++) {
        double at = next_place(&k, round, aim);
        look_within(w, h, at);
        level = crossing(w, &guard);
        if (level > 0) w->late = level / (level - low_level) * (at - k.low);
        else low_level = level;
        crossed = level > 0 && level < enough;
        narrow(&k, at, level);
    }
    if (!w->method->quartic) return locate_by_steps(w, h, k.high, guard, near, span);
    if (!crossed) look_within(w, h, k.high);
    return end_within(w, k.high);
}

/* Whether an accepted step ends beyond a guard, judged at its very end. */
static int crosses(work_t *w, double h)
{
    finish(w, h);
    return some_above(w->set, w->g_new);
}

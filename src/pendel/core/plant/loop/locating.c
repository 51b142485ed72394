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

/* Where a guard is crossed: between low, at which it is below what is aimed at, and high. The place that was given up
 * last is remembered. Levels are those above the one that is aimed at. */
typedef struct { double low, high, was, g_low, g_high, g_was; } bracket_t;

static bracket_t bracket(double h, double g_low, double g_high)
{
    bracket_t k = {0, h, h, g_low, g_high, g_high};
    return k;
}

/* The next place to look at: where a parabola through all three has the level, the place as a function of the level;
 * else the straight line (Brent: Algorithms for minimization without derivatives, 1973, chapter 4). Now and then the
 * middle, so that it ends in any case. */
static double next_place(const bracket_t *k, int round)
{
    double low = k->g_low, high = k->g_high, was = k->g_was, at = k->low - low * (k->high - k->low) / (high - low);
    if (was != low && was != high)
        at = k->low * high * was / ((low - high) * (low - was)) + k->high * low * was / ((high - low) * (high - was))
            + k->was * low * high / ((was - low) * (was - high));
    if (!(at > k->low && at < k->high) || round % 4 == 3) at = 0.5 * (k->low + k->high);
    return at;
}

static void narrow(bracket_t *k, double at, double level)
{
    if (level > 0) {
        k->was = k->high; k->g_was = k->g_high;
        k->high = at; k->g_high = level;
    } else {
        k->was = k->low; k->g_was = k->g_low;
        k->low = at; k->g_low = least(level, -1e-300);
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
    double aim = 0.3 * near * span, level;
    bracket_t k = bracket(h, -1e-3 * span - aim, span - aim);
    w->late = 0;   /* it ends as near as can be */
    for (round = 0; round < 3; round++) {
        w->method->step(w, at);
        finish(w, at);
        level = crossing(w, &guard);
        if (level > 0 && level < near * span) return at;
        if (level > 0 || at >= h) break;
        at = least(h, at + 2 * (1e-9 * span - level) / span * h);
    }
    for (round = 0; round < 80 && k.high - k.low > 1e-15 * fabs(w->t) + 1e-10 * h; round++) {
        at = next_place(&k, round);
        w->method->step(w, at);
        finish(w, at);
        level = crossing(w, &guard);
        if (level > 0 && level < near * span) return at;
        narrow(&k, at, level - aim);
    }
    w->method->step(w, k.high);
    finish(w, k.high);
    return k.high;
}

/* Of the guards above zero at a place within the step the one that was crossed first, by straight lines from the step's
 * start; or -1. Searching for where the worst of several is zero would lead round their corners. */
static int first_crossed(const work_t *w)
{
    const set_t *set = w->set;
    int j, found = -1;
    double earliest = INFINITY;
    for (j = 0; j < set->n_active; j++) {
        int k = set->active[j];
        double share;
        if (!(w->g_new[k] > 0)) continue;
        share = w->g[k] < 0 ? w->g[k] / (w->g[k] - w->g_new[k]) : 0;
        if (share < earliest) { earliest = share; found = k; }
    }
    return found;
}

/* A crossing that is looked for: of which guard, its change over what is left of the step, how far above zero it may
 * end, and how far it is aimed at. How near is near enough follows the tolerance, as masses that meet again and again
 * carry each instant's error on; a current is put to zero there anyway, or goes on through another device. Where one is
 * expected to take it over, the step ends so far behind the crossing that this one's current has begun: what leaks
 * elsewhere else has it go backwards. What that costs is made good by `taken_since_crossing`. */
typedef struct { int guard; double near, span, enough, aim, low; bracket_t places; } sought_t;

static sought_t sought(const work_t *w, int guard, double until)
{
    const run_t *r = w->r;
    sought_t k;
    k.guard = guard;
    k.low = least(w->g[guard], -1e-300);
    k.span = w->g_new[guard] - k.low;
    k.near = 1e-5;
    if (held_by(r, r->exit_mode[guard]) != CURRENT) k.near = least(k.near, most(r->rtol, 1e-9));
    k.enough = (w->method->quartic && is_taken_over(w, guard) ? 1 : 0.1) * k.near * k.span;
    k.aim = 0.3 * k.enough;
    k.places = bracket(until, k.low - k.aim, w->g_new[guard] - k.aim);
    return k;
}

/* The step of size h crossed a guard: shrink it until it ends just past the crossing. What is known of the state within
 * the step finds the place for one evaluation a round. Where that is as exact as the step, it ends there. The step is
 * left finished. */
static double locate(work_t *w, double h)
{
    int round, crossed = 0;
    sought_t k = sought(w, first_crossed(w), h);
    span_step(w, h);
    for (round = 0; round < 40 && !crossed && k.places.high - k.places.low > 1e-9 * h; round++) {
        double at = next_place(&k.places, round), level;
        int guard, another;
        look_within(w, h, at);
        guard = first_crossed(w);
        another = guard >= 0 && guard != k.guard;
        if (another) k = sought(w, guard, at);
        level = w->g_new[k.guard];
        if (level > 0) w->late = level / (level - k.low) * (at - k.places.low);
        else k.low = level;
        crossed = level > 0 && level < k.enough;
        if (crossed) k.places.high = at;
        else if (!another) narrow(&k.places, at, level - k.aim);
    }
    if (!w->method->quartic) return locate_by_steps(w, h, k.places.high, k.guard, k.near, k.span);
    if (!crossed) look_within(w, h, k.places.high);
    return end_within(w, k.places.high);
}

/* Whether an accepted step ends beyond a guard, judged at its very end. */
static int crosses(work_t *w, double h)
{
    finish(w, h);
    return some_above(w->set, w->g_new);
}

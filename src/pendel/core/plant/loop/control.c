/* How methods are chosen from step to step: by stiffness, and by how far one of low order is exact enough. */

/* The fast option sees the error of its midpoint rule at every step after so many. */
enum { PROOF = 31 };
/* The fast option takes fifth order where a stretch would need more steps of third order than this. */
static const double LONG = 4.0;
/* Explicit steps beyond this multiple of 1 / (spectral radius) cost more than one L-stable step. */
static const double STIFF_FROM = 6.0;

static const method_t *always_dopri5(work_t *w, double left) { (void)w; (void)left; return &DOPRI5; }
static const method_t *always_rodas4(work_t *w, double left) { (void)w; (void)left; return &RODAS4; }

/* Between two edges of pulses, and often between two ticks, a step of third order is taken where the error of the
 * midpoint rule, seen on the stretches before, stays within the tolerance; its own is far smaller. */
static const method_t *choose_by_error(work_t *w, double left)
{
    if (w->stiff) return &RODAS4;
    return left <= w->max_step_for_order[3] ? &KUTTA3 : &DOPRI5;
}

/* The fast option takes the third order always, and in its place the midpoint rule where a third-order step has found
 * that exact enough not long ago and nothing the modes allow is faster. */
static const method_t *choose_fast(work_t *w, double left)
{
    int proven = left <= w->max_step_for_order[2] && w->steps_since_check < PROOF && w->set->radius > 0
        && left * w->set->radius < 1;
    w->steps_since_check = proven ? w->steps_since_check + 1 : 0;
    if (w->stiff) return &RODAS4;
    if (left > LONG * w->max_step_for_order[3]) return &DOPRI5;
    return proven ? &MIDPOINT : &KUTTA3;
}

/* How far steps of third order would go next time, after one of size h with this error. */
static void judge_by_error(work_t *w, double h, double error)
{
    if (w->method != &KUTTA3) { if (w->max_step_for_order[3] < h) w->max_step_for_order[3] *= 1.01; return; }
    if (error > 0.8) w->max_step_for_order[3] = h * most(0.2, 0.9 * cbrt(0.8 / error));
    else if (w->max_step_for_order[3] < 2 * h) w->max_step_for_order[3] = error < 0.1 ? 2 * h : h;
}

static void judge_fast(work_t *w, double h, double error)
{
    double proven;
    if (w->method == &MIDPOINT) return;
    judge_by_error(w, h, error);
    if (w->method == &DOPRI5) return;
    proven = h * (error > 0 ? least(20, cbrt(0.2 / error)) : 20);
    /* a short stretch proves nothing of longer ones */
    w->max_step_for_order[2] = error < 0.05 ? most(w->max_step_for_order[2], proven) : proven;
}

/* After a step of size h: signs of stiffness, or of its end. */
static void judge_stiffness(work_t *w, double h)
{
    double limit;
    int beyond;
    if (!w->control->adapts) return;
    if (w->stiff && w->set->radius > 0) return;   /* the modes' own radius decides when they change */
    if (!w->stiff && !w->method->tells_radius) return;
    /* h times the estimated spectral radius: beyond 3.25 the method is limited by stability (Hairer and Wanner II,
     * IV.2) */
    limit = w->stiff ? 1.0 : 3.0;
    beyond = h * h * w->radius_num > limit * limit * w->radius_den;
    if (!w->stiff) {
        w->stiff_signs = beyond ? w->stiff_signs + 1 : (w->stiff_signs > 0 ? w->stiff_signs - 1 : 0);
        if (w->stiff_signs > 12) { w->stiff = 1; w->calm_signs = 0; }
    } else {
        w->calm_signs = beyond ? 0 : w->calm_signs + 1;
        if (w->calm_signs > 30) { w->stiff = 0; w->stiff_signs = 0; }
    }
}

/* The modes changed: their spectral radius shows at once whether the stretch ahead is stiff. */
static void judge_new_modes(work_t *w, double left)
{
    w->entered = 0;
    if (w->control->adapts && w->set->radius > 0) {
        w->stiff = w->set->radius * least(left, most(w->h, left / 16)) > STIFF_FROM;
        w->stiff_signs = w->calm_signs = 0;
    }
}

static int advance(work_t *w, double t_next);
static int advance_fixed(work_t *w, double t_next);

/* Methods of installed packages: see plant/methods.py. */
#ifndef PD_ADDED_CONTROLS
#define PD_ADDED_CONTROLS
#endif

static const control_t CONTROLS[] = {
    [AUTO] = {choose_by_error, judge_by_error, 1, advance},
    [EXPLICIT] = {always_dopri5, 0, 0, advance},
    [STIFF] = {always_rodas4, 0, 0, advance},
    [FAST] = {choose_fast, judge_fast, 1, advance},
    [FIXED] = {always_dopri5, 0, 0, advance_fixed},
    PD_ADDED_CONTROLS
};

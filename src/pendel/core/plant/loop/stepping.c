/* Steps of a length chosen by their error. */

static void note_peaks(work_t *w)
{
    run_t *r = w->r;
    int i;
    for (i = 0; i < NX; i++) if (fabs(w->x[i]) > w->peak[i]) w->peak[i] = fabs(w->x[i]);
}

static int finite_state(work_t *w)
{
    run_t *r = w->r;
    int i;
    for (i = 0; i < NX; i++)
        if (!(fabs(w->xn[i]) < 1e15)) { r->culprit = i; return 0; }
    return 1;
}

/* A step was not exact enough: a shorter one next. Returns 0 where none is short enough. A trial that went too far may
 * have led the model's loops to another solution, from which the next would begin. */
static int shorten(work_t *w, double h, double error)
{
    run_t *r = w->r;
    int i, worst = 0;
    memcpy(solved_loops(w, w->set), w->loops_begun, sizeof(double) * (size_t)r->n_loops);
    r->rejected++;
    if (error != error) r->culprit = 0;
    w->h = h * (error != error ? 0.1 : most(0.1, 0.9 * pow(error, w->method->exponent)));
    if (w->h < 1e-13 * most(1e-6, fabs(w->t))) {
        for (i = 1; i < NX; i++)
            if (fabs(w->err[i]) / (r->atol[i] + r->rtol * fabs(w->x[i])) > fabs(w->err[worst])
                / (r->atol[worst] + r->rtol * fabs(w->x[worst]))) worst = i;
        r->outcome = error != error ? NOT_FINITE : STEP_VANISHED;
        r->culprit = worst;
        return 0;
    }
    if (!w->stiff) judge_stiffness(w, h);
    return 1;
}

/* The length of the next step after an accepted one. A step cut short by a tick (``last``) says little about the next;
 * far below the tolerance, nothing is reckoned. */
static void lengthen(work_t *w, double h, double error, int last)
{
    w->usual = h > w->usual ? h : w->usual + 0.01 * (h - w->usual);
    if (!last || error > 0.1) {
        double factor = error > 0 ? least(5.0, most(0.2, 0.9 * pow(error, w->method->exponent))) : 5.0;
        if (!last || factor < 1) w->h = h * factor;
    } else if (w->h < 2 * h) {
        w->h = 2 * h;
    }
}

/* Devices may keep changing while the voltage that drives them passes through what their leaks leave open: neither set
 * of modes then lasts for a nanosecond, though no current is larger than a leak's. After so many changes steps are this
 * long (s) and end where they end; where that does not get through, the circuit has no modes to be in. */
enum { RESTLESS = 60, WITHOUT_END = 20000 };
static const double RESTLESS_STEP = 2e-8;

/* The step of size h ends beyond a guard: end it at the crossing instead, and change modes there. */
static int end_at_crossing(work_t *w, double h, double t_next)
{
    run_t *r = w->r;
    int restless = w->chatter > RESTLESS;
    w->late = 0;
    w->t += restless ? h : locate(w, h);
    adopt(w);
    r->steps++;
    if (!record(w)) return 0;
    w->chatter = w->t - w->event_time < (restless ? 2 * RESTLESS_STEP : 1e-9) ? w->chatter + 1 : 0;
    w->event_time = w->t;
    if (!settle_modes(w, 1, t_next) || w->chatter > WITHOUT_END) { r->outcome = CHATTERS; return 0; }
    return record(w);
}

/* Integrate from w->t exactly to t_next, or to the end of the step that reaches w->pause. Returns 0 where that, or
 * something else, ends it. */
static int advance(work_t *w, double t_next)
{
    run_t *r = w->r;
    while (w->t < t_next) {
        double left = t_next - w->t, h = w->h, error;
        int last = 0;
        if (w->t >= w->pause) { r->outcome = PAUSED; return 0; }
        if (w->entered) judge_new_modes(w, left);
        if (asked_to_stop(r)) { r->outcome = STOPPED; return 0; }
        if (h > r->h_max) h = r->h_max;
        if (w->chatter > RESTLESS && w->t - w->event_time > 4 * RESTLESS_STEP) w->chatter = 0;
        if (w->chatter > RESTLESS) h = least(h, RESTLESS_STEP);
        w->method = w->control->choose(w, left);
        if (h >= left * (1 - 1e-9)) { h = left; last = 1; } else if (h > 0.5 * left) h = 0.5 * left;
        w->shares = shares(w, left, h);
        memcpy(w->loops_begun, solved_loops(w, w->set), sizeof(double) * (size_t)r->n_loops);
        error = w->method->step(w, h);
        if (error == UNLIKE) {
            w->method = &KUTTA3;
            memcpy(solved_loops(w, w->set), w->loops_begun, sizeof(double) * (size_t)r->n_loops);
            w->steps_since_check = 0;
            error = w->method->step(w, h);
        }
        if (w->control->judge && !w->stiff) w->control->judge(w, h, error);
        if (!(error <= 1.0)) {
            if (!shorten(w, h, error)) return 0;
            continue;
        }
        if (!finite_state(w)) { r->outcome = RAN_AWAY; return 0; }
        lengthen(w, h, error, last);
        if (N_GUARD && may_cross(w) && crosses(w, h)) {
            if (!end_at_crossing(w, h, t_next)) return 0;
            continue;
        }
        if (!last) {   /* else the driver computes them afresh, with the inputs and modes that hold from there */
            finish(w, h);
            memcpy(w->k[0], w->k[w->method->end], sizeof(double) * (size_t)NX);
            memcpy(w->g, w->g_new, sizeof(double) * (size_t)N_GUARD);
        }
        w->t = last ? t_next : w->t + h;
        memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
        r->steps++;
        if ((r->steps & 15) == 0) note_peaks(w);
        r->stiff_steps += w->method->stiff;
        judge_stiffness(w, h);
        /* The end of the stretch is recorded by the driver, with the inputs that hold from there. */
        if (!last && !record(w)) return 0;
    }
    return 1;
}

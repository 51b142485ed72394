/* The drive of a run: from tick to pulse edge to corner to end, landing on each exactly. */

static int run_controller(work_t *w)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)r->n_command;
    if (r->tick_limit && r->n_ticks >= r->tick_limit) r->first_tick += drop_older(r->ticks, &r->n_ticks, r->n_signal);
    if (!grow(&r->ticks, &r->cap_ticks, r->n_ticks + 1, r->n_signal, r->max_rows_log2)) {
        r->outcome = NO_MEMORY;
        return 0;
    }
    if (r->delay) memcpy(w->u, w->pending, bytes);
    r->measure(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->measured);
    r->controller(r->ctl, w->measured, w->signals, w->pending);
    memcpy(r->ticks + r->n_ticks++ * r->n_signal, w->signals, sizeof(double) * (size_t)r->n_signal);
    if (!r->delay) memcpy(w->u, w->pending, bytes);
    w->t_tick = ++w->tick * r->tick;
    return 1;
}

/* Room for one row a tick from the start; pages that stay untouched cost nothing. */
static int reserve(work_t *w)
{
    run_t *r = w->r;
    long expected;
    if (!r->n_signal || r->t_end / r->tick >= 3e6) return 1;
    expected = (long)(1.05 * r->t_end / r->tick) + 1;
    return grow(&r->rows, &r->cap_rows, expected < r->row_limit ? expected : r->row_limit, w->width, r->max_rows_log2)
        && grow(&r->ticks, &r->cap_ticks, expected, r->n_signal, r->max_rows_log2);
}

/* The first set of devices that has conducted together for too long. */
static int shorted_by(const work_t *w)
{
    const run_t *r = w->r;
    int k = 0;
    while (r->short_since[k] + r->short_limit > w->t) k++;
    return k;
}

static double next_instant(const work_t *w)
{
    const run_t *r = w->r;
    double t_next = least(least(w->t_tick, w->corner), r->t_end);
    if (r->n_pulse) t_next = least(t_next, pulses_next(r->pulses, r->n_pulse));
    if (w->t_tick - t_next < same_time(t_next)) t_next = w->t_tick;
    return least(t_next, w->short_due);
}

/* Do what is due at w->t, and find how far the stretch goes that begins there. Returns 0 at the end of the run. */
static int pass_edge(work_t *w)
{
    run_t *r = w->r;
    double same = same_time(w->t);
    int gates, switches;
    if (w->t >= w->corner) w->corner = enter_stretch(w);
    if (w->t >= w->t_tick - same) {
        if (!run_controller(w)) return 0;
        pulses_command(r->pulses, r->n_pulse, w->t, w->u);
    }
    switches = r->n_switched && pulses_next(r->pulses, r->n_pulse) <= w->t + same;
    if (switches) look_at_devices(w);
    gates = r->n_pulse ? pulses_due(r->pulses, r->n_pulse, w->t + same, w->u, w->s) : NO_GATE;
    if (gates != NO_GATE) enter_modes(w, gates);
    if (!settle_at_edge(w, gates)) { r->outcome = CHATTERS; return 0; }
    if (switches && gates != NO_GATE && !book_energies(w)) return 0;
    if (!record(w)) return 0;
    if (w->t >= r->t_end) { r->outcome = DONE; return 0; }
    if (w->t >= w->short_due) {
        r->culprit = shorted_by(w);
        r->outcome = SHORTED;
        return 0;
    }
    tell_progress(w);
    w->t_next = next_instant(w);
    return 1;
}

/* Go on to the first end of a step at or after ``until``, or to the end of the run. Steps are chosen as if there were
 * no pause, so a run has the same rows however it is cut. */
int pd_advance(work_t *w, double until)
{
    run_t *r = w->r;
    if (r->outcome != PAUSED && r->outcome != STOPPED) return r->outcome;
    w->pause = until < r->t_end ? until : INFINITY;
    r->outcome = PAUSED;
    for (;;) {
        if (!w->within && w->t < w->pause) {
            if (!pass_edge(w)) break;
            w->within = 1;
        }
        if (!w->within || !w->control->advance(w, w->t_next)) break;
        w->within = 0;
    }
    r->t_out = w->t;
    tell_progress(w);
    return r->outcome;
}

/* The same, asked in one argument: slices of a millisecond are asked for by Python, where each argument takes as long
 * as a hundredth of what the slice of a small drive does. */
typedef struct { work_t *work; double until; } asked_t;
int pd_advance_as_asked(const asked_t *asked) { return pd_advance(asked->work, asked->until); }

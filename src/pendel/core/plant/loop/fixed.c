/* Steps of a fixed length, for what must keep up with the clock. */

static double seconds(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (double)now.tv_sec + 1e-9 * (double)now.tv_nsec;
}

/* Put what is left of a blocked device's current to zero along the path on which its leak would, with the other
 * currents of its circuit: inductances decide how they divide. */
static void let_current_go(work_t *w, int mode)
{
    run_t *r = w->r;
    int i, j, nx = NX;
    r->hold(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->w, w->grad);
    for (i = 0; i < r->n_hold; i++) if (r->hold_mode[i] == mode) {
        double rate = 0, time;
        for (j = 0; j < nx; j++) rate += w->grad[i + j * r->n_hold] * w->k[0][j];
        time = -w->w[i] / rate;
        if (!(time > 0 && time < 0.3 * r->fixed_step)) continue;   /* nothing here is as fast as a leak */
        for (j = 0; j < nx; j++) w->x[j] += time * w->k[0][j];
        refresh(w);
    }
}

/* Fixed steps see a device's current only beyond its zero, by as much as a step moves it. Whether it stays blocked or
 * another device takes over shows after one more step from a current of zero: looked at with what is left of the
 * current, a leak of 1e6 ohm would read as thousands of volts and force any device on. Whoever takes over gets what is
 * left, as it flows its way. */
static void take_over_on_grid(work_t *w, const unsigned char *ended)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)NX;
    int k = -1, round;
    memcpy(w->zeroed, w->x, bytes);
    if (step_fixed(w, r->fixed_step, 1)) {
        memcpy(w->x, w->xn, bytes);
        refresh(w);
        k = worst(w, w->g);
    }
    memcpy(w->x, k < 0 || ended[r->exit_mode[k]] ? w->zeroed : w->before, bytes);
    for (round = 0; k >= 0 && round <= r->n_guard; round++, k = worst(w, w->g)) begin_to_conduct(w, k);
}

/* Before a fixed step, change every mode whose guard the last one left above zero, once. What they lead to shows after
 * this step; only where a device's current ended is looked further at once. */
static void flip_modes(work_t *w)
{
    run_t *r = w->r;
    int j, k, mode, currents = 0;
    if (w->mapped == 2 || !some_above(w->set, w->g)) return;
    memset(w->ended, 0, (size_t)N_MODE);
    memcpy(w->before, w->x, sizeof(double) * (size_t)NX);
    for (j = 0; j < w->set->n_active; j++) {
        enum held held;
        k = w->set->active[j];
        mode = r->exit_mode[k];
        if (!(w->g[k] > 0) || r->exit_to[k] != 0) continue;
        held = held_by(r, mode);
        if (held == RESTING) put_to_zero(w, mode);
        w->ended[mode] = held == CURRENT;
        currents |= held == CURRENT;
    }
    for (j = 0; j < w->set->n_active; j++) {
        k = w->set->active[j];
        mode = r->exit_mode[k];
        if (!(w->g[k] > 0) || w->s[mode] != r->exit_from[k]) continue;
        w->s[mode] = r->exit_to[k];
        r->events++;
    }
    enter_modes(w, SEVERAL);
    refresh(w);
    if (!currents) return;
    for (mode = 0; mode < N_MODE; mode++) if (w->ended[mode]) let_current_go(w, mode);
    take_over_on_grid(w, w->ended);
    refresh(w);
}

/* Computing time of a batch of steps since `begun`. Asking the clock costs half as much as a step, so the worst step is
 * what a batch took beyond the usual for the others in it. */
static void note_time(run_t *r, int batch, double *begun)
{
    double now = seconds(), took = now - *begun, usual, worst;
    r->computing += took;
    r->timed_steps += batch;
    usual = r->computing / (double)r->timed_steps;
    worst = took - (batch - 1) * usual;
    if (worst > r->worst_step) r->worst_step = worst;
    *begun = now;
}

/* One step to `end` by the equations; `whole` on the grid. */
static int go_fixed(work_t *w, double end, int whole)
{
    run_t *r = w->r;
    if (w->mapped) refresh(w);
    if (!(is_affine(r) && !whole ? cut_step(w, end - w->t) : step_fixed(w, end - w->t, whole))) {
        r->outcome = NOT_FINITE;
        return 0;
    }
    if (!finite_state(w)) { r->outcome = RAN_AWAY; return 0; }
    memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
    return 1;
}

/* The same by the map of the present modes. */
static int go_by_map(work_t *w, double end, int last)
{
    run_t *r = w->r;
    if (step_by_map(w, end, last)) return 1;
    memcpy(w->xn, w->x, sizeof(double) * (size_t)NX);
    finite_state(w);
    r->outcome = RAN_AWAY;
    return 0;
}

/* Integrate from w->t to t_next in steps on a fixed grid; an edge inside a step cuts it in two. */
static int advance_fixed(work_t *w, double t_next)
{
    run_t *r = w->r;
    double begun = seconds(), step = r->fixed_step;
    double grid = floor(w->t / step + 1e-6), near_end = t_next - same_time(t_next);
    int batch = 0, on_grid = fabs(w->t - grid * step) < 1e-9 * step;
    while (w->t < t_next) {
        double end = (grid + 1) * step;
        int whole = on_grid && end <= near_end;
        if (end > near_end) end = t_next;
        if (w->t >= w->pause) { r->outcome = PAUSED; break; }
        if (asked_to_stop(r)) { r->outcome = STOPPED; break; }
        if (N_GUARD) flip_modes(w);
        if (!(whole && is_affine(r) && has_inverse(w->set) ? go_by_map(w, end, end >= t_next)
              : go_fixed(w, end, whole))) return 0;
        w->t = end;
        grid += 1;
        on_grid = 1;
        r->steps++;
        if (end < t_next && !w->mapped) refresh(w);
        if ((r->steps & 63) == 0) note_peaks(w);
        if (end < t_next && !record_bends(w)) return 0;
        if (++batch == 64) { note_time(r, batch, &begun); batch = 0; }
    }
    if (batch) note_time(r, batch, &begun);
    return w->t >= t_next;
}

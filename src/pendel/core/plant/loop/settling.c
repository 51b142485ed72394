/* At one instant: which modes hold from here, and what of a current goes to zero, is taken over or leaks away. */

/* Scalar product of two gradients of what is held. */
static double along_both(const work_t *w, int a, int b)
{
    const run_t *r = w->r;
    int j, n = r->n_hold;
    double sum = 0;
    for (j = 0; j < NX; j++) sum += w->grad[a + j * n] * w->grad[b + j * n];
    return sum;
}

/* Take out of the gradient of ``a`` what it has along that of ``b``; returns its square that is left, over before. */
static double turned_off(const work_t *w, int a, int b)
{
    const run_t *r = w->r;
    double length = along_both(w, b, b), before = along_both(w, a, a), part;
    int j, n = r->n_hold;
    if (!(length > 0 && before > 0)) return 1;
    part = along_both(w, a, b) / length;
    for (j = 0; j < NX; j++) w->grad[a + j * n] -= part * w->grad[b + j * n];
    return along_both(w, a, a) / before;
}

static int stands(const work_t *w, int k)
{
    const run_t *r = w->r;
    return r->hold_sticks[k] && w->s[r->hold_mode[k]] == 0;
}

/* Where a mode ends with something exactly zero, such as a stuck speed or a diode's current, make it so by the least
 * change of the state that leaves the speeds of what is stuck already as they are: else two frictions of one gear with
 * three shafts would chatter. */
static void put_to_zero(work_t *w, int mode)
{
    static const double SAME = 1e-12;   /* a gradient that is another's but for rounding */
    run_t *r = w->r;
    int a, b, i, j, nx = NX;
    r->hold(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->w, w->grad);
    for (a = 0; a < r->n_hold; a++) if (stands(w, a)) for (b = 0; b < a; b++)
        if (stands(w, b) && turned_off(w, a, b) < SAME) for (j = 0; j < nx; j++) w->grad[a + j * r->n_hold] = 0;
    for (i = 0; i < r->n_hold; i++) if (r->hold_mode[i] == mode) {
        double whole = along_both(w, i, i), norm;
        for (b = 0; b < r->n_hold; b++) if (b != i && stands(w, b)) turned_off(w, i, b);
        norm = along_both(w, i, i);
        if (norm > SAME * whole) for (j = 0; j < nx; j++) w->x[j] -= w->w[i] * w->grad[i + j * r->n_hold] / norm;
    }
}

/* A device that just stopped conducting leaves its current to a leak, whose voltage settles within nanoseconds. Its
 * guards mean nothing until then: rounding of the current times the blocking resistance could start it again, and so on
 * for ever. So look at the state in which the leak has settled, three implicit Euler steps on, and at the guards there.
 * The state is left in w->x; returns the time that takes (s), or 0 where nothing is as fast as a leak. */
static double leak_settles(work_t *w)
{
    run_t *r = w->r;
    double h = 30 / w->set->radius;
    int step;
    (void)r;
    if (!(3 * h < 0.1 * w->usual)) return 0;
    for (step = 0; step < 3; step++) {
        refresh(w);
        if (!step_fixed(w, h, 0)) return 0;
        memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
    }
    refresh(w);
    return 3 * h;
}

/* What a mode ends with at exactly zero: nothing, a device's current, or something that is kept there, as dry friction
 * keeps a speed. */
enum held { NOTHING, CURRENT, RESTING };

static enum held held_by(const run_t *r, int mode)
{
    int k;
    for (k = 0; k < r->n_hold; k++) if (r->hold_mode[k] == mode) return r->hold_sticks[k] ? RESTING : CURRENT;
    return NOTHING;
}

static void change_mode(work_t *w, int guard)
{
    run_t *r = w->r;
    w->s[r->exit_mode[guard]] = r->exit_to[guard];
    r->events++;
    enter_modes(w, SEVERAL);
}

/* The guard by which a mode changes next, or -1. The most violated first needs the fewest changes. Where that goes
 * round in circles the first of all violated ones ends it: for devices in a network of conductances, of which each
 * either opens or closes (a linear complementarity problem with a P-matrix), that rule never meets a set twice. Murty:
 * Note on a Bard-type scheme for solving the complementarity problem, Opsearch 11 (1974) 123. */
static int next_change(const work_t *w, int round)
{
    const set_t *set = w->set;
    int j;
    if (round < 2 * (w->r->n_guard + 1)) return worst(w, w->g);
    for (j = 0; j < set->n_active; j++) if (w->g[set->active[j]] > 0) return set->active[j];
    return -1;
}

/* What may be put to zero without being noticed, of a state's peak, whatever the tolerance: leaks and rounding. */
static const double UNNOTICED = 1e-7;

/* Put a conducting device's current to zero as its leak would, were it blocked: what blocking changes of the
 * derivatives is what the leak drives, so the currents of its circuit move as their inductances divide them, and an
 * angle or a speed does not move. The least change of the state in its units would turn a rotor by a tenth of a
 * milliradian to spare an ampere. Derivatives and guards are left as they are with the device blocked, for the caller
 * to refresh. */
static void let_leak_take(work_t *w, int mode)
{
    run_t *r = w->r;
    int i, j, nx = NX;
    double on = w->s[mode];
    memcpy(w->leak, w->k[0], sizeof(double) * (size_t)nx);   /* these are of the present modes, as refreshed before */
    w->s[mode] = 0;
    enter_modes(w, SEVERAL);
    refresh(w);
    for (j = 0; j < nx; j++) w->leak[j] = w->k[0][j] - w->leak[j];
    w->s[mode] = on;
    enter_modes(w, SEVERAL);
    r->hold(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->w, w->grad);
    for (i = 0; i < r->n_hold; i++) if (r->hold_mode[i] == mode) {
        double rate = 0;
        for (j = 0; j < nx; j++) rate += w->grad[i + j * r->n_hold] * w->leak[j];
        if (rate == 0) { put_to_zero(w, mode); return; }   /* no inductance has this current */
        for (j = 0; j < nx; j++) w->x[j] -= w->w[i] / rate * w->leak[j];
    }
}

/* A device that has just begun to conduct, for its voltage, and whose current would go backwards: what leaks elsewhere
 * has changed with its voltage, or is rounding. In a network of conductances both cannot be, so the current is put to
 * zero, if that changes no state by more than the limit, over what a step may err. Returns whether it would. */
static int forbid_backwards(work_t *w, int mode, double limit)
{
    run_t *r = w->r;
    int i, j, nx = NX;
    for (j = 0; j < w->set->n_active; j++) {
        int k = w->set->active[j];
        if (r->exit_mode[k] == mode && r->exit_to[k] == 0 && w->g[k] > 0) break;
    }
    if (j == w->set->n_active) return 0;
    memcpy(w->xn, w->x, sizeof(double) * (size_t)nx);
    let_leak_take(w, mode);
    for (i = 0; i < nx; i++)
        if (fabs(w->x[i] - w->xn[i]) > limit
            * (r->atol[i] + (r->rtol + UNNOTICED) * most(w->peak[i], fabs(w->xn[i])))) {
            memcpy(w->x, w->xn, sizeof(double) * (size_t)nx);
            break;
        }
    refresh(w);
    return 1;
}

static void begin_to_conduct(work_t *w, int guard)
{
    change_mode(w, guard);
    refresh(w);
    forbid_backwards(w, w->r->exit_mode[guard], INFINITY);   /* it follows another whose current was zero */
}

/* A device ended with its current. Where with the leak settled no guard is above zero, it stays so, and the time of
 * settling counts. Where another device must conduct, it takes over at this very instant, with what there is of the
 * current; ``before`` is the state before that was put to zero. Returns the guard by which the other takes over, or -1.
 */
static int take_over(work_t *w, int ended, const double *before, double t_next)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)NX;
    double took;
    int k = -1;
    memcpy(w->zeroed, w->x, bytes);
    took = leak_settles(w);
    if (took > 0) k = worst(w, w->g);
    if (k < 0 && took > 0 && took < 0.9 * (t_next - w->t)) {
        memcpy(w->xn, w->x, bytes);
        memcpy(w->x, w->zeroed, bytes);
        record(w);   /* the leak settles in the new modes, so these begin here */
        memcpy(w->x, w->xn, bytes);
        w->t += took;
        return -1;
    }
    memcpy(w->x, k < 0 || r->exit_mode[k] == ended ? w->zeroed : before, bytes);
    return k;
}

/* A device took over from another: what of the other's current leaks settles within nanoseconds, in the modes that hold
 * now. Where nothing changes by it, it is behind and both of its ends are recorded; else the next step, a thousand
 * times as long, would look as if it went there all its time. */
static void settle_after(work_t *w, double t_next)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)NX;
    double took;
    memcpy(w->zeroed, w->x, bytes);
    took = leak_settles(w);
    if (took > 0 && took < 0.9 * (t_next - w->t) && !some_above(w->set, w->g)) {
        memcpy(w->xn, w->x, bytes);
        memcpy(w->x, w->zeroed, bytes);
        record(w);
        memcpy(w->x, w->xn, bytes);
        w->t += took;
        refresh(w);
    } else if (memcmp(w->x, w->zeroed, bytes)) {
        memcpy(w->x, w->zeroed, bytes);
        refresh(w);
    }
}

/* Whether the current of a device that just began to conduct grows: a moment on along the slope, the guards by which it
 * would end are further below zero, and no other is above. */
static int grows(work_t *w, int mode)
{
    run_t *r = w->r;
    const set_t *set = w->set;
    double moment = 1e-6 * w->usual;
    int j;
    for (j = 0; j < NX; j++) w->xt[j] = w->x[j] + moment * w->k[0][j];
    derivatives(w, w->t + moment, w->xt, w->err, w->g_new);
    for (j = 0; j < set->n_active; j++) {
        int k = set->active[j];
        if (w->g_new[k] > 0 || (r->exit_mode[k] == mode && r->exit_to[k] == 0 && w->g_new[k] >= w->g[k])) return 0;
    }
    return 1;
}

/* The step went on a little behind the crossing, in the modes of before (with ``w->leak`` as derivatives): put the
 * state where those that hold now would have led since then. That is so little that derivatives and guards stay, unless
 * something settles as fast: then it is left to the next step. */
static void taken_since_crossing(work_t *w)
{
    run_t *r = w->r;
    int j;
    if (w->late * w->set->radius > 0.01) return;
    for (j = 0; j < NX; j++) w->x[j] += w->late * (w->k[0][j] - w->leak[j]);
}

/* The device that took over when a current ended by this guard before, tried first: whether no guard is above zero, and
 * its current, where that had to be put to zero, grows. In a network of conductances there is no second way. Where it
 * is not so, all is put back as it was; ``w->before`` is the state now. */
static int taken_as_before(work_t *w, int guard)
{
    run_t *r = w->r;
    set_t *begun = w->set, *known = hinted(w, begun->taken_set);
    size_t bytes = sizeof(double) * (size_t)N_MODE;
    long filled = begun->filled;
    int taker = begun->taken_by, put;
    if (!is_taken_over(w, guard)) return 0;
    memcpy(w->modes, w->s, bytes);
    memcpy(w->s, known->s, bytes);
    memcpy(w->leak, w->k[0], sizeof(double) * (size_t)NX);
    go_to(w, known);
    refresh(w);
    /* this may put other sets into the places of both */
    put = forbid_backwards(w, r->exit_mode[taker], INFINITY);
    if (!some_above(w->set, w->g) && (!put || grows(w, r->exit_mode[taker]))) {
        if (!put) taken_since_crossing(w);
        r->events += 2;
        watch_shorts(w);
        w->entered = 1;
        return 1;
    }
    if (begun->filled == filled) memset(&begun->taken_set, 0, sizeof begun->taken_set);
    memcpy(w->s, w->modes, bytes);
    memcpy(w->x, w->before, sizeof(double) * (size_t)NX);
    enter_modes(w, SEVERAL);
    refresh(w);
    return 0;
}

/* At one instant: change modes until no guard of the present modes is above zero. ``located`` tells that a step was
 * ended at the crossing; only then is a current that crossed zero put exactly there, as else it may have to go on
 * elsewhere. A speed does not jump: what is beyond zero, at any time, is what a step may err. */
static int settle_modes(work_t *w, int located, double t_next)
{
    run_t *r = w->r;
    set_t *begun = w->set;
    long filled = begun->filled;
    int round, k = 0, mode, remember = !located, ended_by = -1, took_over = -1;
    enum held held;
    for (round = 0; round < 6 * (N_GUARD + 1); round++) {
        k = next_change(w, round);
        if (k < 0) {
            if (remember && begun->filled == filled) {
                begun->settled_set = hint_of(w, w->set);
                begun->settling = round;
            }
            if (took_over >= 0 && round == 1 && begun->filled == filled) {
                begun->taken_set = hint_of(w, w->set);
                begun->ended_by = ended_by;
                begun->taken_by = took_over;
            }
            if (took_over >= 0) settle_after(w, t_next);
            return 1;
        }
        mode = r->exit_mode[k];
        held = held_by(r, mode);
        memcpy(w->before, w->x, sizeof(double) * (size_t)NX);
        if (located && round == 0 && taken_as_before(w, k)) { settle_after(w, t_next); return 1; }
        if (r->exit_to[k] == 0 && held == CURRENT && located && round == 0) let_leak_take(w, mode);
        else if (r->exit_to[k] == 0 && (held == RESTING || (located && round == 0))) put_to_zero(w, mode);
        remember &= held == CURRENT;
        change_mode(w, k);
        if (located && r->exit_to[k] == 0) {
            int taker = take_over(w, mode, w->before, t_next);
            if (taker >= 0) { begin_to_conduct(w, taker); ended_by = k; took_over = taker; continue; }
        }
        refresh(w);
        if (held == CURRENT && r->exit_to[k] != 0) forbid_backwards(w, mode, 1);
    }
    r->culprit = k < 0 ? 0 : r->exit_mode[k];
    return 0;
}

/* Derivatives and guards where gates may have just been changed, and what the modes settle in. The set in which these
 * modes settled before is tried first. If none of its guards is above zero it is a solution; the devices in which it
 * differs have conductances above zero, so there is no other by which way ever it is reached. Other modes may hold in
 * two sets at one instant: a friction sticks or slides at one force, a limit has its hysteresis. What led through such
 * a mode is not remembered. */
static int settle_at_edge(work_t *w, int gates)
{
    run_t *r = w->r;
    set_t *begun = w->set, *known = gates ? hinted(w, begun->settled_set) : 0;
    if (r->method == FIXED && !gates && r->n_rows > 0) { refresh(w); return 1; }   /* the next step will see to it */
    if (known && known != begun) {
        memcpy(w->s, known->s, sizeof(double) * (size_t)N_MODE);
        go_to(w, known);
        refresh(w);
        if (!some_above(known, w->g)) {
            r->events += begun->settling;
            watch_shorts(w);
            w->entered = 1;
            return 1;
        }
        memcpy(w->s, begun->s, sizeof(double) * (size_t)N_MODE);
        w->set = begun;
    }
    refresh(w);
    if (some_above(begun, w->g)) return settle_modes(w, 0, w->t);
    if (known) begun->settled_set = hint_of(w, begun);   /* where they led last time no longer holds */
    return 1;
}

/* Sets of modes: what depends on them alone is computed once and kept, and found again by what followed what. */

/* Whether an active guard is above zero: asked at every step, where `worst` is asked at crossings only. */
static int some_above(const set_t *set, const double *g)
{
    const int *k = set->active, *end = k + set->n_active;
    for (; k < end; k++) if (g[*k] > 0) return 1;
    return 0;
}

/* The active guard that is furthest above zero, or -1 when none is. */
static int worst(const work_t *w, const double *g)
{
    const set_t *set = w->set;
    double most_so_far = 0;
    int j, found = -1;
    for (j = 0; j < set->n_active; j++) {
        int k = set->active[j];
        if (g[k] > most_so_far) { most_so_far = g[k]; found = k; }
    }
    return found;
}

static uint32_t hash_modes(const double *s, int n)
{
    uint32_t h = 0, weight = 2654435761u;
    int k;
    for (k = 0; k < n; k++, weight *= 0x85ebca6bu) h += (uint32_t)(int)s[k] * weight;
    return (h ^ (h >> 15)) * 2246822519u >> 16;
}

/* Bit by bit, as modes are whole numbers and never a negative zero; numbers are compared at a third of the speed. */
static int same_modes(const run_t *r, const double *a, const double *b)
{
    uint64_t other = 0, p, q;
    int k;
    (void)r;
    for (k = 0; k < N_MODE; k++) {
        memcpy(&p, a + k, sizeof p);
        memcpy(&q, b + k, sizeof q);
        other |= p ^ q;
    }
    return !other;
}

/* Spectral radius of the Jacobian, bounded by that of its absolute values (Perron): the mean growth of a power
 * iteration, which for a pure oscillation goes to and fro about it. */
static double spectral_radius(work_t *w)
{
    run_t *r = w->r;
    int n = NX, i, j, round;
    double *v = w->power, *z = w->image, growth = 1;
    if (!n) return 0;
    r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
    for (i = 0; i < n; i++) v[i] = 1;
    for (round = 0; round < 12; round++) {
        double top = 0;
        for (i = 0; i < n; i++) {
            z[i] = 0;
            for (j = 0; j < n; j++) z[i] += fabs(w->jac[i + j * n]) * v[j];
            top = most(top, z[i]);
        }
        if (!(top > 0 && top < 1e30)) return 0;
        for (i = 0; i < n; i++) v[i] = z[i] / top;
        if (round >= 4) growth *= top;
    }
    return pow(growth, 0.125);
}

/* Numbers kept for a set of modes: the modes, hoisted values, and for fixed steps an inverse. */
static int slot_width(const run_t *r)
{
    return N_MODE + r->n_hoisted + (r->method == FIXED ? NX * NX + 1 + map_width(r) : 0);
}

static int conducts(const double *s, const int *test)
{
    int k, on = 0, known = 0;
    for (k = 0; k < 3; k++) if (test[k] >= 0) { known++; on += s[test[k]] > 0.5; }
    return test[3] ? on == known : on > 0;
}

static int all_conduct(const run_t *r, const double *s, int k)
{
    int j;
    for (j = r->short_first[k]; j < r->short_first[k + 1]; j++) if (!conducts(s, r->short_tests + 4 * j)) return 0;
    return 1;
}

/* Note since when each group of devices that must not conduct together does. */
static void watch_shorts(work_t *w)
{
    run_t *r = w->r;
    int k;
    if (!w->set->shorted && w->short_due == INFINITY) return;
    w->short_due = INFINITY;
    for (k = 0; k < r->n_short; k++) {
        r->short_since[k] = all_conduct(r, w->s, k) ? least(r->short_since[k], w->t) : INFINITY;
        w->short_due = least(w->short_due, r->short_since[k] + r->short_limit);
    }
}

/* The set that a hint tells of, if it is still there. */
static set_t *hinted(const work_t *w, hint_t hint)
{
    return hint.filled && w->sets[hint.slot].filled == hint.filled ? w->sets + hint.slot : 0;
}

static hint_t hint_of(const work_t *w, const set_t *set)
{
    hint_t hint = {(int)(set - w->sets), set->filled};
    return hint;
}

/* Whether another device took over when a current ended by this guard in these modes before. */
static int is_taken_over(const work_t *w, int guard)
{
    return w->set->ended_by == guard && hinted(w, w->set->taken_set);
}

/* What depends on a set's modes alone: which guards end one of them, whether they are a short circuit, and all hoisted
 * values. */
static void fill(work_t *w, set_t *set, const double *modes)
{
    run_t *r = w->r;
    size_t slot = (size_t)(set - w->sets);
    int k;
    set->s = w->slots + slot * (size_t)slot_width(r);
    set->hoisted = set->s + N_MODE;
    set->inverse = set->hoisted + r->n_hoisted;
    set->step_map = set->inverse + NX * NX + 1;
    set->guard_map = set->step_map + BANDED(NX) * columns_of(r);
    set->slopes = set->guard_map + BANDED(N_GUARD) * columns_of(r);
    set->active = w->guard_lists + slot * (size_t)N_GUARD;
    set->n_active = set->shorted = 0;
    memcpy(set->s, modes, sizeof(double) * (size_t)N_MODE);
    memset(set->hoisted, 0, sizeof(double) * (size_t)r->n_hoisted);
    r->hoist(r->p, set->s, set->hoisted);
    if (r->method == FIXED) set->inverse[0] = NAN;
    if (r->method == FIXED && is_affine(r)) set->slopes[0] = NAN;
    for (k = 0; k < N_GUARD; k++) if (set->s[r->exit_mode[k]] == r->exit_from[k]) set->active[set->n_active++] = k;
    for (k = 0; k < r->n_short; k++) set->shorted |= all_conduct(r, set->s, k);
}

static int *bucket_of(const work_t *w, const double *modes)
{
    const run_t *r = w->r;
    (void)r;
    return w->places + hash_modes(modes, N_MODE) % (uint32_t)(w->n_slots / WAYS) * WAYS;
}

/* The present modes are not among those that followed of late. Where all places for them are taken, the last is given
 * up. */
static set_t *look_up(work_t *w)
{
    run_t *r = w->r;
    int *place = bucket_of(w, w->s), way;
    set_t *before = w->set, *set;
    long filled = before ? before->filled : 0;
    for (way = 0; way < WAYS && place[way]; way++)
        if (same_modes(r, w->sets[place[way] - 1].s, w->s)) return w->sets + place[way] - 1;
    if (way < WAYS) place[way] = ++w->n_sets;
    set = w->sets + place[way < WAYS ? way : WAYS - 1] - 1;
    memset(set, 0, sizeof *set);
    set->filled = ++w->fillings;
    fill(w, set, w->s);
    if (before && before->filled == filled)
        hand_on_loops(before->hoisted, set->hoisted, r->n_hoisted, r->n_loops);
    w->set = set;
    if (w->control->adapts && N_MODE) set->radius = spectral_radius(w);
    return set;
}

/* Where the loops of the present set were solved last. */
static double *solved_loops(const work_t *w, const set_t *set)
{
    return set->hoisted + w->r->n_hoisted - w->r->n_loops;
}

/* Take a set for the present one. */
static void go_to(work_t *w, set_t *set)
{
    const run_t *r = w->r;
    if (w->set) hand_on_loops(w->set->hoisted, set->hoisted, r->n_hoisted, r->n_loops);
    w->set = set;
}

/* Values changed: nothing that was kept holds any more. */
static void forget_sets(work_t *w)
{
    memset(w->places, 0, (size_t)w->n_slots * sizeof(int));
    w->n_sets = 0;
    w->set = 0;
}

/* The modes changed: what depends only on them is found, or computed once and kept. ``changed`` tells by which gates
 * alone they did, or SEVERAL; as a change turns a gate over, the same change of the same set leads to the same set. */
static void enter_modes(work_t *w, int changed)
{
    set_t *before = w->set, *found = 0;
    int k;
    for (k = 0; k < 2 && before && !found; k++) {
        found = hinted(w, before->recent_next_sets[k]);
        if (found && (changed == SEVERAL || changed != before->recent_gates[k]) && !same_modes(w->r, found->s, w->s))
            found = 0;
    }
    if (!found) {
        long filled = before ? before->filled : 0;
        found = look_up(w);
        if (before && before->filled == filled) {
            before->recent_next_sets[1] = before->recent_next_sets[0];
            before->recent_gates[1] = before->recent_gates[0];
            before->recent_next_sets[0] = hint_of(w, found);
            before->recent_gates[0] = changed;
        }
    }
    go_to(w, found);
    watch_shorts(w);
    w->entered = 1;
}

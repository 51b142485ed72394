/* Snapshots: all that decides how a run goes on, so that it goes on with the same rows to the bit, in this process or
 * another. The record is no part of it, but for the rows that the next ones are compared with. */

typedef struct {
    int layout, bytes_of_state, nx, n_input, n_mode, n_signal, n_pulse, n_profile, n_short, n_loops, n_sets, present;
    size_t n_kept;
    long n_rows, n_ticks, tail, thinnings;   /* of the record; tail: rows that the snapshot holds */
    long steps, rejected, evaluations, events, stiff_steps, timed_steps;
    double thinned_until, thinned_to, computing, worst_step, t_out;
    int outcome, culprit;
} snapshot_t;

/* What is kept of a set of modes beside its modes and where its loops were solved last; the rest follows from them and
 * the values. Sets it hints at are given by their number, or -1 where a hint is dead. */
typedef struct {
    long filled;
    double radius, inverted;
    int recent_next_sets[2], recent_gates[2], settled_set, settling, taken_set, ended_by, taken_by;
} kept_set_t;

static const size_t STATE_BEGINS = offsetof(work_t, t), STATE_BYTES = offsetof(work_t, x) - offsetof(work_t, t);

static snapshot_t heading(const work_t *w)
{
    const run_t *r = w->r;
    snapshot_t h;
    memset(&h, 0, sizeof h);
    h.layout = PD_LAYOUT; h.bytes_of_state = (int)STATE_BYTES;
    h.nx = r->nx; h.n_input = w->nu; h.n_mode = r->n_mode; h.n_signal = r->n_signal; h.n_pulse = r->n_pulse;
    h.n_profile = r->n_profile; h.n_short = r->n_short; h.n_loops = r->n_loops; h.n_sets = w->n_sets;
    h.present = w->set ? (int)(w->set - w->sets) : -1;
    h.n_kept = w->n_kept;
    h.n_rows = r->n_rows; h.n_ticks = r->n_ticks; h.tail = (r->n_rows > 0) + w->pending_row; h.thinnings = r->thinnings;
    h.steps = r->steps; h.rejected = r->rejected; h.evaluations = r->evaluations; h.events = r->events;
    h.stiff_steps = r->stiff_steps; h.timed_steps = r->timed_steps;
    h.thinned_until = r->thinned_until; h.thinned_to = r->thinned_to; h.computing = r->computing;
    h.worst_step = r->worst_step;
    h.t_out = r->t_out; h.outcome = r->outcome; h.culprit = r->culprit;
    return h;
}

static size_t bytes_for(const snapshot_t *h)
{
    size_t modes_and_loops = sizeof(signed char) * (size_t)h->n_mode + sizeof(double) * (size_t)h->n_loops;
    return sizeof *h + STATE_BYTES + sizeof(double) * h->n_kept + sizeof(int) * (size_t)h->n_profile + sizeof(pulse_t)
        * (size_t)h->n_pulse
         + sizeof(double) * (size_t)h->n_short + sizeof(double) * (size_t)h->tail
             * (size_t)(1 + h->nx + h->n_input + h->n_mode)
         + (size_t)h->n_sets * (sizeof(kept_set_t) + modes_and_loops);
}

/* The same walk over all that is kept, either way. */
typedef struct { unsigned char *at; int reads; } cursor_t;

static void pass(cursor_t *c, void *what, size_t bytes)
{
    if (bytes == 0) return;
    if (c->reads) memcpy(what, c->at, bytes); else memcpy(c->at, what, bytes);
    c->at += bytes;
}

static void pass_state(cursor_t *c, work_t *w)
{
    run_t *r = w->r;
    pass(c, (unsigned char *)w + STATE_BEGINS, STATE_BYTES);
    pass(c, w->block, sizeof(double) * w->n_kept);
    pass(c, w->segment, sizeof(int) * (size_t)r->n_profile);
    pass(c, r->pulses, sizeof(pulse_t) * (size_t)r->n_pulse);
    pass(c, r->short_since, sizeof(double) * (size_t)r->n_short);
}

static int number_of(const work_t *w, hint_t hint) { return hinted(w, hint) ? hint.slot : -1; }

static void save_sets(cursor_t *c, const work_t *w)
{
    const run_t *r = w->r;
    int k, j;
    for (k = 0; k < w->n_sets; k++) {
        const set_t *set = w->sets + k;
        kept_set_t kept = {
            set->filled, set->radius, 0,
            {number_of(w, set->recent_next_sets[0]), number_of(w, set->recent_next_sets[1])},
            {set->recent_gates[0], set->recent_gates[1]},
            number_of(w, set->settled_set), set->settling, number_of(w, set->taken_set), set->ended_by, set->taken_by
        };
        if (r->method == FIXED && has_inverse(set)) kept.inverted = set->inverse[NX * NX];
        pass(c, &kept, sizeof kept);
        for (j = 0; j < N_MODE; j++) *c->at++ = (unsigned char)(signed char)set->s[j];
        pass(c, solved_loops(w, set), sizeof(double) * (size_t)r->n_loops);
    }
}

/* The first step of a set is solved, the others multiply by the inverse that it left: where it was there, for a step of
 * h, it must be there again, to the last bit. */
static void restore_inverse(work_t *w, set_t *set, double h)
{
    run_t *r = w->r;
    double *present = w->s;
    if (has_inverse(set) && set->inverse[NX * NX] == h) return;
    set->inverse[0] = NAN;
    if (!(h > 0)) return;
    w->s = set->s;
    w->set = set;
    if (factor_step(w, h)) keep_inverse(w, h);
    w->s = present;
}


static int has_modes(const work_t *w, const set_t *set, const signed char *modes)
{
    const run_t *r = w->r;
    int k, differs = 0;
    (void)r;
    for (k = 0; k < N_MODE; k++) differs |= set->s[k] != modes[k];
    return !differs;
}

static hint_t live_hint(const work_t *w, int number)
{
    hint_t hint = {number, 0};
    if (number >= 0) hint.filled = w->sets[number].filled;
    return number < 0 || number >= w->n_sets ? (hint_t){0, 0} : hint;
}

/* ``known`` sets stand where they stood, with what was hoisted for them, as far as their modes agree. ``scratch`` holds
 * modes. */
static void restore_sets(cursor_t *c, work_t *w, int known, int present, double *scratch)
{
    run_t *r = w->r;
    unsigned char *begin = c->at;
    size_t modes_and_loops = (size_t)N_MODE + sizeof(double) * (size_t)r->n_loops;
    kept_set_t kept;
    int k, j, way;
    memset(w->places, 0, (size_t)w->n_slots * sizeof(int));
    for (k = 0; k < w->n_sets; k++) {
        set_t *set = w->sets + k;
        const signed char *modes;
        int *place;
        pass(c, &kept, sizeof kept);
        modes = (const signed char *)c->at;
        if (k >= known || !has_modes(w, set, modes)) {
            memset(set, 0, sizeof *set);
            for (j = 0; j < N_MODE; j++) scratch[j] = modes[j];
            fill(w, set, scratch);
        }
        c->at += N_MODE;
        set->filled = kept.filled;
        set->radius = kept.radius;
        set->settling = kept.settling;
        set->ended_by = kept.ended_by;
        set->taken_by = kept.taken_by;
        memcpy(set->recent_gates, kept.recent_gates, sizeof kept.recent_gates);
        if (r->method == FIXED) restore_inverse(w, set, kept.inverted);
        pass(c, solved_loops(w, set), sizeof(double) * (size_t)r->n_loops);
        place = bucket_of(w, set->s);
        for (way = 0; way < WAYS - 1 && place[way]; way++) { }
        place[way] = k + 1;
    }
    for (k = 0; k < w->n_sets; k++) {   /* all have their numbers now */
        memcpy(&kept, begin + (size_t)k * (sizeof kept + modes_and_loops), sizeof kept);
        for (j = 0; j < 2; j++) w->sets[k].recent_next_sets[j] = live_hint(w, kept.recent_next_sets[j]);
        w->sets[k].settled_set = live_hint(w, kept.settled_set);
        w->sets[k].taken_set = live_hint(w, kept.taken_set);
    }
    w->set = present >= 0 ? w->sets + present : 0;
}

/* The record goes on behind the rows it had then, where it still has them; else it begins with those that the snapshot
 * holds. */
static int restore_record(cursor_t *c, work_t *w, const snapshot_t *h, int same_record)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)h->tail * (size_t)w->width;
    double *rows;
    if (!same_record || r->n_rows < h->n_rows || r->thinnings != h->thinnings || r->n_ticks < h->n_ticks) {
        r->n_rows = h->n_rows > 0;
        r->n_ticks = 0;
        r->first_tick = w->tick;
        r->thinned_until = r->thinned_to = 0;
    } else {
        r->n_rows = h->n_rows;
        r->n_ticks = h->n_ticks;
        r->thinned_until = h->thinned_until;
        r->thinned_to = h->thinned_to;
    }
    w->room = 0;   /* asked again with the next row */
    if (!grow(&r->rows, &r->cap_rows, r->n_rows + 2, w->width, r->max_rows_log2)) return 0;
    rows = r->rows + (r->n_rows - (h->n_rows > 0)) * w->width;
    pass(c, rows, bytes);
    return 1;
}

size_t pd_snapshot_bytes(const work_t *w)
{
    snapshot_t h = heading(w);
    return bytes_for(&h);
}

void pd_save(work_t *w, unsigned char *to)
{
    run_t *r = w->r;
    snapshot_t h = heading(w);
    cursor_t c = {to, 0};
    pass(&c, &h, sizeof h);
    pass_state(&c, w);
    if (h.tail)
        pass(&c, r->rows + (r->n_rows - (r->n_rows > 0)) * w->width,
             sizeof(double) * (size_t)h.tail * (size_t)w->width);
    save_sets(&c, w);
}

/* ``same_values``: the parameters are those of the snapshot, and were so all the time; ``same_record``: the record's
 * rows up to the snapshot's are those it was taken behind. Returns 0 where the bytes are no snapshot of this program,
 * and then leaves the run as it is. */
int pd_restore(work_t *w, unsigned char *from, size_t bytes, int same_values, int same_record)
{
    run_t *r = w->r;
    snapshot_t h, own = heading(w);
    cursor_t c = {from, 1};
    int known = same_values ? w->n_sets : 0;
    if (bytes < sizeof h) return 0;
    pass(&c, &h, sizeof h);
    if (h.layout != own.layout || h.bytes_of_state != own.bytes_of_state || h.nx != own.nx || h.n_input != own.n_input
        || h.n_mode != own.n_mode || h.n_signal != own.n_signal || h.n_pulse != own.n_pulse
        || h.n_profile != own.n_profile || h.n_short != own.n_short || h.n_loops != own.n_loops
        || h.n_kept != own.n_kept || h.n_sets < 0 || h.n_sets > w->n_slots || h.present >= h.n_sets || h.tail < 0
        || h.tail > 2 || bytes_for(&h) != bytes) return 0;
    pass_state(&c, w);
    if (!restore_record(&c, w, &h, same_record)) return 0;
    restore_sets(&c, w, known, h.present, w->modes);
    r->steps = h.steps; r->rejected = h.rejected; r->evaluations = h.evaluations; r->events = h.events;
    r->stiff_steps = h.stiff_steps; r->timed_steps = h.timed_steps;
    r->computing = h.computing; r->worst_step = h.worst_step; r->t_out = h.t_out; r->outcome = h.outcome;
    r->culprit = h.culprit;
    return 1;
}

/* A plant, or a whole drive: a run of the time loop above, which is advanced from tick to tick. A plant takes its
 * commands at the ticks; a drive has its controller do so. */

void pd_rhs(double, const double *, const double *, const double *, const double *, const double *, double *);
void pd_guarded(double, const double *, const double *, const double *, const double *, const double *, double *,
                double *);
void pd_affine(double, const double *, const double *, const double *, const double *, const double *, double *,
               double *);
#if BOOKS_ENERGIES
void pd_switched(double, const double *, const double *, const double *, const double *, const double *, double *);
#endif
void pd_forced(double, const double *, const double *, const double *, const double *, const double *, double *);
void pd_measure(double, const double *, const double *, const double *, const double *, const double *, double *);
void pd_jac(double, const double *, const double *, const double *, const double *, const double *, double *, double *);
void pd_hold(double, const double *, const double *, const double *, const double *, const double *, double *,
             double *);
void pd_signals(double, const double *, const double *, const double *, const double *, const double *, double *);
void pd_hoist(const double *, const double *, double *);
int pd_hoisted(void);
#if HAS_CONTROLLER
size_t pd_ctl_size(void);
void pd_ctl_init(void *memory, double *values);
void pd_ctl_bind(void *memory, double *values);
void pd_ctl_tick(void *memory, const double *in, double *signals, double *out);
#endif

enum { WIDTH = 1 + N_STATES + N_COMMANDS + 2 * N_PROFILES + N_MODES, LATEST = 1000 };

struct inside {
    run_t run;
    work_t *work;
    _Atomic int stop;
    _Atomic double progress;
    pulse_t pulses[N_PULSES + 1];
    double short_since[N_SHORTS + 1], row[WIDTH], signals[N_SIGNALS + 1], atol[N_STATES + 1];
    double *places;                 /* of hoisted values, for looking */
    unsigned char filled;
    void *memory;                   /* the controller's */
};

#if !HAS_CONTROLLER
static void commands_from_outside(void *unit, const double *in, double *signals, double *out)
{
    (void)in;
    memcpy(out, ((unit_t *)unit)->command, N_COMMANDS * sizeof *out);
    signals[0] = 0;
}
#endif

static void end_inside(unit_t *unit)
{
    inside_t *inside = unit->inside;
    if (!inside) return;
    if (inside->work) pd_close(inside->work);
    pd_release(inside->run.rows);
    pd_release(inside->run.ticks);
    free(inside->places);
    free(inside->memory);
    free(inside);
    unit->inside = 0;
}

static void describe_run(unit_t *unit, inside_t *inside)
{
    run_t *r = &inside->run;
    int k;
    r->nx = N_STATES; r->n_command = N_COMMANDS; r->n_profile = N_PROFILES; r->n_guard = N_GUARDS; r->n_mode = N_MODES;
    r->n_measured = N_MEASURED_INSIDE; r->n_signal = N_BLOCKS > 0 ? N_BLOCKS : 1; r->n_hold = N_HOLDS;
    r->n_hoisted = pd_hoisted();
    r->n_loops = N_LOOPS; r->n_pulse = N_PULSES; r->method = METHOD; r->delay = DELAY; r->max_rows_log2 = 32;
    r->t_end = 1e9; r->tick = TICK; r->h_max = LONGEST_STEP; r->fixed_step = FIXED_STEP;
    r->rtol = unit->tolerance > 0 ? unit->tolerance : TOLERANCE;
    for (k = 0; k < N_STATES; k++) inside->atol[k] = 1e-3 * r->rtol;
    r->atol = inside->atol; r->p = unit->parameter; r->x0 = STARTS; r->s0 = MODES;
    r->rhs = pd_rhs; r->guarded = pd_guarded; r->measure = pd_measure; r->jac = pd_jac; r->hold = pd_hold;
    r->hoist = pd_hoist;
    r->affine = pd_affine; r->forced = pd_forced; r->n_forced = FORCED_COUNT; r->forced_places = FORCED;
#if BOOKS_ENERGIES
    r->n_switched = N_SWITCHED; r->switched = pd_switched;
    r->switched_gates = SWITCHED_GATES; r->switched_states = SWITCHED_STATES;
#endif
    r->profile_count = PROFILE_COUNTS; r->profile_times = PROFILE_TIMES; r->profile_values = unit->profile;
    r->exit_mode = EXIT_MODES; r->exit_from = EXITS_FROM; r->exit_to = EXITS_TO;
    r->hold_mode = HOLD_MODES; r->hold_sticks = HOLD_STICKS;
    r->steady_jacobian = STEADY_JACOBIAN; r->n_jac = N_JACOBIAN; r->jac_places = JACOBIAN; r->jac_order = ELIMINATION;
    memcpy(inside->pulses, PULSES, sizeof *PULSES * N_PULSES);
    r->pulses = inside->pulses;
    r->n_short = N_SHORTS; r->short_first = SHORT_FIRST; r->short_tests = SHORT_TESTS; r->short_limit = SHORT_LIMIT;
    for (k = 0; k < N_SHORTS; k++) inside->short_since[k] = INFINITY;
    r->short_since = inside->short_since;
    r->stop = &inside->stop; r->progress = &inside->progress;
    r->row_limit = r->tick_limit = LATEST;   /* it goes on without an end, and its record is asked for by nobody */
}

static int start_inside(unit_t *unit)
{
    inside_t *inside;
    end_inside(unit);
    unit->inside = inside = calloc(1, sizeof *inside);
    if (!inside) { say(unit, "There is not enough memory for the run."); return 0; }
    describe_run(unit, inside);
    inside->places = calloc((size_t)(N_MODES + inside->run.n_hoisted + 1), sizeof(double));
#if HAS_CONTROLLER
    inside->memory = calloc(1, pd_ctl_size() + sizeof(double));
    if (inside->memory) pd_ctl_init(inside->memory, unit->control);
    inside->run.controller = pd_ctl_tick;
    inside->run.ctl = inside->memory;
#else
    inside->memory = calloc(1, 1);
    inside->run.controller = commands_from_outside;
    inside->run.ctl = unit;
#endif
    if (inside->places && inside->memory) inside->work = pd_open(&inside->run);
    if (inside->work) return 1;
    say(unit, "There is not enough memory for the run.");
    return 0;
}

static int take_values(unit_t *unit)
{
    inside_t *inside = unit->inside;
#if HAS_CONTROLLER
    pd_ctl_bind(inside->memory, unit->control);
#endif
    if (unit->changed > 1) pd_renew(inside->work);   /* numbers of the plant are among them */
    inside->filled = 0;
    return 1;
}

static const char *WHY[] = {
    [STOPPED] = "was stopped", [RAN_AWAY] = "diverges", [STEP_VANISHED] = "cannot be followed: steps vanish",
    [CHATTERS] = "changes between modes without end", [NO_MEMORY] = "needs more memory than there is",
    [NOT_FINITE] = "is not a finite number any more", [SHORTED] = "is shorted by switches that conduct together",
};

static int advance_inside(unit_t *unit, long ticks)
{
    inside_t *inside = unit->inside;
    const run_t *r = &inside->run;
    int outcome = pd_advance(inside->work, (double)ticks * TICK);
    const char *what = "The run";
    if (outcome == PAUSED) { unit->ticks = ticks; return 1; }
    if ((outcome == RAN_AWAY || outcome == STEP_VANISHED || outcome == NOT_FINITE) && r->culprit < N_STATES)
        what = STATE_NAMES[r->culprit];
    if (outcome == CHATTERS && r->culprit < N_MODES) what = MODE_NAMES[r->culprit];
    if (outcome == SHORTED && r->culprit < N_SHORTS) what = SHORT_NAMES[r->culprit];
    say(unit, "%s %s at %g s. Change the values, or start with the drive itself.", what,
        WHY[outcome] ? WHY[outcome] : "ends", r->t_out);
    return 0;
}

static void look_inside(unit_t *unit)
{
    inside_t *inside = unit->inside;
    hoists_t hoists = {pd_hoist, unit->parameter, inside->places, &inside->filled, 1, N_MODES, inside->run.n_hoisted};
    double blocks[N_BLOCKS + 1];
    if (N_LOOPS > 0)
        inside->filled = 0;   /* what is found numerically begins alike, so that looking twice gives the same */
    pd_now(inside->work, inside->row, blocks);
    memcpy(unit->block, blocks, sizeof(double) * N_BLOCKS);
    if (!HAS_CONTROLLER && unit->ticks == 0)
        memcpy(inside->row + 1 + N_STATES, unit->command, N_COMMANDS * sizeof(double));
    pd_evaluate(pd_signals, inside->row, 1, N_STATES, N_COMMANDS + 2 * N_PROFILES, &hoists, PICKED, N_SIGNALS,
                inside->signals, unit->signal);
}

static size_t controller_bytes(void)
{
#if HAS_CONTROLLER
    return pd_ctl_size();
#else
    return 0;
#endif
}

static size_t bytes_inside(const unit_t *unit) { return controller_bytes() + pd_snapshot_bytes(unit->inside->work); }

static void save_inside(unit_t *unit, unsigned char *to)
{
    memcpy(to, unit->inside->memory, controller_bytes());
    pd_save(unit->inside->work, to + controller_bytes());
}

static int restore_inside(unit_t *unit, unsigned char *from, size_t bytes)
{
    inside_t *inside = unit->inside;
    size_t own = controller_bytes();
    if (bytes < own) return 0;
    memcpy(inside->memory, from, own);
#if HAS_CONTROLLER
    pd_ctl_bind(inside->memory, unit->control);
#endif
    inside->filled = 0;
    return pd_restore(inside->work, from + own, bytes - own, 0, 0);
}

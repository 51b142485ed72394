/* The functions of FMI 3.0 for co-simulation. */

static const char NOT_NOW[] = "%s is not allowed now.";

static int in_phase(const unit_t *unit, int from, int to, const char *what)
{
    if (unit->phase >= from && unit->phase <= to) return 1;
    say(unit, NOT_NOW, what);
    return 0;
}

static void take_starts(unit_t *unit)
{
    memcpy(unit->parameter, PARAMETERS, sizeof(double) * N_PARAMETERS);
    memcpy(unit->control, BLOCK_VALUES, sizeof(double) * N_CONTROLS);
    memcpy(unit->profile, PROFILE_VALUES, sizeof(double) * N_PROFILE_VALUES);
    memset(unit->command, 0, sizeof unit->command);
    memset(unit->measured, 0, sizeof unit->measured);
    memset(unit->signal, 0, sizeof unit->signal);
    memset(unit->block, 0, sizeof unit->block);
    unit->ticks = 0;
    unit->begin = unit->now = unit->tolerance = 0;
    unit->changed = unit->looked = 0;
    unit->phase = INSTANTIATED;
}

FMI3_Export const char *fmi3GetVersion(void) { return fmi3Version; }

FMI3_Export fmi3Status fmi3SetDebugLogging(fmi3Instance instance, fmi3Boolean on, size_t n,
                                           const fmi3String categories[])
{
    (void)n; (void)categories;
    ((unit_t *)instance)->logs = on;
    return fmi3OK;
}

FMI3_Export fmi3Instance fmi3InstantiateCoSimulation(fmi3String name, fmi3String token, fmi3String resources,
                                                     fmi3Boolean visible,
    fmi3Boolean logs, fmi3Boolean event_mode, fmi3Boolean early_return, const fmi3ValueReference intermediate[],
    size_t n_intermediate,
    fmi3InstanceEnvironment environment, fmi3LogMessageCallback log, fmi3IntermediateUpdateCallback update)
{
    unit_t *unit = calloc(1, sizeof *unit);
    (void)name; (void)resources; (void)visible; (void)event_mode; (void)early_return; (void)intermediate; (void)update;
    if (!unit) return 0;
    unit->environment = environment;
    unit->log = log;
    unit->logs = 1;
    if (!token || strcmp(token, TOKEN) != 0) {
        say(unit, "The token is that of another unit: its description and its library are not of one export.");
        free(unit);
        return 0;
    }
    if (n_intermediate) {
        say(unit, "Values within a step are not given.");
        free(unit);
        return 0;
    }
    unit->logs = logs;
    take_starts(unit);
    return unit;
}

FMI3_Export fmi3Instance fmi3InstantiateModelExchange(fmi3String name, fmi3String token, fmi3String resources,
                                                      fmi3Boolean visible,
    fmi3Boolean logs, fmi3InstanceEnvironment environment, fmi3LogMessageCallback log)
{
    (void)name; (void)token; (void)resources; (void)visible; (void)logs;
    if (log)
        log(environment, fmi3Error, "logStatusError",
            "This unit brings its own method of integration: use it for co-simulation.");
    return 0;
}

FMI3_Export fmi3Instance fmi3InstantiateScheduledExecution(fmi3String name, fmi3String token, fmi3String resources,
                                                           fmi3Boolean visible,
    fmi3Boolean logs, fmi3InstanceEnvironment environment, fmi3LogMessageCallback log, fmi3ClockUpdateCallback update,
    fmi3LockPreemptionCallback lock, fmi3UnlockPreemptionCallback unlock)
{
    (void)update; (void)lock; (void)unlock;
    return fmi3InstantiateModelExchange(name, token, resources, visible, logs, environment, log);
}

FMI3_Export void fmi3FreeInstance(fmi3Instance instance)
{
    if (instance) end_inside(instance);
    free(instance);
}

static fmi3Status failed(unit_t *unit)
{
    unit->phase = FAILED;
    return fmi3Error;
}

/* Until its first step, a unit begins again with each change. */
static int begin_again(unit_t *unit)
{
    if (unit->inside && !unit->changed) return 1;
    if (!start_inside(unit)) return 0;
    unit->changed = unit->looked = 0;
    return 1;
}

FMI3_Export fmi3Status fmi3EnterInitializationMode(fmi3Instance instance, fmi3Boolean tolerance_defined,
                                                   fmi3Float64 tolerance,
    fmi3Float64 start, fmi3Boolean stop_defined, fmi3Float64 stop)
{
    unit_t *unit = instance;
    (void)stop_defined; (void)stop;
    if (!in_phase(unit, INSTANTIATED, INSTANTIATED, "To begin")) return fmi3Error;
    if (!isfinite(start)) { say(unit, "A start at %g s is none. Give a finite time.", start); return fmi3Error; }
    if (tolerance_defined && !(tolerance > 0 && tolerance < 1)) {
        say(unit, "A tolerance of %g is none. Give one above 0 and below 1.", tolerance);
        return fmi3Error;
    }
    unit->tolerance = tolerance_defined ? tolerance : 0;
    unit->begin = unit->now = start;
    unit->phase = INITIALIZING;
    unit->changed = 1;
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3ExitInitializationMode(fmi3Instance instance)
{
    unit_t *unit = instance;
    if (!in_phase(unit, INITIALIZING, INITIALIZING, "To end the beginning")) return fmi3Error;
    if (!begin_again(unit)) return failed(unit);
    unit->phase = STEPPING;
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3Terminate(fmi3Instance instance)
{
    unit_t *unit = instance;
    if (!in_phase(unit, STEPPING, FAILED, "To end")) return fmi3Error;
    unit->phase = TERMINATED;
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3Reset(fmi3Instance instance)
{
    end_inside(instance);
    take_starts(instance);
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3DoStep(fmi3Instance instance, fmi3Float64 from, fmi3Float64 size,
                                  fmi3Boolean no_state_before,
    fmi3Boolean *event_needed, fmi3Boolean *terminate, fmi3Boolean *early, fmi3Float64 *reached)
{
    unit_t *unit = instance;
    double ticks, rounding;
    (void)no_state_before;
    *event_needed = *terminate = *early = fmi3False;
    *reached = unit->now;
    if (!in_phase(unit, STEPPING, STEPPING, "A step")) return fmi3Error;
    if (!(size > 0) || !isfinite(size)) {
        say(unit, "A step of %g s is none. Give one above 0.", size);
        return fmi3Error;
    }
    if (!(fabs(from - unit->now) <= 1e-9 * (fabs(unit->now) + size))) {
        say(unit, "The step is to begin at %.9g s, but this unit is at %.9g s. Go on from there.", from, unit->now);
        return fmi3Error;
    }
    /* A tick is reached where the step ends at it but for rounding, which grows as times are summed up. */
    rounding = 1e-3 + 8 * DBL_EPSILON * (fabs(from) + size + fabs(unit->begin)) / TICK;
    ticks = floor((from + size - unit->begin) / TICK + rounding);
    if (ticks > 2e9 && ticks * TICK > 9e8) { say(unit, "A run ends at 9e8 s. Start it again."); return fmi3Error; }
    if (unit->changed) {
        if (!take_values(unit)) return failed(unit);
        unit->changed = 0;
    }
    if (ticks > (double)unit->ticks && !advance_inside(unit, (long)ticks)) return failed(unit);
    unit->now = *reached = from + size;
    unit->looked = 0;
    return fmi3OK;
}

static const variable_t *variable(const unit_t *unit, fmi3ValueReference reference)
{
    if (reference < N_VARIABLES) return VARIABLES + reference;
    say(unit, "There is no variable %u; the last is %u.", (unsigned)reference, (unsigned)(N_VARIABLES - 1));
    return 0;
}

static double value_of(const unit_t *unit, const variable_t *variable)
{
    switch (variable->kind) {
    case TIME: return unit->now;
    case VALUE: return variable->place >= 0 ? unit->parameter[variable->place] : unit->control[variable->other];
    case COMMAND_IN: case COMMAND_OUT: return unit->command[variable->place];
    case MEASURED_IN: return unit->measured[variable->place];
    case PROFILE: return unit->profile[variable->place];
    case SIGNAL: return unit->signal[variable->place];
    default: return unit->block[variable->place];
    }
}

FMI3_Export fmi3Status fmi3GetFloat64(fmi3Instance instance, const fmi3ValueReference references[], size_t n,
                                      fmi3Float64 values[], size_t n_values)
{
    unit_t *unit = instance;
    size_t k;
    if (n_values != n) { say(unit, "%zu values are no room for %zu variables.", n_values, n); return fmi3Error; }
    for (k = 0; k < n; k++) {
        const variable_t *which = variable(unit, references[k]);
        if (!which) return fmi3Error;
        if (which->kind == SIGNAL || which->kind == BLOCK) {
            if (unit->phase == INITIALIZING && !begin_again(unit)) return failed(unit);
            if (unit->inside && !unit->looked) { look_inside(unit); unit->looked = 1; }
        }
        values[k] = value_of(unit, which);
    }
    return fmi3OK;
}

static int answer_to(int question, double value)
{
    if (question == IS_ZERO) return value == 0;
    return question == IS_POSITIVE ? value > 0 : value == value;
}

/* Whether the same equations hold for another value. */
static int keeps_equations(const unit_t *unit, const variable_t *which, double value)
{
    int k;
    for (k = 0; k < N_ANSWERS; k++)
        if (ANSWERS[k].place == which->place && answer_to(ANSWERS[k].question, value) != ANSWERS[k].answer) {
            say(unit, "%s cannot become %g: other equations hold then. Export the drive with that value.", which->name,
                value);
            return 0;
        }
    return 1;
}

static int set_one(unit_t *unit, const variable_t *which, double value)
{
    if (!isfinite(value)) { say(unit, "%s cannot become %g. Give a finite number.", which->name, value); return 0; }
    if (which->rights == NEVER || unit->phase > STEPPING || (which->rights == BEFORE && unit->phase == STEPPING)) {
        say(unit, "%s cannot be set%s.", which->name, which->rights == NEVER ? "" : " any more");
        return 0;
    }
    if (which->kind == COMMAND_IN) unit->command[which->place] = value;
    else if (which->kind == MEASURED_IN) unit->measured[which->place] = value;
    else if (value_of(unit, which) != value) {
        if (which->kind == PROFILE) unit->profile[which->place] = value;
        else {
            if (which->place >= 0 && !keeps_equations(unit, which, value)) return 0;
            if (which->place >= 0) unit->parameter[which->place] = value;
            if (which->other >= 0) unit->control[which->other] = value;
        }
        unit->changed |= which->kind == PROFILE || which->place >= 0 ? 3 : 1;
    }
    if (unit->ticks == 0) unit->looked = 0;
    return 1;
}

FMI3_Export fmi3Status fmi3SetFloat64(fmi3Instance instance, const fmi3ValueReference references[], size_t n,
                                      const fmi3Float64 values[], size_t n_values)
{
    unit_t *unit = instance;
    size_t k;
    if (n_values != n) { say(unit, "%zu values do not fit %zu variables.", n_values, n); return fmi3Error; }
    for (k = 0; k < n; k++) {
        const variable_t *which = variable(unit, references[k]);
        if (!which || !set_one(unit, which, values[k])) return fmi3Error;
    }
    return fmi3OK;
}

/* States of the unit. They have no addresses in them that matter: those in the controller's memory are bound again. */

typedef struct { char token[sizeof TOKEN]; size_t size, inside; } state_heading_t;
enum { KEPT_FROM = offsetof(unit_t, phase), KEPT = sizeof(unit_t) - KEPT_FROM };

FMI3_Export fmi3Status fmi3GetFMUState(fmi3Instance instance, fmi3FMUState *state)
{
    unit_t *unit = instance;
    state_heading_t heading = {TOKEN, 0, 0};
    unsigned char *bytes;
    if (unit->inside) heading.inside = bytes_inside(unit);
    heading.size = sizeof heading + KEPT + heading.inside;
    bytes = malloc(heading.size);
    if (!bytes) { say(unit, "There is not enough memory for a state."); return fmi3Error; }
    memcpy(bytes, &heading, sizeof heading);
    memcpy(bytes + sizeof heading, (unsigned char *)unit + KEPT_FROM, KEPT);
    if (unit->inside) save_inside(unit, bytes + sizeof heading + KEPT);
    free(*state);
    *state = bytes;
    return fmi3OK;
}

static size_t state_size(fmi3FMUState state)
{
    state_heading_t heading;
    memcpy(&heading, state, sizeof heading);
    return heading.size;
}

FMI3_Export fmi3Status fmi3SetFMUState(fmi3Instance instance, fmi3FMUState state)
{
    unit_t *unit = instance;
    unsigned char *bytes = state;
    state_heading_t heading;
    if (!state) { say(unit, "There is no state to go back to."); return fmi3Error; }
    memcpy(&heading, bytes, sizeof heading);
    memcpy((unsigned char *)unit + KEPT_FROM, bytes + sizeof heading, KEPT);
    if (!heading.inside) { end_inside(unit); return fmi3OK; }
    if (!unit->inside && !start_inside(unit)) return failed(unit);
    if (!restore_inside(unit, bytes + sizeof heading + KEPT, heading.inside)) {
        say(unit, "The state is not one of this unit.");
        return failed(unit);
    }
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3FreeFMUState(fmi3Instance instance, fmi3FMUState *state)
{
    (void)instance;
    if (state) { free(*state); *state = 0; }
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3SerializedFMUStateSize(fmi3Instance instance, fmi3FMUState state, size_t *size)
{
    (void)instance;
    *size = state_size(state);
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3SerializeFMUState(fmi3Instance instance, fmi3FMUState state, fmi3Byte bytes[], size_t size)
{
    if (size < state_size(state)) {
        say(instance, "%zu bytes are no room for a state of %zu.", size, state_size(state));
        return fmi3Error;
    }
    memcpy(bytes, state, state_size(state));
    return fmi3OK;
}

FMI3_Export fmi3Status fmi3DeserializeFMUState(fmi3Instance instance, const fmi3Byte bytes[], size_t size,
                                               fmi3FMUState *state)
{
    state_heading_t heading;
    unsigned char *own;
    if (size >= sizeof heading) memcpy(&heading, bytes, sizeof heading);
    if (size < sizeof heading || memcmp(heading.token, TOKEN, sizeof TOKEN) != 0 || heading.size != size
        || heading.size != sizeof heading + KEPT + heading.inside) {
        say(instance, "These bytes are not a state of this unit.");
        return fmi3Error;
    }
    own = malloc(size);
    if (!own) { say(instance, "There is not enough memory for a state."); return fmi3Error; }
    memcpy(own, bytes, size);
    free(*state);
    *state = own;
    return fmi3OK;
}

/* What the description does not promise: it may be asked for nothing only. */

static fmi3Status none_of(const void *unit, size_t n, const char *what)
{
    if (n == 0) return fmi3OK;
    say(unit, "This unit has no %s.", what);
    return fmi3Error;
}

#define NONE(name, what, type) \
    FMI3_Export fmi3Status fmi3Get##name(fmi3Instance i, const fmi3ValueReference r[], size_t n, type v[], size_t m) \
    { (void)r; (void)v; (void)m; return none_of(i, n, what); } \
    FMI3_Export fmi3Status fmi3Set##name(fmi3Instance i, const fmi3ValueReference r[], size_t n, const type v[], \
                                         size_t m) \
    { (void)r; (void)v; (void)m; return none_of(i, n, what); }

NONE(Float32, "variables of this type: all are Float64", fmi3Float32)
NONE(Int8, "variables of this type: all are Float64", fmi3Int8)
NONE(UInt8, "variables of this type: all are Float64", fmi3UInt8)
NONE(Int16, "variables of this type: all are Float64", fmi3Int16)
NONE(UInt16, "variables of this type: all are Float64", fmi3UInt16)
NONE(Int32, "variables of this type: all are Float64", fmi3Int32)
NONE(UInt32, "variables of this type: all are Float64", fmi3UInt32)
NONE(Int64, "variables of this type: all are Float64", fmi3Int64)
NONE(UInt64, "variables of this type: all are Float64", fmi3UInt64)
NONE(Boolean, "variables of this type: all are Float64", fmi3Boolean)
NONE(String, "variables of this type: all are Float64", fmi3String)

#define NEVER_HERE(name, what, ...) \
    FMI3_Export fmi3Status name(fmi3Instance i, __VA_ARGS__) { return none_of(i, 1, what); }
#define NEVER_ALONE(name, what) FMI3_Export fmi3Status name(fmi3Instance i) { return none_of(i, 1, what); }
#define UNUSED(a) a __attribute__((unused))
typedef const fmi3ValueReference *references_t;

NEVER_HERE(fmi3GetBinary, "binary variables", UNUSED(references_t a), UNUSED(size_t b), UNUSED(size_t c[]),
           UNUSED(fmi3Binary d[]), UNUSED(size_t e))
NEVER_HERE(fmi3SetBinary, "binary variables", UNUSED(references_t a), UNUSED(size_t b), UNUSED(const size_t c[]),
           UNUSED(const fmi3Binary d[]), UNUSED(size_t e))
NEVER_HERE(fmi3GetClock, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(fmi3Clock c[]))
NEVER_HERE(fmi3SetClock, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(const fmi3Clock c[]))
NEVER_HERE(fmi3GetIntervalDecimal, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(fmi3Float64 c[]),
           UNUSED(fmi3IntervalQualifier d[]))
NEVER_HERE(fmi3GetIntervalFraction, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(fmi3UInt64 c[]),
           UNUSED(fmi3UInt64 d[]), UNUSED(fmi3IntervalQualifier e[]))
NEVER_HERE(fmi3GetShiftDecimal, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(fmi3Float64 c[]))
NEVER_HERE(fmi3GetShiftFraction, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(fmi3UInt64 c[]),
           UNUSED(fmi3UInt64 d[]))
NEVER_HERE(fmi3SetIntervalDecimal, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(const fmi3Float64 c[]))
NEVER_HERE(fmi3SetIntervalFraction, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(const fmi3UInt64 c[]),
           UNUSED(const fmi3UInt64 d[]))
NEVER_HERE(fmi3SetShiftDecimal, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(const fmi3Float64 c[]))
NEVER_HERE(fmi3SetShiftFraction, "clocks", UNUSED(references_t a), UNUSED(size_t b), UNUSED(const fmi3UInt64 c[]),
           UNUSED(const fmi3UInt64 d[]))
NEVER_HERE(fmi3GetNumberOfVariableDependencies, "dependencies to tell", UNUSED(fmi3ValueReference a), UNUSED(size_t *b))
NEVER_HERE(fmi3GetVariableDependencies, "dependencies to tell", UNUSED(fmi3ValueReference a), UNUSED(size_t b[]),
           UNUSED(fmi3ValueReference c[]), UNUSED(size_t d[]), UNUSED(fmi3DependencyKind e[]), UNUSED(size_t f))
NEVER_HERE(fmi3GetDirectionalDerivative, "derivatives to give", UNUSED(references_t a), UNUSED(size_t b),
           UNUSED(references_t c), UNUSED(size_t d), UNUSED(const fmi3Float64 e[]), UNUSED(size_t f),
           UNUSED(fmi3Float64 g[]), UNUSED(size_t h))
NEVER_HERE(fmi3GetAdjointDerivative, "derivatives to give", UNUSED(references_t a), UNUSED(size_t b),
           UNUSED(references_t c), UNUSED(size_t d), UNUSED(const fmi3Float64 e[]), UNUSED(size_t f),
           UNUSED(fmi3Float64 g[]), UNUSED(size_t h))
NEVER_HERE(fmi3GetOutputDerivatives, "derivatives to give", UNUSED(references_t a), UNUSED(size_t b),
           UNUSED(const fmi3Int32 c[]), UNUSED(fmi3Float64 d[]), UNUSED(size_t e))
NEVER_ALONE(fmi3EnterConfigurationMode, "structure to configure")
NEVER_ALONE(fmi3ExitConfigurationMode, "structure to configure")
NEVER_ALONE(fmi3EnterEventMode, "mode of events")
NEVER_ALONE(fmi3EvaluateDiscreteStates, "mode of events")
NEVER_ALONE(fmi3EnterStepMode, "mode of events")
NEVER_HERE(fmi3UpdateDiscreteStates, "mode of events", UNUSED(fmi3Boolean *a), UNUSED(fmi3Boolean *b),
           UNUSED(fmi3Boolean *c), UNUSED(fmi3Boolean *d), UNUSED(fmi3Boolean *e), UNUSED(fmi3Float64 *f))
NEVER_ALONE(fmi3EnterContinuousTimeMode, "states to integrate outside")
NEVER_HERE(fmi3CompletedIntegratorStep, "states to integrate outside", UNUSED(fmi3Boolean a), UNUSED(fmi3Boolean *b),
           UNUSED(fmi3Boolean *c))
NEVER_HERE(fmi3SetTime, "time to be set", UNUSED(fmi3Float64 a))
NEVER_HERE(fmi3SetContinuousStates, "states to integrate outside", UNUSED(const fmi3Float64 a[]), UNUSED(size_t b))
NEVER_HERE(fmi3GetContinuousStateDerivatives, "states to integrate outside", UNUSED(fmi3Float64 a[]), UNUSED(size_t b))
NEVER_HERE(fmi3GetEventIndicators, "states to integrate outside", UNUSED(fmi3Float64 a[]), UNUSED(size_t b))
NEVER_HERE(fmi3GetContinuousStates, "states to integrate outside", UNUSED(fmi3Float64 a[]), UNUSED(size_t b))
NEVER_HERE(fmi3GetNominalsOfContinuousStates, "states to integrate outside", UNUSED(fmi3Float64 a[]), UNUSED(size_t b))
NEVER_HERE(fmi3GetNumberOfEventIndicators, "states to integrate outside", UNUSED(size_t *a))
NEVER_HERE(fmi3GetNumberOfContinuousStates, "states to integrate outside", UNUSED(size_t *a))
NEVER_HERE(fmi3ActivateModelPartition, "partitions", UNUSED(fmi3ValueReference a), UNUSED(fmi3Float64 b))

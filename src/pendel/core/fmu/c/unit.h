/* A functional mock-up unit for co-simulation by FMI 3.0: what its parts share. The tables before this text say which
 * numbers there are; what goes on inside is a run of the time loop (run.c) or a controller alone (controller.c). All is
 * kept in the instance, so that a process may hold many. */
#include <float.h>
#include <math.h>
#include <stdarg.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "fmi3.h"

/* What a variable is, and when it may be set. */
enum { TIME, VALUE, COMMAND_IN, MEASURED_IN, PROFILE, SIGNAL, BLOCK, COMMAND_OUT };
enum { NEVER, BEFORE, ALWAYS };

typedef struct {
    unsigned char kind, rights;
    int place, other;       /* of a value: among the plant's and among the controller's numbers, or -1 */
    const char *name;
} variable_t;

/* Other equations would hold for another answer. */
enum { IS_ZERO, IS_POSITIVE, IS_GIVEN };
typedef struct { int place, question, answer; } answer_t;

/* The states of the standard that matter here. */
enum { INSTANTIATED, INITIALIZING, STEPPING, TERMINATED, FAILED };

typedef struct inside inside_t;

typedef struct {
    fmi3InstanceEnvironment environment;
    fmi3LogMessageCallback log;
    int logs;
    inside_t *inside;       /* none before it was started */
    /* From here to the end, states of the unit hold all. */
    /* changed: values since they were taken; looked: results are of the present instant */
    int phase, changed, looked;
    long ticks;             /* done */
    double begin, now, tolerance;    /* s; time of its beginning and of the latest communication; 0: the drive's */
    double parameter[N_PARAMETERS + 1], control[N_CONTROLS + 1], profile[N_PROFILE_VALUES + 1];
    double command[N_COMMANDS + 1], measured[N_MEASURED + 1], signal[N_SIGNALS + 1], block[N_BLOCKS + 1];
} unit_t;

static void say(const unit_t *unit, const char *format, ...)
{
    char sentence[600];
    va_list more;
    if (!unit->log || !unit->logs) return;
    va_start(more, format);
    vsnprintf(sentence, sizeof sentence, format, more);
    va_end(more);
    unit->log(unit->environment, fmi3Error, "logStatusError", sentence);
}

/* What is inside: each gives 0, after a sentence, where it cannot be done. */
static int start_inside(unit_t *unit);                  /* at its beginning, with the present values */
static int take_values(unit_t *unit);                   /* they hold from here on */
static int advance_inside(unit_t *unit, long ticks);    /* until so many are done */
static void look_inside(unit_t *unit);                  /* results of the present instant */
static size_t bytes_inside(const unit_t *unit);
static void save_inside(unit_t *unit, unsigned char *to);
static int restore_inside(unit_t *unit, unsigned char *from, size_t bytes);
static void end_inside(unit_t *unit);

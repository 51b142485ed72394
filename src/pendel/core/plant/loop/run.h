/* What Python and the time loop share: a run's settings, functions and results. `runtime.py` mirrors these structs
 * field by field; `pd_layout` tells their sizes, which are compared when the library is loaded. Count PD_LAYOUT up with
 * each change. */
#include <stdatomic.h>
#include <stdint.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { PD_LAYOUT = 9 };

typedef void (*guarded_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                          double *dx, double *g);
typedef void (*out_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                      double *y);
/* Entries of the Jacobian that are always zero are left alone: they must be zero before. */
typedef void (*jac_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                      double *jac, double *dfdt);
typedef void (*hold_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
                       double *w, double *grad);
typedef void (*hoist_f)(const double *p, const double *s, double *h);
typedef void (*tick_f)(void *ctl, const double *in, double *signals, double *out);

/* How a run ended; PAUSED: it can go on. */
enum { DONE = 0, STOPPED = 1, RAN_AWAY = 2, STEP_VANISHED = 3, CHATTERS = 4, NO_MEMORY = 5, NOT_FINITE = 6, SHORTED = 7,
    PAUSED = 8 };
/* What the user chooses; see control.c. */
enum { AUTO = 0, EXPLICIT = 1, STIFF = 2, FAST = 3, FIXED = 4 };

typedef struct {
    int nx, n_command, n_profile, n_guard, n_mode, n_measured, n_signal, n_exit, n_hold, n_hoisted, n_loops, n_pulse;
    int method, delay, max_rows_log2;
    double t_end, tick, rtol, h_max;
    const double *atol, *p, *x0, *s0;
    out_f rhs; guarded_f guarded; out_f measure; jac_f jac; hold_f hold; hoist_f hoist; guarded_f affine; out_f forced;
    tick_f controller;
    void *ctl;
    const int *profile_count;      /* corners of each profile */
    const double *profile_times, *profile_values;
    const int *exit_mode, *exit_from, *exit_to;   /* one per guard */
    const int *hold_mode;          /* mode whose 0 forces hold k to zero */
    const int *hold_sticks;         /* whether mode 0 keeps hold k at zero */
    pulse_t *pulses;
    _Atomic int *stop;
    _Atomic double *progress;
    /* results */
    double *rows, *ticks;          /* row: t, x, u, s; tick row: signals */
    long n_rows, n_ticks, cap_rows, cap_ticks;
    long steps, rejected, evaluations, events, stiff_steps;
    int outcome, culprit;
    double t_out;
    long row_limit;
    double fixed_step;                  /* s, for FIXED */
    int steady_jacobian;                /* it depends on values and modes only */
    double computing, worst_step;       /* s of computing: in all, and for the slowest step of FIXED */
    long timed_steps;
    double thinned_until, thinned_to;   /* until this time one row is kept for each stretch of this length */
    int n_short;                        /* sets of devices that must not all conduct for longer than `short_limit` */
    const int *short_first;             /* where each set's tests begin, and where the last ends */
    /* four numbers each: up to three modes (or -1), and whether all of them are needed */
    const int *short_tests;
    double *short_since;                /* s, for each set: since when it conducts, or infinite */
    double short_limit;
    long first_tick;                    /* number of the tick whose signals stand first in ``ticks`` */
    long thinnings;                     /* how often the record was thinned */
    /* takes rows that will be thinned, each once; 0: it was given up, for the run is to stop, and the rows must stay.
     * Or it is none */
    int (*condense)(const double *rows, long n_rows);
    /* entries of the Jacobian that may not be zero, where it pays to know; else 0 */
    int n_jac;
    const int *jac_places;              /* where they are in it, i + j * nx, in this order */
    const int *jac_order;               /* of its columns, for little fill */
    /* above 0 for a run without an end: the record keeps its latest part, rows as `row_limit` says and as many ticks
     * as this */
    long tick_limit;
    long first_row;                     /* number of the row that is first in ``rows`` */
    /* derivatives and guards that move with time and inputs besides the states, where all are affine in these;
     * else -1 */
    int n_forced;
    const int *forced_places;           /* which those are, derivatives first */
    /* devices whose switching energies are booked while it goes on: their gates, and the states that take them */
    int n_switched;
    out_f switched;
    const int *switched_gates, *switched_states;
} run_t;

/* Hoisted values for the sets of modes met on the way over a record; they come back with every period of the pulses.
 * One place each, with the modes and the values; ``filled`` is zero at first. */
typedef struct {
    hoist_f hoist;
    const double *p;
    double *places;
    unsigned char *filled;
    int n_places, n_mode, n_hoisted, n_loops;
} hoists_t;

/* The last of a set's hoisted values are where the model's loops were solved last, and as many places for where they
 * were solved last in other modes. Hand that on to a set that is entered. */
static void hand_on_loops(const double *from, double *to, int n_hoisted, int n_loops)
{
    if (n_loops && from && from != to)
        memcpy(to + n_hoisted - n_loops / 2, from + n_hoisted - n_loops, sizeof(double) * (size_t)(n_loops / 2));
}

/* Pulse channels: from a duty, held between ticks, to the gates of a leg, at exact times.
 *
 * A channel compares its duty with a carrier between 0 and 1. Its period begins at the valley; between the valley
 * and the next the triangle rises to 1 and falls back. The comparison's edges follow from the duty in closed form,
 * so that they owe nothing to the solver's steps. Each gate turns on a dead time after its partner turned off.
 */
#include <math.h>

enum { TRIANGLE = 0, SAWTOOTH = 1, LEVEL = 2 };           /* LEVEL: on while the command is above one half */
static const double SAME = 1e-12;                         /* s */
enum { AT_ONCE = 0, ONCE = 1, TWICE = 2 };                /* when a new duty is taken over */

typedef struct {
    int command, upper, lower, carrier, sampling;         /* places in u and s; lower is -1 for a single switch */
    double scale, offset;                                 /* duty = offset + scale u */
    double f, begins, dead, least, on_delay, off_delay;   /* Hz, s */
    int opens;                                            /* a duty below zero opens the leg: both gates off */
    /* memory */
    double duty, share, on_at[2], off_at[2], edge, change, next;
    /* edge: share at which the comparison changes; change: when it, or the duty, is next looked at; next: and the
     * gates too */
    long period;
    int logic, started;
} pulse_t;

static double pulse_time(const pulse_t *p, double share) { return p->begins + ((double)p->period + share) / p->f; }

static double pulse_duty(const pulse_t *p, const double *u)
{
    double d = p->offset + p->scale * u[p->command];
    if (d != d) return -1;   /* no command: both gates off */
    if (p->opens && d < 0) return -1;
    if (!(d > 0)) return 0;
    if (d > 1) return 1;
    if (p->carrier != LEVEL) {
        if (d < p->least * p->f) return 0;
        if (1 - d < p->least * p->f) return 1;
    }
    return d;
}

static void gate_off(pulse_t *p, double t, int off)
{
    p->off_at[off] = t + p->off_delay;
    /* A gate that is to turn on and off at one instant, to rounding, stays off. */
    if (p->on_at[off] >= p->off_at[off] - SAME) p->on_at[off] = INFINITY;
}

/* ``logic``: 1 the upper switch conducts, 0 the lower, -1 neither. A duty below zero means the last, whatever was
 * asked. */
static void pulse_logic(pulse_t *p, double t, int logic)
{
    int on, off;
    if (p->duty < 0) logic = -1;
    if (logic == p->logic) return;
    p->logic = logic;
    if (logic < 0) { gate_off(p, t, 0); gate_off(p, t, 1); return; }
    on = logic ? 0 : 1;
    off = 1 - on;
    gate_off(p, t, off);
    p->on_at[on] = t + p->dead + p->on_delay;
    if (p->off_at[on] >= p->on_at[on] - SAME) p->off_at[on] = INFINITY;
}

/* Share of the period at which the comparison changes next, or 2 when it does not within this period. */
static double pulse_edge(const pulse_t *p)
{
    double at;
    if (p->logic < 0) return 2;
    if (p->carrier == SAWTOOTH) return p->logic && p->duty < 1 && p->share < p->duty ? p->duty : 2;
    at = p->logic ? 0.5 * p->duty : 1 - 0.5 * p->duty;
    if (p->logic ? p->duty >= 1 : p->duty <= 0) return 2;
    return p->share < at ? at : 2;
}

/* When the comparison changes, a duty is taken over or the period ends, whichever comes first. */
static void pulse_plan(pulse_t *p)
{
    double share;
    if (p->carrier == LEVEL) { p->edge = 2; p->change = INFINITY; return; }
    p->edge = pulse_edge(p);
    share = p->edge < 1 ? p->edge : 1;
    if (p->sampling == TWICE && p->share < 0.5 && share > 0.5) share = 0.5;
    p->change = pulse_time(p, share);
}

static void pulse_look_ahead(pulse_t *p)
{
    double t = p->change;
    int j;
    for (j = 0; j < 2; j++) {
        if (p->on_at[j] < t) t = p->on_at[j];
        if (p->off_at[j] < t) t = p->off_at[j];
    }
    p->next = t;
}

static double pulses_next(const pulse_t *all, int n)
{
    double t = INFINITY;
    int k;
    for (k = 0; k < n; k++) if (all[k].next < t) t = all[k].next;
    return t;
}

/* The comparison as it stands at t: at the start, and when a duty acts at once. */
static void pulse_compare(pulse_t *p, double t)
{
    double c;
    if (p->carrier == LEVEL) { pulse_logic(p, t, p->duty > 0.5); pulse_plan(p); return; }
    p->share = fmin(fmax((t - p->begins) * p->f - (double)p->period, 0), 1);
    c = p->carrier == SAWTOOTH ? p->share : 1 - fabs(1 - 2 * p->share);
    pulse_logic(p, t, p->duty >= 1 || p->duty > c);
    pulse_plan(p);
}

/* A new command holds from t on. */
static void pulses_command(pulse_t *all, int n, double t, const double *u)
{
    int k;
    for (k = 0; k < n; k++) {
        pulse_t *p = all + k;
        if (!p->started) {
            p->started = 1;
            p->logic = -2;
            p->on_at[0] = p->on_at[1] = p->off_at[0] = p->off_at[1] = INFINITY;
            p->period = p->carrier == LEVEL ? 0 : (long)floor((t - p->begins) * p->f + 1e-9);
            p->duty = pulse_duty(p, u);
            pulse_compare(p, t);
            if (p->logic >= 0)
                p->on_at[p->logic ? 0 : 1] = t;   /* the run begins with its gates as they would have been */
            pulse_look_ahead(p);
        } else if (p->sampling == AT_ONCE || p->carrier == LEVEL) {
            double duty = pulse_duty(p, u);
            if (duty != p->duty) { p->duty = duty; pulse_compare(p, t); pulse_look_ahead(p); }
        }
    }
}

/* Which gates change at one instant: one or two, by their places in s, or else SEVERAL. */
enum { NO_GATE = 0, SEVERAL = -1 };

static int with_gate(int changed, int gate)
{
    if (gate >= 1 << 14 || changed >= 1 << 15 || changed == SEVERAL) return SEVERAL;
    return changed << 15 | (gate + 1);
}

/* Do what is due at t; returns which gates changed. */
static int pulses_due(pulse_t *all, int n, double t, const double *u, double *s)
{
    int k, j, changed = NO_GATE;
    for (k = 0; k < n; k++) {
        pulse_t *p = all + k;
        int guard = 0;
        if (p->next > t) continue;
        for (; p->change <= t && guard < 8; guard++) {
            if (p->sampling == TWICE && p->share < 0.5 && p->edge > 0.5) {
                p->share = 0.5;
                p->duty = pulse_duty(p, u);
                pulse_logic(p, t, p->duty >= 1);
            } else if (p->edge < 1) {
                p->share = p->edge;
                pulse_logic(p, t, !p->logic);
            } else {
                p->period++;
                p->share = 0;
                if (p->sampling != AT_ONCE) p->duty = pulse_duty(p, u);
                pulse_logic(p, t, p->duty > 0);
            }
            pulse_plan(p);
        }
        for (j = 0; j < 2; j++) {
            int gate = j ? p->lower : p->upper;
            if (p->off_at[j] <= t) {
                p->off_at[j] = INFINITY;
                if (gate >= 0 && s[gate] != 0) { s[gate] = 0; changed = with_gate(changed, gate); }
            }
        }
        for (j = 0; j < 2; j++) {
            int gate = j ? p->lower : p->upper;
            if (p->on_at[j] <= t) {
                p->on_at[j] = INFINITY;
                if (gate >= 0 && s[gate] != 1) { s[gate] = 1; changed = with_gate(changed, gate); }
            }
        }
        pulse_look_ahead(p);
    }
    return changed;
}

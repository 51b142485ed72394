/* The time loop: one shared runtime for every model. It knows states, inputs, modes, guards and ticks, and no
 * domain. Everything it needs comes in through `run_t`; it has no globals, so that runs can share a process.
 *
 * Methods: DOPRI5 (Hairer, Norsett, Wanner: Solving Ordinary Differential Equations I, table II.5.2) and the
 * L-stable RODAS4 (Hairer, Wanner: ... II, section IV.10, coefficients as in the authors' published code).
 */
#include <stdint.h>
#include <time.h>
#include <stdlib.h>
#include <string.h>

typedef void (*guarded_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *dx, double *g);
typedef void (*out_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *y);
typedef void (*jac_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *jac, double *dfdt);
typedef void (*hold_f)(double t, const double *x, const double *u, const double *s, const double *p, const double *h, double *w, double *grad);
typedef void (*hoist_f)(const double *p, const double *s, double *h);
typedef void (*tick_f)(void *ctl, const double *in, double *signals, double *out);

/* fmin and fmax mind not-a-number and are calls to the library; here the plain comparison will do. */
static inline double least(double a, double b) { return a < b ? a : b; }
static inline double most(double a, double b) { return a > b ? a : b; }

/* Built for sizes known beforehand, the loops over states, modes and guards unroll; see `time_loop` in model.py. */
#ifdef PD_NX
#define NX PD_NX
#define N_MODE PD_N_MODE
#define N_GUARD PD_N_GUARD
#define N_INPUT PD_N_INPUT
#else
#define NX (r->nx)
#define N_MODE (r->n_mode)
#define N_GUARD (r->n_guard)
#define N_INPUT (w->nu)
#endif

enum { DONE = 0, STOPPED = 1, RAN_AWAY = 2, STEP_VANISHED = 3, CHATTERS = 4, NO_MEMORY = 5, NOT_FINITE = 6, SHORTED = 7 };
enum { AUTO = 0, EXPLICIT = 1, STIFF = 2, FAST = 3, FIXED = 4 };      /* AUTO and FAST go over to the L-stable method by themselves */

typedef struct {
    int nx, n_command, n_profile, n_guard, n_mode, n_measured, n_signal, n_exit, n_hold, n_hoisted, n_pulse;
    int method, delay, max_rows_log2;
    double t_end, tick, rtol, h_max;
    const double *atol, *p, *x0, *s0;
    out_f rhs; guarded_f guarded; out_f measure; jac_f jac; hold_f hold; hoist_f hoist;
    tick_f controller;
    void *ctl;
    const int *profile_count;      /* corners of each profile */
    const double *profile_times, *profile_values;
    const int *exit_mode, *exit_from, *exit_to;   /* one per guard */
    const int *hold_mode;          /* mode whose 0 forces hold k to zero */
    const int *hold_rests;         /* whether mode 0 keeps hold k at zero */
    pulse_t *pulses;
    volatile int *stop;
    volatile double *progress;
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
    const int *short_tests;             /* four numbers each: up to three modes (or -1), and whether all of them are needed */
    double *short_since;                /* s, for each set: since when it conducts, or infinite */
    double short_limit;
    void (*condense)(const double *rows, long n_rows);   /* takes rows that will be thinned, each once, or is none */
} run_t;

/* A slot that held a certain set of modes; it may hold another by now, which `filled` tells. */
typedef struct { int slot; long filled; } hint_t;

/* What is known of a set of modes. */
typedef struct {
    long filled;                   /* number of its filling, from 1; 0 while it is empty */
    double *s, *hoisted, *inverse; /* inverse: of I - h J for the full fixed step */
    double radius;                 /* spectral radius, 1/s; 0 where it is not asked for */
    int *active, n_active;         /* the guards that end one of its modes */
    int shorted;                   /* whether devices that must not do so conduct together */
    hint_t follows[2], settles;    /* the sets that followed of late; the one in which it settled when a gate had led to it */
    int by[2];                     /* the gates whose change led to those that followed, or SEVERAL */
    int settling;                  /* modes that changed on that way */
} set_t;

typedef struct {
    run_t *r;
    int nu, width, n_slots;
    long room;                     /* number of rows from which on `make_room` must be asked */
    double t, h;
    double radius_num, radius_den; /* squares of the estimated spectral radius, 1/s, as a fraction */
    double usual;                  /* s: how long steps are of late; a burst of events shortens it slowly only */
    double *x, *u, *s, *k[8], *xn, *xt, *g, *g_new, *pending, *signals, *measured, *jac, *lu, *dfdt, *w, *grad, *err, *peak, *slope_low, *slope_high, *before, *zeroed, *leak;
    int *pivots, *segment;
    unsigned char *ended;          /* by mode: whether the current that holds it ended just now */
    int stiff, stiff_signs, calm_signs;
    int order;                     /* of the explicit step: 5, or 3 or 2 from edge to edge; see choose_order */
    double reach[4];               /* s, by order: the longest step for which it is exact enough */
    int unproven;                  /* second-order steps since the last whose error was seen */
    double proven, proven_h, *weight;   /* curvature of that and its step, and the scales it was measured by */
    double event_time;
    int chatter;
    set_t *sets, *set;             /* all that are known, in the order in which they were met, and the present one */
    int n_sets, *places;           /* places: by the modes' hash, WAYS for each, one more than the set's number; 0 while empty */
    double *slots, *block;         /* what they point to; all other numbers */
    int *guard_lists;
    long fillings;
    double short_due;              /* the earliest time at which devices have conducted together for too long */
    int pending_row;               /* the latest fixed step stands behind the last row, not yet counted */
    int entered;                   /* the modes changed since the last step: judge stiffness anew */
} work_t;

/* Of a state's peak: how far what is left out of a record of fixed steps may lie from the line between its rows. */
static const double STRAIGHT = 1e-5;
enum { WAYS = 4, LEAST_SLOTS = 512, MOST_SLOTS = 8192 };
/* Bytes that places for sets of modes may take; those that stay empty take none. */
static const double SLOT_BYTES = 64e6;
/* The fast option sees the error of its midpoint rule at every step after so many. */
enum { PROOF = 31 };
/* Explicit steps beyond this multiple of 1 / (spectral radius) cost more than one L-stable step. */
static const double STIFF_FROM = 6.0;
/* Instants closer than this are one: a tick and a pulse edge that differ by rounding only. */
static double same_time(double t) { return 1e-13 + 4e-15 * fabs(t); }

static void derivatives(work_t *w, double t, const double *x, double *dx, double *g)
{
    run_t *r = w->r;
    r->evaluations++;
    if (g) r->guarded(t, x, w->u, w->s, r->p, w->set->hoisted, dx, g);
    else r->rhs(t, x, w->u, w->s, r->p, w->set->hoisted, dx);
}

static int grow(double **rows, long *cap, long need, int width, int log2_limit)
{
    if (need > *cap) {
        long cap_new = *cap ? *cap * 2 : need + 4096;
        double *more;
        while (cap_new < need) cap_new *= 2;
        if ((double)cap_new * width * sizeof(double) > ldexp(1.0, log2_limit)) return 0;
        more = realloc(*rows, (size_t)cap_new * (size_t)width * sizeof(double));
        if (!more) return 0;
        *rows = more;
        *cap = cap_new;
    }
    return 1;
}

/* The record is full: of what lies behind, keep one row for each stretch of time, at a tick where there are ticks,
 * so that pulsed currents are kept at one phase of the carrier. What comes is kept in full again. */
static void thin(work_t *w)
{
    run_t *r = w->r;
    double stretch = r->thinned_to > 0 ? r->thinned_to : r->n_signal ? r->tick : 4 * w->t / (double)r->row_limit;
    long k, kept, fresh = 0;
    /* A fixed step that waits belongs to the record now; what is left behind must not be taken for it. */
    r->n_rows += w->pending_row;
    w->pending_row = 0;
    while (fresh < r->n_rows && r->thinned_to > 0 && r->rows[fresh * w->width] <= r->thinned_until) fresh++;
    if (r->condense) r->condense(r->rows + fresh * w->width, r->n_rows - fresh);
    for (;; stretch *= 2) {
        double last = -1;
        for (k = kept = 0; k < r->n_rows; k++) {
            double place = floor(r->rows[k * w->width] / stretch + 1e-6);
            if (place > last) { last = place; kept++; }
        }
        if (kept <= r->row_limit / 4 || stretch > w->t) break;
    }
    {
        double last = -1;
        for (k = kept = 0; k < r->n_rows; k++) {
            double place = floor(r->rows[k * w->width] / stretch + 1e-6);
            if (!(place > last) && k + 1 < r->n_rows) continue;   /* the last row is where the record goes on */
            last = place;
            memmove(r->rows + kept++ * w->width, r->rows + k * w->width, sizeof(double) * (size_t)w->width);
        }
    }
    r->n_rows = kept;
    r->thinned_to = stretch;
    r->thinned_until = r->rows[(kept - 1) * w->width];
}

static int make_room(work_t *w, long rows)
{
    run_t *r = w->r;
    if (r->n_rows >= r->row_limit) thin(w);
    if (grow(&r->rows, &r->cap_rows, r->n_rows + rows, w->width, r->max_rows_log2)) {
        w->room = r->cap_rows < r->row_limit ? r->cap_rows : r->row_limit;
        return 1;
    }
    r->outcome = NO_MEMORY;
    return 0;
}

static void write_row(work_t *w, double *row)
{
    run_t *r = w->r;
    (void)r;
    row[0] = w->t;
    memcpy(row + 1, w->x, sizeof(double) * (size_t)NX);
    memcpy(row + 1 + NX, w->u, sizeof(double) * (size_t)N_INPUT);
    memcpy(row + 1 + NX + N_INPUT, w->s, sizeof(double) * (size_t)N_MODE);
}

static int record(work_t *w)
{
    run_t *r = w->r;
    r->n_rows += w->pending_row;
    w->pending_row = 0;
    if (r->n_rows >= w->room && !make_room(w, 1)) return 0;
    write_row(w, r->rows + r->n_rows++ * w->width);
    return 1;
}

/* Narrow the slopes that chords from the row `base` may have so that each row on the way stays within its tolerance of them;
 * tell whether the chord to now is one of these. A wedge that begins is as wide as the first row leaves it. */
static int within_wedge(work_t *w, const double *base, int begins)
{
    run_t *r = w->r;
    double per_time = 1 / (w->t - base[0]);
    int i, straight = 1;
    (void)r;
    for (i = 0; i < NX; i++) {
        double slope = (w->x[i] - base[i + 1]) * per_time, room = STRAIGHT * w->peak[i] * per_time;
        straight &= begins || (slope >= w->slope_low[i] && slope <= w->slope_high[i]);
        w->slope_low[i] = begins ? slope - room : most(w->slope_low[i], slope - room);
        w->slope_high[i] = begins ? slope + room : least(w->slope_high[i], slope + room);
    }
    return straight;
}

static int jumped_since(work_t *w, const double *row)
{
    run_t *r = w->r;
    const double *u = row + 1 + NX, *s = u + N_INPUT;
    int k, jumped = 0;
    (void)r;
    for (k = 0; k < N_INPUT; k++) jumped |= u[k] != w->u[k];
    for (k = 0; k < N_MODE; k++) jumped |= s[k] != w->s[k];
    return jumped;
}

/* Of fixed steps, a million a second, only those are kept between which no state leaves a straight line. The latest waits
 * behind the last row until the next shows whether it is a bend. */
static int record_bends(work_t *w)
{
    run_t *r = w->r;
    double *base, *waiting;
    if (!make_room(w, 2)) return 0;
    base = r->rows + (r->n_rows - 1) * w->width;
    waiting = base + w->width;
    if (!w->pending_row) {
        within_wedge(w, base, 1);
        w->pending_row = 1;
    } else if (!within_wedge(w, base, 0) || jumped_since(w, base)) {
        r->n_rows++;
        within_wedge(w, waiting, 1);
        waiting += w->width;
    }
    write_row(w, waiting);
    return 1;
}

/* Set offset and slope of each profile for the stretch that begins at t; return the time of the next corner. */
static double enter_stretch(work_t *w)
{
    run_t *r = w->r;
    double next = INFINITY;
    int k, at = 0;
    for (k = 0; k < r->n_profile; k++) {
        const double *times = r->profile_times + at, *values = r->profile_values + at;
        int n = r->profile_count[k], j = w->segment[k];
        double slope = 0, offset;
        while (j < n && times[j] <= w->t) j++;
        w->segment[k] = j;
        if (n == 0) offset = 0;
        else if (j == 0) offset = values[0];
        else if (j == n) offset = values[n - 1];
        else {
            slope = (values[j] - values[j - 1]) / (times[j] - times[j - 1]);
            offset = values[j - 1] - slope * times[j - 1];
        }
        if (j < n && times[j] < next) next = times[j];
        w->u[r->n_command + k] = offset;
        w->u[r->n_command + r->n_profile + k] = slope;
        at += n;
    }
    return next;
}

/* Error over tolerance. A state near zero is measured against a thousandth of its peak: below that, what is left of a
 * current in a blocking device is rounding, and asking more of it would stop the run. */
static inline double tolerated(const work_t *w, int i, double x_new)
{
    const run_t *r = w->r;
    return r->atol[i] + r->rtol * most(1e-3 * w->peak[i], most(fabs(w->x[i]), fabs(x_new)));
}

static double error_norm(work_t *w, const double *x_new, const double *err)
{
    run_t *r = w->r;
    double sum = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double e = err[i] / tolerated(w, i, x_new[i]);
        sum += e * e;
    }
    return NX ? sqrt(sum / NX) : 0;
}

/* One DOPRI5 step of size h from w->x with w->k[0] known; result in xn, derivative there in k[6], guards in g_new. */
static double step_explicit(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    const double *k1 = w->k[0];
    double *k2 = w->k[1], *k3 = w->k[2], *k4 = w->k[3], *k5 = w->k[4], *k6 = w->k[5], *k7 = w->k[6];
    const double *x = w->x;
    double *y = w->xt, *xn = w->xn, num = 0, den = 0, t = w->t;
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (1.0 / 5 * k1[i]);
    derivatives(w, t + 0.2 * h, y, k2, 0);
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (3.0 / 40 * k1[i] + 9.0 / 40 * k2[i]);
    derivatives(w, t + 0.3 * h, y, k3, 0);
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (44.0 / 45 * k1[i] - 56.0 / 15 * k2[i] + 32.0 / 9 * k3[i]);
    derivatives(w, t + 0.8 * h, y, k4, 0);
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (19372.0 / 6561 * k1[i] - 25360.0 / 2187 * k2[i] + 64448.0 / 6561 * k3[i] - 212.0 / 729 * k4[i]);
    derivatives(w, t + 8.0 / 9 * h, y, k5, 0);
    for (i = 0; i < nx; i++) y[i] = x[i] + h * (9017.0 / 3168 * k1[i] - 355.0 / 33 * k2[i] + 46732.0 / 5247 * k3[i] + 49.0 / 176 * k4[i] - 5103.0 / 18656 * k5[i]);
    derivatives(w, t + h, y, k6, 0);
    for (i = 0; i < nx; i++) xn[i] = x[i] + h * (35.0 / 384 * k1[i] + 500.0 / 1113 * k3[i] + 125.0 / 192 * k4[i] - 2187.0 / 6784 * k5[i] + 11.0 / 84 * k6[i]);
    derivatives(w, t + h, xn, k7, w->g_new);
    for (i = 0; i < nx; i++) {
        double dk = k7[i] - k6[i], dx = xn[i] - y[i];
        w->err[i] = h * (71.0 / 57600 * k1[i] - 71.0 / 16695 * k3[i] + 71.0 / 1920 * k4[i] - 17253.0 / 339200 * k5[i] + 22.0 / 525 * k6[i] - 1.0 / 40 * k7[i]);
        num += dk * dk;
        den += dx * dx;
    }
    w->radius_num = num;
    w->radius_den = den;
    return error_norm(w, xn, w->err);
}

/* How far the slope changes within a step, over the tolerance, squared; with the scales of the last third-order step. */
static double curvature(const work_t *w, double h)
{
    run_t *r = w->r;
    double sum = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double change = h * (w->k[1][i] - w->k[0][i]) * w->weight[i];
        sum += change * change;
    }
    return sum;
}

/* One step of Kutta's third-order method (Hairer, Norsett, Wanner I, table II.1.1), compared with the midpoint rule inside it.
 * Its last stage lies at the end, off the result by less than this error, so that the guards there tell whether the step
 * crosses one; the derivative at the end is left to whoever needs it (`finish`). */
static double step_third(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    const double *k1 = w->k[0], *x = w->x;
    double *k2 = w->k[1], *k3 = w->k[2], *y = w->xt, *xn = w->xn, num = 0, den = 0, sum = 0, curved = 0, t = w->t;
    for (i = 0; i < nx; i++) y[i] = x[i] + h * 0.5 * k1[i];
    derivatives(w, t + 0.5 * h, y, k2, 0);
    for (i = 0; i < nx; i++) xn[i] = x[i] + h * (2 * k2[i] - k1[i]);
    derivatives(w, t + h, xn, k3, N_GUARD ? w->g_new : 0);
    for (i = 0; i < nx; i++) {
        double bend = k2[i] - k1[i], dk = k3[i] - k2[i], dx = xn[i] - y[i], err = h / 6 * (dk - bend);
        double to = x[i] + h * k2[i] + err, weight = 1 / tolerated(w, i, to), e = err * weight, curve = h * bend * weight;
        xn[i] = to;
        w->err[i] = err;
        w->weight[i] = weight;
        sum += e * e;
        curved += curve * curve;
        num += dk * dk;
        den += dx * dx;
    }
    w->radius_num = num;
    w->radius_den = den;
    w->proven = curved;
    w->proven_h = h;
    /* Its own error is smaller than that of the midpoint rule as that is smaller than Euler's. */
    return (sum < 0.0025 * curved ? 0.5 : 1) * (nx ? sqrt(sum / nx) : 0);
}

enum { UNLIKE = -1 };

/* One step of the midpoint rule, which tells no error of its own: it goes no further than third-order steps, taken now and then,
 * have found it exact (`reach`), and what it finds must be as curved as those were. Where it is not, as after a jump of
 * an input, that is UNLIKE what was proven, unless its error, the fastest rate times the curvature over three, stays
 * within a fifth of the tolerance all the same. Its guards are those in the middle; see `may_cross`. */
static double step_second(work_t *w, double h)
{
    run_t *r = w->r;
    int i, nx = NX;
    double *k2 = w->k[1], *y = w->xt, share, fast, curved;
    for (i = 0; i < nx; i++) y[i] = w->x[i] + h * 0.5 * w->k[0][i];
    derivatives(w, w->t + 0.5 * h, y, k2, N_GUARD ? w->g_new : 0);
    for (i = 0; i < nx; i++) w->xn[i] = w->x[i] + h * k2[i];
    share = h / w->proven_h * (h / w->proven_h);
    fast = h * w->set->radius;
    curved = curvature(w, h);
    return curved <= 4 * w->proven * share * share || fast * fast * curved <= 0.36 * nx ? 0 : UNLIKE;
}

static int factorise(double *a, int *pivots, int n)
{
    int i, j, k;
    for (k = 0; k < n; k++) {
        int best = k;
        for (i = k + 1; i < n; i++) if (fabs(a[i * n + k]) > fabs(a[best * n + k])) best = i;
        pivots[k] = best;
        if (a[best * n + k] == 0) return 0;
        if (best != k) for (j = 0; j < n; j++) { double z = a[k * n + j]; a[k * n + j] = a[best * n + j]; a[best * n + j] = z; }
        for (i = k + 1; i < n; i++) {
            double f = a[i * n + k] /= a[k * n + k];
            if (f != 0) for (j = k + 1; j < n; j++) a[i * n + j] -= f * a[k * n + j];
        }
    }
    return 1;
}

static void solve(const double *a, const int *pivots, int n, double *b)
{
    int i, j;
    for (i = 0; i < n; i++) { double z = b[pivots[i]]; b[pivots[i]] = b[i]; b[i] = z; }
    for (i = 1; i < n; i++) for (j = 0; j < i; j++) b[i] -= a[i * n + j] * b[j];
    for (i = n - 1; i >= 0; i--) {
        for (j = i + 1; j < n; j++) b[i] -= a[i * n + j] * b[j];
        b[i] /= a[i * n + i];
    }
}

/* One RODAS4 step: result in xn, error in err. Returns 0 where its matrix is singular. */
static int rodas(work_t *w, double h)
{
    static const double gamma = 0.25;
    static const double alpha[6] = {0, 0.386, 0.21, 0.63, 1, 1};
    static const double d[6] = {0.25, -0.1043, 0.1035, -0.0362, 0, 0};
    static const double a[6][5] = {
        {0}, {1.544},
        {0.9466785280815826, 0.2557011698983284},
        {3.314825187068521, 2.896124015972201, 0.9986419139977817},
        {1.221224509226641, 6.019134481288629, 12.53708332932087, -0.6878860361058950},
        {1.221224509226641, 6.019134481288629, 12.53708332932087, -0.6878860361058950, 1}};
    static const double c[6][5] = {
        {0}, {-5.6688},
        {-2.430093356833875, -0.2063599157091915},
        {-0.1073529058151375, -9.594562251023355, -20.47028614809616},
        {7.496443313967647, -10.24680431464352, -33.99990352819905, 11.70890893206160},
        {8.083246795921522, -7.981132988064893, -31.52159432874371, 16.31930543123136, -6.058818238834054}};
    run_t *r = w->r;
    int n = NX, i, j, m;
    double radius = 0;
    double *f0 = w->k[0];
    r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
    for (i = 0; i < n; i++) {
        double row = 0;
        for (j = 0; j < n; j++) {
            row += fabs(w->jac[i + j * n]);
            w->lu[i * n + j] = (i == j ? 1 / (h * gamma) : 0) - w->jac[i + j * n];
        }
        radius = most(radius, row);
    }
    w->radius_num = radius * radius;
    w->radius_den = 1;
    if (!factorise(w->lu, w->pivots, n)) return 0;
    for (m = 0; m < 6; m++) {
        double *k = w->k[m + 1];
        const double *f = f0;
        if (m > 0) {
            for (i = 0; i < n; i++) {
                double sum = 0;
                for (j = 0; j < m; j++) sum += a[m][j] * w->k[j + 1][i];
                w->xt[i] = w->x[i] + sum;
            }
            derivatives(w, w->t + alpha[m] * h, w->xt, w->err, 0);
            f = w->err;
        }
        for (i = 0; i < n; i++) {
            double sum = 0;
            for (j = 0; j < m; j++) sum += c[m][j] * w->k[j + 1][i];
            k[i] = f[i] + sum / h + h * d[m] * w->dfdt[i];
        }
        solve(w->lu, w->pivots, n, k);
    }
    for (i = 0; i < n; i++) { w->xn[i] = w->xt[i] + w->k[6][i]; w->err[i] = w->k[6][i]; }
    return 1;
}

/* One RODAS4 step; same contract as step_explicit. */
static double step_stiff(work_t *w, double h)
{
    double error;
    if (!rodas(w, h)) return 1e9;
    error = error_norm(w, w->xn, w->err);
    derivatives(w, w->t + h, w->xn, w->k[7], w->g_new);
    return error;
}

static double attempt(work_t *w, double h)
{
    if (w->stiff) return step_stiff(w, h);
    return w->order == 2 ? step_second(w, h) : w->order == 3 ? step_third(w, h) : step_explicit(w, h);
}

static double *end_derivative(work_t *w) { return w->stiff ? w->k[7] : w->k[6]; }

/* The derivative and the guards at the end of an accepted step, where its method left them out. */
static void finish(work_t *w, double h)
{
    if (!w->stiff && w->order < 5) derivatives(w, w->t + h, w->xn, w->k[6], w->g_new);
}

/* Between two edges of pulses, and often between two ticks, a step of low order is exact enough, for half the evaluations
 * or fewer. One of third order is taken where the error of the midpoint rule, seen on the stretches before, stays within
 * the tolerance; its own is far smaller. The fast option takes it always, and in its place the midpoint rule where a third-order step
 * has found that exact enough not long ago and nothing the modes allow is faster. */
static void choose_order(work_t *w, double left)
{
    int method = w->r->method;
    w->order = 5;
    if (method == FAST) w->order = left <= w->reach[2] && w->unproven < PROOF && w->set->radius > 0 && left * w->set->radius < 1 ? 2 : 3;
    else if (method == AUTO && !w->stiff && left <= w->reach[3]) w->order = 3;
    w->unproven = w->order == 2 ? w->unproven + 1 : 0;
}

/* How far steps of low order would go next time, after one of size h with this error. */
static void judge_order(work_t *w, double h, double error)
{
    if (w->order == 2) return;
    if (w->r->method == FAST) {
        double proven = h * (error > 0 ? least(20, cbrt(0.2 / error)) : 20);
        w->reach[2] = error < 0.05 ? most(w->reach[2], proven) : proven;   /* a short stretch proves nothing of longer ones */
        return;
    }
    if (w->order == 5) { if (w->reach[3] < h) w->reach[3] *= 1.01; return; }
    if (error > 0.8) w->reach[3] = h * most(0.2, 0.9 * cbrt(0.8 / error));
    else if (w->reach[3] < 2 * h) w->reach[3] = error < 0.1 ? 2 * h : h;
}

/* Exponent of the error in the choice of the next step: minus one over the order of the error estimate. */
static double exponent(const work_t *w) { return w->stiff ? -0.25 : w->order == 3 ? -1.0 / 3 : -0.2; }

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

/* Whether a step may end beyond a guard: those at its end tell, or are extrapolated where they were taken in the middle. */
static int may_cross(const work_t *w)
{
    const set_t *set = w->set;
    const int *k = set->active, *end = k + set->n_active;
    if (w->stiff || w->order != 2) return some_above(set, w->g_new);
    for (; k < end; k++) if (2 * w->g_new[*k] > w->g[*k]) return 1;
    return 0;
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
    double *v = w->xt, *z = w->err, growth = 1;
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
    return N_MODE + r->n_hoisted + (r->method == FIXED ? NX * NX + 1 : 0);
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

/* The present modes are not among those that followed of late. Where all places for them are taken, the last is given up. */
static set_t *look_up(work_t *w)
{
    run_t *r = w->r;
    int *place = w->places + hash_modes(w->s, N_MODE) % (uint32_t)(w->n_slots / WAYS) * WAYS, way, slot, k;
    set_t *set;
    for (way = 0; way < WAYS && place[way]; way++)
        if (same_modes(r, w->sets[place[way] - 1].s, w->s)) return w->sets + place[way] - 1;
    if (way < WAYS) place[way] = ++w->n_sets;
    slot = place[way < WAYS ? way : WAYS - 1] - 1;
    set = w->sets + slot;
    memset(set, 0, sizeof *set);
    set->filled = ++w->fillings;
    set->s = w->slots + (size_t)slot * (size_t)slot_width(r);
    set->hoisted = set->s + N_MODE;
    set->inverse = set->hoisted + r->n_hoisted;
    memcpy(set->s, w->s, sizeof(double) * (size_t)N_MODE);
    memset(set->hoisted, 0, sizeof(double) * (size_t)r->n_hoisted);   /* the last are where the model's loops were solved last */
    r->hoist(r->p, w->s, set->hoisted);
    if (r->method == FIXED) set->inverse[0] = 0.0 / 0.0;
    set->active = w->guard_lists + (size_t)slot * (size_t)N_GUARD;
    for (k = 0; k < N_GUARD; k++) if (w->s[r->exit_mode[k]] == r->exit_from[k]) set->active[set->n_active++] = k;
    for (k = 0; k < r->n_short; k++) set->shorted |= all_conduct(r, w->s, k);
    w->set = set;
    if ((r->method == AUTO || r->method == FAST) && N_MODE) set->radius = spectral_radius(w);
    return set;
}

/* The modes changed: what depends only on them is found, or computed once and kept. ``changed`` tells by which gates alone they
 * did, or SEVERAL; as a change turns a gate over, the same change of the same set leads to the same set. */
static void enter_modes(work_t *w, int changed)
{
    set_t *before = w->set, *found = 0;
    int k;
    for (k = 0; k < 2 && before && !found; k++) {
        found = hinted(w, before->follows[k]);
        if (found && (changed == SEVERAL || changed != before->by[k]) && !same_modes(w->r, found->s, w->s)) found = 0;
    }
    if (!found) {
        long filled = before ? before->filled : 0;
        found = look_up(w);
        if (before && before->filled == filled) {
            before->follows[1] = before->follows[0];
            before->by[1] = before->by[0];
            before->follows[0] = hint_of(w, found);
            before->by[0] = changed;
        }
    }
    w->set = found;
    watch_shorts(w);
    w->entered = 1;
}

static void refresh(work_t *w)
{
    derivatives(w, w->t, w->x, w->k[0], w->g);
}

/* Where a mode ends with something exactly zero, such as a stuck speed or a diode's current, make it so. */
static void put_to_zero(work_t *w, int mode)
{
    run_t *r = w->r;
    int i, j, nx = NX;
    r->hold(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->w, w->grad);
    for (i = 0; i < r->n_hold; i++) if (r->hold_mode[i] == mode) {
        double norm = 0;
        for (j = 0; j < nx; j++) norm += w->grad[i + j * r->n_hold] * w->grad[i + j * r->n_hold];
        if (norm > 0) for (j = 0; j < nx; j++) w->x[j] -= w->w[i] * w->grad[i + j * r->n_hold] / norm;
    }
}

/* One linearly implicit Euler step (order 1, L-stable): x += (I - h J)^-1 h f(t, x), with f in w->k[0]. For the full step, and where
 * the Jacobian is steady, the inverse is kept with the modes. */
static int step_fixed(work_t *w, double h, int full)
{
    run_t *r = w->r;
    int n = NX, i, j;
    if (!(full && r->steady_jacobian && w->set->inverse[0] == w->set->inverse[0])) {
        r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
        for (i = 0; i < n; i++) for (j = 0; j < n; j++) w->lu[i * n + j] = (i == j) - h * w->jac[i + j * n];
        if (!factorise(w->lu, w->pivots, n)) return 0;
        if (full && r->steady_jacobian)
            for (j = 0; j < n; j++) {
                for (i = 0; i < n; i++) w->err[i] = i == j;
                solve(w->lu, w->pivots, n, w->err);
                for (i = 0; i < n; i++) w->set->inverse[i * n + j] = w->err[i];
            }
        for (i = 0; i < n; i++) w->err[i] = h * w->k[0][i];
        solve(w->lu, w->pivots, n, w->err);
    } else {
        for (i = 0; i < n; i++) {
            w->err[i] = 0;
            for (j = 0; j < n; j++) w->err[i] += w->set->inverse[i * n + j] * h * w->k[0][j];
        }
    }
    for (i = 0; i < n; i++) w->xn[i] = w->x[i] + w->err[i];
    return 1;
}

/* A device that just stopped conducting leaves its current to a leak, whose voltage settles within nanoseconds. Its guards mean
 * nothing until then: rounding of the current times the blocking resistance could start it again, and so on for ever. So look
 * at the state in which the leak has settled, three implicit Euler steps on, and at the guards there. The state is left in w->x;
 * returns the time that takes (s), or 0 where nothing is as fast as a leak. */
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

/* What a mode ends with at exactly zero: nothing, a device's current, or something that is kept there, as dry friction keeps a speed. */
enum held { NOTHING, CURRENT, RESTING };

static enum held held_by(const run_t *r, int mode)
{
    int k;
    for (k = 0; k < r->n_hold; k++) if (r->hold_mode[k] == mode) return r->hold_rests[k] ? RESTING : CURRENT;
    return NOTHING;
}

static void change_mode(work_t *w, int guard)
{
    run_t *r = w->r;
    w->s[r->exit_mode[guard]] = r->exit_to[guard];
    r->events++;
    enter_modes(w, SEVERAL);
}

/* The guard by which a mode changes next, or -1. The most violated first needs the fewest changes. Where that goes round in circles
 * the first of all violated ones ends it: for devices in a network of conductances, of which each either opens or closes
 * (a linear complementarity problem with a P-matrix), that rule never meets a set twice. Murty: Note on a Bard-type scheme for
 * solving the complementarity problem, Opsearch 11 (1974) 123. */
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

/* Put a conducting device's current to zero as its leak would, were it blocked: what blocking changes of the derivatives is what
 * the leak drives, so the currents of its circuit move as their inductances divide them, and an angle or a speed does not move.
 * The least change of the state in its units would turn a rotor by a tenth of a milliradian to spare an ampere. */
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
    refresh(w);
    r->hold(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->w, w->grad);
    for (i = 0; i < r->n_hold; i++) if (r->hold_mode[i] == mode) {
        double rate = 0;
        for (j = 0; j < nx; j++) rate += w->grad[i + j * r->n_hold] * w->leak[j];
        if (rate == 0) { put_to_zero(w, mode); return; }   /* no inductance has this current */
        for (j = 0; j < nx; j++) w->x[j] -= w->w[i] / rate * w->leak[j];
    }
}

/* A device that has just begun to conduct, for its voltage, and whose current would go backwards: what leaks elsewhere has changed
 * with its voltage, or is rounding. In a network of conductances both cannot be, so the current is put to zero, if that changes no
 * state by more than the limit, over what a step may err. */
static void forbid_backwards(work_t *w, int mode, double limit)
{
    run_t *r = w->r;
    int i, j, nx = NX;
    for (j = 0; j < w->set->n_active; j++) {
        int k = w->set->active[j];
        if (r->exit_mode[k] == mode && r->exit_to[k] == 0 && w->g[k] > 0) break;
    }
    if (j == w->set->n_active) return;
    memcpy(w->xn, w->x, sizeof(double) * (size_t)nx);
    let_leak_take(w, mode);
    for (i = 0; i < nx; i++)
        if (fabs(w->x[i] - w->xn[i]) > limit * (r->atol[i] + (r->rtol + UNNOTICED) * most(w->peak[i], fabs(w->xn[i])))) {
            memcpy(w->x, w->xn, sizeof(double) * (size_t)nx);
            break;
        }
    refresh(w);
}

static void begin_to_conduct(work_t *w, int guard)
{
    change_mode(w, guard);
    refresh(w);
    forbid_backwards(w, w->r->exit_mode[guard], INFINITY);   /* it follows another whose current was zero */
}

/* A device ended with its current. Where with the leak settled no guard is above zero, it stays so, and the time of settling counts.
 * Where another device must conduct, it takes over at this very instant, with what there is of the current; ``before`` is the state
 * before that was put to zero. Returns the guard by which the other takes over, or -1. */
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

/* A device took over from another: what of the other's current leaks settles within nanoseconds, in the modes that hold now. Where
 * nothing changes by it, it is behind and both of its ends are recorded; else the next step, a thousand times as long, would look as
 * if it went there all its time. */
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
    } else {
        memcpy(w->x, w->zeroed, bytes);
    }
    refresh(w);
}

/* At one instant: change modes until no guard of the present modes is above zero.
 * ``located`` tells that a step was ended at the crossing; only then is a current that crossed zero put exactly there, as else it
 * may have to go on elsewhere. A speed does not jump: what is beyond zero, at any time, is what a step may err. */
static int settle_modes(work_t *w, int located, double t_next)
{
    run_t *r = w->r;
    set_t *begun = w->set;
    long filled = begun->filled;
    int round, k = 0, mode, remember = !located, taken = 0;
    enum held held;
    for (round = 0; round < 6 * (N_GUARD + 1); round++) {
        k = next_change(w, round);
        if (k < 0) {
            if (remember && begun->filled == filled) { begun->settles = hint_of(w, w->set); begun->settling = round; }
            if (taken) settle_after(w, t_next);
            return 1;
        }
        mode = r->exit_mode[k];
        held = held_by(r, mode);
        memcpy(w->before, w->x, sizeof(double) * (size_t)NX);
        if (r->exit_to[k] == 0 && (held == RESTING || (located && round == 0))) put_to_zero(w, mode);
        remember &= held == CURRENT;
        change_mode(w, k);
        if (located && r->exit_to[k] == 0) {
            int taker = take_over(w, mode, w->before, t_next);
            if (taker >= 0) { begin_to_conduct(w, taker); taken = 1; continue; }
        }
        refresh(w);
        if (held == CURRENT && r->exit_to[k] != 0) forbid_backwards(w, mode, 1);
    }
    r->culprit = k < 0 ? 0 : r->exit_mode[k];
    return 0;
}

/* Derivatives and guards where gates may have just been changed, and what the modes settle in. The set in which these modes settled
 * before is tried first. If none of its guards is above zero it is a solution; the devices in which it differs have conductances
 * above zero, so there is no other by which way ever it is reached. Other modes may hold in two sets at one instant: a friction
 * sticks or slides at one force, a limit has its hysteresis. What led through such a mode is not remembered. */
static int settle_at_edge(work_t *w, int gates)
{
    run_t *r = w->r;
    set_t *begun = w->set, *known = gates ? hinted(w, begun->settles) : 0;
    if (r->method == FIXED && !gates && r->n_rows > 0) { refresh(w); return 1; }   /* the next step will see to it */
    if (known && known != begun) {
        memcpy(w->s, known->s, sizeof(double) * (size_t)N_MODE);
        w->set = known;
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
    if (known) begun->settles = hint_of(w, begun);   /* where they led last time no longer holds */
    return 1;
}

/* Level of the guard that is crossed: the worst above zero, else that of the one last seen above (``k``). */
static double crossing(work_t *w, int *k)
{
    int found = worst(w, w->g_new);
    if (found >= 0) *k = found;
    return w->g_new[*k];
}

/* Place between low and high by regula falsi; where one end stays, its level is halved (Illinois). */
typedef struct { double low, high, g_low, g_high; int side; } bracket_t;

static double next_place(const bracket_t *k, int round)
{
    double at = k->low - k->g_low * (k->high - k->low) / (k->g_high - k->g_low);
    if (!(at > k->low && at < k->high) || round % 4 == 3) at = 0.5 * (k->low + k->high);
    return at;
}

static void narrow(bracket_t *k, double at, double level)
{
    if (level > 0) {
        k->high = at; k->g_high = level;
        if (k->side > 0) k->g_low *= 0.5;
        k->side = 1;
    } else {
        k->low = at; k->g_low = level < 0 ? level : -1e-300;
        if (k->side < 0) k->g_high *= 0.5;
        k->side = -1;
    }
}

/* The step of size h crossed a guard: shrink it until it ends just past the crossing. A cubic through both ends finds
 * the place for one evaluation a round; a true step to there confirms it, and where it does not, true steps search on. */
static double locate(work_t *w, double h)
{
    run_t *r = w->r;
    int n = NX, i, round;
    double *x1 = w->jac, *f1 = w->jac + n, *f0 = w->lu, span, level;
    int guard = 0;
    bracket_t k = {0, h, 0, 0, 0};
    finish(w, h);
    k.g_high = crossing(w, &guard);
    k.g_low = least(w->g[guard], -1e-300);
    span = k.g_high - k.g_low;
    memcpy(x1, w->xn, sizeof(double) * (size_t)n);
    memcpy(f1, end_derivative(w), sizeof(double) * (size_t)n);
    memcpy(f0, w->k[0], sizeof(double) * (size_t)n);
    for (round = 0; round < 40 && k.high - k.low > 1e-9 * h; round++) {
        double at = next_place(&k, round), q = at / h, a, b, c, d;
        a = (1 + 2 * q) * (1 - q) * (1 - q); b = q * (1 - q) * (1 - q) * h;
        c = q * q * (3 - 2 * q); d = q * q * (q - 1) * h;
        for (i = 0; i < n; i++) w->xt[i] = a * w->x[i] + b * f0[i] + c * x1[i] + d * f1[i];
        derivatives(w, w->t + at, w->xt, w->err, w->g_new);
        level = crossing(w, &guard);
        narrow(&k, at, level);
        if (level > 0 && level < 1e-6 * span) break;
    }
    for (round = 0; round < 3; round++) {
        attempt(w, k.high);
        finish(w, k.high);
        level = crossing(w, &guard);
        if (level > 0 && level < 1e-5 * span) return k.high;
        if (level > 0 || k.high >= h) break;
        k.high = least(h, k.high + 2 * (1e-9 * span - level) / span * h);
    }
    k.low = 0; k.high = h; k.side = 0; k.g_high = span; k.g_low = -1e-3 * span;
    for (round = 0; round < 80 && k.high - k.low > 1e-15 * fabs(w->t) + 1e-10 * h; round++) {
        double at = next_place(&k, round);
        attempt(w, at);
        finish(w, at);
        narrow(&k, at, crossing(w, &guard));
    }
    attempt(w, k.high);
    return k.high;
}

/* Whether an accepted step ends beyond a guard, judged at its very end. */
static int crosses(work_t *w, double h)
{
    finish(w, h);
    return some_above(w->set, w->g_new);
}

static void note_peaks(work_t *w)
{
    run_t *r = w->r;
    int i;
    for (i = 0; i < NX; i++) if (fabs(w->x[i]) > w->peak[i]) w->peak[i] = fabs(w->x[i]);
}

static int finite_state(work_t *w)
{
    run_t *r = w->r;
    int i;
    for (i = 0; i < NX; i++)
        if (!(fabs(w->xn[i]) < 1e15)) { r->culprit = i; return 0; }
    return 1;
}

static void judge_stiffness(work_t *w, double h)
{
    run_t *r = w->r;
    double limit;
    int beyond;
    if (r->method != AUTO && r->method != FAST) return;
    if (w->stiff && w->set->radius > 0) return;   /* the modes' own radius decides when they change */
    if (!w->stiff && w->order == 2) return;
    /* h times the estimated spectral radius: beyond 3.25 the method is limited by stability (Hairer and Wanner II, IV.2) */
    limit = w->stiff ? 1.0 : 3.0;
    beyond = h * h * w->radius_num > limit * limit * w->radius_den;
    if (!w->stiff) {
        w->stiff_signs = beyond ? w->stiff_signs + 1 : (w->stiff_signs > 0 ? w->stiff_signs - 1 : 0);
        if (w->stiff_signs > 12) { w->stiff = 1; w->calm_signs = 0; }
    } else {
        w->calm_signs = beyond ? 0 : w->calm_signs + 1;
        if (w->calm_signs > 30) { w->stiff = 0; w->stiff_signs = 0; }
    }
}

/* Integrate from w->t exactly to t_next. */
static int advance(work_t *w, double t_next)
{
    run_t *r = w->r;
    while (w->t < t_next) {
        double left = t_next - w->t, h = w->h, error, factor;
        int last = 0;
        if (w->entered) {
            w->entered = 0;
            if ((r->method == AUTO || r->method == FAST) && w->set->radius > 0) {
                w->stiff = w->set->radius * least(left, most(w->h, left / 16)) > STIFF_FROM;
                w->stiff_signs = w->calm_signs = 0;
            }
        }
        if (*r->stop) { r->outcome = STOPPED; return 0; }
        if (h > r->h_max) h = r->h_max;
        choose_order(w, left);
        if (h >= left * (1 - 1e-9)) { h = left; last = 1; } else if (h > 0.5 * left) h = 0.5 * left;
        error = attempt(w, h);
        if (error == UNLIKE) {
            w->order = 3;
            w->unproven = 0;
            error = attempt(w, h);
        }
        if (!w->stiff) judge_order(w, h, error);
        if (!(error <= 1.0)) {
            r->rejected++;
            if (error != error) { factor = 0.1; w->r->culprit = 0; } else factor = most(0.1, 0.9 * pow(error, exponent(w)));
            w->h = h * factor;
            if (w->h < 1e-13 * most(1e-6, fabs(w->t))) {
                int i, worst = 0;
                for (i = 1; i < NX; i++) if (fabs(w->err[i]) / (r->atol[i] + r->rtol * fabs(w->x[i])) > fabs(w->err[worst]) / (r->atol[worst] + r->rtol * fabs(w->x[worst]))) worst = i;
                r->outcome = error != error ? NOT_FINITE : STEP_VANISHED;
                r->culprit = worst;
                return 0;
            }
            if (!w->stiff) judge_stiffness(w, h);
            continue;
        }
        if (!finite_state(w)) { r->outcome = RAN_AWAY; return 0; }
        w->usual = h > w->usual ? h : w->usual + 0.01 * (h - w->usual);
        /* A step cut short by a tick says little about the next; far below the tolerance, nothing is reckoned. */
        if (!last || error > 0.1) {
            factor = error > 0 ? least(5.0, most(0.2, 0.9 * pow(error, exponent(w)))) : 5.0;
            if (!last || factor < 1) w->h = h * factor;
        } else if (w->h < 2 * h) w->h = 2 * h;
        if (N_GUARD && may_cross(w) && crosses(w, h)) {
            h = locate(w, h);
            last = 0;
            w->t += h;
            memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
            r->steps++;
            if (!record(w)) return 0;
            refresh(w);
            w->chatter = w->t - w->event_time < 1e-9 ? w->chatter + 1 : 0;
            w->event_time = w->t;
            if (!settle_modes(w, 1, t_next) || w->chatter > 500) { r->outcome = CHATTERS; return 0; }
            if (!record(w)) return 0;
            continue;
        }
        if (!last) {   /* else the driver computes them afresh, with the inputs and modes that hold from there */
            finish(w, h);
            memcpy(w->k[0], end_derivative(w), sizeof(double) * (size_t)NX);
            memcpy(w->g, w->g_new, sizeof(double) * (size_t)N_GUARD);
        }
        w->t = last ? t_next : w->t + h;
        memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
        r->steps++;
        if ((r->steps & 15) == 0) note_peaks(w);
        r->stiff_steps += w->stiff;
        judge_stiffness(w, h);
        /* The end of the stretch is recorded by the driver, with the inputs that hold from there. */
        if (!last && !record(w)) return 0;
    }
    return 1;
}

static double seconds(void)
{
    struct timespec now;
    timespec_get(&now, TIME_UTC);
    return (double)now.tv_sec + 1e-9 * (double)now.tv_nsec;
}

/* Put what is left of a blocked device's current to zero along the path on which its leak would, with the other currents of its
 * circuit: inductances decide how they divide. */
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

/* Fixed steps see a device's current only beyond its zero, by as much as a step moves it. Whether it stays blocked or another device
 * takes over shows after one more step from a current of zero: looked at with what is left of the current, a leak of 1e6 ohm
 * would read as thousands of volts and force any device on. Whoever takes over gets what is left, as it flows its way. */
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

/* Before a fixed step, change every mode whose guard the last one left above zero, once. What they lead to shows after this step;
 * only where a device's current ended is looked further at once. */
static void flip_modes(work_t *w)
{
    run_t *r = w->r;
    int j, k, mode, currents = 0;
    if (!some_above(w->set, w->g)) return;
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

/* Computing time of a batch of steps since `begun`. Asking the clock costs half as much as a step, so the worst step is what
 * a batch took beyond the usual for the others in it. */
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
        if (*r->stop) { r->outcome = STOPPED; return 0; }
        if (N_GUARD) flip_modes(w);
        if (!step_fixed(w, end - w->t, whole)) { r->outcome = NOT_FINITE; return 0; }
        if (!finite_state(w)) { r->outcome = RAN_AWAY; return 0; }
        w->t = end;
        grid += 1;
        on_grid = 1;
        memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
        r->steps++;
        if (end < t_next) refresh(w);
        if ((r->steps & 63) == 0) note_peaks(w);
        if (end < t_next && !record_bends(w)) return 0;
        if (++batch == 64) { note_time(r, batch, &begun); batch = 0; }
    }
    if (batch) note_time(r, batch, &begun);
    return 1;
}

static int run_controller(work_t *w, long n)
{
    run_t *r = w->r;
    size_t bytes = sizeof(double) * (size_t)r->n_command;
    if (!grow(&r->ticks, &r->cap_ticks, r->n_ticks + 1, r->n_signal, r->max_rows_log2)) { r->outcome = NO_MEMORY; return 0; }
    if (r->delay) memcpy(w->u, w->pending, bytes);
    r->measure(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->measured);
    r->controller(r->ctl, w->measured, w->signals, w->pending);
    memcpy(r->ticks + n * r->n_signal, w->signals, sizeof(double) * (size_t)r->n_signal);
    r->n_ticks = n + 1;
    if (!r->delay) memcpy(w->u, w->pending, bytes);
    return 1;
}

static void drive_loop(work_t *w)
{
    run_t *r = w->r;
    long n = 0;
    double corner = enter_stretch(w), t_tick = r->n_signal ? 0 : INFINITY;
    if (r->n_signal && r->t_end / r->tick < 3e6) {
        /* Room for one row a tick from the start; pages that stay untouched cost nothing. */
        long expected = (long)(1.05 * r->t_end / r->tick) + 1;
        if (!grow(&r->rows, &r->cap_rows, expected < r->row_limit ? expected : r->row_limit, w->width, r->max_rows_log2) || !grow(&r->ticks, &r->cap_ticks, expected, r->n_signal, r->max_rows_log2)) {
            r->outcome = NO_MEMORY;
            return;
        }
    }
    enter_modes(w, SEVERAL);
    while (1) {
        double t_next, same = same_time(w->t);
        int corner_due = w->t >= corner, gates;
        if (corner_due) corner = enter_stretch(w);
        if (w->t >= t_tick - same) {
            if (!run_controller(w, n)) return;
            n++;
            t_tick = n * r->tick;
            pulses_command(r->pulses, r->n_pulse, w->t, w->u);
        }
        gates = r->n_pulse ? pulses_due(r->pulses, r->n_pulse, w->t + same, w->u, w->s) : NO_GATE;
        if (gates != NO_GATE) enter_modes(w, gates);
        if (!settle_at_edge(w, gates)) { r->outcome = CHATTERS; return; }
        if (!record(w)) return;
        if (w->t >= r->t_end) return;
        if (w->t >= w->short_due) {
            for (r->culprit = 0; r->short_since[r->culprit] + r->short_limit > w->t; r->culprit++) { }
            r->outcome = SHORTED;
            return;
        }
        *r->progress = w->t;
        t_next = least(least(t_tick, corner), r->t_end);
        if (r->n_pulse) t_next = least(t_next, pulses_next(r->pulses, r->n_pulse));
        if (t_tick - t_next < same_time(t_next)) t_next = t_tick;
        t_next = least(t_next, w->short_due);
        if (!(r->method == FIXED ? advance_fixed(w, t_next) : advance(w, t_next))) return;
    }
}

static void release(work_t *w)
{
    free(w->block);
    free(w->pivots);
    free(w->sets);
    free(w->slots);
    free(w->guard_lists);
    free(w->ended);
}

/* Memory for a run's work; 0 where there is none. */
static int open_work(work_t *w, run_t *r)
{
    int k, nx = r->nx, n_hold = r->n_hold > 0 ? r->n_hold : 1;
    size_t total;
    double *next;
    memset(w, 0, sizeof *w);
    w->r = r;
    w->nu = r->n_command + 2 * r->n_profile;
    w->width = 1 + nx + w->nu + r->n_mode;
    for (w->n_slots = MOST_SLOTS; w->n_slots > LEAST_SLOTS && 8.0 * w->n_slots * slot_width(r) > SLOT_BYTES; w->n_slots /= 2) { }
    total = (size_t)(20 * nx + 2 * nx * nx + 4 * nx + w->nu + r->n_mode + 2 * r->n_guard + r->n_command + r->n_signal + r->n_measured + n_hold * (nx + 1) + 16);
    w->block = calloc(total, sizeof(double));
    w->pivots = calloc((size_t)(nx + r->n_profile + 1 + w->n_slots), sizeof(int));
    /* A place for a set is written before it is read, so that those that stay empty cost nothing. */
    w->sets = malloc((size_t)w->n_slots * sizeof(set_t));
    w->slots = malloc((size_t)w->n_slots * (size_t)slot_width(r) * sizeof(double) + 1);
    w->guard_lists = malloc((size_t)w->n_slots * (size_t)r->n_guard * sizeof(int) + 1);
    w->ended = calloc((size_t)r->n_mode + 1, 1);
    if (!w->block || !w->ended || !w->pivots || !w->sets || !w->slots || !w->guard_lists) {
        release(w);
        return 0;
    }
    w->segment = w->pivots + nx;
    w->places = w->segment + r->n_profile + 1;
    w->short_due = INFINITY;
    next = w->block;
#define TAKE(field, count) (w->field = next, next += (count))
    TAKE(x, nx); TAKE(peak, nx); TAKE(weight, nx); TAKE(slope_low, nx); TAKE(slope_high, nx); TAKE(before, nx); TAKE(zeroed, nx); TAKE(leak, nx); TAKE(xn, nx); TAKE(xt, nx); TAKE(err, nx); TAKE(dfdt, nx);
    for (k = 0; k < 8; k++) TAKE(k[k], nx);
    TAKE(jac, nx * nx + 2 * nx); TAKE(lu, nx * nx + nx); TAKE(u, w->nu); TAKE(s, r->n_mode);
    TAKE(g, r->n_guard); TAKE(g_new, r->n_guard); TAKE(pending, r->n_command); TAKE(signals, r->n_signal);
    TAKE(measured, r->n_measured); TAKE(w, n_hold); TAKE(grad, n_hold * nx);
#undef TAKE
    return 1;
}

int pd_run(run_t *r)
{
    work_t w;
    if (!open_work(&w, r)) return r->outcome = NO_MEMORY;
    memcpy(w.x, r->x0, sizeof(double) * (size_t)r->nx);
    memcpy(w.s, r->s0, sizeof(double) * (size_t)r->n_mode);
    w.h = least(r->n_signal ? r->tick : 1e-5, r->t_end);
    w.stiff = r->method == STIFF;
    w.reach[3] = w.usual = w.h;
    note_peaks(&w);
    w.event_time = -1;
    r->outcome = DONE;
    drive_loop(&w);
    r->t_out = w.t;
    *r->progress = w.t;
    release(&w);
    return r->outcome;
}

void pd_release(double *rows) { free(rows); }

/* Hoisted values for the sets of modes met on the way over a record; they come back with every period of the pulses. One place
 * each, with the modes and the values; ``filled`` is zero at first. */
typedef struct { hoist_f hoist; const double *p; double *places; unsigned char *filled; int n_places, n_mode, n_hoisted; } hoists_t;

static const double *hoisted_for(const hoists_t *k, const double *s)
{
    uint32_t n = hash_modes(s, k->n_mode) % (uint32_t)k->n_places;
    double *modes = k->places + (size_t)n * (size_t)(k->n_mode + k->n_hoisted), *values = modes + k->n_mode;
    if (!k->filled[n] || memcmp(modes, s, sizeof(double) * (size_t)k->n_mode) != 0) {
        k->filled[n] = 1;
        memcpy(modes, s, sizeof(double) * (size_t)k->n_mode);
        memset(values, 0, sizeof(double) * (size_t)k->n_hoisted);
        k->hoist(k->p, s, values);
    }
    return values;
}

/* Of each time the place of the last row at or before it, or the first. */
void pd_last_before(const double *rows, long n_rows, int width, const double *times, long n_times, int64_t *places)
{
    long k;
    for (k = 0; k < n_times; k++) {
        long low = 0, high = n_rows;
        while (high - low > 1) {
            long middle = low + (high - low) / 2;
            if (rows[middle * width] <= times[k]) low = middle; else high = middle;
        }
        places[k] = low;
    }
}

/* Evaluate chosen outputs over recorded rows; y is n_rows by n_pick, row by row; ``all`` holds one row of n_y. */
void pd_evaluate(out_f f, const double *rows, long n_rows, int nx, int nu, const hoists_t *hoists, const int *pick, int n_pick, double *all, double *y)
{
    long k;
    int width = 1 + nx + nu + hoists->n_mode, j;
    for (k = 0; k < n_rows; k++) {
        const double *row = rows + k * width, *s = row + 1 + nx + nu;
        f(row[0], row + 1, row + 1 + nx, s, hoists->p, hoisted_for(hoists, s), all);
        for (j = 0; j < n_pick; j++) y[k * n_pick + j] = all[pick[j]];
    }
}

/* A place on the cubic through both ends of a step and their derivatives (w->k[0], w->k[1]). */
static void on_cubic(const work_t *w, const double *a, const double *b, double dt, double q, double *x)
{
    run_t *r = w->r;
    double at_a = (1 + 2 * q) * (1 - q) * (1 - q), at_b = q * q * (3 - 2 * q);
    double slope_a = q * (1 - q) * (1 - q) * dt, slope_b = q * q * (q - 1) * dt;
    int i;
    for (i = 0; i < NX; i++) x[i] = at_a * a[1 + i] + slope_a * w->k[0][i] + at_b * b[1 + i] + slope_b * w->k[1][i];
}

/* How far the cubic leaves the straight line between the rows, in units of ``fine``. A step can bend one way and back. */
static double bend_of(work_t *w, const double *a, const double *b, double dt, const double *fine)
{
    run_t *r = w->r;
    double most_so_far = 0, q;
    int i;
    for (q = 0.25; q < 1; q += 0.25) {
        on_cubic(w, a, b, dt, q, w->xt);
        for (i = 0; i < NX; i++) most_so_far = most(most_so_far, fabs(w->xt[i] - a[1 + i] - q * (b[1 + i] - a[1 + i])) / fine[i]);
    }
    return most_so_far;
}

/* Whether the cubic is exact to ``fine``: its largest error, half way, is a third of what its slope misses the equations by at a
 * quarter of the step (the error goes with q^2 (1-q)^2). About a state that follows others at once it would swing far off. */
static int follows_cubic(work_t *w, const double *a, const double *b, double dt, const double *fine)
{
    run_t *r = w->r;
    int i;
    on_cubic(w, a, b, dt, 0.25, w->xt);
    derivatives(w, a[0] + 0.25 * dt, w->xt, w->err, 0);
    for (i = 0; i < NX; i++) {
        double rise = 1.125 * (b[1 + i] - a[1 + i]) + dt * (0.1875 * w->k[0][i] - 0.3125 * w->k[1][i]);
        if (!(fabs(dt * w->err[i] - rise) < 3 * fine[i])) return 0;
    }
    return 1;
}

/* Parts of a step between which all states are straight to ``fine``, for a bend of the whole in these units. */
enum { MOST_PARTS = 64 };
static int parts_for(double bend) { return bend < MOST_PARTS * MOST_PARTS ? (int)ceil(sqrt(bend)) : MOST_PARTS; }

/* Solve the step from a in equal parts by the L-stable method, which is exact also where a state follows others at once.
 * Rows go behind the last one; returns by how much the worst leaves the line between its neighbours, over ``fine``. */
static double solve_in_parts(work_t *w, const double *a, double dt, int parts, const double *fine)
{
    run_t *r = w->r;
    double worst_bend = 0, *row = r->rows + r->n_rows * w->width;
    int j, i;
    memcpy(w->x, a + 1, sizeof(double) * (size_t)NX);
    for (j = 0; j < parts; j++, row += w->width) {
        w->t = a[0] + dt * j / parts;
        derivatives(w, w->t, w->x, w->k[0], 0);
        if (!rodas(w, dt / parts)) return 0;
        memcpy(row, a, sizeof(double) * (size_t)w->width);
        row[0] = a[0] + dt * (j + 1) / parts;
        memcpy(row + 1, w->xn, sizeof(double) * (size_t)NX);
        memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
        if (j == 0) continue;
        for (i = 1; i <= NX; i++) {
            double before = j == 1 ? a[i] : row[i - 2 * w->width], here = row[i - w->width];
            worst_bend = most(worst_bend, 0.25 * fabs(row[i] - 2 * here + before) / fine[i - 1]);
        }
    }
    return worst_bend;
}

/* Which rows are made of a step cut into equal parts: those between the parts, those half way within each, or both. The latter two
 * go where a run keeps its ticks. */
enum { BETWEEN = 0, HALF_WAY = 1, BOTH = 2 };

static double *new_row(work_t *w, const double *like)
{
    double *row = w->r->rows + w->r->n_rows++ * w->width;
    return memcpy(row, like, sizeof(double) * (size_t)w->width);
}

static double *new_half(work_t *w, const double *like)
{
    double *row = w->r->ticks + w->r->n_ticks++ * w->width;
    return memcpy(row, like, sizeof(double) * (size_t)w->width);
}

static int room_for(work_t *w, int count, int which)
{
    run_t *r = w->r;
    if (which != HALF_WAY && !grow(&r->rows, &r->cap_rows, r->n_rows + count, w->width, r->max_rows_log2)) return 0;
    return which == BETWEEN || grow(&r->ticks, &r->cap_ticks, r->n_ticks + count, w->width, r->max_rows_log2);
}

static void row_on_cubic(work_t *w, double *row, const double *a, const double *b, double q)
{
    row[0] = a[0] + q * (b[0] - a[0]);
    on_cubic(w, a, b, b[0] - a[0], q, row + 1);
}

/* Points within the step from row a to row b. Returns 0 where memory ends. */
static int fill_step(work_t *w, const double *a, const double *b, const double *fine, int which)
{
    run_t *r = w->r;
    double dt = b[0] - a[0], bend;
    int j, i, parts, halves = which != BETWEEN;
    if (!room_for(w, 2 * MOST_PARTS + 2, BOTH)) return 0;
    memcpy(w->u, a + 1 + NX, sizeof(double) * (size_t)N_INPUT);
    memcpy(w->s, a + 1 + NX + N_INPUT, sizeof(double) * (size_t)N_MODE);
    derivatives(w, a[0], a + 1, w->k[0], 0);
    derivatives(w, b[0], b + 1, w->k[1], 0);
    bend = bend_of(w, a, b, dt, fine);
    if (!(bend > 1)) {
        double *half;
        if (!halves) return 1;
        half = new_half(w, a);
        if (fine[0] != INFINITY && follows_cubic(w, a, b, dt, fine)) row_on_cubic(w, half, a, b, 0.5);
        else for (i = 0; i <= NX; i++) half[i] = 0.5 * (a[i] + b[i]);
        return 1;
    }
    if (follows_cubic(w, a, b, dt, fine)) {
        parts = parts_for(bend);
        for (j = 0; j < parts; j++) {
            if (j && which != HALF_WAY) row_on_cubic(w, new_row(w, a), a, b, (double)j / parts);
            if (halves) row_on_cubic(w, new_half(w, a), a, b, (j + 0.5) / parts);
        }
        return 1;
    }
    parts = 4;
    bend = solve_in_parts(w, a, dt, parts, fine);
    if (bend > 1) parts = (int)least(MOST_PARTS, parts * parts_for(bend));
    if (!halves) {
        if (bend > 1) solve_in_parts(w, a, dt, parts, fine);
        r->n_rows += parts - 1;   /* the last is the row b itself */
        return 1;
    }
    /* In halves of the parts, behind the last row; every second is half way. */
    solve_in_parts(w, a, dt, 2 * parts, fine);
    {
        const double *solved = r->rows + r->n_rows * w->width;
        for (j = 0; j < parts; j++) {
            new_half(w, solved + 2 * j * w->width);
            if (j && which == BOTH) new_row(w, solved + (2 * j - 1) * w->width);   /* never ahead of what is read */
        }
    }
    return 1;
}

/* Rows with points in between where a step is curved, and with the state before each jump of inputs or modes; and the rows half way
 * between these, one fewer. ``fine`` holds, for each state, the bend that may be left straight; infinite where the record is
 * straight itself. What was thinned is left as it is. The rows are made in ``r``, which holds sizes, values, functions and the
 * limit; returns 0 where that is reached. */
int pd_refine(run_t *r, const double *rows, long n_rows, const hoists_t *hoists, const double *fine, double thinned_until, int which)
{
    work_t w;
    set_t set;
    long k;
    int fits = 1, inner = r->n_command + r->n_mode;
    if (!open_work(&w, r)) return 0;
    memset(&set, 0, sizeof set);
    w.set = &set;
    for (k = 0; k < n_rows && fits; k++) {
        const double *a = rows + k * w.width, *b = a + w.width;
        fits = room_for(&w, 4, which);
        if (!fits) break;
        if (which != HALF_WAY) new_row(&w, a);
        if (k + 1 == n_rows) break;
        if (b[0] <= thinned_until || !(b[0] > a[0])) {
            if (which != BETWEEN) new_half(&w, a);
            continue;
        }
        set.hoisted = (double *)hoisted_for(hoists, a + 1 + r->nx + r->n_command);
        fits = fill_step(&w, a, b, fine, which);
        if (fits && memcmp(a + 1 + r->nx, b + 1 + r->nx, sizeof(double) * (size_t)inner)) {
            /* The state of b with what held before, and between these two nothing. */
            if (which != HALF_WAY) memcpy(new_row(&w, a), b, sizeof(double) * (size_t)(1 + r->nx));
            if (which != BETWEEN) memcpy(new_half(&w, a), b, sizeof(double) * (size_t)(1 + r->nx));
        }
    }
    release(&w);
    return fits;
}

/* What a run works with. It lies in memory of its own, so that runs can share a process; there are no globals. */

/* fmin and fmax mind not-a-number and are calls to the library; here the plain comparison will do. */
static inline double least(double a, double b) { return a < b ? a : b; }
static inline double most(double a, double b) { return a > b ? a : b; }

/* Two numbers that are reckoned with at once, read at any place, and their bits, of which the first is the sign. */
typedef double pair_t __attribute__((vector_size(2 * sizeof(double)), aligned(sizeof(double))));
typedef int64_t bits_t __attribute__((vector_size(2 * sizeof(double))));
#define PAIR(place) (*(const pair_t *)(place))

/* Built for sizes known beforehand, the loops over states, modes and guards unroll; see `time_loop` in runtime.py. */
#ifdef PD_NX
#define NX PD_NX
#define N_MODE PD_N_MODE
#define N_GUARD PD_N_GUARD
#define N_INPUT PD_N_INPUT
#define N_FORCED PD_N_FORCED
#else
#define NX (r->nx)
#define N_MODE (r->n_mode)
#define N_GUARD (r->n_guard)
#define N_INPUT (w->nu)
#define N_FORCED (r->n_forced)
#endif

/* A slot that held a certain set of modes; it may hold another by now, which `filled` tells. */
typedef struct { int slot; long filled; } hint_t;

/* What is known of a set of modes. */
typedef struct {
    long filled;                   /* number of its filling, from 1; 0 while it is empty */
    double *s, *hoisted, *inverse; /* inverse: of I - h J for the full fixed step */
    /* of a full fixed step, and of the guards at its end, and the Jacobian; see maps.c */
    double *step_map, *guard_map, *slopes;
    double radius;                 /* spectral radius, 1/s; 0 where it is not asked for */
    int *active, n_active;         /* the guards that end one of its modes */
    int shorted;                   /* whether devices that must not do so conduct together */
    /* the sets that followed of late; the one in which it settled when a gate had led to it */
    hint_t recent_next_sets[2], settled_set;
    int recent_gates[2];                     /* the gates whose change led to those that followed, or SEVERAL */
    int settling;                  /* modes that changed on that way */
    /* where another device took over from one whose current had ended: the set that held then, */
    hint_t taken_set;
    int ended_by, taken_by;        /* the guard by which that one ended, and by which the other took over */
} set_t;

typedef struct work work_t;

/* A method of integration. ``step`` goes from w->x with w->slope known over h, to w->xn with its error in w->err, and
 * returns the error over the tolerance (1: just accepted) or UNLIKE. The driver knows methods by this table only. */
typedef struct {
    double (*step)(work_t *w, double h);
    /* of the error in the choice of the next step: minus one over the order of its estimate */
    double exponent;
    int end;                       /* which of w->k is the derivative at the end, once finished */
    int left_open;                 /* it leaves that derivative and the guards there to `finish` */
    int guards_half_way;           /* the guards it gives are those in the middle of the step */
    int tells_radius;              /* it estimates the spectral radius on the way */
    int stiff;
    /* What the state within a finished step has beyond the cubic through both ends: q^2 (1-q)^2 times this. None where
     * only a step to there is exact. */
    void (*quartic)(const work_t *w, double h, double *quartic);
} method_t;

/* How methods are chosen from step to step; see control.c. */
typedef struct {
    const method_t *(*choose)(work_t *w, double left);
    void (*judge)(work_t *w, double h, double error);   /* after an explicit step: how far others would go; or none */
    int adapts;                                         /* it goes over to the L-stable method and back by itself */
    int (*advance)(work_t *w, double t_next);           /* integrate from w->t exactly to t_next, or to a pause */
} control_t;

enum { UNLIKE = -1 };
enum { STAGES = 8 };

/* Factors of a matrix with few entries; see sparse.c. */
typedef struct {
    int n;
    size_t room;                             /* entries that each factor may have */
    int *ints;                               /* what the pointers to int below share */
    /* of A: rows by columns, and where in the Jacobian each entry is (-1: the diagonal alone) */
    int *row, *from, *begin;
    int *l_begin, *u_begin, *l_row, *u_row;
    int *place;                              /* of each row among the pivots; -1 before it is one */
    int *reached, *path, *resume, *seen;
    double *values, *a, *x, *scale, *l, *u;
} sparse_t;

struct work {
    run_t *r;
    const control_t *control;
    const method_t *method;        /* of the present step */
    int nu, width, n_slots;
    int wide;                      /* the processor reckons with four numbers at once */
    size_t n_kept;                 /* numbers in ``block`` from ``x`` on that a snapshot holds */
    double shares;                 /* in how many parts the present step's tolerance is counted; see `shares` */
    double pause;                  /* s: the run goes no further than the first step that ends there or later */
    long room;                     /* number of rows from which on `make_room` must be asked */

    /* From here to ``pending_row`` a snapshot holds all. */
    double t, h;
    long tick;                     /* number of the next tick */
    double t_tick, corner, t_next; /* s: the next tick, the next corner of a profile, the end of the present stretch */
    int within;                    /* within a stretch: its end is still ahead */
    double radius_num, radius_den; /* squares of the estimated spectral radius, 1/s, as a fraction */
    double usual;                  /* s: how long steps are of late; a burst of events shortens it slowly only */
    int stiff, stiff_signs, calm_signs;
    double many_shares;            /* of a step in a long stretch */
    long long_steps, next_look;    /* such steps, and how many there are when that is worked out anew */
    double max_step_for_order[4];               /* s, by order: the longest step for which it is exact enough */
    int steps_since_check;                  /* second-order steps since the last whose error was seen */
    double checked_curvature, checked_step;       /* curvature of that and its step */
    double event_time;
    int chatter;
    int n_sets;
    long fillings;
    double short_due;              /* the earliest time at which devices have conducted together for too long */
    int entered;                   /* the modes changed since the last step: judge stiffness anew */
    /* what stands behind the states is of now, while the derivatives are not: 1, 2 where no active guard is above
     * zero, else also the guards are of now; see maps.c */
    int mapped;
    int pending_row;               /* the latest fixed step stands behind the last row, not yet counted */

    double *x, *u, *s;             /* the present state, with what maps.c keeps behind it, inputs and modes */
    /* of a step: stages, result, trial, error, Jacobian and its factors; into the Jacobian only the model writes, which
     * leaves entries alone that are always zero */
    double *k[STAGES], *xn, *xt, *err, *jac, *lu, *dfdt;
    double *g, *g_new;             /* guards at the step's begin and end */
    double *pending, *signals, *measured;   /* of a tick: commands that wait, all signals, what is measured */
    double *w, *grad;              /* what modes end with at zero, and its gradients */
    double *peak, *slope_low, *slope_high;  /* of the record: greatest sizes, and the wedge of a straight line */
    /* of settling: states before and after a current was put to zero, and where its leak drives them */
    double *before, *zeroed, *leak;
    double late;                   /* s, of locating: how long before the step's end the guard was crossed */
    double *begin_slope, *end_x, *end_slope, *quartic;   /* of locating: the state within the step */
    double *power, *image;         /* of the power iteration */
    double *loops_begun;           /* where the model's loops were solved when the step began */
    double *modes;                 /* of a set that is restored, or left for a moment */
    double *map_scratch;           /* of maps.c */
    double *devices, *gates;       /* of booking.c: of devices before and after gates change; their gates before */
    double *weight;                /* by which ``checked_curvature`` was measured */
    int *pivots, *segment;         /* segment: of each profile, the corner ahead */
    unsigned char *ended;          /* by mode: whether the current that holds it ended just now */
    set_t *sets, *set;             /* all that are known, in the order in which they were met, and the present one */
    /* by the modes' hash, WAYS for each, one more than the set's number; 0 while empty */
    int *places;
    double *slots, *block;         /* what the sets point to; all other numbers */
    int *guard_lists;
    sparse_t sparse;
};

enum { WAYS = 4, LEAST_SLOTS = 512, MOST_SLOTS = 8192 };
/* Bytes that places for sets of modes may take; those that stay empty take none. */
static const double SLOT_BYTES = 64e6;
/* Instants closer than this are one: a tick and a pulse edge that differ by rounding only. */
static double same_time(double t) { return 1e-13 + 4e-15 * fabs(t); }
static int asked_to_stop(const run_t *r) { return atomic_load_explicit(r->stop, memory_order_relaxed); }
static void tell_progress(const work_t *w) { atomic_store_explicit(w->r->progress, w->t, memory_order_relaxed); }

static void derivatives(work_t *w, double t, const double *x, double *dx, double *g)
{
    run_t *r = w->r;
    r->evaluations++;
    if (g) r->guarded(t, x, w->u, w->s, r->p, w->set->hoisted, dx, g);
    else r->rhs(t, x, w->u, w->s, r->p, w->set->hoisted, dx);
}

/* The derivative and the guards at the end of an accepted step, where its method left them out. */
static void finish(work_t *w, double h)
{
    if (w->method->left_open) derivatives(w, w->t + h, w->xn, w->k[w->method->end], w->g_new);
}

/* A finished step was taken: what was found at its end is that of the present state. */
static void adopt(work_t *w)
{
    run_t *r = w->r;
    (void)r;
    memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
    memcpy(w->k[0], w->k[w->method->end], sizeof(double) * (size_t)NX);
    memcpy(w->g, w->g_new, sizeof(double) * (size_t)N_GUARD);
    w->mapped = 0;
}

/* Derivatives and guards at the present state. */
static void refresh(work_t *w)
{
    derivatives(w, w->t, w->x, w->k[0], w->g);
    w->mapped = 0;
}

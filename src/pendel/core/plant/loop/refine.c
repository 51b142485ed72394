/* Rows as traces show them: with points where a step is curved, and both sides of each jump. */

/* A place on the cubic through both ends of a step and their derivatives (w->k[0], w->k[1]). */
static void on_cubic(const work_t *w, const double *a, const double *b, double dt, double q, double *x)
{
    run_t *r = w->r;
    double at_a = (1 + 2 * q) * (1 - q) * (1 - q), at_b = q * q * (3 - 2 * q);
    double slope_a = q * (1 - q) * (1 - q) * dt, slope_b = q * q * (q - 1) * dt;
    int i;
    for (i = 0; i < NX; i++) x[i] = at_a * a[1 + i] + slope_a * w->k[0][i] + at_b * b[1 + i] + slope_b * w->k[1][i];
}

/* How far the cubic leaves the straight line between the rows, in units of ``fine``, at the quarters of the step, as it
 * can bend one way and back: by q (1-q) ((1-q) (slope_a - rise) - q (slope_b - rise)). */
static double bend_of(work_t *w, const double *a, const double *b, double dt, const double *fine)
{
    run_t *r = w->r;
    double most_so_far = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double rise = b[1 + i] - a[1 + i], at_a = dt * w->k[0][i] - rise, at_b = dt * w->k[1][i] - rise;
        double early = fabs(0.75 * at_a - 0.25 * at_b), late = fabs(0.25 * at_a - 0.75 * at_b),
            half = fabs(at_a - at_b);
        most_so_far = most(most_so_far, most(0.1875 * most(early, late), 0.125 * half) / fine[i]);
    }
    return most_so_far;
}

/* Whether the cubic is exact to ``fine``: its largest error, half way, is a third of what its slope misses the
 * equations by at a quarter of the step (the error goes with q^2 (1-q)^2). About a state that follows others at once it
 * would swing far off. */
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

/* Ends of the parts of a step, as shares of it, from 0 to 1: ``parts`` alike, the first of them again in ``early`` and
 * one, each four times as long as the one before. Returns how many parts that makes. */
enum { MOST_EARLY = 10 };
static int ends_of_parts(double *ends, int parts, int early)
{
    int n = 0, j;
    ends[n++] = 0;
    for (j = early; j > 0; j--) ends[n++] = pow(0.25, j) / parts;
    for (j = 1; j <= parts; j++) ends[n++] = (double)j / parts;
    return n - 1;
}

/* Solve the step from a part by part by the L-stable method, which is exact also where a state follows others at once;
 * ``halved`` with each part in two. Rows go behind the last one. Returns 0 where it fails. */
static int solve_in_parts(work_t *w, const double *a, double dt, const double *ends, int parts, int halved)
{
    run_t *r = w->r;
    double *row = r->rows + r->n_rows * w->width, from = 0;
    int j, steps = halved ? 2 * parts : parts;
    memcpy(w->x, a + 1, sizeof(double) * (size_t)NX);
    for (j = 0; j < steps; j++, row += w->width) {
        double to = !halved ? ends[j + 1] : j % 2 ? ends[j / 2 + 1] : 0.5 * (ends[j / 2] + ends[j / 2 + 1]);
        w->t = a[0] + dt * from;
        derivatives(w, w->t, w->x, w->k[0], 0);
        if (!rodas(w, dt * (to - from)))
            return 0;   /* not the difference of two times, which late in a run may be none */
        memcpy(row, a, sizeof(double) * (size_t)w->width);
        row[0] = a[0] + dt * to;
        memcpy(row + 1, w->xn, sizeof(double) * (size_t)NX);
        memcpy(w->x, w->xn, sizeof(double) * (size_t)NX);
        from = to;
    }
    return 1;
}

/* By how much the worst of equal parts that were solved leaves the line between its neighbours, over ``fine``. */
static double bend_of_parts(const work_t *w, const double *a, int parts, const double *fine)
{
    run_t *r = w->r;
    const double *row = r->rows + r->n_rows * w->width;
    double worst_bend = 0;
    int j, i;
    for (j = 1; j < parts; j++) {
        const double *before = j == 1 ? a : row + (j - 2) * w->width, *here = row + (j - 1) * w->width,
            *after = row + j * w->width;
        for (i = 1; i <= NX; i++)
            worst_bend = most(worst_bend, 0.25 * fabs(after[i] - 2 * here[i] + before[i]) / fine[i - 1]);
    }
    return worst_bend;
}

/* The shortest time constant by which a state settles within a time h, changing otherwise than its derivatives at both
 * ends say; 0 where none does. So does a voltage on the leaks of devices that have all just blocked: however little the
 * state itself changes by that, its derivative, and with it a voltage, is another one. */
static const double OTHERWISE = 0.1, TOO_LITTLE = 3e-2;   /* of what the steeper end says; of ``fine`` */
static double settling_within(const work_t *w, const double *from, const double *to, const double *slope_from,
                              const double *slope_to,
                              double h, const double *fine)
{
    run_t *r = w->r;
    double shortest = 0;
    int i;
    for (i = 0; i < NX; i++) {
        double steeper = h * most(fabs(slope_from[i]), fabs(slope_to[i])), change = to[i] - from[i];
        if (steeper > TOO_LITTLE * fine[i]
            && fabs(change - 0.5 * h * (slope_from[i] + slope_to[i])) > OTHERWISE * steeper) {
            /* Of an exponential, the change beside that of its end's slope is the time constant times the change of
             * slope. */
            double constant = fabs((change - h * slope_to[i]) / (slope_from[i] - slope_to[i]));
            if (constant > 0 && (shortest == 0 || constant < shortest)) shortest = constant;
        }
    }
    return shortest;
}

/* The same within the first part that was solved, of length h. */
static double settling_at_once(work_t *w, const double *a, double h, const double *fine)
{
    const double *to = w->r->rows + w->r->n_rows * w->width;
    derivatives(w, a[0], a + 1, w->k[0], 0);
    derivatives(w, to[0], to + 1, w->k[7], 0);
    return settling_within(w, a + 1, to + 1, w->k[0], w->k[7], h, fine);
}

/* How often the first part, of length h, is to be quartered so that it is hardly longer than what settles in it. */
static const double HARDLY_LONGER = 1.5;   /* in time constants */
static int early_parts(double h, double constant)
{
    int early = 0;
    while (constant > 0 && h > HARDLY_LONGER * constant && early < MOST_EARLY) { early++; h *= 0.25; }
    return early;
}

/* Which rows are made of a step cut into equal parts: those between the parts, those half way within each, or both. The
 * latter two go where a run keeps its ticks. */
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

/* Where the model's loops were solved at the row before: each step begins there, so that its points are the same
 * whichever of them are asked for. */
typedef struct { double *solved; int n, n_hoisted; } loops_begun_t;

static void begin_loops(const loops_begun_t *begun, double *hoisted)
{
    double *kept = hoisted + begun->n_hoisted - 2 * begun->n;
    if (!begun->n) return;
    memcpy(kept, begun->solved, sizeof(double) * (size_t)begun->n);
    kept[begun->n] = NAN;
}

static void keep_loops(const loops_begun_t *begun, const double *hoisted)
{
    memcpy(begun->solved, hoisted + begun->n_hoisted - 2 * begun->n, sizeof(double) * (size_t)begun->n);
}

/* Points within the step from row a to row b. Returns 0 where memory ends. */
static int fill_step(work_t *w, const double *a, const double *b, const double *fine, int which,
                     const loops_begun_t *begun)
{
    run_t *r = w->r;
    double dt = b[0] - a[0], bend, constant;
    double ends[MOST_PARTS + MOST_EARLY + 1];
    int j, i, parts, early, solved = 0, halves = which != BETWEEN;
    if (!room_for(w, 2 * (MOST_PARTS + MOST_EARLY) + 2, BOTH)) return 0;
    memcpy(w->u, a + 1 + NX, sizeof(double) * (size_t)N_INPUT);
    memcpy(w->s, a + 1 + NX + N_INPUT, sizeof(double) * (size_t)N_MODE);
    derivatives(w, a[0], a + 1, w->k[0], 0);
    keep_loops(begun, w->set->hoisted);
    derivatives(w, b[0], b + 1, w->k[1], 0);
    bend = bend_of(w, a, b, dt, fine);
    constant = settling_within(w, a + 1, b + 1, w->k[0], w->k[1], dt, fine);
    if (!(bend > 1) && constant == 0) {
        double *half;
        if (!halves) return 1;
        half = new_half(w, a);
        if (fine[0] != INFINITY && follows_cubic(w, a, b, dt, fine)) row_on_cubic(w, half, a, b, 0.5);
        else for (i = 0; i <= NX; i++) half[i] = 0.5 * (a[i] + b[i]);
        return 1;
    }
    if (bend > 1 && follows_cubic(w, a, b, dt, fine)) {
        parts = parts_for(bend);
        for (j = 0; j < parts; j++) {
            if (j && which != HALF_WAY) row_on_cubic(w, new_row(w, a), a, b, (double)j / parts);
            if (halves) row_on_cubic(w, new_half(w, a), a, b, (j + 0.5) / parts);
        }
        return 1;
    }
    parts = 1;
    if (bend > 1) {
        solved = solve_in_parts(w, a, dt, ends, parts = ends_of_parts(ends, 4, 0), 0);
        if (solved) {
            bend = bend_of_parts(w, a, parts, fine);
            constant = settling_at_once(w, a, dt / parts, fine);
        }
        if (bend > 1) {
            parts = (int)least(MOST_PARTS, parts * parts_for(bend));
            solved = 0;
        }
    }
    early = early_parts(dt / parts, constant);
    if (early) solved = 0;
    parts = ends_of_parts(ends, parts, early);
    if (!halves) {
        if (!solved) solve_in_parts(w, a, dt, ends, parts, 0);
        r->n_rows += parts - 1;   /* the last is the row b itself */
        return 1;
    }
    /* In halves of the parts, behind the last row; every second is half way. */
    solve_in_parts(w, a, dt, ends, parts, 1);
    {
        const double *made = r->rows + r->n_rows * w->width;
        for (j = 0; j < parts; j++) {
            new_half(w, made + 2 * j * w->width);
            if (j && which == BOTH) new_row(w, made + (2 * j - 1) * w->width);   /* never ahead of what is read */
        }
    }
    return 1;
}

/* Rows with points in between where a step is curved, and with the state before each jump of inputs or modes; and the
 * rows half way between these, one fewer. ``fine`` holds, for each state, the bend that may be left straight; infinite
 * where the record is straight itself. What was thinned is left as it is. The rows are made in ``r``, which holds
 * sizes, values, functions and the limit; returns 0 where that is reached. */
int pd_refine(run_t *r, const double *rows, long n_rows, const hoists_t *hoists, const double *fine,
              double thinned_until, int which)
{
    work_t w;
    set_t set;
    long k;
    int fits = 1, inner = r->n_command + r->n_mode;
    loops_begun_t begun = {0, hoists->n_loops / 2, hoists->n_hoisted};
    if (!open_work(&w, r)) return 0;
    begun.solved = calloc((size_t)begun.n + 1, sizeof(double));
    if (!begun.solved) { release(&w); return 0; }
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
        begin_loops(&begun, set.hoisted);
        fits = fill_step(&w, a, b, fine, which, &begun);
        if (fits && memcmp(a + 1 + r->nx, b + 1 + r->nx, sizeof(double) * (size_t)inner)) {
            /* The state of b with what held before, and between these two nothing. */
            if (which != HALF_WAY) memcpy(new_row(&w, a), b, sizeof(double) * (size_t)(1 + r->nx));
            if (which != BETWEEN) memcpy(new_half(&w, a), b, sizeof(double) * (size_t)(1 + r->nx));
        }
    }
    free(begun.solved);
    release(&w);
    return fits;
}

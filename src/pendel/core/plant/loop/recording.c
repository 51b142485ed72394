/* The record: rows of time, states, inputs and modes; thinned where it grows long, and of fixed steps only where they
 * bend. */

/* Of a state's peak: how far what is left out of a record of fixed steps may lie from the line between its rows. */
static const double STRAIGHT = 1e-5;

static int grow(double **rows, long *cap, long need, int width, int log2_limit)
{
    if (need > *cap) {
        long cap_new = *cap ? *cap : need + 4096;   /* half as much again each time, as records are large */
        double most_rows = ldexp(1.0, log2_limit) / (width * (double)sizeof(double)), *more;
        while (cap_new < need) cap_new += cap_new / 2 + 1;
        if ((double)cap_new > most_rows) cap_new = (long)most_rows;
        if (cap_new < need) return 0;
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
    if (r->condense && !r->condense(r->rows + fresh * w->width, r->n_rows - fresh)) return;
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
    r->thinnings++;
    r->thinned_to = stretch;
    r->thinned_until = r->rows[(kept - 1) * w->width];
}

/* The older three quarters of a record go, of a run without an end, so that few rows are moved for each that comes;
 * returns how many went. */
static long drop_older(double *rows, long *n, int width)
{
    long gone = *n / 4 * 3;
    memmove(rows, rows + gone * width, sizeof(double) * (size_t)(*n - gone) * (size_t)width);
    *n -= gone;
    return gone;
}

static void keep_latest(work_t *w)
{
    run_t *r = w->r;
    r->n_rows += w->pending_row;   /* as in `thin` */
    w->pending_row = 0;
    r->first_row += drop_older(r->rows, &r->n_rows, w->width);
    r->thinnings++;
}

static int make_room(work_t *w, long rows)
{
    run_t *r = w->r;
    if (r->n_rows >= r->row_limit) {
        if (r->tick_limit) keep_latest(w); else thin(w);
    }
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

/* Whether the chord from the row `base` to now is within the wedge. */
static int within_wedge(const work_t *w, const double *base)
{
    run_t *r = w->r;
    double per_time = 1 / (w->t - base[0]), slope;
    bits_t signs = {0, 0};   /* of the room below times that above: a wedge is never less than nothing */
    int i;
    (void)r;
    for (i = 0; i + 2 <= NX; i += 2) {
        pair_t slopes = (PAIR(w->x + i) - PAIR(base + 1 + i)) * per_time;
        signs |= (bits_t)((slopes - PAIR(w->slope_low + i)) * (PAIR(w->slope_high + i) - slopes));
    }
    if ((signs[0] | signs[1]) < 0) return 0;
    if (i == NX) return 1;
    slope = (w->x[i] - base[i + 1]) * per_time;
    return slope >= w->slope_low[i] && slope <= w->slope_high[i];
}

/* Narrow the slopes that chords from the row `base` may have so that each row on the way stays within its tolerance of
 * them. A wedge that begins is as wide as the first row leaves it. */
static void narrow_wedge(work_t *w, const double *base, int begins)
{
    run_t *r = w->r;
    double per_time = 1 / (w->t - base[0]);
    int i;
    (void)r;
    for (i = 0; i < NX; i++) {
        double slope = (w->x[i] - base[i + 1]) * per_time, room = STRAIGHT * w->peak[i] * per_time;
        w->slope_low[i] = begins ? slope - room : most(w->slope_low[i], slope - room);
        w->slope_high[i] = begins ? slope + room : least(w->slope_high[i], slope + room);
    }
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

/* Of fixed steps, a million a second, only those are kept between which no state leaves a straight line. The latest
 * waits behind the last row until the next shows whether it is a bend. */
static int record_bends(work_t *w)
{
    run_t *r = w->r;
    double *base, *waiting;
    if (r->n_rows + 2 > w->room && !make_room(w, 2)) return 0;
    base = r->rows + (r->n_rows - 1) * w->width;
    waiting = base + w->width;
    if (!w->pending_row) {
        narrow_wedge(w, base, 1);
        w->pending_row = 1;
    } else if (within_wedge(w, base) && !jumped_since(w, base)) {
        narrow_wedge(w, base, 0);
    } else {
        r->n_rows++;
        narrow_wedge(w, waiting, 1);
        waiting += w->width;
    }
    write_row(w, waiting);
    return 1;
}

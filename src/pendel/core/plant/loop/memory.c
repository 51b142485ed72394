/* Memory for a run's work. What goes into a snapshot comes first in its block; see snapshot.c. */

static void release(work_t *w)
{
    free(w->block);
    free(w->pivots);
    free(w->sets);
    free(w->slots);
    free(w->guard_lists);
    free(w->ended);
    close_sparse(&w->sparse);
}

static double *take(double *block, size_t *at, size_t count)
{
    *at += count;
    return block ? block + (*at - count) : 0;
}

/* Give each vector its place in the block, once there is one; returns how many numbers they are. */
static size_t lay_out(work_t *w)
{
    const run_t *r = w->r;
    size_t nx = (size_t)r->nx, n_hold = r->n_hold > 0 ? (size_t)r->n_hold : 1;
    double **kept[] = {&w->k[0], &w->peak, &w->weight, &w->slope_low, &w->slope_high};
    double **scratch[] = {&w->before, &w->zeroed, &w->leak, &w->xn, &w->xt, &w->err, &w->dfdt, &w->begin_slope,
        &w->end_x, &w->end_slope, &w->quartic, &w->power, &w->image};
    size_t k, at = 0;
    w->x = take(w->block, &at, (size_t)columns_of(r));
    for (k = 0; k < sizeof kept / sizeof *kept; k++) *kept[k] = take(w->block, &at, nx);
    w->u = take(w->block, &at, (size_t)w->nu);
    w->s = take(w->block, &at, (size_t)r->n_mode);
    w->g = take(w->block, &at, (size_t)r->n_guard);
    w->pending = take(w->block, &at, (size_t)r->n_command);
    w->signals = take(w->block, &at, (size_t)r->n_signal);
    w->n_kept = at;
    for (k = 0; k < sizeof scratch / sizeof *scratch; k++) *scratch[k] = take(w->block, &at, nx);
    for (k = 1; k < STAGES; k++) w->k[k] = take(w->block, &at, nx);
    w->jac = take(w->block, &at, nx * nx);
    w->lu = take(w->block, &at, nx * nx);
    w->g_new = take(w->block, &at, (size_t)r->n_guard);
    w->modes = take(w->block, &at, (size_t)r->n_mode);
    w->measured = take(w->block, &at, (size_t)r->n_measured);
    w->loops_begun = take(w->block, &at, (size_t)r->n_loops);
    w->w = take(w->block, &at, n_hold);
    w->grad = take(w->block, &at, n_hold * nx);
    w->devices = take(w->block, &at, 8 * (size_t)r->n_switched);
    w->gates = take(w->block, &at, (size_t)r->n_switched);
    w->map_scratch = take(w->block, &at, (nx + 1 + BAND) * (nx + 1 + (size_t)r->n_guard) + BAND);
    return at;
}

/* Returns 0 where there is no memory. */
static int open_work(work_t *w, run_t *r)
{
    size_t nx = (size_t)r->nx;
    memset(w, 0, sizeof *w);
    w->r = r;
    w->nu = r->n_command + 2 * r->n_profile;
    w->width = 1 + r->nx + w->nu + r->n_mode;
    for (w->n_slots = MOST_SLOTS; w->n_slots > LEAST_SLOTS && 8.0 * w->n_slots * slot_width(r) > SLOT_BYTES;
         w->n_slots /= 2) { }
    w->block = calloc(lay_out(w) + 1, sizeof(double));
    w->pivots = calloc(nx + (size_t)(r->n_profile + 1 + w->n_slots), sizeof(int));
    /* A place for a set is written before it is read, so that those that stay empty cost nothing. */
    w->sets = malloc((size_t)w->n_slots * sizeof(set_t));
    w->slots = malloc((size_t)w->n_slots * (size_t)slot_width(r) * sizeof(double) + 1);
    w->guard_lists = malloc((size_t)w->n_slots * (size_t)r->n_guard * sizeof(int) + 1);
    w->ended = calloc((size_t)r->n_mode + 1, 1);
    if (!open_sparse(&w->sparse, r) || !w->block || !w->ended || !w->pivots || !w->sets || !w->slots
        || !w->guard_lists) {
        release(w);
        return 0;
    }
    lay_out(w);
    w->segment = w->pivots + nx;
    w->places = w->segment + r->n_profile + 1;
    w->short_due = INFINITY;
    w->wide = is_wide();
    if (is_affine(r)) w->x[columns_of(r) - 1] = 1;
    return 1;
}

/* Rows looked at again: any signal at recorded rows, and the last row before given times. */

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

/* The same for the next row of a record, which mostly has the modes of the one before. */
static const double *hoisted_next(const hoists_t *k, const double *s, const double *before, const double *hoisted)
{
    const double *found;
    if (hoisted && memcmp(s, before, sizeof(double) * (size_t)k->n_mode) == 0) return hoisted;
    found = hoisted_for(k, s);
    hand_on_loops(hoisted, (double *)found, k->n_hoisted, k->n_loops);
    return found;
}

/* A controller by itself, tick by tick with what its inputs were: all its signals, row by row. ``commands`` is left
 * with its last outputs. */
void pd_replay(tick_f tick, void *ctl, const double *in, int n_in, double *signals, int n_signal, double *commands,
               long n_ticks)
{
    long k;
    for (k = 0; k < n_ticks; k++) tick(ctl, in + k * n_in, signals + k * n_signal, commands);
}

/* An angle without whole turns, from minus pi to pi. */
static double within_a_turn(double angle)
{
    const double pi = 3.14159265358979323846;
    double turn = fmod(angle + pi, 2.0 * pi);
    return (turn < 0.0 ? turn + 2.0 * pi : turn) - pi;
}

/* A controller by itself beside a record of another one that had the same inputs. ``ticks`` is that record, ``width``
 * values a tick; ``of`` tells which of the controller's signals are compared, ``with`` their places in the record,
 * ``wraps`` which of them are angles. ``beside`` gets each tick of the record with the differences behind; ``largest``,
 * ``low`` and ``high`` get the largest difference of each, and the span of the controller's own. What is no number
 * counts for none of them. */
void pd_replay_beside(tick_f tick, void *ctl, const double *in, int n_in, double *signals, double *commands,
                      const double *ticks, int width,
                      const int *of, const int *with, const int *wraps, int n, double *beside, double *largest,
                      double *low, double *high,
                      long n_ticks)
{
    long k;
    int j;
    for (k = 0; k < n_ticks; k++) {
        const double *given = ticks + k * width;
        double *row = beside + k * (width + n);
        tick(ctl, in + k * n_in, signals, commands);
        memcpy(row, given, sizeof(double) * (size_t)width);
        for (j = 0; j < n; j++) {
            double own = signals[of[j]], gap = given[with[j]] - own;
            if (wraps[j]) gap = within_a_turn(gap);
            row[width + j] = gap;
            if (fabs(gap) > largest[j]) largest[j] = fabs(gap);
            if (own < low[j]) low[j] = own;
            if (own > high[j]) high[j] = own;
        }
    }
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
void pd_evaluate(out_f f, const double *rows, long n_rows, int nx, int nu, const hoists_t *hoists, const int *pick,
                 int n_pick, double *all, double *y)
{
    long k;
    int width = 1 + nx + nu + hoists->n_mode, j;
    const double *hoisted = 0;
    for (k = 0; k < n_rows; k++) {
        const double *row = rows + k * width, *s = row + 1 + nx + nu;
        hoisted = hoisted_next(hoists, s, s - width, hoisted);
        f(row[0], row + 1, row + 1 + nx, s, hoists->p, hoisted, all);
        for (j = 0; j < n_pick; j++) y[k * n_pick + j] = all[pick[j]];
    }
}

/* In each stretch of so many rows, where each chosen output is lowest and where highest, and how much that is: by
 * output, then stretch, then lowest and highest. What is no number counts for none, unless the stretch has nothing
 * else. */
void pd_extremes(out_f f, const double *rows, long n_rows, int nx, int nu, const hoists_t *hoists, const int *pick,
                 int n_pick, double *all, long size,
                 int64_t *places, double *y)
{
    long k, stretches = n_rows / size;
    int width = 1 + nx + nu + hoists->n_mode, j;
    const double *hoisted = 0;
    for (k = 0; k < stretches * size; k++) {
        const double *row = rows + k * width, *s = row + 1 + nx + nu;
        hoisted = hoisted_next(hoists, s, s - width, hoisted);
        f(row[0], row + 1, row + 1 + nx, s, hoists->p, hoisted, all);
        for (j = 0; j < n_pick; j++) {
            long at = 2 * (j * stretches + k / size);
            double value = all[pick[j]];
            int begins = k % size == 0;
            if (begins || value < y[at] || (y[at] != y[at] && value == value)) { y[at] = value; places[at] = k; }
            if (begins || value > y[at + 1] || (y[at + 1] != y[at + 1] && value == value)) {
                y[at + 1] = value;
                places[at + 1] = k;
            }
        }
    }
}

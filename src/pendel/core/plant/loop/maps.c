/* Fixed steps where derivatives and guards are affine in the states: products with matrices that are kept with the set
 * of modes, in place of the equations and of what the linearly implicit Euler method makes of them (implicit_euler.c).
 * Of dx = J x + b(t), g = K x + e(t) a full step makes x += G x + H b(t), with H = (I - h J)^-1 h and G = H J. Only
 * what of b and e moves with time or inputs is worked out at each step; it stands behind the states, and a one behind
 * that, so that all of it is one vector. */

/* States of the largest system whose steps are made so; `MOST_STATES` in model.py says why. */
enum { MOST_MAPPED = 24 };

static int is_affine(const run_t *r)
{
    (void)r;
    return N_FORCED >= 0 && NX <= MOST_MAPPED;
}

/* A matrix lies in bands of four rows, each column by column, for processors that reckon with several numbers at once.
 */
enum { BAND = 4 };
#define BANDED(rows) (((rows) + BAND - 1) / BAND * BAND)

/* How many numbers the states and what stands behind them are. */
static int columns_of(const run_t *r)
{
    (void)r;
    return NX + (is_affine(r) ? N_FORCED + 1 : 0);
}

/* How many numbers are kept with a set of modes for this: the maps of a step and of the guards, and the Jacobian by
 * columns. */
static int map_width(const run_t *r)
{
    return is_affine(r) ? (BANDED(NX) + BANDED(N_GUARD)) * columns_of(r) + NX * BANDED(NX) : 0;
}

static double *at_place(double *matrix, int columns, int row, int column)
{
    return matrix + (row / BAND * columns + column) * BAND + row % BAND;
}

/* y = matrix v, each sum from the first column to the last, so that it is the same however many are reckoned at once.
 */
#define PRODUCT(lanes, matrix, v, rows, columns, y)                                                        \
    do {                                                                                                   \
        typedef double lane_t __attribute__((vector_size(lanes * sizeof(double)), aligned(sizeof(double)))); \
        int first, column;                                                                                 \
        for (first = 0; first < (rows); first += lanes) {                                                  \
            const double *entry = (matrix) + first / BAND * (columns) * BAND + first % BAND;               \
            lane_t sum = {0};                                                                              \
            _Pragma("GCC unroll 32")                                                                       \
            for (column = 0; column < (columns); column++)                                                 \
                sum += *(const lane_t *)(entry + column * BAND) * (v)[column];                             \
            *(lane_t *)((y) + first) = sum;                                                                \
        }                                                                                                  \
    } while (0)
#define PRODUCTS(name, lanes, target)                                                                      \
    target static void move_##name(work_t *w)                                                              \
    {                                                                                                      \
        run_t *r = w->r;                                                                                   \
        int i;                                                                                             \
        (void)r;                                                                                           \
        PRODUCT(lanes, w->set->step_map, w->x, NX, NX + N_FORCED + 1, w->map_scratch);                     \
        for (i = 0; i < NX; i++) w->x[i] += w->map_scratch[i];                                             \
    }                                                                                                      \
    target static void watch_##name(work_t *w)                                                             \
    {                                                                                                      \
        run_t *r = w->r;                                                                                   \
        (void)r;                                                                                           \
        PRODUCT(lanes, w->set->guard_map, w->x, w->set->n_active, NX + N_FORCED + 1, w->map_scratch);      \
    }

/* A one for each row but the k-th, from its middle minus k on. */
static const double BUT_ONE[2 * MOST_MAPPED + 2 * BAND] = {
    1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1,
    0, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1,
};

/* The row with which column k is eliminated: that of the diagonal, unless another entry is ten times as large. */
static int pivot_row(const double *column, int k, int n)
{
    pair_t squares = {0, 0};
    int i, best = k;
    for (i = 0; i < n; i += 2) squares += PAIR(column + i) * PAIR(column + i);
    if (100 * column[k] * column[k] >= squares[0] + squares[1]) return k;
    for (i = k + 1; i < n; i++) if (fabs(column[i]) > fabs(column[best])) best = i;
    return fabs(column[best]) > 10 * fabs(column[k]) ? best : k;
}

/* Solve (I - h J) e = h f with the Jacobian kept, for w->xn = x + e, by Gauss and Jordan: each column in its turn is
 * taken out of those behind it and of the right side, which is the last. Returns 0 where there is no solution. */
#define ELIMINATION(name, lanes, target)                                                                   \
    target static int cut_##name(work_t *w, double h)                                                      \
    {                                                                                                      \
        typedef double lane_t __attribute__((vector_size(lanes * sizeof(double)), aligned(sizeof(double)))); \
        run_t *r = w->r;                                                                                   \
        const double *slopes = w->set->slopes;                                                             \
        double *columns = w->map_scratch, *right, inverse[MOST_MAPPED], factors[MOST_MAPPED + BAND];       \
        int i, j, k, n = NX, rows = BANDED(NX);                                                            \
        (void)r;                                                                                           \
        right = columns + n * rows;                                                                        \
        for (i = 0; i < n * rows; i += lanes) *(lane_t *)(columns + i) = *(const lane_t *)(slopes + i) * -h; \
        for (i = 0; i < n; i++) columns[i * rows + i] += 1;                                                \
        for (i = 0; i < n; i++) right[i] = h * w->k[0][i];                                                 \
        for (; i < rows; i++) right[i] = 0;                                                                \
        for (k = 0; k < n; k++) {                                                                          \
            double *column = columns + k * rows;                                                           \
            int pivot = pivot_row(column, k, n);                                                           \
            if (column[pivot] == 0) return 0;                                                              \
            if (pivot != k) for (j = k; j <= n; j++) {                                                     \
                double z = columns[j * rows + k];                                                          \
                columns[j * rows + k] = columns[j * rows + pivot];                                         \
                columns[j * rows + pivot] = z;                                                             \
            }                                                                                              \
            inverse[k] = 1 / column[k];                                                                    \
            for (i = 0; i < rows; i += lanes)                                                              \
                *(lane_t *)(factors + i) = *(lane_t *)(column + i)                                         \
                    * *(const lane_t *)(BUT_ONE + MOST_MAPPED - k + i) * inverse[k];                       \
            for (j = k + 1; j <= n; j++) {                                                                 \
                double *other = columns + j * rows, entry = other[k];                                      \
                for (i = 0; i < rows; i += lanes) *(lane_t *)(other + i) -= *(lane_t *)(factors + i) * entry; \
            }                                                                                              \
        }                                                                                                  \
        for (i = 0; i < n; i++) w->xn[i] = w->x[i] + right[i] * inverse[i];                                \
        return 1;                                                                                          \
    }

ELIMINATION(narrow, 2, )
PRODUCTS(narrow, 2, )
#if defined(__x86_64__) && defined(__GNUC__)
#define WIDE 1
ELIMINATION(wide, 4, __attribute__((target("avx2"))))
PRODUCTS(wide, 4, __attribute__((target("avx2"))))
static int is_wide(void) { return __builtin_cpu_supports("avx2"); }
#else
#define WIDE 0
static int is_wide(void) { return 0; }
#endif

/* Keep the matrices for steps of h with the present set. `factor_step` has just left the Jacobian and the factors of I
 * - h J. */
static void keep_map(work_t *w, double h)
{
    run_t *r = w->r;
    set_t *set = w->set;
    int n = NX, guards = N_GUARD, columns = columns_of(r), i, j, k;
    double *slopes = w->map_scratch, *constant = slopes + guards * n;
    memset(set->step_map, 0, sizeof(double) * (size_t)(set->slopes - set->step_map));
    r->affine(w->t, w->x, w->u, w->s, r->p, set->hoisted, constant, slopes);
    for (j = 0; j < columns; j++) {
        int place = j < n || j == columns - 1 ? -1 : r->forced_places[j - n];
        for (i = 0; i < n; i++)
            w->err[i] = j < n ? h * w->jac[i + j * n] : place < 0 ? h * constant[i] : h * (i == place);
        solve(w->lu, w->pivots, n, w->err);
        for (i = 0; i < n; i++) *at_place(set->step_map, columns, i, j) = w->err[i];
        for (i = 0; i < set->n_active; i++) {
            k = set->active[i];
            *at_place(set->guard_map, columns, i, j)
                = j < n ? slopes[k + j * guards] : place < 0 ? constant[n + k] : n + k == place;
        }
    }
}

/* A step of h that is none on the grid, to w->xn. */
static int cut_step(work_t *w, double h)
{
    run_t *r = w->r;
    double *slopes = w->set->slopes;
    int i, j, n = NX;
    if (slopes[0] != slopes[0]) {
        r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
        for (j = 0; j < n; j++, slopes += BANDED(NX))
            for (i = 0; i < BANDED(NX); i++) slopes[i] = i < n ? w->jac[i + j * n] : 0;
    }
#if WIDE
    if (w->wide) return cut_wide(w, h);
#endif
    return cut_narrow(w, h);
}

static int within(const double *x, int n, double limit)
{
    pair_t squares = {0, 0};
    int i, inside = 1;
    for (i = 0; i + 2 <= n; i += 2) squares += PAIR(x + i) * PAIR(x + i);
    if (squares[0] + squares[1] < limit * limit && (i == n || fabs(x[i]) < limit)) return 1;
    for (i = 0; i < n; i++) inside &= fabs(x[i]) < limit;
    return inside;
}

/* One full step to `end` in w->x itself, and where it is not the last of its stretch the active guards there. */
static int step_by_map(work_t *w, double end, int last)
{
    run_t *r = w->r;
    pair_t zero = {0, 0};
    bits_t signs = {0, 0};
    int n = NX, i;
    if (!w->mapped) r->forced(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->x + n);
#if WIDE
    if (w->wide) move_wide(w); else
#endif
    move_narrow(w);
    r->evaluations++;
    w->mapped = 0;
    if (!within(w->x, n, 1e15)) return 0;
    if (last) return 1;
    r->forced(end, w->x, w->u, w->s, r->p, w->set->hoisted, w->x + n);
    w->mapped = 2;
    if (!N_GUARD) return 1;
#if WIDE
    if (w->wide) watch_wide(w); else
#endif
    watch_narrow(w);
    for (i = 0; i < w->set->n_active; i += 2) signs |= (bits_t)(zero - PAIR(w->map_scratch + i));
    if ((signs[0] | signs[1]) >= 0) return 1;
    for (i = 0; i < w->set->n_active; i++) w->g[w->set->active[i]] = w->map_scratch[i];
    w->mapped = 1;
    return 1;
}

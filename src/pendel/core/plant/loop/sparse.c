/* Linear equations of many unknowns, each row with few of them: factors P A Q = L U column by column, where only what
 * is there is touched (Gilbert and Peierls, SIAM J. Sci. Stat. Comput. 9 (1988) 862; Davis: Direct Methods for Sparse
 * Linear Systems, chapter 6). The order of columns Q comes with the structure. Rows are divided by their largest entry,
 * since states are in units of their own; of a column the entry that Q's symmetric order wants then stays the pivot
 * unless another is a thousand times as large (as in Davis and Palamadai Natarajan: KLU, ACM TOMS 37 (2010) 36). */

static const double KEEPS_ORDER = 1e-3;

/* Places of A's entries, column by column, from those of the Jacobian and the diagonal. */
static void lay_out_sparse(sparse_t *f, const run_t *r)
{
    int n = f->n, k, at = 0, j;
    for (j = 0, k = 0; j < n; j++) {
        int diagonal = 0;
        f->begin[j] = at;
        for (; k < r->n_jac && r->jac_places[k] / n == j; k++) {
            int i = r->jac_places[k] % n;
            if (i == j) diagonal = 1;
            f->row[at] = i;
            f->from[at++] = r->jac_places[k];
        }
        if (!diagonal) { f->row[at] = j; f->from[at++] = -1; }
    }
    f->begin[n] = at;
}

/* Returns 0 where there is no memory. Factors never have more than n * n entries each. */
static int open_sparse(sparse_t *f, const run_t *r)
{
    size_t n = (size_t)r->nx, entries = (size_t)r->n_jac + n;
    memset(f, 0, sizeof *f);
    if (!r->n_jac) return 1;
    f->n = r->nx;
    f->room = 8 * entries < n * n ? 8 * entries : n * n;
    f->ints = malloc((2 * entries + 8 * n + 4 + 2 * f->room) * sizeof(int));
    f->values = malloc((entries + 2 * n + 2 * f->room) * sizeof(double));
    if (!f->ints || !f->values) return 0;
    f->row = f->ints; f->from = f->row + entries; f->begin = f->from + entries;
    f->l_begin = f->begin + n + 1; f->u_begin = f->l_begin + n + 1; f->place = f->u_begin + n + 1;
    f->reached = f->place + n; f->path = f->reached + n; f->resume = f->path + n; f->seen = f->resume + n;
    f->l_row = f->seen + n + 1; f->u_row = f->l_row + f->room;
    f->a = f->values; f->x = f->a + entries; f->scale = f->x + n; f->l = f->scale + n; f->u = f->l + f->room;
    lay_out_sparse(f, r);
    return 1;
}

static void close_sparse(sparse_t *f) { free(f->ints); free(f->values); }

/* Rows that a column of A reaches through L, in an order in which each comes after those it depends on, in f->reached
 * from the place returned to n. */
static int reach(sparse_t *f, int column, int mark)
{
    int n = f->n, top = n, p;
    for (p = f->begin[column]; p < f->begin[column + 1]; p++) {
        int depth = 0;
        if (f->seen[f->row[p]] == mark) continue;
        f->path[0] = f->row[p];
        f->seen[f->row[p]] = mark;
        f->resume[0] = f->place[f->row[p]] < 0 ? 0 : f->l_begin[f->place[f->row[p]]] + 1;
        while (depth >= 0) {
            int i = f->path[depth], done = f->place[i], deeper = 0;
            if (done >= 0) {
                int q, end = f->l_begin[done + 1];
                for (q = f->resume[depth]; q < end; q++) {
                    int next = f->l_row[q];
                    if (f->seen[next] == mark) continue;
                    f->seen[next] = mark;
                    f->resume[depth] = q + 1;
                    f->path[++depth] = next;
                    f->resume[depth] = f->place[next] < 0 ? 0 : f->l_begin[f->place[next]] + 1;
                    deeper = 1;
                    break;
                }
            }
            if (!deeper) { f->reached[--top] = i; depth--; }
        }
    }
    return top;
}

/* Factors of shift * I - J, J by its dense places. Returns 0 where it is singular, or so full that the factors have no
 * room: then the dense ones are taken. */
static int factorise_sparse(sparse_t *f, const run_t *r, const double *jac, double shift)
{
    int n = f->n, k, i, p;
    size_t nl = 0, nu = 0;
    for (i = 0; i < n; i++) f->scale[i] = 0;
    for (i = 0; i < n; i++) {
        for (p = f->begin[i]; p < f->begin[i + 1]; p++) {
            f->a[p] = (f->row[p] == i ? shift : 0) - (f->from[p] < 0 ? 0 : jac[f->from[p]]);
            f->scale[f->row[p]] = most(f->scale[f->row[p]], fabs(f->a[p]));
        }
        f->place[i] = f->seen[i] = -1;
    }
    for (i = 0; i < n; i++) {
        if (!(f->scale[i] > 0)) return 0;
        f->scale[i] = 1 / f->scale[i];
    }
    for (p = 0; p < f->begin[n]; p++) f->a[p] *= f->scale[f->row[p]];
    for (k = 0; k < n; k++) {
        int column = r->jac_order[k], pivot = -1, top;
        double largest = 0, by;
        if (nl + (size_t)n > f->room || nu + (size_t)n > f->room) return 0;
        f->l_begin[k] = (int)nl;
        f->u_begin[k] = (int)nu;
        top = reach(f, column, k);
        for (p = top; p < n; p++) f->x[f->reached[p]] = 0;
        for (p = f->begin[column]; p < f->begin[column + 1]; p++) f->x[f->row[p]] = f->a[p];
        for (p = top; p < n; p++) {
            int row = f->reached[p], done = f->place[row], q;
            if (done < 0) continue;
            for (q = f->l_begin[done] + 1; q < f->l_begin[done + 1]; q++) f->x[f->l_row[q]] -= f->l[q] * f->x[row];
            f->u_row[nu] = done;
            f->u[nu++] = f->x[row];
        }
        for (p = top; p < n; p++) {
            int row = f->reached[p];
            if (f->place[row] < 0 && fabs(f->x[row]) > largest) { largest = fabs(f->x[row]); pivot = row; }
        }
        if (pivot < 0 || !(largest > 0)) return 0;
        if (f->seen[column] == k && f->place[column] < 0 && fabs(f->x[column]) >= KEEPS_ORDER * largest) pivot = column;
        by = f->x[pivot];
        f->u_row[nu] = k;
        f->u[nu++] = by;
        f->place[pivot] = k;
        f->l_row[nl] = pivot;
        f->l[nl++] = 1;
        for (p = top; p < n; p++) {
            int row = f->reached[p];
            if (f->place[row] < 0 && f->x[row] != 0) { f->l_row[nl] = row; f->l[nl++] = f->x[row] / by; }
        }
        f->l_begin[k + 1] = (int)nl;
    }
    f->u_begin[n] = (int)nu;
    for (i = 0; i < (int)nl; i++)
        f->l_row[i] = f->place[f->l_row[i]];   /* rows in the order of pivots, for `solve_sparse` */
    return 1;
}

static void solve_sparse(sparse_t *f, const run_t *r, double *b)
{
    int n = f->n, k, p;
    double *x = f->x;
    for (k = 0; k < n; k++) x[f->place[k]] = b[k] * f->scale[k];
    for (k = 0; k < n; k++)
        for (p = f->l_begin[k] + 1; p < f->l_begin[k + 1]; p++) x[f->l_row[p]] -= f->l[p] * x[k];
    for (k = n - 1; k >= 0; k--) {
        x[k] /= f->u[f->u_begin[k + 1] - 1];
        for (p = f->u_begin[k]; p < f->u_begin[k + 1] - 1; p++) x[f->u_row[p]] -= f->u[p] * x[k];
    }
    for (k = 0; k < n; k++) b[r->jac_order[k]] = x[k];
}

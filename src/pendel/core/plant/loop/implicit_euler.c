/* The linearly implicit Euler method, for fixed steps and for what settles within nanoseconds. */

/* Factors of I - h J at the present state. Returns 0 where there are none. */
static int factor_step(work_t *w, double h)
{
    run_t *r = w->r;
    int n = NX, i, j;
    r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
    for (i = 0; i < n; i++) for (j = 0; j < n; j++) w->lu[i * n + j] = (i == j) - h * w->jac[i + j * n];
    return factorise(w->lu, w->pivots, n);
}

static int has_inverse(const set_t *set) { return set->inverse[0] == set->inverse[0]; }

/* Keep the inverse that the factors make with the set of modes, and behind it the step it is for: a full one, to
 * rounding. */
static void keep_inverse(work_t *w, double h)
{
    run_t *r = w->r;
    int n = NX, i, j;
    for (j = 0; j < n; j++) {
        for (i = 0; i < n; i++) w->err[i] = i == j;
        solve(w->lu, w->pivots, n, w->err);
        for (i = 0; i < n; i++) w->set->inverse[i * n + j] = w->err[i];
    }
    w->set->inverse[n * n] = h;
    if (is_affine(r)) keep_map(w, h);
}

/* One linearly implicit Euler step (order 1, L-stable): x += (I - h J)^-1 h f(t, x), with f in w->k[0]. For the full
 * step, and where the Jacobian is steady, the inverse is kept with the modes. */
static int step_fixed(work_t *w, double h, int full)
{
    run_t *r = w->r;
    int n = NX, i, j;
    if (!(full && r->steady_jacobian && has_inverse(w->set))) {
        if (!factor_step(w, h)) return 0;
        if (full && r->steady_jacobian) keep_inverse(w, h);
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

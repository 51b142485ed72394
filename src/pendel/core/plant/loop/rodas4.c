/* The L-stable RODAS4 (Hairer, Wanner: Solving Ordinary Differential Equations II, section IV.10, coefficients as in
 * the authors' published code). */

/* Of the Jacobian's entries that may not be zero. */
static double largest_row_sum(work_t *w)
{
    const run_t *r = w->r;
    int k;
    double largest = 0, *sum = w->xt;
    memset(sum, 0, (size_t)NX * sizeof *sum);
    for (k = 0; k < r->n_jac; k++) sum[r->jac_places[k] % NX] += fabs(w->jac[r->jac_places[k]]);
    for (k = 0; k < NX; k++) largest = most(largest, sum[k]);
    return largest;
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
    int few;
    double radius = 0;
    double *f0 = w->k[0];
    r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
    few = w->sparse.n && factorise_sparse(&w->sparse, r, w->jac, 1 / (h * gamma));
    if (few) radius = largest_row_sum(w);
    else for (i = 0; i < n; i++) {
        double row = 0;
        for (j = 0; j < n; j++) {
            row += fabs(w->jac[i + j * n]);
            w->lu[i * n + j] = (i == j ? 1 / (h * gamma) : 0) - w->jac[i + j * n];
        }
        radius = most(radius, row);
    }
    w->radius_num = radius * radius;
    w->radius_den = 1;
    if (!few && !factorise(w->lu, w->pivots, n)) return 0;
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
        if (few) solve_sparse(&w->sparse, r, k);
        else solve(w->lu, w->pivots, n, k);
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

static const method_t RODAS4 = {step_stiff, -0.25, 7, 0, 0, 1, 1, 0};

/* Linear equations of few unknowns: a dense matrix, by rows, with partial pivoting. */

static int factorise(double *a, int *pivots, int n)
{
    int i, j, k;
    for (k = 0; k < n; k++) {
        int best = k;
        for (i = k + 1; i < n; i++) if (fabs(a[i * n + k]) > fabs(a[best * n + k])) best = i;
        pivots[k] = best;
        if (a[best * n + k] == 0) return 0;
        if (best != k)
            for (j = 0; j < n; j++) { double z = a[k * n + j]; a[k * n + j] = a[best * n + j]; a[best * n + j] = z; }
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

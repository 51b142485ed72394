/* How long a run remembers an error: for how many periods what swings goes on swinging. */

/* Rows and columns scaled by powers of two until their sums are alike, so that units do not cost digits (Parlett and
 * Reinsch 1969). */
static void balance(double *a, int n)
{
    int i, j, done = 0;
    while (!done) {
        done = 1;
        for (i = 0; i < n; i++) {
            double column = 0, row = 0, f = 1, both;
            for (j = 0; j < n; j++) if (j != i) { column += fabs(a[j * n + i]); row += fabs(a[i * n + j]); }
            both = column + row;
            if (!(column > 0 && row > 0 && both < 1e300)) continue;
            while (column < row / 2) { f *= 2; column *= 4; }
            while (column > row * 2) { f /= 2; column /= 4; }
            if ((column + row) / f >= 0.95 * both) continue;
            done = 0;
            for (j = 0; j < n; j++) a[i * n + j] /= f;
            for (j = 0; j < n; j++) a[j * n + i] *= f;
        }
    }
}

/* To the form of Hessenberg by elimination with pivots (Martin and Wilkinson 1968); what lies below it is put to zero.
 */
static void to_hessenberg(double *a, int n)
{
    int m, i, j;
    for (m = 1; m < n - 1; m++) {
        int best = m;
        for (i = m + 1; i < n; i++) if (fabs(a[i * n + m - 1]) > fabs(a[best * n + m - 1])) best = i;
        if (a[best * n + m - 1] == 0) continue;
        if (best != m) {
            for (j = 0; j < n; j++) { double z = a[m * n + j]; a[m * n + j] = a[best * n + j]; a[best * n + j] = z; }
            for (j = 0; j < n; j++) { double z = a[j * n + m]; a[j * n + m] = a[j * n + best]; a[j * n + best] = z; }
        }
        for (i = m + 1; i < n; i++) {
            double f = a[i * n + m - 1] / a[m * n + m - 1];
            if (f == 0) continue;
            for (j = m - 1; j < n; j++) a[i * n + j] -= f * a[m * n + j];
            for (j = 0; j < n; j++) a[j * n + m] += f * a[j * n + i];
            a[i * n + m - 1] = 0;
        }
    }
}

/* One double step of QR with the shifts whose sum and product are given, on rows and columns from ``low`` to ``high``
 * (Francis 1961; as in Golub and Van Loan, Matrix Computations, algorithm 7.5.1). */
static void francis(double *a, int n, int low, int high, double sum, double product)
{
    double x = a[low * n + low] * (a[low * n + low] - sum) + product + a[low * n + low + 1] * a[(low + 1) * n + low];
    double y = a[(low + 1) * n + low] * (a[low * n + low] + a[(low + 1) * n + low + 1] - sum);
    double z = low + 2 <= high ? a[(low + 1) * n + low] * a[(low + 2) * n + low + 1] : 0;
    int k, i, j;
    for (k = low; k < high; k++) {
        int three = k + 2 <= high;
        double size = sqrt(x * x + y * y + (three ? z * z : 0)), v[3], scale;
        if (size > 0) {
            v[0] = x + (x < 0 ? -size : size); v[1] = y; v[2] = three ? z : 0;
            scale = 2 / (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]);
            for (j = k > low ? k - 1 : low; j <= high; j++) {
                double d = scale * (v[0] * a[k * n + j] + v[1] * a[(k + 1) * n + j]
                                    + (three ? v[2] * a[(k + 2) * n + j] : 0));
                a[k * n + j] -= d * v[0];
                a[(k + 1) * n + j] -= d * v[1];
                if (three) a[(k + 2) * n + j] -= d * v[2];
            }
            for (i = low; i <= (k + 3 < high ? k + 3 : high); i++) {
                double d = scale * (v[0] * a[i * n + k] + v[1] * a[i * n + k + 1]
                                    + (three ? v[2] * a[i * n + k + 2] : 0));
                a[i * n + k] -= d * v[0];
                a[i * n + k + 1] -= d * v[1];
                if (three) a[i * n + k + 2] -= d * v[2];
            }
        }
        if (k > low) { a[(k + 1) * n + k - 1] = 0; if (three) a[(k + 2) * n + k - 1] = 0; }
        x = a[(k + 1) * n + k];
        y = three ? a[(k + 2) * n + k] : 0;
        z = k + 3 <= high ? a[(k + 3) * n + k] : 0;
    }
}

/* Eigenvalues of a full matrix, by rows, which is lost. Returns how many were found; those that would not settle are
 * left out. */
static int eigenvalues(double *a, int n, double *re, double *im)
{
    int high = n - 1, found = 0, tries = 0;
    balance(a, n);
    to_hessenberg(a, n);
    while (high >= 0) {
        int low = high;
        double p, q, sum, product;
        for (; low > 0; low--) {
            double near = fabs(a[low * n + low]) + fabs(a[(low - 1) * n + low - 1]);
            if (fabs(a[low * n + low - 1]) <= 2.3e-16 * near) { a[low * n + low - 1] = 0; break; }
        }
        if (low == high) {
            re[found] = a[high * n + high]; im[found++] = 0;
            high--; tries = 0;
            continue;
        }
        sum = a[(high - 1) * n + high - 1] + a[high * n + high];
        product = a[(high - 1) * n + high - 1] * a[high * n + high] - a[(high - 1) * n + high] * a[high * n + high - 1];
        if (low == high - 1) {
            p = (a[(high - 1) * n + high - 1] - a[high * n + high]) / 2;
            q = p * p + a[(high - 1) * n + high] * a[high * n + high - 1];
            if (q < 0) {
                re[found] = re[found + 1] = sum / 2;
                im[found] = sqrt(-q); im[found + 1] = -sqrt(-q);
            } else {
                re[found] = sum / 2 + (p < 0 ? -sqrt(q) : sqrt(q));
                re[found + 1] = re[found] != 0 ? product / re[found] : sum / 2;
                im[found] = im[found + 1] = 0;
            }
            found += 2; high -= 2; tries = 0;
            continue;
        }
        if (++tries > 60 || !(fabs(sum) < 1e300)) return found;
        if (tries % 10 == 0) {   /* shifts that break a circle (Wilkinson and Reinsch 1971) */
            double s = fabs(a[high * n + high - 1]) + fabs(a[(high - 1) * n + high - 2]);
            sum = 1.5 * s; product = s * s;
        }
        francis(a, n, low, high, sum, product);
    }
    return found;
}

/* Systems of more states count as without damping. */
enum { MOST_EIGENVALUES = 64 };
/* Steps of a period, at least, by the methods at hand. */
static const double STEPS_A_PERIOD = 30;

/* Periods that an oscillation which steps of ``usual`` s follow lives on, in a run of ``length`` s; the most of any. */
static double remembered_periods(work_t *w, double usual, double length)
{
    run_t *r = w->r;
    double re[MOST_EIGENVALUES], im[MOST_EIGENVALUES], longest = 0;
    int n = NX, i, j, count;
    if (n > MOST_EIGENVALUES) return length / usual / STEPS_A_PERIOD;
    r->jac(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->jac, w->dfdt);
    for (i = 0; i < n; i++) for (j = 0; j < n; j++) w->lu[i * n + j] = w->jac[i + j * n];
    count = eigenvalues(w->lu, n, re, im);
    for (i = 0; i < count; i++) {
        double lives = re[i] < 0 ? least(length, -1 / re[i]) : length;
        if (im[i] > 0 && hypot(re[i], im[i]) * usual < 2.5) longest = most(longest, im[i] * lives / 6.283185307179586);
    }
    return longest;
}

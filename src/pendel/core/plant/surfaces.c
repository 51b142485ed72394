/* A smooth function of two variables as a tensor product of uniform quartic B-splines, with its derivatives to the third order.
 * Piegl, Tiller: The NURBS Book, algorithm A2.2. ``s`` holds low and step of both axes, then (cells + 4) x (cells + 4) coefficients.
 * Beyond its edge the function goes on with the slopes and curvatures it has there.
 * Results: f, f_x, f_y, f_xx, f_xy, f_yy, f_xxx, f_xxy, f_xyy, f_yyy. */

/* Basis of the cell at 0 <= t <= 1 and its first three derivatives, d[k][j] for derivative k of basis function j. */
static void surface_basis(double t, double d[4][5])
{
    double b[5][5];
    int degree, j, k;
    b[0][0] = 1;
    for (degree = 1; degree <= 4; degree++) {
        double saved = 0;
        for (j = 0; j < degree; j++) {
            double part = b[degree - 1][j] / degree;
            b[degree][j] = saved + (j + 1 - t) * part;
            saved = (t + degree - 1 - j) * part;
        }
        b[degree][degree] = saved;
    }
    for (k = 0; k < 4; k++) {
        double *row = d[k];
        int times;
        for (j = 0; j < 5; j++) row[j] = j <= 4 - k ? b[4 - k][j] : 0;
        for (times = 0; times < k; times++) {
            for (j = 4; j > 0; j--) row[j] = row[j - 1] - row[j];
            row[0] = -row[0];
        }
    }
}

static double surface_place(double x, double low, double step, int cells, int *cell)
{
    double at = (x - low) / step;
    if (!(at > 0)) at = 0;
    if (at > cells) at = cells;
    *cell = (int)at < cells ? (int)at : cells - 1;
    return at - *cell;
}

static void surface(const double *s, int nx, int ny, double x, double y, double *out)
{
    static const int order_x[10] = {0, 1, 0, 2, 1, 0, 3, 2, 1, 0}, order_y[10] = {0, 0, 1, 0, 1, 2, 0, 1, 2, 3};
    double dx[4][5], dy[4][5], along[4][5], unit_x[4], unit_y[4], beyond_x, beyond_y;
    int i, j, k, cx, cy;
    const double *c = s + 4;
    surface_basis(surface_place(x, s[0], s[1], nx, &cx), dx);
    surface_basis(surface_place(y, s[2], s[3], ny, &cy), dy);
    for (i = 0; i < 5; i++) {
        const double *row = c + (cx + i) * (ny + 4) + cy;
        for (k = 0; k < 4; k++) {
            double sum = 0;
            for (j = 0; j < 5; j++) sum += row[j] * dy[k][j];
            along[k][i] = sum;
        }
    }
    unit_x[0] = unit_y[0] = 1;
    for (k = 1; k < 4; k++) { unit_x[k] = unit_x[k - 1] / s[1]; unit_y[k] = unit_y[k - 1] / s[3]; }
    for (k = 0; k < 10; k++) {
        double sum = 0;
        for (i = 0; i < 5; i++) sum += dx[order_x[k]][i] * along[order_y[k]][i];
        out[k] = sum * unit_x[order_x[k]] * unit_y[order_y[k]];
    }
    beyond_x = x < s[0] ? x - s[0] : (x > s[0] + nx * s[1] ? x - s[0] - nx * s[1] : 0);
    beyond_y = y < s[2] ? y - s[2] : (y > s[2] + ny * s[3] ? y - s[2] - ny * s[3] : 0);
    if (beyond_x != 0 || beyond_y != 0) {
        out[0] += out[1] * beyond_x + out[2] * beyond_y + 0.5 * (out[3] * beyond_x * beyond_x + 2 * out[4] * beyond_x * beyond_y + out[5] * beyond_y * beyond_y);
        out[1] += out[3] * beyond_x + out[4] * beyond_y;
        out[2] += out[4] * beyond_x + out[5] * beyond_y;
        out[6] = out[7] = out[8] = out[9] = 0;
    }
}

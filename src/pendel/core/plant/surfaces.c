/* A smooth function of two variables as a tensor product of uniform quartic B-splines, with its derivatives to the third order.
 * Piegl, Tiller: The NURBS Book, algorithm A2.2. ``s`` holds low and step of both axes, then (cells + 4) x (cells + 4) coefficients.
 * Beyond its edge the function goes on with the slopes and curvatures it has there.
 * Results: f, f_x, f_y, f_xx, f_xy, f_yy, and where the ``third`` derivatives are wanted, as for a Jacobian, f_xxx, f_xxy, f_xyy, f_yyy. */

/* Basis of the cell at 0 <= t <= 1 and its first three derivatives, d[k][j] for derivative k of basis function j. Derivatives are
 * differences of the basis of lower degree. */
static void surface_basis(double t, double d[4][5])
{
    static const double third = 1.0 / 3.0;
    double u = 1 - t, q0 = 0.5 * u * u, q2 = 0.5 * t * t, q1 = 1 - q0 - q2;
    double c0 = third * u * q0, c1 = third * ((t + 2) * q0 + (2 - t) * q1), c2 = third * ((t + 1) * q1 + (3 - t) * q2), c3 = third * t * q2;
    d[0][0] = 0.25 * u * c0;
    d[0][1] = 0.25 * ((t + 3) * c0 + (2 - t) * c1);
    d[0][2] = 0.25 * ((t + 2) * c1 + (3 - t) * c2);
    d[0][3] = 0.25 * ((t + 1) * c2 + (4 - t) * c3);
    d[0][4] = 0.25 * t * c3;
    d[1][0] = -c0; d[1][1] = c0 - c1; d[1][2] = c1 - c2; d[1][3] = c2 - c3; d[1][4] = c3;
    d[2][0] = q0; d[2][1] = q1 - 2 * q0; d[2][2] = q0 - 2 * q1 + q2; d[2][3] = q1 - 2 * q2; d[2][4] = q2;
    d[3][0] = -u; d[3][1] = 3 * u - t; d[3][2] = 3 * (t - u); d[3][3] = u - 3 * t; d[3][4] = t;
}

static double surface_sum(const double *a, const double *b)
{
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2] + a[3] * b[3] + a[4] * b[4];
}

static double surface_place(double x, double low, double per_step, int cells, int *cell)
{
    double at = (x - low) * per_step;
    if (!(at > 0)) at = 0;
    if (at > cells) at = cells;
    *cell = (int)at < cells ? (int)at : cells - 1;
    return at - *cell;
}

static void surface(const double *s, int nx, int ny, int third, double x, double y, double *out)
{
    static const int order_x[10] = {0, 1, 0, 2, 1, 0, 3, 2, 1, 0}, order_y[10] = {0, 0, 1, 0, 1, 2, 0, 1, 2, 3};
    double dx[4][5], dy[4][5], along[4][5], unit_x[4], unit_y[4], beyond_x, beyond_y;
    int i, k, cx, cy, orders = third ? 4 : 3, results = third ? 10 : 6;
    const double *c = s + 4;
    unit_x[0] = unit_y[0] = 1;
    unit_x[1] = 1 / s[1];
    unit_y[1] = 1 / s[3];
    for (k = 2; k < orders; k++) { unit_x[k] = unit_x[k - 1] * unit_x[1]; unit_y[k] = unit_y[k - 1] * unit_y[1]; }
    surface_basis(surface_place(x, s[0], unit_x[1], nx, &cx), dx);
    surface_basis(surface_place(y, s[2], unit_y[1], ny, &cy), dy);
    for (i = 0; i < 5; i++) {
        const double *row = c + (cx + i) * (ny + 4) + cy;
        for (k = 0; k < orders; k++) along[k][i] = surface_sum(row, dy[k]);
    }
    for (k = 0; k < results; k++) out[k] = surface_sum(dx[order_x[k]], along[order_y[k]]) * unit_x[order_x[k]] * unit_y[order_y[k]];
    beyond_x = x < s[0] ? x - s[0] : (x > s[0] + nx * s[1] ? x - s[0] - nx * s[1] : 0);
    beyond_y = y < s[2] ? y - s[2] : (y > s[2] + ny * s[3] ? y - s[2] - ny * s[3] : 0);
    if (beyond_x != 0 || beyond_y != 0) {
        out[0] += out[1] * beyond_x + out[2] * beyond_y + 0.5 * (out[3] * beyond_x * beyond_x + 2 * out[4] * beyond_x * beyond_y + out[5] * beyond_y * beyond_y);
        out[1] += out[3] * beyond_x + out[4] * beyond_y;
        out[2] += out[4] * beyond_x + out[5] * beyond_y;
        for (k = 6; k < results; k++) out[k] = 0;
    }
}

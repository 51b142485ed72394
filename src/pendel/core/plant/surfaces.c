/* A smooth function of two variables as a tensor product of uniform quartic B-splines, with its derivatives to the
 * third order. Piegl, Tiller: The NURBS Book, algorithm A2.2. ``s`` holds low and step of both axes, seven numbers each
 * on how they go on beyond their rims, then (cells + 4) x (cells + 4) coefficients. Beyond the rims coordinates are led
 * to a stop, so that a convex function goes on convex, with continuous second derivatives, and in the end straight in
 * its slopes; see co_energy.py of the machines. Results: f, f_x, f_y, f_xx, f_xy, f_yy, and where the ``third``
 * derivatives are wanted, as for a Jacobian, f_xxx, f_xxy, f_xyy, f_yyy. */

/* Basis of the cell at 0 <= t <= 1 and its first three derivatives, d[k][j] for derivative k of basis function j.
 * Derivatives are differences of the basis of lower degree. */
static void surface_basis(double t, double d[4][5])
{
    static const double third = 1.0 / 3.0;
    double u = 1 - t, q0 = 0.5 * u * u, q2 = 0.5 * t * t, q1 = 1 - q0 - q2;
    double c0 = third * u * q0, c1 = third * ((t + 2) * q0 + (2 - t) * q1), c2 = third * ((t + 1) * q1 + (3 - t) * q2),
        c3 = third * t * q2;
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

/* How one axis goes on beyond its rims. ``b`` holds both rims, the lengths over which the led coordinate comes to rest,
 * the slopes that are held there, and the curvature that is left. */
/* the led coordinate and what is added, with three derivatives each */
typedef struct { double at[4], held, rest[4]; } led_t;

static int lead(const double *b, double x, led_t *led)
{
    int above = x > b[1];
    double side = above ? 1 : -1, gone = above ? x - b[1] : b[0] - x, length = above ? b[3] : b[2], s, further,
        curve = b[6];
    led->at[0] = x; led->at[1] = 1; led->at[2] = led->at[3] = 0;
    led->held = 0;
    led->rest[0] = led->rest[1] = led->rest[2] = led->rest[3] = 0;
    if (!(gone > 0)) return 0;
    s = gone < length ? gone / length : 1;
    further = gone < length ? 0 : gone - length;
    led->at[0] = x - side * (gone - length * s * (1 - s * s * (1 - 0.5 * s)));
    led->at[1] = 1 - s * s * (3 - 2 * s);
    led->at[2] = -side * 6 * s * (1 - s) / length;
    led->at[3] = further > 0 ? 0 : -6 * (1 - 2 * s) / (length * length);
    led->held = above ? b[5] : b[4];
    led->rest[0] = curve * (length * length * s * s * s * s * (0.25 - 0.1 * s) + further * 0.5 * (length + further));
    led->rest[1] = curve * side * (length * s * s * s * (1 - 0.5 * s) + further);
    led->rest[2] = curve * s * s * (3 - 2 * s);
    led->rest[3] = further > 0 ? 0 : curve * side * 6 * s * (1 - s) / length;
    return 1;
}

/* The function at (x, y) from the spline's results at the led coordinates: F = f(X, Y) + c (x - X) + rest, and the same
 * for y. */
static void compose(const led_t *p, const led_t *q, double x, double y, int third, double *out)
{
    double f_x = out[1], f_y = out[2], f_xx = out[3], f_xy = out[4], f_yy = out[5];
    const double *a = p->at, *b = q->at;
    out[0] += p->held * (x - a[0]) + p->rest[0] + q->held * (y - b[0]) + q->rest[0];
    out[1] = f_x * a[1] + p->held * (1 - a[1]) + p->rest[1];
    out[2] = f_y * b[1] + q->held * (1 - b[1]) + q->rest[1];
    out[3] = f_xx * a[1] * a[1] + (f_x - p->held) * a[2] + p->rest[2];
    out[4] = f_xy * a[1] * b[1];
    out[5] = f_yy * b[1] * b[1] + (f_y - q->held) * b[2] + q->rest[2];
    if (!third) return;
    out[6] = out[6] * a[1] * a[1] * a[1] + 3 * f_xx * a[1] * a[2] + (f_x - p->held) * a[3] + p->rest[3];
    out[7] = (out[7] * a[1] * a[1] + f_xy * a[2]) * b[1];
    out[8] = (out[8] * b[1] * b[1] + f_xy * b[2]) * a[1];
    out[9] = out[9] * b[1] * b[1] * b[1] + 3 * f_yy * b[1] * b[2] + (f_y - q->held) * b[3] + q->rest[3];
}

static void surface(const double *s, int nx, int ny, int third, double x, double y, double *out)
{
    static const int order_x[10] = {0, 1, 0, 2, 1, 0, 3, 2, 1, 0}, order_y[10] = {0, 0, 1, 0, 1, 2, 0, 1, 2, 3};
    double dx[4][5], dy[4][5], along[4][5], unit_x[4], unit_y[4];
    int i, k, cx, cy, orders = third ? 4 : 3, results = third ? 10 : 6, beyond;
    const double *c = s + 18;
    led_t p, q;
    beyond = lead(s + 4, x, &p) | lead(s + 11, y, &q);
    unit_x[0] = unit_y[0] = 1;
    unit_x[1] = 1 / s[1];
    unit_y[1] = 1 / s[3];
    for (k = 2; k < orders; k++) { unit_x[k] = unit_x[k - 1] * unit_x[1]; unit_y[k] = unit_y[k - 1] * unit_y[1]; }
    surface_basis(surface_place(p.at[0], s[0], unit_x[1], nx, &cx), dx);
    surface_basis(surface_place(q.at[0], s[2], unit_y[1], ny, &cy), dy);
    for (i = 0; i < 5; i++) {
        const double *row = c + (cx + i) * (ny + 4) + cy;
        for (k = 0; k < orders; k++) along[k][i] = surface_sum(row, dy[k]);
    }
    for (k = 0; k < results; k++)
        out[k] = surface_sum(dx[order_x[k]], along[order_y[k]]) * unit_x[order_x[k]] * unit_y[order_y[k]];
    if (beyond) compose(&p, &q, x, y, third, out);
}

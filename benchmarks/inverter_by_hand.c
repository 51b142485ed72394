/* Reference: a synchronous machine on an inverter of ideal switches, 10 kHz space vector, written by hand.
 * RK4 from edge to edge, one step each; speed imposed. Returns nothing; trace holds i_d, i_q at each period. */
#include <math.h>

typedef struct { double R, Ld, Lq, psi, w, U, amplitude, omega; } par_t;

static void f(const par_t *p, double t, const double *x, const double *v, double *dx)
{
    double th = p->w * t, c = cos(th), s = sin(th), h = 0.86602540378443865;
    double al = (2 * v[0] - v[1] - v[2]) / 3, be = (v[1] - v[2]) / (2 * h);
    double ud = c * al + s * be, uq = -s * al + c * be;
    dx[0] = (ud - p->R * x[0] + p->w * p->Lq * x[1]) / p->Ld;
    dx[1] = (uq - p->R * x[1] - p->w * (p->Ld * x[0] + p->psi)) / p->Lq;
}

static void rk4(const par_t *p, double t, double h, double *x, const double *v)
{
    double a[2], b[2], c[2], d[2], y[2];
    f(p, t, x, v, a);
    y[0] = x[0] + h / 2 * a[0]; y[1] = x[1] + h / 2 * a[1]; f(p, t + h / 2, y, v, b);
    y[0] = x[0] + h / 2 * b[0]; y[1] = x[1] + h / 2 * b[1]; f(p, t + h / 2, y, v, c);
    y[0] = x[0] + h * c[0]; y[1] = x[1] + h * c[1]; f(p, t + h, y, v, d);
    x[0] += h / 6 * (a[0] + 2 * b[0] + 2 * c[0] + d[0]);
    x[1] += h / 6 * (a[1] + 2 * b[1] + 2 * c[1] + d[1]);
}

void inverter(const par_t *p, long periods, double T, double *trace)
{
    double x[2] = {0, 0};
    long n;
    int k, j;
    for (n = 0; n < periods; n++) {
        double t = n * T, u[3], d[3], lo, hi, edge[6], v[3];
        int leg[6], on[3];
        for (k = 0; k < 3; k++) u[k] = p->amplitude * sin(p->omega * t - k * 2.0943951023931957);
        hi = fmax(u[0], fmax(u[1], u[2])); lo = fmin(u[0], fmin(u[1], u[2]));
        for (k = 0; k < 3; k++) d[k] = 0.5 + (u[k] - 0.5 * (hi + lo)) / p->U;
        for (k = 0; k < 3; k++) { edge[k] = t + 0.5 * d[k] * T; edge[k + 3] = t + (1 - 0.5 * d[k]) * T; leg[k] = leg[k + 3] = k; on[k] = 1; }
        for (k = 1; k < 6; k++) for (j = k; j > 0 && edge[j] < edge[j - 1]; j--) {
            double e = edge[j]; int l = leg[j];
            edge[j] = edge[j - 1]; edge[j - 1] = e; leg[j] = leg[j - 1]; leg[j - 1] = l;
        }
        trace[2 * n] = x[0]; trace[2 * n + 1] = x[1];
        for (k = 0; k <= 6; k++) {
            double next = k < 6 ? edge[k] : (n + 1) * T;
            for (j = 0; j < 3; j++) v[j] = on[j] ? p->U : 0;
            if (next > t) rk4(p, t, next - t, x, v);
            t = next;
            if (k < 6) on[leg[k]] = !on[leg[k]];
        }
    }
}

/* Reference: the haul drive with its field orientation on an inverter of ideal switches, 10 kHz space vector, written by
 * hand. RK4 from edge to edge, one step each; speed imposed; the computing delay is one period. The trace holds i_d, i_q at
 * each period. */
#include <math.h>

typedef struct { double R, Ld, Lq, psi, p, w, U, share, Imax, before, after, t_step, Kd, Td, Kq, Tq, quantum; } par_t;
typedef struct { double last, held, sum_d, sum_q; int started; } ctl_t;

static double clip(double x, double lo, double hi) { return x < lo ? lo : (x > hi ? hi : x); }

static void f(const par_t *p, double t, const double *x, const double *v, double *dx)
{
    double we = p->p * p->w, th = we * t, c = cos(th), s = sin(th), h = 0.86602540378443865;
    double al = (2 * v[0] - v[1] - v[2]) / 3, be = (v[1] - v[2]) / (2 * h);
    double ud = c * al + s * be, uq = -s * al + c * be;
    dx[0] = (ud - p->R * x[0] + we * p->Lq * x[1]) / p->Ld;
    dx[1] = (uq - p->R * x[1] - we * (p->Ld * x[0] + p->psi)) / p->Lq;
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

/* Torque to currents, two PI regulators with decoupling and a voltage limit, space vector: duties from phase currents. */
static void control(const par_t *p, ctl_t *c, double T, double t, double position, const double *i, double *duty)
{
    double turned = p->p * position, speed, ahead, co, si, al, be, d, q, torque, set_d, set_q, more, flux, weak, beyond, root, meet, k, whole, ridge, rest, most, room, free_d, free_q, ud, uq, u[3], hi, lo, e_d, e_q;
    int n;
    if (!c->started) { c->last = turned; c->started = 1; }
    speed = (turned - c->last) / T; c->last = turned; ahead = turned + 1.5 * speed * T;
    torque = t >= p->t_step - 0.5 * T ? p->after : p->before;
    more = p->Lq - p->Ld;
    q = clip(torque / (1.5 * p->p * (p->psi - more * c->held)), -p->Imax, p->Imax);
    d = -2 * more * q * q / (p->psi + sqrt(p->psi * p->psi + 4 * more * more * q * q));
    most = p->share * p->U * 0.57735026918962576;
    flux = most / fmax(fabs(speed), 1e-3);
    weak = (sqrt(fmax(flux * flux - p->Lq * p->Lq * q * q, 0)) - p->psi) / p->Ld;
    beyond = p->psi * p->psi + p->Lq * p->Lq * p->Imax * p->Imax - flux * flux;
    root = sqrt(p->Ld * p->Ld * p->psi * p->psi + fmax(p->Lq * p->Lq - p->Ld * p->Ld, 0) * fmax(beyond, 0));
    meet = beyond > 0 ? -beyond / (p->Ld * p->psi + root) : -p->Imax;
    k = more / p->Ld; whole = p->psi * (1 + k);
    ridge = -2 * k * flux * flux / (whole + sqrt(whole * whole + 8 * k * k * flux * flux));
    d = clip(fmax(fmin(d, weak), fmax(meet, (ridge - p->psi) / p->Ld)), -p->Imax, 0);
    c->held = d; rest = p->Ld * d + p->psi;
    room = fmin(sqrt(fmax(p->Imax * p->Imax - d * d, 0)), sqrt(fmax(flux * flux - rest * rest, 0)) / p->Lq);
    set_d = d; set_q = clip(torque / (1.5 * p->p * (p->psi - more * d)), -room, room);
    al = (2 * i[0] - i[1] - i[2]) / 3; be = (i[1] - i[2]) * 0.57735026918962576;
    co = cos(turned); si = sin(turned);
    d = al * co + be * si; q = be * co - al * si;
    e_d = set_d - d; e_q = set_q - q;
    free_d = p->Kd * e_d + c->sum_d - speed * p->Lq * q;
    free_q = p->Kq * e_q + c->sum_q + speed * (p->Ld * d + p->psi);
    ud = clip(free_d, -most, most); room = sqrt(fmax(most * most - ud * ud, 0)); uq = clip(free_q, -room, room);
    c->sum_d += (p->Kd * e_d + ud - free_d) * T / p->Td;
    c->sum_q += (p->Kq * e_q + uq - free_q) * T / p->Tq;
    co = cos(ahead); si = sin(ahead);
    al = ud * co - uq * si; be = ud * si + uq * co;
    u[0] = al; u[1] = 0.86602540378443865 * be - 0.5 * al; u[2] = -0.86602540378443865 * be - 0.5 * al;
    hi = fmax(u[0], fmax(u[1], u[2])); lo = fmin(u[0], fmin(u[1], u[2]));
    for (n = 0; n < 3; n++) duty[n] = clip(0.5 + (u[n] - 0.5 * (hi + lo)) / p->U, 0, 1);
}

void haul(const par_t *p, long periods, double T, double *trace)
{
    double x[2] = {0, 0}, d[3] = {0, 0, 0}, next_d[3] = {0, 0, 0};
    ctl_t c = {0, 0, 0, 0, 0};
    long n;
    int k, j;
    for (n = 0; n < periods; n++) {
        double t = n * T, i[3], edge[6], v[3], th = p->p * p->w * t;
        int leg[6], on[3];
        for (k = 0; k < 3; k++) {
            double a = th - k * 2.0943951023931957;
            i[k] = p->quantum * floor((x[0] * cos(a) - x[1] * sin(a)) / p->quantum + 0.5);
            d[k] = next_d[k];
        }
        control(p, &c, T, t, p->w * t, i, next_d);
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

/* The car door drive written by hand: the same physics, the same two sampled loops, RK4 with one step a tick,
 * traces stored. The yardstick for the time loop. Friction is switched by its sign at each step, which is
 * cheaper and rougher than landing on the instant. */
#include <math.h>
#include <stdlib.h>

typedef struct { double i, w, s, v, phi, x; } state_t;
typedef struct { double R, L, k, J, b, Ri, Ron, U, n, eta, r, kb, db, m, Fc, br; } par_t;

static double rubbing(double t)
{
    static const double tt[] = {0, 0.62, 0.63, 0.88, 0.89, 1.2}, f[] = {0, 0, 160, 160, 0, 0};
    int k = 0;
    if (t >= 1.2) return 0;
    while (t >= tt[k + 1]) k++;
    return f[k] + (f[k + 1] - f[k]) * (t - tt[k]) / (tt[k + 1] - tt[k]);
}

static void rhs(const par_t *p, double t, const state_t *x, double d, state_t *dx)
{
    double u = d * p->U - (d * d * p->Ri + 2 * p->Ron) * x->i;
    double ds = p->r * x->w / p->n - x->v, F = p->kb * x->s + p->db * ds;
    double load = p->r * F / p->n, eta = load * x->w >= 0 ? 1 / p->eta : p->eta;
    double dry = p->Fc + rubbing(t), rub = x->v > 0 ? dry : (x->v < 0 ? -dry : (F > dry ? dry : (F < -dry ? -dry : F)));
    dx->i = (u - p->R * x->i - p->k * x->w) / p->L;
    dx->w = (p->k * x->i - p->b * x->w - load * eta) / p->J;
    dx->s = ds;
    dx->v = (F - rub - p->br * x->v) / p->m;
    dx->phi = x->w;
    dx->x = x->v;
}

static void add(state_t *y, const state_t *x, double h, const state_t *d)
{
    const double *a = (const double *)x, *b = (const double *)d;
    double *c = (double *)y;
    int k;
    for (k = 0; k < 6; k++) c[k] = a[k] + h * b[k];
}

static double pi(double e, double K, double T, double dt, double lim, double *sum)
{
    double grown = *sum + K * e * dt / T, u = K * e + grown;
    double out = u > lim ? lim : (u < -lim ? -lim : u);
    if (!((u > lim && e > 0) || (u < -lim && e < 0))) *sum = grown > lim ? lim : (grown < -lim ? -lim : grown);
    return out;
}

/* par: 16 values of par_t, then K_p, T_i, K_i, T_a, i_max; returns the final travel; trace is n by 12. */
double door(const double *par, long ticks, double dt, double *trace)
{
    par_t p = *(const par_t *)par;
    double Kp = par[16], Ti = par[17], Ki = par[18], Ta = par[19], imax = par[20];
    state_t x = {0}, k1, k2, k3, k4, y;
    double s1 = 0, s2 = 0, i_set = 0, duty = 0, next = 0, count = 0, speed = 0, wish = 0;
    long n;
    const double edges = 4 * 512 / 6.283185307179586;
    for (n = 0; n < ticks; n++) {
        double t = n * dt, *row = trace + 12 * n;
        if (n % 20 == 0) {
            double now = floor(x.phi * edges), tp = t - 0.05;
            speed = (now - count) / edges / (20 * dt) * p.r / p.n;
            count = now;
            wish = tp <= 0 ? 0 : tp < 0.1775 ? 4 * tp : tp < 0.985915493 ? 0.71 : tp < 1.163415493 ? 4 * (1.163415493 - tp) : 0;
            i_set = pi(wish - speed, Kp, Ti, 20 * dt, imax, &s1);
        }
        duty = next;
        next = pi(i_set - x.i, Ki, Ta, dt, 0.96 * p.U, &s2) / p.U;
        next = next > 0.98 ? 0.98 : (next < -0.98 ? -0.98 : next);
        row[0] = t; row[1] = x.i; row[2] = x.w; row[3] = x.phi; row[4] = x.s; row[5] = x.v; row[6] = x.x;
        row[7] = duty; row[8] = i_set; row[9] = speed; row[10] = wish; row[11] = next;
        rhs(&p, t, &x, duty, &k1);
        add(&y, &x, dt / 2, &k1); rhs(&p, t + dt / 2, &y, duty, &k2);
        add(&y, &x, dt / 2, &k2); rhs(&p, t + dt / 2, &y, duty, &k3);
        add(&y, &x, dt, &k3); rhs(&p, t + dt, &y, duty, &k4);
        add(&y, &x, dt / 6, &k1); add(&y, &y, dt / 3, &k2); add(&y, &y, dt / 3, &k3);
        { double before = x.v; add(&x, &y, dt / 6, &k4); if (before * x.v < 0) x.v = 0; }
    }
    return x.x;
}

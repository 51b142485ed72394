#include <stdint.h>

typedef double real_t;

typedef struct {
    real_t *past;
    int length;
    int at;
} pd_line_t;

typedef struct {
    real_t measured;
    real_t value;
    real_t gain_error, offset, noise_relative, noise_absolute, step, bottom, top, delay_ticks, share, ideal, dt;
    real_t slow, begun;
    pd_line_t line;
    uint64_t rng;
} pd_current_sensor_t;

typedef struct {
    real_t angle;
    real_t speed, position;
    real_t lines, clock, timed, wraps, ideal, dt;
    real_t count, last_angle, noted, waited, known, started;
} pd_encoder_t;

typedef struct {
    real_t x;
    real_t out;
    real_t K, dt;
} pd_gain_t;

typedef struct {
    real_t speed, position;
    real_t sign, v_peak, t_a, t_c, t_d, wait, wait_more, early, distance, dt;
    real_t n, started;
} pd_travel_plan_t;

typedef struct {
    real_t setpoint, actual, feedforward;
    real_t out;
    real_t K_p, T_i, low, high, closed, open_output, dt;
    real_t integral;
} pd_pi_t;

typedef struct {
    real_t u, u_link;
    real_t duty;
    real_t U_dc, d_max, timer, dt;
} pd_pulse_stage_t;

typedef struct {
    real_t door_motor_current;
    real_t door_motor_angle;
} car_door_drive_in_t;

typedef struct {
    real_t bridge_duty;
} car_door_drive_out_t;

typedef struct {
    uint32_t tick;
    car_door_drive_in_t in;
    car_door_drive_out_t out;
    pd_current_sensor_t current_sensor;
    pd_encoder_t encoder;
    pd_gain_t travel_speed;
    pd_travel_plan_t travel_plan;
    pd_pi_t speed_pi;
    pd_pi_t current_pi;
    pd_pulse_stage_t pulse_stage;
} car_door_drive_t;

#include <math.h>

static real_t pd_saturate(real_t x, real_t low, real_t high)
{
    return x < low ? low : (x > high ? high : x);
}

static real_t pd_absolute(real_t x)
{
    return x < 0 ? -x : x;
}

static real_t pd_maximum(real_t a, real_t b)
{
    return a > b ? a : b;
}

/* x as it was some periods ago; a fraction of a period is interpolated */
static real_t pd_delayed(pd_line_t *line, real_t x, real_t periods)
{
    int whole = (int)periods;
    real_t part = periods - (real_t)whole;
    real_t a, b;
    line->past[line->at] = x;
    if (whole > line->length - 2) {
        whole = line->length - 2;
    }
    a = line->past[(line->at + line->length - whole) % line->length];
    b = line->past[(line->at + line->length - whole - 1) % line->length];
    line->at = (line->at + 1) % line->length;
    return a + part * (b - a);
}

/* normal deviate: xorshift64* (Vigna 2016) and the Box-Muller transform */
static real_t pd_normal(uint64_t *rng)
{
    double u[2];
    int k;
    for (k = 0; k < 2; k++) {
        *rng ^= *rng >> 12;
        *rng ^= *rng << 25;
        *rng ^= *rng >> 27;
        u[k] = ((double)((*rng * UINT64_C(2685821657736338717)) >> 11) + 0.5) / 9007199254740992.0;
    }
    return (real_t)(sqrt(-2.0 * log(u[0])) * cos(6.283185307179586 * u[1]));
}

static void pd_current_sensor_update(pd_current_sensor_t *b)
{
    real_t late = pd_delayed(&b->line, b->measured, b->delay_ticks);
    if (b->begun < 0.5) {
        b->slow = late;
    }
    b->begun = 1.0;
    b->slow = b->slow + b->share * (late - b->slow);
    late = (b->share < 1.0) ? b->slow : late;
    real_t seen = late * (1.0 + b->gain_error) + b->offset;
    real_t scatter = b->noise_absolute + b->noise_relative * pd_absolute(late);
    if (scatter > 0.0) {
        seen = seen + pd_normal(&b->rng) * scatter;
    }
    if (b->step > 0.0) {
        seen = b->step * floor(seen / b->step + 0.5);
    }
    seen = pd_saturate(seen, b->bottom, b->top);
    b->value = (b->ideal > 0.5) ? b->measured : seen;
}

static void pd_encoder_update(pd_encoder_t *b)
{
    real_t passed = 0, shown = 0, edge = 0, since = 0, most = 0;
    real_t edges = 4.0 * b->lines / 6.283185307179586;
    real_t counted = floor(b->angle * edges);
    if (b->started < 0.5) {
        b->count = counted;
        b->noted = b->count;
        b->last_angle = b->angle;
        b->started = 1.0;
    }
    if (b->ideal > 0.5) {
        b->position = b->angle;
        b->speed = (b->angle - b->last_angle) / b->dt;
    } else {
        passed = counted - b->count;
        shown = counted;
        if (b->wraps > 0.5) {
            passed = passed - b->wraps * floor(passed / b->wraps + 0.5);
            shown = counted - b->wraps * floor(counted / b->wraps + 0.5);
        }
        b->position = shown / edges;
        b->speed = passed / edges / b->dt;
        if (b->timed > 0.5) {
            b->waited = b->waited + b->dt;
            if (pd_absolute(counted - b->count) > 0.5) {
                edge = (counted > b->count) ? counted : (counted + 1.0);
                since = (b->angle - edge / edges) / (b->angle - b->last_angle) * b->dt;
                since = floor(since * b->clock) / b->clock;
                b->known = (b->waited - since > 0.0) ? ((edge - b->noted) / edges / (b->waited - since)) : 0.0;
                b->noted = edge;
                b->waited = since;
            }
            most = 1.0 / edges / pd_maximum(b->waited, b->dt);
            b->speed = (b->waited > b->dt) ? pd_saturate(b->known, -most, most) : b->known;
        }
    }
    b->count = counted;
    b->last_angle = b->angle;
}

static void pd_gain_update(pd_gain_t *b)
{
    b->out = b->K * b->x;
}

static void pd_travel_plan_update(pd_travel_plan_t *b)
{
    real_t left = 0;
    if (b->started < 0.5) {
        b->n = -b->wait;
        b->n = b->n - b->wait_more;
        b->started = 1.0;
    }
    real_t t = (b->n + b->early) * b->dt;
    real_t travelled = 0.0;
    real_t moving = 0.0;
    if (t > 0.0) {
        if (t < b->t_a) {
            moving = b->v_peak * t / b->t_a;
            travelled = 0.5 * moving * t;
        } else if (t < b->t_a + b->t_c) {
            moving = b->v_peak;
            travelled = b->v_peak * (t - 0.5 * b->t_a);
        } else if (t < b->t_a + b->t_c + b->t_d) {
            left = b->t_a + b->t_c + b->t_d - t;
            moving = b->v_peak * left / b->t_d;
            travelled = pd_absolute(b->distance) - 0.5 * moving * left;
        } else {
            travelled = pd_absolute(b->distance);
        }
    }
    b->position = b->sign * travelled;
    b->speed = b->sign * moving;
    b->n = b->n + 1.0;
}

static void pd_pi_update(pd_pi_t *b)
{
    real_t e = b->setpoint - b->actual;
    real_t step = b->K_p * e * b->dt / b->T_i;
    real_t unlimited = b->K_p * e + b->integral + step + b->feedforward;
    b->out = pd_saturate(unlimited, b->low, b->high);
    if (!(((unlimited > b->high) && (e > 0.0)) || ((unlimited < b->low) && (e < 0.0)))) {
        b->integral = b->integral + step;
        b->integral = pd_saturate(b->integral, b->low, b->high);
    }
    if (b->closed < 0.5) {
        b->integral = 0.0;
        b->out = pd_saturate(b->open_output, b->low, b->high);
    }
}

static void pd_pulse_stage_update(pd_pulse_stage_t *b)
{
    real_t link = (b->u_link > 0.05 * b->U_dc) ? b->u_link : b->U_dc;
    b->duty = pd_saturate(b->u / link, -b->d_max, b->d_max);
    if (b->timer > 0.5) {
        b->duty = floor(b->duty * b->timer + 0.5) / b->timer;
    }
}

static void car_door_drive_tick(car_door_drive_t *c)
{
    c->current_sensor.measured = c->in.door_motor_current;
    pd_current_sensor_update(&c->current_sensor);
    if (c->tick % 20u == 0u) {
        c->encoder.angle = c->in.door_motor_angle;
        pd_encoder_update(&c->encoder);
    }
    if (c->tick % 20u == 0u) {
        c->travel_speed.x = c->encoder.speed;
        pd_gain_update(&c->travel_speed);
    }
    if (c->tick % 20u == 0u) {
        pd_travel_plan_update(&c->travel_plan);
    }
    if (c->tick % 20u == 0u) {
        c->speed_pi.setpoint = c->travel_plan.speed;
        c->speed_pi.actual = c->travel_speed.out;
        pd_pi_update(&c->speed_pi);
    }
    c->current_pi.setpoint = c->speed_pi.out;
    c->current_pi.actual = c->current_sensor.value;
    pd_pi_update(&c->current_pi);
    c->pulse_stage.u = c->current_pi.out;
    pd_pulse_stage_update(&c->pulse_stage);
    c->out.bridge_duty = c->pulse_stage.duty;
    c->tick = (c->tick + 1u) % 20u;
}

int pd_ctl_size(void) { return (int)sizeof(car_door_drive_t); }

void pd_ctl_bind(car_door_drive_t *c, double *v)
{
    real_t *w;
    (void)c; (void)v; (void)w;
    c->current_sensor.gain_error = (real_t)v[0];
    c->current_sensor.offset = (real_t)v[1];
    c->current_sensor.noise_relative = (real_t)v[2];
    c->current_sensor.noise_absolute = (real_t)v[3];
    c->current_sensor.step = (real_t)v[4];
    c->current_sensor.bottom = (real_t)v[5];
    c->current_sensor.top = (real_t)v[6];
    c->current_sensor.delay_ticks = (real_t)v[7];
    c->current_sensor.share = (real_t)v[8];
    c->current_sensor.ideal = (real_t)v[9];
    c->current_sensor.dt = (real_t)v[10];
    c->encoder.lines = (real_t)v[11];
    c->encoder.clock = (real_t)v[12];
    c->encoder.timed = (real_t)v[13];
    c->encoder.wraps = (real_t)v[14];
    c->encoder.ideal = (real_t)v[15];
    c->encoder.dt = (real_t)v[16];
    c->travel_speed.K = (real_t)v[17];
    c->travel_speed.dt = (real_t)v[18];
    c->travel_plan.sign = (real_t)v[19];
    c->travel_plan.v_peak = (real_t)v[20];
    c->travel_plan.t_a = (real_t)v[21];
    c->travel_plan.t_c = (real_t)v[22];
    c->travel_plan.t_d = (real_t)v[23];
    c->travel_plan.wait = (real_t)v[24];
    c->travel_plan.wait_more = (real_t)v[25];
    c->travel_plan.early = (real_t)v[26];
    c->travel_plan.distance = (real_t)v[27];
    c->travel_plan.dt = (real_t)v[28];
    c->speed_pi.K_p = (real_t)v[29];
    c->speed_pi.T_i = (real_t)v[30];
    c->speed_pi.low = (real_t)v[31];
    c->speed_pi.high = (real_t)v[32];
    c->speed_pi.closed = (real_t)v[33];
    c->speed_pi.open_output = (real_t)v[34];
    c->speed_pi.dt = (real_t)v[35];
    c->current_pi.K_p = (real_t)v[36];
    c->current_pi.T_i = (real_t)v[37];
    c->current_pi.low = (real_t)v[38];
    c->current_pi.high = (real_t)v[39];
    c->current_pi.closed = (real_t)v[40];
    c->current_pi.open_output = (real_t)v[41];
    c->current_pi.dt = (real_t)v[42];
    c->pulse_stage.U_dc = (real_t)v[43];
    c->pulse_stage.d_max = (real_t)v[44];
    c->pulse_stage.timer = (real_t)v[45];
    c->pulse_stage.dt = (real_t)v[46];
    c->current_sensor.line.length = (int)v[47];
    w = (real_t *)(v + 49);
    c->current_sensor.line.past = w;
    w += c->current_sensor.line.length;
}

void pd_ctl_init(car_door_drive_t *c, double *v)
{
    static const car_door_drive_t zero = {0};
    *c = zero;
    c->current_sensor.rng = (uint64_t)v[48] * UINT64_C(0x9E3779B97F4A7C15) + 1u;
    pd_ctl_bind(c, v);
}

void pd_ctl_tick(car_door_drive_t *c, const double *in, double *signals, double *out)
{
    (void)in; (void)signals; (void)out;
    c->in.door_motor_current = in[0];
    c->in.door_motor_angle = in[1];
    car_door_drive_tick(c);
    signals[0] = (double)c->current_sensor.value;
    signals[1] = (double)c->encoder.speed;
    signals[2] = (double)c->encoder.position;
    signals[3] = (double)c->travel_speed.out;
    signals[4] = (double)c->travel_plan.speed;
    signals[5] = (double)c->travel_plan.position;
    signals[6] = (double)c->speed_pi.out;
    signals[7] = (double)c->current_pi.out;
    signals[8] = (double)c->pulse_stage.duty;
    out[0] = (double)c->pulse_stage.duty;
}

void pd_ctl_states(const car_door_drive_t *c, double *z)
{
    (void)c; (void)z;
    z[0] = (double)c->current_sensor.slow;
    z[1] = (double)c->current_sensor.begun;
    z[2] = (double)c->encoder.count;
    z[3] = (double)c->encoder.last_angle;
    z[4] = (double)c->encoder.noted;
    z[5] = (double)c->encoder.waited;
    z[6] = (double)c->encoder.known;
    z[7] = (double)c->encoder.started;
    z[8] = (double)c->travel_plan.n;
    z[9] = (double)c->travel_plan.started;
    z[10] = (double)c->speed_pi.integral;
    z[11] = (double)c->current_pi.integral;
}

/* car_door_drive.c: controller of 5 blocks, sampling period 50 us.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#include "car_door_drive.h"
#include "pd_numbers.h"

/* Travel speed, every 20 ticks (1 ms): K = r_pulley/z_gear = 0.00183333. */
static void travel_speed_update(car_door_drive_travel_speed_t *b, float x)
{
    const float K = 0.00183333333f;
    b->out = K * x;
}

/* Travel plan, every 20 ticks (1 ms): distance = 0.7 m, v_max = 0.71 m/s, a_max = 4 m/s^2, d_max = 4
 * m/s^2, t_0 = 50 ms. */
static void travel_plan_update(car_door_drive_travel_plan_t *b)
{
    const float minus_wait_less_wait_more = -50.0f;  /* -wait - wait_more = -50 */
    const float dt = 0.001f;
    const float t_a = 0.1775f;
    const float v_peak_by_t_a = 4.0f;  /* v_peak/t_a = 4 */
    const float t_a_plus_t_c = 0.985915493f;  /* t_a + t_c = 0.985915 */
    const float v_peak = 0.71f;
    const float t_a_scaled = 0.08875f;  /* 0.5*t_a = 0.08875 */
    const float t_a_plus_t_c_plus_t_d = 1.16341549f;  /* t_a + t_c + t_d = 1.16342 */
    const float v_peak_by_t_d = 4.0f;  /* v_peak/t_d = 4 */
    float travelled = 0.0f;
    float moving = 0.0f;
    float left = 0.0f;
    if (b->started < 0.5f) {
        pd_put_f(&b->n, &b->n_rest, minus_wait_less_wait_more);
        b->started = 1.0f;
    }
    const float t = dt * b->n;
    travelled = 0.0f;
    moving = 0.0f;
    if (t > 0.0f) {
        if (t < t_a) {
            moving = v_peak_by_t_a * t;
            travelled = 0.5f * (moving * t);
        } else if (t < t_a_plus_t_c) {
            moving = v_peak;
            travelled = v_peak * (t - t_a_scaled);
        } else if (t < t_a_plus_t_c_plus_t_d) {
            left = t_a_plus_t_c_plus_t_d - t;
            moving = v_peak_by_t_d * left;
            travelled = 0.7f - 0.5f * (moving * left);
        } else {
            travelled = 0.7f;
        }
    }
    b->position = travelled;
    b->speed = moving;
    pd_add_f(&b->n, &b->n_rest, 1.0f);
}

/* Speed PI, every 20 ticks (1 ms): K_p = 35 A*s/m, T_i = 90 ms, low = -i_max = -24, high = 24 A,
 * open_output = 0. */
static void speed_pi_update(car_door_drive_speed_pi_t *b, float setpoint, float actual)
{
    const float dt_K_p_by_T_i = 0.388888889f;  /* dt*K_p/T_i = 0.388889 */
    const float K_p = 35.0f;
    const float low = -24.0f;
    const float high = 24.0f;
    const float e = setpoint - actual;
    const float step = dt_K_p_by_T_i * e;
    const float unlimited = K_p * e + (b->integral + step);
    b->out = pd_saturate_f(unlimited, low, high);
    if (((unlimited <= high) || (e <= 0.0f)) && ((unlimited >= low) || (e >= 0.0f))) {
        pd_add_f(&b->integral, &b->integral_rest, step);
        pd_put_f(&b->integral, &b->integral_rest, pd_saturate_f(b->integral, low, high));
    }
}

/* Current PI: K_p = 1.2 V/A, T_i = 0.67 ms, low = -0.96*U_link = -46.08, high = 0.96*U_link = 46.08,
 * open_output = 0. */
static void current_pi_update(car_door_drive_current_pi_t *b, float setpoint, float actual)
{
    const float dt_K_p_by_T_i = 0.0895522388f;  /* dt*K_p/T_i = 0.0895522 */
    const float K_p = 1.2f;
    const float low = -46.08f;
    const float high = 46.08f;
    const float e = setpoint - actual;
    const float step = dt_K_p_by_T_i * e;
    const float unlimited = K_p * e + (b->integral + step);
    b->out = pd_saturate_f(unlimited, low, high);
    if (((unlimited <= high) || (e <= 0.0f)) && ((unlimited >= low) || (e >= 0.0f))) {
        pd_add_f(&b->integral, &b->integral_rest, step);
        pd_put_f(&b->integral, &b->integral_rest, pd_saturate_f(b->integral, low, high));
    }
}

/* Pulse stage: U_dc = 48 V, d_max = 98 %. The measured link voltage is used where it is wired and not near
 * zero. */
static void pulse_stage_update(car_door_drive_pulse_stage_t *b, float u)
{
    const float one_by_U_dc = 0.0208333333f;  /* 1/U_dc = 0.0208333 */
    const float minus_d_max = -0.98f;  /* -d_max = -0.98 */
    const float d_max = 0.98f;
    b->duty = pd_saturate_f(one_by_U_dc * u, minus_d_max, d_max);
}

void car_door_drive_init(car_door_drive_t *c)
{
    static const car_door_drive_t zero = {0};
    *c = zero;
}

void car_door_drive_tick(car_door_drive_t *c)
{
    if ((c->tick % 20u) == 0u) {
        travel_speed_update(&c->travel_speed, c->in.encoder_speed);
        travel_plan_update(&c->travel_plan);
        speed_pi_update(&c->speed_pi, c->travel_plan.speed, c->travel_speed.out);
    }
    current_pi_update(&c->current_pi, c->speed_pi.out, c->in.current_sensor_value);
    pulse_stage_update(&c->pulse_stage, c->current_pi.out);
    c->out.bridge_duty = c->pulse_stage.duty;
    c->tick = (c->tick + 1u) % 20u;
}

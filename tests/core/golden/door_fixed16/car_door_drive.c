/* car_door_drive.c: controller of 5 blocks, sampling period 50 us.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#include "car_door_drive.h"
#include "pd_numbers.h"

/* Travel speed, every 20 ticks (1 ms): K = r_pulley/z_gear = 0.00183333. */
static void travel_speed_update(car_door_drive_travel_speed_t *b, int16_t x)
{
    const int32_t K = 30758;  /* 0.00183333, in steps of 2^-24 */
    b->out = (int16_t)pd_shr32((int32_t)x * K, 15);
}

/* Travel plan, every 20 ticks (1 ms): distance = 0.7 m, v_max = 0.71 m/s, a_max = 4 m/s^2, d_max = 4
 * m/s^2, t_0 = 50 ms. */
static void travel_plan_update(car_door_drive_travel_plan_t *b)
{
    const int32_t dt = 16777;  /* 0.001, in steps of 2^-24 */
    const int32_t t_a = 2977956;  /* 0.1775, in steps of 2^-24 */
    const int32_t t_a_plus_t_c = 16540918;  /* t_a + t_c = 0.985915, in steps of 2^-24 */
    const int32_t v_peak = 23265;  /* 0.71, in steps of 2^-15 */
    const int32_t t_a_scaled = 1488978;  /* 0.5*t_a = 0.08875, in steps of 2^-24 */
    const int32_t t_a_plus_t_c_plus_t_d = 19518874;  /* t_a + t_c + t_d = 1.16342, in steps of 2^-24 */
    const int32_t t_a_plus_t_c_plus_t_d_2 = 19518873;  /* t_a + t_c + t_d = 1.16342, in steps of 2^-24 */
    int32_t travelled = 0;
    int32_t moving = 0;
    int32_t left = 0;
    if (b->started < 1) {
        b->n = (-50);
        b->started = 1;
    }
    const int64_t t = (int64_t)b->n * dt;
    travelled = 0;
    moving = 0;
    if (t > 0) {
        if (t < t_a) {
            moving = pd_clamp32(((int32_t)t) * 256, (-1), 762356697);
            travelled = pd_shr32(pd_shr32(moving, 15) * pd_shr32((int32_t)t, 6), 4);
        } else if (t < t_a_plus_t_c) {
            moving = 762356695;
            travelled = (int32_t)pd_shr64(pd_wide(((int32_t)t) - t_a_scaled) * v_peak, 9);
        } else if (t < t_a_plus_t_c_plus_t_d) {
            left = pd_clamp32((t_a_plus_t_c_plus_t_d_2 - ((int32_t)t)) * 256, (-1), 762356697);
            moving = left;
            travelled = pd_shr32(1503238554 - pd_shr32(pd_shr32(moving, 15) * pd_shr32(left, 14), 3), 1);
        } else {
            travelled = 751619277;
        }
    }
    b->position = (int16_t)pd_shr32(travelled, 15);
    b->speed = (int16_t)pd_shr32(moving, 15);
    b->n = pd_clamp32(b->n + 1, (-1073741820), 1073741820);
}

/* Speed PI, every 20 ticks (1 ms): K_p = 35 A*s/m, T_i = 90 ms, low = -i_max = -24, high = 24 A,
 * open_output = 0. */
static void speed_pi_update(car_door_drive_speed_pi_t *b, int16_t setpoint, int16_t actual)
{
    const int32_t dt_K_p_by_T_i = 12743;  /* dt*K_p/T_i = 0.388889, in steps of 2^-15 */
    const int32_t K_p = 35;
    const int32_t low = (-402653184);  /* -24, in steps of 2^-24 */
    const int32_t high = 402653184;  /* 24, in steps of 2^-24 */
    const int32_t low_2 = (-805306368);  /* low = -24, in steps of 2^-25 */
    const int32_t high_2 = 805306368;  /* high = 24, in steps of 2^-25 */
    const int32_t e = setpoint - ((int32_t)actual * 2);
    const int32_t step = e * dt_K_p_by_T_i;
    const int32_t unlimited = ((e * K_p) * 512) + pd_shr32(b->integral + pd_shr32(step, 5), 1);
    b->out = (int16_t)pd_shr32(pd_clamp32(unlimited, low, high), 14);
    if (((unlimited <= high) || (e <= 0)) && ((unlimited >= low) || (e >= 0))) {
        b->integral = pd_clamp32(b->integral + pd_shr32(step, 5), low_2, high_2);
    }
}

/* Current PI: K_p = 1.2 V/A, T_i = 0.67 ms, low = -0.96*U_link = -46.08, high = 0.96*U_link = 46.08,
 * open_output = 0. */
static void current_pi_update(car_door_drive_current_pi_t *b, int16_t setpoint, int16_t actual)
{
    const int32_t dt_K_p_by_T_i = 23476;  /* dt*K_p/T_i = 0.0895522, in steps of 2^-18 */
    const int32_t K_p = 19661;  /* 1.2, in steps of 2^-14 */
    const int32_t low = (-386547057);  /* -46.08, in steps of 2^-23 */
    const int32_t high = 386547057;  /* 46.08, in steps of 2^-23 */
    const int32_t high_2 = 386547056;  /* high = 46.08, in steps of 2^-23 */
    const int32_t low_2 = (-386547056);  /* low = -46.08, in steps of 2^-23 */
    const int32_t low_3 = (-773094113);  /* low = -46.08, in steps of 2^-24 */
    const int32_t high_3 = 773094113;  /* high = 46.08, in steps of 2^-24 */
    const int32_t e = (int32_t)setpoint - actual;
    const int32_t step = e * dt_K_p_by_T_i;
    const int32_t unlimited = pd_shr32(e * K_p, 1) + pd_shr32(b->integral + pd_shr32(step, 4), 1);
    b->out = (int16_t)pd_shr32(pd_clamp32(unlimited, low, high), 14);
    if (((unlimited <= high_2) || (e <= 0)) && ((unlimited >= low_2) || (e >= 0))) {
        b->integral = pd_clamp32(b->integral + pd_shr32(step, 4), low_3, high_3);
    }
}

/* Pulse stage: U_dc = 48 V, d_max = 98 %. The measured link voltage is used where it is wired and not near
 * zero. */
static void pulse_stage_update(car_door_drive_pulse_stage_t *b, int16_t u)
{
    const int32_t one_by_U_dc = 21845;  /* 1/U_dc = 0.0208333, in steps of 2^-20 */
    b->duty = (int16_t)pd_shr32((int32_t)u * one_by_U_dc, 14);
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

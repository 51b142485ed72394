/* car_door_drive.c: controller of 5 blocks, sampling period 50 us.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#include "car_door_drive.h"
#include "pd_numbers.h"

static void travel_speed_update(car_door_drive_travel_speed_t *b, int16_t x)
{
    b->out = (int16_t)pd_shr32((int32_t)x * 30758, 15);
}

static void travel_plan_update(car_door_drive_travel_plan_t *b)
{
    int32_t travelled = 0;
    int32_t moving = 0;
    int32_t left = 0;
    if (b->started < 1) {
        b->n = (-50);
        b->started = 1;
    }
    const int64_t t = (int64_t)b->n * 16777;
    travelled = 0;
    moving = 0;
    if (t > 0) {
        if (t < 2977956) {
            moving = pd_clamp32(((int32_t)t) * 256, (-1), 762356697);
            travelled = pd_shr32(pd_shr32(moving, 15) * pd_shr32((int32_t)t, 6), 4);
        } else if (t < 16540918) {
            moving = 762356695;
            travelled = (int32_t)pd_shr64(pd_wide(((int32_t)t) - 1488978) * 23265, 9);
        } else if (t < 19518874) {
            left = pd_clamp32((19518873 - ((int32_t)t)) * 256, (-1), 762356697);
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

static void speed_pi_update(car_door_drive_speed_pi_t *b, int16_t setpoint, int16_t actual)
{
    const int32_t e = setpoint - ((int32_t)actual * 2);
    const int32_t step = e * 12743;
    const int32_t unlimited = ((e * 35) * 512) + pd_shr32(b->integral + pd_shr32(step, 5), 1);
    b->out = (int16_t)pd_shr32(pd_clamp32(unlimited, (-402653184), 402653184), 14);
    if (((unlimited <= 402653184) || (e <= 0)) && ((unlimited >= (-402653184)) || (e >= 0))) {
        b->integral = pd_clamp32(b->integral + pd_shr32(step, 5), (-1073741822), 1073741822);
        b->integral = pd_clamp32(b->integral, (-805306368), 805306368);
    }
}

static void current_pi_update(car_door_drive_current_pi_t *b, int16_t setpoint, int16_t actual)
{
    const int32_t e = (int32_t)setpoint - actual;
    const int32_t step = e * 23476;
    const int32_t unlimited = pd_shr32(e * 19661, 1) + pd_shr32(b->integral + pd_shr32(step, 4), 1);
    b->out = (int16_t)pd_shr32(pd_clamp32(unlimited, (-386547057), 386547057), 14);
    if (((unlimited <= 386547056) || (e <= 0)) && ((unlimited >= (-386547056)) || (e >= 0))) {
        b->integral = pd_clamp32(b->integral + pd_shr32(step, 4), (-1073741822), 1073741822);
        b->integral = pd_clamp32(b->integral, (-773094113), 773094113);
    }
}

/* The measured link voltage is used where it is wired and not near zero. */
static void pulse_stage_update(car_door_drive_pulse_stage_t *b, int16_t u)
{
    b->duty = (int16_t)pd_shr32((int32_t)u * 21845, 14);
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

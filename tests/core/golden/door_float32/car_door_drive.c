/* car_door_drive.c: controller of 5 blocks, sampling period 50 us.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#include "car_door_drive.h"
#include "pd_numbers.h"
#include <math.h>

static void travel_speed_update(car_door_drive_travel_speed_t *b, float x)
{
    b->out = 0.00183333333f * x;
}

static void travel_plan_update(car_door_drive_travel_plan_t *b)
{
    float travelled = 0.0f;
    float moving = 0.0f;
    float left = 0.0f;
    if (b->started < 0.5f) {
        pd_put_f(&b->n, &b->n_rest, (-50.0f));
        b->started = 1.0f;
    }
    const float t = 0.001f * b->n;
    travelled = 0.0f;
    moving = 0.0f;
    if (t > 0.0f) {
        if (t < 0.1775f) {
            moving = 4.0f * t;
            travelled = 0.5f * (moving * t);
        } else if (t < 0.985915493f) {
            moving = 0.71f;
            travelled = 0.71f * (t - 0.08875f);
        } else if (t < 1.16341549f) {
            left = 1.16341549f - t;
            moving = 4.0f * left;
            travelled = 0.7f - 0.5f * (moving * left);
        } else {
            travelled = 0.7f;
        }
    }
    b->position = travelled;
    b->speed = moving;
    pd_add_f(&b->n, &b->n_rest, 1.0f);
}

static void speed_pi_update(car_door_drive_speed_pi_t *b, float setpoint, float actual)
{
    const float e = setpoint - actual;
    const float step = 0.388888889f * e;
    const float unlimited = 35.0f * e + (b->integral + step);
    b->out = pd_saturate_f(unlimited, (-24.0f), 24.0f);
    if (((unlimited <= 24.0f) || (e <= 0.0f)) && ((unlimited >= (-24.0f)) || (e >= 0.0f))) {
        pd_add_f(&b->integral, &b->integral_rest, step);
        pd_put_f(&b->integral, &b->integral_rest, pd_saturate_f(b->integral, (-24.0f), 24.0f));
    }
}

static void current_pi_update(car_door_drive_current_pi_t *b, float setpoint, float actual)
{
    const float e = setpoint - actual;
    const float step = 0.0895522388f * e;
    const float unlimited = 1.2f * e + (b->integral + step);
    b->out = pd_saturate_f(unlimited, (-46.08f), 46.08f);
    if (((unlimited <= 46.08f) || (e <= 0.0f)) && ((unlimited >= (-46.08f)) || (e >= 0.0f))) {
        pd_add_f(&b->integral, &b->integral_rest, step);
        pd_put_f(&b->integral, &b->integral_rest, pd_saturate_f(b->integral, (-46.08f), 46.08f));
    }
}

/* The measured link voltage is used where it is wired and not near zero. */
static void pulse_stage_update(car_door_drive_pulse_stage_t *b, float u)
{
    b->duty = pd_saturate_f(0.0208333333f * u, (-0.98f), 0.98f);
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

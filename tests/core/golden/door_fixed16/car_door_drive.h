/* car_door_drive.h: controller; a value is its word times its step, in SI units.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#ifndef CAR_DOOR_DRIVE_H
#define CAR_DOOR_DRIVE_H

#include <stdint.h>
#include "pd_numbers.h"

/* Travel speed */
typedef struct {
    int16_t out;  /* steps of 2^-14, -2 to 2 */
} car_door_drive_travel_speed_t;

/* Travel plan */
typedef struct {
    int16_t speed;  /* steps of 2^-15, -3.052e-05 to 0.7101 */
    int16_t position;  /* steps of 2^-15, -3.052e-05 to 0.7 */
    int32_t n;  /* remembered, whole steps of 1 */
    int16_t started;  /* remembered, whole steps of 1 */
} car_door_drive_travel_plan_t;

/* Speed PI */
typedef struct {
    int16_t out;  /* steps of 2^-10, -24 to 24 */
    int32_t integral;  /* remembered, steps of 2^-25, -32 to 32 */
} car_door_drive_speed_pi_t;

/* Current PI */
typedef struct {
    int16_t out;  /* steps of 2^-9, -46.08 to 46.08 */
    int32_t integral;  /* remembered, steps of 2^-24, -64 to 64 */
} car_door_drive_current_pi_t;

/* Pulse stage */
typedef struct {
    int16_t duty;  /* steps of 2^-15, -0.9601 to 0.9601 */
} car_door_drive_pulse_stage_t;

/* What is measured at each tick. */
typedef struct {
    int16_t current_sensor_value;  /* steps of 2^-10, -32 to 32 */
    int16_t encoder_speed;  /* steps of 2^-5, -1024 to 1024 */
} car_door_drive_in_t;

/* What goes to the power stage. */
typedef struct {
    int16_t bridge_duty;  /* steps of 2^-15, -0.9601 to 0.9601 */
} car_door_drive_out_t;

typedef struct {
    uint32_t tick;
    car_door_drive_in_t in;
    car_door_drive_out_t out;
    car_door_drive_travel_speed_t travel_speed;
    car_door_drive_travel_plan_t travel_plan;
    car_door_drive_speed_pi_t speed_pi;
    car_door_drive_current_pi_t current_pi;
    car_door_drive_pulse_stage_t pulse_stage;
} car_door_drive_t;

void car_door_drive_init(car_door_drive_t *c);

/* Call every 50 us after filling c->in; then use c->out. */
void car_door_drive_tick(car_door_drive_t *c);

/* Where a number is in the struct, by key of its block and item (car_door_drive_table.c); 0 where there is
 * none. */
int32_t car_door_drive_find(uint32_t block, uint32_t item, pd_place_t *place);

#endif

/* car_door_drive.h: controller; a value is its word times its step, in SI units.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#ifndef CAR_DOOR_DRIVE_H
#define CAR_DOOR_DRIVE_H

#include <stdint.h>
#include "pd_numbers.h"

/* Travel speed */
typedef struct {
    float out;
} car_door_drive_travel_speed_t;

/* Travel plan */
typedef struct {
    float speed;
    float position;
    float n;  /* remembered */
    float n_rest;
    float started;  /* remembered */
} car_door_drive_travel_plan_t;

/* Speed PI */
typedef struct {
    float out;
    float integral;  /* remembered */
    float integral_rest;
} car_door_drive_speed_pi_t;

/* Current PI */
typedef struct {
    float out;
    float integral;  /* remembered */
    float integral_rest;
} car_door_drive_current_pi_t;

/* Pulse stage */
typedef struct {
    float duty;
} car_door_drive_pulse_stage_t;

/* What is measured at each tick. */
typedef struct {
    float current_sensor_value;
    float encoder_speed;
} car_door_drive_in_t;

/* What goes to the power stage. */
typedef struct {
    float bridge_duty;
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

/* car_door_drive_table.c: where the numbers of the controller are.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#include "car_door_drive.h"
#include <stddef.h>

static const pd_place_t car_door_drive_places[10] = {
    {1001u, 1u, (uint32_t)offsetof(car_door_drive_t, travel_speed.out), PD_FLOAT, 32, 0},  /* travel_speed.out */
    {1002u, 1u, (uint32_t)offsetof(car_door_drive_t, travel_plan.speed), PD_FLOAT, 32, 0},  /* travel_plan.speed */
    {1002u, 2u, (uint32_t)offsetof(car_door_drive_t, travel_plan.position), PD_FLOAT, 32, 0},  /* travel_plan.position */
    {1002u, 101u, (uint32_t)offsetof(car_door_drive_t, travel_plan.n), PD_FLOAT, 32, 0},  /* travel_plan.n */
    {1002u, 102u, (uint32_t)offsetof(car_door_drive_t, travel_plan.started), PD_FLOAT, 32, 0},  /* travel_plan.started */
    {1003u, 1u, (uint32_t)offsetof(car_door_drive_t, speed_pi.out), PD_FLOAT, 32, 0},  /* speed_pi.out */
    {1003u, 101u, (uint32_t)offsetof(car_door_drive_t, speed_pi.integral), PD_FLOAT, 32, 0},  /* speed_pi.integral */
    {1004u, 1u, (uint32_t)offsetof(car_door_drive_t, current_pi.out), PD_FLOAT, 32, 0},  /* current_pi.out */
    {1004u, 101u, (uint32_t)offsetof(car_door_drive_t, current_pi.integral), PD_FLOAT, 32, 0},  /* current_pi.integral */
    {1005u, 1u, (uint32_t)offsetof(car_door_drive_t, pulse_stage.duty), PD_FLOAT, 32, 0},  /* pulse_stage.duty */
};

int32_t car_door_drive_find(uint32_t block, uint32_t item, pd_place_t *place)
{
    uint32_t k;
    for (k = 0u; k < 10u; k++) {
        if ((car_door_drive_places[k].block == block) && (car_door_drive_places[k].item == item)) {
            *place = car_door_drive_places[k];
            return 1;
        }
    }
    return 0;
}

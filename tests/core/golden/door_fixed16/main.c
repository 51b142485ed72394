/* Example: call the controller of car_door_drive.c at its tick.
 * Made by Pendel from your drive. This code is yours, free of any condition.
 */
#include "car_door_drive.h"
#include <stdio.h>

int main(void)
{
    static car_door_drive_t c;
    int k;
    car_door_drive_init(&c);
    for (k = 0; k < 10; k++) {
        c.in.current_sensor_value = 0;  /* read your converter here */
        c.in.encoder_speed = 0;  /* read your converter here */
        car_door_drive_tick(&c);
        (void)printf("%g\n", (double)c.out.bridge_duty * 3.0517578125e-05);
    }
    return 0;
}

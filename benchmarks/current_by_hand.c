/* A PI current controller with limits and anti-windup as an engineer writes it by hand in 16 bits: what the
 * generated block is compared with, in instructions on emulated processors. */
#include <stdint.h>

typedef struct {
    int16_t out;
    int32_t integral;
} hand_t;

/* K_p and K_p*T/T_i as words, limits in words of the output and of the integral. */
void hand_update(hand_t *b, int16_t setpoint, int16_t actual)
{
    const int32_t e = (int32_t)setpoint - actual;
    const int32_t step = (e * 23476) >> 4;
    int32_t sum = b->integral + step;
    int32_t u = ((e * 19661) >> 1) + (sum >> 1);
    const int32_t high = 386547057;
    const int32_t low = -386547057;
    if (u > high) {
        b->out = (int16_t)(high >> 14);
        if (e > 0) {
            return;
        }
    } else if (u < low) {
        b->out = (int16_t)(low >> 14);
        if (e < 0) {
            return;
        }
    } else {
        b->out = (int16_t)(u >> 14);
    }
    if (sum > 773094113) {
        sum = 773094113;
    } else if (sum < -773094113) {
        sum = -773094113;
    }
    b->integral = sum;
}

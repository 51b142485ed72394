/* pd_numbers.c: functions and tables of controllers written by Pendel.
 * This file is yours, free of any condition. */
#include "pd_numbers.h"
#include <math.h>

int32_t pd_moved32(int32_t x, int32_t k)
{
    int32_t found = x;
    int32_t left = (k > -31) ? k : -31;
    if (left > 31) {
        found = 0;
    } else if (left > 0) {
        const uint32_t half = pd_bits32(pd_down32(found, (uint32_t)left - 1u)) & 1u; /* the last digit taken off */
        found = pd_down32(found, (uint32_t)left) + (int32_t)half;
    } else {
        for (; left < 0; left++) {
            found = pd_clamp32(found, -INT32_C(1073741823), INT32_C(1073741823)) * 2;
        }
    }
    return found;
}

int64_t pd_moved64(int64_t x, int32_t k)
{
    int64_t found = x;
    int32_t left = (k > -63) ? k : -63;
    if (left > 63) {
        found = 0;
    } else if (left > 0) {
        const uint64_t half = pd_bits64(pd_down64(found, (uint32_t)left - 1u)) & 1u; /* the last digit taken off */
        found = pd_down64(found, (uint32_t)left) + (int64_t)half;
    } else {
        for (; left < 0; left++) {
            found = pd_clamp64(found, -INT64_C(4611686018427387903), INT64_C(4611686018427387903)) * 2;
        }
    }
    return found;
}

/* Sine of a quarter turn either way: x = z/2^14, sin(pi/2 x) = x (c1 - x^2 (c3 - x^2 (c5 - x^2 c7))),
 * interpolated at Chebyshev nodes; with rounding within 6.2e-5. */
int16_t pd_sin16(int16_t turn)
{
    int32_t z = turn;
    int32_t square;
    int32_t p;
    if (z > 16384) {
        z = 32768 - z;
    } else if (z < -16384) {
        z = -32768 - z;
    } else {
        /* it is within a quarter turn */
    }
    square = pd_down32(z * z, 13);
    p = 10420 - pd_down32(573 * square, 15);
    p = 84663 - pd_down32(p * square, 15);
    p = 205887 - (pd_down32(pd_down32(p, 2) * square, 13));
    p = pd_down32(pd_down32(p, 1) * z, 14);
    return (int16_t)pd_clamp32(pd_down32(p + 1, 1), -32767, 32767);
}

int16_t pd_cos16(int16_t turn)
{
    return pd_sin16(pd_turn16((uint32_t)turn + 0x4000u));
}

/* As above to the power 13 in steps of 2^-30; within 4e-9. */
int32_t pd_sin32(int32_t turn)
{
    int64_t z = turn;
    int64_t square;
    int64_t p;
    if (z > INT64_C(1073741824)) {
        z = INT64_C(2147483648) - z;
    } else if (z < -INT64_C(1073741824)) {
        z = -INT64_C(2147483648) - z;
    } else {
        /* it is within a quarter turn */
    }
    square = pd_down64(z * z, 30);
    p = 3861 - pd_down64(59 * square, 30);
    p = 172270 - pd_down64(p * square, 30);
    p = 5026994 - pd_down64(p * square, 30);
    p = 85569306 - pd_down64(p * square, 30);
    p = 693598668 - pd_down64(p * square, 30);
    p = INT64_C(1686629713) - pd_down64(p * square, 30);
    p = pd_down64((p * z) + INT64_C(536870912), 30);
    return (int32_t)pd_clamp64(p, -INT64_C(1073741824), INT64_C(1073741824));
}

int32_t pd_cos32(int32_t turn)
{
    return pd_sin32(pd_turn32((uint32_t)turn + 0x40000000u));
}

/* The arc of t = least/most in 0 ... 1 by a polynomial at Chebyshev nodes, then the octant. */
int16_t pd_atan2_16(int32_t y, int32_t x)
{
    const int32_t height = pd_abs32(y);
    const int32_t width = pd_abs32(x);
    const int32_t most = pd_max32(height, width);
    int32_t t;
    int32_t square;
    int32_t p;
    if (most == 0) {
        return 0;
    }
    t = ((pd_min32(height, width) * 32768) + pd_down32(most, 1)) / most;
    square = pd_down32(t * t, 15);
    p = 1854 - pd_down32(430 * square, 15);
    p = 3947 - pd_down32(p * square, 15);
    p = 6401 - pd_down32(p * square, 15);
    p = 10910 - pd_down32(p * square, 15);
    p = 32768 - pd_down32(p * square, 15);
    p = pd_down32(p * t, 15);                   /* rad in steps of 2^-15 */
    p = pd_down32((p * 10430) + 16384, 15);     /* parts of a turn */
    if (height > width) {
        p = 16384 - p;
    }
    if (x < 0) {
        p = 32768 - p;
    }
    return pd_turn16(pd_bits32((y < 0) ? -p : p));
}

int32_t pd_atan2_32(int32_t y, int32_t x)
{
    static const int32_t c[12] = {357913937, 214748132, 153386442, 119242323, 97164821, 80479767,
                                  64662841,  46865169,  27923726,  12270328,  3431062,  450142};
    const int64_t height = pd_abs64((int64_t)y);
    const int64_t width = pd_abs64((int64_t)x);
    const int64_t most = pd_max64(height, width);
    int64_t t;
    int64_t square;
    int64_t p;
    int k;
    if (most == 0) {
        return 0;
    }
    t = (pd_min64(height, width) * INT64_C(1073741824)) / most;
    square = pd_down64(t * t, 30);
    p = c[11];
    for (k = 10; k >= 0; k--) {
        p = c[k] - pd_down64(p * square, 30);
    }
    p = INT64_C(1073741824) - pd_down64(p * square, 30);
    p = pd_down64(p * t, 30);                              /* rad in steps of 2^-30 */
    p = pd_down64((p * INT64_C(683565276)) + INT64_C(536870912), 30); /* parts of a turn */
    if (height > width) {
        p = INT64_C(1073741824) - p;
    }
    if (x < 0) {
        p = INT64_C(2147483648) - p;
    }
    return pd_turn32((uint32_t)pd_bits64((y < 0) ? -p : p));
}

/* Digit by digit (Knuth: The Art of Computer Programming 2, exercise 4.2.1; from memory). */
int32_t pd_sqrt32(uint32_t x)
{
    uint32_t rest = x;
    uint32_t root = 0;
    uint32_t bit = UINT32_C(1) << 30;
    while (bit > rest) {
        bit >>= 2;
    }
    while (bit != 0u) {
        const uint32_t trial = root + bit;
        root >>= 1;
        if (rest >= trial) {
            rest -= trial;
            root += bit;
        }
        bit >>= 2;
    }
    return (int32_t)root;
}

/* Sixteen digits as above; then Newton's step doubles them, and what it has too much is taken off. */
int32_t pd_sqrt64(uint64_t x)
{
    uint64_t scaled = x;
    uint64_t root;
    uint32_t k = 0u;
    if (x <= (uint64_t)UINT32_MAX) {
        return pd_sqrt32((uint32_t)x);
    }
    while (scaled > (uint64_t)UINT32_MAX) {
        scaled >>= 2;
        k++;
    }
    root = ((uint64_t)(uint32_t)pd_sqrt32((uint32_t)scaled) + 1u) << k;
    root = (root + (x / root)) >> 1;
    while ((root * root) > x) {
        root--;
    }
    return (int32_t)(uint32_t)root;
}

/* The last of some rising places that is not beyond; halving keeps it as quick in a long table. */
static int32_t pd_place(const int32_t *x, int32_t count, int32_t at)
{
    int32_t k = 0;
    int32_t beyond = count;
    while ((beyond - k) > 1) {
        const int32_t middle = k + ((beyond - k) / 2);
        if (at >= x[middle]) {
            k = middle;
        } else {
            beyond = middle;
        }
    }
    return k;
}

int16_t pd_interpolate16(const int32_t *x, const int16_t *y, int32_t count, int32_t at)
{
    const int32_t k = pd_place(x, count, at);
    int64_t rise;
    if ((at < x[0]) || (k == (count - 1))) {
        return y[k];
    }
    rise = ((int64_t)y[k + 1] - y[k]) * ((int64_t)at - x[k]);
    return (int16_t)(y[k] + (int32_t)(rise / ((int64_t)x[k + 1] - x[k])));
}

int32_t pd_interpolate32(const int32_t *x, const int32_t *y, int32_t count, int32_t at)
{
    const int32_t k = pd_place(x, count, at);
    int64_t rise;
    if ((at < x[0]) || (k == (count - 1))) {
        return y[k];
    }
    rise = ((int64_t)y[k + 1] - y[k]) * ((int64_t)at - x[k]);
    return (int32_t)(y[k] + (rise / ((int64_t)x[k + 1] - x[k])));
}

int16_t pd_map16(const int16_t *ax, int32_t nx, const int16_t *ay, int32_t ny, const int16_t *z, int32_t x, int32_t y)
{
    int32_t i = 0;
    int32_t j = 0;
    int32_t s;
    int32_t t;
    int32_t a;
    int32_t b;
    const int16_t *c;
    while ((i < (nx - 2)) && (x >= ax[i + 1])) {
        i++;
    }
    while ((j < (ny - 2)) && (y >= ay[j + 1])) {
        j++;
    }
    s = ((pd_clamp32(x, ax[i], ax[i + 1]) - ax[i]) * 16384) / (ax[i + 1] - ax[i]);
    t = ((pd_clamp32(y, ay[j], ay[j + 1]) - ay[j]) * 16384) / (ay[j + 1] - ay[j]);
    c = &z[(i * ny) + j];
    a = c[0] + pd_shr32((c[1] - c[0]) * t, 14);
    b = c[ny] + pd_shr32((c[ny + 1] - c[ny]) * t, 14);
    return (int16_t)(a + pd_shr32((b - a) * s, 14));
}

int32_t pd_map32(const int32_t *ax, int32_t nx, const int32_t *ay, int32_t ny, const int32_t *z, int32_t x, int32_t y)
{
    int32_t i = 0;
    int32_t j = 0;
    int64_t s;
    int64_t t;
    int64_t a;
    int64_t b;
    const int32_t *c;
    while ((i < (nx - 2)) && (x >= ax[i + 1])) {
        i++;
    }
    while ((j < (ny - 2)) && (y >= ay[j + 1])) {
        j++;
    }
    s = (((int64_t)pd_clamp32(x, ax[i], ax[i + 1]) - ax[i]) * INT64_C(1073741824)) / ((int64_t)ax[i + 1] - ax[i]);
    t = (((int64_t)pd_clamp32(y, ay[j], ay[j + 1]) - ay[j]) * INT64_C(1073741824)) / ((int64_t)ay[j + 1] - ay[j]);
    c = &z[(i * ny) + j];
    a = c[0] + pd_shr64(((int64_t)c[1] - c[0]) * t, 30);
    b = c[ny] + pd_shr64(((int64_t)c[ny + 1] - c[ny]) * t, 30);
    return (int32_t)(a + pd_shr64((b - a) * s, 30));
}

int16_t pd_turn16_d(double angle)
{
    const double turns = angle / 6.283185307179586;
    return pd_turn16((uint32_t)pd_word_d(turns - floor(turns + 0.5), 65536.0, -32768, 32768));
}

int32_t pd_turn32_d(double angle)
{
    const double turns = angle / 6.283185307179586;
    const double word = floor(((turns - floor(turns + 0.5)) * 4294967296.0) + 0.5);
    if (!((word >= -2147483648.0) && (word <= 2147483648.0))) {
        return 0;
    }
    return (word >= 2147483648.0) ? (-INT32_C(2147483647) - 1) : (int32_t)word;
}

/* Square roots and whole parts are exact by IEEE 754, whichever library gives them. */
float pd_sqrt_f(float x)
{
    return sqrtf(x);
}

float pd_floor_f(float x)
{
    return floorf(x);
}

double pd_sqrt_d(double x)
{
    return sqrt(x);
}

double pd_floor_d(double x)
{
    return floor(x);
}

/* Whole turns are taken off with a turn in two parts (Cody, Waite: Software Manual for the Elementary
 * Functions, chapter 8). */
float pd_wrapped_f(float x)
{
    const float turns = floorf((x / 6.2831854820251465f) + 0.5f);
    return (x - (6.2831854820251465f * turns)) + (1.7484556000744487e-7f * turns);
}

double pd_wrapped_d(double x)
{
    const double turns = floor((x / 6.283185307179586) + 0.5);
    return (x - (6.283185307179586 * turns)) - (2.4492935982947064e-16 * turns);
}

void pd_wrap_f(float *angle, float *rest)
{
    const float turns = floorf((*angle / 6.2831854820251465f) + 0.5f);
    if ((turns > 0.0f) || (turns < 0.0f)) {
        pd_add_f(angle, rest, -6.2831854820251465f * turns);
        pd_add_f(angle, rest, 1.7484556000744487e-7f * turns);
    }
}

static float pd_quarter_sine_f(float x)
{
    const float u = x * x;
    const float p = 1.0f - (u * (0.16666657946f - (u * (0.0083330501f - (u * (0.00019809017f
        - (u * 2.6051076e-6f)))))));
    return x * p;
}

/* Polynomials at Chebyshev nodes; float within 2e-7, double within 4e-16 of a turn's sine. */
float pd_sin_f(float x)
{
    float z = pd_wrapped_f(x);
    if (z > 1.5707963268f) {
        z = (3.1415927410f - z) - 8.7422777e-8f;
    } else if (z < -1.5707963268f) {
        z = (-3.1415927410f - z) + 8.7422777e-8f;
    } else {
        /* it is within a quarter turn */
    }
    return pd_quarter_sine_f(z);
}

float pd_cos_f(float x)
{
    const float z = pd_wrapped_f(x);
    const float back = (z < 0.0f) ? -z : z;
    return pd_quarter_sine_f((1.5707963705f - back) - 4.3711388e-8f);
}

static double pd_quarter_sine_d(double x)
{
    static const double c[10] = {-0.1666666666666666666, 0.008333333333333333003, -1.984126984126966984e-4,
                                 2.755731922394071272e-6, -2.505210837860219652e-8, 1.605904320630094769e-10,
                                 -7.647127739966417538e-13, 2.810214535002210289e-15, -7.98251896178383242e-18, 0.0};
    const double u = x * x;
    double p = c[8];
    int k;
    for (k = 7; k >= 0; k--) {
        p = c[k] + (u * p);
    }
    return x + (x * (u * p));
}

double pd_sin_d(double x)
{
    double z = pd_wrapped_d(x);
    if (z > 1.5707963267948966) {
        z = (3.141592653589793 - z) + 1.2246467991473532e-16;
    } else if (z < -1.5707963267948966) {
        z = (-3.141592653589793 - z) - 1.2246467991473532e-16;
    } else {
        /* it is within a quarter turn */
    }
    return pd_quarter_sine_d(z);
}

double pd_cos_d(double x)
{
    const double z = pd_wrapped_d(x);
    const double back = (z < 0.0) ? -z : z;
    return pd_quarter_sine_d((1.5707963267948966 - back) + 6.123233995736766e-17);
}

/* The arc of t in 0 ... 1: above tan(pi/8) that of (t - tan(pi/8))/(1 + t tan(pi/8)), then the octant. */
float pd_atan2_f(float y, float x)
{
    const float height = pd_absolute_f(y);
    const float width = pd_absolute_f(x);
    const float most = pd_maximum_f(height, width);
    float t;
    float u;
    float p;
    float base = 0.0f;
    if (!(most > 0.0f)) {
        return 0.0f;
    }
    t = pd_minimum_f(height, width) / most;
    if (t > 0.41421357f) {
        t = (t - 0.41421357f) / (1.0f + (t * 0.41421357f));
        base = 0.39269909f;
    }
    u = t * t;
    p = 0.99999999937f - (u * (0.33333306893f - (u * (0.19998183041f - (u * (0.14239532665f - (u
        * (0.10569828804f - (u * 0.06026305f)))))))));
    p = base + (t * p);
    if (height > width) {
        p = 1.5707963705f - p;
    }
    if (x < 0.0f) {
        p = 3.1415927410f - p;
    }
    return (y < 0.0f) ? -p : p;
}

double pd_atan2_d(double y, double x)
{
    static const double c[13] = {0.9999999999999999999537, -0.3333333333333332420611, 0.199999999999970138916,
                                 -0.1428571428532970816449, 0.1111111108532210875941, -0.09090908059031191026885,
                                 0.07692281099937743250089, -0.06666205259976526187917, 0.05876834004614160664146,
                                 -0.05217312574061591001582, 0.04499500728984032009193, -0.03338782450121195151895,
                                 0.01511376509660092466881};
    const double height = pd_absolute_d(y);
    const double width = pd_absolute_d(x);
    const double most = pd_maximum_d(height, width);
    double t;
    double u;
    double p;
    double base = 0.0;
    int k;
    if (!(most > 0.0)) {
        return 0.0;
    }
    t = pd_minimum_d(height, width) / most;
    if (t > 0.41421356237309503) {
        t = (t - 0.41421356237309503) / (1.0 + (t * 0.41421356237309503));
        base = 0.39269908169872414;
    }
    u = t * t;
    p = c[12];
    for (k = 11; k >= 0; k--) {
        p = c[k] + (u * p);
    }
    p = base + (t * p);
    if (height > width) {
        p = 1.5707963267948966 - p;
    }
    if (x < 0.0) {
        p = 3.141592653589793 - p;
    }
    return (y < 0.0) ? -p : p;
}

float pd_interpolated_f(const float *x, const float *y, int32_t count, float at)
{
    int32_t k = 0;
    int32_t beyond = count;
    if (at < x[0]) {
        return y[0];
    }
    while ((beyond - k) > 1) {
        const int32_t middle = k + ((beyond - k) / 2);
        if (at >= x[middle]) {
            k = middle;
        } else {
            beyond = middle;
        }
    }
    if (k == (count - 1)) {
        return y[k];
    }
    return y[k] + (((y[k + 1] - y[k]) * (at - x[k])) / (x[k + 1] - x[k]));
}

double pd_interpolated_d(const double *x, const double *y, int32_t count, double at)
{
    int32_t k = 0;
    int32_t beyond = count;
    if (at < x[0]) {
        return y[0];
    }
    while ((beyond - k) > 1) {
        const int32_t middle = k + ((beyond - k) / 2);
        if (at >= x[middle]) {
            k = middle;
        } else {
            beyond = middle;
        }
    }
    if (k == (count - 1)) {
        return y[k];
    }
    return y[k] + (((y[k + 1] - y[k]) * (at - x[k])) / (x[k + 1] - x[k]));
}

float pd_mapped_f(const float *ax, int32_t nx, const float *ay, int32_t ny, const float *z, float x, float y)
{
    int32_t i = 0;
    int32_t j = 0;
    float s;
    float t;
    const float *c;
    while ((i < (nx - 2)) && (x >= ax[i + 1])) {
        i++;
    }
    while ((j < (ny - 2)) && (y >= ay[j + 1])) {
        j++;
    }
    s = pd_saturate_f((x - ax[i]) / (ax[i + 1] - ax[i]), 0.0f, 1.0f);
    t = pd_saturate_f((y - ay[j]) / (ay[j + 1] - ay[j]), 0.0f, 1.0f);
    c = &z[(i * ny) + j];
    return ((1.0f - s) * (((1.0f - t) * c[0]) + (t * c[1]))) + (s * (((1.0f - t) * c[ny]) + (t * c[ny + 1])));
}

double pd_mapped_d(const double *ax, int32_t nx, const double *ay, int32_t ny, const double *z, double x, double y)
{
    int32_t i = 0;
    int32_t j = 0;
    double s;
    double t;
    const double *c;
    while ((i < (nx - 2)) && (x >= ax[i + 1])) {
        i++;
    }
    while ((j < (ny - 2)) && (y >= ay[j + 1])) {
        j++;
    }
    s = pd_saturate_d((x - ax[i]) / (ax[i + 1] - ax[i]), 0.0, 1.0);
    t = pd_saturate_d((y - ay[j]) / (ay[j + 1] - ay[j]), 0.0, 1.0);
    c = &z[(i * ny) + j];
    return ((1.0 - s) * (((1.0 - t) * c[0]) + (t * c[1]))) + (s * (((1.0 - t) * c[ny]) + (t * c[ny + 1])));
}

/* pd_numbers.h: arithmetic of controllers written by Pendel, in fixed point and in float.
 * This file is yours, free of any condition.
 *
 * A value in fixed point is a word times a power of two; right shifts round half up; angles are words that
 * count parts of a turn and wrap. Names end in the bits of the word, f for float, d for double.
 * All results are the same to the bit with any C99 compiler whose right shift of negative numbers is
 * arithmetic and whose float is IEEE 754 without contraction (-ffp-contract=off) or reordering. */
#ifndef PD_NUMBERS_H
#define PD_NUMBERS_H

#include <stdint.h>

/* Where a number is in a controller's struct, and how it is held: a word is its value times 2^fraction, or counts
 * parts of a turn. */
typedef enum { PD_WORD, PD_FLOAT, PD_TURN } pd_kind_t;

typedef struct {
    uint32_t block;
    uint32_t item;
    uint32_t offset; /* bytes from the beginning of the struct */
    pd_kind_t kind;
    int32_t bits;
    int32_t fraction;
} pd_place_t;

typedef char pd_right_shift_is_arithmetic[((-5) >> 1 == -3) ? 1 : -1];

static inline int64_t pd_wide(int32_t x)
{
    return (int64_t)x;
}

static inline uint32_t pd_bits32(int32_t x)
{
    return (uint32_t)x;
}

static inline uint64_t pd_bits64(int64_t x)
{
    return (uint64_t)x;
}

/* Shifts to the right, rounded down; all of signed numbers are in these two. */
static inline int32_t pd_down32(int32_t x, uint32_t k)
{
    return x >> k;
}

static inline int64_t pd_down64(int64_t x, uint32_t k)
{
    return x >> k;
}

/* The same, rounded half up. */
static inline int32_t pd_shr32(int32_t x, uint32_t k)
{
    const uint32_t half = UINT32_C(1) << (k - 1u);
    return pd_down32(x + (int32_t)half, k);
}

static inline int64_t pd_shr64(int64_t x, uint32_t k)
{
    const uint64_t half = UINT64_C(1) << (k - 1u);
    return pd_down64(x + (int64_t)half, k);
}

/* Digits taken off, rounded half up, or with a negative k appended, as far as there is room. */
int32_t pd_moved32(int32_t x, int32_t k);
int64_t pd_moved64(int64_t x, int32_t k);

static inline int32_t pd_clamp32(int32_t x, int32_t low, int32_t high)
{
    return (x < low) ? low : ((x > high) ? high : x);
}

static inline int64_t pd_clamp64(int64_t x, int64_t low, int64_t high)
{
    return (x < low) ? low : ((x > high) ? high : x);
}

static inline int32_t pd_min32(int32_t a, int32_t b)
{
    return (a < b) ? a : b;
}

static inline int64_t pd_min64(int64_t a, int64_t b)
{
    return (a < b) ? a : b;
}

static inline int32_t pd_max32(int32_t a, int32_t b)
{
    return (a > b) ? a : b;
}

static inline int64_t pd_max64(int64_t a, int64_t b)
{
    return (a > b) ? a : b;
}

static inline int32_t pd_abs32(int32_t x)
{
    return (x < 0) ? -x : x;
}

static inline int64_t pd_abs64(int64_t x)
{
    return (x < 0) ? -x : x;
}

/* Quotients whose divisor may be zero: then the dividend's sign times the most there is. */
static inline int32_t pd_div32(int32_t a, int32_t b)
{
    return (b != 0) ? (a / b) : a;
}

static inline int64_t pd_div64(int64_t a, int64_t b)
{
    return (b != 0) ? (a / b) : a;
}

/* The low bits of a number as an angle. */
static inline int16_t pd_turn16(uint32_t x)
{
    const uint32_t bits = x & 0xFFFFu;
    const int32_t low = (int32_t)bits;
    return (int16_t)((low < 0x8000) ? low : (low - 0x10000));
}

static inline int32_t pd_turn32(uint32_t x)
{
    const uint32_t above = x - 0x80000000u;
    return (x <= 0x7FFFFFFFu) ? (int32_t)x : ((int32_t)above - INT32_C(2147483647) - 1);
}

/* Sine of an angle, in steps of 2^-15 and of 2^-30. */
int16_t pd_sin16(int16_t turn);
int16_t pd_cos16(int16_t turn);
int32_t pd_sin32(int32_t turn);
int32_t pd_cos32(int32_t turn);

/* The angle of (x, y), whose words count the same steps and have at most 15 or 31 digits; 0 at the origin. */
int16_t pd_atan2_16(int32_t y, int32_t x);
int32_t pd_atan2_32(int32_t y, int32_t x);

/* The whole part of a square root. */
int32_t pd_sqrt32(uint32_t x);
int32_t pd_sqrt64(uint64_t x);

/* A table, straight between its points and level beyond; beyond two points at one x the later one holds. */
int16_t pd_interpolate16(const int32_t *x, const int16_t *y, int32_t count, int32_t at);
int32_t pd_interpolate32(const int32_t *x, const int32_t *y, int32_t count, int32_t at);

/* A surface over two axes, straight between its points and level beyond. */
int16_t pd_map16(const int16_t *ax, int32_t nx, const int16_t *ay, int32_t ny, const int16_t *z, int32_t x, int32_t y);
int32_t pd_map32(const int32_t *ax, int32_t nx, const int32_t *ay, int32_t ny, const int32_t *z, int32_t x, int32_t y);

/* Between formats: words from float, limited; what is no number gives the lowest. */
static inline int32_t pd_word_d(double x, double steps, int32_t low, int32_t high)
{
    const double y = x * steps;
    int32_t word;
    if (!(y > (double)low)) {
        word = low;
    } else if (y >= (double)high) {
        word = high;
    } else {
        word = (int32_t)(y + 0.5);
        if ((double)word > (y + 0.5)) {
            word = word - 1;
        }
    }
    return word;
}

static inline int32_t pd_word_f(float x, float steps, int32_t low, int32_t high)
{
    return pd_word_d((double)x, (double)steps, low, high);
}

int16_t pd_turn16_d(double angle);
int32_t pd_turn32_d(double angle);

/* Float. */
float pd_sin_f(float x);
float pd_cos_f(float x);
float pd_atan2_f(float y, float x);
float pd_wrapped_f(float x);
float pd_sqrt_f(float x);
float pd_floor_f(float x);
float pd_interpolated_f(const float *x, const float *y, int32_t count, float at);
float pd_mapped_f(const float *ax, int32_t nx, const float *ay, int32_t ny, const float *z, float x, float y);
double pd_sin_d(double x);
double pd_cos_d(double x);
double pd_atan2_d(double y, double x);
double pd_wrapped_d(double x);
double pd_sqrt_d(double x);
double pd_floor_d(double x);
double pd_interpolated_d(const double *x, const double *y, int32_t count, double at);
double pd_mapped_d(const double *ax, int32_t nx, const double *ay, int32_t ny, const double *z, double x, double y);

static inline float pd_saturate_f(float x, float low, float high)
{
    return (x < low) ? low : ((x > high) ? high : x);
}

/* A new value within its ends; what is no number becomes the lowest. */
static inline float pd_within_f(float x, float low, float high)
{
    return (x >= low) ? ((x <= high) ? x : high) : low;
}

static inline float pd_absolute_f(float x)
{
    return (x < 0.0f) ? -x : x;
}

static inline float pd_minimum_f(float a, float b)
{
    return (a < b) ? a : b;
}

static inline float pd_maximum_f(float a, float b)
{
    return (a > b) ? a : b;
}

static inline double pd_saturate_d(double x, double low, double high)
{
    return (x < low) ? low : ((x > high) ? high : x);
}

/* A new value within its ends; what is no number becomes the lowest. */
static inline double pd_within_d(double x, double low, double high)
{
    return (x >= low) ? ((x <= high) ? x : high) : low;
}

static inline double pd_absolute_d(double x)
{
    return (x < 0.0) ? -x : x;
}

static inline double pd_minimum_d(double a, double b)
{
    return (a < b) ? a : b;
}

static inline double pd_maximum_d(double a, double b)
{
    return (a > b) ? a : b;
}

/* Adds to a sum and keeps what it rounds away (Knuth: The Art of Computer Programming 2, 4.2.2, theorem B). */
static inline void pd_add_f(float *sum, float *rest, float step)
{
    const float next = *sum + step;
    const float part = next - *sum;
    const float lost = ((*sum - (next - part)) + (step - part)) + *rest;
    *sum = next + lost;
    *rest = lost - (*sum - next);
}

static inline void pd_put_f(float *sum, float *rest, float x)
{
    if ((x < *sum) || (x > *sum)) {
        *sum = x;
        *rest = 0.0f;
    }
}

void pd_wrap_f(float *angle, float *rest);

#endif

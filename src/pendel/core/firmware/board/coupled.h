/* What the plant on the host and the controller on an emulated processor say to each other, over two pipes. */
#ifndef PD_COUPLED_H
#define PD_COUPLED_H
#include <stdint.h>

/* From the host: PD_HELLO with pd_hello_t, PD_TICK with the controller's ``in``, PD_LOOK with a uint32_t of late ticks.
 * Each is answered by the same letter, PD_HELLO with pd_here_t and PD_TICK with the controller's whole struct; before
 * the answer may come any number of PD_LOAD with pd_load_t and the bytes behind it. */
enum { PD_HELLO = 'H', PD_TICK = 'T', PD_LOOK = 'L', PD_LOAD = 'P' };
enum { PD_FLAG_TRIP = 1, PD_FLAG_ENABLED = 1 };

typedef struct {
    uint8_t letter;
    uint8_t flags;
    uint16_t none;
    uint32_t bytes;     /* that follow */
} pd_head_t;

typedef struct {
    uint64_t secret[2];
    uint64_t seeds;
    uint32_t kind, max_cto, max_dto, none;
} pd_hello_t;

typedef struct {
    uint32_t checksum, own_bytes, in_bytes, none;
} pd_here_t;

typedef struct {
    uint32_t step, address, bytes;
} pd_load_t;
#endif

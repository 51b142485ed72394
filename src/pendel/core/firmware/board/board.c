/* Start, semihosting and the tick counter of the emulated boards mps2-an386 and mps2-an385.
 * Vector table and SysTick: Armv7-M Architecture Reference Manual, B1.5 and B3.3; semihosting calls: Arm,
 * Semihosting for AArch32 and AArch64, section 6. */
#include <stdint.h>

extern uint32_t pd_stack_top[];
extern uint32_t pd_data_from[], pd_data_start[], pd_data_end[], pd_bss_start[], pd_bss_end[];
int main(void);
void pd_reset(void);

#define SYSTICK_CONTROL (*(volatile uint32_t *)0xE000E010u)
#define SYSTICK_RELOAD (*(volatile uint32_t *)0xE000E014u)
#define SYSTICK_VALUE (*(volatile uint32_t *)0xE000E018u)
#define COPROCESSORS (*(volatile uint32_t *)0xE000ED88u)

static int32_t pd_host(uint32_t call, const void *block)
{
    register uint32_t r0 __asm("r0") = call;
    register const void *r1 __asm("r1") = block;
    __asm volatile("bkpt 0xAB" : "+r"(r0) : "r"(r1) : "memory");
    return (int32_t)r0;
}

void pd_end(uint32_t code)
{
    const uint32_t block[2] = {0x20026u, code};
    (void)pd_host(0x20u, block);
    for (;;) {
    }
}

void pd_write(const char *name, uint32_t letters, const void *data, uint32_t bytes)
{
    const uint32_t open[3] = {(uint32_t)name, 5u, letters};
    const int32_t handle = pd_host(1u, open);
    const uint32_t write[3] = {(uint32_t)handle, (uint32_t)data, bytes};
    const uint32_t close[1] = {(uint32_t)handle};
    if (handle < 0) {
        pd_end(2u);
    }
    (void)pd_host(5u, write);
    (void)pd_host(2u, close);
}

int32_t pd_open(const char *name, uint32_t letters, uint32_t mode)
{
    const uint32_t open[3] = {(uint32_t)name, mode, letters};
    return pd_host(1u, open);
}

/* Read all of so many bytes, or write them; the program ends where there are none any more. */
void pd_read_all(int32_t handle, void *data, uint32_t bytes)
{
    uint8_t *to = (uint8_t *)data;
    while (bytes > 0u) {
        const uint32_t read[3] = {(uint32_t)handle, (uint32_t)to, bytes};
        const uint32_t left = (uint32_t)pd_host(6u, read);
        if (left >= bytes) {
            pd_end(0u);
        }
        to += bytes - left;
        bytes = left;
    }
}

void pd_write_all(int32_t handle, const void *data, uint32_t bytes)
{
    const uint32_t write[3] = {(uint32_t)handle, (uint32_t)data, bytes};
    if (pd_host(5u, write) != 0) {
        pd_end(2u);
    }
}

void pd_clock(void)
{
    SYSTICK_RELOAD = 0x00FFFFFFu;
    SYSTICK_VALUE = 0u;
    SYSTICK_CONTROL = 5u;
}

uint32_t pd_now(void)
{
    return SYSTICK_VALUE;
}

static void pd_fault(void)
{
    pd_end(3u);
}

__attribute__((section(".vectors"), used)) static void *const pd_vectors[16] = {
    (void *)pd_stack_top, (void *)pd_reset, (void *)pd_fault, (void *)pd_fault, (void *)pd_fault, (void *)pd_fault,
    (void *)pd_fault, 0, 0, 0, 0, (void *)pd_fault, (void *)pd_fault, 0, (void *)pd_fault, (void *)pd_fault};

void pd_reset(void)
{
    const uint32_t *from = pd_data_from;
    uint32_t *to;
#ifdef __ARM_FP
    COPROCESSORS |= 0x00F00000u;
    __asm volatile("dsb\n isb" ::: "memory");
#endif
    for (to = pd_data_start; to < pd_data_end; to++) {
        *to = *from++;
    }
    for (to = pd_bss_start; to < pd_bss_end; to++) {
        *to = 0u;
    }
    (void)main();
    pd_end(0u);
}

/* The controller with its slave on an emulated processor: its link is the UART of the board, its plant on the host.
 * UART: Arm, Cortex-M System Design Kit Technical Reference Manual, APB UART. */
#include <stddef.h>
#include <string.h>

int32_t pd_open(const char *name, uint32_t letters, uint32_t mode);
void pd_read_all(int32_t handle, void *data, uint32_t bytes);
void pd_write_all(int32_t handle, const void *data, uint32_t bytes);
void pd_end(uint32_t code);

#define UART_DATA (*(volatile uint32_t *)0x40004000u)
#define UART_STATE (*(volatile uint32_t *)0x40004004u)
#define UART_CONTROL (*(volatile uint32_t *)0x40004008u)
#define UART_DIVIDER (*(volatile uint32_t *)0x40004010u)
enum { UART_FULL = 1, UART_HAS = 2, POLLS = 60, WITHIN_PACKET = 20000 };

static PD_OWN_T controller;
static pd_board_t board;
static pd_xcp_t xcp;
static pd_link_t line;
static uint8_t queue[PD_IMAGE_QUEUE], record[PD_IMAGE_RECORD], sending[1024];
static uint32_t sent, to_send, loaded;
static pd_hello_t known;
static uint64_t seed_now;
static int32_t plant_in, plant_out;

static void say(uint8_t letter, uint8_t flags, const void *data, uint32_t bytes)
{
    static uint8_t all[sizeof(pd_head_t) + sizeof(pd_load_t) + sizeof(controller) + 512u];
    const pd_head_t head = {letter, flags, 0u, bytes};
    memcpy(all, &head, sizeof head);
    if (bytes > 0u) {
        memcpy(all + sizeof head, data, bytes);
    }
    pd_write_all(plant_out, all, (uint32_t)sizeof head + bytes);
}

static void give_seed(void *user, uint8_t *bytes)
{
    (void)user;
    pd_give_seed(known.secret, &known.seeds, &seed_now, bytes);
}

static bool unlocks(void *user, const uint8_t *key, uint32_t bytes)
{
    (void)user;
    return pd_key_fits(known.secret, &known.seeds, &seed_now, key, bytes);
}

/* A program that comes over the link is kept by the host, as by a memory beside the processor. */
static pd_xcp_code_t program(void *user, pd_program_t step, uint32_t address, const uint8_t *data, uint32_t bytes)
{
    uint8_t all[sizeof(pd_load_t) + PD_XCP_ANSWER];
    const uint32_t more = step == PD_PROGRAM_WRITE ? bytes : 0u;
    const pd_load_t load = {(uint32_t)step, address, bytes};
    (void)user;
    if (board.facts.state == (uint32_t)PD_ENABLED) return PD_XCP_DENIED;
    if (step == PD_PROGRAM_CLEAR && bytes > PD_IMAGE_FLASH) return PD_XCP_MEMORY;
    if (step == PD_PROGRAM_CLEAR) loaded = 0u;
    if (step == PD_PROGRAM_WRITE) {
        if (address != loaded || bytes > PD_IMAGE_FLASH - loaded || bytes > (uint32_t)PD_XCP_ANSWER)
            return PD_XCP_RANGE;
        loaded += bytes;
    }
    memcpy(all, &load, sizeof load);
    memcpy(all + sizeof load, data, more);
    say(PD_LOAD, 0u, all, (uint32_t)sizeof load + more);
    return PD_XCP_OK;
}

static pd_xcp_board_t port = {&board, "Pendel stand-in board; emulated Cortex-M4F", PD_IMAGE_TICK_NS, pd_board_reach,
                              pd_board_written, pd_board_ticks, program, 0, 0};

static void start(void)
{
    static const pd_board_t zero = {0};
    board = zero;
    PD_OWN_INIT(&controller);
    board.facts.layout = (uint32_t)PD_BOARD_LAYOUT;
    board.facts.checksum = PD_IMAGE_CHECKSUM;
    board.facts.tick_ns = PD_IMAGE_TICK_NS;
    board.facts.own_bytes = (uint32_t)sizeof(controller);
    board.facts.record_bytes = (uint32_t)sizeof(record);
    board.own = (uint8_t *)&controller;
    board.convert = pd_image_convert;
    board.rest = pd_image_rest;
    board.record = record;
    board.xcp = &xcp;
}

static void join(void)
{
    const bool locked = known.secret[0] != 0u || known.secret[1] != 0u;
    port.joined = pd_board_joined;
    port.seed = locked ? give_seed : 0;
    port.unlocks = locked ? unlocks : 0;
    pd_xcp_init(&xcp, &port, queue, (uint32_t)sizeof(queue), (uint16_t)known.max_cto, (uint16_t)known.max_dto);
    pd_link_init(&line, &xcp, (pd_link_kind_t)known.kind);
    sent = 0u;
    to_send = 0u;
}

static void serve_line(void)
{
    uint32_t quiet = 0u;
    /* Bytes reach the UART one by one, in a thread of the emulator; what has begun is waited for. */
    while (quiet < (line.filled > 0u ? (uint32_t)WITHIN_PACKET : (uint32_t)POLLS)) {
        const uint32_t state = UART_STATE;
        quiet++;
        if ((state & (uint32_t)UART_HAS) != 0u) {
            const uint8_t byte = (uint8_t)UART_DATA;
            pd_link_take(&line, &byte, 1u);
            board.facts.garbled = line.garbled;
            quiet = 0u;
        }
        if (sent == to_send) {
            sent = 0u;
            to_send = pd_link_give(&line, sending, (uint32_t)sizeof sending);
        }
        if (sent < to_send && (state & (uint32_t)UART_FULL) == 0u) {
            UART_DATA = sending[sent];
            sent++;
            quiet = 0u;
        }
    }
}

static uint8_t tick(void)
{
    const bool enabled = board.facts.state == (uint32_t)PD_ENABLED;
    if (enabled) PD_OWN_TICK(&controller);
    pd_board_ticked(&board);
    pd_link_ticked(&line, PD_IMAGE_TICK_NS);
    return enabled ? (uint8_t)PD_FLAG_ENABLED : 0u;
}

static void obey(const pd_head_t *head)
{
    const pd_here_t here = {PD_IMAGE_CHECKSUM, (uint32_t)sizeof(controller), (uint32_t)sizeof(controller.in), 0u};
    uint32_t late = 0u;
    uint8_t flags;
    if (head->letter == (uint8_t)PD_TICK && head->bytes == (uint32_t)sizeof(controller.in)) {
        pd_read_all(plant_in, &controller.in, head->bytes);
        if ((head->flags & (uint8_t)PD_FLAG_TRIP) != 0u) pd_board_trip(&board);
        flags = tick();
        say(PD_TICK, flags, &controller, (uint32_t)sizeof controller);
    } else if (head->letter == (uint8_t)PD_LOOK && head->bytes == (uint32_t)sizeof(late)) {
        pd_read_all(plant_in, &late, head->bytes);
        board.facts.late += late;
        serve_line();
        say(PD_LOOK, 0u, 0, 0u);
    } else if (head->letter == (uint8_t)PD_HELLO && head->bytes == (uint32_t)sizeof(known)) {
        pd_read_all(plant_in, &known, head->bytes);
        join();
        say(PD_HELLO, 0u, &here, (uint32_t)sizeof here);
    } else {
        pd_end(4u);
    }
}

int main(void)
{
    plant_in = pd_open("plant.in", 8u, 1u);
    plant_out = pd_open("plant.out", 9u, 5u);
    UART_DIVIDER = 16u;
    UART_CONTROL = 3u;
    start();
    for (;;) {
        pd_head_t head;
        pd_read_all(plant_in, &head, (uint32_t)sizeof head);
        obey(&head);
    }
}

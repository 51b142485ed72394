/* The simulated board: what lies between the time loop, which calls the controller at its ticks, and the slave. */
#include <math.h>
#include <string.h>

/* Memory into which a program is loaded, and the state of that. It belongs to the process, as a board's flash does. */
typedef struct {
    uint8_t *bytes;
    uint32_t room;
    uint32_t filled;
    int32_t ended;
    int32_t restarts;
    uint64_t secret[2]; /* who knows it may load; 0, 0: anyone may */
    uint64_t seeds;
} pd_flash_t;

typedef struct {
    pd_both_t both;
    pd_board_t board;
    pd_xcp_t xcp;
    pd_xcp_board_t port;
    pd_link_t link;
    pd_flash_t *flash;
    uint64_t seed;
    double idle[PD_IMAGE_COMMANDS + 1u];    /* what the power stage gets while it is off */
    uint8_t queue[PD_IMAGE_QUEUE];
    uint8_t record[PD_IMAGE_RECORD];
} pd_image_t;

static void pd_image_seed(void *board, uint8_t *seed)
{
    pd_image_t *c = (pd_image_t *)((pd_board_t *)board)->user;
    pd_give_seed(c->flash->secret, &c->flash->seeds, &c->seed, seed);
}

static bool pd_image_unlocks(void *board, const uint8_t *key, uint32_t bytes)
{
    pd_image_t *c = (pd_image_t *)((pd_board_t *)board)->user;
    return pd_key_fits(c->flash->secret, &c->flash->seeds, &c->seed, key, bytes);
}

static uint32_t pd_image_random(void *user)
{
    pd_image_t *c = (pd_image_t *)user;
    return (uint32_t)pd_keyed(c->flash->secret, c->flash->seeds++);
}

static pd_xcp_code_t pd_image_program(void *board, pd_program_t step, uint32_t address, const uint8_t *data,
                                      uint32_t bytes)
{
    pd_board_t *b = (pd_board_t *)board;
    pd_flash_t *flash = ((pd_image_t *)b->user)->flash;
    if (b->facts.state == (uint32_t)PD_ENABLED) return PD_XCP_DENIED;
    switch (step) {
    case PD_PROGRAM_START:
        flash->ended = 0;
        return PD_XCP_OK;
    case PD_PROGRAM_CLEAR:
        flash->filled = 0u;
        return bytes <= flash->room ? PD_XCP_OK : PD_XCP_MEMORY;
    case PD_PROGRAM_WRITE:
        if (address != flash->filled || bytes > flash->room - flash->filled) return PD_XCP_RANGE;
        memcpy(flash->bytes + address, data, bytes);
        flash->filled += bytes;
        return PD_XCP_OK;
    case PD_PROGRAM_END:
        flash->ended = 1;
        return PD_XCP_OK;
    default:
        flash->restarts = 1;
        return PD_XCP_OK;
    }
}

int pd_image_fact(int which)
{
    static const uint32_t facts[] = {PD_IMAGE_MEASURED, PD_IMAGE_SIGNALS, PD_IMAGE_COMMANDS, PD_IMAGE_CHECKSUM};
    return which >= 0 && which < 4 ? (int)facts[which] : 0;
}

/* Join a board to its process and its link, once, after it was started. */
void pd_image_join(pd_image_t *c, pd_flash_t *flash, int kind, int max_cto, int max_dto)
{
    pd_board_t *b = &c->board;
    c->flash = flash;
    b->facts.layout = (uint32_t)PD_BOARD_LAYOUT;
    b->facts.checksum = PD_IMAGE_CHECKSUM;
    b->facts.tick_ns = PD_IMAGE_TICK_NS;
    b->facts.own_bytes = (uint32_t)pd_sim_own_size();
    b->facts.record_bytes = PD_IMAGE_RECORD;
    b->own = (uint8_t *)&c->both.own;
    b->convert = pd_image_convert;
    b->rest = pd_image_rest;
    b->user = c;
    b->random = pd_image_random;
    b->record = c->record;
    b->xcp = &c->xcp;
    c->port.user = b;
    c->port.id = "Pendel stand-in board; code for the host";
    c->port.tick_ns = PD_IMAGE_TICK_NS;
    c->port.reach = pd_board_reach;
    c->port.written = pd_board_written;
    c->port.ticks = pd_board_ticks;
    c->port.program = pd_image_program;
    c->port.joined = pd_board_joined;
    if (flash->secret[0] != 0u || flash->secret[1] != 0u) {
        c->port.seed = pd_image_seed;
        c->port.unlocks = pd_image_unlocks;
    }
    pd_xcp_init(&c->xcp, &c->port, c->queue, PD_IMAGE_QUEUE, (uint16_t)max_cto, (uint16_t)max_dto);
    pd_link_init(&c->link, &c->xcp, (pd_link_kind_t)kind);
}

void pd_image_idle(pd_image_t *c, const double *commands)
{
    memcpy(c->idle, commands, PD_IMAGE_COMMANDS * sizeof(double));
}

void pd_image_take(pd_image_t *c, const uint8_t *bytes, int count)
{
    pd_link_take(&c->link, bytes, (uint32_t)count);
    c->board.facts.garbled = c->link.garbled;
}

/* Nothing follows on the line: what came of a packet is forgotten. */
void pd_image_quiet(pd_image_t *c)
{
    pd_link_quiet(&c->link);
    c->board.facts.garbled = c->link.garbled;
}

int pd_image_give(pd_image_t *c, uint8_t *bytes, int room)
{
    return (int)pd_link_give(&c->link, bytes, (uint32_t)room);
}

void pd_image_late(pd_image_t *c, int ticks) { c->board.facts.late += (uint32_t)ticks; }
int pd_image_state(const pd_image_t *c) { return (int)c->board.facts.state; }

int pd_ctl_size(void) { return (int)sizeof(pd_image_t); }
void pd_ctl_bind(pd_image_t *c, double *v) { pd_sim_bind(&c->both, v); }
void pd_ctl_states(const pd_image_t *c, double *z) { pd_sim_states(&c->both, z); }

void pd_ctl_init(pd_image_t *c, double *v)
{
    memset(c, 0, sizeof *c);
    pd_sim_init(&c->both, v);
}

/* The power stage is off until it is enabled. What is no number trips it. */
void pd_ctl_tick(pd_image_t *c, const double *in, double *signals, double *out)
{
    uint32_t k;
    int good = 1;
    c->both.runs = c->board.facts.state == (uint32_t)PD_ENABLED;
    pd_sim_tick(&c->both, in, signals, out);
    for (k = 0u; k < PD_IMAGE_COMMANDS; k++) good &= isfinite(out[k]) != 0;
    if (!good) pd_board_trip(&c->board);
    for (k = 0u; k < PD_IMAGE_COMMANDS; k++) if (c->board.facts.state != (uint32_t)PD_ENABLED) out[k] = c->idle[k];
    if (c->board.xcp) pd_board_ticked(&c->board);
}

/* The host's side of a controller on an emulated processor: its plant asks it at each tick, the link's bytes go to its
 * UART. A processor that does not answer counts as gone. */
#include <errno.h>
#include <math.h>
#include <poll.h>
#include <string.h>
#include <unistd.h>

enum { PATIENCE_MS = 5000 };

/* As in simulated.c. */
typedef struct {
    uint8_t *bytes;
    uint32_t room;
    uint32_t filled;
    int32_t ended;
    int32_t restarts;
    uint64_t secret[2];
    uint64_t seeds;
} pd_flash_t;

typedef struct {
    pd_both_t both;
    pd_flash_t *flash;
    int32_t to_plant, from_plant, to_line, from_line;
    int32_t gone, trips, enabled;
    uint32_t late;
    pd_here_t here;
    double idle[PD_IMAGE_COMMANDS + 1u];
} pd_image_t;

static int pd_move(int fd, uint8_t *bytes, uint32_t count, int reads)
{
    while (count > 0u) {
        struct pollfd one = {fd, reads ? POLLIN : POLLOUT, 0};
        ssize_t done;
        if (poll(&one, 1, PATIENCE_MS) <= 0) return 0;
        done = reads ? read(fd, bytes, count) : write(fd, bytes, count);
        if (done <= 0) {
            if (done < 0 && (errno == EINTR || errno == EAGAIN)) continue;
            return 0;
        }
        bytes += done;
        count -= (uint32_t)done;
    }
    return 1;
}

static int pd_keep_load(pd_image_t *c, uint32_t count)
{
    uint8_t all[sizeof(pd_load_t) + 256u];
    pd_flash_t *flash = c->flash;
    pd_load_t load;
    if (count < sizeof load || count > sizeof all || !pd_move(c->from_plant, all, count, 1)) return 0;
    memcpy(&load, all, sizeof load);
    count -= (uint32_t)sizeof load;
    if (load.step == 0u) flash->ended = 0;
    else if (load.step == 1u) flash->filled = 0u;
    else if (load.step == 2u) {
        if (load.address != flash->filled || count > flash->room - flash->filled) return 0;
        memcpy(flash->bytes + load.address, all + sizeof load, count);
        flash->filled += count;
    }
    else if (load.step == 3u) flash->ended = 1;
    else flash->restarts = 1;
    return 1;
}

/* Say something and take the answer, of exactly so many bytes. */
static void pd_ask(pd_image_t *c, uint8_t letter, uint8_t flags, const void *data, uint32_t bytes, void *answer,
                   uint32_t due)
{
    uint8_t all[sizeof(pd_head_t) + PD_IMAGE_LARGEST];
    pd_head_t head = {letter, flags, 0u, bytes};
    if (c->gone != 0) return;
    c->gone = 1;
    memcpy(all, &head, sizeof head);
    memcpy(all + sizeof head, data, bytes);
    if (!pd_move(c->to_plant, all, (uint32_t)sizeof head + bytes, 0)) return;
    for (;;) {
        if (!pd_move(c->from_plant, (uint8_t *)&head, (uint32_t)sizeof head, 1)) return;
        if (head.letter != (uint8_t)PD_LOAD) break;
        if (!pd_keep_load(c, head.bytes)) return;
    }
    if (head.letter != letter || head.bytes != due || !pd_move(c->from_plant, (uint8_t *)answer, due, 1)) return;
    c->enabled = letter == (uint8_t)PD_TICK ? (head.flags & (uint8_t)PD_FLAG_ENABLED) != 0 : c->enabled;
    c->gone = 0;
}

static pd_image_t *pd_at;

static void pd_away_tick(PD_OWN_T *own)
{
    const uint8_t flags = pd_at->trips != 0 ? (uint8_t)PD_FLAG_TRIP : 0u;
    pd_at->trips = 0;
    pd_ask(pd_at, PD_TICK, flags, &own->in, (uint32_t)sizeof own->in, own, (uint32_t)sizeof *own);
}

int pd_image_fact(int which)
{
    static const uint32_t facts[] = {PD_IMAGE_MEASURED, PD_IMAGE_SIGNALS, PD_IMAGE_COMMANDS, PD_IMAGE_CHECKSUM};
    return which >= 0 && which < 4 ? (int)facts[which] : 0;
}

void pd_image_couple(pd_image_t *c, int to_plant, int from_plant, int to_line, int from_line)
{
    c->to_plant = to_plant;
    c->from_plant = from_plant;
    c->to_line = to_line;
    c->from_line = from_line;
    c->gone = 0;
}

/* 0 while it answers as it should. */
int pd_image_gone(const pd_image_t *c) { return c->gone; }

void pd_image_join(pd_image_t *c, pd_flash_t *flash, int kind, int max_cto, int max_dto)
{
    const pd_hello_t hello = {{flash->secret[0], flash->secret[1]}, flash->seeds++, (uint32_t)kind, (uint32_t)max_cto,
                              (uint32_t)max_dto, 0u};
    c->flash = flash;
    pd_ask(c, PD_HELLO, 0u, &hello, (uint32_t)sizeof hello, &c->here, (uint32_t)sizeof c->here);
    if (c->here.checksum != PD_IMAGE_CHECKSUM || c->here.own_bytes != (uint32_t)sizeof c->both.own
        || c->here.in_bytes != (uint32_t)sizeof c->both.own.in) c->gone = 1;
}

void pd_image_idle(pd_image_t *c, const double *commands)
{
    memcpy(c->idle, commands, PD_IMAGE_COMMANDS * sizeof(double));
}

/* Have it look at its line, between ticks. */
void pd_image_look(pd_image_t *c)
{
    uint8_t none;
    const uint32_t late = c->late;
    c->late = 0u;
    pd_ask(c, PD_LOOK, 0u, &late, (uint32_t)sizeof late, &none, 0u);
}

void pd_image_take(pd_image_t *c, const uint8_t *bytes, int count)
{
    (void)pd_move(c->to_line, (uint8_t *)bytes, (uint32_t)count, 0);
}

/* The processor sees for itself that its line is quiet. */
void pd_image_quiet(pd_image_t *c) { (void)c; }

int pd_image_give(pd_image_t *c, uint8_t *bytes, int room)
{
    struct pollfd one = {c->from_line, POLLIN, 0};
    ssize_t count = 0;
    if (poll(&one, 1, 0) > 0) count = read(c->from_line, bytes, (size_t)room);
    return count > 0 ? (int)count : 0;
}

void pd_image_late(pd_image_t *c, int ticks) { c->late += (uint32_t)ticks; }
int pd_image_state(const pd_image_t *c) { return c->enabled; }

int pd_ctl_size(void) { return (int)sizeof(pd_image_t); }
void pd_ctl_bind(pd_image_t *c, double *v) { pd_sim_bind(&c->both, v); }
void pd_ctl_states(const pd_image_t *c, double *z) { pd_sim_states(&c->both, z); }

void pd_ctl_init(pd_image_t *c, double *v)
{
    memset(c, 0, sizeof *c);
    pd_sim_init(&c->both, v);
    c->both.runs = 1;
    c->gone = 1;
}

/* The power stage is off until it is enabled, and where nothing answers. What is no number trips it. */
void pd_ctl_tick(pd_image_t *c, const double *in, double *signals, double *out)
{
    uint32_t k;
    pd_at = c;
    pd_sim_tick(&c->both, in, signals, out);
    for (k = 0u; k < PD_IMAGE_COMMANDS; k++) if (!isfinite(out[k]) && c->enabled != 0) c->trips = 1;
    for (k = 0u; k < PD_IMAGE_COMMANDS; k++) if (c->enabled == 0 || c->trips != 0 || c->gone != 0) out[k] = c->idle[k];
}

/* pd_link.c: see pd_link.h. This file is yours, free of any condition. */
#include "pd_link.h"

enum { HEAD = 4 };

void pd_link_init(pd_link_t *link, pd_xcp_t *xcp, pd_link_kind_t kind)
{
    static const pd_link_t zero = {0};
    *link = zero;
    link->xcp = xcp;
    link->kind = kind;
}

void pd_link_opened(pd_link_t *link)
{
    link->filled = 0u;
    link->quiet_ns = 0u;
    link->broken = false;
    pd_xcp_leave(link->xcp);
}

bool pd_link_is_broken(const pd_link_t *link)
{
    return link->broken;
}

void pd_link_quiet(pd_link_t *link)
{
    link->garbled += link->filled;
    link->filled = 0u;
    link->quiet_ns = 0u;
}

void pd_link_ticked(pd_link_t *link, uint32_t tick_ns)
{
    if (link->filled > 0u) {
        link->quiet_ns += (tick_ns < 1000000u) ? tick_ns : 1000000u;
        if (link->quiet_ns >= ((uint32_t)PD_LINK_QUIET_MS * 1000000u)) {
            pd_link_quiet(link);
        }
    }
}

static uint8_t sum_of(const uint8_t *bytes, uint32_t count)
{
    uint32_t k, sum = 0u;
    for (k = 0u; k < count; k++) {
        sum += bytes[k];
    }
    return (uint8_t)(sum & 0xFFu);
}

/* Bytes behind a packet. */
static uint32_t tail_of(const pd_link_t *link)
{
    uint32_t bytes = 0u;
    if (link->kind == PD_LINK_SERIAL) {
        bytes = 1u;
    }
    return bytes;
}

static void drop(pd_link_t *link, uint32_t count)
{
    uint32_t k;
    for (k = count; k < link->filled; k++) {
        link->in[k - count] = link->in[k];
    }
    link->filled -= count;
}

/* What has arrived begins no packet. On a serial line the next byte may; a stream has none of this protocol on it, and
 * a datagram is one whole. */
static void drop_garbled(pd_link_t *link)
{
    if (link->kind == PD_LINK_SERIAL) {
        link->garbled++;
        drop(link, 1u);
    } else {
        link->broken = true;
        pd_link_quiet(link);
    }
}

/* Take the first packet off what has arrived; 0 where it is not all there. */
static bool take_packet(pd_link_t *link)
{
    const uint32_t tail = tail_of(link);
    uint32_t length, whole;
    if (link->filled < (uint32_t)HEAD) {
        return false;
    }
    length = (uint32_t)link->in[0] | ((uint32_t)link->in[1] << 8);
    whole = (uint32_t)HEAD + length + tail;
    if ((length == 0u) || (length > link->xcp->max_cto)) {
        drop_garbled(link);
    } else if (link->filled < whole) {
        return false;
    } else if ((tail != 0u) && (sum_of(link->in, whole - 1u) != link->in[whole - 1u])) {
        drop_garbled(link);
    } else {
        pd_xcp_command(link->xcp, link->in + HEAD, length);
        drop(link, whole);
    }
    return true;
}

void pd_link_take(pd_link_t *link, const uint8_t *bytes, uint32_t count)
{
    uint32_t k;
    if (link->kind == PD_LINK_CAN) {
        pd_xcp_command(link->xcp, bytes, count);
        return;
    }
    link->quiet_ns = 0u;
    for (k = 0u; (k < count) && !link->broken; k++) {
        if (link->filled < (uint32_t)sizeof(link->in)) {
            link->in[link->filled] = bytes[k];
            link->filled++;
        }
        while (take_packet(link)) {
        }
    }
    if (link->kind == PD_LINK_DATAGRAM) { /* the next one begins anew */
        pd_link_quiet(link);
        link->broken = false;
    }
}

static uint32_t give_packet(pd_link_t *link, uint8_t *bytes, uint32_t room)
{
    const uint32_t tail = tail_of(link);
    uint32_t length;
    if (room <= ((uint32_t)HEAD + tail)) {
        return 0u;
    }
    length = pd_xcp_next(link->xcp, bytes + HEAD, room - (uint32_t)HEAD - tail);
    if (length == 0u) {
        return 0u;
    }
    bytes[0] = (uint8_t)(length & 0xFFu);
    bytes[1] = (uint8_t)(length >> 8);
    bytes[2] = (uint8_t)(link->sent & 0xFFu);
    bytes[3] = (uint8_t)(link->sent >> 8);
    link->sent++;
    if (tail != 0u) {
        bytes[(uint32_t)HEAD + length] = sum_of(bytes, (uint32_t)HEAD + length);
    }
    return (uint32_t)HEAD + length + tail;
}

uint32_t pd_link_give(pd_link_t *link, uint8_t *bytes, uint32_t room)
{
    uint32_t filled = 0u, more = 1u;
    if (link->kind == PD_LINK_CAN) {
        return pd_xcp_next(link->xcp, bytes, room);
    }
    while (more != 0u) {
        more = give_packet(link, bytes + filled, room - filled);
        filled += more;
    }
    return filled;
}

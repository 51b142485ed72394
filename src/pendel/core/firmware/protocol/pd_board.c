/* pd_board.c: see pd_board.h. This file is yours, free of any condition. */
#include "pd_board.h"
#include <stddef.h>

static bool within(uint32_t address, uint32_t bytes, uint32_t room)
{
    return (address <= room) && (bytes <= (room - address));
}

uint8_t *pd_board_reach(void *user, uint8_t extension, uint32_t address, uint32_t bytes, bool writes)
{
    pd_board_t *b = (pd_board_t *)user;
    const uint32_t facts = (uint32_t)sizeof(b->facts);
    uint8_t *found = NULL;
    if (extension == 0u) {
        found = within(address, bytes, b->facts.own_bytes) ? b->own + address : NULL;
    } else if (extension == 1u) {
        const uint32_t at = (uint32_t)offsetof(pd_board_facts_t, order);
        const uint32_t keys = facts + (uint32_t)sizeof(b->capture);
        const bool order = (address == at) && (bytes == 4u);
        const bool given = (address == (keys + (uint32_t)offsetof(pd_board_keys_t, given))) && (bytes == 4u);
        if (address < facts) {
            const bool may = !writes || order;
            found = (may && within(address, bytes, facts)) ? (uint8_t *)&b->facts + address : NULL;
        } else if (within(address - facts, bytes, (uint32_t)sizeof(b->capture))) {
            found = (uint8_t *)&b->capture + (address - facts);
        } else if ((address >= keys) && (!writes || given)
                   && within(address - keys, bytes, (uint32_t)sizeof(b->keys))) {
            found = (uint8_t *)&b->keys + (address - keys);
        } else {
            found = NULL;
        }
    } else if (extension == 2u) {
        found = (!writes && within(address, bytes, b->facts.record_bytes)) ? b->record + address : NULL;
    } else if ((extension == 3u) && (b->raw != NULL)) {
        found = b->raw(b->user, address, bytes, writes);
    } else {
        found = NULL;
    }
    return found;
}

uint32_t pd_board_ticks(void *user)
{
    return ((const pd_board_t *)user)->facts.ticks;
}

/* Who connects gets a key to enable with, so that bytes that were sent blindly enable nothing. */
void pd_board_joined(void *user)
{
    pd_board_t *b = (pd_board_t *)user;
    uint32_t mixed = b->keys.key ^ (b->facts.ticks * 2654435761u) ^ 0x9E3779B9u;
    if (b->random != NULL) {
        mixed ^= b->random(b->user);
    }
    mixed ^= mixed << 13;
    mixed ^= mixed >> 17;
    mixed ^= mixed << 5;
    b->keys.key = (mixed != 0u) ? mixed : 1u;
    b->keys.given = 0u;
}

/* State. */

static void go_idle(pd_board_t *b, pd_state_t state)
{
    b->facts.state = (uint32_t)state;
    if (b->rest != NULL) {
        b->rest(b->own);
    }
}

void pd_board_trip(pd_board_t *b)
{
    if (b->facts.state == (uint32_t)PD_ENABLED) {
        b->facts.faults++;
        go_idle(b, PD_FAULT);
    }
}

static void follow(pd_board_t *b, uint32_t order)
{
    const uint32_t state = b->facts.state;
    const bool may = (b->keys.key != 0u) && (b->keys.given == b->keys.key);
    b->keys.given = 0u;
    if ((order == (uint32_t)PD_ORDER_ENABLE) && (state == (uint32_t)PD_IDLE) && may) {
        b->facts.state = (uint32_t)PD_ENABLED;
    } else if ((order == (uint32_t)PD_ORDER_IDLE) && (state == (uint32_t)PD_ENABLED)) {
        go_idle(b, PD_IDLE);
    } else if ((order == (uint32_t)PD_ORDER_ACKNOWLEDGE) && (state == (uint32_t)PD_FAULT)) {
        b->facts.state = (uint32_t)PD_IDLE;
    } else if (order == (uint32_t)PD_ORDER_TRIP) {
        pd_board_trip(b);
    } else if ((order == (uint32_t)PD_ORDER_IDLE) && (state == (uint32_t)PD_IDLE)) {
        /* it is so already */
    } else {
        b->facts.refused++;
    }
    b->facts.order = (uint32_t)PD_ORDER_NONE;
}

/* The record. */

static bool reachable(pd_board_t *b, const pd_channel_t *channel)
{
    const uint32_t n = channel->bytes;
    const bool sized = (channel->number == (uint32_t)PD_REAL) ? ((n == 4u) || (n == 8u))
                                                                 : ((n == 1u) || (n == 2u) || (n == 4u));
    return sized && (channel->number <= (uint32_t)PD_REAL) && (channel->extension <= 3u)
           && (pd_board_reach(b, (uint8_t)channel->extension, channel->address, n, false) != NULL);
}

static void begin_record(pd_board_t *b)
{
    pd_capture_t *c = &b->capture;
    uint32_t k;
    bool good = (c->channels > 0u) && (c->channels <= (uint32_t)PD_CAPTURE_CHANNELS) && (c->source < c->channels)
                   && (c->samples > 0u) && (c->before < c->samples) && (c->condition <= (uint32_t)PD_CHANGES);
    c->stride = 0u;
    for (k = 0u; good && (k < c->channels); k++) {
        good = reachable(b, &c->channel[k]);
        c->stride += c->channel[k].bytes;
    }
    if (good && (c->samples > (b->facts.record_bytes / c->stride))) {
        good = false;
    }
    c->state = good ? (uint32_t)PD_CAPTURE_FILLS : (uint32_t)PD_CAPTURE_OFF;
    c->first = 0u;
    c->at = 0u;
    c->last = 0u;
    b->place = 0u;
    b->filled = 0u;
    b->waited = 0u;
    b->skipped = 0u;
    b->left = 0u;
    b->seen = 0u;
    if (!good) {
        b->facts.refused++;
    }
}

static void copy(uint8_t *to, const uint8_t *from, uint32_t bytes)
{
    uint32_t k;
    for (k = 0u; k < bytes; k++) {
        to[k] = from[k];
    }
}

static float number_at(const uint8_t *p, const pd_channel_t *channel)
{
    float value = 0.0f;
    if (channel->number == (uint32_t)PD_REAL) {
        double wide = 0.0;
        if (channel->bytes == 4u) {
            copy((uint8_t *)&value, p, 4u);
        } else {
            copy((uint8_t *)&wide, p, 8u);
            value = (float)wide;
        }
    } else {
        uint32_t bits = 0u, k;
        const uint32_t width = 8u * channel->bytes;
        for (k = channel->bytes; k > 0u; k--) {
            bits = (bits << 8) | (uint32_t)p[k - 1u];
        }
        if ((channel->number == (uint32_t)PD_SIGNED) && (((bits >> (width - 1u)) & 1u) != 0u)) {
            const uint32_t size = (~bits + 1u) & (0xFFFFFFFFu >> (32u - width));
            value = -(float)size;
        } else {
            value = (float)bits;
        }
    }
    return value;
}

static bool happens(const pd_capture_t *c, float before, float now)
{
    const bool was_in = (before >= c->low) && (before <= c->high);
    const bool is_in = (now >= c->low) && (now <= c->high);
    bool found;
    switch (c->condition) {
    case PD_RISES:
        found = (before <= c->high) && (now > c->high);
        break;
    case PD_FALLS:
        found = (before >= c->low) && (now < c->low);
        break;
    case PD_LEAVES:
        found = was_in && !is_in;
        break;
    case PD_ENTERS:
        found = !was_in && is_in;
        break;
    case PD_CHANGES:
        found = (before < now) || (before > now);
        break;
    default:
        found = true;
        break;
    }
    return found;
}

static void keep_sample(pd_board_t *b)
{
    pd_capture_t *c = &b->capture;
    uint8_t *to = b->record + (b->place * c->stride);
    uint32_t k;
    for (k = 0u; k < c->channels; k++) {
        const pd_channel_t *channel = &c->channel[k];
        const uint8_t *from = pd_board_reach(b, (uint8_t)channel->extension, channel->address, channel->bytes, false);
        if (from != NULL) {
            copy(to, from, channel->bytes);
        }
        to += channel->bytes;
    }
    c->last = b->facts.ticks;
    b->place = (b->place + 1u) % c->samples;
    if (b->filled < c->samples) {
        b->filled++;
    }
}

static void watch(pd_board_t *b)
{
    pd_capture_t *c = &b->capture;
    const pd_channel_t *channel = &c->channel[c->source];
    const uint8_t *from = pd_board_reach(b, (uint8_t)channel->extension, channel->address, channel->bytes, false);
    const float now = (from != NULL) ? number_at(from, channel) : 0.0f;
    const bool ready = (c->state == (uint32_t)PD_CAPTURE_WAITS) && (b->waited >= c->wait);
    const bool can_happen = (b->seen != 0u) || (c->condition == (uint32_t)PD_AT_ONCE);
    if (ready && can_happen && happens(c, b->before, now)) {
        c->state = (uint32_t)PD_CAPTURE_FOLLOWS;
        c->at = b->facts.ticks;
        b->left = c->samples - c->before;
    }
    b->before = now;
    b->seen = 1u;
}

static void record_tick(pd_board_t *b)
{
    pd_capture_t *c = &b->capture;
    if ((c->state == (uint32_t)PD_CAPTURE_OFF) || (c->state == (uint32_t)PD_CAPTURE_FULL)) {
        return;
    }
    if ((c->state == (uint32_t)PD_CAPTURE_FILLS) && (b->filled >= c->before)) {
        c->state = (uint32_t)PD_CAPTURE_WAITS;
    }
    if (b->waited < c->wait) {
        b->waited++;
    }
    if (c->state != (uint32_t)PD_CAPTURE_FOLLOWS) {
        watch(b);
    }
    if (b->skipped == 0u) {
        keep_sample(b);
        if (c->state == (uint32_t)PD_CAPTURE_FOLLOWS) {
            b->left--;
            if (b->left == 0u) {
                c->first = b->place;
                c->state = (uint32_t)PD_CAPTURE_FULL;
            }
        }
    }
    b->skipped++;
    if (b->skipped >= c->every) {
        b->skipped = 0u;
    }
}

void pd_board_written(void *user, uint8_t extension, uint32_t address, uint32_t bytes)
{
    pd_board_t *b = (pd_board_t *)user;
    (void)address;
    (void)bytes;
    if ((extension == 0u) && (b->convert != NULL)) {
        b->convert(b->own);
    } else if (extension == 1u) {
        if (b->facts.order != (uint32_t)PD_ORDER_NONE) {
            follow(b, b->facts.order);
        }
        if (b->capture.order != 0u) {
            const uint32_t order = b->capture.order;
            b->capture.order = 0u;
            if (order == 1u) {
                begin_record(b);
            } else {
                b->capture.state = (uint32_t)PD_CAPTURE_OFF;
            }
        } else if (within(address, bytes, (uint32_t)sizeof(b->facts) + (uint32_t)sizeof(b->capture))
                   && (address >= (uint32_t)sizeof(b->facts))) {
            b->capture.state = (uint32_t)PD_CAPTURE_OFF; /* a record under way has lost its meaning */
        } else {
            /* nothing that hangs on it */
        }
    } else {
        /* what the board does with its own is its matter */
    }
}

void pd_board_ticked(pd_board_t *b)
{
    b->facts.lost = b->xcp->lost;
    record_tick(b);
    pd_xcp_event(b->xcp, 0u);
    b->facts.ticks++;
}

/* pd_link.h: how packets of pd_xcp.h travel on a link. This file is yours, free of any condition.
 *
 * Ethernet (ASAM MCD-1 XCP part 3, TCP and UDP): before each packet its length and a counter, two bytes each.
 * Serial (part 3, SxI): the same, and behind it the sum of all these bytes, one byte. CAN and CAN FD: each packet is
 * one frame. */
#ifndef PD_LINK_H
#define PD_LINK_H

#include "pd_xcp.h"

/* PD_LINK_ETHERNET is a stream (TCP), PD_LINK_DATAGRAM whole packets at a time (UDP). */
typedef enum { PD_LINK_ETHERNET, PD_LINK_SERIAL, PD_LINK_CAN, PD_LINK_DATAGRAM } pd_link_kind_t;

enum { PD_LINK_QUIET_MS = 250 };

typedef struct {
    pd_xcp_t *xcp;
    pd_link_kind_t kind;
    uint16_t sent;
    uint32_t garbled;   /* bytes that were no packet */
    uint32_t quiet_ns;  /* since a byte came, while a packet is not all there */
    bool broken;        /* a stream that brought what is no packet: nothing more is taken from it */
    uint32_t filled;
    uint8_t in[PD_XCP_ANSWER + 5];
} pd_link_t;

void pd_link_init(pd_link_t *link, pd_xcp_t *xcp, pd_link_kind_t kind);
/* A master has connected (of TCP: the socket was accepted): what another one left is forgotten, and nobody is connected
 * to the slave. */
void pd_link_opened(pd_link_t *link);
/* Whether the board is to close the connection, since what came is no protocol of this kind. */
bool pd_link_is_broken(const pd_link_t *link);
/* At each tick, with its period: what came of a packet is forgotten once nothing follows for PD_LINK_QUIET_MS. */
void pd_link_ticked(pd_link_t *link, uint32_t tick_ns);
/* The same at once, for a board that knows itself when its line is quiet. */
void pd_link_quiet(pd_link_t *link);
/* Bytes as they arrive; of CAN one frame, of UDP one datagram. A master waits for each answer before it sends the next
 * command. */
void pd_link_take(pd_link_t *link, const uint8_t *bytes, uint32_t count);
/* Bytes to send, of whole packets, as many as there is room for; of CAN one frame. 0 where there is nothing. */
uint32_t pd_link_give(pd_link_t *link, uint8_t *bytes, uint32_t room);

#endif

/* pd_link.h: how packets of pd_xcp.h travel on a link. This file is yours, free of any condition.
 *
 * Ethernet (ASAM MCD-1 XCP part 3, TCP and UDP): before each packet its length and a counter, two bytes each.
 * Serial (part 3, SxI): the same, and behind it the sum of all these bytes, one byte. CAN and CAN FD: each packet is
 * one frame. */
#ifndef PD_LINK_H
#define PD_LINK_H

#include "pd_xcp.h"

typedef enum { PD_LINK_ETHERNET, PD_LINK_SERIAL, PD_LINK_CAN } pd_link_kind_t;

typedef struct {
    pd_xcp_t *xcp;
    pd_link_kind_t kind;
    uint16_t sent;
    uint32_t garbled;   /* bytes that were no packet */
    uint32_t filled;
    uint8_t in[PD_XCP_ANSWER + 5];
} pd_link_t;

void pd_link_init(pd_link_t *link, pd_xcp_t *xcp, pd_link_kind_t kind);
/* Bytes as they arrive; of CAN one frame. A master waits for each answer before it sends the next command. */
void pd_link_take(pd_link_t *link, const uint8_t *bytes, uint32_t count);
/* Bytes to send, of whole packets, as many as there is room for; of CAN one frame. 0 where there is nothing. */
uint32_t pd_link_give(pd_link_t *link, uint8_t *bytes, uint32_t room);

#endif

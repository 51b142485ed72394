"""What an own board needs beside the controller, to be watched and changed: the slave, and what joins the
two."""

from __future__ import annotations

from pendel.core.controllers.c_names import comment
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.source import LICENCE
from pendel.core.firmware.board_image import checksum_of, protocol, resting

QUEUE, RECORD = 4096, 8192


def board_sources(lowered: Lowered) -> dict[str, str]:
    """Files by name."""
    return {**protocol(), f"{lowered.name}_board.h": header(lowered), f"{lowered.name}_board.c": source(lowered)}


def header(lowered: Lowered) -> str:
    name, guard = lowered.name, f"{lowered.name.upper()}_BOARD_H"
    return f"""/* {name}_board.h: the controller with a slave of the protocol XCP, for an own board.
 * {LICENCE}
 */
#ifndef {guard}
#define {guard}

#include "{name}.h"
#include "pd_link.h"

/* Once, before all else; kind: PD_LINK_ETHERNET (TCP),
 * PD_LINK_DATAGRAM (UDP), PD_LINK_SERIAL or PD_LINK_CAN; packets are at most so long. */
void {name}_board_start(pd_link_kind_t kind, uint16_t max_cto, uint16_t max_dto);

/* The controller, whose ``in`` is filled before a tick and whose ``out`` is used after it. */
{name}_t *{name}_board_controller(void);

/* Every {lowered.deck.tick * 1e6:g} us. Returns whether the power stage may be on; where not, use no ``out``. */
int32_t {name}_board_tick(void);

/* The power stage must go off: an overcurrent, say. It stays off until the fault is acknowledged. */
void {name}_board_trip(void);

/* Bytes that came over the link (of CAN one frame), and bytes to send, at most ``room``; returns how many. Call both
 * between two ticks, so that neither interrupts the other, as often as the link needs. */
void {name}_board_take(const uint8_t *bytes, uint32_t count);
/* With TCP: a socket was accepted, and whether it is to be closed, since what came on it is no protocol of this kind.
 * Close it as well where no packet has come within two seconds, so that a silent stranger holds no place. */
void {name}_board_opened(void);
bool {name}_board_is_broken(void);
uint32_t {name}_board_give(uint8_t *bytes, uint32_t room);

#endif
"""


def source(lowered: Lowered) -> str:
    name = lowered.name
    return f"""/* {name}_board.c: joins the controller to the slave. {comment(lowered.deck.name)[3:-3]}
 * {LICENCE}
 */
#include "{name}_board.h"
#include "pd_board.h"

static {name}_t controller;
static pd_board_t board;
static pd_xcp_t xcp;
static pd_link_t link_of_board;
static uint8_t queue[{QUEUE}], record[{RECORD}];

{resting(lowered)}
static const pd_xcp_board_t port = {{
    &board, "{name}", {round(lowered.deck.tick * 1e9)}u, pd_board_reach, pd_board_written, pd_board_ticks, 0, 0, 0,
    pd_board_joined}};

void {name}_board_start(pd_link_kind_t kind, uint16_t max_cto, uint16_t max_dto)
{{
    static const pd_board_t zero = {{0}};
    board = zero;
    {name}_init(&controller);
    board.facts.layout = (uint32_t)PD_BOARD_LAYOUT;
    board.facts.checksum = 0x{checksum_of(lowered):08x}u;
    board.facts.tick_ns = {round(lowered.deck.tick * 1e9)}u;
    board.facts.own_bytes = (uint32_t)sizeof(controller);
    board.facts.record_bytes = (uint32_t)sizeof(record);
    board.own = (uint8_t *)&controller;
    board.convert = pd_image_convert;
    board.rest = pd_image_rest;
    board.record = record;
    board.xcp = &xcp;
    pd_xcp_init(&xcp, &port, queue, (uint32_t)sizeof(queue), max_cto, max_dto);
    pd_link_init(&link_of_board, &xcp, kind);
}}

{name}_t *{name}_board_controller(void)
{{
    return &controller;
}}

int32_t {name}_board_tick(void)
{{
    const int32_t enabled = board.facts.state == (uint32_t)PD_ENABLED;
    if (enabled != 0) {{
        {name}_tick(&controller);
    }}
    pd_board_ticked(&board);
    pd_link_ticked(&link_of_board, board.facts.tick_ns);
    return enabled;
}}

void {name}_board_trip(void)
{{
    pd_board_trip(&board);
}}

void {name}_board_take(const uint8_t *bytes, uint32_t count)
{{
    pd_link_take(&link_of_board, bytes, count);
    board.facts.garbled = link_of_board.garbled;
}}

void {name}_board_opened(void)
{{
    pd_link_opened(&link_of_board);
}}

bool {name}_board_is_broken(void)
{{
    return pd_link_is_broken(&link_of_board);
}}

uint32_t {name}_board_give(uint8_t *bytes, uint32_t room)
{{
    return pd_link_give(&link_of_board, bytes, room);
}}
"""

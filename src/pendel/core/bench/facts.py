"""What a board says of itself: ``pd_board_facts_t`` of ``pd_board.h``, read and written by its fields."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from enum import IntEnum

FIELDS = (
    ("layout", "version of its facts"),
    ("checksum", "checksum of its code"),
    ("tick_ns", "sampling period in ns"),
    ("ticks", "ticks since its start"),
    ("state", "state"),
    ("order", "order"),
    ("refused", "orders refused"),
    ("faults", "faults"),
    ("late", "late ticks"),
    ("lost", "lost samples"),
    ("garbled", "garbled bytes"),
    ("own_bytes", "bytes of its controller"),
    ("record_bytes", "bytes of its record"),
)
SIZE = 4 * len(FIELDS)
LAYOUTS = (1, 2)
KEYED_LAYOUT = 2
"""From which on the power stage is enabled with the key of the connection alone."""
ORDER_AT = 4 * [name for name, _ in FIELDS].index("order")
CAPTURE_SIZE = 4 * 15 + 8 * 16
"""Bytes of ``pd_capture_t``, which is between the facts and the keys."""
KEY_AT, ORDER_KEY_AT = SIZE + CAPTURE_SIZE, SIZE + CAPTURE_SIZE + 4
BOARD_FIELDS = {
    name: (4 * k, label)
    for k, (name, label) in enumerate(FIELDS)
    if name in ("ticks", "state", "faults", "late", "lost")
}
"""What can be sampled: where, and what it is called."""


class BoardState(IntEnum):
    IDLE = 0
    ENABLED = 1
    FAULT = 2


class Order(IntEnum):
    IDLE = 1
    ENABLE = 2
    ACKNOWLEDGE = 3
    TRIP = 4


@dataclass(frozen=True)
class BoardFacts:
    """``tick`` in s; the others are counts."""

    layout: int
    checksum: int
    tick: float
    ticks: int
    state: BoardState
    refused: int
    faults: int
    late: int
    lost: int
    garbled: int
    own_bytes: int
    record_bytes: int

    @property
    def empty(self) -> bool:
        """Whether no controller was loaded."""
        return self.checksum == 0


def read_facts(data: bytes) -> BoardFacts | None:
    """None where they are not those of a board that this version knows."""
    if len(data) < SIZE:
        return None
    numbers = dict(zip((name for name, _ in FIELDS), struct.unpack(f"<{len(FIELDS)}I", data[:SIZE])))
    if numbers["layout"] not in LAYOUTS or numbers["state"] not in set(BoardState):
        return None
    del numbers["order"]
    return BoardFacts(tick=1e-9 * numbers.pop("tick_ns"), state=BoardState(numbers.pop("state")), **numbers)


def order_bytes(order: Order) -> bytes:
    return struct.pack("<I", order)

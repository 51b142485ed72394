"""Where the numbers of a shipped controller are: byte offsets in its struct, for whoever reads and writes it from
outside. The same on every processor whose numbers are aligned to their size, as on those that the C is written
for; the compiler checks it by `offset_checks`."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.controllers.numbers.source import header
from pendel.core.controllers.numbers.table_source import STATES, VALUES, places_of

SIZES = {"int16_t": 2, "int32_t": 4, "int64_t": 8, "uint32_t": 4, "float": 4, "double": 8}
STRUCT = re.compile(r"^typedef struct \{\n(.*?)^\} (\w+);", re.MULTILINE | re.DOTALL)
FIELD = re.compile(r"^    (\w+) (\w+)(?:\[(\d+)\])?;", re.MULTILINE)


class PlaceRole(Enum):
    """What a number of the controller is."""

    INPUT = "input"
    OUTPUT = "output"
    SIGNAL = "signal"
    STATE = "memory"
    VALUE = "value"


@dataclass(frozen=True)
class CodePlace:
    """``key`` is ``block.name``; of inputs and outputs that of the signal or command. ``member`` is the place in the
    controller's struct, ``offset`` its bytes from there."""

    key: str
    role: PlaceRole
    member: str
    offset: int
    rep: Rep

    @property
    def bytes(self) -> int:
        return self.rep.bits // 8


@dataclass(frozen=True)
class Layout:
    """Size, alignment and the offset of each field."""

    size: int
    alignment: int
    offsets: dict[str, int]


def layouts(text: str) -> dict[str, Layout]:
    """Of all structs in a header of ours, by type."""
    layouts: dict[str, Layout] = {}
    for body, name in STRUCT.findall(text):
        at, widest, offsets = 0, 1, dict[str, int]()
        for kind, field, count in FIELD.findall(body):
            known = layouts.get(kind)
            size, alignment = (known.size, known.alignment) if known else (SIZES[kind], SIZES[kind])
            at = -(-at // alignment) * alignment
            offsets[field] = at
            at += size * int(count or 1)
            widest = max(widest, alignment)
        layouts[name] = Layout(-(-at // widest) * widest, widest, offsets)
    return layouts


@lru_cache(maxsize=16)
def types_of(text: str) -> dict[tuple[str, str], str]:
    """The type of each field, by struct and field."""
    return {(name, field): kind for body, name in STRUCT.findall(text) for kind, field, _ in FIELD.findall(body)}


def size_of(lowered: Lowered) -> int:
    """Bytes of the controller's struct."""
    return layouts(header(lowered))[f"{lowered.name}_t"].size


def code_places(lowered: Lowered) -> tuple[CodePlace, ...]:
    """All numbers of a controller: inputs, outputs, then by block signals, memory and live values."""
    text = header(lowered)
    known, kinds = layouts(text), types_of(text)

    def offset(member: str) -> int:
        kind, at = f"{lowered.name}_t", 0
        for field in member.split("."):
            at += known[kind].offsets[field]
            kind = kinds[kind, field]
        return at

    places = [
        CodePlace(i.signal, PlaceRole.INPUT, member := f"in.{lowered.fed[i]}", offset(member), rep)
        for i, rep in lowered.inputs.items()
    ]
    for command, field in lowered.given.items():
        member = f"out.{field}"
        rep = lowered.rep(lowered.deck.commands[command])
        places.append(CodePlace(command, PlaceRole.OUTPUT, member, offset(member), rep))
    for place in places_of(lowered):
        role = (
            PlaceRole.VALUE if place.item >= VALUES else PlaceRole.STATE if place.item >= STATES else PlaceRole.SIGNAL
        )
        places.append(CodePlace(place.name, role, place.member, offset(place.member), place.rep))
    return tuple(places)


def offset_checks(lowered: Lowered) -> str:
    """Declarations that do not compile where a place is elsewhere."""
    name = lowered.name
    lines = [
        f"typedef char pd_place_{n}_is_there[(offsetof({name}_t, {p.member}) == {p.offset}u) ? 1 : -1];\n"
        for n, p in enumerate(code_places(lowered))
    ]
    lines.append(f"typedef char pd_size_is_so[(sizeof({name}_t) == {size_of(lowered)}u) ? 1 : -1];\n")
    return "".join(lines)

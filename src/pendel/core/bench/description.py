"""What a board with this drive's controller has: channels that can be sampled, values that can be written, where
each is, and by which checksum the code is known."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.bench.errors import NoBoardAddress
from pendel.core.bench.facts import BOARD_FIELDS
from pendel.core.bench.master import Spot
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.representation import FLOAT, Rep
from pendel.core.drive.document import Drive
from pendel.core.drive.nesting import full_name
from pendel.core.firmware.board_image import checksum_of
from pendel.core.firmware.places import PlaceRole, code_places, size_of
from pendel.core.firmware.values import ValueFacts, values_of
from pendel.core.quantities.units import unit as unit_of
from pendel.core.runs.preparing.simulate import signal_infos

CONTROLLER, BOARD = 0, 1
"""Extensions of addresses; see ``pd_board.h``."""
UNSIGNED = "uint32"
ROLES = {PlaceRole.INPUT: "measured", PlaceRole.OUTPUT: "to the power stage", PlaceRole.STATE: "remembered"}


@dataclass(frozen=True)
class Channel:
    """A number on the board. ``signal`` names it in runs, where it is one; ``raw`` is its type where it has no unit
    and no scale."""

    key: str
    title: str
    unit: str
    spot: Spot
    rep: Rep
    signal: str = ""
    raw: str = ""

    @property
    def dtype(self) -> np.dtype:
        """Of its bytes, lowest first."""
        if self.raw:
            return np.dtype(RAW_TYPES[self.raw])
        return np.dtype(f"<{'f' if self.rep.floating else 'i'}{self.rep.bits // 8}")

    def in_si(self, words: np.ndarray) -> np.ndarray:
        """What words of this channel stand for."""
        values = words.astype(float)
        return values if self.raw or self.rep.floating else values * self.rep.step

    @property
    def scale(self) -> float:
        """SI values of one of its unit."""
        return unit_of(self.unit)[0]

    def word(self, value: float) -> float:
        """The word for a value (SI); of a float the value."""
        return value if self.raw or self.rep.floating else self.rep.word(value)


RAW_TYPES = {
    "uint8": "<u1",
    "int8": "<i1",
    "uint16": "<u2",
    "int16": "<i2",
    "uint32": "<u4",
    "int32": "<i4",
    "float32": "<f4",
    "float64": "<f8",
}
RAW = re.compile(r"(?:(\d)\s*:\s*)?(0x[0-9a-f]{1,8}|\d{1,10})\s+(\w+)", re.IGNORECASE)


def raw_channel(text: str) -> Channel:
    """A channel from an address and a type, such as ``0:0x24 int16``; before the colon the address's extension.

    Raises
    ------
    NoBoardAddress
    """
    match = RAW.fullmatch(text.strip())
    if match is None:
        raise NoBoardAddress(text, "it is no address with a type")
    extension, address, kind = int(match[1] or 0), int(match[2], 0), match[3].lower()
    if kind not in RAW_TYPES:
        raise NoBoardAddress(text, f"{kind} is none of the types {', '.join(RAW_TYPES)}")
    if address > 0xFFFFFFFF:
        raise NoBoardAddress(text, "the address has more than 32 bits")
    spot = Spot(extension, address, np.dtype(RAW_TYPES[kind]).itemsize)
    key = f"{extension}:{address:#x} {kind}"
    return Channel(key, key, "", spot, FLOAT[64], raw=kind)


@dataclass(frozen=True)
class LiveValue:
    """A value that can be written: where it is, its ends in SI, and what the window knows of it."""

    channel: Channel
    facts: ValueFacts
    low: float
    high: float

    @property
    def key(self) -> str:
        return self.channel.key


@dataclass(frozen=True)
class Description:
    name: str
    checksum: int
    tick: float
    """s."""
    size: int
    """Bytes of the controller's struct."""
    channels: dict[str, Channel]
    values: dict[str, LiveValue]

    def channel(self, key: str) -> Channel:
        """By its key, or by an address and a type. Raises `NoBoardAddress`."""
        return self.channels.get(key) or raw_channel(key)


def describe(drive: Drive, lowered: Lowered) -> Description:
    """What a board has that runs this drive's controller."""
    infos = signal_infos(drive)
    facts = {v.key: v for v in values_of(drive, lowered)}
    ends = {f"{b.name}.{v.name}": v.ends for b in lowered.blocks for v in b.tree.live}
    channels: dict[str, Channel] = {}
    values: dict[str, LiveValue] = {}
    for place in code_places(lowered):
        spot = Spot(CONTROLLER, place.offset, place.bytes)
        info = infos.get(place.key)
        card, _, port = place.key.partition(".")
        title = f"{full_name(drive, card)}: {info.label if info else port}"
        unit = info.unit if info else ""
        key = place.key
        if place.role in ROLES:
            key = f"{place.role.value}:{place.key}"
            title += f" ({ROLES[place.role]})"
        channel = Channel(key, title, unit, spot, place.rep, place.key if info else "")
        if place.role is PlaceRole.VALUE:
            value = facts[place.key]
            channel = replace(channel, title=f"{full_name(drive, card)}: {value.label or value.name}", unit=value.unit)
            values[key] = LiveValue(channel, value, ends[key].low, ends[key].high)
        channels[key] = channel
    for name, (offset, label) in BOARD_FIELDS.items():
        spot = Spot(BOARD, offset, 4)
        channels[f"board:{name}"] = Channel(f"board:{name}", f"Board: {label}", "", spot, FLOAT[64], raw=UNSIGNED)
    return Description(lowered.name, checksum_of(lowered), lowered.deck.tick, size_of(lowered), channels, values)


__all__ = ["Channel", "Description", "LiveValue", "describe", "raw_channel"]

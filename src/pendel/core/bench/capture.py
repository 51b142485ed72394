"""A record that the board takes at its full rate when something happens, and gives afterwards: for lines that are
slower than the controller. See ``pd_capture_t`` in ``pd_board.h``."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from enum import IntEnum

import numpy as np

from pendel.core.bench.description import BOARD, Channel
from pendel.core.bench.errors import TooMuch
from pendel.core.bench.facts import SIZE
from pendel.core.bench.master import Master
from pendel.core.bench.trigger import Condition, Frame, Mode, Trigger

RECORD = 2
"""Extension of the record's addresses."""
CHANNELS = 8
HEAD = "<8I2f5I"
HEAD_BYTES = struct.calcsize(HEAD)
BEGIN, STOP = 1, 2
STATE_AT = 4


class CaptureState(IntEnum):
    OFF = 0
    FILLS = 1
    WAITS = 2
    FOLLOWS = 3
    FULL = 4


class Capture:
    """One record. Raises `BenchProblem`s."""

    def __init__(
        self,
        master: Master,
        channels: Sequence[Channel],
        trigger: Trigger,
        samples: int,
        every: int,
        tick: float,
        room: int,
    ):
        if not 0 < len(channels) <= CHANNELS:
            raise TooMuch(len(channels), f"a record at full rate has {CHANNELS} channels")
        stride = sum(c.spot.bytes for c in channels)
        if samples * stride > room:
            raise TooMuch(len(channels), f"{samples} samples need {samples * stride} bytes, and its record has {room}")
        self.master, self.channels, self.trigger = master, tuple(channels), trigger
        self.samples, self.every, self.tick, self.stride = samples, max(1, every), tick, stride
        self.before = min(samples - 1, max(0, round(trigger.before * samples)))

    def begin(self) -> None:
        trigger, source = self.trigger, self.channels[self.trigger.source]
        free = trigger.mode is Mode.FREE
        condition = Condition.AT_ONCE if free else trigger.condition
        low, high = source.word(trigger.low), source.word(trigger.high)
        head = struct.pack(
            HEAD,
            *(BEGIN, 0, self.every, 0 if free else self.before, self.samples, len(self.channels)),
            *(trigger.source, condition.number, float(low), float(high)),
            *(round(trigger.hold_off / self.tick), 0, 0, 0, 0),
        )
        body = b"".join(
            struct.pack("<4I", c.spot.address, c.spot.extension, c.spot.bytes, kind_of(c)) for c in self.channels
        )
        # The order comes last, when all it is about is there.
        self.master.write(BOARD, SIZE + HEAD_BYTES, body, "describe the record")
        self.master.write(BOARD, SIZE + 4, head[4:], "describe the record")
        self.master.write(BOARD, SIZE, head[:4], "begin the record")

    def state(self) -> CaptureState:
        data = self.master.read(BOARD, SIZE + STATE_AT, 4, "status of the record")
        number = int.from_bytes(data, "little")
        return CaptureState(number) if number <= CaptureState.FULL else CaptureState.OFF

    def stop(self) -> None:
        self.master.write(BOARD, SIZE, STOP.to_bytes(4, "little"), "stop the record")

    def fetch(self) -> Frame:
        """The record, once it is full."""
        head = struct.unpack(HEAD, self.master.read(BOARD, SIZE, HEAD_BYTES, "read the record"))
        first, at, last = head[11] % self.samples, head[12], head[13]
        data = self.master.read(RECORD, 0, self.samples * self.stride, "read the record")
        offsets = np.cumsum([0, *(c.spot.bytes for c in self.channels)])[:-1].tolist()
        dtype = np.dtype(
            {
                "names": [f"c{k}" for k in range(len(self.channels))],
                "formats": [c.dtype for c in self.channels],
                "offsets": offsets,
                "itemsize": self.stride,
            }
        )
        rows = np.roll(np.frombuffer(data, dtype), -first)
        values = np.column_stack([c.in_si(rows[f"c{k}"]) for k, c in enumerate(self.channels)])
        ticks = last - np.arange(self.samples - 1, -1, -1, dtype=np.int64) * self.every
        return Frame((ticks - at) * self.tick, values, int(at), self.trigger.mode is not Mode.FREE)


def kind_of(channel: Channel) -> int:
    return {"u": 0, "i": 1, "f": 2}[channel.dtype.kind]


__all__ = ["Capture", "CaptureState"]

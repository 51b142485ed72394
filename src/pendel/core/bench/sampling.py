"""Samples as they arrive, as arrays: whole ones out of packets, with their ticks, and how many were lost."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pendel.core.bench.description import Channel
from pendel.core.bench.links import frame_length
from pendel.core.bench.master import SampleList

MASK = 0xFFFFFFFF
MOST_WAITING = 64 << 20
"""Bytes that wait for whoever shows them."""


@dataclass(frozen=True)
class Samples:
    """``ticks`` (n,) are counted from the board's start, without end; ``values`` (n, channels) in SI."""

    ticks: np.ndarray
    values: np.ndarray

    def __len__(self) -> int:
        return len(self.ticks)


class Sampler:
    """Takes packets in the thread of the link, and gives arrays to another."""

    def __init__(self, channels: Sequence[Channel], every: int):
        self.channels, self.every = tuple(channels), every
        self.lost = 0
        """Samples that never came, so far as those that came show."""
        self.garbled = 0
        """Packets that fit no sample."""
        self._plan: SampleList | None = None
        self._lock = threading.Lock()
        self._whole = bytearray()
        self._part: list[bytes] = []
        self._last: int | None = None

    def follow(self, plan: SampleList) -> None:
        """Know how they come, before they do."""
        names = ["tick", *(f"c{k}" for k in range(len(self.channels)))]
        self._dtype = np.dtype(
            {
                "names": names,
                "formats": ["<u4", *(c.dtype for c in self.channels)],
                "offsets": [plan.time_at, *plan.places],
                "itemsize": plan.record,
            }
        )
        self._plan = plan

    def take(self, packets: list[bytes]) -> None:
        plan = self._plan
        if plan is None:
            return
        alone = len(plan.lengths) == 1
        whole: list[bytes] = []
        for packet in packets:
            k = packet[0] - plan.first
            length = plan.lengths[k] if 0 <= k < len(plan.lengths) else -1
            if len(packet) != length and not 0 < length < len(packet) <= max(8, frame_length(length)):
                self.garbled += 1
                self._part.clear()
                continue
            packet = packet[:length]  # a frame of CAN may be filled up
            if alone:
                whole.append(packet)
            else:
                if k == 0:
                    self._part = [packet]
                elif k == len(self._part):
                    self._part.append(packet)
                else:
                    self._part.clear()
                if len(self._part) == len(plan.lengths):
                    whole += self._part
                    self._part = []
        with self._lock:
            if len(self._whole) < MOST_WAITING:
                self._whole += b"".join(whole)

    def get(self) -> Samples:
        """All that came since the last time."""
        if self._plan is None:
            return self._none()
        with self._lock:
            data, self._whole = bytes(self._whole), bytearray()
        if not data:
            return self._none()
        rows = np.frombuffer(data, self._dtype)
        ticks = self._counted_on(rows["tick"].astype(np.int64))
        values = np.column_stack([c.in_si(rows[f"c{k}"]) for k, c in enumerate(self.channels)])
        return Samples(ticks, values)

    def _counted_on(self, raw: np.ndarray) -> np.ndarray:
        """Ticks without end, from a counter of 32 bits; what is missing between them is counted as lost."""
        last = raw[0] if self._last is None else self._last
        turned = np.cumsum(np.diff(raw, prepend=last & MASK) < -(1 << 31))
        ticks = raw + (last & ~MASK) + (turned << 32)
        if self._last is not None:
            self.lost += max(0, (int(ticks[0]) - last) // self.every - 1)
        self.lost += int(np.sum(np.maximum(np.diff(ticks) // self.every - 1, 0)))
        self._last = int(ticks[-1])
        return ticks

    def _none(self) -> Samples:
        return Samples(np.zeros(0, dtype=np.int64), np.zeros((0, len(self.channels))))


__all__ = ["Sampler", "Samples"]

"""Recorded samples of a board: kept in memory, saved as MDF4, CSV, MAT or HDF5."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.bench.description import Channel
from pendel.core.bench.sampling import Samples
from pendel.core.bench.trigger import Frame
from pendel.core.formats.traces import Column, save_columns

MOST = 256 << 20
"""Bytes of a recording; what comes then is left out."""


class Recording:
    """Times (s) from its first sample, and values in SI."""

    def __init__(self, channels: Sequence[Channel], tick: float):
        self.channels, self.tick = tuple(channels), tick
        self.full = False
        self._ticks: list[np.ndarray] = []
        self._values: list[np.ndarray] = []
        self._count = 0
        self._begin = 0.0

    @classmethod
    def of_frame(cls, frame: Frame, channels: Sequence[Channel]) -> Recording:
        recording = cls(channels, 1.0)
        recording._ticks, recording._values, recording._count = [frame.times], [frame.values], len(frame.times)
        return recording

    def add(self, samples: Samples) -> None:
        if not len(samples):
            return
        if self.full or (self._count + len(samples)) * 8 * (1 + len(self.channels)) > MOST:
            self.full = True
            return
        self._ticks.append(samples.ticks)
        self._values.append(samples.values)
        self._count += len(samples)

    def so_far(self) -> Recording:
        """What there is now, for a thread that saves it while samples go on coming."""
        copied = Recording(self.channels, self.tick)
        copied._ticks, copied._values, copied._count = list(self._ticks), list(self._values), self._count
        return copied

    def __len__(self) -> int:
        return self._count

    @property
    def seconds(self) -> float:
        if not self._count:
            return 0.0
        return float(self._ticks[-1][-1] - self._ticks[0][0]) * self.tick

    def columns(self) -> list[Column]:
        """Time and all channels in their units."""
        ticks, values = np.concatenate(self._ticks), np.concatenate(self._values)
        times = ticks * self.tick if self.tick == 1.0 else (ticks - ticks[0]) * self.tick
        columns: list[Column] = [("time", "s", times)]
        for k, channel in enumerate(self.channels):
            columns.append((channel.key, channel.unit, values[:, k] / channel.scale))
        return columns

    def save(self, path: Path) -> None:
        """The format is chosen by the ending. Raises `FileProblem`."""
        if not self._count:
            return
        save_columns(self.columns(), path)


__all__ = ["Recording"]

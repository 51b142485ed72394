"""The latest part of a live run, with what strips and cards ask of a kept run."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from pendel.core.runs.record.display_units import ShownUnits
from pendel.core.runs.record.kept import SignalInfo
from pendel.core.runs.record.trace import Trace

NAME = "Live"


class LiveView:
    """The latest part of a live run, with what strips and cards ask of a kept run."""

    name = NAME
    rolls = True
    """Its time goes on; cursors go with it."""
    rows = np.empty((0, 1))
    thinned_until = 0.0

    def __init__(
        self,
        infos: dict[str, SignalInfo],
        sampled: frozenset[str],
        traces: dict[str, tuple[np.ndarray, np.ndarray]],
        units: ShownUnits,
        begin: float,
        end: float,
    ):
        self.infos, self.sampled, self.traces, self.units = infos, sampled, traces, units
        self.begin, self.end = begin, end

    @property
    def keys(self) -> list[str]:
        return list(self.infos)

    def fetch(self, keys: Iterable[str]) -> None:
        """All that is watched is there."""

    def declared_unit(self, key: str) -> str:
        return self.infos[key].unit if key in self.infos else ""

    def trace(self, key: str) -> Trace:
        info = self.infos[key]
        t, y = self.traces.get(key, (np.zeros(0), np.zeros(0)))
        unit = self.units.of(key, info.unit)
        return Trace(key, info.label, unit, t, y, key in self.sampled, info.unit)

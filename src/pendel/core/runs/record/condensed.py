"""Averages of what a long record no longer holds: integrals, squares and extremes of every signal, stretch by
stretch.

Where a record is thinned one row is left for each period of the pulses, at one phase of the carrier, so a
mean over these rows is none over time. Before rows go, they are integrated here as traces are.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.cores import usable_cores
from pendel.core.plant.program import Structure
from pendel.core.plant.rows import evaluate_signals, in_one_thread, refined_rows
from pendel.core.runs.record.measures import simpson

if TYPE_CHECKING:
    from pendel.core.runs.record.kept import SwitchingLoss

STRETCHES = 128
"""For each time a record is thinned."""
ROWS_AT_ONCE = 20_000
WHOLE = 3
"""Stretches that a window must be as long as: what lies at its ends counts in proportion, as if it were spread evenly
over the stretch."""


@dataclass(frozen=True, eq=False)
class Condensed:
    """``edges`` of the stretches (s), shape (n + 1,); for each the integral of the signals and of their
    squares over it, the least and the greatest value, shape (n, 4, signals); ``switched`` holds the switching
    energies (J) by stretch and device."""

    edges: np.ndarray
    figures: np.ndarray
    switched: np.ndarray

    def fits(self, signals: int, devices: int) -> bool:
        """Whether the shapes belong together and to so many signals and devices."""
        n = len(self.edges) - 1
        return n > 0 and self.figures.shape == (n, 4, signals) and self.switched.shape == (n, devices)

    def column(self, number: int) -> Stretches:
        return Stretches(self.edges, self.figures[:, :, number])


@dataclass(frozen=True, eq=False)
class Stretches:
    """Of one signal: `Condensed`, ``figures`` of shape (n, 4)."""

    edges: np.ndarray
    figures: np.ndarray

    def integral(self, start: float, end: float, power: int, window: float) -> float:
        """Within the stretches; not-a-number where the ``window`` (s) that is asked for is short beside them."""
        portions = self._portions(start, end, window)
        return float("nan") if portions is None else float(portions @ self.figures[:, power - 1])

    def extremes(self, start: float, end: float) -> list[float]:
        """The least and the greatest value; not-a-number where `integral` is, too."""
        portions = self._portions(start, end, end - start)
        if portions is None:
            return [float("nan")] * 2
        touched = portions > 0
        return (
            [float(np.min(self.figures[touched, 2])), float(np.max(self.figures[touched, 3]))]
            if np.any(touched)
            else []
        )

    def _portions(self, start: float, end: float, window: float) -> np.ndarray | None:
        """How much of each stretch lies between two times; None where those at the ends are too long for it."""
        covered = np.clip(np.minimum(self.edges[1:], end) - np.maximum(self.edges[:-1], start), 0.0, None)
        lengths = np.diff(self.edges)
        portions = np.divide(covered, lengths, out=np.zeros_like(covered), where=lengths > 0)
        partly = (portions > 1e-9) & (portions < 1 - 1e-9)
        short = np.any(partly) and WHOLE * np.max(lengths[partly]) > window
        return None if short else portions


@dataclass(frozen=True)
class RowsAlone:
    """What looking at rows takes of a run."""

    rows: np.ndarray
    structure: Structure
    parameters: np.ndarray


class Interrupted(Exception):
    """The run is to stop."""


@dataclass
class Condenser:
    """Takes the rows that a record is about to lose; see `Condensed`."""

    structure: Structure
    parameters: np.ndarray
    straight: bool = False
    devices: Sequence[SwitchingLoss] = ()
    """Whose switching energies are kept too."""
    stop: np.ndarray = field(default_factory=lambda: np.zeros(1, dtype=np.int32))
    """Above zero where the run is to stop, which is not to wait for averages that nobody will miss."""
    edges: list[float] = field(default_factory=list)
    """s."""
    figures: list[np.ndarray] = field(default_factory=list)
    switched: list[np.ndarray] = field(default_factory=list)
    _last: np.ndarray | None = None
    _low: np.ndarray | None = None
    _high: np.ndarray | None = None

    def take(self, rows: np.ndarray) -> bool:
        """Rows that follow those taken before, in full. False where it was given up, as if it had not been
        asked."""
        before = len(self.edges), len(self.figures), self._last, self._low, self._high
        try:
            self._take(rows)
            return True
        except Interrupted:
            edges, figures, self._last, self._low, self._high = before
            del self.edges[edges:], self.figures[figures:]
            return False

    def _take(self, rows: np.ndarray) -> None:
        if self._last is not None:
            rows = np.concatenate([self._last[None, :], rows])
        self._last = rows[-1].copy()
        states = rows[:, 1 : 1 + len(self.structure.state_keys)]
        low, high = (f(states, axis=0) for f in (np.min, np.max)) if states.size else (np.zeros(0), np.zeros(0))
        self._low = low if self._low is None else np.minimum(self._low, low)
        self._high = high if self._high is None else np.maximum(self._high, high)
        begin, end = float(rows[0, 0]), float(rows[-1, 0])
        edges = np.linspace(begin, end, STRETCHES + 1)
        places = np.unique(np.searchsorted(rows[:, 0], edges[1:-1]))
        bounds = [0, *(p for p in places.tolist() if 0 < p < len(rows) - 1), len(rows) - 1]
        if not self.edges:
            self.edges.append(begin)
        parts = [rows[first : last + 1] for first, last in zip(bounds, bounds[1:])]
        with ThreadPoolExecutor(max_workers=usable_cores()) as pool:
            for part, figures in zip(parts, pool.map(self._figures_of, parts)):
                self.edges.append(float(part[-1, 0]))
                self.figures.append(figures)
        self._switchings(rows, len(bounds) - 1)

    def _switchings(self, rows: np.ndarray, count: int) -> None:
        from pendel.core.runs.record.device_events import (
            energies_of,
        )  # it works on kept runs, which hold what is made here

        chunk = RowsAlone(rows, self.structure, self.parameters)
        edges = np.array(self.edges[-count - 1 :])
        edges[-1] = np.nextafter(edges[-1], np.inf)
        energies = energies_of(chunk, list(self.devices))
        sums = [np.histogram(t, edges, weights=e)[0] for t, e in (energies[d.key] for d in self.devices)]
        self.switched.append(np.array(sums).reshape(len(self.devices), count).T)

    def result(self) -> Condensed | None:
        """What was taken; none where nothing was."""
        if not self.figures:
            return None
        return Condensed(np.array(self.edges), np.array(self.figures), np.concatenate(self.switched))

    def _figures_of(self, rows: np.ndarray) -> np.ndarray:
        """What is kept of one stretch of rows, shape (4, signals)."""
        count = len(self.structure.signals)
        figures = np.zeros((4, count))
        figures[2], figures[3] = np.inf, -np.inf
        with in_one_thread():  # stretches are beside each other already
            for at in range(0, max(1, len(rows) - 1), ROWS_AT_ONCE):
                self._add(rows[at : at + ROWS_AT_ONCE + 1], figures)
        return figures

    def _add(self, rows: np.ndarray, figures: np.ndarray) -> None:
        if self.stop[0]:
            raise Interrupted
        assert self._low is not None and self._high is not None
        refined = refined_rows(
            self.structure, rows, self.parameters, straight=self.straight, span=self._high - self._low
        )
        fine, middle = refined.rows, refined.half_way
        keys = self.structure.signals
        y, m = (evaluate_signals(self.structure, part, self.parameters, keys) for part in (fine, middle))
        width = np.diff(fine[:, 0])
        figures[0] += simpson(width, y[:-1], m, y[1:])
        figures[1] += simpson(width, y[:-1], m, y[1:], squared=True)
        figures[2], figures[3] = np.minimum(figures[2], y.min(axis=0)), np.maximum(figures[3], y.max(axis=0))

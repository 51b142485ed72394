"""What a measure is, and the span of a run that it is taken over.

The page, the terminal and Python read measures from one table. To add one, write a file like ``rms.py`` and
name it in
``table.py``, or offer a `Measure` from a package by an entry point of the group ``pendel.measures``.
"""

from __future__ import annotations

import math
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from functools import cached_property

import numpy as np

from pendel.core.runs.kept import KeptRun, Trace
from pendel.core.runs.measures import DipMeasures, Pieces, StepMeasures, dip_measures, step_measures, window
from pendel.core.runs.run_roles import machine_currents, signals_with
from pendel.core.vocabulary import SignalRole

HELD, MOVED, STAYS = 0.01, 0.02, 0.05
"""A setpoint holds its level within the first share of it; it moves where its range is more than the second
share of its size; and
stays where it holds for the third share of the span."""
BEGUN = 1e-3
"""A setpoint has begun to move once it is off its first value by this share of its range."""
RESTS = 0.2
"""A signal without a setpoint has come to rest where it moves by less than this share of its way over the
last tenth of the span."""


class Place(Enum):
    """Where a measure is shown."""

    SIGNAL = "signal"
    """For each signal between two times."""
    RESPONSE = "response"
    """For the signal that follows a setpoint or is disturbed."""


@dataclass(frozen=True)
class Span:
    """A signal of a run between two times (s), the run's own where they lie beyond it; and the signal it is
    to follow."""

    run: KeptRun
    signal: str
    start: float
    end: float
    setpoint: str | None = None
    also: tuple[str, ...] = ()
    """Other signals that are looked at with it."""

    @cached_property
    def trace(self) -> Trace:
        return self.run.trace(self.signal)

    @cached_property
    def pieces(self) -> Pieces:
        """For averages; see `Pieces`."""
        return self.run.pieces(self.signal)

    @cached_property
    def wish(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Times and values of the setpoint within the span."""
        if self.setpoint is None or self.setpoint not in self.run.keys:
            return None
        return window(*self.run.trace(self.setpoint).drawn, self.start, self.end)

    @cached_property
    def values(self) -> tuple[np.ndarray, np.ndarray]:
        return window(*self.trace.drawn, self.start, self.end)

    @cached_property
    def target(self) -> float:
        """The setpoint's largest value, else where the signal ends."""
        if self.wish is None:
            return float(self.values[1][-1])
        y = self.wish[1]
        return float(y[np.argmax(np.abs(y))])

    @cached_property
    def leaves(self) -> list[float]:
        """Times at which the setpoint is off its largest value again."""
        if self.wish is None:
            return []
        t, y = self.wish
        off = np.abs(y - self.target) > 0.01 * abs(self.target)
        return list(t[off & (t > t[np.argmax(np.abs(y))])])

    @cached_property
    def disturbed_at(self) -> float | None:
        """When a load first moves."""
        for key in signals_with(self.run, SignalRole.LOAD_LEVEL):
            t, y = window(*self.run.trace(key).drawn, self.start, self.end)
            if np.ptp(y) > 0:
                rises = np.flatnonzero(np.abs(y - y[0]) > 0.02 * np.ptp(y))
                if len(rises):
                    return float(t[max(0, rises[0] - 1)])
        return None

    @cached_property
    def has_step(self) -> bool:
        """Whether there is anything to respond to: a setpoint that moves within the span and then stays for a
        while; without
        one, a signal that goes somewhere and comes to rest there."""
        if self.wish is not None:
            t, y = self.wish
            there = np.abs(y - self.target) <= HELD * abs(self.target)
            stays = float(np.sum(np.diff(t)[there[1:] & there[:-1]]))
            return bool(np.ptp(y) > MOVED * np.max(np.abs(y)) and stays >= STAYS * (self.end - self.start))
        t, y = self.values
        late = y[t >= t[-1] - 0.1 * (t[-1] - t[0])]
        return bool(np.ptp(late) <= RESTS * abs(y[-1] - y[0]))

    @cached_property
    def step(self) -> StepMeasures:
        """The response ends where the load comes or the setpoint leaves its level again; all not-a-number
        where there is none."""
        if not self.has_step:
            return StepMeasures(*(math.nan,) * 4)
        disturbed = [self.disturbed_at] if self.disturbed_at else []
        end = (
            min([self.end, *disturbed, *self.leaves[:1]]) if self.wish is not None else (self.disturbed_at or self.end)
        )
        t, y = window(*self.trace.drawn, self.steps_at, end)
        return step_measures(t, y, self.begins, self.target)

    @cached_property
    def steps_at(self) -> float:
        """When the setpoint first moves within the span, from which times of the response count; without a
        setpoint, where the span starts."""
        if self.wish is None:
            return self.start
        t, y = self.wish
        moved = np.flatnonzero(np.abs(y - y[0]) > BEGUN * np.ptp(y))
        return float(t[max(0, moved[0] - 1)]) if len(moved) else self.start

    @cached_property
    def begins(self) -> float:
        """The signal's value at the start."""
        return float(self.values[1][0])

    @cached_property
    def dip(self) -> DipMeasures | None:
        """What the load's coming does; None where none comes."""
        if self.disturbed_at is None:
            return None
        left = [t for t in self.leaves if t > self.disturbed_at]
        until = min([self.end, *left[:1]])
        return dip_measures(*window(*self.trace.drawn, self.disturbed_at, until), self.target)

    @cached_property
    def heat(self) -> str | None:
        """The copper loss of the run's first machine."""
        return next(iter(signals_with(self.run, SignalRole.COPPER_LOSS)), None)

    @cached_property
    def currents(self) -> list[str]:
        """Of the run's first machine; without one, the first current among the signal and those looked at
        with it."""
        if self.heat is not None:
            signals = machine_currents(self.run, self.heat.partition(".")[0])
            if signals:
                return signals
        seen = (self.signal, *self.also)
        return [s for s in seen if s in self.run.keys and self.run.infos[s].unit == "A"][:1]


@dataclass(frozen=True)
class Measure:
    """A figure by its id and title; ``of`` gives it in SI, not-a-number where it means nothing, and None
    where there is nothing
    to tell of. Without a ``unit`` it has that of the signal."""

    id: str
    title: str
    of: Callable[[Span], float | None]
    unit: str | None = None
    place: Place = Place.SIGNAL
    why_none: str = "Nothing between the cursors that it could be taken from, such as a step that is followed."
    """What is said where it means nothing."""

    def value(self, span: Span) -> float | None:
        """What ``of`` gives; not-a-number where the code of a package fails, which is logged."""
        try:
            return self.of(span)
        except Exception:  # somebody else's code may raise anything
            if self.of.__module__.startswith("pendel.core."):
                raise
            traceback.print_exc()
            return math.nan

    def unit_for(self, span: Span) -> str:
        """In which it is shown."""
        return span.trace.unit if self.unit is None else self.unit

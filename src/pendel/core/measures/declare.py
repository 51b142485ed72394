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

from pendel.core.measures.levels import HELD, Move, first_moved, moves_of
from pendel.core.runs.found.run_roles import machine_currents, signals_with
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.measures import DipMeasures, Pieces, StepMeasures, dip_measures, step_measures, window
from pendel.core.runs.record.trace import Trace
from pendel.core.vocabulary import SignalRole

RESTS = 0.2
"""A signal without a setpoint has come to rest where it moves by less than this share of its way over the
last tenth of the span."""


STRETCHES_ALONE = (
    "This part of a long run keeps averages over stretches alone. Choose a window of three of them, or a later one."
)


class Place(Enum):
    """Where a measure is shown."""

    SIGNAL = "signal"
    """For each signal between two times."""
    RESPONSE = "response"
    """For the signal that follows a setpoint or is disturbed."""


BAND = 0.02


def percent(share: float) -> str:
    return f"{100 * share:g} %"


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
    band: float = BAND
    """Of a step, or of a target, within which a signal has settled or recovered."""

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
    def moves(self) -> list[Move]:
        """Moves of the setpoint within the span, from level to level."""
        return moves_of(*self.wish) if self.wish is not None else []

    @property
    def move(self) -> Move | None:
        """The last of them, which the response is measured to; none where it has none."""
        return self.moves[-1] if self.moves else None

    @cached_property
    def target(self) -> float:
        """Where the setpoint goes, else where the signal ends."""
        if self.move is not None:
            return self.move.to.value
        return float((self.wish or self.values)[1][-1])

    @cached_property
    def disturbed_at(self) -> float | None:
        """When a load moves: the last time that it grows within the span, else the last time that it changes."""
        moves = [
            move
            for key in signals_with(self.run, SignalRole.LOAD_LEVEL)
            for move in moves_of(*window(*self.run.trace(key).drawn, self.start, self.end))
        ]
        growing = [move for move in moves if abs(move.to.value) > abs(move.before)]
        return max((move.begins for move in growing or moves), default=None)

    @cached_property
    def loads_move(self) -> list[float]:
        """All times at which a load moves."""
        keys = signals_with(self.run, SignalRole.LOAD_LEVEL)
        lines = (window(*self.run.trace(key).drawn, self.start, self.end) for key in keys)
        return sorted(move.begins for line in lines for move in moves_of(*line))

    @cached_property
    def has_step(self) -> bool:
        """Whether there is anything to respond to: a setpoint that moves within the span and then stays for a while;
        without one, a signal that goes somewhere and settles there."""
        if self.wish is not None:
            return self.move is not None
        t, y = self.values
        late = y[t >= t[-1] - 0.1 * (t[-1] - t[0])]
        return bool(np.ptp(late) <= RESTS * abs(y[-1] - y[0]))

    @cached_property
    def step(self) -> StepMeasures:
        """The response ends where a load comes or the setpoint leaves its level again; all not-a-number where there is
        none."""
        if not self.has_step:
            return StepMeasures(*(math.nan,) * 4)
        ends = [self.end, *(t for t in self.loads_move if t > self.steps_at)]
        if self.move is not None:
            ends.append(self.move.to.end)
        t, y = window(*self.trace.drawn, self.steps_at, min(ends))
        return step_measures(t, y, self.begins, self.target, self.band)

    @cached_property
    def steps_at(self) -> float:
        """When the setpoint moves, from which times of the response count; without one, where the span starts."""
        if self.move is not None:
            return self.move.begins
        return first_moved(*self.wish) if self.wish is not None else self.start

    @cached_property
    def begins(self) -> float:
        """The signal's value when the setpoint moves; of one that jumps with it, that before."""
        t, y = self.trace.drawn
        k = int(np.searchsorted(t, self.steps_at, "left"))
        return float(y[k] if k < len(t) and t[k] == self.steps_at else np.interp(self.steps_at, t, y))

    @cached_property
    def dip(self) -> DipMeasures | None:
        """What the load's coming does, beside the setpoint of that time; None where none comes. It ends where the load
        moves again, or the setpoint is another."""
        at = self.disturbed_at
        if at is None:
            return None
        target, until = self.target, [self.end, *(t for t in self.loads_move if t > at)]
        if self.wish is not None:
            t, y = self.wish
            target = float(np.interp(at, t, y))
            off = (t > at) & (np.abs(y - target) > HELD * float(np.ptp(y)) + 1e-12 * abs(target))
            until += [float(t[max(0, int(np.argmax(off)) - 1)])] if off.any() else []
        return dip_measures(*window(*self.trace.drawn, at, max(at, min(until))), target, self.band)

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
    from_zero: Callable[[Span, float, float], float] | None = None
    """Of one in the signal's unit that is another where values count from another zero, such as a temperature in K for
    one in °C: the figure by span, figure in SI and what is added to the signal's values."""

    def value(self, span: Span) -> float | None:
        """What ``of`` gives; not-a-number where the code of a package fails, which is logged."""
        try:
            return self.of(span)
        except Exception:  # somebody else's code may raise anything
            if self.of.__module__.startswith("pendel.core."):
                raise
            traceback.print_exc()
            return math.nan

    def shown(self, span: Span) -> tuple[float | None, str]:
        """What ``value`` gives as it is shown (SI, from the zero of the unit), and the unit."""
        value, moved = self.value(span), span.trace.shift
        if value is not None and moved and self.unit is None and self.from_zero is not None:
            value = self.from_zero(span, value, moved)
        return value, self.unit_for(span)

    def title_in(self, band: float) -> str:
        """Its title where another band than the usual one is looked at."""
        return self.title.replace(percent(BAND), percent(band))

    def why_none_in(self, band: float) -> str:
        return self.why_none.replace(percent(BAND), percent(band))

    def unit_for(self, span: Span) -> str:
        """In which it is shown."""
        return span.trace.unit if self.unit is None else self.unit

"""Figures taken from traces: step response, disturbance, averages.

Rise is from 10 to 90 % of the step, settling into ±2 % of it (ISO/IEC-style definitions as in Åström, Murray:
Feedback Systems, 2nd ed., section 6.3).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from pendel.core.runs.record.condensed import Stretches


@dataclass(frozen=True)
class StepMeasures:
    """Times in s, overshoot in percent of the step, errors in the signal's SI unit; NaN where not reached.
    ``remaining`` is what the mean over the last fiftieth of the time lacks of the target."""

    rise: float
    overshoot: float
    settling: float
    remaining: float


@dataclass(frozen=True)
class DipMeasures:
    """Largest deviation after a disturbance, in the signal's unit and in percent of the target, and the time
    until it stays within ±2 % of it; the two that refer to the target are NaN where that is zero."""

    dip: float
    percent: float
    recovery: float


RESTLESS = 3.0
TAIL = 0.02
"""Of a response's time, over which what remains is averaged, and which it must stay within the band to count as
settled."""


def window(t: np.ndarray, y: np.ndarray, start: float, end: float) -> tuple[np.ndarray, np.ndarray]:
    """The part of a trace between two times, with interpolated ends."""
    if end < start:
        start, end = end, start
    inside = slice(np.searchsorted(t, start, "right"), np.searchsorted(t, end, "left"))
    ends = np.interp([start, end], t, y)
    return np.concatenate([[start], t[inside], [end]]), np.concatenate([ends[:1], y[inside], ends[1:]])


def step_measures(t: np.ndarray, y: np.ndarray, before: float, target: float, band: float = 0.02) -> StepMeasures:
    """Measures of a response from ``before`` to ``target``; times from the first sample. The response is
    straight between its points, which may be uneven. What still moves by several times the step at the end of
    its time, such as pulses, is no response to it."""
    size = target - before
    if len(t) < 2 or size == 0 or not np.all(np.isfinite(y)):
        return StepMeasures(*(math.nan,) * 4)
    late = y[t >= t[-1] - 0.1 * (t[-1] - t[0])]
    if np.ptp(late) > RESTLESS * abs(size):
        return StepMeasures(*(math.nan,) * 4)
    share = (y - before) / size
    rise = _first(t, share, 0.9) - _first(t, share, 0.1)
    overshoot = max(0.0, 100.0 * (float(np.max(share)) - 1.0))
    tail = window(t, y, float(t[-1]) - TAIL * float(t[-1] - t[0]), float(t[-1]))
    return StepMeasures(rise, overshoot, _stays(t, share - 1.0, band) - float(t[0]), target - mean(*tail))


def _stays(t: np.ndarray, deviation: np.ndarray, band: float) -> float:
    """The time from which on a deviation is within a band, found on the straight line that enters it last;
    NaN where it was outside within the last fiftieth of its time: such a ripple will leave it again."""
    size = np.abs(deviation)
    outside = np.flatnonzero(size > band)
    if not len(outside):
        return float(t[0])
    k = int(outside[-1])
    if k == len(t) - 1:
        return math.nan
    edge = math.copysign(band, deviation[k])
    part = (deviation[k] - edge) / (deviation[k] - deviation[k + 1])
    enters = float(t[k] + part * (t[k + 1] - t[k]))
    return enters if enters <= t[-1] - TAIL * (t[-1] - t[0]) else math.nan


def _first(t: np.ndarray, share: np.ndarray, level: float) -> float:
    above = np.flatnonzero(share >= level)
    if not len(above):
        return math.nan
    k = above[0]
    if k == 0:
        return float(t[0])
    part = (level - share[k - 1]) / (share[k] - share[k - 1])
    return float(t[k - 1] + part * (t[k] - t[k - 1]))


def dip_measures(t: np.ndarray, y: np.ndarray, target: float, band: float = 0.02) -> DipMeasures:
    """Deviation from ``target`` after a disturbance that begins with the window."""
    if len(t) < 2 or not np.all(np.isfinite(y)):
        return DipMeasures(*(math.nan,) * 3)
    deviation = y - target
    largest = float(deviation[int(np.argmax(np.abs(deviation)))])
    if target == 0:
        return DipMeasures(largest, math.nan, math.nan)
    recovery = _stays(t, deviation, band * abs(target)) - float(t[0])
    return DipMeasures(largest, 100.0 * abs(largest / target), recovery)


@dataclass(frozen=True)
class Pieces:
    """A trace as what its averages are taken over: times (s), values at them and half way between, in the
    trace's unit.

    Between two points a signal of the plant is the parabola through its three values: exact for currents on a
    ramp and for their powers. A sampled signal (``middle`` is None) holds until its next point.
    """

    t: np.ndarray
    y: np.ndarray
    middle: np.ndarray | None = None
    before: Stretches | None = None
    """Where the trace's first part was thinned, its averages over stretches; the points there do not
    count."""

    def integral(self, start: float, end: float, power: int = 1) -> float:
        """Of the signal, or of its square, between two times within the trace; not-a-number where the trace
        was thinned and the window is short beside what is left.

        Gauss's rule with three points is exact up to the fifth power of time, so for the square of a parabola
        (Abramowitz, Stegun: Handbook of Mathematical Functions, table 25.4).
        """
        if self.before is not None and start < (whole := float(self.before.edges[-1])):
            early = self.before.integral(start, min(end, whole), power, end - start)
            return early + (replace(self, before=None).integral(whole, end, power) if end > whole else 0.0)
        first = max(0, int(np.searchsorted(self.t, start, "right")) - 1)
        last = min(len(self.t) - 1, max(first + 1, int(np.searchsorted(self.t, end, "left"))))
        if last <= first:
            return 0.0
        if self.middle is None:
            t = self.t[first : last + 1]
            width = np.maximum(np.minimum(t[1:], end) - np.maximum(t[:-1], start), 0.0)
            return float(np.dot(width, self.y[first:last] ** power))
        inner = slice(first + 1, last - 1)
        parts = self._part(first, start, end, power)
        if last - first > 1:
            parts += self._part(last - 1, start, end, power)
        width, a, m, b = (
            np.diff(self.t[first + 1 : last]),
            self.y[inner],
            self.middle[inner],
            self.y[first + 2 : last],
        )
        return parts + (float(simpson(width, a, m, b, squared=power == 2)) if len(width) else 0.0)

    def _part(self, k: int, start: float, end: float, power: int) -> float:
        """Of the piece from point ``k`` on, what lies between two times."""
        assert self.middle is not None
        begin, span = float(self.t[k]), float(self.t[k + 1] - self.t[k])
        low, high = max(start, begin), min(end, begin + span)
        if not high > low:
            return 0.0
        a, m, b = (float(v) for v in (self.y[k], self.middle[k], self.y[k + 1]))
        total = 0.0
        for place, weight in zip(GAUSS_PLACES, GAUSS_WEIGHTS):
            q = (low + place * (high - low) - begin) / span
            total += weight * (a + q * (4 * m - 3 * a - b) + q * q * (2 * a + 2 * b - 4 * m)) ** power
        return total * (high - low)

    def within(self, start: float, end: float) -> tuple[float, float]:
        return max(start, float(self.t[0])), min(end, float(self.t[-1]))

    def mean(self, start: float, end: float) -> float:
        return self._average(start, end, 1)

    def rms(self, start: float, end: float) -> float:
        square = self._average(start, end, 2)
        return math.sqrt(square) if square > 0 else (square if math.isnan(square) else 0.0)

    def _average(self, start: float, end: float, power: int) -> float:
        """Over what the trace has of the window; not-a-number where it has nothing."""
        if not len(self.t):
            return math.nan
        start, end = self.within(start, end)
        if end > start:
            return self.integral(start, end, power) / (end - start)
        return self.at(start) ** power if end == start else math.nan

    def at(self, time: float) -> float:
        if self.middle is None:
            return float(self.y[max(0, int(np.searchsorted(self.t, time, "right")) - 1)])
        return float(np.interp(time, self.t, self.y))

    def ripple(self, start: float, end: float) -> float:
        """Peak to peak."""
        if not len(self.t):
            return math.nan
        start, end = self.within(start, end)
        if end < start:
            return math.nan
        inside = slice(np.searchsorted(self.t, start, "left"), np.searchsorted(self.t, end, "right"))
        values = [
            self.at(start),
            self.at(end),
            *(f(self.y[inside]) for f in (np.min, np.max) if len(self.y[inside])),
        ]
        if self.before is not None:
            values += self.before.extremes(start, end)
        return float(np.ptp(values))


def cut_at_turns(t: np.ndarray, y: np.ndarray, middle: np.ndarray) -> Pieces:
    """An angle between −π and π (rad): a piece in which it passes π is cut there, since the parabola through
    both of its ends would swing through zero."""
    jumps: list[int] = []
    if np.all(np.abs(y) <= math.pi * (1 + 1e-9)):
        jumps = np.flatnonzero(np.abs(np.diff(y)) > math.pi).tolist()
    if not jumps:
        return Pieces(t, y, middle)
    times, values, middles, after = [], [], [], 0
    for k in jumps:
        turn = math.copysign(2 * math.pi, y[k])  # what is gone beyond is so much less
        a, b = y[k], y[k + 1] + turn
        m = middle[k] + turn * round((0.5 * (a + b) - middle[k]) / turn)
        edge, curve = turn / 2, (2 * a + 2 * b - 4 * m, 4 * m - 3 * a - b, a)
        places = [q.real for q in np.roots((curve[0], curve[1], a - edge)) if abs(q.imag) < 1e-9 and 0 <= q.real <= 1]
        q = places[0] if places else 0.5
        at = t[k] + q * (t[k + 1] - t[k])
        times += [t[after : k + 1], [at, at]]
        values += [y[after : k + 1], [edge, edge - turn]]
        middles += [middle[after:k], [np.polyval(curve, q / 2), 0.0, np.polyval(curve, 0.5 + q / 2) - turn]]
        after = k + 1
    return Pieces(
        np.concatenate([*times, t[after:]]),
        np.concatenate([*values, y[after:]]),
        np.concatenate([*middles, middle[after:]]),
    )


def straight(t: np.ndarray, y: np.ndarray) -> Pieces:
    """A trace that is straight between its points."""
    return Pieces(t, y, 0.5 * (y[1:] + y[:-1]))


def mean(t: np.ndarray, y: np.ndarray) -> float:
    return straight(t, y).mean(float(t[0]), float(t[-1]))


def rms(t: np.ndarray, y: np.ndarray) -> float:
    return straight(t, y).rms(float(t[0]), float(t[-1]))


def simpson(width: np.ndarray, a: np.ndarray, m: np.ndarray, b: np.ndarray, *, squared: bool = False) -> np.ndarray:
    """Integrals over pieces of a width (s), summed along the first axis: of the parabola through values at
    both ends and half way, or of its square. No products of vectors are used: those of this length start
    threads, and wait for them for milliseconds where another thread computes."""

    def over(*values: np.ndarray) -> np.ndarray:
        return np.einsum("i" + ",i..." * len(values) + "->...", width, *values)

    if squared:
        return (2 * (over(a, a) + over(b, b)) + 8 * over(m, m) + 2 * (over(m, a) + over(m, b)) - over(a, b)) / 15
    return (over(a) + 4 * over(m) + over(b)) / 6


GAUSS_PLACES = (0.5 - math.sqrt(0.15), 0.5, 0.5 + math.sqrt(0.15))
GAUSS_WEIGHTS = (5 / 18, 8 / 18, 5 / 18)


@dataclass(frozen=True)
class Averages:
    """Of a trace between two times, in its unit; ``ripple`` is peak to peak."""

    mean: float
    rms: float
    ripple: float


def averages(pieces: Pieces, start: float, end: float) -> Averages:
    return Averages(pieces.mean(start, end), pieces.rms(start, end), pieces.ripple(start, end))

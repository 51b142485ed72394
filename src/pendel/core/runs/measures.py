"""Figures taken from traces: step response, disturbance, averages.

Rise is from 10 to 90 % of the step, settling into ±2 % of it (ISO/IEC-style definitions as in Åström, Murray:
Feedback Systems, 2nd ed., section 6.3).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class StepMeasures:
    """Times in s, overshoot in percent of the step, errors in the signal's SI unit; NaN where not reached."""

    rise: float
    overshoot: float
    settling: float
    remaining: float


@dataclass(frozen=True)
class DipMeasures:
    """Largest deviation after a disturbance, in the signal's unit and in percent; time to return into ±2 %."""

    dip: float
    percent: float
    recovery: float


RESTLESS = 3.0


def window(t: np.ndarray, y: np.ndarray, start: float, end: float) -> tuple[np.ndarray, np.ndarray]:
    """The part of a trace between two times, with interpolated ends."""
    if end < start:
        start, end = end, start
    inside = slice(np.searchsorted(t, start, "right"), np.searchsorted(t, end, "left"))
    ends = np.interp([start, end], t, y)
    return np.concatenate([[start], t[inside], [end]]), np.concatenate([ends[:1], y[inside], ends[1:]])


def step_measures(
    t: np.ndarray, y: np.ndarray, before: float, target: float, band: float = 0.02
) -> StepMeasures:
    """Measures of a response from ``before`` to ``target``; times from the first sample. What still moves by several times the
    step at the end of its time, such as pulses, is no response to it."""
    size = target - before
    if len(t) < 2 or size == 0 or not np.all(np.isfinite(y)):
        return StepMeasures(*(math.nan,) * 4)
    late = y[t >= t[-1] - 0.1 * (t[-1] - t[0])]
    if np.ptp(late) > RESTLESS * abs(size):
        return StepMeasures(*(math.nan,) * 4)
    share = (y - before) / size
    rise = _first(t, share, 0.9) - _first(t, share, 0.1)
    outside = np.flatnonzero(np.abs(share - 1.0) > band)
    if not len(outside):
        settling = 0.0
    elif outside[-1] == len(t) - 1:
        settling = math.nan
    else:
        settling = float(t[outside[-1] + 1] - t[0])
    tail = max(1, len(y) // 50)
    return StepMeasures(
        rise, max(0.0, 100.0 * (float(np.max(share)) - 1.0)), settling, float(target - np.mean(y[-tail:]))
    )


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
    k = int(np.argmax(np.abs(deviation)))
    base = abs(target) or 1.0
    back = np.flatnonzero(np.abs(deviation[k:]) <= band * base)
    recovery = float(t[k + back[0]] - t[0]) if len(back) else math.nan
    return DipMeasures(float(deviation[k]), 100.0 * abs(float(deviation[k])) / base, recovery)


@dataclass(frozen=True)
class Averages:
    """Of a trace between two times, in its unit; ``ripple`` is peak to peak."""

    mean: float
    rms: float
    ripple: float


def averages(t: np.ndarray, y: np.ndarray, start: float, end: float) -> Averages:
    inside = window(t, y, start, end)
    return Averages(mean(*inside), rms(*inside), ripple(inside[1]))


def mean(t: np.ndarray, y: np.ndarray) -> float:
    return float(np.trapezoid(y, t) / (t[-1] - t[0])) if t[-1] > t[0] else float(y[0])


def rms(t: np.ndarray, y: np.ndarray) -> float:
    return math.sqrt(mean(t, y * y))


def ripple(y: np.ndarray) -> float:
    """Peak to peak."""
    return float(np.max(y) - np.min(y))

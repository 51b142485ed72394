"""Levels at which a signal stays, and moves between them: what a response answers."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

HELD, MOVED, STAYS = 0.01, 0.02, 0.08
"""A setpoint holds its level within the first fraction of its range; its range is more than the second one of its size;
and it stays where it holds for the third one of the span."""
ANOTHER = 0.1
"""Fraction of its range by which a level is a new one: an outer regulator's setpoint is never still."""
BEGUN = 1e-3
"""It has begun to move once it is off its level by this fraction of the move."""
PLACES = 1001
"""At which a line is looked at for levels."""


@dataclass(frozen=True)
class Level:
    """A value that is held from one time to another (s)."""

    start: float
    end: float
    value: float


@dataclass(frozen=True)
class Move:
    """From one level to the next, from when it begins (s)."""

    begins: float
    before: float
    to: Level


def moves_of(t: np.ndarray, y: np.ndarray) -> list[Move]:
    """The moves of a line from level to level, in order.

    Parameters
    ----------
    t, y
        times (s), shape (n,), rising or equal, and values. The first value counts as a level however soon it is left.
    """
    size, range_ = float(np.max(np.abs(y), initial=0.0)), float(np.ptp(y)) if len(y) else 0.0
    if range_ <= MOVED * size:
        return []
    levels = _levels(t, y, range_)
    return [Move(_left(t, y, a, b), a.value, b) for a, b in zip(levels, levels[1:])]


def _levels(t: np.ndarray, y: np.ndarray, range_: float) -> list[Level]:
    grid = np.linspace(t[0], t[-1], PLACES)
    values = np.interp(grid, t, y)
    values[0] = y[0]
    found = [Level(float(t[0]), float(t[0]), float(y[0]))]
    fewest = math.ceil(STAYS * (PLACES - 1)) + 1
    """Places for which a level is held at least."""
    ahead = np.lib.stride_tricks.sliding_window_view(values, fewest)
    begun = values[: len(ahead)]
    starts = np.flatnonzero((ahead.max(axis=1) - begun <= HELD * range_) & (begun - ahead.min(axis=1) <= HELD * range_))
    k = 0
    while (place := int(np.searchsorted(starts, k))) < len(starts):
        k = int(starts[place])
        off = np.abs(values[k:] - values[k]) > HELD * range_
        count = int(np.argmax(off)) if off.any() else PLACES - k
        start, value = float(grid[k]), float(np.median(values[k : k + count]))
        if abs(value - found[-1].value) > ANOTHER * range_:
            found.append(Level(start, _until(t, y, start, value, range_), value))
        k += count
    return found


def _until(t: np.ndarray, y: np.ndarray, start: float, value: float, range_: float) -> float:
    """When a level that is held at ``start`` is left; the line's end where it is not."""
    off = (t > start) & (np.abs(y - value) > 2.0 * HELD * range_)
    return float(t[max(0, int(np.argmax(off)) - 1)]) if off.any() else float(t[-1])


def _left(t: np.ndarray, y: np.ndarray, a: Level, b: Level) -> float:
    """When the line leaves a level for another."""
    between = slice(np.searchsorted(t, a.start, "left"), np.searchsorted(t, b.start, "right"))
    held = np.flatnonzero(np.abs(y[between] - a.value) <= BEGUN * abs(b.value - a.value))
    return float(t[between][held[-1]]) if len(held) else a.start


def first_moved(t: np.ndarray, y: np.ndarray) -> float:
    """When a line leaves its first value; its begin where it does not."""
    moved = np.flatnonzero(np.abs(y - y[0]) > BEGUN * np.ptp(y))
    return float(t[max(0, moved[0] - 1)]) if len(moved) else float(t[0])

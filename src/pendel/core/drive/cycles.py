"""Speeds over time of a trip: parts of UN R83's driving cycle, and what is made of corners: repeated, joined, mirrored.

The parts are stated by the regulation as operations of an acceleration and a duration (UN Regulation No. 83, annex 4a,
tables of the urban and the extra-urban cycle; from memory, checked by their durations, distances and top speeds)."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from pendel.core.drive.limits import MOST_CORNERS
from pendel.core.errors import DriveProblem
from pendel.core.quantities.plain_numbers import plain_numbers

Corner = tuple[str, str]
"""Time and value, as written."""
STEEP = 12.0
"""m/s². More than tyres can do on a road; a vehicle's plan that asks for it has a slip in its times or its unit."""

URBAN = (
    (11, 0),
    *((4, 15), (8, 15), (2, 10), (3, 0), (21, 0)),
    *((5, 15), (2, 15), (5, 32), (24, 32), (8, 10), (3, 0), (21, 0)),
    *((5, 15), (2, 15), (9, 35), (2, 35), (8, 50), (12, 50), (8, 35), (13, 35), (2, 32), (7, 10), (3, 0), (7, 0)),
)
"""Seconds and the speed at their end, km/h: 195 s, 1.015 km by these (1.013 km as published), at most 50 km/h."""
EXTRA_URBAN = (
    *((20, 0), (5, 15), (2, 15), (9, 35), (2, 35), (8, 50), (2, 50), (13, 70), (50, 70), (8, 50), (69, 50), (13, 70)),
    *((50, 70), (35, 100), (30, 100), (20, 120), (10, 120), (16, 80), (8, 50), (10, 0), (20, 0)),
)
"""400 s, 6.955 km, at most 120 km/h."""


def _corners(operations: Iterable[tuple[float, float]]) -> tuple[Corner, ...]:
    time, corners = 0.0, [("0 s", "0 km/h")]
    for lasts, speed in operations:
        time += lasts
        corners.append((f"{time:g} s", f"{speed:g} km/h"))
    return tuple(corners)


@dataclass(frozen=True)
class Cycle:
    name: str
    title: str
    make: Callable[[], tuple[Corner, ...]]


CYCLES = (
    Cycle("urban", "Urban part of UN R83, 195 s", lambda: _corners(URBAN)),
    Cycle("extra_urban", "Extra-urban part of UN R83, 400 s", lambda: _corners(EXTRA_URBAN)),
    Cycle(
        "combined", "Urban part four times and the extra-urban, 1180 s", lambda: _corners((*URBAN * 4, *EXTRA_URBAN))
    ),
)


def cycle(name: str) -> tuple[Corner, ...]:
    """Corners of a built-in cycle: ``urban``, ``extra_urban``, ``combined``.

    Raises
    ------
    DriveProblem
        where there is none of that name.
    """
    for each in CYCLES:
        if each.name == name:
            return each.make()
    raise DriveProblem(f"There is no cycle “{name}”. There are {', '.join(each.name for each in CYCLES)}.")


def _at(seconds: float) -> str:
    return f"{seconds:.10g} s"


def joined(
    first: Sequence[Corner], times: Sequence[float], then: Sequence[Corner], later: Sequence[float]
) -> list[Corner]:
    """Corners one after another. ``times`` and ``later`` are those of the corners, s. The second part begins where the
    first ends; the corner that both have is there once.

    Raises
    ------
    DriveProblem
        where that is more than a drive can hold.
    """
    if len(first) + len(then) > MOST_CORNERS:
        raise DriveProblem(f"That makes {len(first) + len(then)} corners; a profile has at most {MOST_CORNERS}.")
    if not first or not then:
        return list(first or then)
    begins = times[-1]
    moved = [(_at(begins + t - later[0]), level) for t, (_, level) in zip(later, then)]
    return [*first, *(moved[1:] if moved[0][1] == first[-1][1] else moved)]


def repeated(corners: Sequence[Corner], times: Sequence[float], count: int) -> list[Corner]:
    """Corners ``count`` times one after another, the first as they are.

    Raises
    ------
    DriveProblem
        where there is nothing to repeat, or more than a drive can hold comes out.
    """
    if not 1 <= count <= MOST_CORNERS or count * len(corners) > MOST_CORNERS:
        raise DriveProblem(
            f"{count} times {len(corners)} corners cannot be held; a profile has at most {MOST_CORNERS}."
        )
    if len(corners) < 2 or times[-1] <= times[0]:
        raise DriveProblem("A profile that lasts no time cannot be repeated. Give it two corners at different times.")
    once = times[-1] - times[0]
    whole = list(corners)
    same = corners[0][1] == corners[-1][1]
    for number in range(1, count):
        whole += [(_at(t + number * once), level) for t, (_, level) in zip(times, corners)][1 if same else 0 :]
    return whole


def repeated_texts(corners: Sequence[Corner], count: int) -> list[Corner]:
    """Corners `repeated` that are plain times. Raises `DriveProblem`."""
    if count == 1:
        return list(corners)
    times = plain_numbers((time for time, _ in corners), "s")
    if times is None:
        raise DriveProblem("Only corners with plain times, such as 20 s, can be repeated.")
    return repeated(corners, times, count)


def mirrored(corners: Sequence[Corner], times: Sequence[float]) -> list[Corner]:
    """The way back: the last corner first, within the same span of time."""
    if not corners:
        return []
    span = times[0] + times[-1]
    return [(_at(span - t), level) for t, (_, level) in zip(reversed(times), reversed(corners))]


@dataclass(frozen=True)
class Trip:
    """What a speed over time is as a whole, SI."""

    lasts: float
    distance: float
    top: float
    steepest: float
    """Largest rise or fall of the speed, without sign."""
    at: int
    """The corner at which that ends."""


def trip(times: Sequence[float], speeds: Sequence[float]) -> Trip | None:
    """None for fewer than two corners. Jumps, two corners at one time, count as no slope."""
    if len(times) < 2:
        return None
    t, v = np.asarray(times, dtype=float), np.asarray(speeds, dtype=float)
    lasts = np.diff(t)
    slopes = np.divide(np.abs(np.diff(v)), lasts, out=np.zeros(len(lasts)), where=lasts > 0)
    at = int(np.argmax(slopes))
    return Trip(float(t[-1] - t[0]), float(np.trapezoid(v, t)), float(np.abs(v).max()), float(slopes[at]), at + 1)


def too_steep(corners: Sequence[Corner], times: Sequence[float], speeds: Sequence[float]) -> tuple[int, float] | None:
    """The corner, from 0, and the acceleration (m/s²) that nothing on wheels can follow; only where speeds are written
    in km/h, as a vehicle's are."""
    if not any("km/h" in level for _, level in corners):
        return None
    whole = trip(times, speeds)
    jump = next(
        (n for n, (a, b) in enumerate(itertools.pairwise(times), 1) if a == b and speeds[n] != speeds[n - 1]), 0
    )
    if jump:
        return jump, float("inf")
    return (whole.at, whole.steepest) if whole is not None and whole.steepest > STEEP else None

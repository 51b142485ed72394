"""How a kind is drawn, as data: nobody who declares one needs to know the window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

Point = tuple[float, float]
Shape = Sequence[Point]
"""A curve in the unit square, upward positive."""


@dataclass(frozen=True)
class Symbol:
    """Strokes in a box of `WIDTH` by `HEIGHT`, downward positive.

    ``lines`` are open polylines. ``boxes`` and ``rings`` are (x, y, width, height) of rectangles and
    ellipses. ``bows`` are half
    ellipses over such a box, the upper half, or the lower one where the height is negative. ``curves`` are
    cubic Bézier curves,
    four points each.
    """

    lines: tuple[tuple[Point, ...], ...] = ()
    boxes: tuple[tuple[float, float, float, float], ...] = ()
    rings: tuple[tuple[float, float, float, float], ...] = ()
    bows: tuple[tuple[float, float, float, float], ...] = ()
    curves: tuple[tuple[Point, Point, Point, Point], ...] = ()


WIDTH, HEIGHT = 40.0, 26.0

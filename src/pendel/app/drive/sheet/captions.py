"""Where words are placed among wires: pure geometry, in px. Nothing crosses a caption where there is room for
it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from pendel.app.drive.sheet.geometry import Box, Point, segments

ASCENT, HEIGHT = 9.0, 12.0
"""Of a line of words above its baseline, and in all."""
CLEAR = 3.0
"""Kept free between words and what is near them."""
STEP = 14.0
"""Between two places that are tried along a wire."""


class Obstacles:
    """What words keep clear of: wires as upright and level stretches, cards, and other words; and the edges
    of the sheet."""

    def __init__(
        self, paths: Iterable[list[Point]], boxes: Iterable[Box], left: float = -np.inf, right: float = np.inf
    ):
        lines = np.array([s for path in paths for s in segments(path)]).reshape(-1, 2, 2)
        covered = np.array([(b.x, b.y, b.x + b.w, b.y + b.h) for b in boxes]).reshape(-1, 4)
        self.low = np.concatenate([lines.min(axis=1), covered[:, :2]])
        self.high = np.concatenate([lines.max(axis=1), covered[:, 2:]])
        self.wires = len(lines)
        """As many of these are stretches of wires."""
        self.left, self.right = left, right

    def place(self, width: float, baselines: Iterable[Point], *, over_wires: bool = False) -> Point | None:
        """The first of these places for words that nothing crosses, or with ``over_wires`` nothing but wires, of which
        others keep clear from then on; none where each is crossed."""
        places = list(baselines)
        corners = np.array(places).reshape(-1, 2) - (0.0, ASCENT)
        low, high = corners[:, None] - CLEAR, corners[:, None] + (width + CLEAR, HEIGHT + CLEAR)
        first = self.wires if over_wires else 0
        free = ~np.any(np.all((self.low[first:] < high) & (self.high[first:] > low), axis=2), axis=1)
        free &= (corners[:, 0] >= self.left) & (corners[:, 0] + width <= self.right)
        if not free.any():
            return None
        first = int(np.argmax(free))
        self.low = np.vstack([self.low, corners[first]])
        self.high = np.vstack([self.high, corners[first] + (width, HEIGHT)])
        return places[first]


def box_of(baseline: Point, width: float) -> Box:
    """What words cover that begin at a baseline."""
    return Box(baseline[0], baseline[1] - ASCENT, width, HEIGHT)


def along_wire(path: list[Point], width: float) -> Iterator[Point]:
    """Places for the words of a wire, from its reader back to its source: right and left of what is upright,
    above and
    below what is level."""
    for (ax, ay), (bx, by) in reversed(segments(path)):
        length = abs(bx - ax) + abs(by - ay)
        steps = max(1, int(length // STEP))
        for k in range(steps + 1):
            x, y = bx + (ax - bx) * k / steps, by + (ay - by) * k / steps
            if ax == bx:
                middle = min(max(y, min(ay, by) + HEIGHT), max(ay, by) - 2 * CLEAR)
                yield x + 2 * CLEAR, middle
                yield x - 2 * CLEAR - width, middle
            else:
                for left in (x, x - width):
                    yield left, y - 2 * CLEAR
                    yield left, y + ASCENT + 2 * CLEAR


def on_boundary(left: float, right: float, height: float, width: float) -> Iterator[Point]:
    """Places for the words on the line between the decks, from the right, above it and below."""
    x = right - 10 - width
    while x > left + 8:
        yield x, height - 6
        yield x, height + 15
        x -= STEP / 3


def on_line(left: float, right: float, height: float) -> Iterator[Point]:
    """Places for a deck's name, from the left."""
    x = left + 8
    while x < right:
        yield x, height
        x += STEP / 3

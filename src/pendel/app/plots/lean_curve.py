"""A curve that is drawn with as few points as look the same at the size at which it is shown: a wide pen takes
milliseconds for each thousand of them."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtGui import QPainterPath

ASIDE = 0.08
"""Pixels by which one pass may move the line off a point it leaves out."""
PASSES, FEW = 8, 16
"""Most passes, and points of which none is left out."""


class LeanCurve(pg.PlotCurveItem):
    """`pyqtgraph.PlotCurveItem` of points that are all connected, or where both ends are finite."""

    _sizes: tuple[float | None, float | None] = (None, None)
    """Of a pixel, in the units of the axes, for which its path was made."""

    def getPath(self) -> QPainterPath:  # noqa: N802
        sizes = self.pixelSize()
        if sizes != self._sizes:
            self._sizes, self.path = sizes, None
        return super().getPath()

    def generatePath(self, x: np.ndarray, y: np.ndarray) -> QPainterPath:  # noqa: N802
        across, down = self._sizes
        if across and down:
            kept = needed(x / across, y / down)
            x, y = x[kept], y[kept]
        return super().generatePath(x, y)


def needed(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Places of the points, given in pixels, without which a line through the others would look another."""
    kept = np.arange(len(x))
    for number in range(PASSES):
        if len(kept) <= FEW:
            break
        middle = np.arange(1 + number % 2, len(kept) - 1, 2)  # both neighbours of a point left out stay
        before, at, after = kept[middle - 1], kept[middle], kept[middle + 1]
        span_x, span_y = x[after] - x[before], y[after] - y[before]
        off_x, off_y = x[at] - x[before], y[at] - y[before]
        length = span_x * span_x + span_y * span_y
        along = off_x * span_x + off_y * span_y
        off = np.abs(off_x * span_y - off_y * span_x)
        # What turns back is kept, as is what is not finite, and the tip of what comes back to where it began.
        there = (length > 0) | (off_x * off_x + off_y * off_y <= ASIDE * ASIDE)
        out = there & (off <= ASIDE * np.sqrt(length)) & (along >= 0) & (along <= length)
        kept = np.delete(kept, middle[out])
    return kept

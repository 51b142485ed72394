"""Words in a plot, put where nothing runs through them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF

from pendel.app.plots.frame import Frame
from pendel.app.widgets.theme import font, tokens

GAP = 5.0
"""Pixels between a point and words beside it."""
LEFT, RIGHT, ABOVE, BELOW = (-1, 0), (1, 0), (0, -1), (0, 1)
ABOVE_LEFT, ABOVE_RIGHT, BELOW_LEFT, BELOW_RIGHT = (-1, -1), (1, -1), (-1, 1), (1, 1)
"""Where words are to a point: to the right, and downwards."""
AROUND = (LEFT, RIGHT, ABOVE, BELOW, ABOVE_LEFT, ABOVE_RIGHT, BELOW_LEFT, BELOW_RIGHT)
CURVE, LINE = 10, 1
"""Cost of covering a curve, and a straight line through the whole plot."""


class Tag(pg.TextItem):
    """Words beside the first of some points where no curve crosses them; placed again when the view changes.

    Parameters
    ----------
    points
        in the plot's coordinates; the preferred ones first.
    sides
        of each point, the preferred ones first.
    ground
        whether lines through the whole plot end at the words.
    """

    def __init__(
        self,
        frame: Frame,
        words: str,
        tint: str,
        points: Sequence[tuple[float, float]],
        sides: Sequence[tuple[int, int]] = AROUND,
        *,
        size: float = 11,
        bold: bool = True,
        ground: bool = False,
    ):
        super().__init__(words, tint, anchor=(0, 0), fill=pg.mkBrush(tokens().plot) if ground else None)
        self.setFont(font(size, bold=bold))
        self.frame, self.points, self.sides = frame, points, sides

    def viewTransformChanged(self) -> None:  # noqa: N802
        if self.getViewBox() is self.frame.vb:
            self.place()
        super().viewTransformChanged()

    def place(self) -> None:
        """Go to the best place of all."""
        (left, right), (low, high) = self.frame.vb.viewRange()
        room = self.frame.vb.rect()
        if room.isEmpty() or not (right > left and high > low):
            return
        to_px = np.array([room.width() / (right - left), -room.height() / (high - low)])
        origin = np.array([left, high])
        words = self.textItem.boundingRect()
        obstacles = list(self._obstacles(to_px, origin))
        best: tuple[int, QRectF] | None = None
        for point in self.points:
            x, y = (np.asarray(point) - origin) * to_px
            for across, down in self.sides:
                rect = QRectF(words)
                rect.moveLeft(x + across * GAP + (across - 1) * words.width() / 2)
                rect.moveTop(y + down * (GAP if not across else 0) + (down - 1) * words.height() / 2)
                if not room.adjusted(-1, -1, 1, 1).contains(rect):
                    continue
                cost = sum(weight for weight, px in obstacles if crosses(px, rect))
                if best is None or cost < best[0]:
                    best = cost, rect
                if cost == 0:
                    break
            if best is not None and best[0] == 0:
                break
        if best is not None:
            at = np.array([best[1].left(), best[1].top()]) / to_px + origin
            self.setPos(float(at[0]), float(at[1]))

    def _obstacles(self, to_px: np.ndarray, origin: np.ndarray):
        """Weights and points in pixels, shape (n, 2), of all that could run through it."""
        for item in self.frame.items:
            if isinstance(item, pg.PlotCurveItem) and item.xData is not None:
                yield CURVE, (np.column_stack([item.xData, item.yData]) - origin) * to_px
            elif isinstance(item, pg.InfiniteLine):
                x, y = (np.array([item.x(), item.y()]) - origin) * to_px
                yield LINE, np.array([[-1e5, y], [1e5, y]] if item.angle == 0 else [[x, -1e5], [x, 1e5]])


def crosses(points: np.ndarray, rect: QRectF) -> bool:
    """Whether a line from point to point, shape (n, 2), enters a rectangle (Liang and Barsky 1984)."""
    start, way = points[:-1], np.diff(points, axis=0)
    enters, leaves = np.zeros(len(start)), np.ones(len(start))
    ends = ((rect.left(), rect.right()), (rect.top(), rect.bottom()))
    with np.errstate(divide="ignore", invalid="ignore"):
        for axis, (low, high) in enumerate(ends):
            a, b = (low - start[:, axis]) / way[:, axis], (high - start[:, axis]) / way[:, axis]
            still = way[:, axis] == 0
            within = (start[:, axis] >= low) & (start[:, axis] <= high)
            a, b = np.where(still, np.where(within, -np.inf, np.inf), a), np.where(still, np.inf, b)
            enters, leaves = np.maximum(enters, np.minimum(a, b)), np.minimum(leaves, np.maximum(a, b))
        return bool(np.any(enters <= leaves))

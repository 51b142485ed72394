"""Rows of plots whose heights are given by hand."""

from __future__ import annotations

from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QResizeEvent
from PyQt6.QtWidgets import QWidget

from pendel.app.plots.frame import Frame, PlotView
from pendel.app.session.usual_strips import StripSpec
from pendel.core.drive.views import HIGHEST, LOWEST

EDGE = 3.0
"""How far from the gap between two plots it can still be grasped, px."""
MARGIN, SPACING = 4, 6
"""Around the rows and between them, px."""
LEAST_HEIGHT = 20.0
"""Of a plot, px."""


class StripRows(PlotView):
    """Plots one below the other. The gap between two of them is dragged; a double click on it makes them all alike."""

    heights_changed = pyqtSignal()

    def __init__(self, parent: QWidget | None = None):
        self._rows = pg.GraphicsLayout()
        super().__init__(self._rows, parent)
        self.specs: list[StripSpec] = []
        self.plots: list[Frame] = []
        self._grasped: int | None = None
        """The plot above the gap that is being dragged."""
        self._rows.layout.setSpacing(SPACING)
        self._rows.setContentsMargins(MARGIN, MARGIN, 10, MARGIN)
        self.setMouseTracking(True)

    def share(self, n: int) -> float:
        """Of the whole height that a strip has."""
        return self.specs[n].height / sum(spec.height for spec in self.specs)

    def stretch(self) -> None:
        """Give each plot the height of its strip, with its axis of time besides. Qt's own stretch of rows is no
        measure: of 2 to 1 it makes 2.35 to 1."""
        grid, count = self._rows.layout, len(self.specs)
        axes = [plot.bottom.maximumHeight() for plot in self.plots[:count]]
        room = self.height() - 2 * MARGIN - SPACING * (count - 1) - sum(axes)
        for n, axis in enumerate(axes):
            grid.setRowFixedHeight(n, max(LEAST_HEIGHT, room * self.share(n)) + axis)
        for n in range(count, grid.rowCount()):
            grid.setRowFixedHeight(n, 0)

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802
        super().resizeEvent(event)
        if getattr(self, "plots", None):
            self.stretch()

    def change_heights(self, heights: dict[int, float]) -> None:
        """Give strips other heights, within what a drive can hold."""
        for n, height in heights.items():
            self.specs[n].height = round(min(HIGHEST, max(LOWEST, height)), 3)
        self.stretch()
        self.heights_changed.emit()

    def alike(self) -> None:
        self.change_heights(dict.fromkeys(range(len(self.specs)), 1.0))

    def _edge_at(self, at: QPointF) -> int | None:
        y = self.mapToScene(at.toPoint()).y()
        for n, (above, below) in enumerate(zip(self.plots, self.plots[1:])):
            if above.sceneBoundingRect().bottom() - EDGE <= y <= below.sceneBoundingRect().top() + EDGE:
                return n
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() == Qt.MouseButton.LeftButton:
            self._grasped = self._edge_at(event.position())
        if self._grasped is None:
            super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._grasped is not None:
            self._drag(self._grasped, self.mapToScene(event.position().toPoint()).y())
            return
        if not event.buttons():
            over = self._edge_at(event.position()) is not None
            if over:
                self.setCursor(Qt.CursorShape.SplitVCursor)
            else:
                self.unsetCursor()
        super().mouseMoveEvent(event)

    def _drag(self, n: int, y: float) -> None:
        above, below = (self.plots[k].sceneBoundingRect() for k in (n, n + 1))
        whole = self.specs[n].height + self.specs[n + 1].height
        room = below.bottom() - above.top()
        wanted = whole * (y - above.top()) / max(1.0, room)
        height = min(max(wanted, LOWEST, whole - HIGHEST), HIGHEST, whole - LOWEST)
        self.change_heights({n: height, n + 1: whole - height})

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._grasped is not None:
            self._grasped = None
            return
        super().mouseReleaseEvent(event)

    def mouseDoubleClickEvent(self, event: Any) -> None:  # noqa: N802
        if self._edge_at(event.position()) is not None:
            self.alike()
            return
        super().mouseDoubleClickEvent(event)

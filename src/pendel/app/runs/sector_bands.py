"""The sectors of block commutation as tints behind the traces of a strip."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from pendel.app.widgets.theme import colour, font
from pendel.core.runs.found.sectors import Sectors


class Bands(pg.GraphicsObject):
    """Sectors as tints behind the traces, every other one shaded; left out where they would be a blur."""

    NARROWEST = 3.0
    """px."""
    NUMBERED = 15.0

    def __init__(self, sectors: Sectors, numbered: bool):
        super().__init__()
        self.sectors, self.numbered = sectors, numbered
        self.setZValue(-50)

    def viewRangeChanged(self) -> None:
        self.prepareGeometryChange()
        self.update()

    def boundingRect(self) -> QRectF:
        return self.viewRect() or QRectF()

    def paint(self, painter: QPainter, *_) -> None:
        rect, view = self.viewRect(), self.getViewBox()
        begins = np.append(self.sectors.begins, self.sectors.end)
        first = max(0, int(np.searchsorted(begins, rect.left(), side="right")) - 1)
        last = min(len(begins) - 1, int(np.searchsorted(begins, rect.right())))
        width = view.viewPixelSize()[0]
        if last <= first or rect.width() / max(1, last - first) < self.NARROWEST * width:
            return
        shade = colour("hairline")
        shade.setAlphaF(0.45)
        for k in range(first, last):
            number, left, right = int(self.sectors.number[k]), begins[k], begins[k + 1]
            if number % 2:
                painter.fillRect(QRectF(left, rect.top(), right - left, rect.height()), shade)
        if self.numbered:
            self._number(painter, view, begins, range(first, last), width)

    def _number(self, painter: QPainter, view, begins: np.ndarray, shown: range, width: float) -> None:
        places = [
            (view.mapViewToDevice(QPointF((begins[k] + begins[k + 1]) / 2, 0)), self.sectors.number[k])
            for k in shown
            if begins[k + 1] - begins[k] > self.NUMBERED * width
        ]
        bottom = view.mapViewToDevice(QPointF(0, view.viewRect().top())).y()
        painter.save()
        painter.resetTransform()
        painter.setFont(font(10.5))
        painter.setPen(colour("muted"))
        for place, number in places:
            box = QRectF(place.x() - 12, bottom - 17, 24, 15)
            painter.fillRect(box.adjusted(4, 0, -4, 0), colour("plot"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(int(number)))
        painter.restore()

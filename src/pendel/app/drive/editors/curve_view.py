"""A derived curve in the inspector, such as the largest torque over speed; the pointer reads it."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from pendel.app.widgets.pictures import with_picture_menu
from pendel.app.widgets.theme import colour, font
from pendel.core.catalogue.declare import Curve
from pendel.core.quantities.units import figure, number_text, unit

LEFT, RIGHT, TOP, BOTTOM = 46, 12, 20, 22


class CurveView(QWidget):
    """One curve from zero up, with its largest values on the axes."""

    def __init__(self) -> None:
        super().__init__()
        self.curve: Curve | None = None
        self.pointer: float | None = None
        self.setFixedHeight(150)
        self.setMouseTracking(True)
        with_picture_menu(self)

    def show_curve(self, curve: Curve) -> None:
        self.curve = curve
        self.setAccessibleName(f"{curve.label} over {curve.x_label.lower()}")
        self.update()

    def ground(self) -> QRectF:
        return QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)

    def place(self, x: float, y: float) -> QPointF:
        assert self.curve is not None
        ground = self.ground()
        across, up = x / (self.curve.x[-1] or 1.0), y / (float(np.max(self.curve.y)) * 1.1 or 1.0)
        return QPointF(ground.left() + across * ground.width(), ground.bottom() - up * ground.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        curve = self.curve
        if curve is None or len(curve.x) < 2 or not np.all(np.isfinite(curve.y)):
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ground = self.ground()
        painter.fillRect(ground, colour("plot"))
        painter.setPen(QPen(colour("hairline"), 1))
        painter.drawRect(ground)
        painter.setPen(QPen(colour("petrol"), 1.8))
        painter.drawPolyline(QPolygonF([self.place(x, y) for x, y in zip(curve.x, curve.y)]))
        self._label_axes(painter, curve, ground)
        if curve.mark is not None and curve.mark[0] <= curve.x[-1]:
            painter.setPen(QPen(colour("petrol"), 1.4))
            painter.setBrush(colour("card"))
            painter.drawEllipse(self.place(*curve.mark), 4, 4)
        if self.pointer is not None:
            self._read(painter, curve, ground)

    def _label_axes(self, painter: QPainter, curve: Curve, ground: QRectF) -> None:
        painter.setFont(font(10.5))
        painter.setPen(colour("muted"))
        top = float(np.max(curve.y))
        high = self.place(0.0, top).y()
        painter.setPen(QPen(colour("hairline"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(ground.left(), high), QPointF(ground.right(), high))
        painter.setPen(colour("muted"))
        right = Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(0, high - 7, LEFT - 5, 14), right, number_text(top / unit(curve.y_unit)[0], 3))
        painter.drawText(
            QRectF(0, 2, self.width() - RIGHT, 14),
            Qt.AlignmentFlag.AlignLeft,
            ", ".join(filter(None, (curve.label, curve.y_unit))),
        )
        painter.drawText(QRectF(LEFT, ground.bottom() + 4, 20, 14), Qt.AlignmentFlag.AlignLeft, "0")
        end = number_text(curve.x[-1] / unit(curve.x_unit)[0], 3)
        painter.drawText(QRectF(LEFT, ground.bottom() + 4, ground.width(), 14), right, f"{end} {curve.x_unit}")

    def _read(self, painter: QPainter, curve: Curve, ground: QRectF) -> None:
        assert self.pointer is not None
        x = float(np.clip((self.pointer - ground.left()) / ground.width(), 0, 1) * curve.x[-1])
        y = float(np.interp(x, curve.x, curve.y))
        at = self.place(x, y)
        painter.setPen(QPen(colour("brass"), 1))
        painter.drawLine(QPointF(at.x(), ground.top()), QPointF(at.x(), ground.bottom()))
        painter.setBrush(colour("brass"))
        painter.drawEllipse(at, 3, 3)
        painter.setPen(colour("ink"))
        text = f"{figure(y, curve.y_unit, 3)} at {figure(x, curve.x_unit, 3)}"
        painter.drawText(QRectF(LEFT, 2, ground.width(), 14), Qt.AlignmentFlag.AlignRight, text)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.pointer = event.position().x()
        self.update()

    def leaveEvent(self, event) -> None:
        self.pointer = None
        self.update()

"""A function of both currents as a surface that can be turned, and as contour lines with the run's currents
on them."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget
from pyqtgraph import functions

from pendel.app.widgets.pictures import with_picture_menu
from pendel.app.widgets.theme import colour, font, trace_colour
from pendel.core.quantities.units import figure

LEVELS = 12
FIRST_LOOK = (math.radians(35), math.radians(35))
"""Turn and tilt."""


def shade(share: float, light: float = 1.0) -> QColor:
    """From pale to strong with the height; one hue, so that it reads in print."""
    low, high = colour("petrol_tint"), colour("petrol")
    mixed = [a + (b - a) * share for a, b in zip(low.getRgbF()[:3], high.getRgbF()[:3])]
    return QColor.fromRgbF(*(min(1.0, max(0.0, v * light)) for v in mixed))


BEYOND = "; beyond the dashed rim a guess"


class MapWidget(QWidget):
    """What both views share: axes (A) and heights over them, shape (n, m)."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setMinimumSize(240, 240)
        with_picture_menu(self)
        self.x, self.y, self.z = np.array([0.0, 1.0]), np.array([0.0, 1.0]), np.zeros((2, 2))
        self.unit = ""

    def show_map(self, x: np.ndarray, y: np.ndarray, z: np.ndarray, unit: str) -> None:
        self.x, self.y, self.z, self.unit = x, y, z, unit
        self.update()

    @property
    def span(self) -> tuple[float, float]:
        low, high = float(np.min(self.z)), float(np.max(self.z))
        return (low, high) if high > low else (low - 1.0, high + 1.0)


class SurfaceView(MapWidget):
    """Drag turns it; the wheel changes its size; a double-click puts it back."""

    def __init__(self) -> None:
        super().__init__("Surface")
        self.turn, self.tilt, self.size_ = *FIRST_LOOK, 1.0
        self._from: QPointF | None = None
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setToolTip("Drag to turn, wheel to zoom, double-click to put back")

    def project(self, points: np.ndarray) -> np.ndarray:
        """Unit-cube points (n, 3) to pixels and depth (n, 3)."""
        u, v, w = (points - 0.5).T
        c, s = math.cos(self.turn), math.sin(self.turn)
        across, away = c * u - s * v, s * u + c * v
        up = math.cos(self.tilt) * 0.8 * w + math.sin(self.tilt) * away
        depth = math.cos(self.tilt) * away - math.sin(self.tilt) * 0.8 * w
        scale = 0.62 * min(self.width(), self.height()) * self.size_
        return np.column_stack([self.width() / 2 + scale * across, self.height() / 2 - scale * up, depth])

    def unit_points(self) -> np.ndarray:
        low, high = self.span
        u = (self.x - self.x[0]) / (self.x[-1] - self.x[0])
        v = (self.y - self.y[0]) / (self.y[-1] - self.y[0])
        grid = np.stack([*np.meshgrid(u, v, indexing="ij"), (self.z - low) / (high - low)], axis=-1)
        return grid.reshape(-1, 3)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), colour("plot"))
        self._draw_floor(painter)
        n, m = self.z.shape
        flat = self.unit_points()
        places = self.project(flat).reshape(n, m, 3)
        heights = flat[:, 2].reshape(n, m)
        corners = [
            (slice(None, -1), slice(None, -1)),
            (slice(1, None), slice(None, -1)),
            (slice(1, None), slice(1, None)),
            (slice(None, -1), slice(1, None)),
        ]
        faces = np.stack([places[c] for c in corners], axis=2).reshape(-1, 4, 3)
        mean = np.mean([heights[c] for c in corners], axis=0).ravel()
        painter.setPen(QPen(colour("card"), 0.6))
        for k in np.argsort(-faces[:, :, 2].mean(axis=1)):
            painter.setBrush(shade(float(mean[k])))
            painter.drawPolygon(QPolygonF([QPointF(p[0], p[1]) for p in faces[k]]))

    def _draw_floor(self, painter: QPainter) -> None:
        painter.setFont(font(10.5))
        base = self.project(np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 0, 1]], dtype=float))
        painter.setPen(QPen(colour("hairline"), 1))
        painter.drawPolygon(QPolygonF([QPointF(p[0], p[1]) for p in base[:4]]))
        painter.setPen(colour("muted"))
        marks = (
            ((0.5, -0.12, 0), "i_d"),
            ((-0.12, 0.5, 0), "i_q"),
            ((0, -0.06, 0), figure(self.x[0], "A", 3)),
            ((1, -0.06, 0), figure(self.x[-1], "A", 3)),
            ((-0.08, 1, 0), figure(self.y[-1], "A", 3)),
        )
        for place, text in marks:
            at = self.project(np.array([place], dtype=float))[0]
            painter.drawText(QRectF(at[0] - 45, at[1] - 8, 90, 16), Qt.AlignmentFlag.AlignCenter, text)
        low, high = self.span
        words = f"{figure(low, self.unit, 3)} … {figure(high, self.unit, 3)}"
        painter.drawText(QRectF(6, 4, self.width() - 12, 16), Qt.AlignmentFlag.AlignLeft, words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._from = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._from is None:
            return
        moved = event.position() - self._from
        self._from = event.position()
        self.turn += 0.01 * moved.x()
        self.tilt = min(math.radians(85), max(math.radians(5), self.tilt + 0.01 * moved.y()))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._from = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self.turn, self.tilt, self.size_ = *FIRST_LOOK, 1.0
        self.update()

    def wheelEvent(self, event) -> None:
        self.size_ = min(3.0, max(0.4, self.size_ * 1.1 ** (event.angleDelta().y() / 120)))
        self.update()


class ContourView(MapWidget):
    """Lines of equal height with their values, and where the currents of the latest run went."""

    def __init__(self) -> None:
        super().__init__("Contour lines")
        self.path = np.empty((0, 2))
        self.rims: tuple[tuple[float, float], tuple[float, float]] | None = None

    def show_rims(self, along_d: tuple[float, float], along_q: tuple[float, float]) -> None:
        """Where the table ends; beyond is a guess."""
        self.rims = along_d, along_q
        self.update()

    def show_path(self, i_d: np.ndarray, i_q: np.ndarray) -> None:
        self.path = np.column_stack([i_d, i_q]) if len(i_d) else np.empty((0, 2))
        self.update()

    def ground(self) -> QRectF:
        return QRectF(46, 10, self.width() - 58, self.height() - 48)

    def place(self, x, y) -> QPointF:
        g = self.ground()
        return QPointF(
            g.left() + g.width() * (x - self.x[0]) / (self.x[-1] - self.x[0]),
            g.bottom() - g.height() * (y - self.y[0]) / (self.y[-1] - self.y[0]),
        )

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ground = self.ground()
        painter.fillRect(ground, colour("plot"))
        painter.setPen(QPen(colour("hairline"), 1))
        painter.drawRect(ground)
        self._draw_axes(painter, ground)
        low, high = self.span
        painter.setFont(font(10))
        painter.setClipRect(ground)
        milli = max(abs(low), abs(high)) < 0.5
        for number, level in enumerate(np.linspace(low, high, LEVELS + 2)[1:-1]):
            share = (level - low) / (high - low)
            painter.setPen(QPen(shade(0.25 + 0.75 * share), 1.3))
            lines = functions.isocurve(self.z, level, connected=True)
            for line in lines:
                points = [self._on_grid(p) for p in line]
                painter.drawPolyline(QPolygonF(points))
            if lines:
                longest = max(lines, key=len)
                # Neighbours carry their figures at different places, so that these do not meet.
                at = self._on_grid(longest[int(len(longest) * (0.25 + 0.25 * (number % 3)))])
                text = figure(1e3 * level if milli else level, "", 3)
                box = QRectF(at.x() - 20, at.y() - 7, 40, 14)
                painter.fillRect(box.adjusted(4, 0, -4, 0), colour("plot"))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        if self.rims is not None:
            (left, right), (low, high) = self.rims
            border = QRectF(self.place(left, high), self.place(right, low))
            beyond = QPainterPath()
            beyond.addRect(ground)
            inner = QPainterPath()
            inner.addRect(border)
            veil = colour("plot")
            veil.setAlphaF(0.55)
            painter.fillPath(beyond.subtracted(inner), veil)
            painter.setPen(QPen(colour("ink"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(border)
        if len(self.path) > 1:
            painter.setClipRect(ground)
            painter.setPen(QPen(QColor(trace_colour(1)), 2))
            painter.drawPolyline(QPolygonF([self.place(*p) for p in self.path]))

    def _on_grid(self, p) -> QPointF:
        """A point in grid numbers, as the contour search gives it (cell centres), on the picture."""
        k, j = p[0] - 0.5, p[1] - 0.5
        return self.place(np.interp(k, np.arange(len(self.x)), self.x), np.interp(j, np.arange(len(self.y)), self.y))

    def _draw_axes(self, painter: QPainter, ground: QRectF) -> None:
        painter.setFont(font(10.5))
        painter.setPen(colour("muted"))
        along_d, along_q = self.rims or ((self.x[0], self.x[-1]), (self.y[0], self.y[-1]))
        for value in np.linspace(*along_d, 5):
            at = self.place(value, self.y[0])
            painter.drawText(
                QRectF(at.x() - 30, ground.bottom() + 3, 60, 15),
                Qt.AlignmentFlag.AlignHCenter,
                figure(value, "", 3),
            )
        for value in np.linspace(*along_q, 5):
            at = self.place(self.x[0], value)
            painter.drawText(
                QRectF(0, at.y() - 8, 42, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                figure(value, "", 3),
            )
        unit = f"m{self.unit}" if max(map(abs, self.span)) < 0.5 else self.unit
        painter.drawText(
            QRectF(ground.left(), ground.bottom() + 18, ground.width(), 16),
            Qt.AlignmentFlag.AlignCenter,
            f"{unit} over i_d across and i_q up, A{BEYOND if self.rims else ''}",
        )

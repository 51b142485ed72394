"""A mode of the mechanics drawn along the shaft: a bar for the speed of each body, swinging, and what gives
way between."""

from __future__ import annotations

import cmath
import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QHideEvent, QPainter, QPaintEvent, QPen, QPolygonF, QShowEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import colour, font
from pendel.core.loops.mechanics.modes import Chain, Mode
from pendel.core.quantities.units import number_text

FRAME_MS, SWING = 40, 1.6
"""Milliseconds from picture to picture, and seconds that one swing takes on the screen."""
BAR, BODY_HEIGHT, TURNS = 26.0, 30.0, 5
ROOM = 130.0
"""px for a spring, from which on its share is written in words."""
LOW = 0.06
"""Height of the smallest body beside the largest."""


class ShapeView(QWidget):
    """Bodies stand along a line in their order on the energy path. Above or below each the bar is its speed, seen from
    the first body; pale ends show how far it swings."""

    def __init__(self) -> None:
        super().__init__()
        self.chain: Chain | None = None
        self.mode: Mode | None = None
        self.turn = 0.0
        """Angle of the swing, rad."""
        self.playing = True
        self.setAccessibleName("Shape of the mode")
        explained_by(self, "plot:mode_shape")
        self.setMinimumHeight(230)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self._timer = QTimer(self)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self._next)

    def sizeHint(self) -> QSize:
        return QSize(640, 280)

    def show_mode(self, chain: Chain | None, mode: Mode | None) -> None:
        self.chain, self.mode, self.turn = chain, mode, 0.0
        self._follow()
        self.update()

    def play(self, on: bool) -> None:
        """Swing, or stand at the outermost."""
        self.playing = on
        self.turn = 0.0
        self._follow()
        self.update()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._follow()

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self._timer.stop()

    def _follow(self) -> None:
        if self.playing and self.mode is not None and self.isVisible():
            self._timer.start()
        else:
            self._timer.stop()

    @property
    def swings(self) -> bool:
        return self._timer.isActive()

    def _next(self) -> None:
        self.turn = (self.turn + 2 * math.pi * FRAME_MS / 1000 / SWING) % (2 * math.pi)
        self.update()

    def columns(self) -> dict[str, float]:
        """Where the middles of bodies and springs stand, px, by the keys of their states."""
        if self.chain is None:
            return {}
        place = {card: n for n, card in enumerate(self.chain.path)}
        items = sorted((*self.chain.bodies, *self.chain.springs), key=lambda each: place.get(each.card, len(place)))
        room = self.width() / max(1, len(items))
        return {each.state: room * (n + 0.5) for n, each in enumerate(items)}

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), colour("plot"))
        painter.setPen(QPen(colour("hairline"), 1))
        painter.drawRect(QRectF(self.rect()).adjusted(0, 0, -1, -1))
        painter.setFont(font(11))
        if self.chain is None:
            painter.setPen(colour("muted"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Nothing swings here.")
            return
        columns = self.columns()
        line = 0.5 * self.height() - 10
        reach = line - 38
        painter.setPen(QPen(colour("muted"), 1.4))
        painter.drawLine(QPointF(10, line), QPointF(self.width() - 10, line))
        for spring in self.chain.springs:
            self._draw_spring(painter, columns[spring.state], line, spring.state, spring.name)
        largest = max(b.referred if self.chain.referred else b.mass for b in self.chain.bodies)
        for body in self.chain.bodies:
            share = (body.referred if self.chain.referred else body.mass) / largest
            self._draw_body(painter, columns[body.state], line, max(LOW, share) ** 0.5, body.name)
            if self.mode is not None:
                self._draw_bar(painter, columns[body.state], line, reach, self.mode.shape[body.state])

    def _draw_body(self, painter: QPainter, x: float, line: float, size: float, name: str) -> None:
        height = BODY_HEIGHT * size
        painter.setPen(QPen(colour("ink"), 1.2))
        painter.setBrush(colour("card"))
        painter.drawRect(QRectF(x - 0.5 * BAR - 5, line - 0.5 * height, BAR + 10, height))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        self._words(painter, x, self.height() - 24, name, "ink")

    def _draw_spring(self, painter: QPainter, x: float, line: float, state: str, name: str) -> None:
        width = 34.0
        points = [QPointF(x - 0.5 * width, line)]
        for k in range(2 * TURNS):
            across = x - 0.5 * width + width * (k + 0.5) / (2 * TURNS)
            points.append(QPointF(across, line + (7 if k % 2 else -7)))
        points.append(QPointF(x + 0.5 * width, line))
        painter.fillRect(QRectF(x - 0.5 * width, line - 2, width, 4), colour("plot"))
        painter.setPen(QPen(colour("brass"), 1.8))
        painter.drawPolyline(QPolygonF(points))
        self._words(painter, x, self.height() - 24, name, "muted")
        share = self.mode.elastic.get(state, 0.0) if self.mode is not None else 0.0
        if self.mode is not None:
            wide = self.width() / len(self.columns()) > ROOM
            words = f"{100 * share:.0f} %{' of the stretch' if wide else ''}"
            self._words(painter, x, line + 14, words, "brass_text")

    def _draw_bar(self, painter: QPainter, x: float, line: float, reach: float, speed: complex) -> None:
        size, phase = abs(speed), cmath.phase(speed)
        pale, now = reach * size, reach * size * math.cos(phase + self.turn)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("petrol_tint"))
        painter.drawRect(QRectF(x - 0.5 * BAR, line - pale, BAR, 2 * pale))
        painter.setBrush(colour("petrol"))
        painter.drawRect(QRectF(x - 0.5 * BAR, min(line, line - now), BAR, abs(now)))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        sign = size if abs(phase) < math.pi / 2 else -size
        top = line - pale - 20 if pale > 0.5 * BODY_HEIGHT else line - 0.5 * BODY_HEIGHT - 20
        self._words(painter, x, top, number_text(sign, 3), "petrol")

    def _words(self, painter: QPainter, x: float, y: float, text: str, tint: str) -> None:
        room = self.width() / max(1, len(self.columns())) - 6
        shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(room))
        painter.setPen(colour(tint))
        painter.drawText(QRectF(x - 0.5 * room, y, room, 18), Qt.AlignmentFlag.AlignHCenter, shown)


__all__ = ["ShapeView"]

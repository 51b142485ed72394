"""What is drawn on the sheet: cards, wires, the sampling boundary."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QGraphicsItem, QStyleOptionGraphicsItem, QWidget

from pendel.app.drive.sheet.captions import Obstacles, along_wire, box_of, on_boundary, on_line
from pendel.app.drive.sheet.geometry import CONTROL_SIZE, POWER_SIZE, Box, Point, distance_to_path, segments
from pendel.app.drive.sheet.symbols import path_of
from pendel.app.widgets.theme import colour, font
from pendel.core.catalogue.declare import Kind, Part

ASIDE = 0.45
"""How much is seen of a card that is not in a run."""


@dataclass
class CardFace:
    """All a card shows."""

    key: str
    kind: Kind
    name: str
    lines: list[str]
    figure: str
    spark: np.ndarray
    power: bool
    rate: str
    trouble: str
    """"", "attention" or "fault"."""
    folded: bool = False
    """Whether other cards are inside."""
    hint: str = ""
    """What its figure is, on hover."""
    aside: bool = False
    """Whether an envelope stands for it in a run."""


class CardItem(QGraphicsItem):
    """A part or block. It only draws; the view handles the mouse."""

    def __init__(self, face: CardFace):
        super().__init__()
        self.face = face
        self.selected = self.lit = False
        self.handles: dict[str, QPointF] = {}
        self.show_handles = False
        self.setZValue(2)
        self.size = POWER_SIZE if face.power else CONTROL_SIZE

    def show_face(self, face: CardFace) -> None:
        self.face = face
        why = "At System an envelope stands for it." if face.aside else ""
        self.setToolTip("\n".join(words for words in (f"{face.name}: {face.kind.title}", face.hint, why) if words))
        self.setOpacity(ASIDE if face.aside else 1.0)
        self.update()

    def box(self) -> Box:
        return Box(self.x(), self.y(), *self.size)

    def boundingRect(self) -> QRectF:
        return QRectF(-8, -8, self.size[0] + 16, self.size[1] + 16)

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        w, h = self.size
        edge = (
            colour("brick")
            if self.face.trouble == "fault"
            else colour("brass")
            if self.face.trouble
            else colour("petrol")
            if self.selected
            else colour("hairline")
        )
        painter.setPen(QPen(edge, 2.0 if self.selected or self.face.trouble else 1.2))
        painter.setBrush(colour("card"))
        radius = 4 if self.face.power else 0
        if self.face.folded:
            painter.drawRoundedRect(QRectF(5, 5, w, h), radius, radius)
        painter.drawRoundedRect(QRectF(0, 0, w, h), radius, radius)
        if self.selected and self.face.trouble:
            painter.setPen(QPen(colour("petrol"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(-3, -3, w + 6, h + 6), 5, 5)
        if self.lit:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("petrol_tint"))
            painter.drawRoundedRect(QRectF(2, 2, w - 4, h - 4), 3, 3)
        (self._paint_power if self.face.power else self._paint_control)(painter, w, h)
        if self.face.trouble:
            painter.setFont(font(12, bold=True))
            painter.setPen(colour("brick") if self.face.trouble == "fault" else colour("brass"))
            painter.drawText(QRectF(w - 18, 3, 14, 16), Qt.AlignmentFlag.AlignCenter, "!")
        if self.show_handles:
            painter.setPen(QPen(colour("petrol"), 1.4))
            painter.setBrush(colour("card"))
            for point in self.handles.values():
                painter.drawEllipse(point - self.pos(), 4, 4)

    def _text(
        self,
        painter: QPainter,
        rect: QRectF,
        text: str,
        size: float,
        role: str,
        *,
        bold: bool = False,
        right: bool = False,
    ) -> None:
        chosen = font(size, bold=bold)
        painter.setFont(chosen)
        painter.setPen(colour(role))
        fitted = QFontMetricsF(chosen).elidedText(text, Qt.TextElideMode.ElideRight, rect.width())
        painter.drawText(
            rect,
            (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft) | Qt.AlignmentFlag.AlignVCenter,
            fitted,
        )

    def _paint_power(self, painter: QPainter, w: float, h: float) -> None:
        room = w - (26 if self.face.trouble else 16)
        self._text(painter, QRectF(9, 6, room, 18), self.face.name, 12, "ink", bold=True)
        symbol = self.face.kind.symbol if isinstance(self.face.kind, Part) else None
        for k, line in enumerate(self.face.lines):
            self._text(painter, QRectF(9, 25 + 15 * k, w - (14 if symbol is None else 58), 15), line, 11, "muted")
        if symbol is not None:
            painter.save()
            painter.translate(w - 49, 27)
            painter.setPen(QPen(colour("ink"), 1.3))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(path_of(symbol))
            painter.restore()
        self._curve(painter, self.face.spark, QRectF(9, 60, w - 18, 20), "petrol")
        self._text(painter, QRectF(9, h - 21, w - 17, 16), self.face.figure, 11, "petrol", right=True)

    def _paint_control(self, painter: QPainter, w: float, h: float) -> None:
        icon = QRectF(7, 8, 30, 26)
        painter.setPen(QPen(colour("hairline"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(icon)
        if self.face.kind.mark:
            painter.setFont(font(13, bold=True))
            painter.setPen(colour("petrol"))
            painter.drawText(icon, Qt.AlignmentFlag.AlignCenter, self.face.kind.mark)
        else:
            self._curve(painter, np.array(self.face.kind.shape), icon.adjusted(5, 5, -4, -5), "petrol")
        room = w - (60 if self.face.trouble else 47)
        first, second = two_lines(self.face.name, QFontMetricsF(font(12, bold=True)), room)
        rate = QRectF(43, h - 18, w - 49, 14)
        self._text(painter, rate, self.face.rate, 11, "brass_text", right=True)
        if second:
            self._text(painter, QRectF(43, 4, room, 16), first, 12, "ink", bold=True)
            self._text(painter, QRectF(43, 19, w - 47, 16), second, 12, "ink", bold=True)
            area = QRectF(8, h - 18, w - 18 - QFontMetricsF(font(11)).horizontalAdvance(self.face.rate), 14)
        else:
            self._text(painter, QRectF(43, 6, room, 17), first, 12, "ink", bold=True)
            area = QRectF(43, 23, w - 47, 14)
        for line in self.face.lines[:1]:
            self._text(painter, area, line, 11, "muted")

    def _curve(self, painter: QPainter, points: np.ndarray, rect: QRectF, role: str) -> None:
        if not len(points):
            return
        painter.setPen(QPen(colour(role), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(
            QPolygonF([QPointF(rect.x() + x * rect.width(), rect.bottom() - y * rect.height()) for x, y in points])
        )


def two_lines(name: str, metrics: QFontMetricsF, width: float) -> tuple[str, str]:
    """A name on one line, or broken where its words let it."""
    words = name.split()
    if metrics.horizontalAdvance(name) <= width or len(words) < 2:
        return name, ""
    fits = (n for n in range(len(words) - 1, 0, -1) if metrics.horizontalAdvance(" ".join(words[:n])) <= width)
    n = next(fits, 1)
    return " ".join(words[:n]), " ".join(words[n:])


RIM = tuple(QPointF(1.75 * math.cos(k * math.pi / 4), 1.75 * math.sin(k * math.pi / 4)) for k in range(8))
"""Places about written words, px, at which they are written first in the ground's colour."""


def words_width(text: str) -> float:
    return QFontMetricsF(font(11)).horizontalAdvance(text)


def with_halo(painter: QPainter, at: QPointF, text: str, role: str) -> None:
    """Words among wires: in front of a rim of the ground's colour."""
    painter.setFont(font(11))
    painter.setPen(colour("paper"))
    for aside in RIM:
        painter.drawText(at + aside, text)
    painter.setPen(colour(role))
    painter.drawText(at, text)


class WireItem(QGraphicsItem):
    """A wire in the line style of its domain."""

    def __init__(self, key: str, link: str, label: str):
        super().__init__()
        self.key, self.link, self.label = key, link, label
        self.path: list[Point] = []
        self.selected = False
        self.tap = ""
        self.bundle: list[str] = []
        """A line for each signal where it stands for several."""
        self.words_at: Point | None = None
        """Baseline of its label or tap, where it has one."""
        self.setZValue(1)

    def set_path(self, path: list[Point]) -> None:
        self.prepareGeometryChange()
        self.path = path

    @property
    def lines(self) -> list[list[Point]]:
        """What is drawn of it: its path, once that is found."""
        return [self.path] if len(self.path) > 1 else []

    @property
    def in_the_way(self) -> list[list[Point]]:
        """What words keep clear of."""
        return self.lines

    def distance(self, point: Point) -> float:
        """From a point of the sheet, px."""
        return min((distance_to_path(line, point) for line in self.lines), default=math.inf)

    @property
    def words(self) -> str:
        """What is written at it: the name of a tap, else what a part's signal is."""
        return self.tap or self.label if self.link in ("continuous", "sampled") else ""

    def place_words(self, obstacles: Obstacles) -> None:
        """Write its words where nothing crosses them; where there is no such place they are shown on hover
        only."""
        self.prepareGeometryChange()
        self.setToolTip("\n".join([*self.bundle, "Double click opens it."]) if self.bundle else self.words)
        self.words_at = None
        if self.words and len(self.path) > 1:
            width = words_width(self.words)
            self.words_at = obstacles.place(width, along_wire(self.path, width))

    def words_box(self) -> Box | None:
        return box_of(self.words_at, words_width(self.words)) if self.words_at else None

    def boundingRect(self) -> QRectF:
        if not self.path:
            return QRectF()
        xs, ys = [p[0] for p in self.path], [p[1] for p in self.path]
        line = QRectF(min(xs) - 10, min(ys) - 10, max(xs) - min(xs) + 20, max(ys) - min(ys) + 20)
        words = self.words_box()
        return line.united(QRectF(words.x - 4, words.y - 4, words.w + 8, words.h + 8)) if words else line

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        if not self.lines:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.selected:
            painter.setPen(QPen(colour("petrol_tint"), 10, cap=Qt.PenCapStyle.RoundCap, join=Qt.PenJoinStyle.RoundJoin))
            painter.drawPath(self._line())
        {
            "dc": self._paint_dc,
            "three-phase": self._paint_three_phase,
            "shaft": self._paint_shaft,
            "rod": self._paint_rod,
            "line": self._paint_line,
            "heat": self._paint_heat,
        }.get(self.link, self._paint_signal)(painter)

    def _line(self) -> QPainterPath:
        path = QPainterPath()
        for line in self.lines:
            path.moveTo(QPointF(*line[0]))
            for point in line[1:]:
                path.lineTo(QPointF(*point))
        return path

    def _paint_dc(self, painter: QPainter) -> None:
        """Two thin lines."""
        self._paint_side_by_side(painter, ("ink", 7.0), ("paper", 4.6))

    def _paint_three_phase(self, painter: QPainter) -> None:
        """Three hairlines."""
        self._paint_side_by_side(painter, ("ink", 10.0), ("paper", 8.0), ("ink", 1.0))

    def _paint_side_by_side(self, painter: QPainter, *strokes: tuple[str, float]) -> None:
        """Lines side by side: a wide stroke with narrower ones of the ground colour and of ink on it."""
        for role, width in strokes:
            painter.setPen(QPen(colour(role), width, cap=Qt.PenCapStyle.FlatCap, join=Qt.PenJoinStyle.MiterJoin))
            painter.drawPath(self._line())

    def _paint_line(self, painter: QPainter) -> None:
        painter.setPen(QPen(colour("ink"), 1.4, join=Qt.PenJoinStyle.MiterJoin))
        painter.drawPath(self._line())

    def _paint_heat(self, painter: QPainter) -> None:
        """A warm row of dots."""
        pen = QPen(colour("brick"), 2.6, cap=Qt.PenCapStyle.RoundCap)
        pen.setDashPattern([0.1, 2.2])
        painter.setPen(pen)
        painter.drawPath(self._line())

    def _paint_shaft(self, painter: QPainter) -> None:
        painter.setPen(QPen(colour("muted"), 5, cap=Qt.PenCapStyle.RoundCap, join=Qt.PenJoinStyle.RoundJoin))
        painter.drawPath(self._line())

    def _paint_rod(self, painter: QPainter) -> None:
        self._paint_shaft(painter)
        painter.setPen(QPen(colour("paper"), 1.4, cap=Qt.PenCapStyle.RoundCap))
        painter.drawPath(self._line())

    def _paint_signal(self, painter: QPainter) -> None:
        pen = QPen(colour("petrol"), 3.0 if self.bundle else 1.3)
        if self.link == "sampled":
            pen.setDashPattern([5, 1.5] if self.bundle else [14, 2])
        painter.setPen(pen)
        painter.drawPath(self._line())
        (ax, ay), (bx, by) = self.lines[-1][-2:]
        size = abs(bx - ax) + abs(by - ay) or 1.0
        dx, dy = (bx - ax) / size, (by - ay) / size
        painter.setPen(QPen(colour("petrol"), 1.3))
        for side in (1, -1):
            painter.drawLine(QPointF(bx, by), QPointF(bx - 7 * dx + 3.5 * side * dy, by - 7 * dy - 3.5 * side * dx))
        if self.bundle:
            self._paint_count(painter)
        if self.tap:
            painter.setBrush(colour("card"))
            painter.drawEllipse(QPointF(*self._middle()), 4, 4)
        if self.words_at:
            with_halo(painter, QPointF(*self.words_at), self.words, "petrol")

    def _paint_count(self, painter: QPainter) -> None:
        """How many signals, beside a stroke across the line."""
        a, b = self._longest()
        x, y = (a[0] + b[0]) / 2, (a[1] + b[1]) / 2
        painter.setPen(QPen(colour("petrol"), 1.3))
        painter.drawLine(QPointF(x - 4, y + 5), QPointF(x + 4, y - 5))
        beside = QPointF(x + 6, y - 3) if a[1] == b[1] else QPointF(x + 5, y - 4)  # a card may be just above
        with_halo(painter, beside, str(len(self.bundle)), "petrol")

    def _longest(self) -> tuple[Point, Point]:
        return max(
            (s for line in self.lines for s in segments(line)),
            key=lambda s: abs(s[0][0] - s[1][0]) + abs(s[0][1] - s[1][1]),
        )

    def _middle(self) -> Point:
        a, b = self._longest()
        return (a[0] + b[0]) / 2, (a[1] + b[1]) / 2


class BoundaryItem(QGraphicsItem):
    """The dotted line between the decks, with their names."""

    def __init__(self) -> None:
        super().__init__()
        self.height, self.left, self.right, self.tick = 300.0, 0.0, 760.0, ""
        self.words_at: Point | None = None
        self.names: list[tuple[str, Point]] = []
        """The decks' names and their baselines."""
        self.setZValue(1.5)  # its words stand above the wires

    def boundingRect(self) -> QRectF:
        return QRectF(self.left - 10, -20, self.right - self.left + 20, self.height + 60)

    @property
    def words(self) -> str:
        return f"sampled below this line · {self.tick}"

    def place(self, height: float, left: float, right: float, tick: str) -> None:
        self.prepareGeometryChange()
        self.height, self.left, self.right, self.tick = height, left, right, tick

    def place_words(self, obstacles: Obstacles) -> None:
        """The decks' names first, then what the line between them is."""
        self.names = []
        metrics = QFontMetricsF(font(11, bold=True))
        for name, height in (("Power deck", 16.0), ("Control deck", self.height + 18)):
            at = obstacles.place(metrics.horizontalAdvance(name), on_line(self.left, self.right, height))
            self.names += [(name, at)] if at else []
        width = words_width(self.words)
        self.words_at = obstacles.place(width, on_boundary(self.left, self.right, self.height, width))

    def words_box(self) -> Box | None:
        return box_of(self.words_at, words_width(self.words)) if self.words_at else None

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        pen = QPen(colour("muted"), 1.6, Qt.PenStyle.CustomDashLine, Qt.PenCapStyle.RoundCap)
        pen.setDashPattern([0.1, 4])
        painter.setPen(pen)
        painter.drawLine(QPointF(self.left, self.height), QPointF(self.right, self.height))
        painter.setPen(colour("muted"))
        painter.setFont(font(11, bold=True))
        for name, at in self.names:
            painter.drawText(QPointF(*at), name)
        if self.words_at:
            with_halo(painter, QPointF(*self.words_at), self.words, "muted")

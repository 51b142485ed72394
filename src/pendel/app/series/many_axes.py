"""Rows over many columns at once: each on axes side by side, or every column over every other.

Inselberg: Parallel Coordinates, Springer 2009; Cleveland: Visualizing Data, Hobart 1993 (scatter-plot matrix).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QWidget

from pendel.app.plots.shades import SHADES, line_shade
from pendel.app.series.pictures import axis_words
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import colour, font
from pendel.core.quantities.units import number_text
from pendel.core.series.gathered import Gathered, Head

MOST_LINES = 4000
"""Rows that are drawn; of more, evenly chosen ones."""
REACH, DRAG = 14, 4
"""px: how near a click is to a row, and from where on a press is a drag."""

Ranges = dict[int, tuple[float, float]]
"""From where to where a column is kept, in SI."""


@dataclass
class Shown:
    """Rows to draw: their places, all columns as shares of their own range (0 to 1, not-a-number where there is none),
    which of them are kept, how dark each is, and the range of each column in SI."""

    places: np.ndarray
    shares: np.ndarray
    kept: np.ndarray
    dark: np.ndarray
    low: np.ndarray
    high: np.ndarray


def shown_of(gathered: Gathered, columns: list[int], kept: np.ndarray, figure: int) -> Shown:
    """``kept`` are places of rows that fulfil what is typed; ``figure`` is the column that shades."""
    places = np.arange(gathered.count)
    if len(places) > MOST_LINES:
        places = np.unique(np.linspace(0, gathered.count - 1, MOST_LINES).astype(int))
    cells = gathered.cells
    low, high = np.zeros(len(columns)), np.ones(len(columns))
    shares = np.full((len(places), len(columns)), np.nan)
    for k, column in enumerate(columns):
        y = cells[:, column]
        y = y[np.isfinite(y)]
        if not len(y):
            continue
        low[k], high[k] = y.min(), y.max()
        span = high[k] - low[k]
        values = np.where(np.isfinite(cells[places, column]), cells[places, column], np.nan)
        shares[:, k] = (values - low[k]) / span if span > 0 else values * 0 + 0.5
    at = columns.index(figure) if figure in columns else -1
    dark = np.nan_to_num(shares[:, at]) if at >= 0 else np.ones(len(places))
    return Shown(places, shares, np.isin(places, kept), dark, low, high)


def tick_words(head: Head, si: float) -> str:
    if head.words:
        place = int(round(si))
        return head.words[place] if 0 <= place < len(head.words) else ""
    return number_text(head.shown(si), 3)


class ManyColumns(QWidget):
    """Draws rows of many columns. ``row_chosen`` gives the place of a row that was clicked, ``narrowed`` `Ranges` that
    were drawn with the mouse; an endless range lifts that of its column."""

    row_chosen = pyqtSignal(int)
    narrowed = pyqtSignal(object)
    MOST = 8

    def __init__(self, name: str):
        super().__init__()
        self.setAccessibleName(name)
        self.setMinimumSize(200, 120)
        self.gathered: Gathered | None = None
        self.columns: list[int] = []
        self.left_out = 0
        self.shown: Shown | None = None
        self.chosen = -1
        self._picture: QPixmap | None = None
        self._from: QPointF | None = None
        self._to: QPointF | None = None

    def sizeHint(self) -> QSize:
        return QSize(500, 300)

    def show_rows(self, gathered: Gathered, places: np.ndarray, figure: int, chosen: int) -> None:
        """What varies, the figure that shades, and as many other figures as there is room for."""
        count = len(gathered.heads)
        order = [*range(gathered.axes), figure, *range(gathered.axes, count)]
        columns = list(dict.fromkeys(order))
        self.left_out = max(0, len(columns) - self.MOST)
        kept = [*columns[: self.MOST]]
        if figure not in kept:
            kept[-1] = figure
        self.gathered, self.columns, self.chosen = gathered, kept, chosen
        self.shown = shown_of(gathered, kept, places, figure)
        names = ", ".join(gathered.heads[c].short for c in kept)
        self.setAccessibleDescription(f"{len(places)} of {gathered.count} rows over {names}")
        self._redraw()

    def choose_place(self, place: int) -> None:
        self.chosen = place
        self.update()

    def _redraw(self) -> None:
        self._picture = None
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._redraw()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        if self.shown is None or self.gathered is None or not self.columns:
            return
        size = self.size() * self.devicePixelRatioF()
        if self._picture is None or self._picture.size() != size:
            self._picture = QPixmap(size)
            self._picture.setDevicePixelRatio(self.devicePixelRatioF())
            self._picture.fill(colour("plot"))
            inner = QPainter(self._picture)
            inner.setRenderHint(QPainter.RenderHint.Antialiasing)
            inner.setFont(font(11))
            self.draw_rows(inner, self.shown)
            inner.end()
        painter.drawPixmap(0, 0, self._picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(11))
        at = np.flatnonzero(self.shown.places == self.chosen)
        if len(at):
            self.draw_chosen(painter, int(at[0]))
        self.draw_drag(painter)

    def pens(self, width: float) -> list[QPen]:
        return [QPen(line_shade(k / (SHADES - 1)), width) for k in range(SHADES)]

    def order(self, shown: Shown) -> np.ndarray:
        """In which rows are drawn: those that are left out first, then from pale to dark."""
        return np.lexsort((shown.dark, shown.kept))

    if TYPE_CHECKING:  # what each way of drawing says of itself

        def draw_rows(self, painter: QPainter, shown: Shown) -> None: ...

        def draw_chosen(self, painter: QPainter, at: int) -> None: ...

        def draw_drag(self, painter: QPainter) -> None: ...

        def ranges(self, a: QPointF, b: QPointF) -> Ranges:
            """What a drag from one place to another keeps."""

        def nearest(self, at: QPointF) -> int:
            """The place of the row next to a click, -1 for none."""

        def lifted(self, at: QPointF) -> Ranges:
            """Columns whose ranges a double click lifts."""

    def draw_note(self, painter: QPainter) -> None:
        if self.left_out:
            painter.setPen(colour("muted"))
            words = f"{self.left_out} more column{'s' if self.left_out > 1 else ''} in the table"
            painter.drawText(QRectF(0, self.height() - 16, self.width() - 6, 15), Qt.AlignmentFlag.AlignRight, words)

    # the mouse ---------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() == Qt.MouseButton.LeftButton:
            self._from = self._to = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._from is not None:
            self._to = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        begun, self._from, self._to = self._from, None, None
        self.update()
        if begun is None or self.shown is None:
            return
        if (event.position() - begun).manhattanLength() >= DRAG:
            if ranges := self.ranges(begun, event.position()):
                self.narrowed.emit(ranges)
        elif (place := self.nearest(event.position())) >= 0:
            self.row_chosen.emit(place)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.shown is not None and (lifted := self.lifted(event.position())):
            self.narrowed.emit(lifted)

    @property
    def drag(self) -> tuple[QPointF, QPointF] | None:
        if self._from is None or self._to is None or (self._to - self._from).manhattanLength() < DRAG:
            return None
        return self._from, self._to

    def in_si(self, k: int, share: float) -> float:
        assert self.shown is not None
        share = min(1.0, max(0.0, share))
        return float(self.shown.low[k] + share * (self.shown.high[k] - self.shown.low[k]))


NO_RANGE = (float("-inf"), float("inf"))


class ParallelAxes(ManyColumns):
    """An axis to a column, a line to a row. A drag along an axis keeps the rows that cross it there."""

    TOP, BOTTOM, SIDE = 34, 34, 58

    def __init__(self) -> None:
        super().__init__("Rows on parallel axes")
        explained_by(self, "plot:parallel")
        self.setToolTip("A click chooses a row; a drag along an axis keeps the rows there, a double click lifts that")

    def x(self, k: int) -> float:
        room = self.width() - 2 * self.SIDE
        return self.SIDE + (room * k / (len(self.columns) - 1) if len(self.columns) > 1 else room / 2)

    def y(self, share: float) -> float:
        return self.height() - self.BOTTOM - share * (self.height() - self.TOP - self.BOTTOM)

    def line(self, at: int) -> QPolygonF:
        assert self.shown is not None
        shares = self.shown.shares[at]
        return QPolygonF([QPointF(self.x(k), self.y(s)) for k, s in enumerate(shares) if s == s])

    def draw_rows(self, painter: QPainter, shown: Shown) -> None:
        pens, pale = self.pens(1.2), QPen(colour("hairline"), 0.8)
        for at in self.order(shown):
            pen = pens[int(round(shown.dark[at] * (SHADES - 1)))] if shown.kept[at] else pale
            painter.setPen(pen)
            painter.drawPolyline(self.line(int(at)))
        self._draw_axes(painter, shown)
        self.draw_note(painter)

    def _draw_axes(self, painter: QPainter, shown: Shown) -> None:
        assert self.gathered is not None
        metrics = painter.fontMetrics()
        room = (self.width() - 2 * self.SIDE) / max(1, len(self.columns) - 1)
        for k, column in enumerate(self.columns):
            head, x = self.gathered.heads[column], self.x(k)
            painter.setPen(QPen(colour("ink"), 1.2))
            painter.drawLine(QLineF(x, self.y(0), x, self.y(1)))
            width = min(room - 6, 2 * self.SIDE - 4) if len(self.columns) > 1 else 2 * self.SIDE
            words = metrics.elidedText(axis_words(head), Qt.TextElideMode.ElideMiddle, int(width))
            centre = Qt.AlignmentFlag.AlignHCenter
            box = QRectF(x - width / 2, 0, width, 15)
            painter.drawText(box, centre, words)
            painter.setPen(colour("muted"))
            painter.drawText(box.translated(0, 16), centre, tick_words(head, shown.high[k]))
            painter.drawText(QRectF(x - width / 2, self.y(0) + 3, width, 15), centre, tick_words(head, shown.low[k]))

    def draw_chosen(self, painter: QPainter, at: int) -> None:
        painter.setPen(QPen(colour("brick"), 2.2))
        painter.drawPolyline(self.line(at))

    def draw_drag(self, painter: QPainter) -> None:
        if self.drag is None:
            return
        k = self.axis_at(self.drag[0])
        tint = QColor(colour("petrol"))
        tint.setAlpha(70)
        top, bottom = sorted((self.drag[0].y(), self.drag[1].y()))
        painter.fillRect(QRectF(self.x(k) - 9, top, 18, bottom - top), tint)

    def axis_at(self, at: QPointF) -> int:
        return int(np.argmin([abs(self.x(k) - at.x()) for k in range(len(self.columns))]))

    def _share(self, y: float) -> float:
        return (self.y(0) - y) / max(1.0, self.y(0) - self.y(1))

    def ranges(self, a: QPointF, b: QPointF) -> Ranges:
        k = self.axis_at(a)
        low, high = sorted((self._share(a.y()), self._share(b.y())))
        return {self.columns[k]: (self.in_si(k, low), self.in_si(k, high))}

    def lifted(self, at: QPointF) -> Ranges:
        return {self.columns[self.axis_at(at)]: NO_RANGE}

    def nearest(self, at: QPointF) -> int:
        assert self.shown is not None
        if len(self.columns) < 2:
            return -1
        xs = np.array([self.x(k) for k in range(len(self.columns))])
        k = int(np.clip(np.searchsorted(xs, at.x()) - 1, 0, len(xs) - 2))
        part = min(1.0, max(0.0, (at.x() - xs[k]) / (xs[k + 1] - xs[k])))
        shares = self.shown.shares[:, k] * (1 - part) + self.shown.shares[:, k + 1] * part
        away = np.abs(shares - self._share(at.y())) * (self.y(0) - self.y(1))
        away = np.where(self.shown.kept & np.isfinite(away), away, np.inf)
        best = int(np.argmin(away)) if len(away) else -1
        return int(self.shown.places[best]) if best >= 0 and away[best] < REACH else -1


class ScatterMatrix(ManyColumns):
    """Every column over every other, and on the diagonal how each is spread. A drag keeps the rows in it."""

    MOST = 6
    LEFT, FOOT, GAP = 52, 30, 5

    def __init__(self) -> None:
        super().__init__("Every column over every other")
        explained_by(self, "plot:matrix")
        self.setToolTip("A click chooses a row; a drag over a field keeps the rows in it, a double click lifts that")

    def field(self, i: int, j: int) -> QRectF:
        """Of row ``i`` from above, column ``j`` from the left."""
        n = len(self.columns)
        width, height = (self.width() - self.LEFT - 4) / n, (self.height() - self.FOOT - 4) / n
        return QRectF(self.LEFT + j * width, 2 + i * height, width - self.GAP, height - self.GAP)

    def dot(self, i: int, j: int, at: int) -> QPointF | None:
        assert self.shown is not None
        across, up = self.shown.shares[at, j], self.shown.shares[at, i]
        if across != across or up != up:
            return None
        box = self.field(i, j).adjusted(4, 4, -4, -4)
        return QPointF(box.left() + across * box.width(), box.bottom() - up * box.height())

    def draw_rows(self, painter: QPainter, shown: Shown) -> None:
        n = len(self.columns)
        brushes, order = [pen.color() for pen in self.pens(1)], self.order(shown)
        for i in range(n):
            for j in range(n):
                painter.setPen(QPen(colour("hairline"), 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(self.field(i, j))
                if i == j:
                    self._draw_spread(painter, shown, i)
                    continue
                painter.setPen(Qt.PenStyle.NoPen)
                for at in order:
                    if (dot := self.dot(i, j, int(at))) is not None:
                        kept = shown.kept[at]
                        tint = brushes[int(round(shown.dark[at] * (SHADES - 1)))] if kept else colour("hairline")
                        painter.setBrush(tint)
                        painter.drawEllipse(dot, 2.2, 2.2)
        self._draw_words(painter, shown)
        self.draw_note(painter)

    def _draw_spread(self, painter: QPainter, shown: Shown, k: int) -> None:
        shares = shown.shares[shown.kept, k]
        shares = shares[np.isfinite(shares)]
        if not len(shares):
            return
        counts, _ = np.histogram(shares, bins=12, range=(0, 1))
        box = self.field(k, k).adjusted(4, 16, -4, -2)
        for bin_, count in enumerate(counts):
            height = box.height() * count / counts.max()
            bar = QRectF(box.left() + bin_ * box.width() / 12, box.bottom() - height, box.width() / 12 - 1, height)
            painter.fillRect(bar, colour("petrol_tint"))

    def _draw_words(self, painter: QPainter, shown: Shown) -> None:
        assert self.gathered is not None
        metrics, n = painter.fontMetrics(), len(self.columns)
        for k, column in enumerate(self.columns):
            head, own = self.gathered.heads[column], self.field(k, k)
            painter.setPen(colour("ink"))
            name = metrics.elidedText(axis_words(head), Qt.TextElideMode.ElideMiddle, int(own.width() - 6))
            painter.drawText(own.adjusted(4, 1, -2, 0), Qt.AlignmentFlag.AlignLeft, name)
            painter.setPen(colour("muted"))
            low, high = tick_words(head, shown.low[k]), tick_words(head, shown.high[k])
            side = QRectF(0, own.top(), self.LEFT - 5, own.height())
            right = Qt.AlignmentFlag.AlignRight
            painter.drawText(side, right | Qt.AlignmentFlag.AlignTop, high)
            painter.drawText(side, right | Qt.AlignmentFlag.AlignBottom, low)
            foot = QRectF(own.left(), self.field(n - 1, k).bottom() + 1, own.width(), 14)
            painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, low)
            if metrics.horizontalAdvance(low + high) + 8 < own.width():
                painter.drawText(foot, right, high)

    def draw_chosen(self, painter: QPainter, at: int) -> None:
        painter.setPen(QPen(colour("brick"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for i in range(len(self.columns)):
            for j in range(len(self.columns)):
                if i != j and (dot := self.dot(i, j, at)) is not None:
                    painter.drawEllipse(dot, 5, 5)

    def draw_drag(self, painter: QPainter) -> None:
        if self.drag is not None:
            tint = QColor(colour("petrol"))
            tint.setAlpha(60)
            painter.fillRect(QRectF(*self.drag).normalized(), tint)

    def field_at(self, at: QPointF) -> tuple[int, int] | None:
        n = range(len(self.columns))
        return next(((i, j) for i in n for j in n if i != j and self.field(i, j).contains(at)), None)

    def ranges(self, a: QPointF, b: QPointF) -> Ranges:
        if (place := self.field_at(a)) is None:
            return {}
        i, j = place
        box, drawn = self.field(i, j).adjusted(4, 4, -4, -4), QRectF(a, b).normalized()
        across = [(x - box.left()) / box.width() for x in (drawn.left(), drawn.right())]
        up = [(box.bottom() - y) / box.height() for y in (drawn.bottom(), drawn.top())]
        return {
            self.columns[j]: (self.in_si(j, across[0]), self.in_si(j, across[1])),
            self.columns[i]: (self.in_si(i, up[0]), self.in_si(i, up[1])),
        }

    def lifted(self, at: QPointF) -> Ranges:
        place = self.field_at(at)
        return {self.columns[k]: NO_RANGE for k in place} if place is not None else {}

    def nearest(self, at: QPointF) -> int:
        assert self.shown is not None
        if (place := self.field_at(at)) is None:
            return -1
        dots = ((self.dot(*place, n), n) for n in range(len(self.shown.places)) if self.shown.kept[n])
        away = [((dot - at).manhattanLength(), n) for dot, n in dots if dot is not None]
        best = min(away, default=(float(REACH), -1))
        return int(self.shown.places[best[1]]) if best[0] < REACH else -1


__all__ = ["ParallelAxes", "ScatterMatrix"]

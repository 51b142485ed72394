"""A profile over time, edited as a curve with draggable corners and as a table."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from pendel.app.drive.editors.text_table import TextTable
from pendel.app.plots.thinning import thinned
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row
from pendel.app.widgets.pictures import with_picture_menu
from pendel.app.widgets.theme import colour, font
from pendel.core.drive import commands
from pendel.core.quantities.units import number_text, unit

LEFT, RIGHT, TOP, BOTTOM = 44, 12, 12, 24
MOST_HANDLES, MOST_ROWS = 300, 1000
"""Corners that can be taken hold of, and that the table lists: of a measured profile there may be a
million."""


class ProfileCurve(QWidget):
    """The curve. Drag a corner; double-click to add one; Delete removes the chosen one."""

    moved = pyqtSignal(int, float, float)
    added = pyqtSignal(float, float)
    removed = pyqtSignal(int)
    dropped = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.points: list[tuple[float, float]] = []
        self.extremes = (0.0, 0.0)
        self.span = 1.0
        self.chosen = -1
        self.dragging = False
        self.frozen: tuple[float, float] | None = None
        self.setMinimumHeight(170)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Profile curve")
        with_picture_menu(self)

    def limits(self) -> tuple[float, float]:
        if self.frozen is not None:
            return self.frozen
        low, high = self.extremes
        room = (high - low) * 0.15 or 1.0
        return low - (room if low < 0 else 0.0), high + room

    def to_screen(self, t: float, v: float) -> QPointF:
        low, high = self.limits()
        return QPointF(
            LEFT + t / self.span * (self.width() - LEFT - RIGHT),
            self.height() - BOTTOM - (v - low) / (high - low) * (self.height() - TOP - BOTTOM),
        )

    def from_screen(self, at: QPointF) -> tuple[float, float]:
        low, high = self.limits()
        t = (at.x() - LEFT) / (self.width() - LEFT - RIGHT) * self.span
        v = low + (self.height() - BOTTOM - at.y()) / (self.height() - TOP - BOTTOM) * (high - low)
        return max(0.0, t), v

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ground = QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)
        painter.fillRect(ground, colour("plot"))
        painter.setPen(QPen(colour("petrol") if self.hasFocus() else colour("hairline"), 1))
        painter.drawRect(ground)
        low, high = self.limits()
        painter.setFont(font(10.5))
        painter.setPen(colour("muted"))
        painter.drawText(QRectF(0, TOP - 2, LEFT - 4, 14), Qt.AlignmentFlag.AlignRight, number_text(high, 3))
        painter.drawText(
            QRectF(0, self.height() - BOTTOM - 12, LEFT - 4, 14),
            Qt.AlignmentFlag.AlignRight,
            number_text(low, 3),
        )
        painter.drawText(QRectF(LEFT, self.height() - BOTTOM + 4, 60, 14), 0, "0")
        painter.drawText(
            QRectF(self.width() - RIGHT - 80, self.height() - BOTTOM + 4, 80, 14),
            Qt.AlignmentFlag.AlignRight,
            f"{number_text(self.span, 3)} s",
        )
        if not self.points:
            painter.drawText(ground, Qt.AlignmentFlag.AlignCenter, "Double-click to add a corner")
            return
        first, last = self.points[0], self.points[-1]
        t, v = (np.array(column) for column in zip(*self.points))
        t, v = thinned(t, v, 0.0, max(self.span, last[0]), self.width())
        line = [
            self.to_screen(0, first[1]),
            *(self.to_screen(*p) for p in zip(t.tolist(), v.tolist())),
            self.to_screen(max(self.span, last[0]), last[1]),
        ]
        painter.setPen(QPen(colour("petrol"), 1.6))
        painter.drawPolyline(QPolygonF(line))
        for n, point in enumerate(self.points if len(self.points) <= MOST_HANDLES else ()):
            painter.setBrush(colour("petrol") if n == self.chosen else colour("card"))
            painter.drawEllipse(self.to_screen(*point), 5, 5)

    def corner_at(self, at: QPointF) -> int:
        if len(self.points) > MOST_HANDLES:
            return -1
        near = [((self.to_screen(*p) - at).manhattanLength(), n) for n, p in enumerate(self.points)]
        return min(near)[1] if near and min(near)[0] < 12 else -1

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.chosen = self.corner_at(event.position())
        self.dragging = self.chosen >= 0
        self.frozen = self.limits() if self.dragging else None
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.dragging:
            t, v = self.from_screen(event.position())
            low = self.points[self.chosen - 1][0] if self.chosen else 0.0
            high = self.points[self.chosen + 1][0] if self.chosen + 1 < len(self.points) else max(self.span, t)
            self.moved.emit(self.chosen, min(max(t, low), high), v)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self.dragging:
            self.dragging, self.frozen = False, None
            self.dropped.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.corner_at(event.position()) < 0:
            self.added.emit(*self.from_screen(event.position()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen >= 0:
            self.removed.emit(self.chosen)
            self.chosen = -1
        else:
            super().keyPressEvent(event)


class ProfileEditor(QWidget):
    """Curve and table of one card's profile. One drag is one undo step."""

    def __init__(self, session: Session, card: str, value_label: str, unit_text: str):
        super().__init__()
        self.session, self.card, self.unit = session, card, "" if unit_text == "*" else unit_text
        self.drags = 0
        body = column(self, (0, 4, 0, 4), 6)
        self.curve = ProfileCurve()
        self.curve.moved.connect(self._drag)
        self.curve.added.connect(self._add)
        self.curve.removed.connect(self._remove)
        self.curve.dropped.connect(self._drop)
        body.addWidget(self.curve)
        heading = f"{value_label}, {self.unit}" if self.unit else value_label
        self.table = TextTable("Profile table", ("Time, s", heading))
        self.table.typed.connect(self._typed)
        body.addWidget(self.table)
        body.addLayout(row(button("Add corner", self._append), button("Delete corner", self._remove_row), 1))
        self.more = label("", "muted")
        body.addWidget(self.more)
        self.note = label("", "wrong")
        self.note.setWordWrap(True)
        body.addWidget(self.note)
        self.refresh()

    def refresh(self) -> None:
        card = self.session.drive.cards[self.card]
        examined = self.session.examined
        times, values = examined.profiles.get(self.card, ([], []))
        factor = unit(self.unit)[0]
        self.curve.points = [(t, v / factor) for t, v in zip(times, values)]
        heights = [0.0, *(v for _, v in self.curve.points)]
        self.curve.extremes = (min(heights), max(heights))
        self.curve.span = max([examined.settings.get("until", 1.0), *times])
        self.curve.update()
        self.table.show_rows(card.profile[:MOST_ROWS])
        wrong = [f for f in examined.findings if f.card == self.card and f.field.startswith("profile")]
        more = len(card.profile) - MOST_ROWS
        self.more.setText(f"and {number_text(more)} more corners, in the curve only" if more > 0 else "")
        self.note.setText(wrong[0].sentence if wrong else "")

    def _set(self, points: list[tuple[str, str]], gesture: str = "") -> None:
        self.session.attempt(lambda: commands.set_profile(self.session.drive, self.card, points, gesture))

    def _points(self) -> list[tuple[str, str]]:
        return list(self.session.drive.cards[self.card].profile)

    def _drag(self, n: int, t: float, v: float) -> None:
        points = self._points()
        points[n] = (f"{t:.4g} s", f"{v:.4g}")
        self._set(points, f"drag corner {self.drags} of {self.card}")

    def _drop(self) -> None:
        self.drags += 1
        self.refresh()

    def _add(self, t: float, v: float) -> None:
        points = self._points()
        place = sum(1 for time, _ in self.curve.points if time <= t)
        points.insert(place, (f"{t:.4g} s", f"{v:.4g}"))
        self._set(points)

    def _append(self) -> None:
        last = self.curve.points[-1] if self.curve.points else (0.0, 0.0)
        self._set([*self._points(), (f"{last[0] + 0.1:.4g} s", f"{last[1]:.4g}")])

    def _remove(self, n: int) -> None:
        points = self._points()
        del points[n]
        self._set(points)

    def _remove_row(self) -> None:
        n = self.table.currentRow()
        if n < 0:
            n = self.curve.chosen
        if 0 <= n < len(self._points()):
            self._remove(n)

    def _typed(self, n: int, column_: int, text: str) -> None:
        points = self._points()
        if n >= len(points) or points[n][column_] == text:
            return
        changed = list(points[n])
        changed[column_] = text
        points[n] = (changed[0], changed[1])
        self._set(points)

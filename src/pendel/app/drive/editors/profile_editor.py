"""A profile over time, edited as a curve with draggable corners and as a table."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QInputDialog, QMenu, QMessageBox, QWidget

from pendel.app.drive.editors.text_table import TextTable
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.pictures import with_picture_menu
from pendel.app.widgets.table_dialog import put_at, taken_from_file, taken_from_text
from pendel.app.widgets.theme import colour, font
from pendel.core.check.signal_units import signal_unit
from pendel.core.drive import commands
from pendel.core.drive.cycles import CYCLES, cycle, joined, mirrored, repeated, trip
from pendel.core.drive.document import End
from pendel.core.errors import FileProblem
from pendel.core.formats.cells import gap_in
from pendel.core.quantities.plain_numbers import plain_numbers
from pendel.core.quantities.units import figure, number_text, unit
from pendel.core.runs.record.drawn import thinned

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
        self.unit_text = ""
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
        painter.drawText(ground.adjusted(6, 3, 0, 0), 0, self.unit_text)
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
        self.session, self.card, self.label = session, card, value_label
        self.unit = "" if unit_text == "*" else unit_text
        self.drags = 0
        self.gap = ""
        """What was missing in the table that was taken last."""
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
        self.table.pasted.connect(self.paste)
        self.menu_button = button("Take or change", lambda: None)
        self.menu_button.setMenu(self._menu())
        add, delete = button("Add corner", self._append), button("Delete corner", self._remove_row)
        body.addLayout(row(add, delete, 1))
        body.addLayout(row(self.menu_button, 1))
        self.more = wrapped("", "muted")
        body.addWidget(self.more)
        self.note = label("", "wrong")
        self.note.setWordWrap(True)
        body.addWidget(self.note)
        self.refresh()

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("From a file …", lambda: self.take())
        for each in CYCLES:
            menu.addAction(each.title, lambda _=False, each=each: self.take_cycle(each.name))
        menu.addSeparator()
        menu.addAction("Repeat …", lambda: self.repeat())
        menu.addAction("Turn round in time", self.mirror)
        return menu

    def refresh(self) -> None:
        card = self.session.drive.cards[self.card]
        examined = self.session.examined
        times, values = examined.profiles.get(self.card, ([], []))
        factor = unit(self.unit)[0]
        self.curve.unit_text = self._unit()
        self.curve.points = [(t, v / factor) for t, v in zip(times, values)]
        heights = [0.0, *(v for _, v in self.curve.points)]
        self.curve.extremes = (min(heights), max(heights))
        self.curve.span = max([examined.settings.get("until", 1.0), *times])
        self.curve.update()
        self.table.show_rows(card.profile[:MOST_ROWS])
        wrong = [f for f in examined.findings if f.card == self.card and f.field.startswith("profile")]
        more = len(card.profile) - MOST_ROWS
        unlisted = [f"and {number_text(more)} more corners, in the curve only"] if more > 0 else []
        self.more.setText(". ".join([*unlisted, *self._as_a_whole(times, values)]))
        self.note.setText(wrong[0].sentence if wrong else self.gap)

    def _as_a_whole(self, times: list[float], values: list[float]) -> list[str]:
        """What a speed over time comes to; nothing of other profiles."""
        whole = trip(times, values)
        if whole is None or unit(self._unit())[1] != unit("m/s")[1]:
            return []
        return [
            f"{figure(whole.lasts, 's')}, {figure(whole.distance, 'km')}, at most {figure(whole.top, 'km/h')} and "
            f"{figure(whole.steepest, 'm/s²', 3)}"
        ]

    def _unit(self) -> str:
        """The value's unit, of its wire where the card has none of its own."""
        return self.unit or signal_unit(self.session.drive, End(self.card, "out")) or ""

    def _numbers(self) -> list[float]:
        """Times of the corners, s."""
        return list(self.session.examined.profiles.get(self.card, ([], []))[0])

    def take(self, path: str = "") -> None:
        """Corners of a text file, in place of those that are there or behind them."""
        wanted = [("Time", "s"), (self.label, self._unit())]
        try:
            taken = taken_from_file(self, wanted, path)
            if taken is None:
                return
            rows, behind = taken
            times = plain_numbers((time for time, _ in rows), "s")
            if times is None:
                raise FileProblem("The table", "not all of its times are plain times. Choose another column or unit.")
        except FileProblem as problem:
            self.note.setText(str(problem))
            return
        corners = [(time, level) for time, level in rows]
        self._follow(corners, times, behind)
        self.gap = gap_in(times)
        self.refresh()

    def _follow(self, corners: list[tuple[str, str]], times: list[float], behind: bool) -> None:
        here = self._points() if behind else []
        self.session.attempt(
            lambda: commands.set_profile(
                self.session.drive, self.card, joined(here, self._numbers() if here else [], corners, times)
            )
        )

    def take_cycle(self, name: str) -> None:
        """A built-in cycle behind the corners that are there where they last some time, else in their place."""
        corners = list(cycle(name))
        times = plain_numbers((time for time, _ in corners), "s")
        assert times is not None
        here = self._numbers()
        asked = QMessageBox.StandardButton.No
        if here and here[-1] > here[0]:
            answers = QMessageBox.StandardButton
            words = "Put it behind the corners that are there? “No” puts it in their place."
            asked = QMessageBox.question(self, "Cycle", words, answers.Yes | answers.No | answers.Cancel, answers.No)
        if asked != QMessageBox.StandardButton.Cancel:
            self._follow(corners, times, asked == QMessageBox.StandardButton.Yes)

    def repeat(self, count: int = 0) -> None:
        if not count:
            count, took = QInputDialog.getInt(self, "Repeat", "How often the corners are there in all", 2, 2, 100_000)
            if not took:
                return
        drive, card = self.session.drive, self.card
        self.session.attempt(
            lambda: commands.set_profile(drive, card, repeated(self._points(), self._numbers(), count))
        )

    def mirror(self) -> None:
        drive, card = self.session.drive, self.card
        self.session.attempt(lambda: commands.set_profile(drive, card, mirrored(self._points(), self._numbers())))

    def paste(self, at: int, text: str) -> None:
        try:
            taken = taken_from_text(self, [("Time", "s"), (self.label, self._unit())], text)
        except FileProblem as problem:
            self.note.setText(str(problem))
            return
        if taken is not None:
            self._set([(time, level) for time, level in put_at(self._points(), taken, at)])

    def _set(self, points: list[tuple[str, str]], gesture: str = "") -> None:
        self.gap = ""
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

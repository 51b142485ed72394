"""The operator panel: controls on a grid, which belong to the drive."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import QPoint, QRect, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QDialog, QFrame, QMenu, QScrollArea, QVBoxLayout, QWidget

from pendel.app.bench.board import Board
from pendel.app.bench.control_dialog import ControlDialog
from pendel.app.bench.controls import FORMS, ButtonControl, Control, EventsControl, StripControl
from pendel.app.bench.panel_source import PanelSource
from pendel.app.widgets.basic import Elided, button, column, label, row, wrapped
from pendel.app.widgets.theme import colour
from pendel.app.widgets.timers import RefreshWhenShown
from pendel.core.catalogue.card_names import names_of
from pendel.core.drive import commands
from pendel.core.drive.document import PANEL_INPUTS, PANEL_ORDERS, PanelControl
from pendel.core.drive.limits import PANEL_COLUMNS, PANEL_ROWS
from pendel.core.errors import PendelError
from pendel.core.quantities.named import Names

CELL = 62
"""Pixels of a row."""
LOOK_MS = 100
EMPTY = (
    "There is no control on the panel yet. Press Edit, then Add a control: switches, sliders and selectors "
    "change "
    "values of the drive; lamps, figures, bars and strips show its signals. They act on a live run, on the "
    "stand-in "
    "board and on an own board alike."
)


class PanelView(QWidget):
    status_message = pyqtSignal(str)

    def __init__(self, board: Board):
        super().__init__()
        self.board, self.session = board, board.session
        self.source = PanelSource(board)
        inside = column(self, (12, 10, 12, 6), 6)
        self.edit_button = button("Edit", self.toggle_edit)
        self.edit_button.setCheckable(True)
        self.add_button = button("Add a control …", self.add)
        self.words = Elided("", "muted")
        line = row(self.words, self.add_button, self.edit_button)
        line.setStretch(0, 1)
        inside.addLayout(line)
        self.hint = wrapped(EMPTY, "muted")
        inside.addWidget(self.hint)
        self.canvas = Canvas(self)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self.canvas)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        inside.addWidget(area, 1)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self.show_values)
        self._for_drive = RefreshWhenShown(self, self.refresh)
        # Any change may be of the unit of what is shown, or of a quantity by which a control's ends are named.
        for signal in (self.session.changed, self.session.opened, self.session.units_changed):
            signal.connect(lambda *_: self._for_drive())
        board.logged.connect(self._log)
        self.refresh()

    @property
    def editing(self) -> bool:
        return self.edit_button.isChecked()

    def toggle_edit(self) -> None:
        self.canvas.update()
        self.refresh()

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self._for_drive.shown()
        self._timer.start()

    def hideEvent(self, event) -> None:
        super().hideEvent(event)
        self._timer.stop()

    def refresh(self) -> None:
        """Lay out the controls as the drive has them."""
        self.add_button.setVisible(self.editing)
        self.hint.setVisible(not self.session.drive.panel)
        self.canvas.lay_out()
        self.source.watch(self.keys)
        self.show_values()

    @property
    def keys(self) -> list[str]:
        """Signals that are shown."""
        shown = (c.target for c in self.session.drive.panel.values() if c.form not in PANEL_INPUTS)
        return [key for key in dict.fromkeys(shown) if key]

    def show_values(self) -> None:
        self.words.set_text(self.source.words if self.session.drive.panel else "")
        for frame in self.canvas.frames.values():
            target = frame.control.target
            if isinstance(frame.inner, StripControl):
                frame.inner.course = self.source.course(target)
            frame.inner.show_value(None if target in PANEL_ORDERS else self.source.value(target))

    def _log(self, sentence: str) -> None:
        for frame in self.canvas.frames.values():
            if isinstance(frame.inner, EventsControl):
                frame.inner.add(sentence)

    # Editing.

    def add(self) -> None:
        self.ask(None)

    def ask(self, key: str | None) -> None:
        """Let the user enter a new control, or change one."""
        dialog = ControlDialog(self.source, self.session.drive.panel.get(key or ""), self)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self.put(key or "", dialog.result_control())

    def put(self, key: str, control: PanelControl) -> None:
        if not key:
            control = replace(control, **self.free_place(control))
        self.session.attempt(lambda: commands.set_control(self.session.drive, key, control))

    def free_place(self, control: PanelControl) -> dict[str, int]:
        taken = {
            (x, y)
            for c in self.session.drive.panel.values()
            for x in range(c.x, c.x + c.w)
            for y in range(c.y, c.y + c.h)
        }
        for y in range(PANEL_ROWS - control.h):
            for x in range(PANEL_COLUMNS - control.w + 1):
                cells = {(x + i, y + j) for i in range(control.w) for j in range(control.h)}
                if not cells & taken:
                    return {"x": x, "y": y}
        return {"x": 0, "y": 0}

    def delete(self, key: str) -> None:
        self.session.attempt(lambda: commands.remove_controls(self.session.drive, [key]))

    def operate(self, key: str, text: str, gesture: str) -> None:
        """What somebody does with a control: a value of the drive changes, or an order is given."""
        control = self.session.drive.panel[key]
        if control.target in PANEL_ORDERS:
            if text == (control.high or "1") and (sentence := self.source.order(control.target)):
                self.status_message.emit(sentence)
            return
        card, _, name = control.target.partition(".")
        try:
            command = commands.set_value(self.session.drive, card, name, text)
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        self.session.do(replace(command, gesture=gesture))


class Canvas(QWidget):
    """The grid; in editing, controls are dragged, sized by their corner, and changed by a double click."""

    def __init__(self, panel: PanelView):
        super().__init__()
        self.panel = panel
        self.frames: dict[str, Frame] = {}

    def lay_out(self) -> None:
        drive = self.panel.session.drive
        names = names_of(drive)
        for key in list(self.frames):
            known = drive.panel.get(key)
            if known is None or replace(known, x=0, y=0, w=1, h=1) != replace(
                self.frames[key].control, x=0, y=0, w=1, h=1
            ):
                frame = self.frames.pop(key)
                frame.hide()
                frame.deleteLater()
        units_of = self.panel.source.units()
        for key, control in drive.panel.items():
            unit, shown = units_of(control.target)
            if key not in self.frames:
                self.frames[key] = Frame(self.panel, key, control, unit, names, self)
                self.frames[key].show()
            self.frames[key].control = control
            self.frames[key].inner.read_in(unit, shown, names)
            self.frames[key].set_editing(self.panel.editing)
        rows = max((c.y + c.h for c in drive.panel.values()), default=0)
        self.setMinimumHeight((rows + (2 if self.panel.editing else 0)) * CELL)
        self._place()

    @property
    def column(self) -> float:
        return self.width() / PANEL_COLUMNS

    def _place(self) -> None:
        for frame in self.frames.values():
            frame.setGeometry(self.rect_of(frame.control))

    def rect_of(self, c: PanelControl) -> QRect:
        left, right = round(c.x * self.column), round((c.x + c.w) * self.column)
        return QRect(left + 3, c.y * CELL + 3, right - left - 6, c.h * CELL - 6)

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._place()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.panel.editing:
            return
        painter = QPainter(self)
        painter.setPen(QPen(colour("hairline"), 1, Qt.PenStyle.DotLine))
        for k in range(PANEL_COLUMNS + 1):
            x = min(self.width() - 1, round(k * self.column))
            painter.drawLine(x, 0, x, self.height())
        for k in range(self.height() // CELL + 1):
            painter.drawLine(0, k * CELL, self.width(), k * CELL)


class Frame(QFrame):
    """One control with its title."""

    def __init__(self, panel: PanelView, key: str, control: PanelControl, unit: str, names: Names, parent: QWidget):
        super().__init__(parent)
        self.panel, self.key, self.control = panel, key, control
        self.setObjectName("control")
        self.setStyleSheet(
            f"QFrame#control "
            f"{{ background: {colour('card').name()}; border: 1px solid {colour('hairline').name()}; "
            "border-radius: 4px; }"
        )
        inside = QVBoxLayout(self)
        inside.setContentsMargins(8, 4, 8, 5)
        inside.setSpacing(1)
        self.inner: Control = FORMS[control.form](control, unit, names)
        if not isinstance(self.inner, ButtonControl):
            inside.addWidget(label(control.title, "muted"))
        inside.addWidget(self.inner, 1)
        self.setToolTip(f"{control.form} · {control.target}")
        self._gesture = 0
        self.inner.changed.connect(lambda text: panel.operate(self.key, text, f"panel {self.key} {self._gesture}"))
        self.inner.released.connect(self._end_gesture)
        self.cover = Cover(self)
        self.cover.hide()

    def _end_gesture(self) -> None:
        self._gesture += 1

    def set_editing(self, on: bool) -> None:
        self.cover.setVisible(on)
        self.cover.raise_()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self.cover.setGeometry(self.rect())


class Cover(QWidget):
    """Lies over a control while the panel is edited."""

    CORNER = 14

    def __init__(self, frame: Frame):
        super().__init__(frame)
        self.frame = frame
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.SizeAllCursor)
        self.setAccessibleName(f"{frame.control.form} {frame.control.title}")
        self.setToolTip(
            "Drag to move, drag the corner to size; Enter or a double click changes it, Delete takes it off"
        )
        self._from: QPoint | None = None
        self._sizes = False
        self._begun = frame.control
        self._drags = 0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(QPen(colour("petrol"), 2 if self.hasFocus() else 1, Qt.PenStyle.DashLine))
        painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        painter.fillRect(self.width() - 10, self.height() - 10, 8, 8, colour("petrol"))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus()
        at = event.position().toPoint()
        self._from, self._begun = self.frame.mapToParent(at), self.frame.control
        self._sizes = at.x() > self.width() - self.CORNER and at.y() > self.height() - self.CORNER
        self._drags += 1

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._from is None:
            return
        canvas = self.frame.panel.canvas
        moved = self.frame.mapToParent(event.position().toPoint()) - self._from
        self.move_by(round(moved.x() / canvas.column), round(moved.y() / CELL), sizes=self._sizes)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._from = None

    def move_by(self, dx: int, dy: int, *, sizes: bool) -> None:
        """Move or size it by cells from where the gesture began."""
        c = self._begun
        if sizes:
            w = max(1, min(PANEL_COLUMNS - c.x, c.w + dx))
            new = replace(c, w=w, h=max(1, min(PANEL_ROWS - c.y, c.h + dy)))
        else:
            x = max(0, min(PANEL_COLUMNS - c.w, c.x + dx))
            new = replace(c, x=x, y=max(0, min(PANEL_ROWS - c.h, c.y + dy)))
        if new != self.frame.control:
            panel = self.frame.panel
            gesture = f"move control {self.frame.key} {id(self)} {self._drags}"
            panel.session.attempt(lambda: commands.set_control(panel.session.drive, self.frame.key, new, gesture))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        steps = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }.get(Qt.Key(event.key()))
        if steps is not None:
            self._begun = self.frame.control
            self._drags += 1
            self.move_by(*steps, sizes=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif event.key() == Qt.Key.Key_Delete:
            self.frame.panel.delete(self.frame.key)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.frame.panel.ask(self.frame.key)
        else:
            super().keyPressEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self._from = None
        self.frame.panel.ask(self.frame.key)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is None:
            return
        menu = QMenu(self)
        menu.addAction("Change …", lambda: self.frame.panel.ask(self.frame.key))
        menu.addAction("Delete", lambda: self.frame.panel.delete(self.frame.key))
        menu.exec(event.globalPos())

    def focusInEvent(self, event) -> None:
        self.update()

    def focusOutEvent(self, event) -> None:
        self.update()

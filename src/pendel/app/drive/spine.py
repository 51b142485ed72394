"""The left column of the Drive page: energy path, loops from inside out, quantities."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QInputDialog, QMenu, QVBoxLayout, QWidget

from pendel.app.drive.tap_list import TapList
from pendel.app.session import card_text as shown
from pendel.app.session.loop_words import loop_state
from pendel.app.session.session import Session
from pendel.app.widgets.basic import Elided, Field, button, clear, column, label, row, rule, scrolled
from pendel.app.widgets.theme import colour, font
from pendel.app.widgets.timers import Later, RefreshWhenShown
from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import kind_of, known_kind
from pendel.core.check.targets import VARY
from pendel.core.drive import commands
from pendel.core.quantities.units import number_text
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import Group


class SpineRow(QWidget):
    """A row of the left column that is clicked, or chosen by key."""

    clicked = pyqtSignal()

    def __init__(self, name: str, hint: str):
        super().__init__()
        self.setFixedHeight(36)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        self.setToolTip(hint)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.clicked.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space, Qt.Key.Key_Enter):
            self.clicked.emit()
        else:
            super().keyPressEvent(event)


class PathStation(SpineRow):
    """One part of the energy path: mark in a ring, name, one live figure."""

    def __init__(self, mark: str, name: str, value: str, hint: str, *, first: bool, last: bool):
        super().__init__(f"{name} {value}", f"{name}: {hint or value}")
        self.mark, self.name, self.value, self.first, self.last = mark, name, value, first, last
        self.selected = False

    def sizeHint(self) -> QSize:
        return QSize(180, 36)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.selected or self.hasFocus():
            painter.setPen(QPen(colour("petrol"), 1.2))
            painter.setBrush(colour("petrol_tint") if self.selected else Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, 35), 3, 3)
        painter.setPen(QPen(colour("ink"), 1.6))
        if not self.first:
            painter.drawLine(QPointF(20, 0), QPointF(20, 7))
        if not self.last:
            painter.drawLine(QPointF(20, 29), QPointF(20, 36))
        painter.setBrush(colour("card"))
        painter.setPen(QPen(colour("ink"), 1.1))
        painter.drawEllipse(QPointF(20, 18), 11, 11)
        painter.setFont(font(10.5, bold=True))
        painter.drawText(QRectF(8, 7, 24, 22), Qt.AlignmentFlag.AlignCenter, self.mark)
        painter.setFont(font(12))
        painter.setPen(colour("ink"))
        painter.drawText(
            QRectF(40, 2, self.width() - 46, 16),
            0,
            self.fontMetrics().elidedText(self.name, Qt.TextElideMode.ElideRight, self.width() - 46),
        )
        painter.setFont(font(11))
        painter.setPen(colour("muted"))
        painter.drawText(QRectF(40, 18, self.width() - 46, 16), 0, self.value)


class LoopRow(SpineRow):
    """One loop with its state bar: moss tuned, brass not tuned or open, brick failing. The words say it
    too."""

    def __init__(self, name: str, state: str, role: str):
        super().__init__(f"{name} loop, {state}", f"{name}: {state}")
        self.name, self.state, self.role = name, state, role

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        if self.hasFocus():
            painter.setPen(QPen(colour("petrol"), 1.2))
            painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, 35), 3, 3)
        painter.fillRect(QRectF(8, 5, 8, 25), colour(self.role))
        painter.setFont(font(12))
        painter.setPen(colour("ink"))
        painter.drawText(QRectF(24, 3, self.width() - 26, 16), 0, self.name)
        painter.setFont(font(11))
        painter.setPen(colour("muted"))
        painter.drawText(
            QRectF(24, 19, self.width() - 26, 15),
            0,
            self.fontMetrics().elidedText(self.state, Qt.TextElideMode.ElideRight, self.width() - 26),
        )


class Spine(QWidget):
    """Energy path, loops and quantities of the open drive. A click selects everywhere."""

    loop_wanted = pyqtSignal(str)
    status_message = pyqtSignal(str)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.setObjectName("side")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(208)
        self.session = session
        self.path_facts: list[tuple[str, str, str, str, bool, bool]] | None = None
        self.loop_facts: list[tuple] | None = None
        self.fields: dict[str, Field] = {}
        inner = QWidget()
        body = column(inner, (8, 12, 8, 12), 2)
        body.addWidget(self._heading("Energy path"))
        self.path_box, self.loop_box, self.quantity_box = QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        for box in (self.path_box, self.loop_box, self.quantity_box):
            box.setSpacing(0)
        body.addLayout(self.path_box)
        body.addSpacing(8)
        body.addWidget(rule())
        body.addWidget(self._heading("Loops, inside out"))
        body.addLayout(self.loop_box)
        body.addSpacing(6)
        body.addWidget(rule())
        self.count = label("", "muted")
        heading = self._heading("Quantities")
        body.addLayout(row(heading, 1, self.count))
        body.addLayout(self.quantity_box)
        self.adder = button("Add a quantity …", self.add_quantity, "link")
        body.addWidget(self.adder)
        self.taps = TapList(session)
        self.taps.status_message.connect(self.status_message)
        body.addWidget(self.taps)
        body.addStretch(1)
        column(self, (0, 0, 0, 0)).addWidget(scrolled(inner))
        self._late = Later(self, 0, self.refresh)
        session.changed.connect(lambda _: self._late.start())
        session.opened.connect(self._late.start)
        session.studied.connect(self._refresh_loops)
        self._for_runs = RefreshWhenShown(self, self._late.start)
        session.runs_changed.connect(self._for_runs)
        session.live_moved.connect(self._for_runs)
        session.evaluator.ended.connect(lambda problem: problem or self._for_runs())
        session.examined_changed.connect(self._late.start)
        session.selection_changed.connect(self._mark_selected)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._for_runs.shown()

    def _heading(self, text: str) -> QWidget:
        heading = label(text, "heading")
        heading.setContentsMargins(8, 4, 0, 4)
        return heading

    def path_order(self) -> list[list[str]]:
        """Parts with a mark, in the order in which energy goes through them from a supply on; one list for
        each circuit
        of parts that power wires join, also through parts that have no mark."""
        drive = self.session.drive
        kinds = {k: kind_of(c) for k, c in drive.cards.items() if c.face is None and self._is_part(k)}
        links: dict[str, list[str]] = {k: [] for k in kinds}
        for wire in drive.wires.values():
            a, b = wire.a.card, wire.b.card
            port = kinds[a].port(wire.a.port) if a in kinds and b in kinds else None
            if port is not None and not port.link.is_signal:
                links[a].append(b)
                links[b].append(a)
        starts = [k for k in kinds if kinds[k].group == Group.SUPPLY]
        reached: set[str] = set()
        circuits: list[list[str]] = []
        for start in [*starts, *kinds]:
            order, stack = [], [start]
            while stack:
                key = stack.pop(0)
                if key not in reached:
                    reached.add(key)
                    order.append(key)
                    stack = links[key] + stack
            circuits.append([k for k in order if self._mark(k)])
        return [circuit for circuit in circuits if circuit]

    def _is_part(self, key: str) -> bool:
        return isinstance(known_kind(self.session.drive.cards[key]), Part)

    def _mark(self, key: str) -> str:
        kind = known_kind(self.session.drive.cards[key])
        return kind.spine if isinstance(kind, Part) else ""

    def refresh(self) -> None:
        self._refresh_path()
        self._refresh_loops()
        self._refresh_quantities()
        self.taps.refresh()

    def _refresh_path(self) -> None:
        drive = self.session.drive
        circuits = self.path_order()
        order = [key for circuit in circuits for key in circuit]
        ends = {circuit[0] for circuit in circuits}, {circuit[-1] for circuit in circuits}
        run = shown.run_on_cards(self.session)
        facts = [
            (key, drive.cards[key].name, *self._live_figure(key, run), key in ends[0], key in ends[1]) for key in order
        ]
        if facts == self.path_facts:
            self._mark_selected()
            return
        self.path_facts = facts
        clear(self.path_box)
        self.stations: dict[str, PathStation] = {}
        for key, name, value, hint, first, last in facts:
            station = PathStation(self._mark(key), name, value, hint, first=first, last=last)
            station.clicked.connect(lambda k=key: self.session.select([k]))
            self.stations[key] = station
            self.path_box.addWidget(station)
        if not order:
            empty = label("Nothing yet. Press A on the sheet.", "muted")
            empty.setContentsMargins(8, 4, 0, 4)
            self.path_box.addWidget(empty)
        self._mark_selected()

    def _live_figure(self, key: str, run: KeptRun | None) -> tuple[str, str]:
        """The figure on its card, from the last run, and in words what it is; before any run what the part
        tells of
        itself."""
        drive, time = self.session.drive, self.session.cursor_time
        signal = shown.main_signal(drive, key)
        if run is not None and signal in run.keys:
            return shown.figure_of(run, signal, time), shown.figure_in_words(run, signal, time)
        return (shown.summary_lines(drive, key, self.session.examined) or [""])[-1], ""

    def _mark_selected(self) -> None:
        for key, station in getattr(self, "stations", {}).items():
            station.selected = key in self.session.selection
            station.update()

    def _refresh_loops(self) -> None:
        facts = [
            (each.loop.label, each.loop.key, *loop_state(each))
            for each in self.session.judged
            if each.loop.regulator in self.session.drive.cards
        ]
        facts.append((self.session.judging,))
        if facts == self.loop_facts:
            return
        self.loop_facts = facts
        clear(self.loop_box)
        for label_text, key, words, role in facts[:-1]:
            loop_row = LoopRow(label_text, words, role)
            loop_row.clicked.connect(
                lambda k=key: (self.session.select([k.partition(".")[0]]), self.loop_wanted.emit(k))
            )
            self.loop_box.addWidget(loop_row)
        if not self.session.judged:
            hint = label("Looking for loops …" if self.session.judging else "No closed loop found.", "muted")
            hint.setContentsMargins(8, 4, 0, 4)
            self.loop_box.addWidget(hint)

    def _refresh_quantities(self) -> None:
        drive = self.session.drive
        self.count.setText(str(len(drive.quantities)))
        if (
            list(self.fields) != list(drive.quantities)
            or any(f.hasFocus() for f in self.fields.values()) is False
            and not self.fields
        ):
            clear(self.quantity_box)
            self.fields = {}
            for name in drive.quantities:
                self.quantity_box.addLayout(self._quantity_row(name))
        for name, field in self.fields.items():
            field.show_text(drive.quantities[name].text)
            finding = self.session.examined.finding_at("", name)
            value = self.session.examined.quantities.get(name)
            field.mark(finding.sentence if finding else "")
            if not finding:
                note = drive.quantities[name].note
                field.setToolTip(
                    f"{note + ': ' if note else ''}{number_text(value) if value is not None else ''} in SI"
                )

    def _quantity_row(self, name: str) -> QHBoxLayout:
        sign = Elided(name)
        sign.setContentsMargins(8, 0, 0, 0)
        sign.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        sign.customContextMenuRequested.connect(lambda at, n=name, w=sign: self.open_menu(n, w.mapToGlobal(at)))
        sign.mouseDoubleClickEvent = lambda _, n=name: self.rename_quantity(n)
        sign.setToolTip(f"{name}: double-click to rename, right-click for more")
        field = Field(self.session.drive.quantities[name].text, f"Value of {name}", 84)
        field.setFixedWidth(96)
        field.more[VARY] = lambda: self.session.vary_wanted.emit(name)
        field.committed.connect(
            lambda text, n=name: self.session.attempt(lambda: commands.set_quantity(self.session.drive, n, text))
        )
        self.fields[name] = field
        line = row(sign, field, spacing=4)
        line.setStretch(0, 1)
        line.setContentsMargins(8, 1, 0, 1)
        return line

    def open_menu(self, name: str, where) -> None:
        menu = QMenu(self)
        menu.addAction("Rename …", lambda: self.rename_quantity(name))
        menu.addAction("Note …", lambda: self.note_quantity(name))
        menu.addAction(VARY, lambda: self.session.vary_wanted.emit(name))
        menu.addAction(
            "Delete", lambda: self.session.attempt(lambda: commands.remove_quantity(self.session.drive, name))
        )
        menu.exec(where)

    def add_quantity(self) -> None:
        name, good = QInputDialog.getText(self, "Add a quantity", "Name and value, such as  L_a = 0.61 mH")
        if good and name.strip():
            self.define(name)

    def define(self, text: str) -> None:
        name, _, value = (part.strip() for part in text.partition("="))
        if name in self.session.drive.quantities:
            known = self.session.drive.quantities[name].text
            self.status_message.emit(f"There is a quantity {name} already, {known}. Change it in its field.")
            return
        self.session.attempt(lambda: commands.set_quantity(self.session.drive, name, value or "0"))

    def rename_quantity(self, name: str, new: str | None = None) -> None:
        if new is None:
            new, good = QInputDialog.getText(
                self, "Rename a quantity", f"New name of {name}; every expression follows", text=name
            )
            if not good or new == name:
                return
        self.session.attempt(lambda: commands.rename_quantity(self.session.drive, name, new))

    def note_quantity(self, name: str) -> None:
        quantity = self.session.drive.quantities[name]
        note, good = QInputDialog.getText(self, "Note", f"What {name} stands for", text=quantity.note)
        if good:
            self.session.attempt(lambda: commands.set_quantity(self.session.drive, name, quantity.text, note))

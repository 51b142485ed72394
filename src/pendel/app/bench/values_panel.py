"""The right column of the Bench page: live values of the drive beside what the board has."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QWheelEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from pendel.app.bench.board import Board, LinkState
from pendel.app.session.stepping import step_value, value_after
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.theme import colour, font
from pendel.core.bench.description import LiveValue
from pendel.core.bench.value_sets import difference_words, read_set, set_text
from pendel.core.controllers.numbers.word_text import word_in_base
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.errors import PendelError
from pendel.core.files.writing import write_atomically
from pendel.core.quantities.stepping import digits_of, rounded
from pendel.core.quantities.units import figure

NAME, DRIVE, BOARD = range(3)
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
KEYS = {Qt.Key.Key_Plus: 1, Qt.Key.Key_Minus: -1}
NONE = "No value is live yet. On the page Firmware, Values, tick those that you want to change while the code runs."


class ValuesPanel(QWidget):
    status_message = pyqtSignal(str)

    def __init__(self, board: Board):
        super().__init__()
        self.board, self.session = board, board.session
        self.setObjectName("inspector")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(300)
        inside = column(self, (14, 12, 12, 12), 6)
        inside.addWidget(label("Live values", "heading"))
        self.table = LiveTable(self)
        inside.addWidget(self.table, 1)
        self.hint = wrapped(NONE, "muted")
        inside.addWidget(self.hint)
        self.rest = QWidget()
        inside.addWidget(self.rest, 1)
        self.word = wrapped("", "muted")
        inside.addWidget(self.word)
        self.read_button = button("Read back", board.read_back)
        self.take_button = button("Take into the drive", self.take)
        self.take_button.setToolTip("Values that differ on the board are taken into the drive, in one step of undo")
        self.write_button = button("Write to the board", board.write_all)
        self.save_button = button("Save set …", self.save_set)
        self.load_button = button("Load set …", self.load_set)
        self.compare_button = button("Compare …", self.compare_set)
        self.compare_button.setToolTip("How a saved set differs from the drive's values")
        inside.addLayout(row(self.read_button, self.write_button, spacing=4))
        inside.addWidget(self.take_button)
        inside.addLayout(row(self.save_button, self.load_button, self.compare_button, spacing=4))
        board.changed.connect(self.refresh)
        board.values_read.connect(self.refresh)
        self.session.changed.connect(lambda _: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        self.table.fill()
        some = self.table.rowCount() > 0
        self.table.setVisible(some)
        self.hint.setVisible(not some)
        self.rest.setVisible(not some)
        self.hint.setText(NONE)
        ready = self.board.link is LinkState.OPEN and self.board.matches and not self.board.busy
        differs = bool(self.board.differing())
        self.read_button.setEnabled(ready and some)
        self.write_button.setEnabled(ready and differs)
        self.take_button.setEnabled(differs)
        for each in (self.save_button, self.load_button, self.compare_button):
            each.setEnabled(some)
        self.show_word()

    def show_word(self) -> None:
        """What the processor holds of the chosen value, and its ends."""
        description, key = self.board.description, self.table.chosen
        live = description.values.get(key) if description else None
        if live is None:
            self.word.setText("")
            return
        now, unit = self.board.of_drive().get(key, live.facts.now), live.channel.unit
        numbers = ", ".join(
            f"{n.name} = {word_in_base(n.word, n.rep.bits, live.facts.base)}"
            for n in live.facts.numbers
            if not n.rep.floating
        )
        text = f"{figure(live.low, unit)} to {figure(live.high, unit)}; is {figure(now, unit)}"
        self.word.setText(f"{text}. In words at the start: {numbers}" if numbers else f"{text}.")

    # Changing.

    def set_text(self, key: str, text: str) -> None:
        block, _, name = key.partition(".")
        self.session.attempt(lambda: commands.set_value(self.session.drive, block, name, text))

    def step(self, key: str, count: int) -> None:
        block, _, name = key.partition(".")
        description = self.board.description
        if description is None or key not in description.values or block not in self.session.drive.cards:
            return
        written = self.session.drive.cards[block].values.get(name, description.values[key].facts.text)
        try:
            text = value_after(self.session, block, name, written, count)
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        step_value(self.session, block, name, text, f"bench {key}")

    def digits_of(self, key: str) -> int:
        """To how many digits a value is read; 0 where nobody said."""
        block, _, name = key.partition(".")
        card = self.session.drive.cards.get(block)
        try:
            return digits_of(card.digits.get(name, "")) if card else 0
        except PendelError:  # a finding says so
            return 0

    def take(self) -> None:
        """What the board has otherwise becomes the drive's."""
        description = self.board.description
        if description is None:
            return
        texts = {}
        for key, value in self.board.differing().items():
            channel = description.values[key].channel
            digits = self.digits_of(key) or 7
            texts[key] = f"{rounded(value / channel.scale, digits)} {channel.unit}".strip()
        self._set_all(texts, "Take values from the board")

    def _set_all(self, texts: dict[str, str], title: str) -> None:
        twin, whole = self.session.drive.copy(), Command(title, ())
        for key, text in texts.items():
            block, _, name = key.partition(".")
            if block in twin.cards:
                one = commands.set_value(twin, block, name, text)
                one.apply(twin)
                whole = whole.then(one, title)
        self.session.do(replace(whole, gesture=""))

    # Sets.

    def save_set(self, path: str = "") -> None:
        description = self.board.description
        path = path or asked_path(self, "Save values", "values.json", {".json": "Values"})
        if not path or description is None:
            return
        cards = self.session.drive.cards
        texts = {}
        for key, live in description.values.items():
            block, _, name = key.partition(".")
            texts[key] = cards[block].values.get(name, live.facts.text)
        self._guarded(lambda: write_atomically(Path(path), set_text(description.name, texts)), f"Saved {path}.")

    def load_set(self, path: str = "") -> None:
        path = path or QFileDialog.getOpenFileName(self, "Load values", "", "Values (*.json)")[0]
        if not path:
            return

        def load() -> None:
            texts = read_set(Path(path))
            description = self.board.description
            known = {k: t for k, t in texts.items() if description and k in description.values}
            self._set_all(known, "Load a set of values")
            left = len(texts) - len(known)
            if left:
                self.status_message.emit(f"{left} values of the set are not live in this drive, and were left out.")

        self._guarded(load, "")

    def compare_set(self, path: str = "") -> None:
        path = path or QFileDialog.getOpenFileName(self, "Compare values", "", "Values (*.json)")[0]
        description = self.board.description
        if not path or description is None:
            return

        def compare() -> None:
            sentences = difference_words(read_set(Path(path)), description, self.session.drive, self.board.of_drive())
            for sentence in sentences or ["The set has the same values as the drive."]:
                self.board.log(sentence)

        self._guarded(compare, "")

    def _guarded(self, does, words: str) -> None:
        try:
            does()
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        if words:
            self.status_message.emit(words)


class LiveTable(QTableWidget):
    """A row a value: its name, what the drive has, what the board has."""

    def __init__(self, panel: ValuesPanel):
        super().__init__(0, 3)
        self.panel = panel
        self.setAccessibleName("Live values")
        self.setHorizontalHeaderLabels(["value", "drive", "board"])
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked)
        self.setShowGrid(False)
        self.setToolTip("Enter edits; + and −, or the wheel with Ctrl, change by the value's step")
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None and header is not None
        vertical.hide()
        vertical.setDefaultSectionSize(26)
        header.setSectionResizeMode(NAME, QHeaderView.ResizeMode.Stretch)
        self.setColumnWidth(DRIVE, 84)
        self.setColumnWidth(BOARD, 84)
        for column_ in (DRIVE, BOARD):
            self.horizontalHeaderItem(column_).setTextAlignment(RIGHT)
        self.keys: list[str] = []
        self._filling = False
        self.itemChanged.connect(self._edited)
        self.itemSelectionChanged.connect(panel.show_word)

    @property
    def chosen(self) -> str:
        at = self.currentRow()
        return self.keys[at] if 0 <= at < len(self.keys) else ""

    def fill(self) -> None:
        board = self.panel.board
        description = board.description
        values = description.values if description else {}
        if self.state() == QAbstractItemView.State.EditingState:
            return
        self._filling = True
        if self._lines(values) != self.keys:
            self._lay_out(values)
        for r, key in enumerate(self.keys):
            if key:
                self._fill_row(r, values[key])
        self._filling = False

    @staticmethod
    def _lines(values: Mapping[str, LiveValue]) -> list[str]:
        """The key of each row; empty for the line of a block."""
        lines, block = [], ""
        for key, live in values.items():
            if live.facts.block != block:
                lines.append("")
            block = live.facts.block
            lines.append(key)
        return lines

    def _lay_out(self, values: Mapping[str, LiveValue]) -> None:
        self.clearSpans()
        self.keys = self._lines(values)
        self.setRowCount(len(self.keys))
        for r, key in enumerate(self.keys):
            for c in range(3):
                self.setItem(r, c, QTableWidgetItem())
            if not key:
                item = self.item(r, NAME)
                assert item is not None
                title = values[self.keys[r + 1]].facts.title
                item.setText(title)
                item.setToolTip(title)
                item.setFont(font(12, bold=True))
                item.setFlags(Qt.ItemFlag.ItemIsEnabled)
                self.setSpan(r, NAME, 1, 3)

    def _fill_row(self, r: int, live: LiveValue) -> None:
        board, key, unit = self.panel.board, live.key, live.channel.unit
        block, _, name = key.partition(".")
        card = board.session.drive.cards.get(block)
        now, odd = board.of_drive().get(key, live.facts.now), key in board.differing()
        text = card.values.get(name, live.facts.text) if card else ""
        finding = board.session.examined.finding_at(block, name)
        shown = figure(board.on_board[key], unit, self.panel.digits_of(key) or 4) if key in board.on_board else "–"
        tip = finding.sentence if finding else f"{live.channel.title}, {figure(now, unit)}"
        words = {NAME: live.facts.label or name, DRIVE: text, BOARD: shown}
        for c in (NAME, DRIVE, BOARD):
            item = self.item(r, c)
            assert item is not None
            if item.text() != words[c]:
                item.setText(words[c])
            flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
            item.setFlags(flags | Qt.ItemFlag.ItemIsEditable if c == DRIVE else flags)
            item.setToolTip(f"On the board it is {shown}, in the drive {figure(now, unit)}" if odd else tip)
            if c != NAME:
                item.setTextAlignment(RIGHT)
            wrong = (finding is not None and c == DRIVE) or (odd and c == BOARD)
            item.setForeground(colour("brass_text" if wrong else "ink"))
            item.setFont(font(12, bold=odd and c == BOARD))

    def _edited(self, item: QTableWidgetItem) -> None:
        if not self._filling and item.column() == DRIVE:
            self.panel.set_text(self.keys[item.row()], item.text().strip())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        editing = self.state() == QAbstractItemView.State.EditingState
        if event is None or not self.chosen or editing:
            super().keyPressEvent(event)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            item = self.item(self.currentRow(), DRIVE)
            if item is not None:
                self.editItem(item)
        elif event.key() in KEYS:
            ten = event.modifiers() & Qt.KeyboardModifier.ShiftModifier and event.key() == Qt.Key.Key_Minus
            self.panel.step(self.chosen, KEYS[Qt.Key(event.key())] * (10 if ten else 1))
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None or not event.modifiers() & Qt.KeyboardModifier.ControlModifier or not self.chosen:
            super().wheelEvent(event)
            return
        turned = event.angleDelta().y() or event.angleDelta().x()
        if turned:
            self.panel.step(self.chosen, 1 if turned > 0 else -1)
        event.accept()

"""Values of the blocks: what they are, which can be changed while the code runs, and the words that hold
them."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QWheelEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTableWidget, QTableWidgetItem

from pendel.app.widgets.theme import colour, font
from pendel.core.controllers.numbers.word_text import hexadecimal, word_in_base
from pendel.core.drive.document import BASES
from pendel.core.firmware.values import NumberFacts, ValueFacts
from pendel.core.quantities.expressions import is_plain
from pendel.core.quantities.units import figure, number_text

VALUE, IS, LIVE, LOWEST, HIGHEST, STEP, DIGITS, NUMBER, WORD = range(9)
TITLES = ("value", "is", "live", "lowest", "highest", "step", "digits", "in the code", "word")
WIDTHS = {VALUE: 92, IS: 84, LIVE: 38, LOWEST: 80, HIGHEST: 80, STEP: 52, DIGITS: 42, WORD: 92}
FIGURES = (IS, LOWEST, HIGHEST, STEP, DIGITS, WORD)
EDITABLE = Qt.ItemFlag.ItemIsEditable
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
KEYS = {Qt.Key.Key_Plus: 1, Qt.Key.Key_Minus: -1}


class ValuesTable(QTableWidget):
    """Below a line for each block, a row a value and one for each further number that hangs on it."""

    value_chosen = pyqtSignal(str)
    """A value, ``block.value``."""
    edited = pyqtSignal(str, int, str)
    """A value, the column, and what was typed."""
    live_wished = pyqtSignal(list, bool)
    """Values, and whether they are to be live."""
    stepped = pyqtSignal(str, int)
    """A value, and by how many steps it is to change."""
    base_wished = pyqtSignal(str, str)
    """A value, and one of `BASES` for its word."""

    def __init__(self) -> None:
        super().__init__(0, len(TITLES))
        self.setAccessibleName("Values")
        self.setHorizontalHeaderLabels(list(TITLES))
        for column, words in (
            (LIVE, "Converted when the controller starts, and changeable while it runs"),
            (STEP, "What + and - or the wheel with Ctrl add to the value: 0.5 A, or a factor such as ×1.1"),
            (DIGITS, "To how many significant digits steps round the value, and what a board has is read"),
            (NUMBER, "What the code computes with: the value, or what follows from it and others"),
            (WORD, "What the processor holds; a right click chooses decimal, hexadecimal or binary digits"),
        ):
            self.horizontalHeaderItem(column).setToolTip(words)
        for column in FIGURES:
            self.horizontalHeaderItem(column).setTextAlignment(RIGHT)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked)
        self.setShowGrid(False)
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None and header is not None
        vertical.hide()
        vertical.setDefaultSectionSize(27)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        for column, width in WIDTHS.items():
            self.setColumnWidth(column, width)
        header.setSectionResizeMode(NUMBER, QHeaderView.ResizeMode.Stretch)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._menu)
        self.rows: list[ValueFacts | None] = []
        """The value of each row; none of a block's line."""
        self._filling = False
        self.itemChanged.connect(self._changed)
        self.itemSelectionChanged.connect(self._choose)

    def fill(self, values: Sequence[ValueFacts], wrong: dict[str, str]) -> None:
        """Show values; ``wrong`` says what is wrong with some."""
        chosen = self.chosen
        self._filling = True
        self.clearSpans()
        self.rows = []
        blocks = [list(of_block) for _, of_block in groupby(values, key=lambda value: value.block)]
        self.setRowCount(0)
        self.setRowCount(len(blocks) + sum(len(v.numbers) or 1 for v in values))
        for of_block in blocks:
            self._block_line(of_block[0])
            for value in of_block:
                for number in value.numbers or (None,):
                    self.rows.append(value)
                    first = number is None or number is value.numbers[0]
                    self._fill_row(len(self.rows) - 1, value, number, first, wrong.get(value.key, ""))
        keys = [v.key if v else "" for v in self.rows]
        self._filling = False
        if keys:
            self.selectRow(keys.index(chosen) if chosen in keys else 1)

    def _block_line(self, value: ValueFacts) -> None:
        r = len(self.rows)
        self.rows.append(None)
        item = QTableWidgetItem(value.code_name)
        item.setFlags(Qt.ItemFlag.ItemIsEnabled)
        item.setFont(font(12, bold=True))
        item.setToolTip(f"{value.title}: right click to have all its values live")
        self.setItem(r, 0, item)
        self.setSpan(r, 0, 1, len(TITLES))

    def _fill_row(self, r: int, value: ValueFacts, number: NumberFacts | None, first: bool, wrong: str) -> None:
        ends = value.ends or ("", "")
        texts = {
            VALUE: value.name if first else "",
            IS: shown_text(value) if first else "",
            LOWEST: ends[0] if first else "",
            HIGHEST: ends[1] if first else "",
            STEP: value.step if first else "",
            DIGITS: value.digits if first else "",
            NUMBER: (number.name if number.alone else number.formula)
            if number
            else ("a constant" if value.ends is None else value.constant),
            WORD: word_of(number, value.base) if number else "",
        }
        editable = dict.fromkeys((IS, STEP, DIGITS), bool(value.text))
        editable |= dict.fromkeys((LOWEST, HIGHEST), value.ends is not None)
        editable[WORD] = number is not None and number.alone and bool(value.text) and not number.rep.floating
        for column in range(len(TITLES)):
            item = QTableWidgetItem(texts.get(column, ""))
            item.setFlags(item.flags() & ~EDITABLE)
            if (first or column == WORD) and editable.get(column):
                item.setFlags(item.flags() | EDITABLE)
            if column in FIGURES:
                item.setTextAlignment(RIGHT)
            if column == LIVE and first and not (value.constant and value.ends is None):
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Unchecked if value.ends is None else Qt.CheckState.Checked)
            item.setToolTip(wrong or tip(value, number))
            if column == WORD and number is not None and value.base != "decimal":
                item.setToolTip(f"{texts[WORD]}\n{item.toolTip()}")  # 32 binary digits are wider than the column
            if wrong and column in (IS, LOWEST, HIGHEST):
                item.setForeground(colour("brass_text"))
            elif not first or (number is None and column == NUMBER):
                item.setForeground(colour("muted"))
            self.setItem(r, column, item)

    @property
    def chosen(self) -> str:
        """The value of the chosen row."""
        at = self.currentRow()
        value = self.rows[at] if 0 <= at < len(self.rows) else None
        return value.key if value else ""

    @property
    def values(self) -> list[ValueFacts]:
        """All values, each once."""
        return list(dict.fromkeys(v for v in self.rows if v is not None))

    def row_of(self, key: str) -> int:
        """The first row of a value."""
        return [v.key if v else "" for v in self.rows].index(key)

    def _choose(self) -> None:
        if not self._filling and self.chosen:
            self.value_chosen.emit(self.chosen)

    def _changed(self, item: QTableWidgetItem) -> None:
        value = self.rows[item.row()]
        if self._filling or value is None:
            return
        if item.column() == LIVE:
            on = item.checkState() == Qt.CheckState.Checked
            if on != (value.ends is not None):
                self.live_wished.emit([value.key], on)
        elif item.flags() & EDITABLE:
            self.edited.emit(value.key, item.column(), item.text().strip())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        editing = self.state() == QAbstractItemView.State.EditingState
        if event is None or not self.chosen or editing:
            super().keyPressEvent(event)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.edit(self.currentIndex())
        elif event.key() in KEYS:
            self.stepped.emit(self.chosen, KEYS[Qt.Key(event.key())])
        elif event.key() == Qt.Key.Key_Space:
            item = self.item(self.row_of(self.chosen), LIVE)
            if item is not None and item.flags() & Qt.ItemFlag.ItemIsUserCheckable:
                on = item.checkState() != Qt.CheckState.Checked
                item.setCheckState(Qt.CheckState.Checked if on else Qt.CheckState.Unchecked)
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None or not event.modifiers() & Qt.KeyboardModifier.ControlModifier or not self.chosen:
            super().wheelEvent(event)
            return
        turned = event.angleDelta().y() or event.angleDelta().x()
        if turned:
            self.stepped.emit(self.chosen, 1 if turned > 0 else -1)
        event.accept()

    def _menu(self, at: QPoint) -> None:
        row, viewport = self.rowAt(at.y()), self.viewport()
        below = next((v for v in self.rows[row:] if v is not None), None) if row >= 0 else None
        if below is None or viewport is None:
            return
        menu = self.menu_of(below.block, self.rows[row])
        menu.exec(viewport.mapToGlobal(at))

    def menu_of(self, block: str, value: ValueFacts | None = None) -> QMenu:
        """What can be done with a value's word and with all values of a block."""
        mine = [v.key for v in self.values if v.block == block and v.text and v.now]
        all_live = [v.key for v in self.values if v.block == block and v.ends is not None]
        menu = QMenu(self)
        if value is not None:
            for base in BASES:
                action = menu.addAction(f"Word in {base} digits", lambda b=base: self.base_wished.emit(value.key, b))
                action.setCheckable(True)
                action.setChecked(value.base == base)
            menu.addSeparator()
        title = next(v.code_name for v in self.values if v.block == block)
        menu.addAction(f"Have all values of {title} live", lambda: self.live_wished.emit(mine, True))
        menu.addAction(f"Keep all values of {title} as constants", lambda: self.live_wished.emit(all_live, False))
        return menu


def shown_text(value: ValueFacts) -> str:
    """A value as written, a plain figure with its unit; what follows from others as a figure in SI."""
    if not value.text:
        return number_text(value.now, 6)
    return f"{value.text} {value.unit}".rstrip() if is_plain(value.text) else value.text


def numbered(number: NumberFacts) -> str:
    return number.name if number.alone else f"{number.name} = {number.formula}"


def word_of(number: NumberFacts, base: str) -> str:
    if number.rep.floating:
        return f"{number.now:.9g}"
    return word_in_base(number.word, number.rep.bits, base)


def tip(value: ValueFacts, number: NumberFacts | None) -> str:
    what = f"{value.title}: {value.label or value.name}"
    if value.text and not is_plain(value.text):
        what += f", {figure(value.now, value.unit)}"
    if not value.text:
        what += ", which follows from its other values and choices; in SI"
    if value.constant:
        what += f"; {value.constant}"
    if number is not None and not number.rep.floating:
        word = hexadecimal(number.word, number.rep.bits)
        what += f"; {numbered(number)} counts steps of {number.rep.step:.4g} and is {word}"
    return f"{what}."

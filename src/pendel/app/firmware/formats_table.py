"""Blocks and their signals with number format, range, step and how much of the range a run used."""

from __future__ import annotations

import math
from collections.abc import Mapping

from PyQt6.QtCore import QModelIndex, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QStandardItem, QStandardItemModel
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
)

from pendel.app.widgets.theme import colour
from pendel.app.widgets.timers import Later
from pendel.core.controllers.numbers.ranges import Source
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.firmware.facts import BlockFacts, SignalFacts
from pendel.core.quantities.tokens import without_remark
from pendel.core.quantities.units import figure, number_text

NAME, EVERY, FORMAT, BYTES, SIGNAL, HOLDS, STEP, USED, GAP, LOOP = range(10)
TITLES = ("name in code", "every", "format", "bytes", "signal", "holds", "one step", "used", "off by", "in loop")
FLAG = Qt.ItemFlag.ItemIsEditable
PROVEN = int(Qt.ItemDataRole.UserRole) + 1
NEARLY_FULL = 0.9
"""Fraction of a range from which on little is left."""


class UsedBar(QStyledItemDelegate):
    """How much of its range a signal used, as a figure over a bar; brass where little is left."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        share = index.data(Qt.ItemDataRole.UserRole)
        super().paint(painter, option, index)
        if share is None or painter is None:
            return
        area = QRectF(option.rect).adjusted(4, 0, -6, 0)
        bar = QRectF(area.left(), area.bottom() - 7, area.width(), 3)
        painter.save()
        painter.fillRect(bar, colour("hairline"))
        used = QRectF(bar.left(), bar.top(), bar.width() * min(1.0, share), bar.height())
        limited = index.data(PROVEN)  # a signal that a limit keeps uses its range up, and may
        painter.fillRect(used, colour("moss" if share <= NEARLY_FULL or limited else "brass"))
        painter.setPen(colour("muted"))
        painter.drawText(
            area.adjusted(0, 0, 0, -6),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            f"{100 * share:.0f} %",
        )
        painter.restore()


def range_text(facts: SignalFacts, unit: str) -> str:
    """What a signal can hold."""
    if facts.angle:
        return "a turn"
    if not math.isfinite(facts.high):
        return "any number"
    low, high = (0.0 if abs(x) <= 1.5 * facts.step else x for x in (facts.low, facts.high))
    if low == high == 0.0:
        return "0"
    if abs(low + high) <= 2.5 * facts.step:
        return f"±{figure(high, unit, 3)}"
    return f"{figure(low, unit, 3) if low else 0} … {figure(high, unit, 3)}"


def every_text(block: BlockFacts) -> str:
    """A block's rate in ticks, and at which of them it runs where it is not the first."""
    return f"{block.every} at {block.phase}" if block.phase else str(block.every)


def ends_of(text: str) -> tuple[str, str] | None:
    """Lowest and highest value as typed: “±40 A”, “0 … 3 m/s”; a single value stands for both ends. Nothing
    for a range that is to be found."""
    text = without_remark(text).strip()
    for parting in ("…", "...", " to "):
        low, separator, high = text.partition(parting)
        if separator:
            return low.strip(), high.strip()
    text = text.removeprefix("±").removeprefix("+-").strip()
    if not text:
        return None
    return (f"-({text})" if any(c in text for c in "+-*/(") else f"-{text}", text)


BOXES_AT_A_TIME = 6
FIXED_WIDTHS = {USED: 48, FORMAT: 92}


SEEN = {Source.RUN.value: ", as seen"}
"""What is said of a range that one run showed and nothing bounds; what follows from such is in italics."""


class FormatsTable(QTableWidget):
    format_chosen = pyqtSignal(str, str)
    """A block, and its format; empty for the drive's."""
    range_typed = pyqtSignal(str, str)
    """A signal, and what was typed."""
    signal_chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__(0, len(TITLES))
        self.setAccessibleName("Blocks")
        self.setHorizontalHeaderLabels(list(TITLES))
        self.horizontalHeaderItem(GAP).setToolTip(
            "Largest difference from float 64, both fed with the run's inputs: an integral drifts"
        )
        self.horizontalHeaderItem(LOOP).setToolTip(
            "Rms difference from float 64, each in its own closed loop, over the signal's span"
        )
        self.horizontalHeaderItem(USED).setToolTip("Fraction of its range that the run used")
        self.horizontalHeaderItem(EVERY).setToolTip("Runs every so many ticks, at which of them")
        self.horizontalHeaderItem(BYTES).setToolTip("Memory of the block's outputs, states and live values")
        for column in (GAP, LOOP):
            self.horizontalHeaderItem(column).setTextAlignment(Qt.AlignmentFlag.AlignRight)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked)
        self.setShowGrid(False)
        self.setItemDelegateForColumn(USED, UsedBar(self))
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None and header is not None
        vertical.hide()
        vertical.setDefaultSectionSize(27)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self._header = header
        header.setSectionResizeMode(LOOP, QHeaderView.ResizeMode.Stretch)
        for column, width in FIXED_WIDTHS.items():
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Fixed)
            self.setColumnWidth(column, width)
        self._resize_columns(QHeaderView.ResizeMode.ResizeToContents)
        self.signals: list[str] = []
        """The signal of each row."""
        self.choices = QStandardItemModel(self)
        """What each block offers: the drive's format, which comes first, and all there are."""
        self.choices.appendRow(QStandardItem())
        self.choices.item(0).setData("", Qt.ItemDataRole.UserRole)
        self.choices.item(0).setToolTip("As all blocks")
        for number in NumberFormat:
            choice = QStandardItem(number.label)
            choice.setData(number.value, Qt.ItemDataRole.UserRole)
            self.choices.appendRow(choice)
        self.boxes: dict[str, QComboBox] = {}
        """The choice of format of each block."""
        self._begins: list[tuple[int, BlockFacts]] = []
        """The first row of each block."""
        self._late_boxes = Later(self, 0, self._place_boxes)
        self._filling = False
        self.itemChanged.connect(self._changed)
        self.itemSelectionChanged.connect(self._choose)

    def fill(
        self,
        blocks: tuple[BlockFacts, ...],
        default: NumberFormat,
        units: Mapping[str, str],
        gaps: Mapping[str, float],
        by_hand: Mapping[str, tuple[str, str]],
        closed: Mapping[str, float],
    ) -> None:
        """Show the blocks. ``gaps`` are the largest differences of signals from float 64, ``by_hand`` ranges as
        they were typed, ``closed`` the rms differences in closed loop over the signals' span."""
        chosen = self.chosen
        self._filling = True
        rows = [(block, k, signal) for block in blocks for k, signal in enumerate(block.signals)]
        signals = [signal.signal for _, _, signal in rows]
        if signals != self.signals:  # else the boxes stay: to make them anew takes longer than all else
            self.setRowCount(0)
            self.boxes.clear()
        self.signals = signals
        self.choices.item(0).setText(f"({default.label})")
        self._resize_columns(QHeaderView.ResizeMode.Interactive)  # else each text measures its column
        self.setRowCount(len(rows))
        for r, (block, k, signal) in enumerate(rows):
            self._fill_row(r, block, k == 0, signal, units.get(signal.signal, ""), gaps, by_hand, closed)
        self._resize_columns(QHeaderView.ResizeMode.ResizeToContents)
        self._begins = [(r, block) for r, (block, k, _) in enumerate(rows) if k == 0]
        self._place_boxes()
        self._filling = False
        if self.signals:
            # The last block gives what leaves the deck; its difference holds all the others'.
            at = self.signals.index(chosen) if chosen in self.signals else len(self.signals) - 1
            self.selectRow(at)

    def _resize_columns(self, mode: QHeaderView.ResizeMode) -> None:
        for column in range(len(TITLES)):
            if column not in FIXED_WIDTHS and column != LOOP:
                self._header.setSectionResizeMode(column, mode)

    def _fill_row(
        self,
        r: int,
        block: BlockFacts,
        first: bool,
        signal: SignalFacts,
        unit: str,
        gaps: Mapping[str, float],
        by_hand: Mapping[str, tuple[str, str]],
        closed: Mapping[str, float],
    ) -> None:
        typed = by_hand.get(signal.signal)
        texts = {
            NAME: block.name if first else "",
            EVERY: every_text(block) if first else "",
            FORMAT: "",
            BYTES: str(block.data) if first else "",
            SIGNAL: signal.signal.partition(".")[2],
            HOLDS: " … ".join(typed) if typed else range_text(signal, unit) + SEEN.get(signal.source, ""),
            STEP: figure(signal.step, unit, 2) if signal.step else "–",
            USED: "" if math.isfinite(signal.used) else "–",
            GAP: figure(gaps[signal.signal], unit, 2) if signal.signal in gaps else "–",
            LOOP: f"{number_text(100 * closed[signal.signal], 2)} %" if signal.signal in closed else "–",
        }
        for column, text in texts.items():
            item = QTableWidgetItem(text)
            title = f"{block.title}, key {block.key}"
            item.setToolTip(f"{title}: {text}" if text else title)
            item.setFlags(item.flags() & ~FLAG)
            if column in (EVERY, BYTES, GAP, LOOP, STEP):
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            if column == USED and math.isfinite(signal.used):
                item.setData(Qt.ItemDataRole.UserRole, signal.used)
                item.setData(PROVEN, signal.source == Source.PROVEN.value)
            if column == HOLDS and not signal.angle and math.isfinite(signal.high):
                item.setFlags(item.flags() | FLAG)
                where = f"{signal.source}. Double-click to set it, such as ±40 A or 0 … 3"
                item.setToolTip(f"{where}; leave it empty to have it found.")
                item.setForeground(colour("strong" if typed else "ink"))
                font = item.font()
                font.setItalic(signal.source in (Source.RUN.value, Source.FOLLOWS.value))
                item.setFont(font)
            self.setItem(r, column, item)

    def _format_box(self, block: str) -> QComboBox:
        box = QComboBox()
        box.setModel(self.choices)
        box.activated.connect(lambda _: self.format_chosen.emit(block, box.currentData()))
        return box

    def _place_boxes(self) -> None:
        """A few at a time, as each takes a thousandth of a second or two."""
        self._late_boxes.stop()
        placed = 0
        for r, block in self._begins:
            if block.block not in self.boxes:
                if placed == BOXES_AT_A_TIME:
                    self._late_boxes.start()
                    return
                placed += 1
                self.boxes[block.block] = self._format_box(block.block)
                self.setCellWidget(r, FORMAT, self.boxes[block.block])
            self._show_format(self.boxes[block.block], block)

    @staticmethod
    def _show_format(box: QComboBox, block: BlockFacts) -> None:
        box.setAccessibleName(f"Number format of {block.title}")
        box.setCurrentIndex(box.findData(block.number.value) if block.own_format else 0)

    @property
    def chosen(self) -> str:
        """The signal of the chosen row."""
        return self.signals[self.currentRow()] if 0 <= self.currentRow() < len(self.signals) else ""

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter begins to edit the chosen row's range, as F2 renames a card wherever it is pressed."""
        editing = self.state() == QAbstractItemView.State.EditingState
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not editing:
            self.edit(self.model().index(self.currentRow(), HOLDS))
            return
        super().keyPressEvent(event)

    def _choose(self) -> None:
        if not self._filling and self.chosen:
            self.signal_chosen.emit(self.chosen)

    def _changed(self, item: QTableWidgetItem) -> None:
        if not self._filling and item.column() == HOLDS:
            self.range_typed.emit(self.signals[item.row()], item.text())

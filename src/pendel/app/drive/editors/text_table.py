"""Rows of texts that the user edits: a profile's corners, a source's harmonics."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from pendel.app.widgets.basic import taken_over


class TextTable(QTableWidget):
    """Reports what was typed and shows what is; it keeps nothing itself. Copies the chosen rows, or all, as a
    spreadsheet takes them."""

    typed = pyqtSignal(int, int, str)
    pasted = pyqtSignal(int, str)
    """Row that is chosen (−1: none) and the text that is to go there."""

    def __init__(self, name: str, headings: Sequence[str], words: Sequence[int] = ()):
        """``words`` are columns that hold words and not figures."""
        super().__init__(0, len(headings))
        self.words = frozenset(words)
        self.setAccessibleName(name)
        self.setHorizontalHeaderLabels(list(headings))
        header, vertical = self.horizontalHeader(), self.verticalHeader()
        assert header is not None and vertical is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        vertical.hide()
        vertical.setDefaultSectionSize(24)
        self.setMinimumHeight(150)
        self.cellChanged.connect(self._changed)

    def show_rows(self, rows: Sequence[Sequence[str]]) -> None:
        self.blockSignals(True)
        self.setRowCount(len(rows))
        for n, texts in enumerate(rows):
            for column in range(self.columnCount()):
                text = texts[column] if column < len(texts) else ""
                item = QTableWidgetItem(text)
                side = Qt.AlignmentFlag.AlignLeft if column in self.words else Qt.AlignmentFlag.AlignRight
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(n, column, item)
        self.blockSignals(False)

    def event(self, event: QEvent | None) -> bool:
        """The table's own copying and pasting goes before that of cards."""
        if taken_over(event, QKeySequence.StandardKey.Copy, QKeySequence.StandardKey.Paste):
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        clipboard = QGuiApplication.clipboard()
        if event.matches(QKeySequence.StandardKey.Copy) and clipboard is not None:
            clipboard.setText(self.copied())
        elif event.matches(QKeySequence.StandardKey.Paste) and clipboard is not None:
            self.pasted.emit(self.currentRow(), clipboard.text())
        else:
            super().keyPressEvent(event)

    def copied(self) -> str:
        """Rows with a chosen cell, all where there is at most one, with heads; cells apart by tabs."""
        chosen = sorted({index.row() for index in self.selectedIndexes()})
        numbers = chosen if len(chosen) > 1 else range(self.rowCount())
        columns = range(self.columnCount())
        heads = [item.text() if (item := self.horizontalHeaderItem(n)) is not None else "" for n in columns]
        lines = [[item.text() if (item := self.item(n, k)) is not None else "" for k in columns] for n in numbers]
        return "\n".join("\t".join(cells) for cells in (heads, *lines))

    def _changed(self, n: int, column: int) -> None:
        item = self.item(n, column)
        if item is not None:
            self.typed.emit(n, column, item.text())

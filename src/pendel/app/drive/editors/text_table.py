"""Rows of texts that the user edits: a profile's corners, a source's harmonics."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem


class TextTable(QTableWidget):
    """Tells what was typed and shows what is; it keeps nothing itself."""

    typed = pyqtSignal(int, int, str)

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

    def _changed(self, n: int, column: int) -> None:
        item = self.item(n, column)
        if item is not None:
            self.typed.emit(n, column, item.text())

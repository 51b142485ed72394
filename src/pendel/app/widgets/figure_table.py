"""A table of figures that are read, marked and copied."""

from __future__ import annotations

from PyQt6.QtCore import QEvent
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from pendel.app.widgets.basic import taken_over


class FigureTable(QTableWidget):
    """Figures that can be marked and copied with Ctrl+C."""

    def __init__(self, name: str, titles: tuple[str, ...]):
        super().__init__(0, len(titles))
        self.setAccessibleName(name)
        self.setHorizontalHeaderLabels(titles)
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        rows, header = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None and header is not None
        rows.setVisible(False)
        rows.setDefaultSectionSize(20)
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)

    def show_rows(self, rows: list[tuple[str, ...]]) -> None:
        self.setRowCount(len(rows))
        for r, texts in enumerate(rows):
            for c, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.setItem(r, c, item)

    def copy_all(self) -> None:
        """All of it, with its heads, to the clipboard."""
        heads = [self.horizontalHeaderItem(c) for c in range(self.columnCount())]
        lines = ["\t".join(head.text() if head is not None else "" for head in heads)]
        for r in range(self.rowCount()):
            items = [self.item(r, c) for c in range(self.columnCount())]
            lines.append("\t".join(item.text() if item is not None else "" for item in items))
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText("\n".join(lines))

    def event(self, event: QEvent | None) -> bool:
        """Copying figures goes before copying cards."""
        return taken_over(event, QKeySequence.StandardKey.Copy) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.matches(QKeySequence.StandardKey.Copy):
            cells = sorted((i.row(), i.column(), i.text()) for i in self.selectedItems())
            lines: dict[int, list[str]] = {}
            for r, _, text in cells:
                lines.setdefault(r, []).append(text)
            clipboard = QGuiApplication.clipboard()
            assert clipboard is not None
            clipboard.setText("\n".join("\t".join(texts) for texts in lines.values()))
            return
        super().keyPressEvent(event)


__all__ = ["FigureTable"]

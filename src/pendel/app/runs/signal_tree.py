"""The signals of a run as a tree by part; they are dragged to strips."""

from __future__ import annotations

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QBrush
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTreeWidget, QTreeWidgetItem

from pendel.app.runs.strips import signals_mime
from pendel.app.widgets.theme import colour, font
from pendel.core.runs.kept import KeptRun


class SignalTree(QTreeWidget):
    """All signals by part; drag one onto a strip, or double-click for a strip of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.setHeaderHidden(True)
        self.setColumnCount(2)
        self.setIndentation(14)
        self.setDragEnabled(True)
        self.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setAccessibleName("Signals")
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header = self.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)

    def mimeData(self, items) -> QMimeData:
        return signals_mime(
            [i.data(0, Qt.ItemDataRole.UserRole) for i in items if i.data(0, Qt.ItemDataRole.UserRole)]
        )

    def fill(self, run: KeptRun | None, text: str) -> None:
        open_before = {
            self.topLevelItem(n).text(0)
            for n in range(self.topLevelItemCount())
            if self.topLevelItem(n).isExpanded()
        }
        first = not self.topLevelItemCount()
        self.clear()
        if run is None:
            return
        groups: dict[str, QTreeWidgetItem] = {}
        for key in run.keys:
            info = run.infos.get(key)
            if info is None or (text and text.lower() not in f"{info.card} {info.label} {key}".lower()):
                continue
            if info.card not in groups:
                groups[info.card] = QTreeWidgetItem(self, [info.card])
                groups[info.card].setFont(0, font(12, bold=True))
                groups[info.card].setExpanded(bool(text) or first or info.card in open_before)
            item = QTreeWidgetItem(groups[info.card], [info.label, run.units.of(key, info.unit)])
            item.setData(0, Qt.ItemDataRole.UserRole, key)
            item.setToolTip(0, key)
            item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
            item.setForeground(1, QBrush(colour("muted")))

"""The rows of a series as a table: sorted by a click on a head, filtered by what is typed, ticked for the strips."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QItemSelection, QItemSelectionModel, QModelIndex, QObject, Qt
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QHeaderView, QTableView

from pendel.app.widgets.explained import PAGE_ROLE
from pendel.app.widgets.theme import colour
from pendel.core.quantities.units import number_text
from pendel.core.series.gathered import Gathered, Head

NUMBER_COLUMN = 0
CALLED = re.compile(r"(\w+)\s*\(")
"""A function in a column's expression."""


def head_text(head: Head) -> str:
    return f"{head.short}, {head.unit}" if head.unit else head.short


def cell_text(head: Head, si: float) -> str:
    """A figure in its column's unit."""
    if head.words:
        return head.words[int(si)] if si == si else ""
    return "–" if math.isnan(si) else number_text(head.shown(si), 5)


class RowsModel(QAbstractTableModel):
    """The kept rows of `Gathered` in an order, ``places``; the first column is their numbers."""

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.gathered: Gathered | None = None
        self.places = np.zeros(0, dtype=np.int64)
        self.best: dict[int, tuple[float, float]] = {}
        """Least and largest of each figure's column, which are marked."""

    def show(self, gathered: Gathered | None, places: np.ndarray) -> None:
        self.beginResetModel()
        self.gathered, self.places = gathered, places
        self.best = {}
        if gathered is not None and len(places) > 1:
            with np.errstate(all="ignore"):
                for k in range(gathered.axes, len(gathered.heads)):
                    y = gathered.cells[places, k]
                    y = y[np.isfinite(y)]
                    if len(y) and np.ptp(y) > 0:
                        self.best[k] = float(y.min()), float(y.max())
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008, N802
        return 0 if parent.isValid() else len(self.places)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008, N802
        return 0 if parent.isValid() or self.gathered is None else 1 + len(self.gathered.heads)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:  # noqa: N802
        if self.gathered is None or orientation is not Qt.Orientation.Horizontal:
            return None
        head = self.gathered.heads[section - 1] if section else None
        if role == Qt.ItemDataRole.DisplayRole:
            return head_text(head) if head is not None else "row"
        if role == Qt.ItemDataRole.ToolTipRole:
            return (
                head.name if head is not None else "Number of the run; a click on a head sorts, another turns it round"
            )
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == PAGE_ROLE:
            return next((f"measure:{word}" for word in CALLED.findall(head.name if head is not None else "")), "")
        return None

    def data(self, index: QModelIndex, role: int = 0) -> object:
        gathered = self.gathered
        if gathered is None or not index.isValid():
            return None
        place, column = int(self.places[index.row()]), index.column() - 1
        if role == Qt.ItemDataRole.DisplayRole:
            if column < 0:
                return str(int(gathered.numbers[place]))
            return cell_text(gathered.heads[column], float(gathered.cells[place, column]))
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole:
            if gathered.failed[place]:
                return colour("brick")
            if column in self.best and gathered.cells[place, column] in self.best[column]:
                return colour("petrol")
        if (
            role == Qt.ItemDataRole.ToolTipRole
            and column in self.best
            and gathered.cells[place, column] in self.best[column]
        ):
            return "minimum" if gathered.cells[place, column] == self.best[column][0] else "maximum"
        return None


class RowsTable(QTableView):
    """Ctrl+C copies the chosen rows with their heads."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Rows of the series")
        self.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QTableView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setWordWrap(False)
        rows, heads = self.verticalHeader(), self.horizontalHeader()
        assert rows is not None and heads is not None
        rows.setVisible(False)
        rows.setDefaultSectionSize(22)
        heads.setSectionsClickable(True)
        heads.setSectionsMovable(True)
        heads.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        heads.setHighlightSections(False)
        heads.setMinimumSectionSize(48)

    def fit_columns(self) -> None:
        """Each as wide as its texts and its head, up to a bound."""
        heads, model = self.horizontalHeader(), self.model()
        assert heads is not None and model is not None
        self.resizeColumnsToContents()
        for k in range(model.columnCount()):
            heads.resizeSection(k, min(220, max(heads.sectionSize(k) + 12, heads.sectionSizeHint(k) + 4)))

    def show_order(self, section: int, *, falling: bool) -> None:
        """Mark the column that rows are sorted by."""
        heads = self.horizontalHeader()
        assert heads is not None
        heads.setSortIndicatorShown(True)
        heads.setSortIndicator(section, Qt.SortOrder.DescendingOrder if falling else Qt.SortOrder.AscendingOrder)

    def choose_row(self, row: int) -> None:
        """Choose one row of the model, and bring it into sight."""
        model, chosen = self.model(), self.selectionModel()
        assert model is not None and chosen is not None
        index = model.index(row, 0)
        how = QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
        chosen.setCurrentIndex(index, how)
        self.scrollTo(index)

    def choose_again(self, rows: Iterable[int]) -> None:
        """Rows that were chosen before the model was filled anew, wherever they are now; nobody hears of it."""
        model, chosen = self.model(), self.selectionModel()
        assert model is not None and chosen is not None
        selection = QItemSelection()
        for row in rows:
            selection.select(model.index(row, 0), model.index(row, model.columnCount() - 1))
        blocked = chosen.blockSignals(True)
        chosen.select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        chosen.blockSignals(blocked)
        self.viewport().update()

    def chosen_rows(self) -> list[int]:
        """Rows of the model that are selected, in their order on the screen."""
        chosen = self.selectionModel()
        return sorted({index.row() for index in chosen.selectedRows()}) if chosen is not None else []

    def as_text(self, rows: list[int]) -> str:
        """Rows with their heads, apart by tabs."""
        model = self.model()
        heads = self.horizontalHeader()
        assert model is not None and heads is not None
        columns = sorted(range(model.columnCount()), key=heads.visualIndex)
        lines = [[str(model.headerData(c, Qt.Orientation.Horizontal, Qt.ItemDataRole.DisplayRole)) for c in columns]]
        lines += [[str(model.index(r, c).data()) for c in columns] for r in rows]
        return "\n".join("\t".join(line) for line in lines)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.matches(QKeySequence.StandardKey.Copy):
            clipboard = QGuiApplication.clipboard()
            assert clipboard is not None
            clipboard.setText(self.as_text(self.chosen_rows()))
            return
        super().keyPressEvent(event)

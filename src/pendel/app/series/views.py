"""How the rows of a series are looked at: a figure over what varies, a map, all columns at once; and a histogram."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QSplitter, QStackedWidget, QWidget

from pendel.app.series.many_axes import ParallelAxes, ScatterMatrix
from pendel.app.series.pictures import Histogram, MapPlot, RowsPlot
from pendel.app.widgets.basic import column, label, row
from pendel.core.errors import PendelError
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.series.gathered import Gathered

NOTHING = "–"
TWO, PARALLEL, MATRIX = "one or two", "all, side by side", "all over all"
LOOKS = {
    TWO: "A figure over one thing that varies, or as a map over two",
    PARALLEL: "All columns on parallel axes, a line to a row",
    MATRIX: "Every column over every other",
}


class RowsViews(QWidget):
    """``row_chosen`` gives the place of a row that was clicked, ``narrowed`` ranges that were drawn with the mouse,
    ``figure_chosen`` the column of another figure, and ``said`` a sentence on a limit that cannot be read."""

    row_chosen = pyqtSignal(int)
    narrowed = pyqtSignal(object)
    figure_chosen = pyqtSignal(int)
    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.gathered: Gathered | None = None
        self.places = np.zeros(0, dtype=np.int64)
        self.chosen = -1
        self._map_by_hand = False
        """Whether somebody chose what a map goes over, or that there is none."""
        inside = column(self, (0, 0, 0, 0), 6)
        inside.addLayout(self._build_choices())
        self.rows_plot, self.map_plot, self.histogram = RowsPlot(), MapPlot(), Histogram()
        self.parallel, self.matrix = ParallelAxes(), ScatterMatrix()
        self.stack = QStackedWidget()
        for plot in (self.rows_plot, self.map_plot, self.parallel, self.matrix):
            plot.row_chosen.connect(self.row_chosen)
            self.stack.addWidget(plot)
        for many in (self.parallel, self.matrix):
            many.narrowed.connect(self.narrowed)
        plots = QSplitter(Qt.Orientation.Horizontal)
        plots.addWidget(self.stack)
        plots.addWidget(self.histogram)
        plots.setStretchFactor(0, 3)
        plots.setStretchFactor(1, 2)
        inside.addWidget(plots, 1)

    def _build_choices(self) -> QHBoxLayout:
        self.up, self.across, self.second, self.looks = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        for box, name in (
            (self.up, "Figure that is shown"),
            (self.across, "Over what it is shown"),
            (self.second, "Second value, for a map"),
            (self.looks, "How many columns are shown"),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(7)
            box.activated.connect(lambda _: self.draw())
        for words, hint in LOOKS.items():
            self.looks.addItem(words)
            self.looks.setItemData(self.looks.count() - 1, hint, Qt.ItemDataRole.ToolTipRole)
        self.looks.setToolTip("; ".join(LOOKS.values()))
        self.second.activated.connect(lambda _: setattr(self, "_map_by_hand", True))
        self.limit = QLineEdit()
        self.limit.setAccessibleName("Limit of the figure")
        self.limit.setPlaceholderText("limit, as ≤ 5 %")
        self.limit.setFixedWidth(116)
        self.limit.editingFinished.connect(self.draw)
        self._over, self._and = label("over", "muted"), label("and", "muted")
        return row(self.looks, self.up, self._over, self.across, self._and, self.second, 1, self.limit, spacing=6)

    def offer(self, gathered: Gathered | None) -> None:
        """Columns to choose among, keeping what is chosen where it is still there."""
        self.gathered = gathered
        heads = gathered.heads if gathered is not None else []
        axes = gathered.axes if gathered is not None else 0
        choices = (
            (
                self.up,
                [(head.short, k) for k, head in enumerate(heads)][axes:] or [(h.short, k) for k, h in enumerate(heads)],
            ),
            (self.across, [(head.short, k) for k, head in enumerate(heads)]),
            (self.second, [(NOTHING, -1), *((head.short, k) for k, head in enumerate(heads[:axes]))]),
        )
        for box, entries in choices:
            known = box.currentText()
            with QSignalBlocker(box):
                box.clear()
                for words, place in entries:
                    box.addItem(words, place)
                at = box.findText(known)
                if box is self.second and axes == 2 and not self._map_by_hand:
                    at = box.findData(1)
                box.setCurrentIndex(max(0, at))

    def show_rows(self, gathered: Gathered, places: np.ndarray, chosen: int) -> None:
        """Rows by their places in the order of the table."""
        self.gathered, self.places, self.chosen = gathered, places, chosen
        self.draw()

    def draw(self) -> None:
        gathered = self.gathered
        if gathered is None or not gathered.heads or self.up.currentData() is None:
            return
        up, across, second = (int(box.currentData()) for box in (self.up, self.across, self.second))
        looks = self.looks.currentText()
        for widget in (self._over, self.across, self._and, self.second, self.limit, self.histogram):
            widget.setVisible(looks == TWO)
        if looks != TWO:
            many = self.parallel if looks == PARALLEL else self.matrix
            self.stack.setCurrentWidget(many)
            many.show_rows(gathered, self.places, up, self.chosen)
        elif second >= 0 and second != across:
            self.stack.setCurrentWidget(self.map_plot)
            self.map_plot.show_rows(gathered, self.places, across, second, up, self.chosen)
        else:
            self.stack.setCurrentWidget(self.rows_plot)
            others = [k for k in range(gathered.axes) if k != across]
            self.rows_plot.show_rows(gathered, self.places, across, up, others[0] if others else -1, self.chosen)
        if looks == TWO:
            self._draw_histogram(gathered, up)
        self.figure_chosen.emit(up)

    def _draw_histogram(self, gathered: Gathered, up: int) -> None:
        head, text = gathered.heads[up], self.limit.text().strip()
        below = not text.startswith(("≥", ">"))
        limit = math.nan
        if plain := text.lstrip("≤≥<>= "):
            try:
                limit = value_in_field(plain, head.unit, Names({}))
                self.limit.setToolTip("")
            except PendelError as problem:
                self.limit.setToolTip(str(problem))
                self.said.emit(str(problem))
        self.histogram.show_figures(head, gathered.cells[self.places, up], limit, below=below)

    def choose_place(self, place: int) -> None:
        """Mark a row in all plots."""
        self.chosen = place
        for plot in (self.rows_plot, self.map_plot, self.parallel, self.matrix):
            plot.choose_place(place)


__all__ = ["MATRIX", "PARALLEL", "TWO", "RowsViews"]

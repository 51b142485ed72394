"""How the rows of a series are looked at: a figure over what varies, a map, all columns at once; and a histogram."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np
from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QSplitter, QStackedWidget, QWidget

from pendel.app.series.many_axes import ParallelAxes, ScatterMatrix
from pendel.app.series.pictures import Histogram, MapPlot, RowsPlot
from pendel.app.series.traces_plot import TracesPlot, some_of
from pendel.app.widgets.basic import column, label, row
from pendel.core.errors import PendelError
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.runs.record.kept import SignalInfo
from pendel.core.series.gathered import Gathered
from pendel.core.series.traces import RowTrace

TracesOf = Callable[[str, Sequence[int]], Sequence[RowTrace]]
"""Kept traces of a signal by the numbers of rows."""
NOTHING = "–"
TWO, PARALLEL, MATRIX, TRACES = "one or two", "all, side by side", "all over all", "traces"
LOOKS = {
    TWO: "A figure over one thing that varies, or as a map over two",
    PARALLEL: "All columns on parallel axes, a line to a row",
    MATRIX: "Every column over every other",
    TRACES: "Traces that rows keep, on each other",
}


class RowsViews(QWidget):
    """``row_chosen`` gives the place of a row that was clicked, ``narrowed`` ranges that were drawn with the mouse,
    ``figure_chosen`` the column of another figure, and ``said`` a sentence on a limit that cannot be read."""

    row_chosen = pyqtSignal(int)
    narrowed = pyqtSignal(object)
    figure_chosen = pyqtSignal(int)
    said = pyqtSignal(str)

    def __init__(self, traces_of: TracesOf) -> None:
        super().__init__()
        self.traces_of = traces_of
        self.gathered: Gathered | None = None
        self.places = np.zeros(0, dtype=np.int64)
        self.chosen = -1
        self.infos: Mapping[str, SignalInfo] = {}
        """Of the drive whose rows are shown."""
        self._map_by_hand = False
        """Whether somebody chose what a map goes over, or that there is none."""
        inside = column(self, (0, 0, 0, 0), 6)
        inside.addLayout(self._build_choices())
        self.rows_plot, self.map_plot, self.histogram = RowsPlot(), MapPlot(), Histogram()
        self.parallel, self.matrix, self.traces = ParallelAxes(), ScatterMatrix(), TracesPlot()
        self.stack = QStackedWidget()
        for plot in (self.rows_plot, self.map_plot, self.parallel, self.matrix, self.traces):
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
        self.signal, self.tinted = QComboBox(), QComboBox()
        for box, name in (
            (self.up, "Figure that is shown"),
            (self.across, "Over what it is shown"),
            (self.second, "Second value, for a map"),
            (self.looks, "How rows are shown"),
            (self.signal, "Signal whose traces are shown"),
            (self.tinted, "What shades the traces"),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(20 if box is self.signal else 7)
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
        self._over, self._and, self._by = label("over", "muted"), label("and", "muted"), label("shaded by", "muted")
        for widget in (self.signal, self._by, self.tinted):
            widget.hide()
        of_two = self.up, self._over, self.across, self._and, self.second
        return row(self.looks, *of_two, self.signal, self._by, self.tinted, 1, self.limit, spacing=6)

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
            (self.tinted, [(head.short, k) for k, head in enumerate(heads)]),
            (self.signal, [(name, k) for k, name in enumerate(gathered.plan.traces if gathered is not None else ())]),
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
        for widget in (self.signal, self._by, self.tinted):
            widget.setVisible(looks == TRACES)
        self.up.setVisible(looks != TRACES)
        if looks == TRACES:
            self._draw_traces(gathered)
        elif looks != TWO:
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

    def _draw_traces(self, gathered: Gathered) -> None:
        self.stack.setCurrentWidget(self.traces)
        signal, tinted = self.signal.currentText(), int(self.tinted.currentData())
        places = some_of(self.places, gathered.cells[:, tinted])
        of_row = {int(gathered.numbers[place]): int(place) for place in places}
        traces = self.traces_of(signal, list(of_row)) if signal else []
        shown = [(of_row[trace.number], trace) for trace in traces]
        info = self.infos.get(signal) or (SignalInfo(signal, signal, "") if signal else None)
        self.traces.show_traces(gathered, shown, info, tinted, self.chosen, len(self.places))

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
        for plot in (self.rows_plot, self.map_plot, self.parallel, self.matrix, self.traces):
            plot.choose_place(place)


__all__ = ["MATRIX", "PARALLEL", "TRACES", "TWO", "RowsViews"]

"""The oscilloscope's channels: which, in which colour, how they are drawn, and their figures."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from pendel.app.widgets.swatch import swatch
from pendel.app.widgets.theme import trace_colour
from pendel.core.bench.description import Channel
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import number_text
from pendel.core.wording import sentence_case

NAME, UNIT, SCALE, OFFSET, FIRST, SECOND, MEAN, RMS, SPAN = range(9)
TITLES = ("channel", "unit", "× scale", "+ offset", "at 1", "at 2", "mean", "rms", "span")
LONGEST_TOLD = 40
"""Characters of what was typed that a sentence repeats."""
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True)
class Shown:
    """A channel on the oscilloscope: drawn as its values in its unit, times ``scale``, plus ``offset``."""

    channel: Channel
    scale: float = 1.0
    offset: float = 0.0
    visible: bool = True

    def drawn(self, values: np.ndarray) -> np.ndarray:
        return values / self.channel.scale * self.scale + self.offset

    def words(self, height: float) -> str:
        """What it is at a height of the picture."""
        value = (height - self.offset) / self.scale if self.scale else math.nan
        return f"{number_text(value)} {self.channel.unit}".rstrip()


class ChannelTable(QTableWidget):
    changed = pyqtSignal(int, object)
    """The place of a channel, and how it is shown now."""
    removed = pyqtSignal(int)
    refused = pyqtSignal(str)
    """Why what was typed is not taken."""

    def __init__(self) -> None:
        super().__init__(0, len(TITLES))
        self.setAccessibleName("Channels")
        self.setHorizontalHeaderLabels(list(TITLES))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked)
        self.setShowGrid(False)
        self.setToolTip("Tick what is drawn; Delete takes a channel off; double-click scale or offset to change it")
        for column, words in ((MEAN, "mean"), (RMS, "rms"), (SPAN, "peak to peak")):
            self.horizontalHeaderItem(column).setToolTip(sentence_case(f"{words} between the cursors"))
        vertical, header = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None and header is not None
        vertical.hide()
        vertical.setDefaultSectionSize(23)
        header.setSectionResizeMode(NAME, QHeaderView.ResizeMode.Stretch)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        for column in range(1, len(TITLES)):
            self.setColumnWidth(column, {UNIT: 40, SCALE: 50, OFFSET: 52}.get(column, 70))
            self.horizontalHeaderItem(column).setTextAlignment(RIGHT)
        self.shown: list[Shown] = []
        self._filling = False
        self.itemChanged.connect(self._edited)

    def fill(self, shown: Sequence[Shown]) -> None:
        self._filling = True
        self.shown = list(shown)
        self.setRowCount(len(self.shown))
        for r, one in enumerate(self.shown):
            texts = {
                NAME: one.channel.title,
                UNIT: one.channel.unit,
                SCALE: f"{one.scale:g}",
                OFFSET: f"{one.offset:g}",
            }
            for c in range(len(TITLES)):
                item = QTableWidgetItem(texts.get(c, "–"))
                flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
                if c in (SCALE, OFFSET):
                    flags |= Qt.ItemFlag.ItemIsEditable
                item.setFlags(flags)
                if c == NAME:
                    item.setFlags(flags | Qt.ItemFlag.ItemIsUserCheckable)
                    item.setCheckState(Qt.CheckState.Checked if one.visible else Qt.CheckState.Unchecked)
                    item.setIcon(swatch(trace_colour(r), 12))
                    item.setToolTip(f"{one.channel.title} ({one.channel.key})")
                else:
                    item.setTextAlignment(RIGHT)
                self.setItem(r, c, item)
        self._filling = False

    def show_figures(self, times: np.ndarray, values: np.ndarray, a: float, b: float) -> None:
        """Figures at the cursors and between them; values in SI, shape (n, channels)."""
        self._filling = True
        for r, one in enumerate(self.shown):
            y = values[:, r] / one.channel.scale if values.ndim == 2 and r < values.shape[1] else np.zeros(0)
            figures = figures_of(times, y, a, b)
            for c, number in zip((FIRST, SECOND, MEAN, RMS, SPAN), figures):
                item = self.item(r, c)
                if item is not None:
                    item.setText(number_text(number, 4) if np.isfinite(number) else "–")
        self._filling = False

    def _edited(self, item: QTableWidgetItem) -> None:
        if self._filling:
            return
        r, one = item.row(), self.shown[item.row()]
        if item.column() == NAME:
            one = replace(one, visible=item.checkState() == Qt.CheckState.Checked)
        elif item.column() in (SCALE, OFFSET):
            try:
                number, why = value_in_field(item.text().replace(",", "."), "", Names({})), ""
            except ExpressionProblem as problem:
                number, why = np.nan, f" ({problem})"
            scales = item.column() == SCALE
            if not np.isfinite(number) or (scales and number == 0.0):
                what = "scale" if scales else "offset"
                typed, kept = item.text().strip()[:LONGEST_TOLD], one.scale if scales else one.offset
                remedy = f"enter a number{' other than 0' if scales else ''}"
                self.fill(self.shown)
                self.refused.emit(
                    f"{one.channel.title}: “{typed}” is no {what}{why}. It stays {number_text(kept)}; {remedy}."
                )
                return
            one = replace(one, **{"scale" if item.column() == SCALE else "offset": number})
        self.shown[r] = one
        self.changed.emit(r, one)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        editing = self.state() == QAbstractItemView.State.EditingState
        if event is not None and event.key() == Qt.Key.Key_Delete and self.currentRow() >= 0 and not editing:
            self.removed.emit(self.currentRow())
            return
        super().keyPressEvent(event)


def figures_of(t: np.ndarray, y: np.ndarray, a: float, b: float) -> tuple[float, float, float, float, float]:
    """Of samples that hold until the next: at both times, then mean, rms and peak-to-peak between them."""
    nothing = (np.nan,) * 5
    if len(t) < 2 or len(y) != len(t) or not np.all(np.isfinite(y)):
        return nothing
    at = [int(np.searchsorted(t, x + 1e-12, side="right")) - 1 for x in (a, b)]
    first, second = (float(y[k]) if k >= 0 and x <= t[-1] + 1e-12 else np.nan for k, x in zip(at, (a, b)))
    begin, end = max(a, float(t[0])), min(b, float(t[-1]))
    if end <= begin:
        return first, second, np.nan, np.nan, np.nan
    inside = (t > begin) & (t < end)
    edges = np.concatenate([[begin], t[inside], [end]])
    levels = y[np.searchsorted(t, edges[:-1] + 1e-12, side="right") - 1]
    parts = np.diff(edges)
    mean = float(parts @ levels / (end - begin))
    rms = float(np.sqrt(parts @ levels**2 / (end - begin)))
    return first, second, mean, rms, float(np.ptp(levels))

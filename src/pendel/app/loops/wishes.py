"""What a rule is given: the crossover and the least phase margin, each typed or slid."""

from __future__ import annotations

import math

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtWidgets import QSlider, QWidget

from pendel.app.widgets.basic import Field, column, label, row
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, number_text

PLACES = 1000
"""Of a slider."""


def slider(name: str, low: int, high: int) -> QSlider:
    bar = QSlider(Qt.Orientation.Horizontal)
    bar.setRange(low, high)
    bar.setPageStep((high - low) // 20)
    bar.setAccessibleName(name)
    return bar


def place_on(slide: QSlider, value: float, low: float, high: float) -> None:
    """Put a slider where a value lies between two ends, by its logarithm; nobody hears of it."""
    with QSignalBlocker(slide):
        slide.setValue(round(PLACES * math.log(value / low) / math.log(high / low)))


def value_on(slide: QSlider, low: float, high: float) -> float:
    return low * (high / low) ** (slide.value() / PLACES)


class Wishes(QWidget):
    """``changed`` is emitted when something else is wished for, ``refused`` why what was typed cannot be."""

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.ends = (1.0, 1.0)
        """Hz, between which a crossover can lie."""
        self.wish = 1.0
        """Hz."""
        self.crossover = Field("", "Crossover, Hz", 84)
        self.crossover.committed.connect(self._crossover_typed)
        self.crossover_slider = slider("Crossover", 0, PLACES)
        self.crossover_slider.valueChanged.connect(lambda _: self._crossover_slid())
        self.margin = Field("60", "Phase margin at least, degrees", 84)
        self.margin.committed.connect(self._margin_typed)
        self.margin_slider = slider("Phase margin", 20, 85)
        self.margin_slider.setValue(60)
        self.margin_slider.valueChanged.connect(self._margin_slid)
        rows = column(self, (0, 6, 0, 0), 4)
        rows.addLayout(row(label("Crossover"), 1, self.crossover, label("Hz", "muted")))
        rows.addWidget(self.crossover_slider)
        rows.addLayout(row(label("Phase margin at least"), 1, self.margin, label("°", "muted")))
        rows.addWidget(self.margin_slider)

    @property
    def phase_margin(self) -> float:
        return float(self.margin_slider.value())

    def begin(self, wish: float, low: float, high: float) -> None:
        """Wish for a crossover (Hz) between two ends."""
        self.ends, self.wish = (low, high), min(max(wish, low), high)
        self._show_crossover()
        place_on(self.crossover_slider, self.wish, low, high)

    def _show_crossover(self) -> None:
        self.crossover.setText(number_text(self.wish, 4))
        self.crossover.before = self.crossover.text()

    def _crossover_typed(self, text: str) -> None:
        low, high = self.ends
        try:
            wish = value_in_field(text, "Hz", Names({}))
            if not low <= wish <= high:
                raise ValueError
        except (ExpressionProblem, ValueError):
            self.crossover.mark(f"Write a frequency between {figure(low, 'Hz', 3)} and {figure(high, 'Hz', 3)}.")
            self.refused.emit(self.crossover.toolTip())
            return
        self.crossover.mark("")
        self.begin(wish, low, high)
        self.changed.emit()

    def _crossover_slid(self) -> None:
        self.wish = value_on(self.crossover_slider, *self.ends)
        self._show_crossover()
        self.changed.emit()

    def _margin_typed(self, text: str) -> None:
        try:
            self.margin_slider.setValue(round(float(text)))
        except ValueError:
            self.margin.mark("Write a margin in degrees, such as 60.")
            return
        self.margin.mark("")

    def _margin_slid(self, value: int) -> None:
        self.margin.setText(str(value))
        self.margin.before = str(value)
        self.changed.emit()


__all__ = ["PLACES", "Wishes", "place_on", "slider", "value_on"]

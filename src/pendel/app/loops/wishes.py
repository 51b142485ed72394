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


def renamed_loop(loop: str, old: str, new: str) -> str:
    """The key of a loop whose regulator may be called otherwise."""
    card, dot, axis = loop.partition(".")
    return (new if card == old else card) + dot + axis


class Wishes(QWidget):
    """``changed`` is emitted when something else is wished for, ``refused`` why what was typed cannot be."""

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.loop = ""
        """The loop whose crossover it is."""
        self.of_loops: dict[str, float] = {}
        """Crossovers (Hz) that somebody asked for, by loops."""
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

    def begin(self, loop: str, usual: float, low: float, high: float) -> None:
        """Show what somebody asked for of this loop, else the usual crossover (Hz), between two ends."""
        wish = self.of_loops.get(loop, usual)
        self.loop, self.ends, self.wish = loop, (low, high), min(max(wish, low), high)
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
        self.of_loops[self.loop] = wish
        self.begin(self.loop, wish, low, high)
        self.changed.emit()

    def _crossover_slid(self) -> None:
        self.wish = self.of_loops[self.loop] = value_on(self.crossover_slider, *self.ends)
        self._show_crossover()
        self.changed.emit()

    def forget(self) -> None:
        """Another drive's loops may be called alike."""
        self.of_loops.clear()

    def follow(self, old: str, new: str) -> None:
        """A card is called otherwise."""
        self.of_loops = {renamed_loop(loop, old, new): wish for loop, wish in self.of_loops.items()}

    def _margin_typed(self, text: str) -> None:
        low, high = self.margin_slider.minimum(), self.margin_slider.maximum()
        try:
            margin = value_in_field(text.strip().removesuffix("°"), "", Names({}))
            if not low <= margin <= high:
                raise ValueError
        except (ExpressionProblem, ValueError):
            self.margin.mark(f"Write a margin in degrees, from {low} to {high}.")
            return
        self.margin.mark("")
        self.margin_slider.setValue(round(margin))
        self.margin.show_text(str(self.margin_slider.value()))

    def _margin_slid(self, value: int) -> None:
        self.margin.setText(str(value))
        self.margin.before = str(value)
        self.changed.emit()


__all__ = ["PLACES", "Wishes", "place_on", "renamed_loop", "slider", "value_on"]

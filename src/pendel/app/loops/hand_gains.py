"""Every gain of a loop by hand: typed or slid, with all plots following."""

from __future__ import annotations

import math
from collections.abc import Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QSlider, QWidget

from pendel.app.loops.figures import gain_unit
from pendel.app.loops.wishes import PLACES, place_on, slider, value_on
from pendel.app.widgets.basic import Field, clear, column, label, row
from pendel.core.errors import ExpressionProblem
from pendel.core.loops.tuning.tuning import LoopStudy
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure

REACH = 20.0
"""A slider goes from this part of a gain to so many times of it."""


class HandGains(QWidget):
    """``changed`` is emitted when a gain is another."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.rows = column(self, (0, 6, 0, 0), 4)
        self.gains: dict[str, float] = {}
        """By the names of rules, SI; those that are 0 stay so."""
        self.middles: dict[str, float] = {}
        self.fields: dict[str, Field] = {}
        self.sliders: dict[str, QSlider] = {}
        self.units: dict[str, str] = {}

    def begin(self, study: LoopStudy, gains: Mapping[str, float]) -> None:
        """Start from gains."""
        clear(self.rows)
        self.gains, self.fields, self.sliders = dict(gains), {}, {}
        self.middles = {name: abs(gain) for name, gain in gains.items() if gain and math.isfinite(gain)}
        for name, own in study.loop.regulation.gains.items():
            if name not in self.middles:
                continue
            unit = self.units[name] = gain_unit(study, name)
            field = self.fields[name] = Field(figure(gains[name], unit), own, 96)
            field.committed.connect(lambda text, n=name: self._typed(n, text))
            slide = self.sliders[name] = slider(own, 0, PLACES)
            slide.valueChanged.connect(lambda _, n=name: self._slid(n))
            self._place(name)
            line = row(label(own), 1, field)
            self.rows.addLayout(line)
            self.rows.addWidget(slide)

    def _place(self, name: str) -> None:
        middle = self.middles[name]
        near = min(max(abs(self.gains[name]), middle / REACH), middle * REACH)
        place_on(self.sliders[name], near, middle / REACH, middle * REACH)

    def _typed(self, name: str, text: str) -> None:
        field = self.fields[name]
        try:
            value = value_in_field(text, self.units[name], Names({}))
        except ExpressionProblem as problem:
            field.mark(str(problem))
            return
        if not math.isfinite(value) or value * self.gains[name] <= 0:
            field.mark("Write a gain of the same sign, not 0: to open the loop, use its choice on Drive.")
            return
        field.mark("")
        self.gains[name] = value
        self._place(name)
        self.changed.emit()

    def _slid(self, name: str) -> None:
        middle = self.middles[name]
        size = value_on(self.sliders[name], middle / REACH, middle * REACH)
        self.gains[name] = math.copysign(size, self.gains[name])
        field = self.fields[name]
        field.setText(figure(self.gains[name], self.units[name]))
        field.before = field.text()
        field.mark("")
        self.changed.emit()


__all__ = ["HandGains"]

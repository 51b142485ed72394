"""Limits within which gains are searched, and what is made best."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QWidget

from pendel.app.widgets.basic import Field, button, column, label, row, wrapped
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.loops.tuning.within_limits import Goal, Limits, Searched
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, number_text

ROWS = (
    ("phase_margin", "phase margin at least", "°", "45"),
    ("ms", "Ms at most", "", "1.7"),
    ("overshoot", "overshoot at most", "%", "20"),
    ("effort", "actuator peak at most", "", ""),
    ("crossover", "crossover at least", "Hz", ""),
    ("fastest", "crossover at most", "Hz", ""),
)
"""Name in `Limits`, words, unit, what stands there first. An empty field is no limit."""
NAMES = {name: words for name, words, *_ in ROWS}


class LimitsBox(QWidget):
    """``search_wanted`` begins a search, or stops it."""

    search_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 6, 0, 0), 4)
        self.goal = QComboBox()
        self.goal.setAccessibleName("What is made best")
        for goal in Goal:
            self.goal.addItem(goal.label, goal)
        inside.addLayout(row(label("Make best", "muted"), self.goal))
        self.fields: dict[str, Field] = {}
        for name, words, unit, first in ROWS:
            field = self.fields[name] = Field(first, words, 64)
            field.setPlaceholderText("any")
            field.setFixedWidth(68)
            tail = label(unit, "muted")
            tail.setFixedWidth(18)
            inside.addLayout(row(label(words), 1, field, tail))
        self.fields["effort"].setToolTip("Of the regulator's output, in SI, after a setpoint step of one")
        self.whole = QCheckBox("all loops, inside out")
        self.whole.setToolTip("Each loop with those further in as tuned; the gains are taken in one step")
        inside.addWidget(self.whole)
        self.button = button("Search", self.search_wanted.emit)
        inside.addWidget(self.button)
        self.words = wrapped("", "muted")
        inside.addWidget(self.words)

    def wish(self) -> tuple[Limits, Goal]:
        """Raises `DriveProblem` for what cannot be a limit."""
        given = {}
        for name, field in self.fields.items():
            text = field.text().strip()
            field.mark("")
            if text:
                try:
                    given[name] = value_in_field(text, "", Names({}))
                except ExpressionProblem as problem:
                    field.mark(str(problem))
                    raise DriveProblem(f"{NAMES[name]}: {problem}") from problem
        floors = {"phase_margin": 0.0, "ms": 1e9, "overshoot": 1e9}  # what an empty field means
        return Limits(**{**floors, **given}), self.goal.currentData()

    def show_searching(self, tries: str = "") -> None:
        self.button.setText("Stop")
        self.words.setText(tries or "Searching …")

    def show_found(self, searched: Searched | None, sentence: str = "") -> None:
        self.button.setText("Search")
        if searched is None:
            self.words.setText(sentence)
            return
        stops = " and ".join(NAMES[n] for n in searched.stopping)
        why = f"stopped by: {stops}" if stops else "the best lies inside the limits"
        self.words.setText(f"{searched.tries} gains tried; {why}.")

    def show_cascade(
        self, searched: Mapping[str, Searched], left: Mapping[str, str], labels: Mapping[str, str]
    ) -> None:
        """What was taken, and what was left and why; ``labels`` by the keys of loops."""
        self.button.setText("Search")
        lines = ["Taken in one step; Ctrl+Z takes it back." if searched else "Nothing was taken."]
        for key, each in searched.items():
            m = each.best.analysis.margins
            crossing = figure(m.crossover, "Hz", 3)
            lines.append(f"{labels.get(key, key)}: {crossing}, {m.phase:.0f}°, Ms {number_text(m.ms, 3)}")
        lines += [f"{labels.get(key, key)} stays as it was. {why}" for key, why in left.items()]
        self.words.setText("\n".join(lines))


__all__ = ["LimitsBox"]

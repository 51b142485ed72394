"""What values are searched for: a goal, limits, and how far the search is."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QWidget

from pendel.app.widgets.basic import Field, button, column, label, row, wrapped
from pendel.core.errors import DriveProblem
from pendel.core.series.goals import EQUAL, LEAST_BUDGET, MOST_BUDGET, SENSES, Goal
from pendel.core.series.points import whole_number


class GoalBox(QWidget):
    """``search_wanted`` begins a search, or stops it."""

    search_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 0, 0, 0), 4)
        inside.addWidget(label("Find values", "heading"))
        self.sense, self.figure = QComboBox(), QComboBox()
        self.sense.setAccessibleName("Goal")
        self.sense.addItems(SENSES)
        self.sense.setFixedWidth(86)
        self.sense.currentTextChanged.connect(lambda sense: self.wished_row.setVisible(sense == EQUAL))
        self.figure.setAccessibleName("Figure of the goal")
        self.figure.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.figure.setMinimumContentsLength(8)
        line = row(self.sense, self.figure, spacing=4)
        line.setStretch(1, 1)
        inside.addLayout(line)
        self.wished = Field("", "What the figure is to be", 80)
        self.wished_row = QWidget()
        column(self.wished_row, (0, 0, 0, 0)).addLayout(row(label("to", "muted"), 1, self.wished))
        self.wished_row.hide()
        inside.addWidget(self.wished_row)
        self.limits = Field("", "Limits of the search", 120)
        self.limits.setAlignment(Qt.AlignmentFlag.AlignLeft)
        self.limits.setPlaceholderText("overshoot <= 5 %")
        self.limits.setToolTip("Such as overshoot <= 5 % and peak < 24 A")
        whole = row(label("while", "muted"), self.limits)
        whole.setStretch(1, 1)
        inside.addLayout(whole)
        self.trials = Field("100", "Trials of the search", 60)
        self.trials.setFixedWidth(70)
        inside.addLayout(row(label("trials at most", "muted"), 1, self.trials))
        self.button = button("Search", self.search_wanted.emit)
        self.button.setToolTip("Between the first and the last value of all that varies; every trial is kept as a row")
        inside.addWidget(self.button)
        self.words = wrapped("", "muted")
        inside.addWidget(self.words)

    def offer(self, figures: Sequence[tuple[str, str]]) -> None:
        """Figures to search by, as short words and whole names."""
        known = self.figure.currentData()
        with QSignalBlocker(self.figure):
            self.figure.clear()
            for words, name in figures:
                self.figure.addItem(words, name)
            self.figure.setCurrentIndex(max(0, self.figure.findData(known)))
        self.button.setEnabled(bool(figures))

    def goal(self) -> Goal:
        """As it is entered. Raises `DriveProblem`."""
        if self.figure.currentData() is None:
            raise DriveProblem("No figure is reported for each run yet. Add one on the left.")
        budget = whole_number("a number of trials", self.trials.text(), LEAST_BUDGET, MOST_BUDGET)
        figure, sense = str(self.figure.currentData()), self.sense.currentText()
        return Goal(sense, figure, self.limits.text(), self.wished.text(), budget)

    def show_searching(self, on: bool) -> None:
        self.button.setText("Stop the search" if on else "Search")

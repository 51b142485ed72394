"""What the colours of runs tell: which run it is, or how large a value was in it, with a scale beside them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from PyQt6.QtCore import QRectF, QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QLinearGradient, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QWidget

from pendel.app.plots.shades import line_shade
from pendel.app.widgets.basic import label, row
from pendel.app.widgets.theme import colour, font
from pendel.core.check.differing import Differing, differing
from pendel.core.drive.document import Drive
from pendel.core.drive.file import from_text
from pendel.core.errors import PendelError
from pendel.core.quantities.units import number_text
from pendel.core.runs.record.kept import KeptRun

BY_RUN = "run"
FEWEST = 3
"""Runs from which on a scale says more than names."""


class ValueScale(QWidget):
    """A bar from the smallest to the largest value, with a mark for each run."""

    SIDE = 60
    """px for a figure at either end."""

    def __init__(self) -> None:
        super().__init__()
        self.shown: Differing | None = None
        self.setFixedHeight(22)
        self.setMaximumWidth(420)
        self.setAccessibleName("Scale of the colours")

    def show_value(self, shown: Differing | None) -> None:
        self.shown = shown
        self.setVisible(shown is not None)
        if shown is not None:
            told = ", ".join(number_text(shown.shown(value), 4) for value in shown.values)
            self.setAccessibleDescription(f"{shown.name}: {told} {shown.unit}".rstrip())
            self.setToolTip(f"{shown.title}: {told} {shown.unit}".rstrip())
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self.shown is None:
            return
        painter = QPainter(self)
        painter.setFont(font(11))
        bar = QRectF(self.SIDE, 6, self.width() - 2 * self.SIDE, 10)
        ramp = QLinearGradient(bar.topLeft(), bar.topRight())
        for k in range(9):
            ramp.setColorAt(k / 8, line_shade(k / 8))
        painter.fillRect(bar, ramp)
        low, high = min(self.shown.values), max(self.shown.values)
        painter.setPen(QPen(colour("ink"), 1))
        for value in self.shown.values:
            x = bar.left() + (value - low) / (high - low) * bar.width()
            painter.drawLine(int(x), int(bar.bottom()) + 1, int(x), int(bar.bottom()) + 4)
        unit = self.shown.unit
        middle = Qt.AlignmentFlag.AlignVCenter
        first, last = (number_text(self.shown.shown(value), 4) for value in (low, high))
        side = QRectF(0, 0, self.SIDE - 5, 22)
        painter.drawText(side, middle | Qt.AlignmentFlag.AlignRight, first)
        painter.drawText(QRectF(bar.right() + 5, 0, self.SIDE + 10, 22), middle, f"{last} {unit}".rstrip())


class RunColours(QWidget):
    """A line above the strips, shown where runs differ in numbers; ``changed`` when colours tell something else."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.differing: list[Differing] = []
        self._names: tuple[str, ...] = ()
        self.wanted = ""
        """The name of what colours are to tell; empty for the run."""
        self.box = QComboBox()
        self.box.setAccessibleName("What the colours of runs tell")
        self.box.setMinimumWidth(150)
        self.box.activated.connect(self._choose)
        self.scale = ValueScale()
        line = row(label("colours tell", "muted"), self.box, self.scale, spacing=8)
        line.setStretch(2, 1)
        line.setContentsMargins(4, 0, 4, 0)
        self.setLayout(line)
        self.hide()

    def _choose(self, _: int) -> None:
        self.wanted = self.box.currentData()
        self._show()
        self.changed.emit()

    def follow(self, runs: Sequence[KeptRun]) -> None:
        """Runs that are shown now."""
        names = tuple(run.name for run in runs)
        if names != self._names:
            self._names = names
            self.differing = numbers_of(tuple(run.drive_text for run in runs)) if len(runs) >= FEWEST else []
            with QSignalBlocker(self.box):
                self.box.clear()
                self.box.addItem("which run it is", "")
                for each in self.differing:
                    self.box.addItem(each.name, each.name)
                self.box.setCurrentIndex(max(0, self.box.findData(self.wanted)))
        self._show()

    def _show(self) -> None:
        self.setVisible(bool(self.differing))
        self.scale.show_value(self.now)

    @property
    def now(self) -> Differing | None:
        """What colours tell; nothing where it is the run."""
        return next((each for each in self.differing if each.name == self.wanted), None)

    def tints(self) -> dict[str, str]:
        """A colour for each run by its name; none where colours tell the runs apart."""
        shown = self.now
        if shown is None:
            return {}
        low, high = min(shown.values), max(shown.values)
        shares = [(value - low) / (high - low) for value in shown.values]
        return {name: line_shade(share).name() for name, share in zip(self._names, shares)}


@lru_cache(maxsize=64)
def drive_in(text: str) -> Drive:
    return from_text(text)


def numbers_of(texts: tuple[str, ...]) -> list[Differing]:
    """In what the drives of runs differ; nothing where one cannot be read any more."""
    try:
        return differing([drive_in(text) for text in texts])
    except PendelError:
        return []


__all__ = ["RunColours"]

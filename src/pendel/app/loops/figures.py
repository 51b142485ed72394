"""Figures of a loop beside its plots: gains and what follows from them, now and proposed."""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from pendel.app.widgets.basic import Elided, clear, column, label, rule
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.sizes import size_text
from pendel.app.widgets.theme import tokens
from pendel.core.loops.models.margins import Margins
from pendel.core.loops.tuning.gains import GAIN_UNITS
from pendel.core.loops.tuning.tuning import LoopAnalysis, LoopStudy
from pendel.core.quantities.units import figure, number_text


def or_dash(value: float, write: Callable[[float], str]) -> str:
    return write(value) if math.isfinite(value) else "–"


def place_of(margins: Margins) -> str:
    """Where the phase margin is, in words; empty where it is at the crossover."""
    return f" at {figure(margins.phase_at, 'Hz', 2)}" if margins.elsewhere else ""


FOLLOWS = (  # with their pages of help
    ("crossover", "loop:crossover", lambda j: or_dash(j.margins.crossover, lambda v: figure(v, "Hz", 3))),
    (
        "phase margin",
        "loop:phase margin",
        lambda j: or_dash(j.margins.phase, lambda v: f"{v:.0f}°{place_of(j.margins)}"),
    ),
    ("gain margin", "loop:gain margin", lambda j: or_dash(j.margins.gain_db, size_text)),
    ("Ms", "loop:Ms", lambda j: or_dash(j.margins.ms, lambda v: number_text(v, 3))),
    ("rise", "measure:rise", lambda j: or_dash(j.measures.rise, lambda v: figure(v, "s", 3))),
    ("overshoot", "measure:overshoot", lambda j: or_dash(j.measures.overshoot, lambda v: f"{number_text(v, 3)} %")),
    ("settles 2 %", "measure:settling", lambda j: or_dash(j.measures.settling, lambda v: figure(v, "s", 3))),
)


def gain_unit(study: LoopStudy, name: str) -> str:
    return "Hz" if study.loop.regulation.scaled else GAIN_UNITS.get(name, "")


class LoopFigures(QWidget):
    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 0, 0, 0), 6)
        self.gain_grid, self.follow_grid = QGridLayout(), QGridLayout()
        for grid in (self.gain_grid, self.follow_grid):
            grid.setVerticalSpacing(6)
        inside.addLayout(self.gain_grid)
        inside.addWidget(rule())
        inside.addWidget(label("What follows", "heading"))
        inside.addLayout(self.follow_grid)

    def clear(self) -> None:
        clear(self.gain_grid)
        clear(self.follow_grid)

    def show_loop(self, study: LoopStudy, now: LoopAnalysis | None, proposed: LoopAnalysis | None) -> None:
        self.clear()
        self._line(self.gain_grid, 0, "Gains", "now", "proposed", head=True)
        for r, (name, before) in enumerate(study.gains_now.items(), 1):
            new, unit = proposed.gains.get(name) if proposed else None, gain_unit(study, name)
            words = figure(new, unit) if new is not None else "–"
            own = study.loop.regulation.gains[name]
            self._line(self.gain_grid, r, own, figure(before, unit), words, italic=True)
        for r, (name, page, write) in enumerate(FOLLOWS):
            words = [write(each) if each else "–" for each in (now, proposed)]
            self._line(self.follow_grid, r, name, *words, page=page)

    def _line(
        self,
        grid: QGridLayout,
        r: int,
        name: str,
        now: str,
        new: str,
        *,
        head: bool = False,
        italic: bool = False,
        page: str = "",
    ) -> None:
        left = Elided(name) if not italic else label(name)
        if italic:
            left.setStyleSheet(f"font-style: italic; color: {tokens().muted};")
        explained_by(left, page)
        grid.addWidget(left, r, 0)
        for c, text in ((1, now), (2, new)):
            shown = label(text)
            explained_by(shown, page)
            shown.setAlignment(Qt.AlignmentFlag.AlignRight)
            shown.setStyleSheet(
                "color: "
                f"{tokens().petrol if head and c == 2 else tokens().muted if c == 1 else tokens().ink}; "
                f"font-weight: {'bold' if c == 2 else 'normal'};"
            )
            grid.addWidget(shown, r, c)
        grid.setColumnStretch(0, 1)
        grid.setColumnMinimumWidth(1, 70)
        grid.setColumnMinimumWidth(2, 76)


__all__ = ["LoopFigures", "gain_unit"]

"""The table of what signals are between the cursors, and where the energy went."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout

from pendel.app.session.run_figures import settled
from pendel.app.widgets.basic import Elided, clear, label, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.timers import Later
from pendel.core.measures import Measure, Place, Span, measures_at
from pendel.core.measures.declare import STRETCHES_ALONE
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.remarks.balance import balance

BESIDE = 3
"""Measures of a signal that stand beside each other; further ones have a row of their own."""
MOST_LOSSES = 6
"""Parts in the table of losses, the largest first."""


class SpanTable(QGridLayout):
    """Its tables come one after the other, with time for all else between them. ``goes_on`` tells whether signals
    are still worked out."""

    def __init__(self, goes_on: Callable[[], bool]) -> None:
        super().__init__()
        self.setVerticalSpacing(6)
        self.goes_on = goes_on
        self._asked: tuple[KeptRun, Sequence[str], float, float] | None = None
        self._late_signals = Later(self, 0, self._show_signals)
        self._late_losses = Later(self, 0, self._show_losses)

    def clear(self) -> None:
        self._late_signals.stop()
        self._late_losses.stop()
        clear(self)

    def forget(self) -> None:
        """Hold no run any more."""
        self.clear()
        self._asked = None

    def show(self, run: KeptRun, signals: Sequence[str], a: float, b: float) -> None:
        """Mean, rms and ripple of signals between two times (s); below them what each part loses."""
        self._asked = run, signals, a, b
        self._late_signals.start()

    def _show_signals(self) -> None:
        assert self._asked is not None
        if not self.goes_on():
            return
        run, signals, a, b = self._asked
        measures = measures_at(Place.SIGNAL)
        beside, below = measures[:BESIDE], measures[BESIDE:]
        self._fill([("", *(m.title for m in beside))])
        for key in signals:
            span = Span(run, key, a, b)
            texts = {m.id: measure_text(m, span) for m in measures}
            rows = [(span.trace.label, *("" for _ in beside)), ("", *(texts[m.id] for m in beside))]
            rows += [("", m.title, *("" for _ in beside[2:]), texts[m.id]) for m in below]
            self._fill(rows, heading=False)
        self._late_losses.start()

    def _show_losses(self) -> None:
        assert self._asked is not None
        if not self.goes_on():
            return
        run, _, a, b = self._asked
        energies = balance(run, a, b)
        lost = [(each.what, each.energy) for each in energies.losses[:MOST_LOSSES]]
        more = sum(each.energy for each in energies.losses[MOST_LOSSES:])
        if more:
            count = len(energies.losses) - MOST_LOSSES
            lost.append((f"{count} other{'s' * (count > 1)}", more))
        if lost:

            def shown(what: str, energy: float) -> tuple[str, ...]:
                return (what, "", figure(energy / energies.duration, "W", 3), figure(energy, "J", 3))

            self._fill([("Lost", "", "power", "energy"), *(shown(*each) for each in lost)])
            for words, energy in energies.sums:
                self._fill([(words, "", "", ""), shown("", energy)], heading=False)
        if energies.doubt:
            self.addWidget(wrapped(energies.doubt, "wrong"), self.rowCount(), 0, 1, 4)

    def _fill(self, rows: list[tuple[str, ...]], *, heading: bool = True) -> None:
        """Add rows; a name without figures has the row to itself."""
        begin = self.rowCount()
        pages = {m.title: f"measure:{m.id}" for m in measures_at(Place.SIGNAL)} if heading else {}
        for r, (name, *figures) in enumerate(rows, begin):
            role = "muted" if heading and r == begin else ""
            alone = not any(figures)
            if name:
                self.addWidget(Elided(name, role), r, 0, 1, 4 if alone else 1 + (not figures[0]))
            for c, text in enumerate([] if alone else figures, 1):
                if not text:
                    continue
                shown = label(text, role)
                explained_by(shown, pages.get(text, ""))
                if text == "–":
                    shown.setToolTip(STRETCHES_ALONE)
                shown.setAlignment(Qt.AlignmentFlag.AlignRight)
                self.addWidget(shown, r, c)
        self.setColumnStretch(0, 1)


def measure_text(measure: Measure, span: Span) -> str:
    value, unit = measure.shown(span)
    if value is None or value != value:
        return "–"
    return figure(settled(value, span.trace.y), unit, 3)

"""The spectrum under the strips: lines of one signal between the cursors, for every shown run."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.plot import Plot
from pendel.app.runs.spectra_shown import RunLines, ShownSpectra, Wish, last_relevant, right_edge, spectra_for
from pendel.app.session.jobs import SPECTRUM, End, Job, Jobs
from pendel.app.widgets.basic import Elided, Field, column, label, row
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.theme import font, tokens
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.found.spectra import Spectrum
from pendel.core.runs.record.display_units import factor
from pendel.core.runs.record.kept import KeptRun

SHOWN_LINES = 40
MOST_MULTIPLES, TAG_WIDTH = 8, 34.0
"""Of a pulse frequency, marked; and the room a mark's name takes, px."""
LEFT_EDGE, NAME_WIDTH = 0.01, 0.3
"""Shares of the axis: within which a mark would stand on it, and that the name of a mode takes."""
KILO, BELOW_KILO = 1e3, 2e3
"""Hz; an axis that ends below the latter is in Hz."""


class SpectrumPanel(QWidget):
    """Choose a signal and a fundamental; harmonics of the fundamental are marked with their order, and
    multiples of the pulse frequencies where they lie."""

    def __init__(self, jobs: Jobs, parent: QWidget | None = None):
        super().__init__(parent)
        self._jobs = jobs
        self.runs: list[tuple[KeptRun, str]] = []
        self.window_times = (0.0, 1.0)
        self.shown = ShownSpectra()
        self.modes: list[tuple[float, str]] = []
        """Where the mechanics of the drive swings (Hz), with names."""
        self.unit = KILO
        """Of the frequency axis, Hz."""
        self.scale = 1.0
        """SI values of one of the unit shown."""
        self.signal = QComboBox()
        self.signal.setAccessibleName("Signal of the spectrum")
        self.signal.setFixedWidth(220)
        self.signal.currentIndexChanged.connect(lambda _: self.draw())
        self.fundamental = Field("", "Fundamental frequency", 96)
        self.fundamental.setFixedWidth(96)
        self.fundamental.setPlaceholderText("largest line")
        self.fundamental.committed.connect(lambda _: self.draw())
        self.facts = Elided("", "muted", right=True)
        self.voltage = QComboBox()
        self.voltage.setAccessibleName("Voltage that the current's power is taken with")
        self.voltage.setFixedWidth(220)
        self.voltage.currentIndexChanged.connect(lambda _: self.draw())
        self.powers = Elided("", right=True)
        self.powers.setToolTip(
            "P: mean of u·i. S: product of rms values. N: root of S² − P². Power factor: P/S (IEEE 1459). "
            "Over whole periods of the fundamental, up to the second cursor."
        )
        self.of_powers = QWidget()
        self.plot = Plot("spectrum", "", about="spectrum")
        self.plot.setAccessibleName("Spectrum")
        self.plot.setToolTip("THD: root of the summed squares of orders 2 to 50 over the fundamental (IEC 61000-4-7)")
        body = column(self, (4, 2, 10, 4), 2)
        line = row(
            label("Spectrum of", "muted"),
            self.signal,
            label("fundamental", "muted"),
            self.fundamental,
            self.facts,
            spacing=8,
        )
        line.setStretch(4, 1)
        body.addLayout(line)
        second = row(label("Power with", "muted"), self.voltage, self.powers, spacing=8)
        second.setStretch(2, 1)
        second.setContentsMargins(0, 0, 0, 0)
        self.of_powers.setLayout(second)
        body.addWidget(self.of_powers)
        self.table = FigureTable("Powers", ("run", "P", "S", "N", "power factor", "THD i", "THD u"))
        self.table.setToolTip(self.powers.toolTip())
        self.table.setFixedWidth(470)
        self.table.hide()
        beside = QHBoxLayout()
        beside.setSpacing(8)
        beside.addWidget(self.plot, 1)
        beside.addWidget(self.table)
        body.addLayout(beside, 1)
        self.setFixedHeight(240)

    def offer(self, keys: list[tuple[str, str]], first: str) -> None:
        """Signals to choose from: key and words; ``first`` is chosen where nothing is yet."""
        now = self.signal.currentData() or first
        self.signal.blockSignals(True)
        self.signal.clear()
        for key, words in keys:
            self.signal.addItem(words, key)
        self.signal.setCurrentIndex(max(0, self.signal.findData(now)))
        self.signal.blockSignals(False)

    def _offer_voltages(self, run: KeptRun) -> None:
        """Those among the signals; the one that is chosen stays so."""
        now = self.voltage.currentData()
        offered = [(self.signal.itemText(k), self.signal.itemData(k)) for k in range(self.signal.count())]
        offered = [(words, key) for words, key in offered if key in run.keys and run.declared_unit(key) == "V"]
        self.voltage.blockSignals(True)
        self.voltage.clear()
        self.voltage.addItem("no voltage", None)
        for words, key in offered:
            self.voltage.addItem(words, key)
        self.voltage.setCurrentIndex(max(0, self.voltage.findData(now)))
        self.voltage.blockSignals(False)

    def show_runs(self, runs: list[tuple[KeptRun, str]], start: float, end: float) -> None:
        self.runs, self.window_times = runs, (start, end)
        if self.isVisible():
            self.draw()

    def draw(self) -> None:
        """Draw the lines once they are known; until then those before stay."""
        key, wanted = self.signal.currentData(), self._fundamental()
        start, end = self.window_times
        if key is None or end <= start or wanted is None:
            self._jobs.stop(SPECTRUM)
            self._show(None, ShownSpectra())
            return
        wish = Wish(key, tuple(self.runs), start, end, wanted, self.voltage.currentData())
        self._jobs.start(SPECTRUM, lambda job: spectra_for(wish), lambda job: self._take(job, wish))

    def _take(self, job: Job, wish: Wish) -> None:
        if job.end is End.FINISHED and not job.stopping:
            self._show(wish, job.result)
        elif job.end is End.FAILED:
            self._show(None, ShownSpectra(problem=job.sentence))

    def _show(self, wish: Wish | None, shown: ShownSpectra) -> None:
        self.plot.paint_in_turn()
        self.plot.wipe()
        self.shown = shown
        self.facts.set_text(shown.problem)
        self.powers.set_text("")
        self.table.hide()
        self.of_powers.hide()
        largest, right = shown.largest, right_edge(shown.found)
        unit = largest.unit if largest is not None else ""
        self.scale = factor(unit)
        # What is level has no lines but rounding.
        tall = [float(np.max(e.lines.amplitude[1:], initial=0.0)) / self.scale for e in shown.found if e.base > 0]
        top = max(tall, default=0.0)
        self.unit = 1.0 if right < BELOW_KILO else KILO
        for each in shown.found:
            self._lines(each.lines, each.tint)
        if wish is not None and largest is not None:
            self._marks(largest.lines, largest.base, last_relevant(largest.lines), right)
            self._facts(largest, f"{largest.run.name}: " if len(shown.found) > 1 else "")
            if largest.run.declared_unit(wish.signal) == "A":
                self._show_powers(largest.run, wish)
        self._mark_pulses(right, 1.5 * top)
        finest = min((float(each.lines.frequency[1]) for each in shown.found), default=math.inf)
        modes = [m for m in self.modes if max(finest, LEFT_EDGE * right) < m[0] < right]
        for (frequency, name), (above, _) in zip(modes, [*modes[1:], (math.inf, "")]):
            label_text = name if above - frequency > NAME_WIDTH * right else ""
            self.plot.mark_mode(frequency / self.unit, label_text, 0.8)  # above the orders of lines
        self.plot.set_caption("amplitude, peak", unit)
        self.plot.vb.setXRange(0, (right or 1.0) / self.unit, padding=0.02)
        self.plot.vb.setYRange(0, 1.5 * top or 1.0, padding=0)
        self.plot.frame.label(self.plot.frame.bottom, f"frequency, {'Hz' if self.unit == 1.0 else 'kHz'}")

    def _show_powers(self, run: KeptRun, wish: Wish) -> None:
        """Of each shown run, where the signal is a current and a voltage is chosen."""
        self._offer_voltages(run)
        self.of_powers.show()
        hints = [] if self.voltage.count() > 1 else ["Show a voltage in a strip, then it can be chosen here."]
        rows = self.shown.power_rows if self.voltage.currentData() == wish.voltage else []
        self.powers.set_text("   ".join([*hints, *self.shown.power_problems]))
        self.table.show_rows(rows)
        self.table.setVisible(bool(rows))

    def _fundamental(self) -> float | None:
        """0 where none is given; None, with the field marked, where it cannot be read."""
        text = self.fundamental.text().strip()
        self.fundamental.mark("")
        if not text:
            return 0.0
        try:
            value = value_in_field(text, "Hz", Names({}))
        except ExpressionProblem as problem:
            self.fundamental.mark(str(problem))
            return None
        if value <= 0:
            self.fundamental.mark("Write a frequency above 0, such as 50 Hz.")
            return None
        return value

    def _lines(self, lines: Spectrum, tint: str) -> None:
        f, a = lines.frequency[1:], lines.amplitude[1:] / self.scale
        x = np.repeat(f / self.unit, 3)
        y = np.column_stack([np.zeros_like(a), a, np.full_like(a, np.nan)]).ravel()
        self.plot.add(LeanCurve(x, y, pen=pg.mkPen(tint, width=1.6), connect="finite"))

    def _marks(self, lines: Spectrum, base: float, reach: int, right: float) -> None:
        """The order above each tall line that is a multiple of the fundamental, or beside the mark that goes through
        there; the taller first, as far as there is room up to ``right`` (Hz)."""
        if base <= 0:
            return
        floor = 0.03 * float(np.max(lines.amplitude[1:], initial=0.0))
        orders = range(1, math.floor(lines.frequency[reach] / base) + 1)
        tall = sorted(((lines.line(order * base), order) for order in orders), reverse=True)
        marks, taken = [mark for mark, _ in self._pulse_marks(right)], list[tuple[float, float]]()
        for amplitude, order in tall[:SHOWN_LINES]:
            at, half = order * base, right * (0.004 + 0.004 * len(str(order)))
            beside = next((mark for mark in marks if abs(at - mark) < half), None)
            side = 0.0 if beside is None else math.copysign(1.0, at - beside)
            middle = at if beside is None else beside + side * half
            if amplitude <= floor or any(middle - half < high and low < middle + half for low, high in taken):
                continue
            taken.append((middle - half, middle + half))
            tag = pg.TextItem(str(order), color=tokens().muted, anchor=(0.5 - 0.5 * side, 1))
            tag.setFont(font(10.5))
            tag.setPos((at if beside is None else beside) / self.unit, amplitude / self.scale)
            self.plot.add(tag)

    def _pulse_marks(self, right: float) -> list[tuple[float, int]]:
        """Multiples of the shown runs' pulse frequencies (Hz, and how many times), as far as there is room to name
        them."""
        marks = []
        for f in sorted({f for each in self.shown.found for f in each.run.pulse_frequencies}) if right else ():
            room = f / right * max(1.0, self.plot.vb.width())
            every = 2 ** max(0, math.ceil(math.log2(TAG_WIDTH / room)))
            last = min(every * MOST_MULTIPLES, math.floor(right / f))
            marks += [(k * f, k) for k in range(every, last + 1, every)]
        return marks

    def _mark_pulses(self, right: float, top: float) -> None:
        for frequency, k in self._pulse_marks(right):
            line = pg.InfiniteLine(
                frequency / self.unit, angle=90, pen=pg.mkPen(tokens().brass, width=1, style=Qt.PenStyle.DotLine)
            )
            line.setZValue(-5)
            self.plot.add(line, fitted=False)
            # Below the caption's line.
            tag = pg.TextItem(
                html=f'<span style="color:{tokens().brass}">{k if k > 1 else ""}f<sub>p</sub></span>',
                anchor=(0, -0.6),
            )
            tag.setFont(font(10.5))
            tag.setPos(frequency / self.unit, top)
            self.plot.add(tag)

    def _facts(self, each: RunLines, whose: str) -> None:
        if each.base <= 0:
            return
        thd = each.lines.distortion(each.base)
        words = "" if thd != thd else f"THD {number_text(100 * thd, 3)} % · "
        largest = figure(each.lines.line(each.base), each.unit, 3)
        self.facts.set_text(f"{whose}{words}{figure(each.base, 'Hz', 3)} {largest}")

"""The plots of a loop: L over frequency and in the complex plane, the step, S and T."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from pendel.app.plots.plot import Plot
from pendel.app.widgets.theme import font, tokens
from pendel.core.loops.margins import unwrapped_phase
from pendel.core.loops.tolerances import Tolerated
from pendel.core.loops.tuning import LoopAnalysis
from pendel.core.quantities.units import figure, number_text


class LoopPlots(QWidget):
    """A loop as it stands, thin, and as proposed, bold."""

    def __init__(self) -> None:
        super().__init__()
        self.now: LoopAnalysis | None = None
        self.proposed: LoopAnalysis | None = None
        self.step_words = ""
        grid = QGridLayout(self)
        grid.setContentsMargins(8, 8, 8, 8)
        grid.setSpacing(8)
        self.size_plot = Plot("magnitude of L", "dB", log=True)
        self.phase_plot = Plot("phase of L", "degrees", log=True, bottom="frequency, Hz")
        self.phase_plot.setXLink(self.size_plot)
        self.circle_plot = Plot("L in the complex plane", "")
        self.circle_plot.setAspectLocked(True)
        self.step_plot = Plot("after a setpoint step", "of the step", bottom="time, ms")
        self.sensitivity_plot = Plot("S and T", "dB", log=True, bottom="frequency, Hz")
        grid.addWidget(self.size_plot, 0, 0)
        grid.addWidget(self.phase_plot, 1, 0)
        grid.addWidget(self.circle_plot, 0, 1, 2, 1)
        grid.addWidget(self.step_plot, 2, 0)
        grid.addWidget(self.sensitivity_plot, 2, 1)
        for r, stretch in enumerate((5, 5, 7)):
            grid.setRowStretch(r, stretch)
        self.over_frequency = (self.size_plot, self.phase_plot, self.sensitivity_plot)
        for plot in self.over_frequency:
            plot.pointed.connect(self._read_all)

    def show_loop(self, now: LoopAnalysis | None, proposed: LoopAnalysis | None, step_words: str) -> None:
        """``step_words`` say what the step is of."""
        self.now, self.proposed, self.step_words = now, proposed, step_words
        self._show_bode()
        self._show_circle()
        self._show_step()
        self._show_sensitivity()

    def _read_all(self, x: float) -> None:
        """Read everything at the frequency that is pointed at, in decades of Hz."""
        best = self.proposed or self.now
        if best is None or not math.log10(best.frequency[0]) <= x <= math.log10(best.frequency[-1]):
            for plot in (*self.over_frequency, self.circle_plot):
                plot.untell()
            return
        known = np.log10(best.frequency)
        L = np.interp(x, known, best.response.real) + 1j * np.interp(x, known, best.response.imag)
        size = float(np.interp(x, known, decibels(best.response)))
        phase = float(np.interp(x, known, np.maximum(unwrapped_phase(best.response), -400)))
        s, t = (float(np.interp(x, known, decibels(v))) for v in sensitivities(best.response))
        at = figure(10**x, "Hz", 4)
        for plot, words, spots in (
            (self.size_plot, f"{number_text(size, 3)} dB", [(x, size)]),
            (self.phase_plot, f"{number_text(phase, 4)}°", [(x, phase)]),
            (
                self.sensitivity_plot,
                f"S {number_text(s, 3)} dB, T {number_text(t, 3)} dB",
                [(x, s), (x, t)],
            ),
        ):
            if plot is not self.sender() or not plot.told:  # there the nearest curve was read
                plot.tell(f"{at}   {words}", spots)
        self.circle_plot.tell(f"{at}   {complex_text(L)}", [(L.real, L.imag)])

    def show_modes(self, modes: Sequence[tuple[float, str]]) -> None:
        """Mark where the mechanics swings (Hz), until the loop is shown anew."""
        best = self.proposed or self.now
        if best is None:
            return
        shown = [(f, name) for f, name in modes if best.frequency[0] < f < best.frequency[-1]]
        for plot in (self.size_plot, self.phase_plot, self.sensitivity_plot):
            for f, name in shown:
                plot.mark_mode(math.log10(f), name if plot is self.size_plot else "")

    def show_band(self, spread: Tolerated) -> None:
        """|L| and the steps over a spread of values, under the curves, until the loop is shown anew."""
        best = self.now or self.proposed
        if best is None:
            return
        x = np.log10(best.frequency)
        edges = [20 * np.log10(np.maximum(side, 1e-9)) for side in spread.band(best.frequency)]
        lines = [pg.PlotDataItem(x, y, pen=pg.mkPen(tokens().pale, width=0.8)) for y in edges]
        band = pg.FillBetweenItem(*lines, brush=pg.mkBrush(tokens().petrol_tint))
        band.setZValue(-5)
        for item in (*lines, band):
            self.size_plot.addItem(item)
        for sample in spread.samples:
            if sample.analysis is not None:
                t, y = sample.analysis.step_t, sample.analysis.step_y
                curve = pg.PlotCurveItem(
                    np.repeat(t, 2)[1:] * 1e3,
                    np.clip(np.repeat(y, 2)[:-1], -5, 5),
                    pen=pg.mkPen(tokens().petrol_tint, width=1),
                )
                curve.setZValue(-5)
                self.step_plot.addItem(curve)

    def clear(self) -> None:
        for plot in (
            self.size_plot,
            self.phase_plot,
            self.circle_plot,
            self.step_plot,
            self.sensitivity_plot,
        ):
            self._wipe(plot)

    def _wipe(self, plot: Plot) -> None:
        item = plot.getPlotItem()
        for child in list(item.items):
            item.removeItem(child)

    def _judged(self) -> list[tuple[LoopAnalysis, str, float]]:
        found = [(self.now, tokens().pale, 1.3)] if self.now else []
        return [*found, (self.proposed, tokens().strong, 1.9)] if self.proposed else found

    def _show_bode(self) -> None:
        self._wipe(self.size_plot)
        self._wipe(self.phase_plot)
        self.size_plot.level(0.0)
        self.phase_plot.level(-180.0)
        for judged, tint, width in self._judged():
            x = np.log10(judged.frequency)
            self.size_plot.curve(x, decibels(judged.response), tint, width)
            self.phase_plot.curve(x, np.maximum(unwrapped_phase(judged.response), -400), tint, width)
        best = self.proposed or self.now
        if best and math.isfinite(best.margins.crossover):
            at = math.log10(best.margins.crossover)
            self.size_plot.mark(at, f" crosses at {figure(best.margins.crossover, 'Hz', 3)} ")
            self.phase_plot.mark(at, "")
            self.phase_plot.addItem(
                pg.PlotCurveItem(
                    [at, at], [-180, -180 + best.margins.phase], pen=pg.mkPen(tokens().moss, width=5)
                )
            )
            tag = pg.TextItem(f"{best.margins.phase:.0f}° margin", color=tokens().moss, anchor=(1, 0.5))
            tag.setFont(font(11, bold=True))
            tag.setPos(at - 0.06, -180 + best.margins.phase / 2)
            self.phase_plot.addItem(tag)
        if best:
            self.size_plot.setXRange(math.log10(best.frequency[0]), math.log10(best.frequency[-1]), padding=0)
            self.size_plot.setYRange(-40, 60, padding=0)
            self.phase_plot.setYRange(-280, 30, padding=0)

    def _show_circle(self) -> None:
        self._wipe(self.circle_plot)
        best = self.proposed or self.now
        if best is None:
            return
        angle = np.linspace(0, 2 * np.pi, 120)
        radius = 1 / best.margins.ms
        circle = pg.PlotCurveItem(
            -1 + radius * np.cos(angle),
            radius * np.sin(angle),
            pen=pg.mkPen(tokens().brass, width=1.2, style=Qt.PenStyle.DashLine),
            brush=pg.mkBrush(tokens().brass_tint),
            fillLevel=0,
        )
        self.circle_plot.addItem(circle)
        self.circle_plot.addItem(pg.ScatterPlotItem([-1], [0], size=8, brush=tokens().brick, pen=None))
        for text, x, y, tint in (
            ("−1", -1.0, 0.18, tokens().brick),
            (f"1/Ms, Ms = {number_text(best.margins.ms, 3)}", -1.0, radius + 0.14, tokens().brass_text),
        ):
            tag = pg.TextItem(text, color=tint, anchor=(0.5, 0.5))
            tag.setFont(font(11))
            tag.setPos(x, y)
            self.circle_plot.addItem(tag)
        for judged, tint, width in self._judged():
            inside = np.abs(judged.response) < 8
            self.circle_plot.curve(judged.response.real[inside], judged.response.imag[inside], tint, width)
        self.circle_plot.setRange(xRange=(-2.3, 0.9), yRange=(-2.4, 1.6), padding=0)

    def _show_step(self) -> None:
        self._wipe(self.step_plot)
        self.step_plot.set_caption(self.step_words, "thin now, bold proposed")
        self.step_plot.level(1.0)
        span = 0.0
        for judged, tint, width in self._judged():
            t = np.repeat(judged.step_t, 2)[1:] * 1e3
            self.step_plot.curve(t, np.clip(np.repeat(judged.step_y, 2)[:-1], -5, 5), tint, width)
            span = max(span, 0.0) if not len(t) else max(span, min(t[-1], 1e9))
        if self.proposed is not None and len(self.proposed.step_t):
            span = self.proposed.step_t[-1] * 1e3
        self.step_plot.setXRange(0, span or 1.0, padding=0)
        self.step_plot.setYRange(-0.1, 1.6, padding=0)

    def _show_sensitivity(self) -> None:
        self._wipe(self.sensitivity_plot)
        best = self.proposed or self.now
        if best is None:
            return
        x = np.log10(best.frequency)
        s, t = sensitivities(best.response)
        for values, tint, name, share in ((s, tokens().contrast, "S", 0.45), (t, tokens().strong, "T", 0.25)):
            y = decibels(values)
            self.sensitivity_plot.curve(x, y, tint)
            k = int(np.argmin(np.abs(np.arange(len(x)) / len(x) - share)))
            tag = pg.TextItem(name, color=tint, anchor=(0.5, 1))
            tag.setFont(font(12, bold=True))
            tag.setPos(x[k], max(-38.0, y[k]))
            self.sensitivity_plot.addItem(tag)
        self.sensitivity_plot.level(0.0)
        self.sensitivity_plot.setXRange(x[0], x[-1], padding=0)
        self.sensitivity_plot.setYRange(-40, 15, padding=0)


def decibels(values: np.ndarray) -> np.ndarray:
    return np.asarray(20 * np.log10(np.maximum(np.abs(values), 1e-9)))


def sensitivities(response: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """S and T of an L."""
    s = 1 / (1 + response)
    return s, s * response


def complex_text(value: complex) -> str:
    sign = "+" if value.imag >= 0 else "−"
    return f"{number_text(float(value.real), 3)} {sign} {number_text(abs(float(value.imag)), 3)} j"

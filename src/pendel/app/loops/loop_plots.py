"""The plots of a loop: L over frequency and in the complex plane, the step, S and T."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QGridLayout, QWidget

from pendel.app.loops.drawings import (
    complex_text,
    decibels,
    draw_circle,
    draw_sensitivities,
    sensitivities,
)
from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.plot import Plot
from pendel.app.widgets.sizes import size_text
from pendel.app.widgets.theme import tokens
from pendel.core.loops.models.margins import NOTHING, unwrapped_phase
from pendel.core.loops.tuning.tolerances import Tolerated
from pendel.core.loops.tuning.tuning import LoopAnalysis
from pendel.core.quantities.units import figure, number_text

APART = 0.8
"""Decades to the next mode that the name of one needs."""


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
        self.size_plot = Plot("magnitude of L", "dB", log=True, about="bode")
        self.phase_plot = Plot("phase of L", "degrees", log=True, bottom="frequency, Hz", about="bode")
        self.phase_plot.vb.setXLink(self.size_plot.vb)
        self.circle_plot = Plot("L in the complex plane", "", about="complex_plane")
        self.circle_plot.vb.setAspectLocked(True)
        self.step_plot = Plot("after a setpoint step", "of the step", bottom="time, ms", about="after_step")
        self.sensitivity_plot = Plot("S and T", "dB", log=True, bottom="frequency, Hz", about="sensitivity")
        grid.addWidget(self.size_plot, 0, 0)
        grid.addWidget(self.phase_plot, 1, 0)
        grid.addWidget(self.circle_plot, 0, 1, 2, 1)
        grid.addWidget(self.step_plot, 2, 0)
        grid.addWidget(self.sensitivity_plot, 2, 1)
        for r, stretch in enumerate((5, 5, 7)):
            grid.setRowStretch(r, stretch)
        self.over_frequency = (self.size_plot, self.phase_plot, self.sensitivity_plot)
        self.plots = (*self.over_frequency, self.circle_plot, self.step_plot)
        for plot in self.over_frequency:
            plot.pointed.connect(self._read_all)

    def show_loop(self, now: LoopAnalysis | None, proposed: LoopAnalysis | None, step_words: str) -> None:
        """``step_words`` say what the step is of."""
        self.now, self.proposed, self.step_words = now, proposed, step_words
        for plot in self.plots:
            plot.paint_in_turn()
        self._show_bode()
        self._show_circle()
        self._show_step()
        self._show_sensitivity()

    def _read_all(self, x: float) -> None:
        """Read everything at the frequency that is pointed at, in decades of Hz."""
        best = self.proposed or self.now
        if best is None or not math.log10(best.frequency[0]) <= x <= math.log10(best.frequency[-1]):
            for plot in (*self.over_frequency, self.circle_plot):
                plot.reading.clear()
            return
        known = np.log10(best.frequency)
        L = np.interp(x, known, best.response.real) + 1j * np.interp(x, known, best.response.imag)
        size = float(np.interp(x, known, decibels(best.response)))
        phase = float(np.interp(x, known, np.maximum(unwrapped_phase(best.response), -400)))
        s, t = (float(np.interp(x, known, decibels(v))) for v in sensitivities(best.response))
        at = figure(10**x, "Hz", 4)
        for plot, words, spots in (
            (self.size_plot, size_text(size), [(x, size)]),
            (self.phase_plot, f"{number_text(phase, 4)}°", [(x, phase)]),
            (
                self.sensitivity_plot,
                f"S {size_text(s)}, T {size_text(t)}",
                [(x, s), (x, t)],
            ),
        ):
            if plot is not self.sender() or not plot.reading.words:  # there the nearest curve was read
                plot.reading.show(f"{at}   {words}", spots)
        self.circle_plot.reading.show(f"{at}   {complex_text(L)}", [(L.real, L.imag)])

    def show_modes(self, modes: Sequence[tuple[float, str]]) -> None:
        """Mark where the mechanics swings (Hz), until the loop is shown anew."""
        best = self.proposed or self.now
        if best is None:
            return
        shown = [(f, name) for f, name in modes if best.frequency[0] < f < best.frequency[-1]]
        for (f, name), (above, _) in zip(shown, [*shown[1:], (math.inf, "")]):
            for plot in self.over_frequency:
                named = plot is self.size_plot and math.log10(above / f) > APART
                plot.mark_mode(math.log10(f), name if named else "", clear_of=math.log10(best.margins.crossover))

    def show_measured(self, frequency: np.ndarray, response: np.ndarray) -> None:
        """What was measured of L, until the loop is shown anew."""
        best = self.proposed or self.now
        if best is None:
            return
        x, known, modelled = np.log10(frequency), np.log10(best.frequency), unwrapped_phase(best.response)
        phase = np.interp(x, known, modelled)
        phase += np.degrees(np.angle(response * np.exp(-1j * np.radians(phase))))  # on the curve's own turn
        for plot, y in ((self.size_plot, decibels(response)), (self.phase_plot, np.maximum(phase, -400))):
            pen = pg.mkPen(tokens().strong, width=1.2)
            plot.add(pg.ScatterPlotItem(x, y, size=6, pen=pen, brush=pg.mkBrush(tokens().paper)))

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
            self.size_plot.add(item)
        for sample in spread.samples:
            if sample.analysis is not None:
                t, y = sample.analysis.step_t, sample.analysis.step_y
                curve = LeanCurve(
                    np.repeat(t, 2)[1:] * 1e3,
                    np.clip(np.repeat(y, 2)[:-1], -5, 5),
                    pen=pg.mkPen(tokens().petrol_tint, width=1),
                )
                curve.setZValue(-5)
                self.step_plot.add(curve)

    def clear(self) -> None:
        for plot in self.plots:
            plot.wipe()

    def _judged(self) -> list[tuple[LoopAnalysis, str, float]]:
        curves = [(self.now, tokens().pale, 1.3)] if self.now else []
        return [*curves, (self.proposed, tokens().strong, 1.9)] if self.proposed else curves

    def _show_bode(self) -> None:
        self.size_plot.wipe()
        self.phase_plot.wipe()
        self.size_plot.level(0.0)
        self.phase_plot.level(-180.0)
        for judged, tint, width in self._judged():
            if np.max(np.abs(judged.response)) < NOTHING:
                continue
            x = np.log10(judged.frequency)
            self.size_plot.curve(x, decibels(judged.response), tint, width)
            self.phase_plot.curve(x, np.maximum(unwrapped_phase(judged.response), -400), tint, width)
        best = self.proposed or self.now
        if best and math.isfinite(best.margins.crossover):
            at = math.log10(best.margins.crossover)
            self.size_plot.mark(at, f" crosses at {figure(best.margins.crossover, 'Hz', 3)} ")
            self.phase_plot.mark(at, "")
            at = math.log10(best.margins.phase_at)
            self.phase_plot.add(
                LeanCurve([at, at], [-180, -180 + best.margins.phase], pen=pg.mkPen(tokens().moss, width=5))
            )
            middle, top = -180 + best.margins.phase / 2, -180 + max(best.margins.phase, 0.0)
            places = [(at, middle), (at, top), (at, -180 + min(best.margins.phase, 0.0)), (at, 15.0), (at, -265.0)]
            self.phase_plot.tag(f"{best.margins.phase:.0f}° margin", tokens().moss, places, ground=True)
        if best:
            self.size_plot.vb.setXRange(math.log10(best.frequency[0]), math.log10(best.frequency[-1]), padding=0)
            self.size_plot.vb.setYRange(-40, 60, padding=0)
            self.phase_plot.vb.setYRange(-280, 30, padding=0)

    def _show_circle(self) -> None:
        best = self.proposed or self.now
        if best is None:
            self.circle_plot.wipe()
            return
        curves = [(judged.response, tint, width) for judged, tint, width in self._judged()]
        draw_circle(self.circle_plot, curves, best.margins.ms)

    def _show_step(self) -> None:
        self.step_plot.wipe()
        self.step_plot.set_caption(self.step_words, "thin now, bold proposed" if self.proposed is not None else "")
        self.step_plot.level(1.0)
        span = 0.0
        for judged, tint, width in self._judged():
            t = np.repeat(judged.step_t, 2)[1:] * 1e3
            self.step_plot.curve(t, np.clip(np.repeat(judged.step_y, 2)[:-1], -5, 5), tint, width)
            span = max(span, 0.0) if not len(t) else max(span, min(t[-1], 1e9))
        if self.proposed is not None and len(self.proposed.step_t):
            span = self.proposed.step_t[-1] * 1e3
        self.step_plot.vb.setXRange(0, span or 1.0, padding=0)
        self.step_plot.vb.setYRange(-0.1, 1.6, padding=0)

    def _show_sensitivity(self) -> None:
        best = self.proposed or self.now
        if best is None:
            self.sensitivity_plot.wipe()
        else:
            draw_sensitivities(self.sensitivity_plot, best.frequency, best.response)

"""The way between two points of a drive: its response, step, poles and zeros, and the same measured in
runs."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QWidget,
)

from pendel.app.loops.drawings import (
    complex_text,
    decibels,
    draw_circle,
    draw_sensitivities,
    sensitivities,
)
from pendel.app.loops.figures import place_of
from pendel.app.loops.matrices import Matrices
from pendel.app.loops.way_fields import WayFields
from pendel.app.plots.plot import Plot
from pendel.app.session.jobs import LAY_UNDER, SWEEP, TRANSFER, End, Job
from pendel.app.session.judging import LONGEST_JUDGING
from pendel.app.session.session import Session
from pendel.app.session.trust import may_run
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, label, row, rule, scrolled, wrapped
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.sizes import size_text
from pendel.app.widgets.theme import tokens
from pendel.app.widgets.timers import Later
from pendel.core.drive import commands
from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.file import to_text
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.loops.judging.looked_at import LookedAt
from pendel.core.loops.models.kept_sweeps import keep_sweep, kept_sweep
from pendel.core.loops.models.margins import unwrapped_phase
from pendel.core.loops.models.realisation import Pole
from pendel.core.loops.models.sweep import SweptPoint, usual_frequencies
from pendel.core.processes.requests import SweepRequest, TransferRequest
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.preparing.simulate import signal_infos
from pendel.core.trust import brings_allowed_c

PIECE = 2
"""Frequencies that are measured at once, before their points are shown."""


class WayView(QWidget):
    """``kept`` tells that the drive keeps a way by another name than before."""

    status_message = pyqtSignal(str)
    points_came = pyqtSignal(object, object, int)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.looked_at: LookedAt | None = None
        self._sampled: LookedAt | None = None
        self.points: list[SweptPoint] = []
        self.beside: dict[str, LookedAt] = {}
        """Other kept ways that are laid under this one."""
        self._under: list[str] = []
        """Ways that are wanted there."""
        self._asked_under: dict[str, str] = {}
        """Those that are looked at now, with the text of the drive."""
        self._sweeping: Job | None = None
        self._text = ""
        """Of the drive that is shown."""
        self._late = Later(self, 60, self.look)
        self.points_came.connect(self._take_points)
        session.card_renamed.connect(lambda old, new: self.fields.follow_card(old, new))
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_plots(), 1)
        body.addWidget(self._build_right())
        self._enable()

    def _build_plots(self) -> QWidget:
        middle = QWidget()
        grid = QGridLayout(middle)
        grid.setContentsMargins(8, 8, 8, 8)
        grid.setSpacing(8)
        self.size_plot = Plot("magnitude", "dB", log=True, about="bode")
        self.phase_plot = Plot("phase", "degrees", log=True, bottom="frequency, Hz", about="bode")
        self.phase_plot.vb.setXLink(self.size_plot.vb)
        self.pole_plot = Plot("poles × and zeros ○", "1/s", about="poles")
        self.step_plot = Plot("after a step of one", "", bottom="time, ms", about="after_step")
        grid.addWidget(self.size_plot, 0, 0)
        grid.addWidget(self.phase_plot, 1, 0)
        self.circle_plot = Plot("L in the complex plane", "", about="complex_plane")
        self.circle_plot.vb.setAspectLocked(True)
        self.sensitivity_plot = Plot("S and T", "dB", log=True, bottom="frequency, Hz", about="sensitivity")
        self.sensitivity_plot.vb.setXLink(self.size_plot.vb)
        self.of_loop = (self.circle_plot, self.sensitivity_plot)
        for r, plots in enumerate(((self.step_plot, self.circle_plot), (self.pole_plot, self.sensitivity_plot))):
            for plot in plots:
                grid.addWidget(plot, r, 1)
        for plot in self.of_loop:
            plot.setVisible(False)
        for plot in (self.size_plot, self.phase_plot, self.sensitivity_plot):
            plot.pointed.connect(self._read_all)
        for side in (0, 1):
            grid.setColumnStretch(side, 5 - side)
            grid.setRowStretch(side, 1)
        return middle

    def _build_right(self) -> QWidget:
        side = QWidget()
        side.setObjectName("inspector")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(330)
        inner = QWidget()
        inside = column(inner, (16, 14, 14, 12), 6)
        inside.addWidget(label("Between two points", "title"))
        self.fields = WayFields()
        self.fields.changed.connect(self._chosen)
        inside.addWidget(self.fields)
        self.continuous = QCheckBox("as of a continuous drive, delays as such")
        self.continuous.setToolTip(
            "Sampling, hold and computing delay count by what they do to a sine, with no aliases, up "
            "to eight times half "
            "the sampling rate; step, poles and matrices stay those of the samples"
        )
        self.continuous.toggled.connect(lambda _: self._show_found() if self.looked_at is not None else None)
        inside.addWidget(self.continuous)
        self.name = QLineEdit()
        self.name.setPlaceholderText("name, to keep it")
        self.name.setAccessibleName("Name of this way")
        self.name.returnPressed.connect(self.keep)
        self.keep_button = button("Keep", self.keep, "small")
        self.forget_button = button("Forget", self.forget, "small")
        inside.addLayout(row(self.name, self.keep_button, self.forget_button))
        inside.addWidget(rule())
        self.facts, self.remarks, self.problem = (
            wrapped("", "muted"),
            wrapped("", "attention"),
            wrapped("", "wrong"),
        )
        for words in (self.facts, self.remarks, self.problem):
            inside.addWidget(words)
            words.setVisible(False)
        self.poles = FigureTable("Poles", ("Hz", "damping", "lives in"))
        inside.addWidget(self.poles)
        self.left_out = wrapped("", "muted")
        inside.addWidget(self.left_out)
        self.matrices_button = button("A, B, C, D …", self.show_matrices, "small")
        self.save_button = button("Save the model …", self.save, "small")
        inside.addLayout(row(self.matrices_button, self.save_button, 1))
        inside.addWidget(rule())
        self.sweep_button = button("Compare with a swept run", self.sweep)
        self.sweep_button.setToolTip("A small sine in runs at the chosen level of detail, frequency by frequency")
        inside.addWidget(self.sweep_button)
        self.swept_words = wrapped("", "muted")
        inside.addWidget(self.swept_words)
        self.swept = FigureTable("Swept run", ("Hz", "off by dB", "off by °", "distortion"))
        self.swept.setMinimumHeight(150)
        inside.addWidget(self.swept, 1)
        inside.addStretch(0)
        column(side, (0, 0, 0, 0)).addWidget(scrolled(inner))
        return side

    # choosing --------------------------------------------------------------------

    def follow(self) -> None:
        """Look again where the drive is another one, or was changed."""
        text = to_text(self.session.drive)
        if text == self._text:
            return
        self._of_drive(text)
        self._forget_points()
        self._late.start()

    def _of_drive(self, text: str) -> None:
        """From now on what is shown is of the drive with this text."""
        other, self._text = text != self._text, text
        self.fields.follow(self.session.drive, self.session.cursor_time)
        if other:
            self.beside = {}
            self.lay_under(self._under)

    def show_way(self, name: str, way: KeptTransfer) -> None:
        self._of_drive(to_text(self.session.drive))
        self.name.setText(name)
        self.fields.show_way(way)
        self._chosen()

    def lay_under(self, names: list[str]) -> None:
        """Show other kept ways under this one."""
        drive, text = self.session.drive, to_text(self.session.drive)
        self._under = names
        self.beside = {n: v for n, v in self.beside.items() if n in names}
        own = brings_allowed_c(drive)
        for name in names:
            if name not in self.beside and name in drive.transfers and self._asked_under.get(name) != text:
                self._asked_under[name] = text
                request = TransferRequest(text, drive.transfers[name], own_c=own)
                self.session.jobs.start(
                    LAY_UNDER,
                    lambda job, r=request: self._ask(job, r),
                    lambda job, n=name, t=text: self._laid(job, n, t),
                )
        self._draw()

    def _laid(self, job: Job, name: str, text: str) -> None:
        """Draw a way that was looked at, unless nobody wants it under this one any more; one of the drive
        before is looked at again."""
        if self._asked_under.get(name) == text:
            del self._asked_under[name]
        if name not in self._under:
            return
        if text != to_text(self.session.drive):
            self.lay_under(self._under)
            return
        if job.end is End.FINISHED:
            self.beside[name] = job.result
            self._draw()
        elif job.end is End.FAILED:
            self.status_message.emit(f"{name}: {job.sentence}")

    def _chosen(self) -> None:
        self._forget_points()
        self._late.start()

    def _forget_points(self) -> None:
        if self._sweeping is not None:
            self._sweeping.stop()
        self.points = []
        self.swept.setVisible(False)
        set_sentence(self.swept_words, "")

    def look(self) -> None:
        """Ask for the model of the chosen way."""
        way, drive = self.fields.way(), self.session.drive
        kept = drive.transfers.get(self.name.text().strip())
        self.keep_button.setEnabled(bool(way.source and way.target))
        self.forget_button.setEnabled(kept is not None)
        if not self.isVisible():
            return
        self.session.jobs.stop(TRANSFER)
        if self.session.examined.faults:
            self._fail(f"The model shows once this is fixed: {self.session.examined.faults[0]}")
            return
        if not way.source or not way.target:
            self._fail("")
            set_sentence(self.facts, "Choose from where to where. Nothing in the drive changes.")
            return
        request = TransferRequest(to_text(drive), way, own_c=brings_allowed_c(drive))
        set_sentence(self.facts, "Looking …")
        self.session.jobs.start(TRANSFER, lambda job: self._ask(job, request), self._show)

    def _ask(self, job: Job, request: TransferRequest | SweepRequest):
        return self.session.beside_worker.ask(request, LONGEST_JUDGING, lambda: job.stopping)

    def _fail(self, sentence: str) -> None:
        self.looked_at = None
        set_sentence(self.problem, sentence)
        for words in (self.facts, self.remarks, self.left_out):
            set_sentence(words, "")
        self.poles.show_rows([])
        self._enable()
        self._draw()

    def _enable(self) -> None:
        for each in (self.matrices_button, self.save_button, self.sweep_button):
            each.setEnabled(self.looked_at is not None)

    # showing ---------------------------------------------------------------------

    def _show(self, job: Job) -> None:
        if job.end is End.STOPPED or job.stopping:  # of another way, or of the drive before
            return
        if job.end is End.FAILED:
            self._fail(job.sentence)
            return
        assert isinstance(job.result, LookedAt)
        self._sampled = job.result
        self._show_found()

    def _show_found(self) -> None:
        """What was found, as it is sampled or as of a continuous drive."""
        assert self._sampled is not None
        smooth = self._sampled.as_continuous()
        self.continuous.setEnabled(smooth is not None)
        self.looked_at = looked_at = smooth if smooth is not None and self.continuous.isChecked() else self._sampled
        model, minimum = looked_at.transfer.model, looked_at.minimal
        rhythm = f"sampled every {figure(model.dt, 's', 3)}" if model.dt else "continuous: no block lies between"
        order = f"{len(minimum.model.states)} of {len(model.states)} states count"
        words = [
            f"{rhythm} · {'' if looked_at.transfer.range else 'about the drive '}"
            f"{looked_at.transfer.point.name} · {order}"
        ]
        if looked_at.loop is not None and math.isfinite(looked_at.loop.crossover):
            loop = looked_at.loop
            words.append(
                f"crosses at {figure(loop.crossover, 'Hz', 3)}, phase margin {loop.phase:.0f}°{place_of(loop)}, "
                f"gain margin {size_text(loop.gain_db)}, Ms {number_text(loop.ms, 3)}"
            )
        growing = sum(map(looked_at.transfer.grows, minimum.poles))
        if growing:
            words.append(f"{growing} pole{'s grow' if growing > 1 else ' grows'}: not stable")
        set_sentence(self.facts, "\n".join(words))
        set_sentence(self.remarks, "\n".join(looked_at.transfer.remarks))
        set_sentence(self.problem, "")
        rows = [pole_row(p) for p in minimum.poles if p.s.imag >= 0]
        self.poles.show_rows(rows)
        self.poles.setFixedHeight(32 + 20 * min(max(len(rows), 2), 9))
        reasons = [f"{', '.join(n for n, _ in each.pole.states)}: {each.reason}" for each in minimum.left_out]
        set_sentence(self.left_out, f"{len(reasons)} left out, as nothing reaches or shows them." if reasons else "")
        self.left_out.setToolTip("\n".join(reasons))
        self._enable()
        self._show_kept_sweep()
        self._draw()

    def _show_kept_sweep(self) -> None:
        """Points that were measured before of the very same drive and way."""
        if self.points or (self._sweeping is not None and self._sweeping.end is None):
            return
        self.points = list(kept_sweep(self.session.shelf.folder, self.session.drive, self.fields.way()))
        if self.points:
            self._show_points()
            set_sentence(self.swept_words, f"Kept: {self._sweep_sentence()}")

    def _show_points(self) -> None:
        self.swept.show_rows([swept_row(p) for p in self.points])
        self.swept.setVisible(True)

    def _draw(self) -> None:
        for plot in (self.size_plot, self.phase_plot, self.pole_plot, self.step_plot, *self.of_loop):
            plot.wipe()
        loop = self.looked_at.loop if self.looked_at is not None else None
        for plot in self.of_loop:
            plot.setVisible(loop is not None)
        for plot in (self.step_plot, self.pole_plot):
            plot.setVisible(loop is None)
        if self.looked_at is not None and loop is not None:
            beside = [(o.shown, tokens().pale, 1.3) for o in self.beside.values() if o.loop is not None]
            draw_circle(self.circle_plot, [*beside, (self.looked_at.shown, tokens().strong, 1.9)], loop.ms)
            draw_sensitivities(self.sensitivity_plot, self.looked_at.frequency, self.looked_at.shown)
        for other in self.beside.values():
            self._draw_curves(other, tokens().pale, 1.3)
        if self.looked_at is None:
            return
        self._draw_curves(self.looked_at, tokens().strong, 1.9)
        self._draw_poles(self.looked_at)
        self._draw_points()
        of = "" if loop is None else " of L"
        self.size_plot.set_caption(f"magnitude{of}", "dB; dots measured in runs" if self.points else "dB")
        self.phase_plot.set_caption(f"phase{of}", "degrees")
        if loop is not None:
            self.size_plot.level(0.0)
            self.phase_plot.level(-180.0)
            if math.isfinite(loop.crossover):
                self.size_plot.mark(math.log10(loop.crossover), f" crosses at {figure(loop.crossover, 'Hz', 3)} ")
        x = np.log10(self.looked_at.frequency)
        self.size_plot.vb.setXRange(x[0], x[-1], padding=0)
        size = 20 * np.log10(np.maximum(np.abs(self.looked_at.response), 1e-12))
        self.size_plot.vb.setYRange(
            max(float(np.min(size)), float(np.max(size)) - 120) - 5, float(np.max(size)) + 10, padding=0
        )
        if loop is None:
            self.phase_plot.vb.enableAutoRange(axis="y")
        else:
            self.phase_plot.vb.setYRange(-400, 30, padding=0)  # further down its turns mean nothing
        self.step_plot.set_caption("after a step of one", self._unit_words())
        span = self.looked_at.t[-1] * 1e3
        self.step_plot.vb.setXRange(0, span, padding=0)
        shown = self.looked_at.y[np.isfinite(self.looked_at.y)]
        low, high = (float(np.min(shown)), float(np.max(shown))) if len(shown) else (0.0, 1.0)
        self.step_plot.vb.setYRange(min(low, 0.0), max(high, 0.0) or 1.0, padding=0.08)

    def _read_all(self, x: float) -> None:
        """Read the shown way where any plot is pointed at, in decades of Hz."""
        looked_at = self.looked_at
        if looked_at is None or not math.log10(looked_at.frequency[0]) <= x <= math.log10(looked_at.frequency[-1]):
            for plot in (self.size_plot, self.phase_plot, *self.of_loop):
                plot.reading.clear()
            return
        known, at = np.log10(looked_at.frequency), figure(10**x, "Hz", 4)
        size = float(np.interp(x, known, decibels(looked_at.response)))
        phase = float(np.interp(x, known, unwrapped_phase(looked_at.shown)))
        readings = [
            (self.size_plot, size_text(size, 4), [(x, size)]),
            (self.phase_plot, f"{number_text(phase, 4)}°", [(x, phase)]),
        ]
        if looked_at.loop is not None:
            L = complex(np.interp(x, known, looked_at.shown.real), np.interp(x, known, looked_at.shown.imag))
            s, t = (float(decibels(np.array(v))) for v in sensitivities(np.array(L)))
            words = f"S {size_text(s)}, T {size_text(t)}"
            readings.append((self.sensitivity_plot, words, [(x, s), (x, t)]))
            readings.append((self.circle_plot, complex_text(L), [(L.real, L.imag)]))
        for plot, words, spots in readings:
            if plot is not self.sender() or not plot.reading.words:  # there the nearest curve was read
                plot.reading.show(f"{at}   {words}", spots)

    def _unit_words(self) -> str:
        assert self.looked_at is not None
        infos, ends = signal_infos(self.session.drive), self.looked_at.transfer.ends
        units = [infos[k].unit if k in infos else "" for k in (ends.target, ends.source)]
        return f"{units[0] or '1'} for {units[1] or '1'}, in SI"

    def _draw_curves(self, looked_at: LookedAt, tint: str, width: float) -> None:
        x = np.log10(looked_at.frequency)
        self.size_plot.curve(x, 20 * np.log10(np.maximum(np.abs(looked_at.response), 1e-12)), tint, width)
        self.phase_plot.curve(x, unwrapped_phase(looked_at.shown), tint, width)
        t, y = looked_at.t * 1e3, np.clip(np.nan_to_num(looked_at.y, nan=0.0), -1e9, 1e9)
        if looked_at.transfer.lifted is not None:
            t, y = np.repeat(t, 2)[1:], np.repeat(y, 2)[:-1]
        self.step_plot.curve(t, y, tint, width)

    def _draw_poles(self, looked_at: LookedAt) -> None:
        """In the plane of continuous time, those that are gone within a sample left out."""
        poles = np.array([p.s for p in looked_at.minimal.poles if math.isfinite(p.natural)])
        dt = looked_at.transfer.model.dt
        zeros = looked_at.zeros if dt == 0 else np.log(looked_at.zeros[np.abs(looked_at.zeros) > 0.05]) / dt
        largest = float(np.max(np.abs(poles), initial=1.0))
        zeros = zeros[np.abs(zeros) < 20 * largest]
        self.pole_plot.add(pg.InfiniteLine(0, angle=90, pen=pg.mkPen(tokens().muted, width=1)))
        self.pole_plot.level(0.0)
        for values, symbol, tint in ((zeros, "o", tokens().contrast), (poles, "x", tokens().strong)):
            marks = pg.ScatterPlotItem(
                values.real, values.imag, symbol=symbol, size=9, pen=pg.mkPen(tint, width=1.8), brush=None
            )
            self.pole_plot.add(marks)
        around = 1.15 * max(float(np.max(np.abs(np.concatenate([poles, zeros])), initial=0.0)), 1.0)
        right = max(0.2 * around, 1.2 * float(np.max(np.concatenate([poles.real, zeros.real]), initial=0.0)))
        self.pole_plot.vb.setRange(xRange=(-around, right), yRange=(-around, around), padding=0)

    def _draw_points(self) -> None:
        for linear, brush in ((True, tokens().contrast), (False, tokens().paper)):
            points = [p for p in self.points if p.linear is linear]
            if not points:
                continue
            x = np.log10([p.frequency for p in points])
            size = [20 * math.log10(max(abs(p.response), 1e-12)) for p in points]
            phase = [self._phase_near(p) for p in points]
            pen = pg.mkPen(tokens().contrast, width=1.4)
            for plot, y in ((self.size_plot, size), (self.phase_plot, phase)):
                plot.add(pg.ScatterPlotItem(x, y, size=7, pen=pen, brush=pg.mkBrush(brush)))

    def _phase_near(self, point: SweptPoint) -> float:
        """Its phase, on the same turn as the model's curve."""
        assert self.looked_at is not None
        near = float(np.interp(point.frequency, self.looked_at.frequency, unwrapped_phase(self.looked_at.shown)))
        at = point.response if self.looked_at.loop is None else -point.response
        own = math.degrees(math.atan2(at.imag, at.real))
        return own + 360.0 * round((near - own) / 360.0)

    # doing -----------------------------------------------------------------------

    def keep(self) -> None:
        name, way = self.name.text().strip(), self.fields.way()
        if not name:
            self.status_message.emit("Write a name first, by which this way is kept in the drive.")
            self.name.setFocus()
            return
        followed = to_text(self.session.drive) == self._text
        try:
            self.session.do(commands.keep_transfer(self.session.drive, name, way))
            if followed:
                self._text = to_text(self.session.drive)  # the same model holds
        except DriveProblem as problem:
            set_sentence(self.problem, str(problem))

    def forget(self) -> None:
        name = self.name.text().strip()
        if name in self.session.drive.transfers:
            self.session.do(commands.remove_transfer(self.session.drive, name))

    def save(self, path: str = "") -> None:
        from pendel.core.formats.linear_models import (  # slow to load, and not needed to start
            ENDINGS,
            save_model,
        )

        if self.looked_at is None:
            return
        path = path or asked_path(self, "Save the model", "model.mat", ENDINGS)
        if not path:
            return
        try:
            save_model(self.looked_at.transfer, Path(path))
        except FileProblem as problem:
            set_sentence(self.problem, str(problem))
            return
        self.status_message.emit(f"Saved the model to {path}.")

    def show_matrices(self) -> None:
        if self.looked_at is not None:
            Matrices(self.looked_at, self).open()

    def sweep(self) -> None:
        """Measure in runs, or stop that."""
        if self._sweeping is not None and self._sweeping.end is None:
            self._sweeping.stop()
            return
        if self.looked_at is None or not may_run(self.session, self):
            return
        if to_text(self.session.drive) != self._text:
            self.status_message.emit("The drive was changed: sweep once its model is there.")
            self.follow()
            return
        self._forget_points()
        drive, way = self.session.drive.copy(), self.fields.way()
        wished = usual_frequencies(self.looked_at.transfer).tolist()
        text, own = to_text(drive), brings_allowed_c(drive)
        order = sorted(wished, key=lambda f: -f)  # the high ones are there at once
        self.sweep_button.setText("Stop")
        set_sentence(self.swept_words, "Running to where the sine begins …")

        def work(job: Job) -> int:
            for begin in range(0, len(order), PIECE):
                piece = tuple(order[begin : begin + PIECE])
                swept = self._ask(job, SweepRequest(text, way, piece, own_c=own))
                self.points_came.emit(job, swept.points, len(order))
            return len(order)

        self._sweeping = self.session.jobs.start(SWEEP, work, self._swept_ended)

    def _take_points(self, job: Job, points: tuple[SweptPoint, ...], whole: int) -> None:
        if job is not self._sweeping or job.stopping or self.looked_at is None:
            return
        self.points = sorted([*self.points, *points], key=lambda p: p.frequency)
        set_sentence(self.swept_words, f"{len(self.points)} of {whole} frequencies")
        self._show_points()
        self._draw()

    def _swept_ended(self, job: Job) -> None:
        self.sweep_button.setText("Compare with a swept run")
        if job is not self._sweeping:
            return
        if job.end is End.FAILED:
            set_sentence(self.swept_words, job.sentence)
        elif self.points:
            set_sentence(self.swept_words, self._sweep_sentence())
            self._keep_sweep()

    def _keep_sweep(self) -> None:
        """Beside the runs of the drive, so that the points are there when this way is looked at again."""
        if to_text(self.session.drive) != self._text:
            return
        try:
            keep_sweep(self.session.shelf.folder, self.session.drive, self.fields.way(), self.points)
        except FileProblem as problem:
            self.status_message.emit(str(problem))

    def _sweep_sentence(self) -> str:
        linear = [p for p in self.points if p.linear]
        distorted = len(self.points) - len(linear)
        words = f"{len(self.points)} frequencies, {self.session.drive.settings['level']}"
        if linear:
            usual = float(np.median([abs(p.off_db) for p in linear]))
            worst = max(linear, key=lambda p: abs(p.off_db))
            words += (
                f": half are within {number_text(max(usual, 0.01), 2)} dB; at {figure(worst.frequency, 'Hz', 3)} it is "
            )
            words += f"{number_text(worst.off_db, 2)} dB and {number_text(worst.off_degrees, 2)}°"
        if distorted:
            words += f"; {distorted} with more than 3 % distortion (hollow), which a linear model does not show"
        return words + "."


def set_sentence(words: QLabel, sentence: str) -> None:
    """Show a sentence, or no room for one."""
    words.setText(sentence)
    words.setVisible(bool(sentence))


def pole_row(pole: Pole) -> tuple[str, str, str]:
    place = number_text(pole.natural, 4) if math.isfinite(pole.natural) else "within a sample"
    return place, number_text(pole.damping, 3), ", ".join(name for name, _ in pole.states)


def swept_row(point: SweptPoint) -> tuple[str, str, str, str]:
    return (
        number_text(point.frequency, 4),
        number_text(point.off_db, 2),
        number_text(point.off_degrees, 2),
        f"{number_text(100 * point.harmonics, 2)} %",
    )


__all__ = ["WayView"]

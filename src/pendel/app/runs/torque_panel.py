"""Torque over speed: where a machine went in the shown runs, within what it can do."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QWidget

from pendel.app.plots.plot import Plot
from pendel.app.plots.tag import ABOVE_RIGHT, BELOW_RIGHT, RIGHT
from pendel.app.session.slow_work import SlowWork
from pendel.app.widgets.basic import column, label, row
from pendel.app.widgets.theme import tokens
from pendel.core.check import examine
from pendel.core.drive import file
from pendel.core.errors import PendelError, RunProblem
from pendel.core.heat.held import Held
from pendel.core.quantities.units import figure
from pendel.core.runs.found.run_roles import signals_of
from pendel.core.runs.found.torque_speed import most_torque, path, turning_machines
from pendel.core.runs.found.vectors import link_voltage
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import SignalRole

HEIGHT = 250
RPM = 30.0 / math.pi


class TorquePanel(QWidget):
    """The plane of torque over speed with the runs' paths, the point at cursor 2 and the envelope in all
    quadrants."""

    def __init__(self, slow_work: SlowWork, held: Callable[[], Held | None]) -> None:
        super().__init__()
        self.held = held
        """What heat allows, once it was worked out."""
        self.slow_work = slow_work
        slow_work.arrived.connect(self.draw)
        self.runs: list[tuple[KeptRun, str]] = []
        self.time = 0.0
        self.points: list[tuple[pg.ScatterPlotItem, np.ndarray, np.ndarray, np.ndarray]] = []
        self.machine = QComboBox()
        self.machine.setAccessibleName("Machine of the torque-speed plane")
        self.machine.setFixedWidth(170)
        self.machine.currentIndexChanged.connect(lambda _: self.draw())
        self.when = label("", "muted")
        self.plot = Plot("torque", "N·m", bottom="speed, rpm", about="torque_speed")
        body = column(self, (4, 2, 10, 4), 4)
        body.addLayout(row(label("Torque over speed of", "muted"), self.machine, self.when, 1, spacing=8))
        body.addWidget(self.plot, 1)
        self.setFixedHeight(HEIGHT)

    def show_runs(self, runs: Sequence[tuple[KeptRun, str]]) -> None:
        """Show runs, each with the colour of its traces; the last decides what machines there are."""
        if [(id(run), tint) for run, tint in runs] == [(id(run), tint) for run, tint in self.runs]:
            return
        self.runs = list(runs)
        chosen = self.machine.currentData()
        self.machine.blockSignals(True)
        self.machine.clear()
        if self.runs:
            drive = drive_of(self.runs[-1][0])
            for key in turning_machines(self.runs[-1][0], drive) if drive else ():
                self.machine.addItem(drive.cards[key].name, key)
        self.machine.setCurrentIndex(max(0, self.machine.findData(chosen)))
        self.machine.blockSignals(False)
        self.draw()

    def show_time(self, time: float) -> None:
        self.time = time
        places = []
        for item, t, speed, torque in self.points:
            if not len(t):  # nothing of a live run has come yet
                continue
            x, y = (float(np.interp(time, t, values)) for values in (speed, torque))
            item.setData([x * RPM], [y])
            places.append(f"{figure(x, 'rpm', 3)}, {figure(y, 'N·m', 3)}")
        self.when.setText(
            f"at {figure(time, 's', 4)}, cursor 2: {' · '.join(places)}" if places else "No machine in this run."
        )

    def draw(self) -> None:
        self.plot.paint_in_turn()
        self.plot.wipe()
        self.plot.set_caption("torque", "N·m")
        self.points = []
        machine = self.machine.currentData()
        known = [(run, tint) for run, tint in self.runs if machine and signals_of(run, machine, SignalRole.SPEED)]
        self.plot.level(0.0)
        self._draw_envelope(known[-1][0] if known else None, machine)
        self._draw_held(machine)
        for run, tint in known:
            t, speed, torque = path(run, machine)
            self.plot.curve(speed * RPM, torque, tint, 1.4)
            point = pg.ScatterPlotItem(size=9, brush=pg.mkBrush(tint), pen=pg.mkPen(tokens().paper, width=1.5))
            self.plot.add(point)
            self.points.append((point, t, speed, torque))
        self.plot.vb.autoRange(padding=0.13)
        self.show_time(self.time)

    def _draw_envelope(self, run: KeptRun | None, machine: str | None) -> None:
        drive = drive_of(run) if run is not None else None
        if drive is None or run is None or not machine:
            return
        link = link_voltage(run, run.end)
        try:
            curve = self.slow_work.known(lambda: most_torque(drive, examine(drive).values, machine, link))
        except RunProblem:  # what cannot be worked out is said on the page of the card
            return
        if curve is None:
            return
        x, y = curve.x * RPM, curve.y
        mirrored = curve.label == "Torque at most"
        _, speed, torque = path(run, machine)
        for sign_x in signs_of(speed) if mirrored else (1,):
            for sign_y in signs_of(torque) if mirrored else (1,):
                self.plot.curve(sign_x * x, sign_y * y, tokens().brass, 1.4, Qt.PenStyle.DashLine)
        # Beside the caption, where no path runs through it.
        self.plot.set_caption("torque", f"N·m; dashed: {curve.label.lower() if mirrored else 'on its rated supply'}")

    def _draw_held(self, machine: str | None) -> None:
        held = self.held()
        if held is None or held.machine != machine:
            return
        for curve in held.curves:
            good = np.flatnonzero(np.isfinite(curve.torque))
            if len(good):
                x, y = held.speeds[good] * RPM, curve.torque[good]
                self.plot.curve(x, y, tokens().brick, 1.2, Qt.PenStyle.DotLine)
                end = float(x[-1]), float(y[-1])
                self.plot.tag(curve.title, tokens().brick, [end], (RIGHT, ABOVE_RIGHT, BELOW_RIGHT))


def signs_of(values: np.ndarray) -> list[int]:
    """The sides of zero that values reach by more than a twentieth of their largest."""
    minimum = 0.05 * float(np.max(np.abs(values)))
    return [sign for sign in (1, -1) if np.any(sign * values > minimum)] or [1]


def drive_of(run: KeptRun):
    try:
        return file.from_text(run.drive_text)
    except PendelError:
        return None

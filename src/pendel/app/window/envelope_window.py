"""Make envelope: limits and losses of a machine with its converter, from short runs of this drive, as a card for a
trip."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyqtgraph as pg
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QWidget

from pendel.app.plots.plot import Plot
from pendel.app.plots.tag import ABOVE_RIGHT, BELOW_RIGHT, RIGHT
from pendel.app.session.jobs import ENVELOPE
from pendel.app.session.session import Session
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, row, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.theme import tokens
from pendel.app.window.bench_choice import BenchSide
from pendel.app.window.editing import to_clipboard
from pendel.core.catalogue.systems.envelope import KIND, TERMS, loss_terms
from pendel.core.drive import clips
from pendel.core.drive.document import Drive
from pendel.core.drive.file import save, to_text
from pendel.core.envelope.maps import ENDINGS, save_map
from pendel.core.envelope.points import Point
from pendel.core.envelope.report import EnvelopeReport, adding, carrying
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.processes.requests import EnvelopeRequest
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, number_text
from pendel.core.trust import brings_allowed_c

NOTHING = (
    "A trip takes a machine with its converter and current loops as limits and losses. They come from short runs of "
    "this drive on a test bench that holds the speed: name the machine, where its torque is asked for, and up to where "
    "the map goes."
)
SPEEDS_SHOWN = 5
FIELDS = (
    ("top", "Largest torque", "", "such as 400 N·m"),
    ("top_speed", "Largest speed", "", "such as 1200 rpm"),
    ("speeds", "Speeds", "8", ""),
    ("torques", "Torques at each", "12", ""),
    ("checks", "Points that check it", "12", ""),
)


Ended = tuple[float, float, float, QColor]
"""Where a curve ends, its speed (rad/s) and its tint."""
TOGETHER = 0.06
"""Of a plot's height and width: ends that are nearer have one name."""


def together(ends: Sequence[Ended], width: float, height: float) -> list[list[Ended]]:
    """Curves, whose speeds rise, by where they end."""
    groups: list[list[Ended]] = []
    for end in ends:
        near = groups and max(abs(end[0] - groups[-1][0][0]) / width, abs(end[1] - groups[-1][0][1]) / height)
        if groups and near < TOGETHER:
            groups[-1].append(end)
        else:
            groups.append([end])
    return groups


class EnvelopeWindow(QDialog):
    """What is asked on the left, losses over torque with the fit on the right. It stays beside the window."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Make envelope")
        explained_by(self, "plot:envelope")
        self.setModal(False)
        self.resize(980, 620)
        self.report: EnvelopeReport | None = None
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        side = BenchSide(session, FIELDS, ENVELOPE, "Make it", self.start_or_stop, self._show)
        self.choice, self.start_button, self.state, self.work = side.choice, side.start_button, side.state, side.work
        body.addWidget(side)
        right = QWidget()
        inside = column(right, (14, 12, 14, 12), 8)
        self.words = wrapped(NOTHING, "muted")
        self.plot = Plot("losses", "W", bottom="torque, N·m")
        self.plot.setMinimumHeight(240)
        self.table = FigureTable("Values of the envelope", ("value", "symbol", "is"))
        self.copy_button = button("Copy as a card", self.copy, "primary")
        self.copy_button.setToolTip("Then Edit, Paste in the drive of a trip")
        self.save_button = button("Save …", self.save)
        self.save_button.setToolTip("As a drive with the card alone, or the map's points as CSV, HDF5 or MAT")
        self.keep_button = button("Keep for level System", self.keep)
        self.keep_button.setToolTip(
            "The machine carries it: at System, chosen above the sheet, it stands for machine, converter and loops"
        )
        inside.addWidget(self.words)
        inside.addWidget(self.plot, 3)
        inside.addWidget(self.table, 2)
        inside.addLayout(row(self.copy_button, self.keep_button, self.save_button, 1, spacing=8))
        body.addWidget(right, 1)
        session.opened.connect(self.fill)
        self.fill()
        self._show(None)

    def fill(self) -> None:
        """Offer what the drive has now."""
        self.choice.fill()

    @property
    def working(self) -> bool:
        return self.work.working

    def start_or_stop(self) -> None:
        if self.work.stop():
            return
        texts = self.choice.texts(self.state)
        if not texts:
            return
        drive, path = self.session.drive, self.session.path
        file = path.name if path is not None else ""
        request = EnvelopeRequest(to_text(drive), **texts, file=file, own_c=brings_allowed_c(drive))
        self.work.start(request, "Short runs on the bench …")

    def _show(self, report: EnvelopeReport | None) -> None:
        self.report = report
        for each in (self.plot, self.table, self.copy_button, self.keep_button, self.save_button):
            each.setVisible(report is not None)
        if report is None or report.made is None:
            return
        made = report.made
        at = made.at
        self.words.setText(
            f"{len(made.points)} points; at {len(made.checks)} others, which it did not see, the power of the link "
            f"is off by {number_text(100 * made.worst, 2)} % at most and {number_text(100 * made.rms, 2)} % rms (of "
            f"that power, or of 2 % of the largest where less goes through); worst at {figure(at.speed, 'rpm', 3)} and "
            f"{figure(at.torque, 'N·m', 3)}. Below which link voltage torque goes was not measured: U_low and U_full "
            "are assumptions."
        )
        self._draw(report)
        names = {v.name: v.label for v in KIND.values}
        self.table.show_rows([(names[name], name, text) for name, text in report.values.items()])

    def _draw(self, report: EnvelopeReport) -> None:
        assert report.made is not None
        self.plot.wipe()
        points, values = report.made.points, self._numbers(report)
        speeds = sorted({p.speed for p in points})
        shown = [speeds[n] for n in np.unique(np.linspace(0, len(speeds) - 1, SPEEDS_SHOWN).round().astype(int))]
        tints = (*tokens().traces, tokens().ink)
        largest = values["M_max"]
        line = np.linspace(-largest, largest, 201)
        ends: list[Ended] = []
        for n, speed in enumerate(shown):
            tint = tints[n % len(tints)]
            of: list[Point] = [p for p in points if p.speed == speed]
            losses = loss_terms(np.full_like(line, speed), line, largest) @ [values[name] for name in TERMS]
            reach = max(abs(p.torque) for p in of)
            within = np.abs(line) <= reach * 1.02
            self.plot.curve(line[within], losses[within], tint, 1.4)
            self.plot.add(
                pg.ScatterPlotItem(
                    [p.torque for p in of], [p.loss for p in of], size=6, brush=pg.mkBrush(tint), pen=None
                )
            )
            ends.append((float(line[within][-1]), float(losses[within][-1]), speed, tint))
        for first, *more in together(ends, largest, float(np.ptp([p.loss for p in points])) or 1.0):
            words = figure(first[2], "rpm", 3)
            if more:
                words += f" to {figure(more[-1][2], 'rpm', 3)}"
            tint = tokens().ink if more else first[3]
            self.plot.tag(words, tint, [first[:2]], (RIGHT, ABOVE_RIGHT, BELOW_RIGHT))
        self.plot.vb.autoRange(padding=0.16)

    def _numbers(self, report: EnvelopeReport) -> dict[str, float]:
        units = {v.name: v.unit for v in KIND.values}
        return {name: value_in_field(text, units[name], Names({})) for name, text in report.values.items()}

    def _made(self) -> Drive:
        """A drive with the card alone."""
        assert self.report is not None
        drive = Drive()
        machine = self.session.drive.cards.get(self.report.machine)
        adding(drive, self.report, machine.name if machine is not None else "Envelope").apply(drive)
        return drive

    def copy(self) -> None:
        drive = self._made()
        to_clipboard(clips.clip(drive, list(drive.cards)))
        self.state.setText("Copied. Paste it into the drive of a trip (Ctrl+V on its sheet).")

    def keep(self) -> None:
        """Have the machine carry it, as one step of undo."""
        assert self.report is not None
        try:
            command = carrying(self.session.drive, self.report)
        except DriveProblem as problem:
            self.state.setText(str(problem))
            return
        self.session.do(command)
        self.state.setText("Kept. Choose System above the sheet to run with it.")

    def save(self) -> None:
        kinds = {".pendel": "Pendel drives", **dict.fromkeys(ENDINGS, "Map of losses")}
        path = asked_path(self, "Save the card or the map", "envelope.pendel", kinds)
        if not path or self.report is None:
            return
        try:
            if Path(path).suffix in ENDINGS:
                save_map(self.report.maps, Path(path))
            else:
                save(self._made(), Path(path))
        except FileProblem as problem:
            self.state.setText(str(problem))
            return
        self.state.setText(f"Saved as {Path(path).name}.")

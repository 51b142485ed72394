"""Torque that heat allows: over speed, for ever and for times, and what limits it where."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QWidget

from pendel.app.plots.plot import Plot
from pendel.app.plots.tag import ABOVE_RIGHT, BELOW_RIGHT, RIGHT
from pendel.app.session.jobs import HELD
from pendel.app.session.session import Session
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, row, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.theme import tokens
from pendel.app.window.bench_choice import BenchSide
from pendel.core.drive.file import to_text
from pendel.core.errors import FileProblem
from pendel.core.heat.held import Held
from pendel.core.processes.requests import HeldRequest
from pendel.core.quantities.units import number_text
from pendel.core.trust import brings_allowed_c

NOTHING = (
    "Which torque can be held at which speed, and what stops it: a winding, a junction, the drive itself? Short runs "
    "on a test bench find the demand with which the first body with a limit just reaches it. Name the machine, where "
    "its torque is asked for, and how long it is held."
)
FIELDS = (
    ("top", "Largest torque", "", "such as 400 N·m"),
    ("top_speed", "Largest speed", "", "such as 1200 rpm"),
    ("speeds", "Speeds", "7", ""),
    ("times", "Held for", "for ever, 60 s, 10 s", "for ever, 60 s"),
    ("before", "After this share of for ever", "0 %", "0 % from the bodies' starts"),
)
RPM = 30.0 / math.pi


class HeldWindow(QDialog):
    """What is asked on the left, curves over speed and a table on the right. It stays beside the window."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Torque that heat allows")
        explained_by(self, "plot:held_torque")
        self.setModal(False)
        self.resize(1180, 660)
        self.held: Held | None = None
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        side = BenchSide(session, FIELDS, HELD, "Work it out", self.start_or_stop, self._show)
        self.choice, self.start_button, self.state, self.work = side.choice, side.start_button, side.state, side.work
        body.addWidget(side)
        right = QWidget()
        inside = column(right, (14, 12, 14, 12), 8)
        self.words = wrapped(NOTHING, "muted")
        self.plot = Plot("torque", "N·m", bottom="speed, rpm")
        self.plot.setMinimumHeight(260)
        self.table = FigureTable("Torque by speed", ("speed, rpm",))
        self.save_button = button("Save rows …", self.save)
        inside.addWidget(self.words)
        inside.addWidget(self.plot, 3)
        inside.addWidget(self.table, 2)
        inside.addLayout(row(self.save_button, 1, spacing=8))
        body.addWidget(right, 1)
        session.opened.connect(self._other_drive)
        self.fill()
        self._show(None)

    def fill(self) -> None:
        """Offer what the drive has now."""
        self.choice.fill()

    def _other_drive(self) -> None:
        self.work.stop()  # what comes would be of the drive before
        self.fill()
        self._show(None)
        self.state.setText("")

    def start_or_stop(self) -> None:
        if self.work.stop():
            return
        texts = dict(self.choice.texts(self.state))
        if not texts:
            return
        drive = self.session.drive
        times = tuple(text.strip() for text in texts.pop("times").split(",") if text.strip())
        request = HeldRequest(to_text(drive), times=times, **texts, own_c=brings_allowed_c(drive))
        self.work.start(request, "Short runs on the bench …")

    def _show(self, held: Held | None) -> None:
        self.held = held
        self.session.take_held(held)
        for each in (self.plot, self.table, self.save_button):
            each.setVisible(held is not None)
        self.words.setVisible(held is None)
        if held is None:
            return
        self.state.setText(f"By {held.runs} short runs.")
        tints = tokens().traces
        x = held.speeds * RPM
        self.plot.wipe()
        self.plot.level(0.0)
        self.plot.curve(x, held.largest, tokens().ink, 1.2, Qt.PenStyle.DashLine)
        free = (RIGHT, ABOVE_RIGHT, BELOW_RIGHT)
        for k, curve in enumerate(held.curves):
            tint = tints[k % len(tints)]
            self.plot.curve(x, curve.torque, tint, 1.8)
            good = np.flatnonzero(np.isfinite(curve.torque))
            if len(good):
                place = good[min(k, len(good) - 1)]  # each a little further on, as curves may lie on each other
                self.plot.tag(curve.title, tint, [(float(x[place]), float(curve.torque[place]))], free)
        begun = f"after {100 * held.before:.0f} % of what is held for ever" if held.before else "from the start"
        self.plot.set_caption("torque", f"N·m; {begun}; dashed: at most, before heat has a say")
        self.plot.vb.autoRange(padding=0.13)
        heads, *rows = held.rows()
        self.table.setColumnCount(len(heads))
        self.table.setHorizontalHeaderLabels(["limited by" if head.startswith("limited") else head for head in heads])
        self.table.show_rows([tuple(shown(cell) for cell in each) for each in rows])

    def save(self) -> None:
        if self.held is None:
            return
        path = asked_path(self, "Save rows", "torque_held.csv", {".csv": "CSV"})
        if path:
            try:
                self.held.save(Path(path))
                self.state.setText(f"Saved {Path(path).name}.")
            except FileProblem as problem:
                self.state.setText(str(problem))


def shown(cell: str) -> str:
    """A figure with four digits; a word as it is."""
    try:
        return number_text(float(cell), 4)
    except ValueError:
        return cell or "–"


__all__ = ["HeldWindow"]

"""Best possible split: the least fuel with which the trip of a run can be driven to the same charge, beside what was
driven."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QLineEdit, QWidget

from pendel.app.plots.plot import Plot
from pendel.app.plots.tag import ABOVE_RIGHT, BELOW_RIGHT
from pendel.app.session.jobs import BEST_SPLIT
from pendel.app.session.session import Session
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.theme import tokens
from pendel.app.window.beside_work import BesideWork
from pendel.core.errors import FileProblem
from pendel.core.processes.requests import BestSplitRequest
from pendel.core.quantities.units import figure
from pendel.core.trips.best import BestSplit

NO_RUN = "There is no run yet. Press Ctrl+R once, then try again."
Span = Callable[[], tuple[float, float] | None]
"""Between the cursors (s), where there are some."""


class SplitWindow(QDialog):
    """Of the latest run, whole or between the cursors. It stays beside the window."""

    def __init__(self, session: Session, span: Span, parent: QWidget):
        super().__init__(parent)
        self.session, self.span = session, span
        self.setWindowTitle("Best possible split")
        explained_by(self, "plot:split")
        self.setModal(False)
        self.resize(1000, 640)
        self.best: BestSplit | None = None
        self._whole = True
        body = column(self, (14, 12, 14, 12), 8)
        self.title = label("", "heading")
        self.step = QLineEdit("1 s")
        self.step.setAccessibleName("Step")
        self.step.setFixedWidth(64)
        self.step.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.step.returnPressed.connect(lambda: self.start(self._whole))
        self.start_button = button("Whole run", self.start_or_stop)
        self.span_button = button("Between the cursors", lambda: self.start(False))
        self.save_button = button("Save rows …", self.save)
        heads = (label("Step", "muted"), self.step, self.start_button, self.span_button, self.save_button)
        body.addLayout(row(self.title, 1, *heads, spacing=8))
        self.words, self.state = wrapped("", ""), wrapped("", "muted")
        self.work = BesideWork(session, BEST_SPLIT, self.start_button, self.state, self._show)
        body.addWidget(self.words)
        body.addWidget(self.state)
        self.charge = Plot("charge of the store", "%")
        self.power = Plot("power of the engine", "kW", bottom="time, s")
        for plot in (self.charge, self.power):
            body.addWidget(plot, 1)
        session.opened.connect(self._other_drive)
        self._show(None)

    def start_or_stop(self) -> None:
        if not self.work.stop():
            self.start_whole()

    def start_whole(self) -> None:
        self.start(True)

    def start(self, whole: bool) -> None:
        """Look at the latest run, all of it or between the cursors."""
        run, span = self.session.last_run, None if whole else self.span()
        if run is None:
            self.state.setText(NO_RUN)
            return
        if not whole and span is None:
            self.state.setText("Runs was not opened yet. Put its cursors around what is to be looked at.")
            return
        self._whole = whole
        begin, end = span or (run.begin, run.end)
        self.title.setText(f"{run.name}, {figure(begin, 's', 4)} to {figure(end, 's', 4)}")
        self._show(None)
        file = self.session.shelf.file_of(run)
        request = BestSplitRequest(run.drive_text, file, begin, end, self.step.text())
        self.work.start(request, "All splits are looked at, from the end of the trip to its beginning …")

    def _other_drive(self) -> None:
        self.work.stop()  # what comes would be of the drive before
        self.title.setText("")
        self._show(None)
        self.state.setText("")

    def _show(self, best: BestSplit | None) -> None:
        self.best = best
        for each in (self.charge, self.power, self.words, self.save_button):
            each.setVisible(best is not None)
        if best is None:
            return
        self.words.setText(best.words)
        run_tint, best_tint = tokens().traces[:2]
        t, steps = best.times, np.repeat(best.times, 2)[1:-1]
        self.charge.wipe()
        self.power.wipe()
        for plot, x, run, found in (
            (self.charge, t, 100 * best.charge_run, 100 * best.charge),
            (self.power, steps, np.repeat(best.power_run, 2) / 1e3, np.repeat(best.power, 2) / 1e3),
        ):
            plot.curve(x, run, run_tint, 1.4)
            plot.curve(x, found, best_tint, 1.6)
        places = [(float(t[k]), 100 * float(best.charge_run[k])) for k in range(len(t) // 8, len(t), len(t) // 8 + 1)]
        others = [(float(t[k]), 100 * float(best.charge[k])) for k in range(len(t) // 8, len(t), len(t) // 8 + 1)]
        self.charge.set_caption(f"charge of {best.store}", "%")
        self.power.set_caption(f"power of {best.engine}", "kW, mean of each step")
        for plot in (self.charge, self.power):
            plot.vb.autoRange(padding=0.06)
        self.charge.tag("run", run_tint, places, (ABOVE_RIGHT, BELOW_RIGHT))
        self.charge.tag("best that was found", best_tint, others, (BELOW_RIGHT, ABOVE_RIGHT))

    def save(self) -> None:
        if self.best is None:
            return
        path = asked_path(self, "Save rows", "best_split.csv", {".csv": "CSV"})
        if path:
            try:
                self.best.save(Path(path))
                self.state.setText(f"Saved {Path(path).name}.")
            except FileProblem as problem:
                self.state.setText(str(problem))


__all__ = ["SplitWindow"]

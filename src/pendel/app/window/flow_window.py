"""Where the energy of a run went: a picture from source to load, and the parts in a table."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QDialog, QWidget

from pendel.app.session.jobs import FLOWS, End, Job
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.flow_picture import FlowPicture
from pendel.core.quantities.units import figure
from pendel.core.runs.flows import EnergyFlows, NodeEnergy
from pendel.core.runs.kept import KeptRun
from pendel.core.runs.requests import FlowsRequest

LONGEST = 600.0
"""s."""
HEADS = ("part", "comes in", "goes on", "supplied", "delivered", "lost", "stored more", "passed on")
Span = Callable[[], tuple[float, float] | None]
"""Between the cursors (s), where there are some."""


class FlowWindow(QDialog):
    """Of the latest run, whole or between the cursors. It stays beside the window."""

    def __init__(self, session: Session, span: Span, parent: QWidget):
        super().__init__(parent)
        self.session, self.span = session, span
        self.setWindowTitle("Energy flow")
        self.setModal(False)
        self.resize(1000, 640)
        self.flows: EnergyFlows | None = None
        self._job: Job | None = None
        body = column(self, (14, 12, 14, 12), 8)
        self.title = label("", "heading")
        self.whole_button = button("Whole run", lambda: self.start(None))
        self.span_button = button("Between the cursors", lambda: self.start(self.span()))
        self.copy_button = button("Copy picture", self.copy)
        body.addLayout(row(self.title, 1, self.whole_button, self.span_button, self.copy_button, spacing=8))
        self.words = wrapped("", "muted")
        body.addWidget(self.words)
        self.picture = FlowPicture()
        body.addWidget(self.picture, 5)
        self.table = FigureTable("Energy by part", HEADS)
        body.addWidget(self.table, 2)

    @property
    def working(self) -> bool:
        return self._job is not None and self._job.end is None

    def start(self, span: tuple[float, float] | None) -> None:
        """Look at the latest run, between two times (s) or all of it."""
        run = self.session.last_run
        if run is None:
            self.words.setText("There is no run yet. Press Ctrl+R once, then try again.")
            return
        begin, end = span if span is not None else (run.begin, run.end)
        self.words.setText("Powers at all ports are worked out …")

        def work(job: Job) -> EnergyFlows:
            request = FlowsRequest(run.drive_text, self.session.shelf.file_of(run), begin, end)
            answer: EnergyFlows = self.session.beside_worker.ask(request, LONGEST, lambda: job.stopping)
            return answer

        self._job = self.session.jobs.start(FLOWS, work, lambda job: self._ended(job, run))

    def _ended(self, job: Job, run: KeptRun) -> None:
        if job.end is not End.FINISHED:
            self.words.setText(job.sentence or "Stopped.")
            return
        self.flows = flows = job.result
        self.title.setText(f"{run.name}, {figure(flows.begin, 's', 4)} to {figure(flows.end, 's', 4)}")
        legend = "Widths are energies. Red: lost as heat; green: from and to outside; brass: stored."
        self.words.setText(f"{flows.trip.words}\n{legend}" if flows.trip is not None else legend)
        self.picture.show_flows(flows)
        self.table.show_rows([row_of(node) for node in flows.nodes])

    def copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setPixmap(self.picture.grab())


def row_of(node: NodeEnergy) -> tuple[str, ...]:
    energies = (node.came, node.went, node.supplied, node.delivered, node.lost, node.stored)
    into = node.came + max(0.0, node.supplied)
    passed = node.went + max(0.0, node.delivered)
    share = f"{100 * passed / into:.1f} %" if into > 0 and passed > 0 else "–"
    return node.title, *(figure(x, "J", 4) if x else "–" for x in energies), share

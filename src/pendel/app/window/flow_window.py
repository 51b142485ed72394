"""Where the energy of a run went: a picture from source to load, and the parts in a table."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QDialog, QWidget

from pendel.app.session.jobs import FLOWS, End, Job
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.explained import explained_by
from pendel.app.widgets.figure_tree import FigureTree
from pendel.app.widgets.flow_picture import FlowPicture
from pendel.core.processes.requests import FlowsRequest
from pendel.core.quantities.units import figure
from pendel.core.runs.found.flows import EnergyFlows, NodeEnergy
from pendel.core.runs.record.display_units import shift
from pendel.core.runs.record.kept import KeptRun

LONGEST = 600.0
"""s."""
ENERGIES = ("comes in", "goes on", "supplied", "delivered", "lost", "stored more", "passed on")
RANGE = ("least", "mean", "most")
HEADS = ("part, and its signals", *ENERGIES, *RANGE)
Span = Callable[[], tuple[float, float] | None]
"""Between the cursors (s), where there are some."""


class FlowWindow(QDialog):
    """Of the latest run, whole or between the cursors. It stays beside the window."""

    def __init__(self, session: Session, span: Span, parent: QWidget):
        super().__init__(parent)
        self.session, self.span = session, span
        self.setWindowTitle("Energy flow")
        explained_by(self, "plot:flow")
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
        self.tree = FigureTree("Results by part", HEADS)
        body.addWidget(self.tree, 3)

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
        units = run.units
        by_card: dict[str, list[tuple[str, ...]]] = {}
        for each in flows.signals:
            unit = units.of(each.key, each.unit)
            figures = (figure(x + shift(each.unit, unit), unit, 4) for x in (each.least, each.mean, each.most))
            line = (each.label, *("" for _ in ENERGIES), *figures)
            by_card.setdefault(each.key.partition(".")[0], []).append(line)
        of_nodes = {card for node in flows.nodes for card in node.cards}
        groups = [((*row_of(node), *("" for _ in RANGE)), named(node, flows, by_card)) for node in flows.nodes]
        names = {each.key.partition(".")[0]: each.card for each in flows.signals}
        rest = [card for card in by_card if card not in of_nodes]
        groups += [((names[card], *("" for _ in (*ENERGIES, *RANGE))), by_card[card]) for card in rest]
        self.tree.show_groups(groups)

    def copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setPixmap(self.picture.grab())


def named(node: NodeEnergy, flows: EnergyFlows, by_card: dict[str, list[tuple[str, ...]]]) -> list[tuple[str, ...]]:
    """Lines of a node's signals; of several cards that are one node each says whose it is."""
    lines = []
    names = {each.key.partition(".")[0]: each.card for each in flows.signals}
    for card in node.cards:
        for label_, *figures in by_card.get(card, []):
            lines.append((f"{names[card]}: {label_}" if len(node.cards) > 1 else label_, *figures))
    return lines


def row_of(node: NodeEnergy) -> tuple[str, ...]:
    energies = (node.came, node.went, node.supplied, node.delivered, node.lost, node.stored)
    into = node.came + max(0.0, node.supplied)
    passed = node.went + max(0.0, node.delivered)
    share = f"{100 * passed / into:.1f} %" if into > 0 and passed > 0 else "–"
    return node.title, *(figure(x, "J", 4) if x else "–" for x in energies), share

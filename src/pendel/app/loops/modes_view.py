"""The modes of the mechanics: which there are, how they look, and blocks against them."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFormLayout, QHBoxLayout, QTableWidget, QWidget

from pendel.app.loops.shape_view import ShapeView
from pendel.app.loops.way_fields import SignalBox
from pendel.app.plots.plot import Plot
from pendel.app.session.jobs import CALM, MODES, End, Job
from pendel.app.session.judging import LONGEST_JUDGING
from pendel.app.session.session import Session
from pendel.app.widgets.basic import Field, button, column, label, row, rule, scrolled, wrapped
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.pictures import with_picture_menu
from pendel.app.widgets.theme import tokens
from pendel.core.drive.file import to_text
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.loops.mechanics.calming import By, Calming, command_for
from pendel.core.loops.mechanics.modes import Chain, Mechanics, Mode
from pendel.core.loops.models.transfer import ANY, PLACES, REST, offered
from pendel.core.processes.requests import CalmRequest, ModesRequest
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.preparing.simulate import signal_infos
from pendel.core.trust import brings_allowed_c

AT_REST = "at rest, everything in contact"
TABLE_ROWS = 9
SHOWN_SHARE = 0.02
"""Shares of energy below this are not worth a word."""


class ModesView(QWidget):
    """``status_message`` says what was done."""

    status_message = pyqtSignal(str)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.mechanics = Mechanics()
        self._text = ""
        """Of the drive that is shown."""
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_middle(), 1)
        body.addWidget(self._build_right())
        session.opened.connect(self._forget)
        session.card_renamed.connect(self._follow_card)

    def _build_middle(self) -> QWidget:
        middle = QWidget()
        inside = column(middle, (8, 8, 8, 8), 6)
        self.caption = label("", "heading")
        self.swing = button("Hold", self.toggle_swing, "small")
        self.swing.setToolTip("Let the bars swing, or stand at the outermost")
        inside.addLayout(row(self.caption, 1, self.swing))
        self.shape = ShapeView()
        with_picture_menu(self.shape)
        inside.addWidget(self.shape, 3)
        self.words = wrapped(
            "Bars: speeds of the bodies, seen from the first one; the largest is 1. Boxes: their inertia "
            "seen from there.",
            "muted",
        )
        inside.addWidget(self.words)
        self.table = FigureTable("Modes", ("Hz", "damping", "gone within", "gives way", "moves", "name"))
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.table.currentCellChanged.connect(lambda *_: self._show_chosen())
        self.table.setToolTip("Choose a mode. Gone within: to a twentieth.")
        inside.addWidget(self.table)
        self.mobility = Plot("", "dB", log=True, bottom="frequency, Hz", about="mobility")
        inside.addWidget(self.mobility, 2)
        return middle

    def _build_right(self) -> QWidget:
        side = QWidget()
        side.setObjectName("inspector")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(330)
        inner = QWidget()
        inside = column(inner, (16, 14, 14, 12), 6)
        inside.addWidget(label("What swings", "title"))
        form = QFormLayout()
        form.setVerticalSpacing(6)
        self.at = SignalBox("About")
        self.at.chosen.connect(self.look)
        form.addRow(label("About", "muted"), self.at)
        inside.addLayout(form)
        self.facts, self.remarks, self.problem = (
            wrapped("", "muted"),
            wrapped("", "attention"),
            wrapped("", "wrong"),
        )
        for words in (self.facts, self.remarks, self.problem):
            inside.addWidget(words)
        inside.addWidget(rule())
        inside.addWidget(label("Against the chosen mode", "heading"))
        second = QFormLayout()
        second.setVerticalSpacing(6)
        self.behind, self.speed = SignalBox("Behind"), SignalBox("Speed fed back")
        self.damping = Field("0.3", "Damping to reach", 60)
        self.damping.setFixedWidth(64)
        second.addRow(label("Behind", "muted"), self.behind)
        second.addRow(label("Fed back", "muted"), self.speed)
        second.addRow(label("Damping", "muted"), self.damping)
        inside.addLayout(second)
        self.notch = button("Notch", lambda: self.calm(By.NOTCH))
        self.low_pass = button("Low-pass", lambda: self.calm(By.LOW_PASS))
        self.loop = button("Damping loop", lambda: self.calm(By.DAMPING), "primary")
        self.notch.setToolTip("Takes the mode's frequency out of a signal")
        self.low_pass.setToolTip("Leaves a tenth of the mode in a signal")
        self.loop.setToolTip("Feeds the swing of a speed back to the force on the same body")
        inside.addLayout(row(self.notch, self.low_pass, self.loop))
        self.done = wrapped("", "good")
        self.report = wrapped("", "muted")
        inside.addWidget(self.done)
        inside.addWidget(self.report)
        inside.addStretch(1)
        column(side, (0, 0, 0, 0)).addWidget(scrolled(inner))
        return side

    # showing ---------------------------------------------------------------------

    def _forget(self) -> None:
        """What was chosen and done was of another drive."""
        for box in (self.at, self.behind, self.speed):
            box.show_key("")
        for words in (self.done, self.report):
            words.setText("")

    def _follow_card(self, old: str, new: str) -> None:
        for box in (self.behind, self.speed):
            box.follow_card(old, new)

    def follow(self) -> None:
        """Show what the session found of the drive as it is."""
        drive = self.session.drive
        text = to_text(drive)
        if text != self._text:
            self._text = text
            self._offer()
        self.look()

    def _offer(self) -> None:
        drive, cursor = self.session.drive, self.session.cursor_time
        words = {key: f"{info.card} {info.label}" for key, info in signal_infos(drive).items()}
        outputs = [s for s in offered(drive)[0] if s in words and drive.cards[s.partition(".")[0]]]
        self.behind.offer(outputs, words, "the torque nearest to the plant")
        self.speed.offer(outputs, words, "speed of the first body")
        places = [name for name in PLACES if name not in (ANY, REST)]
        if cursor is not None:
            places.append(f"{cursor:.6g} s")
        about = {**PLACES, f"{cursor:.6g} s" if cursor is not None else "": "at the cursor"}
        self.at.offer(places, {k: v for k, v in about.items() if k}, AT_REST)

    def look(self) -> None:
        """Look for the modes about the chosen operating point."""
        drive, place = self.session.drive, self.at.key()
        self.session.jobs.stop(MODES)
        if self.session.examined.faults:
            self._fail(f"Modes show once this is fixed: {self.session.examined.faults[0]}")
            return
        if place in ("", AT_REST, REST):
            if self.session.mechanics.at:
                self._take(self.session.mechanics)
                return
            place = REST  # the session found none, and this says why
        self.facts.setText("Looking …")
        request = ModesRequest(to_text(drive), place, own_c=brings_allowed_c(drive))
        self.session.jobs.start(MODES, lambda job: self._ask(job, request), self._looked)

    def _ask(self, job: Job, request: ModesRequest | CalmRequest):
        return self.session.beside_worker.ask(request, LONGEST_JUDGING, lambda: job.stopping)

    def _looked(self, job: Job) -> None:
        if job.stopping:  # of another point, or of the drive before
            return
        if job.end is End.FINISHED:
            self._take(job.result)
        elif job.end is End.FAILED:
            self._fail(job.sentence)

    def _fail(self, sentence: str) -> None:
        self._take(Mechanics())
        self.problem.setText(sentence)

    def _take(self, mechanics: Mechanics) -> None:
        known = self.table.currentRow()
        self.mechanics = mechanics
        self.problem.setText("")
        modes = mechanics.modes
        self.table.show_rows([mode_row(chain, mode) for chain, mode in modes])
        self.table.setFixedHeight(34 + 20 * min(TABLE_ROWS, max(2, len(modes))))
        for each in (self.notch, self.low_pass, self.loop):
            each.setEnabled(bool(modes))
        self.remarks.setText("\n".join(mechanics.remarks))
        if modes:
            self.table.setCurrentCell(min(max(known, 0), len(modes) - 1), 0)
        self._show_chosen()

    def chosen(self) -> tuple[Chain, Mode] | None:
        modes, at = self.mechanics.modes, self.table.currentRow()
        return modes[at] if 0 <= at < len(modes) else None

    def _show_chosen(self) -> None:
        chosen = self.chosen()
        self.mobility.setVisible(chosen is not None)
        self.words.setVisible(chosen is not None)
        if chosen is None:
            chain = max(self.mechanics.chains, key=lambda c: len(c.bodies), default=None)
            self.shape.show_mode(chain, None)
            self.caption.setText("")
            self.facts.setText(
                "Nothing swings: there are no two bodies with something elastic between them."
                if self.mechanics.at
                else ""
            )
            return
        chain, mode = chosen
        self.shape.show_mode(chain, mode)
        self._draw_mobility(chain, mode)
        self.caption.setText(
            f"{mode.name}: {figure(mode.frequency, 'Hz', 4)}, damping {number_text(100 * mode.damping, 3)} %"
        )
        self.facts.setText(chain_words(chain))

    def _draw_mobility(self, chain: Chain, chosen: Mode) -> None:
        self.mobility.wipe()
        first = chain.bodies[0]
        turns = first.unit == "rad/s"
        one, unit = ("torque of 1 N·m", "dB of 1 rad/s") if turns else ("force of 1 N", "dB of 1 m/s")
        self.mobility.set_caption(f"speed of {first.name} for a {one} on it", f"{unit}; dotted: modes")
        x, size = np.log10(chain.frequency), 20 * np.log10(np.maximum(np.abs(chain.mobility), 1e-12))
        self.mobility.curve(x, size, tokens().strong, 1.8)
        for mode in chain.modes:
            self.mobility.mark_mode(math.log10(mode.frequency), mode.name if mode is chosen else "")
        self.mobility.vb.setXRange(x[0], x[-1], padding=0)
        self.mobility.vb.setYRange(float(np.min(size)), float(np.max(size)), padding=0.08)

    def toggle_swing(self) -> None:
        self.shape.play(not self.shape.playing)
        self.swing.setText("Hold" if self.shape.playing else "Swing")

    # doing -----------------------------------------------------------------------

    def calm(self, by: By) -> None:
        """Ask what fits against the chosen mode, and put it into the drive."""
        at = self.table.currentRow()
        if at < 0:
            return
        self.damping.mark("")
        try:
            damping = value_in_field(self.damping.text(), "", Names({}))
        except ExpressionProblem as problem:
            self.damping.mark(str(problem))
            self.report.setText(str(problem))
            return
        drive = self.session.drive
        request = CalmRequest(
            to_text(drive),
            by.value,
            at + 1,
            self.behind.key(),
            self.speed.key(),
            damping,
            own_c=brings_allowed_c(drive),
        )
        self.done.setText("")
        self.report.setText("Looking for values that fit …")
        self.session.jobs.start(
            CALM, lambda job: self._ask(job, request), lambda job: self._calmed(job, request.drive_text)
        )

    def _calmed(self, job: Job, text: str) -> None:
        if job.end is not End.FINISHED:
            self.report.setText(job.sentence)
            return
        if to_text(self.session.drive) != text:
            self.report.setText("The drive was changed meanwhile. Press it again.")
            return
        calming = job.result
        assert isinstance(calming, Calming)
        try:
            command = command_for(self.session.drive, calming)
        except DriveProblem as problem:
            self.report.setText(str(problem))
            return
        self.session.do(command)
        self.done.setText(done_words(calming))
        self.report.setText("\n".join(calming.remarks))
        self.status_message.emit(f"{command.title}. Ctrl+Z takes it back.")


def mode_row(chain: Chain, mode: Mode) -> tuple[str, ...]:
    rate = -mode.s.real
    gone = figure(3.0 / rate, "s", 3) if rate > 1e-9 * abs(mode.s) else "never"
    return (
        number_text(mode.frequency, 4),
        f"{number_text(100 * mode.damping, 3)} %",
        gone,
        share_words({s.name: mode.elastic[s.state] for s in chain.springs}),
        share_words({b.name: mode.kinetic[b.state] for b in chain.bodies}),
        mode.name,
    )


def share_words(shares: dict[str, float]) -> str:
    largest = sorted(shares.items(), key=lambda each: -each[1])[:3]
    return ", ".join(f"{name} {100 * share:.0f} %" for name, share in largest if share >= SHOWN_SHARE)


def chain_words(chain: Chain) -> str:
    first = chain.bodies[0]
    lines = []
    if math.isfinite(chain.inertia):
        unit = "kg·m²" if first.unit == "rad/s" else "kg"
        lines.append(
            f"In all {figure(chain.inertia, unit, 4)} seen from {first.name}, of which "
            f"{figure(first.mass, unit, 4)} its own."
        )
    if chain.held:
        lines.append(
            f"With {first.name} held: {', '.join(figure(f, 'Hz', 4) for f in chain.held)}. There its speed "
            f"hardly answers its torque."
        )
    return "\n".join(lines)


def done_words(calming: Calming) -> str:
    if calming.by is By.DAMPING:
        return (
            f"Damping {number_text(100 * calming.before, 3)} % → {number_text(100 * calming.reached, 3)} %, "
            f"from {calming.speed} behind {calming.at}."
        )
    return f"{calming.by.value.capitalize()} at {figure(calming.frequency, 'Hz', 4)} behind {calming.at}."


__all__ = ["ModesView"]

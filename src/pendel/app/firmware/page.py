"""The Firmware page: the control deck in number formats, as C, built, checked against the simulation,
saved."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QSplitter,
    QWidget,
)

from pendel.app.firmware.code_view import CodeView
from pendel.app.firmware.comparison import Comparison
from pendel.app.firmware.conversion import Conversion
from pendel.app.firmware.formats_table import FormatsTable, ends_of
from pendel.app.firmware.steps import Steps
from pendel.app.firmware.target import Target
from pendel.app.firmware.values_panel import ValuesPanel
from pendel.app.plots.plot import fit_plots
from pendel.app.session.jobs import (
    CHECK_SHIPPED,
    FIND_RANGES,
    ON_PROCESSOR,
    PROPOSE_FORMATS,
    WRITE_C,
    End,
    Job,
    JobKind,
)
from pendel.app.session.page import Page
from pendel.app.session.stepping import value_after
from pendel.app.session.trust import may_run
from pendel.app.widgets.basic import (
    Field,
    button,
    clear,
    column,
    label,
    row,
    rule,
    scrolled,
    wrapped,
)
from pendel.app.widgets.timers import Later
from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.own_block import C
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.numbers.representation import NumberFormat, Rep
from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import PendelError
from pendel.core.firmware.processors import PROCESSORS, NoProcessor, OnProcessor, missing_tools
from pendel.core.firmware.propose import ProposedFormats
from pendel.core.firmware.ship import EXAMPLE, Checked, write_sources
from pendel.core.firmware.written import Written
from pendel.core.processes.requests import (
    CheckRequest,
    FormatsRequest,
    ProcessorRequest,
    RangesRequest,
    WriteRequest,
)
from pendel.core.quantities.expressions import value_in_field
from pendel.core.runs.preparing.simulate import signal_infos

LONGEST_CHECK = 600.0
"""Seconds that building and checking may take."""
CODE_WIDTH = 330
"""Pixels of the panel with the code at first; its edge can be dragged."""
WANTED = (("0.05 %", 5e-4), ("0.2 %", 2e-3), ("1 %", 1e-2), ("5 %", 5e-2))
"""Errors that a proposal may leave: rms of a signal over its span."""
RUN_HINT = "Run the drive once, then press Build and check."
VALUES_HINT = (
    "A live value is converted when the controller starts, and can be changed while it runs, between its lowest "
    "and highest; any other is a constant in the C. Enter edits a cell, + and - step the chosen value, Space makes "
    "it live or constant."
)
FILE_TITLES = ("source", "header", "main", "table", "lib .h", "lib .c")


class FirmwarePage(Page):
    def building(self) -> Iterator[None]:
        self.written: Written | None = None
        """The deck of the drive as C, once it is written."""
        self.checked: Checked | None = None
        self.ran: tuple[OnProcessor, ...] = ()
        self.proposed: ProposedFormats | None = None
        self.saved_to = ""
        self._folder, self._for_board = "", False
        """Where the C is to be saved as soon as it is written, and whether with what a board needs."""
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_left())
        yield
        divided = QSplitter(Qt.Orientation.Horizontal)
        divided.setHandleWidth(1)
        divided.setChildrenCollapsible(False)
        for build, share in ((self._build_middle, 1), (self._build_right, 0)):
            divided.addWidget(build())
            divided.setStretchFactor(divided.count() - 1, share)
            yield
        divided.setSizes([2000, CODE_WIDTH])
        body.addWidget(divided, 1)
        self._late = Later(self, 0, self.refresh)
        self._late_rest = Later(self, 0, self._fill_rest)
        self._late_values = Later(self, 0, self._fill_values)
        self.session.changed.connect(lambda _: self._changed())
        self.session.opened.connect(self._changed)
        self.session.jobs.progressed.connect(self._show_progress)

    def _build_left(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setFixedWidth(236)
        inside = column(side, (16, 12, 14, 14), 6)
        inside.addWidget(label("From sheet to board", "heading"))
        self.steps = Steps()
        inside.addLayout(self.steps)
        inside.addSpacing(4)
        inside.addWidget(rule())
        inside.addWidget(label("Target", "heading"))
        self.clock = Field("72 MHz", "Clock of the processor", 72)
        self.clock.setToolTip("Clock of the processor, for the percentage of a period that its longest tick takes")
        self.target = Target(self.clock, self._read_value)
        inside.addLayout(self.target)
        inside.addStretch(1)
        self.problem = wrapped("", "wrong")
        inside.addWidget(self.problem)
        self.ranges_button = button("Find ranges", self.find_ranges)
        self.ranges_button.setToolTip("What each signal came to in the last run; fixed point has twice that room")
        self.propose_button = button("Propose formats", self.propose)
        self.propose_button.setToolTip("The narrowest mix of formats that stays within this error of the run")
        self.wanted_error = QComboBox()
        self.wanted_error.setAccessibleName("Permitted error")
        for text, share in WANTED:
            self.wanted_error.addItem(text, share)
        self.wanted_error.setCurrentIndex(1)
        self.build_button = button("Build and check", self.build, "primary")
        self.processor_button = button("On a processor", self.on_processors)
        self.processor_button.setToolTip("Run it on emulated Cortex-M4F, M3 and M0+, and count instructions")
        self.clock.committed.connect(lambda _: self._show_processors())
        self.save_button = button("Save C …", self.save)
        inside.addWidget(self.ranges_button)
        inside.addLayout(row(self.propose_button, self.wanted_error, spacing=4))
        inside.addWidget(self.build_button)
        inside.addLayout(row(self.processor_button, self.clock, spacing=4))
        inside.addWidget(self.save_button)
        return side

    def _build_middle(self) -> QWidget:
        middle = QWidget()
        inside = self.middle = column(middle, (16, 12, 16, 8), 6)
        self.all_formats = QComboBox()
        self.all_formats.setAccessibleName("Number format of all blocks")
        for number in NumberFormat:
            self.all_formats.addItem(number.label, number.value)
        self.all_formats.activated.connect(lambda _: self._choose_for_all(self.all_formats.currentData()))
        self.modelled = button("as modelled", lambda: self._run_as("as modelled"), "small")
        self.shipped = button("as shipped", lambda: self._run_as("as shipped"), "small")
        self.run_as = QButtonGroup(self)
        for each in (self.modelled, self.shipped):
            each.setCheckable(True)
            each.setToolTip("Which controller the next run has inside")
            self.run_as.addButton(each)
        inside.addLayout(
            row(
                *self._build_views(),
                1,
                label("all in", "muted"),
                self.all_formats,
                label("  controller in runs", "muted"),
                self.modelled,
                self.shipped,
            )
        )
        self.table = FormatsTable()
        self.table.format_chosen.connect(self._choose_format)
        self.table.range_typed.connect(self._set_range)
        self.table.signal_chosen.connect(lambda _: self._show_chosen())
        inside.addWidget(self.table, 3)
        self.values = ValuesPanel(self.session)
        self.values.hide()
        self.values.value_chosen.connect(lambda _: self._show_chosen())
        self.values.refused.connect(self.problem.setText)
        inside.addWidget(self.values, 3)
        self.comparison = Comparison()
        inside.addLayout(self.comparison, 4)
        return middle

    def _build_views(self) -> tuple[QPushButton, QPushButton]:
        """What the table shows: the signals of the blocks, or their values."""
        self.signals_button = button("Signals", lambda: self._show_values(False), "small")
        self.values_button = button("Values", lambda: self._show_values(True), "small")
        self.signals_button.setToolTip("What each block gives, in which numbers, and how far off it is.")
        self.values_button.setToolTip("Gains and other values, their words in the code, and which change there.")
        self.views = QButtonGroup(self)
        for each in (self.signals_button, self.values_button):
            each.setCheckable(True)
            self.views.addButton(each)
        self.signals_button.setChecked(True)
        return self.signals_button, self.values_button

    def _show_values(self, on: bool) -> None:
        self.table.setVisible(not on)
        self.values.setVisible(on)
        self._show_chosen()

    def _build_right(self) -> QWidget:
        side = QWidget()
        side.setObjectName("inspector")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setMinimumWidth(240)
        inside = column(side, (14, 12, 10, 10), 6)
        self.code = CodeView()
        inside.addWidget(self.code, 1)
        self.conversion = Conversion(self._read_value)
        inside.addWidget(self.conversion)
        inside.addWidget(label("Findings", "heading"))
        holder = QWidget()
        self.findings = column(holder, (0, 0, 0, 0), 4)
        self.findings_area = scrolled(holder)
        self.findings_area.setMaximumHeight(150)
        inside.addWidget(self.findings_area)
        return side

    # following the drive -------------------------------------------------------

    def _changed(self) -> None:
        """What is written, or being written, is C of another drive from now on."""
        self.session.jobs.stop(WRITE_C)
        self.written = self.checked = self.proposed = None
        self.ran = ()
        self.saved_to = ""
        for each in self._buttons:
            each.setEnabled(False)
        if self.isVisible() or self._folder:
            self._late.start()

    @property
    def _buttons(self) -> tuple[QWidget, ...]:
        return (
            self.ranges_button,
            self.propose_button,
            self.build_button,
            self.processor_button,
            self.save_button,
        )

    def fit(self) -> None:
        fit_plots(self)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        if self.written is None:
            self.refresh()

    @property
    def deck(self) -> ControlDeck | None:
        return self.written.deck if self.written else None

    def refresh(self) -> None:
        """Write the C of the drive as it is, beside the window; what is shown stays until it is there."""
        drive, lowering = self.session.drive.copy(), self.session.lowering
        if not drive.cards:
            self._take(Written())
            return

        def work(job: Job) -> Written:
            written: Written = lowering.ask(WriteRequest, drive, lambda: job.stopping)
            return written

        self.session.jobs.start(WRITE_C, work, self._take_written)

    def _take_written(self, job: Job) -> None:
        if job.stopping or self._late.isActive():  # of a drive that is another by now
            return
        self._take(job.result if job.end is End.FINISHED else Written(problem=job.sentence))

    def _take(self, written: Written) -> None:
        self.written = written
        self.problem.setText(written.problem)
        for each in (self.ranges_button, self.propose_button):
            each.setEnabled(written.deck is not None)
        for each in (self.build_button, self.processor_button, self.save_button):
            each.setEnabled(written.files is not None)
        self._fill()
        folder, self._folder = self._folder, ""
        if folder and written.files is not None:
            self.save(folder, board=self._for_board)
        elif folder:
            self.status_message.emit(written.problem)

    def _fill(self) -> None:
        """Show what was written: the table first, what stands beside it a moment later."""
        written, drive = self.written or Written(), self.session.drive
        units = {k: i.unit for k, i in signal_infos(drive).items()} if written.deck else {}
        gaps = {c.signal: c.largest for c in self.checked.compared} if self.checked else {}
        by_hand = {f"{k}.{n}": ends for k, card in drive.cards.items() for n, ends in card.ranges.items()}
        default = self._default_format(drive)
        closed = self.checked.closed if self.checked else {}
        self.table.fill(written.facts, default, units, gaps, by_hand, closed)
        self._late_rest.start()
        self._late_values.start()
        self.all_formats.setCurrentIndex(self.all_formats.findData(default.value))
        chosen = self.shipped if drive.settings["controller"] == "as shipped" else self.modelled
        chosen.setChecked(True)

    def _fill_rest(self) -> None:
        written = self.written or Written()
        has_ranges = any(card.seen for card in self.session.drive.cards.values())
        self.steps.fill(written, self.checked, self.saved_to, ranges_found=has_ranges)
        self._fill_target()
        self._fill_findings(written)
        names = list(written.files.texts) if written.files else []
        texts = written.files.texts if written.files else {}
        self.code.show_files(texts, dict(zip(names, FILE_TITLES)), written.words)
        self._show_chosen()

    def _fill_values(self) -> None:
        if self.written is not None:
            self.values.show_written(self.written)

    def _fill_target(self) -> None:
        self.target.fill(self.written or Written(), self.checked, self.ran)

    @staticmethod
    def _default_format(drive: Drive) -> NumberFormat:
        try:
            return NumberFormat(drive.settings["number_format"])
        except ValueError:  # the drive's findings tell of it
            return NumberFormat.FLOAT32

    def _fill_findings(self, written: Written) -> None:
        clear(self.findings)
        for finding in written.findings:
            self.findings.addWidget(wrapped(finding.sentence))
            if finding.fix is not None:
                fix = button(
                    f"Fix: {finding.fix_label[:1].lower()}{finding.fix_label[1:]}",
                    lambda c=finding.fix: self.session.do(c),
                    "link",
                )
                self.findings.addLayout(row(fix, 1))
        for sentence in self.target.findings(written, self.ran):
            self.findings.addWidget(wrapped(sentence))
        for sentence in self._proposal_words():
            self.findings.addWidget(wrapped(sentence, "muted"))
        if not self.findings.count():
            self.findings.addWidget(label("none", "muted"))
        self.findings.addStretch(1)

    def _proposal_words(self) -> list[str]:
        """What the last proposal cost."""
        p = self.proposed
        if p is None:
            return []
        reached = "" if p.reached else f", more than the {100 * p.wanted:.3g} % wanted"
        first = f"Proposed formats leave {100 * p.error:.2g} % at {p.worst or 'nothing'}{reached}."
        kept = [
            f"{t.block} keeps 32 bits: 16 would leave {100 * t.error:.2g} % at {t.signal}."
            for t in p.tried
            if not t.taken
        ]
        return [first, *kept, *(f"{b} stays in float: {why}" for b, why in p.reasons.items())]

    def _show_chosen(self) -> None:
        """What belongs to the chosen row."""
        values = self.values_button.isChecked()
        self.middle.setStretchFactor(self.comparison, 0 if values or self.checked is None else 4)
        if values:
            self._show_value()
        else:
            self._show_signal()

    def _show_value(self) -> None:
        """Scroll the code to the chosen value's block, and convert the value."""
        key, lowered = self.values.chosen, self.written.lowered if self.written else None
        self.comparison.show_hint(VALUES_HINT)
        facts = self.values.facts(key)
        alone = facts.alone if facts is not None else None
        # The table is filled a moment after the code is there, which may hold the value as a constant by then.
        struct = lowered.value_structs.get(facts.block) if lowered is not None and facts is not None else None
        if facts is None or lowered is None or alone is None or struct is None or not facts.text:
            words = f"{key}: {facts.constant or 'a constant in the C'}" if facts and not facts.numbers else ""
            self.conversion.show_signal(words, None, "", 0.0)
            return
        if self.code.shown.endswith(".c"):
            self.code.go_to(f"void {lowered.name}_{struct}_take")
        block, name, session = facts.block, facts.name, self.session
        self.conversion.show_signal(
            key,
            alone.rep,
            facts.unit,
            facts.now,
            lambda text: session.attempt(lambda: commands.set_value(session.drive, block, name, text)),
        )
        self.conversion.value.stepper = lambda text, count: value_after(session, block, name, text, count)

    def _show_signal(self) -> None:
        """Scroll the code to the chosen signal's block, convert the signal, and plot its comparison."""
        self.comparison.clear_plots()
        self.comparison.show_hint("" if self.checked is not None else RUN_HINT)
        signal, lowered = self.table.chosen, self.written.lowered if self.written else None
        if not signal or lowered is None:
            self.conversion.show_signal("", None, "", 0.0)
            return
        block, _, port = signal.partition(".")
        if self.code.shown.endswith(".c"):
            self.code.go_to(f"static void {lowered.members[block]}_")
        rep: Rep = lowered.block(block).reps[port]
        given = signal_infos(self.session.drive).get(signal)  # none where its block was just taken off
        unit = given.unit if given is not None else ""
        self.conversion.show_signal(signal, rep, unit, lowered.seen.get(signal, rep.step * 100))
        compared = next((c for c in self.checked.compared if c.signal == signal), None) if self.checked else None
        if compared is not None and self.deck is not None:
            self.comparison.show_signal(compared, unit, self.deck.tick)

    # edits ---------------------------------------------------------------------

    def _choose_format(self, block: str, number: str) -> None:
        self.session.attempt(lambda: commands.set_number_format(self.session.drive, block, number))

    def _choose_for_all(self, number: str) -> None:
        """One format for the whole deck; what was chosen for single blocks goes, in the same step."""
        drive = self.session.drive
        single = {k: "" for k, card in drive.cards.items() if card.number_format}
        command = commands.set_setting(drive, "number_format", number)
        if single:
            command = command.then(commands.set_number_formats(drive, single, ""), command.title)
        self.session.do(command)

    def _run_as(self, controller: str) -> None:
        if self.session.drive.settings["controller"] != controller:
            self.session.do(commands.set_setting(self.session.drive, "controller", controller))

    def _set_range(self, signal: str, text: str) -> None:
        block, _, port = signal.partition(".")
        self.session.attempt(lambda: commands.set_range(self.session.drive, block, port, ends_of(text)))

    def _read_value(self, text: str, unit: str) -> float:
        names = names_of(self.session.drive)
        return value_in_field(text, unit, names)

    # jobs ----------------------------------------------------------------------

    def _own_c(self) -> bool:
        return any(c.kind == C for c in self.session.drive.cards.values())

    def _ask(
        self,
        kind: JobKind,
        widget: Any,
        busy: str,
        request: Callable[[str, bytes], Any],
        take: Callable[[Any], None],
        *,
        with_run: bool = True,
    ) -> None:
        """Ask the process beside, with the last run where it is needed; a second press stops it."""
        if self.session.jobs.busy(kind):
            self.session.jobs.stop(kind)
            return
        if not may_run(self.session, self) or self.deck is None:
            return
        run = self.session.last_run
        if with_run and run is None:
            self.problem.setText("There is no run to take inputs from. Press Ctrl+R once, then try again.")
            return
        text, title = to_text(self.session.drive), widget.text()
        self.problem.setText("")
        widget.setText(busy)

        def work(job: Job) -> Any:
            data = self.session.shelf.file_of(run) if with_run and run is not None else b""
            ask = self.session.beside_worker.ask
            return ask(request(text, data), LONGEST_CHECK, lambda: job.stopping, job.report)

        def then(job: Job) -> None:
            widget.setText(title)
            if job.end is End.FAILED:
                self.problem.setText(job.sentence)
            elif job.end is End.FINISHED and text != to_text(self.session.drive):
                self.problem.setText("The drive was changed meanwhile. Do it once more.")
            elif job.end is End.FINISHED:
                take(job.result)

        self.session.jobs.start(kind, work, then)

    def _show_progress(self, job: Job, share: float) -> None:
        if job.kind is PROPOSE_FORMATS:
            self.propose_button.setText(f"Stop ({100 * share:.0f} %)")

    def find_ranges(self) -> None:
        """Keep what the signals came to in the last run."""
        own = self._own_c()
        self._ask(
            FIND_RANGES,
            self.ranges_button,
            "Finding …",
            lambda text, run: RangesRequest(text, run, own),
            lambda sizes: self.session.attempt(lambda: commands.set_seen(self.session.drive, sizes)),
        )

    def propose(self) -> None:
        """Take the narrowest formats that stay within the wanted error."""
        if not any(card.seen for card in self.session.drive.cards.values()):
            self.problem.setText("No ranges were found yet. Run the drive, press Find ranges, then propose formats.")
            return
        own, wanted = self._own_c(), float(self.wanted_error.currentData())
        self._ask(
            PROPOSE_FORMATS,
            self.propose_button,
            "Stop",
            lambda text, run: FormatsRequest(text, wanted, own),
            self._take_proposal,
            with_run=False,
        )

    def _take_proposal(self, proposed: ProposedFormats) -> None:
        drive = self.session.drive
        self.session.attempt(lambda: commands.set_number_formats(drive, proposed.formats, "Propose formats"))
        self.proposed = proposed
        if self.written is not None:
            self._fill_findings(self.written)

    def build(self) -> None:
        own = self._own_c()
        self._ask(
            CHECK_SHIPPED,
            self.build_button,
            "Building …",
            lambda text, run: CheckRequest(text, run, own),
            self._take_check,
        )

    def _take_check(self, checked: Checked) -> None:
        self.checked = checked
        self._fill()

    def on_processors(self) -> None:
        """Run the controller on emulated processors."""
        if missing := missing_tools():
            self.problem.setText(str(NoProcessor(missing)))
            return
        own, wanted = self._own_c(), tuple(p.id for p in PROCESSORS)
        self._ask(
            ON_PROCESSOR,
            self.processor_button,
            "Running …",
            lambda text, run: ProcessorRequest(text, run, wanted, own),
            self._take_processors,
        )

    def _take_processors(self, ran: tuple[OnProcessor, ...]) -> None:
        self.ran = ran
        self._show_processors()

    def _show_processors(self) -> None:
        self._fill_target()
        self._fill_findings(self.written or Written())

    def save(self, folder: str = "", *, board: bool = False) -> None:
        """Save the C; for a ``board`` also the slave by which it is watched and changed."""
        self._for_board = board
        if self.written is not None and self.written.files is None:
            self.status_message.emit(self.problem.text())
            return
        folder = folder or QFileDialog.getExistingDirectory(self, "Folder for the C files")
        if not folder:
            return
        if self.written is None or self.written.lowered is None:
            self._folder = folder
            self.refresh()
            return
        try:
            paths = write_sources(self.written.lowered, Path(folder), self.session.drive, board=board)
        except PendelError as problem:
            self.problem.setText(str(problem))
            return
        self.saved_to = ", ".join(p.name for p in paths)
        kept = "" if EXAMPLE in (p.name for p in paths) else f" {EXAMPLE} there is not as it was written, so it stays."
        self._fill()
        self.status_message.emit(f"Saved {self.saved_to} in {folder}.{kept}")

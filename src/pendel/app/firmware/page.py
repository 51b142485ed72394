"""The Firmware page: the control deck as C, built, checked against the simulation, saved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pygments import lex
from pygments.lexers import CLexer
from pygments.token import Token
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QSyntaxHighlighter, QTextCharFormat
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QPlainTextEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pendel.app.plots.plot import Plot
from pendel.app.session.jobs import CHECK_SHIPPED, WRITE_C, End, Job
from pendel.app.session.page import Page
from pendel.app.session.session import Session
from pendel.app.session.trust import may_run
from pendel.app.widgets.basic import button, clear, column, figure_row, label, rule, wrapped
from pendel.app.widgets.theme import code_font, tokens
from pendel.app.widgets.timers import single_shot
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.own_block import C
from pendel.core.controllers.deck import BlockInstance, ControlDeck
from pendel.core.controllers.emit import Source, call_of, emit
from pendel.core.controllers.writer import NumberFormat
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import DriveHasFindings, PendelError
from pendel.core.firmware.ship import Checked, write_sources
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.simulate import is_ordered, prepare, signal_infos
from pendel.core.runs.worker import Beside, CheckRequest, OrderRequest

FORMAT = NumberFormat.FLOAT32
LONGEST_CHECK = 300.0
"""Seconds that building and checking may take."""


LEXER = CLexer(stripnl=False, ensurenl=False)
"""Building one takes much longer than a line."""


class CodeColours(QSyntaxHighlighter):
    """C highlighting by Pygments."""

    def highlightBlock(self, text: str | None) -> None:
        t = tokens()
        tints = {
            Token.Comment: t.moss,
            Token.Keyword: t.petrol,
            Token.Literal: t.brass_text,
            Token.Comment.Preproc: t.muted,
            Token.Name.Function: t.strong,
        }
        starts_inside = self.previousBlockState() == 1
        whole = (text or "") if not starts_inside else "/*" + (text or "")
        shift = 2 if starts_inside else 0
        at = 0
        inside = "/*" in whole and whole.rfind("/*") > whole.rfind("*/")
        for kind, piece in lex(whole + ("*/" if inside else ""), LEXER):
            tint = next((tints[k] for k in tints if kind in k), None)
            if tint:
                made = QTextCharFormat()
                made.setForeground(QColor(tint))
                if kind in Token.Keyword:
                    made.setFontWeight(QFont.Weight.Bold)
                start = max(0, at - shift)
                self.setFormat(start, at - shift + len(piece) - start, made)
            at += len(piece)
        self.setCurrentBlockState(1 if inside else 0)


def value_text(block: BlockInstance, kind: Kind) -> str:
    """The first two of its values that its update uses."""
    names = [v.name for v in kind.values if v.name in block.used_values][:2]
    return ", ".join(f"{n} {number_text(block.values[n])}" for n in names) or "–"


@dataclass(frozen=True)
class Shipped:
    """A control deck and its C, or why there is none."""

    deck: ControlDeck | None
    source: Source | None = None
    problem: str = ""


def shipped_c(drive: Drive, worker: Beside, stopping: Callable[[], bool]) -> Shipped:
    """The C of a drive's deck. What has to be ordered is ordered by the process beside."""
    try:
        if not is_ordered(drive):
            worker.ask(OrderRequest(to_text(drive)), LONGEST_CHECK, stopping)
        deck = prepare(drive).deck
    except DriveHasFindings as problem:
        return Shipped(None, problem=str(problem.findings[0]))
    if not [b for b in deck.blocks if not b.sensor]:
        return Shipped(
            None,
            problem="The control deck is empty: there is no code to make. Add a regulator on the Drive page.",
        )
    return Shipped(deck, emit(deck, FORMAT))


class FirmwarePage(Page):
    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(session, parent)
        self.shipped: Shipped | None = None
        """The deck of the drive as C, once it is written."""
        self.checked: Checked | None = None
        self.saved_to = ""
        self._folder = ""
        """Where the C is to be saved as soon as it is written."""
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_left())
        body.addWidget(self._build_middle(), 1)
        body.addWidget(self._build_right())
        self._late = single_shot(self, 0, self.refresh)
        session.changed.connect(lambda _: self._changed())
        session.opened.connect(self._changed)

    def _build_left(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setFixedWidth(236)
        inside = column(side, (16, 12, 14, 14), 6)
        inside.addWidget(label("From sheet to board", "heading"))
        self.steps = QVBoxLayout()
        self.steps.setSpacing(8)
        inside.addLayout(self.steps)
        inside.addSpacing(6)
        inside.addWidget(rule())
        inside.addWidget(label("Target", "heading"))
        self.target = QVBoxLayout()
        inside.addLayout(self.target)
        inside.addStretch(1)
        self.problem = wrapped("", "wrong")
        inside.addWidget(self.problem)
        self.build_button = button("Build and check", self.build, "primary")
        self.save_button = button("Save C …", self.save)
        inside.addWidget(self.build_button)
        inside.addWidget(self.save_button)
        return side

    def _build_middle(self) -> QWidget:
        middle = QWidget()
        inside = column(middle, (16, 12, 16, 8), 6)
        self.heading = label("Blocks", "title")
        inside.addWidget(self.heading)
        inside.addWidget(label("in the order in which they run; sensors are the target's own", "muted"))
        self.table = QTableWidget(0, 5)
        self.table.setAccessibleName("Blocks")
        self.table.setHorizontalHeaderLabels(
            ["name in code", "every", "format", "value", "largest difference"]
        )
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(27)
        header = self.table.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        for c, mode in enumerate(
            (
                QHeaderView.ResizeMode.Stretch,
                QHeaderView.ResizeMode.ResizeToContents,
                QHeaderView.ResizeMode.ResizeToContents,
                QHeaderView.ResizeMode.Stretch,
                QHeaderView.ResizeMode.ResizeToContents,
            )
        ):
            header.setSectionResizeMode(c, mode)
        self.table.itemSelectionChanged.connect(self._show_block)
        inside.addWidget(self.table, 3)
        self.compare_title = label("Shipped code against the simulation", "heading")
        inside.addWidget(self.compare_title)
        self.both = Plot("", "")
        self.difference = Plot("difference", "", bottom="time, s")
        self.difference.setXLink(self.both)
        inside.addWidget(self.both, 2)
        inside.addWidget(self.difference, 2)
        self.hint = label("Run the drive once, then press Build and check.", "muted")
        inside.addWidget(self.hint)
        return middle

    def _build_right(self) -> QWidget:
        side = QWidget()
        side.setObjectName("inspector")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(404)
        inside = column(side, (14, 12, 10, 10), 6)
        self.file_tabs = QHBoxLayout()
        self.file_tabs.setSpacing(0)
        inside.addLayout(self.file_tabs)
        self.code = QPlainTextEdit()
        self.code.setReadOnly(True)
        self.code.setAccessibleName("C source")
        self.code.setFont(code_font(11))
        self.code.setStyleSheet('font-family: "JetBrains Mono"; font-size: 11px; border: none;')
        self.code.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.colours = CodeColours(self.code.document())
        inside.addWidget(self.code, 1)
        self.file = "source"
        return side

    # following the drive -------------------------------------------------------

    def _changed(self) -> None:
        """What is written, or being written, is C of another drive from now on."""
        self.session.jobs.stop(WRITE_C)
        self.shipped = self.checked = None
        self.saved_to = ""
        self.build_button.setEnabled(False)
        if self.isVisible() or self._folder:
            self._late.start()

    def showEvent(self, event) -> None:
        super().showEvent(event)
        if self.shipped is None:
            self.refresh()

    @property
    def deck(self) -> ControlDeck | None:
        return self.shipped.deck if self.shipped else None

    def refresh(self) -> None:
        """Write the C of the drive as it is, beside the window; what is shown stays until it is there."""
        drive, worker = self.session.drive.copy(), self.session.beside_worker
        if not drive.cards:
            self._take(Shipped(None))
            return
        self.session.jobs.start(
            WRITE_C, lambda job: shipped_c(drive, worker, lambda: job.stopping), self._written
        )

    def _written(self, job: Job) -> None:
        if job.stopping or self._late.isActive():  # of a drive that is another by now
            return
        self._take(job.result if job.end is End.FINISHED else Shipped(None, problem=job.sentence))

    def _take(self, shipped: Shipped) -> None:
        self.shipped = shipped
        self.problem.setText(shipped.problem)
        for widget in (self.build_button, self.save_button):
            widget.setEnabled(shipped.deck is not None)
        self._fill()
        folder, self._folder = self._folder, ""
        if folder and shipped.deck is not None:
            self.save(folder)
        elif folder:
            self.status_message.emit(shipped.problem)

    def _fill(self) -> None:
        blocks = [b for b in self.deck.blocks if not b.sensor] if self.deck else []
        chosen = self.table.currentRow()
        self.table.setRowCount(len(blocks))
        largest = {}
        if self.checked:
            for c in self.checked.compared:
                name = c.signal.split(".")[0]
                if name not in largest or c.largest > largest[name].largest:
                    largest[name] = c
        infos = signal_infos(self.session.drive) if self.deck else {}
        for r, block in enumerate(blocks):
            c = largest.get(block.name)
            unit = infos[c.signal].unit if c and c.signal in infos else ""
            texts = (
                block.name,
                str(block.every),
                "float 32",
                value_text(block, kind_of(self.session.drive.cards[block.name])),
                figure(c.largest, unit, 3) if c else "–",
            )
            for k, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setToolTip(f"{block.title}: {text}")
                if k in (1, 4):
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(r, k, item)
        if blocks and not 0 <= chosen < len(blocks):
            # The last block gives what leaves the deck; its difference holds all the others'.
            self.table.selectRow(len(blocks) - 1)
        self._fill_steps(len(blocks))
        self._fill_target()
        self._show_code()
        self._show_block()

    def _fill_steps(self, count: int) -> None:
        clear(self.steps)
        c = self.checked
        worst = max((x.largest / x.span for x in c.compared if x.span > 0), default=0.0) if c else 0.0
        rows = (
            ("Blocks", f"{count} blocks, all float 32", count > 0),
            (
                "Code",
                f"{self.deck.name}.c · {self._lines()} lines" if self.deck else "–",
                self.deck is not None,
            ),
            ("Build", f"{c.compiler} · no warnings" if c else "not built yet", c is not None),
            (
                "Check",
                f"largest difference {worst:.1e} of the span".replace("-", "−") if c else "not checked yet",
                c is not None and worst < 1e-2,
            ),
            ("Save", self.saved_to or "not yet saved", bool(self.saved_to)),
        )
        for n, (name, text, done) in enumerate(rows, 1):
            made = QWidget()
            inside = QHBoxLayout(made)
            inside.setContentsMargins(0, 0, 0, 0)
            ring = label("✓" if done else str(n))
            ring.setFixedSize(20, 20)
            ring.setAlignment(Qt.AlignmentFlag.AlignCenter)
            ring.setStyleSheet(
                f"background: {tokens().moss if done else tokens().brass}; color: {tokens().card}; "
                "border-radius: 10px; font-weight: bold; font-size: 11px;"
            )
            words = QVBoxLayout()
            words.setSpacing(0)
            words.addWidget(label(name))
            words.addWidget(wrapped(text, "muted"))
            inside.addWidget(ring, 0, Qt.AlignmentFlag.AlignTop)
            inside.addLayout(words, 1)
            self.steps.addWidget(made)

    def _lines(self) -> int:
        assert self.shipped is not None and self.shipped.source is not None
        return self.shipped.source.source.count("\n") + self.shipped.source.header.count("\n")

    def _fill_target(self) -> None:
        clear(self.target)
        if self.deck is None:
            return
        rows = [
            ("word", "32 bit, float unit"),
            ("sampling period", figure(self.deck.tick, "s", 3)),
            ("computing delay", f"{self.deck.delay} tick"),
        ]
        if self.checked:
            rows += [
                ("data", f"{self.checked.data_bytes} bytes"),
                ("object file", f"{self.checked.code_bytes / 1000:.1f} kB"),
            ]
        for name, value in rows:
            self.target.addLayout(figure_row(name, "", value))

    def _show_code(self) -> None:
        clear(self.file_tabs)
        if self.shipped is None or self.deck is None or (source := self.shipped.source) is None:
            self.code.setPlainText("")
            return
        texts = {
            "source": (f"{self.deck.name}.c", source.source),
            "header": (f"{self.deck.name}.h", source.header),
            "example": ("main.c", source.example),
        }
        for key, (name, _) in texts.items():
            made = button(name, lambda k=key: self._show_file(k), "small")
            made.setCheckable(True)
            made.setChecked(key == self.file)
            self.file_tabs.addWidget(made)
        self.file_tabs.addStretch(1)
        if self.code.toPlainText() != texts[self.file][1]:
            self.code.setPlainText(texts[self.file][1])

    def _show_file(self, key: str) -> None:
        self.file = key
        self._show_code()

    def _show_block(self) -> None:
        """Scroll the code to the chosen block's update and plot its comparison."""
        for plot in (self.both, self.difference):
            for child in list(plot.getPlotItem().items):
                plot.getPlotItem().removeItem(child)
        self.both.setVisible(self.checked is not None)
        self.difference.setVisible(self.checked is not None)
        self.hint.setVisible(self.checked is None)
        self.compare_title.setVisible(self.checked is not None)
        r = self.table.currentRow()
        blocks = [b for b in self.deck.blocks if not b.sensor] if self.deck else []
        if not 0 <= r < len(blocks):
            return
        if self.file == "source":
            cursor = self.code.document().find(f"void {call_of(blocks[r].kind)}(")
            if not cursor.isNull():
                self.code.setTextCursor(cursor)
                bar = self.code.verticalScrollBar()
                bar.setValue(max(0, cursor.blockNumber() - 2))
        if self.checked is None or self.deck is None:
            return
        own = [c for c in self.checked.compared if c.signal.startswith(f"{blocks[r].name}.")]
        if not own:
            return
        worst = max(own, key=lambda c: c.largest)
        unit = signal_infos(self.session.drive)[worst.signal].unit
        t = np.arange(len(worst.shipped)) * self.deck.tick
        step = max(1, len(t) // 4000)
        self.both.set_caption(worst.signal, f"{unit + '; ' if unit else ''}simulation, and shipped (dashed)")
        self.both.curve(t[::step], worst.simulated[::step], tokens().pale, 2.4)
        self.both.curve(t[::step], worst.shipped[::step], tokens().strong, 1.2, Qt.PenStyle.DashLine)
        gap = worst.shipped - worst.simulated
        self.difference.set_caption("difference", unit)
        self.difference.curve(t[::step], gap[::step], tokens().contrast, 1.2)
        low, high = float(np.min(worst.simulated)), float(np.max(worst.simulated))
        self.both.setXRange(0, float(t[-1]) if len(t) else 1.0, padding=0.01)
        self.both.setYRange(low - 0.05 * (high - low), high + 0.35 * (high - low or 1.0), padding=0)
        self.difference.autoRange()
        self.compare_title.setText(
            f"Shipped code against the simulation, {number_text(self.checked.ticks)} ticks"
        )

    # doing ---------------------------------------------------------------------

    def build(self) -> None:
        if not may_run(self.session, self):
            return
        if self.deck is None or self.session.jobs.busy(CHECK_SHIPPED):
            return
        run = self.session.last_run
        if run is None:
            self.problem.setText(
                "There is no run to take inputs from. Press Ctrl+R once, then build and check."
            )
            return
        self.problem.setText("")
        self.build_button.setText("Building …")
        self.build_button.setEnabled(False)
        text, own_c = to_text(self.session.drive), any(c.kind == C for c in self.session.drive.cards.values())

        def work(job: Job) -> Checked:
            """The shipped code beside the simulation's, in the process beside."""
            request = CheckRequest(text, FORMAT, self.session.shelf.file_of(run), own_c)
            checked: Checked = self.session.beside_worker.ask(request, LONGEST_CHECK, lambda: job.stopping)
            return checked

        self.session.jobs.start(CHECK_SHIPPED, work, lambda job: self._compare(job, text))

    def _compare(self, job: Job, text: str) -> None:
        self.build_button.setText("Build and check")
        self.build_button.setEnabled(self.deck is not None)
        if job.end is End.FINISHED and text != to_text(self.session.drive):
            self.problem.setText("The drive was changed while it was checked. Build and check it once more.")
            return
        self.checked = job.result
        if job.end is not End.FINISHED:
            self.problem.setText(job.sentence)
        self._fill()

    def save(self, folder: str = "") -> None:
        if self.shipped is not None and self.deck is None:
            self.status_message.emit(self.problem.text())
            return
        folder = folder or QFileDialog.getExistingDirectory(self, "Folder for the C files")
        if not folder:
            return
        if self.deck is None:
            self._folder = folder
            self.refresh()
            return
        try:
            paths = write_sources(self.deck, FORMAT, Path(folder))
        except PendelError as problem:
            self.problem.setText(str(problem))
            return
        self.saved_to = f"{paths[0].name}, {paths[1].name}, {paths[2].name}"
        self._fill()
        self.status_message.emit(f"Saved {self.saved_to} in {folder}.")

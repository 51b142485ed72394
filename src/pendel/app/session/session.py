"""The open drive as the window sees it: undo, checking, file state, autosave, kept runs."""

from __future__ import annotations

import contextlib
import traceback
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, QSettings, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from pendel.app.session.autosaves import Slot, digest_of, free_slot, write_unless_stopped
from pendel.app.session.jobs import AUTOSAVE, JUDGE, End, Job, Jobs
from pendel.app.session.judging import Study, judged_beside
from pendel.app.session.live_view import LiveView
from pendel.app.session.lowering import Lowering
from pendel.app.session.run_shelf import RunShelf, writable
from pendel.app.session.signal_evaluator import SignalEvaluator
from pendel.app.session.slow_work import SlowWork
from pendel.app.widgets.timers import Later
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Deck, Kind
from pendel.core.catalogue.index import stand_in
from pendel.core.check import Examined, examine
from pendel.core.drive import commands, file, view_edits
from pendel.core.drive.assemblies import completed
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding, attention, fault
from pendel.core.drive.limits import check_changes
from pendel.core.drive.lock import FileLock, Owner, lock_of, take
from pendel.core.drive.nesting import sheet_of, wires_on
from pendel.core.drive.titles import titled_by
from pendel.core.drive.views import View
from pendel.core.envelope.origin import older_maps
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.heat.held import Held
from pendel.core.loops.mechanics.modes import Mechanics
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.measures.declare import BAND
from pendel.core.processes.worker import Beside
from pendel.core.runs.record.kept import KeptRun, Remark
from pendel.core.worked_out import at_once

AUTOSAVE_AFTER_MS, AUTOSAVE_AT_LAST_MS = 1500, 5000
"""After a pause in editing; and without one, after its first edit."""
DEEP_CHECK_AFTER_MS = 400


class UndoStep(QUndoCommand):
    """Adapter from a core command to the undo stack; steps of one gesture merge."""

    def __init__(self, session: Session, command: Command):
        super().__init__(command.title)
        self.session, self.command = session, command

    def redo(self) -> None:
        self.command.apply(self.session.drive, checked=True)
        for old, new in commands.renamed_cards(self.command).items():
            self.session.card_renamed.emit(old, new)

    def undo(self) -> None:
        self.command.revert(self.session.drive)
        for old, new in commands.renamed_cards(self.command).items():
            self.session.card_renamed.emit(new, old)

    def id(self) -> int:
        return hash(self.command.gesture) % (2**31 - 1) if self.command.gesture else -1

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, UndoStep) or other.command.gesture != self.command.gesture:
            return False
        self.command = Command(self.command.title, self.command.changes + other.command.changes, self.command.gesture)
        return True


class Session(QObject):
    """One open drive. Views listen to its signals and change it only through `do`."""

    changed = pyqtSignal(set)
    card_renamed = pyqtSignal(str, str)
    """A card's id before and now."""
    examined_changed = pyqtSignal()
    units_changed = pyqtSignal()
    opened = pyqtSignal()
    held_changed = pyqtSignal()
    """What torque heat allows was worked out, or is forgotten."""
    selection_changed = pyqtSignal()
    sheet_changed = pyqtSignal()
    runs_changed = pyqtSignal()
    file_changed = pyqtSignal()
    studied = pyqtSignal()
    live_moved = pyqtSignal()
    """The live run has come further; a few times a second."""
    vary_wanted = pyqtSignal(str)
    """Something, by its name, that is to vary in a series."""
    strips_wanted = pyqtSignal(list)
    holding_wanted = pyqtSignal(list)
    """Names of the runs that are to be held beside new ones."""
    """Signals that are to lie on strips besides; none take all off."""
    overlay_wanted = pyqtSignal(list, str)
    """Names of runs that are to be shown together."""
    drive_wanted = pyqtSignal(str)
    """The file of another drive that is to be opened."""
    refused = pyqtSignal(str)
    """Why an edit was not taken."""

    def __init__(self, parent: QObject | None = None, settings: QSettings | None = None):
        super().__init__(parent)
        self.settings = settings or QSettings()
        """What is remembered from one start to the next."""
        self.undo = QUndoStack(self)
        self.closing = False
        self.scripts_folder: Path | None = None
        """Of the user's, that scripts may use besides their own."""
        self.generation = self.which = 0
        """Numbers that change with the drive, and with the drive that is open."""
        self.at_close: list[Callable[[], object]] = []
        """What is to end with the session."""
        self.judging = True
        """Whether the loops shown may be older than the drive."""
        self.judged: list = []
        """Loops of the drive with their judgement, from the last study."""
        self.judge_problem = ""
        """Why there is none, where that is no finding."""
        self.judge_at = JudgedAt.REST
        self.mechanics = Mechanics()
        """What swings in the drive, from the last study."""
        self.jobs = Jobs(self)
        self.beside_worker = Beside()
        """The process that runs what is needed to judge the drive, and to check its shipped code."""
        self.lowering = Lowering()
        self.slow_work = SlowWork(self.jobs, self.lowering, self)
        self.slow_work.arrived.connect(self._examine_anew)
        self.held: Held | None = None
        """What torque heat allows over speed, as it was worked out last."""
        self.opened.connect(lambda: self.take_held(None))
        self.shelf = RunShelf(self.jobs, self.beside_worker, self)
        self.shelf.changed.connect(self.runs_changed)
        self.band = BAND
        """Within which a signal has settled or recovered, of a step or a target."""
        self.shelf.problems_found.connect(self._runs_unread)
        self.card_renamed.connect(self._units_follow)
        self.path: Path | None = None
        self.selection: list[str] = []
        self.selected_wire = ""
        self.inside = ""
        """The assembly whose sheet is open; empty for the drive's own."""
        self.deep_findings: list[Finding] = []
        self.run_findings: list[Finding] = []
        self.remarks: list[Finding] = []
        """What the last run showed; gone with the next edit."""
        self.live: LiveView | None = None
        """The latest part of a live run, while there is one."""
        self.cursor_time: float | None = None
        self.view_now: Callable[[], View | None] = lambda: None
        """How runs are looked at, for the drive's file; none before they are shown."""
        self.shown_keys: Callable[[], list[str]] = list
        """Tells which signals of the next run will be shown at once."""
        self.evaluator = SignalEvaluator(self.jobs, self)
        self.autosave_soon = Later(self, AUTOSAVE_AFTER_MS, self.autosave)
        self.autosave_at_last = Later(self, AUTOSAVE_AT_LAST_MS, self.autosave)
        self._lock: FileLock | Owner | None = None
        """On the drive's file; an owner where another window has it open."""
        self._slot: Slot | None = None
        """Where this window keeps what is not saved."""
        self._known_bytes: str | None = None
        """Digest of the drive's file as it was read or written here last."""
        self._deep = Later(self, DEEP_CHECK_AFTER_MS, self.check_deeply)
        self.undo.cleanChanged.connect(self._clean_changed)
        self._adopt(Drive())

    def _clean_changed(self) -> None:
        self.file_changed.emit()

    def _adopt(self, drive: Drive) -> None:
        self.drive = drive
        self.generation += 1
        self.which += 1
        drive.listeners.append(self._drive_changed)
        self.examined: Examined = self._examine()

    def _examine(self) -> Examined:
        """What is said of the drive. Whatever happens in it, editing and autosave go on."""
        try:
            with at_once() as later:
                examined = examine(self.drive)
            self.slow_work.begin(later)
            return examined
        except Exception as problem:  # the edit's boundary
            traceback.print_exc()
            return Examined([fault(f"The drive cannot be examined: {problem}. Undo the last edit (Ctrl+Z).")])

    def _examine_anew(self) -> None:
        """Something about the drive is known that was not."""
        self.examined = self._examine()
        self.examined_changed.emit()

    def open(self, drive: Drive, path: Path | None, slot: Slot | None = None) -> None:
        """Make ``drive`` the open one, with its kept runs. ``slot`` is where its unsaved changes were
        found."""
        self._let_go()
        self._adopt(drive)
        self._slot = slot
        self._belongs_to(path)
        self.selection, self.selected_wire, self.inside = [], "", ""
        self.undo.clear()
        self.deep_findings = []
        self.judged, self.judge_problem, self.judging, self.mechanics = [], "", True, Mechanics()
        self.judge_at = JudgedAt.REST
        self.jobs.stop(JUDGE)  # what is still being found out is about another drive
        self.run_findings, self.remarks = [], []
        self.shelf.open(path)
        self.opened.emit()
        self.runs_changed.emit()
        self.examined_changed.emit()
        self.file_changed.emit()
        self._deep.start()

    def take_held(self, held: Held | None) -> None:
        """Keep what torque heat allows, for all views; nothing forgets it."""
        if held is not self.held:
            self.held = held
            self.held_changed.emit()

    def do(self, command: Command) -> None:
        """Apply a command as one undo step; an empty one does nothing, and one whose result no drive can hold
        is refused."""
        if not command.changes:
            return
        try:
            whole = completed(self.drive, command)
            check_changes(self.drive, whole.changes)
        except DriveProblem as problem:
            self.refused.emit(str(problem))
            self.changed.emit(set())  # fields show again what holds
            return
        self.undo.push(UndoStep(self, whole))

    def attempt(self, make: Callable[[], Command]) -> None:
        """`do` what ``make`` gives. What is shown of a drive may lag behind it: of a card that was just taken off the
        sentence is shown, and fields show again what holds."""
        try:
            command = make()
        except DriveProblem as problem:
            self.refused.emit(str(problem))
            self.changed.emit(set())
            return
        self.do(command)

    def _drive_changed(self, touched: set[tuple[str, str]]) -> None:
        self.autosave_soon.start()  # before all that may fail
        self.generation += 1
        if not self.autosave_at_last.isActive():
            self.autosave_at_last.start()
        gone = [c for c in self.selection if c not in self.drive.cards]
        if gone:
            self.selection = [c for c in self.selection if c in self.drive.cards]
        if self.inside and getattr(self.drive.cards.get(self.inside), "face", None) is None:
            self.enter("")
        self.examined = self._examine()
        self.remarks = []
        self.changed.emit(touched)
        self.examined_changed.emit()
        self._deep.start()
        self.judging = True
        if gone:
            self.selection_changed.emit()

    def enter(self, assembly: str) -> None:
        """Open the sheet of an assembly, or the drive's own."""
        if assembly != self.inside:
            self.inside = assembly
            self.selection, self.selected_wire = [], ""
            self.sheet_changed.emit()
            self.selection_changed.emit()

    def kinds(self) -> dict[str, Kind]:
        """Kinds of the cards on the open sheet. Those that this version does not have are on the deck of the card that
        is nearest above or below."""
        here = {key: card for key, card in self.drive.cards.items() if card.inside == self.inside}
        found: dict[str, Kind] = {}
        for key in here:
            with contextlib.suppress(DriveProblem):
                found[key] = kind_in(self.drive, key)
        known = dict(found)
        for key in here.keys() - known.keys():
            near = min(known, key=lambda k: abs(here[k].y - here[key].y), default=None)
            found[key] = stand_in(here[key], known[near].deck if near is not None else Deck.POWER)
        return found

    def select(self, cards: list[str], wire: str = "") -> None:
        """Select cards, or a wire; the sheet they are on opens. What is shown may be of a moment before: cards that are
        gone meanwhile are passed over."""
        cards = [card for card in cards if card in self.drive.cards]
        if cards:
            self.enter(self.drive.cards[cards[0]].inside)
        elif wire in self.drive.wires and wire not in wires_on(self.drive, self.inside):
            self.enter(sheet_of(self.drive, self.drive.wires[wire]))
        if cards != self.selection or wire != self.selected_wire:
            self.selection, self.selected_wire = cards, wire
            self.selection_changed.emit()

    @property
    def findings(self) -> list[Finding]:
        return [*self.examined.findings, *self.deep_findings, *self.run_findings, *self.remarks]

    def check_deeply(self) -> None:
        """Order the equations and judge the loops once the user pauses, beside the window."""
        if self.closing:
            return
        drive, faulty, at = self.drive.copy(), bool(self.examined.faults), self.judge_at
        folder = self.path.parent if self.path is not None else None

        def work(job: Job) -> Study:
            older = older_maps(drive, folder)
            if faulty or not drive.cards:
                return Study(older)
            study = judged_beside(self.beside_worker, drive, lambda: job.stopping, at=at)
            return replace(study, findings=[*study.findings, *older])

        self.jobs.start(JUDGE, work, self._take_study)

    def judge_loops(self, at: JudgedAt) -> None:
        """Judge loops there from now on."""
        if at is not self.judge_at:
            self.judge_at, self.judging = at, True
            self.check_deeply()

    def judge_at_once(self) -> None:
        """Judge without waiting for a pause, for whoever looks at the loops."""
        if self._deep.isActive():
            self._deep.stop()
            self.check_deeply()

    def _take_study(self, job: Job) -> None:
        if job.end is End.STOPPED or self._deep.isActive():  # a newer one is to come
            return
        study = job.result if job.end is End.FINISHED else Study(problem=job.sentence)
        self.judged, self.judge_problem, self.judging = study.loops, study.problem, False
        self.mechanics = study.mechanics
        changed = study.findings != self.deep_findings
        self.deep_findings = study.findings
        self.studied.emit()
        if changed:
            self.examined_changed.emit()

    def close(self) -> None:
        self.closing = True
        self.autosave_soon.stop()
        self.autosave_at_last.stop()
        self._deep.stop()
        self._let_go()
        self.undo.blockSignals(True)  # it is taken apart with the window, when nobody may listen any more
        for end in self.at_close:
            end()
        self.jobs.close()
        self.beside_worker.close()
        self.lowering.close()
        self.shelf.close()

    # file ------------------------------------------------------------------

    @property
    def dirty(self) -> bool:
        return not self.undo.isClean()

    def save(self, path: Path) -> None:
        """With how its runs are looked at just now, which is no edit. Raises `FileProblem`; the drive stays as it is
        then."""
        if (view := self.view_now()) is not None:
            view_edits.take_view(self.drive, view)
        if (named := titled_by(self.drive, path)) is not None:
            self.do(named)
        try:
            file.save(self.drive, path)
        except FileProblem:
            if named is not None:
                self.undo.undo()
            raise
        self.discard_autosave()
        if path != self.path:
            self._let_go()
            self.shelf.go_along(path)
        self._belongs_to(path)
        self.undo.setClean()
        self.file_changed.emit()

    def _belongs_to(self, path: Path | None) -> None:
        """The open drive is that of a file, as it is now."""
        self.path = self.shelf.path = path
        self._known_bytes = digest_of(path) if path is not None else None
        if path is not None and not isinstance(self._lock, FileLock):
            self._lock = take(lock_of(path)) if writable(path.parent) else None

    def _let_go(self) -> None:
        if self._slot is not None and not self.dirty:
            self.discard_autosave()  # it held edits that were undone
        for held in (self._lock, self._slot.lock if self._slot else None):
            if isinstance(held, FileLock):
                held.release()
        self._lock, self._slot = None, None

    def changed_by_others(self, path: Path) -> bool:
        """Whether the drive's file is another than it was when it was read or written here."""
        return path == self.path and self._known_bytes is not None and digest_of(path) not in (self._known_bytes, None)

    def autosave_within(self, seconds: float) -> None:
        """After a pause of so long in editing, and three times as long after the first edit."""
        self.autosave_soon.setInterval(round(1000 * seconds))
        self.autosave_at_last.setInterval(round(3000 * seconds))

    def autosave(self) -> None:
        self.autosave_soon.stop()
        self.autosave_at_last.stop()
        if not self.dirty:
            return
        with contextlib.suppress(OSError):  # the next edit tries again; the open drive is not in danger
            self._slot = self._slot or free_slot(self.path)
        if self._slot is not None:
            path, text = self._slot.path, file.to_text(self.drive)
            # Beside the window, since a disk may take a second to say that it is written.
            self.jobs.start(AUTOSAVE, lambda job: write_unless_stopped(job, path, text), lambda job: None)

    def discard_autosave(self) -> None:
        self.autosave_soon.stop()
        self.autosave_at_last.stop()
        self.jobs.stop(AUTOSAVE)  # before the file goes: one that is being written goes when it is there
        if self._slot is not None:
            with contextlib.suppress(OSError):
                self._slot.path.unlink(missing_ok=True)

    # runs ------------------------------------------------------------------

    @property
    def runs(self) -> list[KeptRun]:
        return self.shelf.runs

    @property
    def last_run(self) -> KeptRun | None:
        return self.shelf.last

    def add_run(self, run: KeptRun) -> None:
        self.shelf.add(run)
        self.remarks = [self._remark(r) for r in run.remarks]
        self.runs_changed.emit()

    def _remark(self, remark: Remark) -> Finding:
        fix = (
            commands.set_value(self.drive, remark.card, remark.value, remark.text)
            if remark.value and remark.card in self.drive.cards
            else None
        )
        return attention(remark.sentence, remark.card, f"time:{remark.time!r}", fix, f"Set it to {remark.text}")

    def _runs_unread(self, problems: list[str]) -> None:
        self.run_findings += [attention(sentence) for sentence in problems]
        self.examined_changed.emit()

    def choose_unit(self, key: str, unit_text: str) -> None:
        """Show one signal of all runs in another unit. Raises `DriveProblem`."""
        self.shelf.choose_unit(key, unit_text)
        self.units_changed.emit()
        self.runs_changed.emit()

    def _units_follow(self, old: str, new: str) -> None:
        if self.shelf.units.follow(old, new):
            self.units_changed.emit()

    def prefer_unit(self, declared: str, unit_text: str) -> None:
        """Show all signals declared with a unit in another, but for those chosen one by one."""
        self.shelf.prefer_unit(declared, unit_text)
        self.units_changed.emit()
        self.runs_changed.emit()

"""The open drive as the window sees it: undo, checking, file state, autosave, kept runs."""

from __future__ import annotations

import contextlib
import os
import re
import traceback
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from platformdirs import user_state_dir
from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack
from PyQt6.QtWidgets import QWidget

from pendel.app.autosaves import Slot, digest_of, free_slot
from pendel.app.readying import Readying
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.index import kind_of
from pendel.core.check import Examined, examine
from pendel.core.drive import commands, file
from pendel.core.drive.assemblies import completed
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Card, Drive
from pendel.core.drive.findings import Finding, attention, fault
from pendel.core.drive.inside import sheet_of, wires_on
from pendel.core.drive.limits import check_changes
from pendel.core.drive.lock import FileLock, Owner, lock_of, take
from pendel.core.errors import DriveHasFindings, DriveProblem, FileProblem, PendelError
from pendel.core.formats.writing import write_atomically
from pendel.core.runs import kept
from pendel.core.runs.kept import KeptRun
from pendel.core.runs.shown_units import ShownUnits
from pendel.core.runs.worker import Beside, JudgeRequest, OrderRequest

AUTOSAVE_AFTER_MS, AUTOSAVE_AT_LAST_MS = 1500, 5000
"""After a pause in editing; and without one, after its first edit."""
DEEP_CHECK_AFTER_MS = 400
MOST_RUNS = 40
MOST_READ = 12
"""Runs that are read when a drive is opened."""
AT_ONCE = 0.05
"""Seconds that opening a drive waits for its runs."""
LONGEST_JUDGING = 600.0
"""Seconds that it may take to order a drive and to judge its loops, with the runs that this takes."""
DEMO = Path(__file__).parent.parent / "examples" / "car_door_drive.pendel"
"""The shipped example; its runs and changes are kept elsewhere."""


class UndoStep(QUndoCommand):
    """Adapter from a core command to the undo stack; steps of one gesture merge."""

    def __init__(self, session: Session, command: Command):
        super().__init__(command.title)
        self.session, self.command = session, command

    def redo(self) -> None:
        self.command.apply(self.session.drive, checked=True)

    def undo(self) -> None:
        self.command.revert(self.session.drive)

    def id(self) -> int:
        return hash(self.command.gesture) % (2**31 - 1) if self.command.gesture else -1

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        if not isinstance(other, UndoStep) or other.command.gesture != self.command.gesture:
            return False
        self.command = Command(
            self.command.title, self.command.changes + other.command.changes, self.command.gesture
        )
        return True


class Session(QObject):
    """One open drive. Views listen to its signals and change it only through `do`."""

    changed = pyqtSignal(set)
    examined_changed = pyqtSignal()
    units_changed = pyqtSignal()
    opened = pyqtSignal()
    selection_changed = pyqtSignal()
    sheet_changed = pyqtSignal()
    runs_changed = pyqtSignal()
    file_changed = pyqtSignal()
    studied = pyqtSignal()
    refused = pyqtSignal(str)
    """Why an edit was not taken."""
    _study_done = pyqtSignal(int, list, list, str)
    _runs_read = pyqtSignal(int, list, list)

    def __init__(self, parent: QObject | None = None):
        super().__init__(parent)
        self.undo = QUndoStack(self)
        self.closing = False
        self.judging = True
        """Whether the loops shown may be older than the drive."""
        self.judged: list = []
        """Loops of the drive with their judgement, from the last study."""
        self.judge_problem = ""
        """Why there is none, where that is no finding."""
        self._version = 0
        self._ran: Drive | None = None
        self._pool = ThreadPoolExecutor(1)
        self.beside_worker = Beside()
        """The process that runs what is needed to judge the drive, and to check its shipped code."""
        self._study_done.connect(self._take_study)
        self._shelf = ThreadPoolExecutor(1, "kept runs")
        self.reading_runs = False
        """Whether runs of the drive are still being read."""
        self._opened = 0
        """Counts drives that were opened, so that runs of another are not taken for those of this one."""
        self._runs_read.connect(self._take_runs)
        self.path: Path | None = None
        self.selection: list[str] = []
        self.selected_wire = ""
        self.inside = ""
        """The assembly whose sheet is open; empty for the drive's own."""
        self.runs: list[KeptRun] = []
        self.units = ShownUnits()
        """In which all runs show their signals."""
        self.deep_findings: list[Finding] = []
        self.run_findings: list[Finding] = []
        self.remarks: list[Finding] = []
        """What the last run showed; gone with the next edit."""
        self.cursor_time: float | None = None
        self.shown_keys: Callable[[], list[str]] = list
        """Tells which signals of the next run will be shown at once."""
        self.readying = Readying(self)
        self._autosave = single_shot(self, AUTOSAVE_AFTER_MS, self.autosave)
        self._autosave_at_last = single_shot(self, AUTOSAVE_AT_LAST_MS, self.autosave)
        self._lock: FileLock | Owner | None = None
        """On the drive's file; an owner where another window has it open."""
        self._slot: Slot | None = None
        """Where this window keeps what is not saved."""
        self._known_bytes: str | None = None
        """Digest of the drive's file as it was read or written here last."""
        self._deep = single_shot(self, DEEP_CHECK_AFTER_MS, self.check_deeply)
        self.undo.cleanChanged.connect(self._clean_changed)
        self._adopt(Drive())

    def _clean_changed(self) -> None:
        self.file_changed.emit()

    def _adopt(self, drive: Drive) -> None:
        self.drive = drive
        drive.listeners.append(self._drive_changed)
        self.examined: Examined = self._examine()

    def _examine(self) -> Examined:
        """What is said of the drive. Whatever happens in it, editing and autosave go on."""
        try:
            return examine(self.drive)
        except Exception as problem:  # the edit's boundary
            traceback.print_exc()
            return Examined([fault(f"The drive cannot be examined: {problem}. Undo the last edit (Ctrl+Z).")])

    def open(self, drive: Drive, path: Path | None, slot: Slot | None = None) -> None:
        """Make ``drive`` the open one, with its kept runs. ``slot`` is where its unsaved changes were found."""
        self._let_go()
        self._adopt(drive)
        self._slot = slot
        self._belongs_to(path)
        self.selection, self.selected_wire, self.inside = [], "", ""
        self.undo.clear()
        self.deep_findings = []
        self.judged, self.judge_problem, self.judging = [], "", True
        self._version += 1  # what is still being found out is about another drive
        self._ran = None
        self.run_findings, self.remarks = [], []
        self.runs = []
        self._read_runs()
        self.opened.emit()
        self.runs_changed.emit()
        self.examined_changed.emit()
        self.file_changed.emit()
        self._deep.start()

    def do(self, command: Command) -> None:
        """Apply a command as one undo step; an empty one does nothing, and one whose result no drive can hold
        is refused."""
        if not command.changes:
            return
        whole = completed(self.drive, command)
        try:
            check_changes(self.drive, whole.changes)
        except DriveProblem as problem:
            self.refused.emit(str(problem))
            self.changed.emit(set())  # fields show again what holds
            return
        self.undo.push(UndoStep(self, whole))

    def _drive_changed(self, touched: set[tuple[str, str]]) -> None:
        self._autosave.start()  # before all that may fail
        if not self._autosave_at_last.isActive():
            self._autosave_at_last.start()
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
        """Kinds of the cards on the open sheet."""
        found = {}
        for key, card in self.drive.cards.items():
            with contextlib.suppress(DriveProblem):
                if card.inside == self.inside:
                    found[key] = kind_in(self.drive, key)
        return found

    def select(self, cards: list[str], wire: str = "") -> None:
        """Select cards, or a wire; the sheet they are on opens."""
        if cards and cards[0] in self.drive.cards:
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
        """Order the equations and judge the loops once the user pauses, in a thread of its own."""
        if self.closing:
            return
        self._version += 1
        self._pool.submit(self._study, self._version, self.drive.copy(), bool(self.examined.faults))

    def judge_at_once(self) -> None:
        """Judge without waiting for a pause, for whoever looks at the loops."""
        if self._deep.isActive():
            self._deep.stop()
            self.check_deeply()

    def beside(self, work, *arguments) -> None:
        """Do work in the thread that waits for the process beside the window."""
        if not self.closing:
            self._pool.submit(work, *arguments)

    def file_of_run(self, run: KeptRun) -> bytes:
        """A kept run as its file holds it. Raises `FileProblem`."""
        if run.file is None:
            raise FileProblem(run.name, "this run has no file any more. Run once more.")
        try:
            return run.file.read_bytes()
        except OSError as problem:
            raise FileProblem(str(run.file), f"the run cannot be read: {problem.strerror}.") from problem

    def _study(self, version: int, drive: Drive, faulty: bool) -> None:
        if version != self._version:
            return  # another edit came while this one waited
        found, judged, problem = (
            ([], [], "") if faulty or not drive.cards else judged_beside(self.beside_worker, drive)
        )
        if not self.closing:
            self._study_done.emit(version, found, judged, problem)

    def _take_study(self, version: int, found: list[Finding], judged: list, problem: str) -> None:
        if version != self._version or self.closing:
            return
        self.judged, self.judge_problem, self.judging = judged, problem, False
        changed = found != self.deep_findings
        self.deep_findings = found
        self.studied.emit()
        if changed:
            self.examined_changed.emit()

    def close(self) -> None:
        self.closing = True
        self._autosave.stop()
        self._autosave_at_last.stop()
        self._deep.stop()
        self._let_go()
        self.beside_worker.close()
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._shelf.shutdown(wait=False, cancel_futures=True)
        self.readying.close()

    # file ------------------------------------------------------------------

    @property
    def dirty(self) -> bool:
        return not self.undo.isClean()

    def save(self, path: Path) -> None:
        """Raises `FileProblem`; the drive stays as it is then."""
        file.save(self.drive, path)
        self.discard_autosave()
        if path != self.path:
            self._let_go()
        self._belongs_to(path)
        self.undo.setClean()
        self.file_changed.emit()

    def _belongs_to(self, path: Path | None) -> None:
        """The open drive is that of a file, as it is now."""
        self.path = path
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
        return (
            path == self.path
            and self._known_bytes is not None
            and digest_of(path) not in (self._known_bytes, None)
        )

    def autosave(self) -> None:
        self._autosave.stop()
        self._autosave_at_last.stop()
        if not self.dirty:
            return
        with contextlib.suppress(
            FileProblem, OSError
        ):  # the next edit tries again; the open drive is not in danger
            self._slot = self._slot or free_slot(self.path)
            if self._slot is not None:
                write_atomically(self._slot.path, file.to_text(self.drive))

    def discard_autosave(self) -> None:
        self._autosave.stop()
        self._autosave_at_last.stop()
        if self._slot is not None:
            with contextlib.suppress(OSError):
                self._slot.path.unlink(missing_ok=True)

    # runs ------------------------------------------------------------------

    @property
    def runs_folder(self) -> Path:
        if self.path is not None and self.path.parent != DEMO.parent and writable(self.path.parent):
            return self.path.with_suffix(".runs")
        name = self.path.stem if self.path else "untitled"
        return Path(user_state_dir("pendel")) / "runs" / f"{name}.runs"

    def _read_runs(self) -> None:
        """Read the drive's kept runs beside the window; a few are there at once, many come a moment later."""
        self._opened += 1
        self.reading_runs = False
        if self.path is None or not self.runs_folder.is_dir():
            return
        number = self._opened
        reading = self._shelf.submit(kept_runs, self.runs_folder, self.beside_worker)
        try:
            self._place_runs(*reading.result(AT_ONCE))  # `open` tells of them
        except TimeoutError:
            self.reading_runs = True
            reading.add_done_callback(lambda done: self._read_later(number, done))

    def _read_later(self, number: int, done: Future[tuple[list[KeptRun], list[str]]]) -> None:
        """In the thread that read them."""
        if self.closing or done.cancelled():
            return
        problem = done.exception()
        runs, problems = ([], [f"The kept runs cannot be read: {problem}."]) if problem else done.result()
        with contextlib.suppress(RuntimeError):  # the window went away meanwhile
            self._runs_read.emit(number, runs, problems)

    def _take_runs(self, number: int, runs: list[KeptRun], problems: list[str]) -> None:
        if number != self._opened or self.closing:
            return
        self._place_runs(runs, problems)
        self.reading_runs = False
        self.runs_changed.emit()
        if problems:
            self.examined_changed.emit()

    def _place_runs(self, runs: list[KeptRun], problems: list[str]) -> None:
        """Before those that were made since the drive was opened."""
        for run in runs:
            run.units = self.units
        self.runs = [*runs, *self.runs]
        self.run_findings += [attention(sentence) for sentence in problems]

    def next_run_number(self) -> int:
        numbers = [
            int(m.group(1))
            for r in self.runs
            if (m := re.fullmatch(r"Run (\d{1,9})", r.name.split(" · ")[0]))
        ]
        on_disk = (
            [
                int(m.group(1))
                for p in self.runs_folder.glob("run*.h5")
                if (m := re.fullmatch(r"run(\d{1,9})(_\w+)?", p.stem))
            ]
            if self.runs_folder.is_dir()
            else []
        )
        return max([0, *numbers, *on_disk]) + 1

    def add_run(self, run: KeptRun) -> None:
        run.units = self.units
        self.runs.append(run)
        self.remarks = [self._remark(r) for r in run.remarks]
        del self.runs[:-MOST_RUNS]
        self.runs_changed.emit()

    def choose_unit(self, key: str, unit_text: str) -> None:
        """Show one signal of all runs in another unit. Raises `DriveProblem`."""
        declared = next((r.declared_unit(key) for r in self.runs if key in r.infos), "")
        self.units.choose(key, declared, unit_text)
        self.units_changed.emit()
        self.runs_changed.emit()

    def prefer_unit(self, declared: str, unit_text: str) -> None:
        """Show all signals declared with a unit in another, but for those chosen one by one."""
        self.units.preferred[declared] = unit_text
        self.units_changed.emit()
        self.runs_changed.emit()

    def _remark(self, remark: kept.Remark) -> Finding:
        mend = (
            commands.set_value(self.drive, remark.card, remark.value, remark.text)
            if remark.value and remark.card in self.drive.cards
            else None
        )
        return attention(
            remark.sentence, remark.card, f"time:{remark.time!r}", mend, f"Set it to {remark.text}"
        )

    def relabel_run(self, run: KeptRun, label: str) -> None:
        """Raises `FileProblem` when the file cannot be written."""
        kept.relabel(run, label)

    def remove_run(self, run: KeptRun) -> None:
        self.runs = [r for r in self.runs if r is not run]
        with contextlib.suppress(OSError):
            if run.file is not None:
                run.file.unlink(missing_ok=True)
        self.runs_changed.emit()

    def drive_of_last_run(self) -> Drive | None:
        """The drive as it was when it ran last."""
        if self.last_run is None:
            return None
        if self._ran is None:
            with contextlib.suppress(FileProblem):
                self._ran = file.from_text(self.last_run.drive_text)
        return self._ran

    def remember_as_run(self) -> None:
        self._ran = self.drive.copy()

    @property
    def last_run(self) -> KeptRun | None:
        return self.runs[-1] if self.runs else None


def kept_runs(folder: Path, worker: Beside) -> tuple[list[KeptRun], list[str]]:
    """The newest runs kept in a folder, the oldest first, and why others are left out. What has to be ordered for them is ordered
    by another process, since that would hold up this one."""
    from pendel.core.runs.simulate import is_ordered, reopen  # slow to load, and not needed without kept runs

    runs, problems = [], []
    for path in sorted((p for p in folder.glob("run*.h5") if p.is_file()), key=age)[-MOST_READ:]:
        try:
            drive = file.from_text(kept.load(path).drive_text)
            if not is_ordered(drive):
                worker.ask(OrderRequest(file.to_text(drive)), LONGEST_JUDGING)
        except PendelError:
            pass  # `reopen` says what is wrong
        try:
            runs.append(reopen(path))
        except FileProblem as problem:
            problems.append(f"A kept run is left out. {problem}")
    return runs, problems


def judged_beside(worker: Beside, drive: Drive) -> tuple[list[Finding], list, str]:
    """What only the ordered equations tell: contradictions between parts, and how the loops stand; or why
    that is not known. Another process finds it out; here it is waited for."""
    from pendel.core.loops.judgement import standings_of  # slow to load, and not needed to start
    from pendel.core.runs.simulate import refused_c

    try:
        if refused := refused_c(drive):
            return refused, [], ""
        judgement = worker.ask(JudgeRequest(file.to_text(drive)), LONGEST_JUDGING)
        return [fault(*f) for f in judgement.findings], standings_of(judgement, drive), judgement.problem
    except DriveHasFindings as problem:
        return problem.findings, [], ""
    except PendelError as problem:
        return [], [], str(problem)
    except Exception as problem:  # the job's boundary: it must end, and say so
        traceback.print_exc()
        return [], [], f"The loops cannot be judged: {problem}."


def single_shot(parent: QObject, milliseconds: int, action) -> QTimer:
    timer = QTimer(parent)
    timer.setSingleShot(True)
    timer.setInterval(milliseconds)
    timer.timeout.connect(action)
    return timer


class Lazily:
    """Starts a timer when its widget can be seen, else as soon as it is shown; hidden pages cost a new run
    nothing."""

    def __init__(self, widget: QWidget, timer: QTimer):
        self.widget, self.timer, self.waiting = widget, timer, False

    def __call__(self) -> None:
        if self.widget.isVisible():
            self.timer.start()
        else:
            self.waiting = True

    def shown(self) -> None:
        if self.waiting:
            self.waiting = False
            self.timer.start()


def age(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0  # removed meanwhile


def writable(folder: Path) -> bool:
    return os.access(folder, os.W_OK)


DATA = {
    "profile": "profile",
    "own": "equations",
    "starts": "starting values",
    "rows": "table",
    "flux": "flux tables",
}
"""What a card may hold beside values and choices, and what users call it."""


def title_of(card: Card) -> str:
    """What the inspector calls a card's kind."""
    try:
        return kind_of(card).title
    except DriveProblem:
        return card.kind


def value_told(card: Card, name: str) -> str:
    """What a field shows: as written, or the catalogue's own; a bare number with its unit."""
    spec = next((v for v in kind_of(card).values if v.name == name), None)
    text = card.values.get(name, spec.default if spec else "")
    try:
        float(text)
    except ValueError:
        return text or "empty"
    return f"{text} {spec.unit}".strip() if spec else text


def choice_told(card: Card, name: str) -> str:
    spec = next((c for c in kind_of(card).choices if c.name == name), None)
    chosen = card.choices.get(name, spec.default if spec else "")
    return dict(spec.options).get(chosen, chosen) if spec else chosen


def differences(old: Drive | None, drive: Drive, most: int = 3) -> str:
    """What differs from the run before, for naming a run: ``K_p 6 → 15``."""
    if old is None:
        return "first run"
    found: list[str] = []
    for name, quantity in drive.quantities.items():
        before = old.quantities.get(name)
        if before and before.text != quantity.text:
            found.append(f"{name} {before.text} → {quantity.text}")
    for key, card in drive.cards.items():
        before = old.cards.get(key)
        if before is None:
            found.append(f"with {card.name}")
            continue
        if before.kind != card.kind:
            found.append(f"{card.name}: {title_of(before)} → {title_of(card)}")
        for name in sorted(card.values.keys() | before.values.keys()) if card.kind == before.kind else ():
            was, now = value_told(before, name), value_told(card, name)
            if was != now:  # not where a default was written out
                found.append(f"{card.name} {name} {was} → {now}")
        for name in sorted(card.choices.keys() | before.choices.keys()) if card.kind == before.kind else ():
            if choice_told(before, name) != choice_told(card, name):
                found.append(f"{card.name}: {choice_told(card, name)}")
        for field, words in DATA.items():
            if getattr(card, field) != getattr(before, field):
                found.append(f"{card.name}: {words} changed")
    found += [f"without {c.name}" for key, c in old.cards.items() if key not in drive.cards]
    if set(old.wires) != set(drive.wires):
        found.append("wired differently")
    if old.settings.get("level") != drive.settings["level"]:
        found.insert(0, str(drive.settings["level"]))
    for name in ("until", "sensors", "tolerance", "method", "step", "tick", "computing_delay"):
        if old.settings.get(name) != drive.settings[name]:
            found.append(f"{name.replace('_', ' ')} {drive.settings[name]}")
    return ", ".join(found[:most]) + (" …" if len(found) > most else "") if found else "as before"

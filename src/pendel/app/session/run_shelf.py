"""The kept runs of the open drive: read, numbered, labelled, removed, and the units in which they are
shown."""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import shutil
import tempfile
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_state_dir
from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.jobs import BRING_RUNS, MOMENT, READ_RUNS, End, Job, Jobs
from pendel.core.drive import file
from pendel.core.drive.document import Drive
from pendel.core.drive.examples import EXAMPLES
from pendel.core.errors import FileProblem, PendelError, Stopped
from pendel.core.freed import give_back_now
from pendel.core.processes.requests import OrderRequest
from pendel.core.processes.worker import Beside
from pendel.core.runs.record import kept
from pendel.core.runs.record.display_units import OTHERS, ShownUnits
from pendel.core.runs.record.evaluating import EvaluatorProcess
from pendel.core.runs.record.kept import KeptRun

MOST_RUNS = 40
HIDDEN_BYTES = 24 << 20
"""Of rows, and of what was computed from them, that runs may hold which no view shows."""
MOST_READ = 12
"""Runs that are read when a drive is opened."""
MOST_DELETED = 5
"""Runs that can be brought back; they take as much memory as if they were there."""
UNSAVED_FOR = 30 * 86400.0
"""s for which runs of a drive that was never saved stay on disk."""
LONGEST_ORDERING = 600.0
"""Seconds that it may take to order the drive of a run."""


class RunShelf(QObject):
    """The runs of one drive, the newest last."""

    changed = pyqtSignal()
    trimmed = pyqtSignal(int)
    """So many of the oldest runs went, as all took more than they may."""
    problems_found = pyqtSignal(list)
    """Sentences on runs that cannot be read."""

    def __init__(self, jobs: Jobs, worker: Beside, parent: QObject):
        super().__init__(parent)
        self._jobs, self._worker = jobs, worker
        self.runs: list[KeptRun] = []
        self.hidden_bytes = HIDDEN_BYTES
        self.kept_bytes = 0
        """That all runs of a drive may take on disk; zero for no bound. Beyond, the oldest that no view shows go."""
        self.evaluator = EvaluatorProcess()
        """Where signals of all runs are evaluated, as no code of a drive is loaded here."""
        self.units = ShownUnits()
        """In which all runs show their signals."""
        self.path: Path | None = None
        """The drive's file."""
        self.older = 0
        """Runs of the drive that were kept before those at hand, and were not read."""
        self.deleted: list[tuple[int, KeptRun]] = []
        """With the places they had; their files go with the drive."""
        self._seen: set[Path] = set()
        """Files of runs that were read, or could not be."""
        self._ran: Drive | None = None
        self._opened = 0
        """Counts drives that were opened, so that runs of another are not taken for those of this one."""

    @property
    def reading(self) -> bool:
        """Whether runs of the drive are still being read."""
        return self._jobs.busy(READ_RUNS)

    def open(self, path: Path | None) -> None:
        """Take the runs of another drive off, and read those of the drive in a file: a few are there at once,
        many come a
        moment later."""
        self._throw_away()
        self.path, self.runs, self._ran = path, [], None
        self.evaluator.forget_released()
        self.older, self._seen = 0, set()
        self._opened += 1
        self._jobs.stop(READ_RUNS)
        if path is None:
            folder = self.folder
            self._jobs.start(BRING_RUNS, lambda _: sweep_out(folder), lambda _: None)
        else:
            self.read_older()

    def read_older(self) -> None:
        """Read the newest of the runs that are not at hand."""
        folder, opened = self.folder, self._opened
        seen = self._seen | {run.file for run in self.runs if run.file is not None}
        if not folder.is_dir():
            return

        def work(job: Job) -> ReadRuns:
            read = kept_runs(folder, self._worker, self.evaluator, seen, lambda: job.stopping)
            for run in read.runs:
                run.evaluator = self.evaluator
            if read.runs:  # they are shown next, and the process takes its time to begin
                read.runs[-1].on_rows([], slice(1))
            return read

        self._jobs.start(READ_RUNS, work, lambda job: self._take(job, opened), at_once=MOMENT)

    def _take(self, job: Job, opened: int) -> None:
        """Place them before those that are at hand."""
        if opened != self._opened or job.end is End.STOPPED:
            return
        read = job.result if job.end is End.FINISHED else ReadRuns([], [job.sentence], set(), 0)
        for run in read.runs:
            run.units, run.reader = self.units, self.evaluator.content
        self.runs, self.older = [*read.runs, *self.runs], read.older
        self._seen |= read.seen
        if read.problems:
            self.problems_found.emit(read.problems)
        self.changed.emit()

    @property
    def folder(self) -> Path:
        path = self.path
        if path is not None and path.parent != EXAMPLES and writable(path.parent):
            return path.with_suffix(".runs")
        name = path.stem if path else "untitled"
        return Path(user_state_dir("pendel")) / "runs" / f"{name}.runs"

    def go_along(self, path: Path) -> None:
        """The drive is saved in another file: its kept runs go along, as copies; those of a drive that had no file
        before are moved."""
        before, moved = self.folder, self.path is None
        self.path = path
        if self.folder != before:
            self.older = 0
            self._bring([run for run in self.runs if run.file is not None], before, moved)

    def _bring_if_elsewhere(self, run: KeptRun) -> None:
        """The drive may have been saved elsewhere while it ran, or while the run was deleted."""
        if run.file is not None and run.file.parent != self.folder:
            self._bring([run], run.file.parent, moved=True)

    def _bring(self, runs: Sequence[KeptRun], before: Path, moved: bool) -> None:
        from pendel.core.loops.models.kept_sweeps import NAME  # slow to load, and not needed to start

        files = {run.file: run for run in runs if run.file is not None}
        beside = [before / NAME] if (before / NAME).is_file() else []

        def done(job: Job) -> None:
            if job.end is End.FAILED:
                self.problems_found.emit([job.sentence])
            for source, target in (job.result or {}).items():
                if source in files:
                    files[source].file = target

        folder = self.folder
        if files or beside:
            work = lambda _: brought([*files, *beside], folder, moved)  # noqa: E731
            self._jobs.start(BRING_RUNS, work, done, at_once=MOMENT)

    def show(self, shown: Iterable[KeptRun]) -> None:
        """Views show these runs alone; of the others no more is held than `hidden_bytes`."""
        runs = [*self.runs, *(run for _, run in self.deleted)]
        here = {id(run) for run in shown}
        for run in runs:
            run.shown = id(run) in here
        if release_hidden(runs, self.hidden_bytes):
            self.evaluator.forget_released()
            give_back_now()

    def next_number(self) -> int:
        names = [run.name.split(" · ")[0] for run in self.runs]
        numbers = [int(m[1]) for name in names if (m := re.fullmatch(r"Run (\d{1,9})", name))]
        # Without a file, what is there is of other drives.
        files = self.folder.glob("run*.h5") if self.path is not None and self.folder.is_dir() else ()
        numbers += [int(m[1]) for p in files if (m := re.fullmatch(r"run(\d{1,9})(_\w+)?", p.stem))]
        return max([0, *numbers]) + 1

    def next_place(self) -> tuple[Path, str]:
        """Where the next run is kept, under a name that no other window takes, and what it is called."""
        number = self.next_number()
        return self.folder / f"run{number}_{secrets.token_hex(3)}.h5", f"Run {number}"

    def add(self, run: KeptRun) -> None:
        run.units, run.evaluator, run.reader = self.units, self.evaluator, self.evaluator.content
        self.runs.append(run)
        self.older += max(0, len(self.runs) - MOST_RUNS)
        self._seen -= {each.file for each in self.runs[:-MOST_RUNS] if each.file is not None}
        del self.runs[:-MOST_RUNS]
        self._bring_if_elsewhere(run)
        self._keep_within()

    def _keep_within(self) -> None:
        """Let the oldest runs go where all take more than they may: those not read first, none that is shown, and never
        the latest."""
        if not self.kept_bytes or self.path is None:
            return
        listed = {run.file: run for run in self.runs if run.file is not None}
        sizes = {}
        can_come_back = {run.file for _, run in self.deleted}
        for path in set(self.folder.glob("run*.h5")) - can_come_back:
            with contextlib.suppress(OSError):
                sizes[path] = path.stat()
        total = sum(stat.st_size for stat in sizes.values())
        dead = []
        for path in sorted(sizes, key=lambda each: (each in listed, sizes[each].st_mtime)):
            if total <= self.kept_bytes:
                break
            run = listed.get(path)
            if run is not None and (run.shown or run is self.runs[-1]):
                continue
            total -= sizes[path].st_size
            dead.append(path)
            if run is not None:
                self.runs.remove(run)
            else:
                self.older = max(0, self.older - 1)
            self._seen.discard(path)
        if dead:
            self._jobs.start(BRING_RUNS, lambda _: thrown_away(dead), lambda _: None)
            self.trimmed.emit(len(dead))

    def remove(self, run: KeptRun) -> None:
        """The last few can be brought back until the drive is closed; then their files go."""
        place = next((k for k, each in enumerate(self.runs) if each is run), None)
        if place is not None:
            del self.runs[place]
            self.deleted.append((place, run))
            self._throw_away(keep=MOST_DELETED)
            if run.file is not None:
                self._seen.add(run.file)
            self.changed.emit()

    def bring_back(self) -> None:
        """The run that was deleted last."""
        if self.deleted:
            place, run = self.deleted.pop()
            self.runs.insert(min(place, len(self.runs)), run)
            self._bring_if_elsewhere(run)
            self.changed.emit()

    def close(self) -> None:
        self.evaluator.close()
        thrown_away([run.file for _, run in self.deleted if run.file is not None])

    def _throw_away(self, keep: int = 0) -> None:
        """Deleted runs, but for the last ones; their files beside the window."""
        gone = self.deleted[: max(0, len(self.deleted) - keep)]
        files = [run.file for _, run in gone if run.file is not None]
        del self.deleted[: len(gone)]
        if files:
            self._jobs.start(BRING_RUNS, lambda _: thrown_away(files), lambda _: None)

    def relabel(self, run: KeptRun, label: str) -> None:
        """Raises `FileProblem` when the file cannot be written."""
        kept.relabel(run, label)

    @property
    def last(self) -> KeptRun | None:
        return self.runs[-1] if self.runs else None

    def drive_of_last(self) -> Drive | None:
        """The drive as it was when it ran last."""
        if self.last is None:
            return None
        if self._ran is None:
            with contextlib.suppress(FileProblem):
                self._ran = file.from_text(self.last.drive_text)
        return self._ran

    def remember_as_run(self, drive: Drive) -> None:
        self._ran = drive.copy()

    def file_of(self, run: KeptRun) -> bytes:
        """A kept run as its file holds it. Raises `FileProblem`."""
        if run.file is None:
            raise FileProblem(run.name, "this run has no file any more. Run once more.")
        try:
            return run.file.read_bytes()
        except OSError as problem:
            raise FileProblem(str(run.file), f"the run cannot be read: {problem.strerror}.") from problem

    def choose_unit(self, key: str, unit_text: str) -> None:
        """Show one signal of all runs in another unit. Raises `DriveProblem`."""
        declared = [r.declared_unit(key) for r in self.runs if key in r.infos]
        # an own block's output may be of another kind in one run than in the next
        suits = [u for u in declared if unit_text in OTHERS.get(u, ())]
        self.units.choose(key, next(iter(suits + declared), ""), unit_text)

    def prefer_unit(self, declared: str, unit_text: str) -> None:
        """Show all signals declared with a unit in another, but for those chosen one by one."""
        self.units.preferred[declared] = unit_text


@dataclass(frozen=True)
class ReadRuns:
    """Runs that were read, the oldest first, why others were not, the files of both, and how many older ones there
    are."""

    runs: list[KeptRun]
    problems: list[str]
    seen: set[Path]
    older: int


def kept_runs(
    folder: Path, worker: Beside, evaluator: EvaluatorProcess, seen: set[Path], stopping: Callable[[], bool]
) -> ReadRuns:
    """The newest runs kept in a folder of which none was ``seen``. Files are read by
    ``evaluator``. What has to be ordered for them is ordered by another process, since that would hold up this one."""
    from pendel.core.runs.preparing.simulate import is_ordered, reopen  # slow to load, and not needed without kept runs

    runs, problems = [], []
    there = sorted((p for p in folder.glob("run*.h5") if p.is_file() and p not in seen), key=age)
    for path in there[-MOST_READ:]:
        if stopping():
            raise Stopped
        try:
            drive = file.from_text(kept.load(path, evaluator.content).drive_text)
            if not is_ordered(drive):
                worker.ask(OrderRequest(file.to_text(drive)), LONGEST_ORDERING, stopping)
        except Stopped:
            raise
        except FileProblem as problem:  # one that cannot be read takes its time to say so
            problems.append(f"A kept run is left out. {problem}")
            continue
        except PendelError:
            pass  # `reopen` says what is wrong
        try:
            runs.append(reopen(path, evaluator.content))
        except FileProblem as problem:
            problems.append(f"A kept run is left out. {problem}")
    return ReadRuns(runs, problems, set(there[-MOST_READ:]), len(there[:-MOST_READ]))


def thrown_away(files: Sequence[Path]) -> None:
    for path in files:
        with contextlib.suppress(OSError):
            path.unlink(missing_ok=True)


def brought(sources: Sequence[Path], folder: Path, moved: bool) -> dict[Path, Path]:
    """Copy or move files to a folder; gives where each is now. What is there by the same name stays.

    Raises
    ------
    FileProblem
    """
    places = {}
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for source in sources:
            target = folder / source.name
            if target.exists() or not source.is_file():
                continue
            # Under a name nobody knows before, as a link would lead elsewhere; and there is never half a run.
            opened, half = tempfile.mkstemp(".part", dir=folder)
            os.close(opened)
            try:
                shutil.copy2(source, half)
                os.replace(half, target)
            finally:
                Path(half).unlink(missing_ok=True)
            places[source] = target
    except OSError as problem:
        where = sources[0].parent
        raise FileProblem(
            str(folder), f"kept runs cannot be brought there: {problem.strerror}. They are in {where}."
        ) from problem
    if moved:
        thrown_away(list(places))
    return places


def sweep_out(folder: Path) -> None:
    """Delete runs of drives that were never saved, once they are so old that no window has them any more."""
    for path in folder.glob("run*.h5"):
        with contextlib.suppress(OSError):
            if time.time() - path.stat().st_mtime > UNSAVED_FOR:
                path.unlink()


def age(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0  # removed meanwhile


def writable(folder: Path) -> bool:
    return os.access(folder, os.W_OK)


def release_hidden(runs: Iterable[KeptRun], bound: int) -> bool:
    """Release runs that no view shows, those used longest ago first, until they hold no more than so many bytes.
    Returns whether there were any."""
    hidden = sorted((run for run in runs if not run.shown), key=lambda run: run.used_at, reverse=True)
    held, released = 0, False
    for run in hidden:
        size = run.held_bytes
        held += size
        if held > bound and size:
            run.release()
            released = True
    return released

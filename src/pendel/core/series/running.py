"""A series from its first row to its last, wherever it was left."""

from __future__ import annotations

import contextlib
import math
import os
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

import numpy as np

from pendel.core.drive.document import BESIDE_TABLES, Drive
from pendel.core.drive.file import from_text, to_text
from pendel.core.drive.plans import Plan
from pendel.core.errors import DriveProblem, FileProblem, PendelError
from pendel.core.series.points import points_of, seed_of_row
from pendel.core.series.rows import FAILED, Row, Series, run_rows
from pendel.core.series.store import RowStore, being_run, store_path
from pendel.core.series.traces import refuse_too_many
from pendel.core.trust import refuse_strange_c

COMMIT_EVERY = 0.5
"""s between two batches of rows that are kept."""
FOLDER = ".series"
MOST_AT_ONCE = 100_000
"""Numbers of open rows that are looked up at a time."""

Runs = Callable[[Drive, Plan, Sequence[int], Callable[[], bool]], Iterator[Row]]
"""Runs rows of a plan by their numbers, and gives each when it is done; fewer where it was asked to stop. Of no rows it
only looks whether they could run."""


def folder_of(drive_path: Path) -> Path:
    """Where the series of a saved drive are kept."""
    return drive_path.with_name(drive_path.stem + FOLDER)


def plain_drive(drive: Drive) -> Drive:
    """The drive but for what changes no run: its panel, kept ways, plans and scripts."""
    plain = drive.copy()
    for table in BESIDE_TABLES:
        plain.table(table).clear()
    return plain


def text_of(drive: Drive) -> str:
    """What a series keeps of its drive."""
    return to_text(plain_drive(drive))


@dataclass(frozen=True)
class State:
    """How far a series is: rows that have all figures of the plan are ``done``. ``differs`` where the drive, or what
    varies in it, is another than it was begun with; ``begun`` is empty where it was not, and ``fresh`` are figures and
    traces that no row has yet."""

    count: int = 0
    done: int = 0
    failed: int = 0
    begun: str = ""
    differs: str = ""
    fresh: tuple[str, ...] = ()

    @property
    def is_whole(self) -> bool:
        return bool(self.begun) and self.done >= self.count


def state_of(store: RowStore, drive: Drive, plan: Plan) -> State:
    """Raises `FileProblem`."""
    if not store.is_begun:
        return State()
    kept, (done, failed) = store.kept(), store.counts()
    if not same_rows(kept.plan, plan):
        return State(kept.count, done, failed, kept.begun, "what varies was changed since")
    differs = "the drive was changed since" if kept.drive_text != text_of(drive) else ""
    fresh = tuple(text for text in plan.measures if text not in kept.plan.measures)
    fresh += tuple(f"trace of {name}" for name in plan.traces if name not in kept.plan.traces)
    return State(kept.count, 0 if fresh else done, failed, kept.begun, differs, fresh)


def same_rows(plan: Plan, other: Plan) -> bool:
    """Whether two plans make the same runs, whatever they report and keep of them."""
    return replace(plan, measures=(), traces=()) == replace(other, measures=(), traces=())


def adopt(folder: Path, name: str, plan: Plan, names: Collection[str]) -> None:
    """Let a plan have the rows of one that is called otherwise now: of a store in its folder that belongs to none of
    the ``names`` that there are, and was begun with the same plan."""
    path, known = store_path(folder, name), {store_path(folder, each) for each in names}
    if path.exists() or not folder.is_dir():
        return
    for other in sorted(set(folder.glob("*.rows")) - known):
        with contextlib.suppress(FileProblem):
            store = RowStore(other)
            try:
                same = store.is_begun and store.kept().plan == plan
            finally:
                store.close()
            if same:
                with contextlib.suppress(OSError):
                    os.replace(other, path)
                return


@dataclass
class Going:
    """A series that is run: ``rows`` gives each row that is done, once it is kept."""

    folder: Path
    name: str
    drive: Drive
    plan: Plan

    def store(self) -> RowStore:
        """Raises `FileProblem`."""
        self.folder.mkdir(parents=True, exist_ok=True)
        return RowStore(store_path(self.folder, self.name))

    def rows(self, runs: Runs, *, anew: bool = False, stopping: Callable[[], bool] = lambda: False) -> Iterator[Row]:
        """Run all rows that are not there yet, with the drive and the plan that the series was begun with; figures are
        those of the present plan, for which rows that lack one run again.

        Parameters
        ----------
        anew
            begin again with the present drive, and let go the rows that are there.

        Raises
        ------
        DriveProblem, DriveHasFindings, FileProblem
            where the plan is none, the drive cannot run, or another program runs the series.
        """
        path = store_path(self.folder, self.name)
        with being_run(path):
            store = self.store()
            try:
                yield from self._open_rows(store, runs, anew, stopping)
            finally:
                store.close()

    def _open_rows(self, store: RowStore, runs: Runs, anew: bool, stopping: Callable[[], bool]) -> Iterator[Row]:
        if anew or not store.is_begun:
            drive, plan = plain_drive(self.drive), self.plan
            count = points_of(drive, plan).count
            refuse_too_many(len(plan.traces), count)
            for _ in runs(drive, plan, [], stopping):  # before what is there goes
                pass
            store.begin(to_text(drive), plan, count, datetime.now().isoformat(timespec="seconds"))
        else:
            begun = store.kept()
            drive, plan = from_text(begun.drive_text, "The drive of the series"), begun.plan
            refuse_strange_c(drive, "start the series anew with the drive that you have")  # rows may come from anyone
            count = points_of(drive, plan).count
            if count != begun.count:
                raise DriveProblem(f"The series {self.name} has another number of rows by now. Start it anew.")
            if plan != self.plan and same_rows(plan, self.plan):
                plan = self.plan
                refuse_too_many(len(plan.traces), count)
                for _ in runs(drive, plan, [], stopping):  # whether there are such figures
                    pass
                store.take_figures(plan)
        waiting: list[Row] = []
        last = time.monotonic()
        for first in range(0, count, MOST_AT_ONCE):
            numbers = np.arange(first, min(count, first + MOST_AT_ONCE))
            try:
                for row in runs(drive, plan, np.setdiff1d(numbers, store.numbers(whole=True)).tolist(), stopping):
                    waiting.append(row)
                    if time.monotonic() - last >= COMMIT_EVERY:
                        store.add(waiting)
                        kept, waiting, last = waiting, [], time.monotonic()
                        yield from kept
            finally:  # also where nobody wants more of them
                store.add(waiting)
            yield from waiting
            waiting = []
            if stopping():
                return


def in_threads(threads: int) -> Runs:
    """Rows run in this process."""

    known: list[Series] = []

    def runs(drive: Drive, plan: Plan, numbers: Sequence[int], stopping: Callable[[], bool]) -> Iterator[Row]:
        if not known:
            known.append(Series(drive, plan))
        return run_rows(known[0], numbers, threads, stopping)

    return runs


Ask = Callable[[str, Plan, Sequence[int], int], Sequence[Row]]
"""Has another process run rows of a plan for a drive's text, so many at once. Raises `RunProblem` where it ended, and
`Stopped`."""
FIRST_BATCH, LONGEST_BATCH, BATCH_SECONDS = 2, 2000, 1.0
"""Rows for each core in the first batch, rows of any, and how long one is to take."""


def in_process(ask: Ask, threads: int) -> Runs:
    """Rows run by another process, in batches. A row with which it ends is the one that could not run."""

    def runs(drive: Drive, plan: Plan, numbers: Sequence[int], stopping: Callable[[], bool]) -> Iterator[Row]:
        text = to_text(drive)
        if not numbers:
            ask(text, plan, (), threads)
            return
        size, at = FIRST_BATCH * threads, 0
        while at < len(numbers) and not stopping():
            begun, batch = time.monotonic(), numbers[at : at + size]
            yield from _one_by_one(ask, text, plan, batch, threads)
            at += len(batch)
            rate = len(batch) / max(1e-3, time.monotonic() - begun)
            size = max(threads, min(LONGEST_BATCH, 2 * size, round(BATCH_SECONDS * rate)))

    return runs


def _one_by_one(ask: Ask, text: str, plan: Plan, batch: Sequence[int], threads: int) -> Iterator[Row]:
    """The rows of a batch; where its process ends, each by itself."""
    try:
        yield from ask(text, plan, batch, threads)
        return
    except ProcessEnded as problem:
        if len(batch) == 1:
            points = points_of(from_text(text), plan)
            seed, nothing = seed_of_row(points.seed, batch[0]), (math.nan,) * len(plan.measures)
            yield Row(batch[0], points.rows(batch[0], batch[0] + 1)[0], FAILED, str(problem), seed, 0.0, nothing)
            return
    for number in batch:
        yield from _one_by_one(ask, text, plan, [number], threads)


class ProcessEnded(PendelError):
    """The process that runs rows ended, or gave no answer."""

"""A series that runs beside the window: start, progress, stop, exactly one end."""

from __future__ import annotations

import contextlib
import math
import threading
import time
from collections import deque
from collections.abc import Sequence
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.jobs import SERIES, End, Job
from pendel.app.session.run_shelf import writable
from pendel.app.session.session import Session
from pendel.core.cores import usable_cores
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import from_text
from pendel.core.drive.plans import Plan
from pendel.core.errors import DriveProblem, RunProblem, Stopped
from pendel.core.processes.requests import SeriesRequest
from pendel.core.processes.worker import Beside
from pendel.core.series.goals import Found, Goal, Search
from pendel.core.series.rows import DONE, FAILED, Row
from pendel.core.series.running import Going, ProcessEnded, folder_of, in_process, text_of
from pendel.core.series.store import RowStore, being_run, store_path
from pendel.core.trust import brings_allowed_c

SEARCHED = " · search"
"""Behind the name of a series: the trials of its last search."""
LONGEST_BATCH_SECONDS = 7200.0
"""s after which a batch of rows that did not end costs its process."""


class SeriesRunner(QObject):
    """One series at a time. ``came`` tells that rows are there to be taken; ``ended`` comes once for each start, with a
    sentence (empty when all went well) and whether it was a failure."""

    came = pyqtSignal()
    ended = pyqtSignal(str, bool)

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self.session = session
        self.name = ""
        """Of the series that runs, or ran last; ..."""
        self.folder = Path()
        """... where its rows are, ..."""
        self.plan = Plan()
        """... and its plan."""
        self.found: Found | None = None
        """What was found last, where a search ended."""
        self.done = self.failed = 0
        self.began = self.rate = 0.0
        self._worker = Beside()
        self._rows: deque[Row] = deque()
        self._lock = threading.Lock()
        session.jobs.progressed.connect(self._progressed)
        session.at_close.append(self._worker.close)

    @property
    def running(self) -> bool:
        return self.session.jobs.busy(SERIES)

    @property
    def place(self) -> Path:
        """Where rows of the open drive's series are kept."""
        path = self.session.path
        if path is not None and path.parent != EXAMPLES and writable(path.parent):
            return folder_of(path)
        return self.session.shelf.folder / "series"

    def going(self, name: str) -> Going:
        """Raises `DriveProblem`."""
        plan = self.session.drive.plans.get(name)
        if plan is None:
            raise DriveProblem(f"No series is called {name}.")
        return Going(self.place, name, self.session.drive.copy(), plan)

    def search(self, name: str, goal: Goal) -> Search:
        """Search values for a goal by what varies in a series; trials are rows of their own. Raises `DriveProblem` and
        `ExpressionProblem`."""
        going = self.going(name)
        searching = Search(going.drive, going.plan, goal)
        self._begin(name + SEARCHED, going.folder, searching.plan)
        text, path = text_of(going.drive), store_path(going.folder, self.name)

        def ask(job: Job, numbers: Sequence[int], texts: Sequence[Sequence[str]]) -> Sequence[Row]:
            request = SeriesRequest(
                text, searching.plan, tuple(numbers), usable_cores(), tuple(map(tuple, texts)), brings(text)
            )
            rows: Sequence[Row] = self._worker.ask(request, LONGEST_BATCH_SECONDS, lambda: job.stopping)
            return rows

        def one(job: Job, number: int, texts: Sequence[str]) -> Sequence[Row]:
            try:
                return ask(job, [number], [texts])
            except RunProblem as problem:
                nothing = (math.nan,) * len(searching.plan.measures)
                return [Row(number, tuple(texts), FAILED, str(problem), 0, 0.0, nothing)]

        def work(job: Job) -> Found:
            ask(job, [], [])  # before what was searched last goes
            with being_run(path):
                store = RowStore(path)
                try:
                    store.begin(text, searching.plan, goal.budget, datetime.now().isoformat(timespec="seconds"))

                    def run(numbers: Sequence[int], texts: Sequence[Sequence[str]]) -> Sequence[Row]:
                        if job.stopping:
                            raise Stopped
                        try:
                            rows = ask(job, numbers, texts)
                        except RunProblem:
                            rows = [row for n, each in zip(numbers, texts) for row in one(job, n, each)]
                        store.add(rows)
                        return rows

                    def report(row: Row) -> None:
                        with self._lock:
                            self._rows.append(row)
                        job.report(row.number)

                    return searching.find(run, report)
                finally:
                    store.close()

        self.session.jobs.start(SERIES, work, self._take)
        return searching

    def _begin(self, name: str, folder: Path, plan: Plan) -> None:
        self.name, self.folder, self.plan, self.found = name, folder, plan, None
        self.done = self.failed = 0
        self.began, self.rate = time.monotonic(), 0.0

    def start(self, name: str, *, anew: bool = False, workers: str = "") -> None:
        """Run what is missing of a series, here or on the ``workers`` of a cluster. Whoever starts it has asked about C
        that the drive brings."""
        if self.running:
            return
        going = self.going(name)
        self._begin(name, going.folder, going.plan)

        def ask(text: str, plan: Plan, numbers: Sequence[int], threads: int, job: Job) -> Sequence[Row]:
            request = SeriesRequest(text, plan, tuple(numbers), threads, (), brings(text))
            try:
                rows: Sequence[Row] = self._worker.ask(request, LONGEST_BATCH_SECONDS, lambda: job.stopping)
            except RunProblem as problem:
                if numbers:
                    raise ProcessEnded(str(problem)) from problem
                raise
            return rows

        def work(job: Job) -> None:
            with contextlib.ExitStack() as opened:
                if workers:
                    from pendel.core.series.cluster import cluster  # slow to load, and seldom needed

                    runs = opened.enter_context(cluster(workers))
                else:
                    runs = in_process(lambda *what: ask(*what, job=job), usable_cores())
                for row in going.rows(runs, anew=anew, stopping=lambda: job.stopping):
                    with self._lock:
                        self._rows.append(row)
                    job.report(row.number)

        self.session.jobs.start(SERIES, work, self._take)

    def stop(self) -> None:
        self.session.jobs.stop(SERIES)

    def taken(self) -> list[Row]:
        """Rows that came since the last call."""
        with self._lock:
            rows = list(self._rows)
            self._rows.clear()
        self.done += len(rows)
        self.failed += sum(row.outcome != DONE for row in rows)
        self.rate = self.done / max(1e-3, time.monotonic() - self.began)
        return rows

    def _progressed(self, job: Job, _: float) -> None:
        if job.kind is SERIES:
            self.came.emit()

    def _take(self, job: Job) -> None:
        self.came.emit()
        self.found = job.result if isinstance(job.result, Found) else None
        self.ended.emit(job.sentence, job.end is End.FAILED)


@lru_cache(maxsize=2)
def brings(text: str) -> bool:
    """Whether the drive in a text brings C, all of which was allowed: a process of its own is to run it."""
    return brings_allowed_c(from_text(text))


__all__ = ["SEARCHED", "SeriesRunner"]

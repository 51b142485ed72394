"""A series that runs beside the window: start, progress, stop, exactly one end."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.jobs import SERIES, End, Job
from pendel.app.session.run_shelf import writable
from pendel.app.session.session import Session
from pendel.core.catalogue.own_block import C
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.plans import Plan
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.runs.requests import SeriesRequest
from pendel.core.runs.worker import Beside
from pendel.core.series.rows import DONE, Row
from pendel.core.series.running import Going, ProcessEnded, folder_of, in_process
from pendel.core.verbs.series import usable_cores

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
        self.done = self.failed = self.count = 0
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

    def start(self, name: str, *, anew: bool = False) -> None:
        """Run what is missing of a series. Whoever starts it has asked about C that the drive brings."""
        if self.running:
            return
        going = self.going(name)
        own_c = any(card.kind == C for card in going.drive.cards.values())
        self.name, self.folder, self.plan = name, going.folder, going.plan
        self.done = self.failed = self.count = 0
        self.began, self.rate = time.monotonic(), 0.0

        def ask(text: str, plan: Plan, numbers: Sequence[int], threads: int, job: Job) -> Sequence[Row]:
            request = SeriesRequest(text, plan, tuple(numbers), threads, own_c)
            try:
                rows: Sequence[Row] = self._worker.ask(request, LONGEST_BATCH_SECONDS, lambda: job.stopping)
            except RunProblem as problem:
                if numbers:
                    raise ProcessEnded(str(problem)) from problem
                raise
            return rows

        def work(job: Job) -> None:
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
        self.ended.emit(job.sentence, job.end is End.FAILED)


__all__ = ["SeriesRunner"]

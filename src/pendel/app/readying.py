"""Signals of long runs, evaluated beside the window: for a switching run of seconds this takes as long as the
run did."""

from __future__ import annotations

import traceback
from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.core.runs.kept import KeptRun

LONG = 60_000
"""Points of a trace from which a run is long. Shorter ones are evaluated where they are shown, within a moment."""
FEW = 4_000
"""Recorded rows up to which it takes no longer to find between which of them points are wanted."""
POLL_MS = 20


def is_long(run: KeptRun) -> bool:
    """Whether it takes more than a moment to evaluate signals of a run. How many points its traces have is known once one was
    evaluated; before, that itself may take long."""
    if len(run.rows) <= FEW:
        return False
    return not run.is_expanded or len(run.expanded) > LONG


class Readying(QObject):
    """One batch at a time, of all that was wanted since the last. ``begun`` and ``ended`` come once for
    each."""

    begun = pyqtSignal(str)
    """What is being evaluated."""
    ended = pyqtSignal(str)
    """Empty, or a sentence where it failed."""

    def __init__(self, parent: QObject):
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, "signals")
        self._wanted: dict[int, tuple[KeptRun, set[str], set[str]]] = {}
        self._batch: Future[None] | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)

    @property
    def busy(self) -> bool:
        return self._batch is not None or bool(self._wanted)

    def ready(self, run: KeptRun, keys: Iterable[str], averaged: Iterable[str] = ()) -> bool:
        """Whether a run can show these signals, and average those, at once. Else they are evaluated from now
        on, and ``ended`` tells when to ask again."""
        if not is_long(run):
            return True
        missing, between = run.missing(keys), run.missing_between(averaged)
        if missing or between:
            _, shown, means = self._wanted.setdefault(id(run), (run, set(), set()))
            shown.update(missing)
            means.update(between)
            self._timer.start()
        return not (missing or between)

    def _poll(self) -> None:
        if self._batch is not None and self._batch.done():
            problem = self._batch.exception()
            self._batch = None
            if problem is not None:  # the job's boundary: the window must go on, whatever happened
                traceback.print_exception(problem)
            self.ended.emit(f"Signals of a run cannot be shown: {problem}." if problem else "")
        if self._batch is None and self._wanted:
            wanted, self._wanted = list(self._wanted.values()), {}
            self._batch = self._pool.submit(evaluate, wanted)
            self.begun.emit(f"Evaluating the signals of {', '.join(run.name for run, *_ in wanted)} …")
        elif self._batch is None:
            self._timer.stop()

    def close(self) -> None:
        self._timer.stop()
        self._pool.shutdown(wait=False, cancel_futures=True)


def evaluate(wanted: list[tuple[KeptRun, set[str], set[str]]]) -> None:
    for run, keys, averaged in wanted:
        run.fetch(sorted(keys))
        run.fetch_between(sorted(averaged))

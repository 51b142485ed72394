"""Signals of long runs, evaluated beside the window: for a switching run of seconds this takes as long as the
run did."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.app.session.jobs import EVALUATE, MOMENT, Job, Jobs
from pendel.app.session.sparks import draw_ahead
from pendel.app.widgets.timers import Later
from pendel.core.runs.record.kept import KeptRun

LONG = 60_000
"""Points of a trace from which a run is long. Shorter ones are evaluated where they are shown, within a
moment."""


def is_long(run: KeptRun) -> bool:
    """Whether it takes more than a moment to evaluate signals of a run. How many points its traces have, and how long
    it takes to find them, is known once one was evaluated: stiff steps are solved again between few rows."""
    return not run.is_expanded or len(run.expanded) > LONG or run.refined_in > MOMENT


class SignalEvaluator(QObject):
    """One batch at a time, of all that was wanted since the last. ``begun`` and ``ended`` come once for
    each."""

    begun = pyqtSignal(str)
    """What is being evaluated."""
    ended = pyqtSignal(str)
    """Empty, or a sentence where it failed."""

    def __init__(self, jobs: Jobs, parent: QObject):
        super().__init__(parent)
        self._jobs = jobs
        self._wanted: dict[int, tuple[KeptRun, set[str], set[str]]] = {}
        self._soon: QTimer = Later(self, 0, self._begin)
        """Begins once all views have said what they want."""

    @property
    def busy(self) -> bool:
        return self._jobs.busy(EVALUATE) or bool(self._wanted)

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
            self._soon.start()
        return not (missing or between)

    def _begin(self) -> None:
        if self._jobs.busy(EVALUATE) or not self._wanted:
            return
        wanted, self._wanted = list(self._wanted.values()), {}
        self._jobs.start(EVALUATE, lambda job: evaluate(wanted), self._end)
        self.begun.emit(f"Evaluating the signals of {', '.join(run.name for run, *_ in wanted)} …")

    def _end(self, job: Job) -> None:
        self.ended.emit(job.sentence)
        self._begin()


def evaluate(wanted: list[tuple[KeptRun, set[str], set[str]]]) -> None:
    for run, keys, averaged in wanted:
        run.fetch(sorted(keys))
        run.fetch_between(sorted(averaged))
        draw_ahead(run, sorted(keys))

"""Works out beside the window what takes long, such as the smooth fit of flux tables, and says when it is known."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.jobs import WORK_OUT, End, Job, Jobs
from pendel.app.session.lowering import Lowering
from pendel.core.errors import RunProblem
from pendel.core.worked_out import NotYet, Work, at_once

T = TypeVar("T")


class SlowWork(QObject):
    arrived = pyqtSignal()
    """Something is known that was not, or it is known that it cannot be."""

    def __init__(self, jobs: Jobs, lowering: Lowering, parent: QObject):
        super().__init__(parent)
        self._jobs, self._lowering = jobs, lowering
        self._under_way: set[Work] = set()
        self._failed: dict[Work, str] = {}

    def begin(self, works: Iterable[Work]) -> None:
        """Work these out, unless that is done already; what failed once is not tried again."""
        for work in works:
            if work not in self._under_way and work not in self._failed:
                self._under_way.add(work)
                self._begin(work)

    def known(self, ask: Callable[[], T]) -> T | None:
        """What ``ask`` gives. None until what it takes is known: that is begun, and `arrived` is the signal to ask
        again.

        Raises
        ------
        RunProblem
            why it will not be known.
        """
        with at_once() as later:
            try:
                return ask()
            except NotYet as not_yet:
                failed = [self._failed[work] for work in later if work in self._failed]
                if failed:
                    raise RunProblem(failed[0]) from not_yet
        self.begin(later)
        return None

    def _begin(self, work: Work) -> None:
        def then(job: Job) -> None:
            self._under_way.discard(work)
            if job.end is End.FINISHED:
                work.keep(job.result)
            elif job.end is End.FAILED:
                self._failed[work] = job.sentence
            else:
                return
            self.arrived.emit()

        self._jobs.start(WORK_OUT, lambda job: self._lowering.work_out(work, lambda: job.stopping), then)

"""Searches of gains within limits, of one loop or of all, whose best is shown as it comes."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import replace

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.loops.limits_box import LimitsBox
from pendel.app.session.jobs import TUNE, End, Job
from pendel.app.session.judging import judged_beside
from pendel.app.session.session import Session
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import DriveProblem
from pendel.core.loops.tuning.tuning import LoopAnalysis, LoopStatus, LoopStudy
from pendel.core.loops.tuning.within_limits import Goal, Limits, Search, TunedLoops, tune


class Searching(QObject):
    """``improved`` gives the key of a loop and its best analysis so far."""

    improved = pyqtSignal(str, object)
    _came = pyqtSignal(object, str, object)
    """The same from the thread of a job, which may be stopped before it is heard."""

    def __init__(self, session: Session, box: LimitsBox, parent: QObject):
        super().__init__(parent)
        self.session, self.box = session, box
        self._job: Job | None = None
        self._came.connect(self._take)
        self.result_shown = False
        """Whether the result of a search of all loops is shown, which stays when these are judged anew."""

    @property
    def running(self) -> bool:
        return self._job is not None and self._job.end is None

    def stop(self) -> None:
        if self._job is not None:
            self._job.stop()

    def start(self, key: str, study: LoopStudy, statuses: Mapping[str, LoopStatus]) -> None:
        """Search for the loop with this key, or for all where the box says so."""
        self.result_shown = False
        try:
            limits, goal = self.box.wish()
        except DriveProblem as problem:
            self.box.show_found(None, str(problem))
            return
        if self.box.whole.isChecked():
            labels = {name: each.loop.label for name, each in statuses.items()}
            self._start_all(limits, goal, labels)
            return
        search = Search(copy.deepcopy(study), limits, goal)  # the page goes on with its own
        self.box.show_searching()
        self._job = self.session.jobs.start(
            TUNE,
            lambda job: search.run(
                stopping=lambda: job.stopping, come=lambda best: self._came.emit(job, key, best.analysis)
            ),
            lambda job: self._ended(job, key),
        )

    def _take(self, job: Job, key: str, best: LoopAnalysis) -> None:
        if not job.stopping:
            self.improved.emit(key, best)

    def _ended(self, job: Job, key: str) -> None:
        if job.end is End.FINISHED and not job.stopping:
            self.box.show_found(job.result)
            self.improved.emit(key, job.result.best.analysis)
        else:
            self.box.show_found(None, job.sentence or "Stopped; the best so far is shown.")

    def _start_all(self, limits: Limits, goal: Goal, labels: Mapping[str, str]) -> None:
        """Search here, where the best so far is seen; the loops are judged beside between the searches."""
        session, at = self.session, self.session.judge_at
        drive, text = session.drive.copy(), to_text(session.drive)
        self.box.show_searching("Searching, inside out …")

        def work(job: Job) -> TunedLoops:
            def judged(scratch: Drive) -> Sequence[LoopStatus]:
                study = judged_beside(session.beside_worker, scratch, lambda: job.stopping, at=at)
                if problem := next((str(f) for f in study.findings), study.problem):
                    raise DriveProblem(problem)
                return study.loops

            return tune(
                drive,
                limits,
                goal,
                judging=judged,
                stopping=lambda: job.stopping,
                come=lambda key, best: self._came.emit(job, key, best.analysis),
            )

        self._job = session.jobs.start(TUNE, work, lambda job: self._all_ended(job, text, labels))

    def _all_ended(self, job: Job, text: str, labels: Mapping[str, str]) -> None:
        if job.end is not End.FINISHED or job.stopping:
            self.box.show_found(None, job.sentence or "Stopped; no gains were taken.")
            return
        if to_text(self.session.drive) != text:
            self.box.show_found(None, "The drive was changed meanwhile; no gains were taken. Search again.")
            return
        tuned: TunedLoops = job.result
        if tuned.searched:
            self.session.do(replace(tuned.command, title="Tune all loops within limits"))
        self.box.show_cascade(tuned.searched, tuned.left, labels)
        self.result_shown = True


__all__ = ["Searching"]

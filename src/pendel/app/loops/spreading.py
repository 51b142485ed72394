"""A loop judged beside the window while values spread."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.loops.tolerances_box import TolerancesBox
from pendel.app.session.jobs import TOLERATE, End, Job
from pendel.app.session.judging import LONGEST_JUDGING
from pendel.app.session.session import Session
from pendel.core.drive.file import to_text
from pendel.core.loops.judged_at import JudgedAt
from pendel.core.runs.worker import TolerateRequest
from pendel.core.trust import strange_c

SAMPLES = 60
"""Beside the corners; none where each takes seconds, as what is measured does."""


class Spreading(QObject):
    """``judged`` gives the key of a loop and what it is over the spread."""

    judged = pyqtSignal(str, object)

    def __init__(self, session: Session, box: TolerancesBox, parent: QObject):
        super().__init__(parent)
        self.session, self.box = session, box
        self._job: Job | None = None

    def start_or_stop(self, key: str) -> None:
        """Judge the loop of this key with its present gains, or stop doing so."""
        if self._job is not None and self._job.end is None:
            self._job.stop()
            return
        if not key:
            return
        session = self.session
        samples = 0 if session.judge_at is JudgedAt.MEASURED else SAMPLES
        request = TolerateRequest(
            to_text(session.drive),
            key,
            self.box.spreads(),
            samples,
            session.judge_at,
            own_c=not strange_c(session.drive),
        )
        self.box.show_judging()
        self._job = session.jobs.start(
            TOLERATE,
            lambda job: session.beside_worker.ask(request, LONGEST_JUDGING, lambda: job.stopping),
            lambda job: self._ended(job, key),
        )

    def _ended(self, job: Job, key: str) -> None:
        if job.end is End.FINISHED:
            self.judged.emit(key, job.result)
        else:
            self.box.show_nothing(job.sentence or "Stopped.")


__all__ = ["Spreading"]

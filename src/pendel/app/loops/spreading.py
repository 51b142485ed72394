"""A loop judged beside the window while values spread."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.loops.tolerances_box import TolerancesBox, sentence_of
from pendel.app.session.jobs import TOLERATE, End, Job
from pendel.app.session.judging import LONGEST_JUDGING
from pendel.app.session.session import Session
from pendel.core.drive.file import to_text
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.tuning.tolerances import Tolerated
from pendel.core.loops.tuning.tuning import LoopStudy
from pendel.core.processes.requests import TolerateRequest
from pendel.core.trust import brings_allowed_c

SAMPLES = 60
"""Beside the corners; none where each takes seconds, as what is measured does."""


class Spreading(QObject):
    """``judged``: what a loop is over the spread is there to be shown."""

    judged = pyqtSignal()

    def __init__(self, session: Session, box: TolerancesBox, parent: QObject):
        super().__init__(parent)
        self.session, self.box = session, box
        self._job: Job | None = None
        self.study: LoopStudy | None = None
        """The loop, of the drive as it was, to which the result belongs."""
        self._tolerated: Tolerated | None = None
        self._sentence = ""

    @property
    def judging(self) -> bool:
        return self._job is not None and self._job.end is None

    def start_or_stop(self, key: str, study: LoopStudy | None) -> None:
        """Judge the loop of this key with its present gains, or stop doing so."""
        if self._job is not None and self.judging:
            self._job.stop()
            return
        if study is None:
            return
        session, spreads = self.session, self.box.spreads()
        samples = 0 if session.judge_at is JudgedAt.MEASURED else SAMPLES
        request = TolerateRequest(
            to_text(session.drive),
            key,
            spreads,
            samples,
            session.judge_at,
            own_c=brings_allowed_c(session.drive),
        )
        self.study, self._tolerated = study, None
        self.box.show_judging()
        self._job = session.jobs.start(
            TOLERATE,
            lambda job: session.beside_worker.ask(request, LONGEST_JUDGING, lambda: job.stopping),
            lambda job: self._ended(job, request.drive_text, spreads),
        )

    def _ended(self, job: Job, text: str, spreads: Sequence[tuple[str, float]]) -> None:
        if job.end is not End.FINISHED:
            self._sentence = job.sentence or "Stopped."
        elif to_text(self.session.drive) != text:
            self._sentence = "The drive was changed meanwhile. Judge it again."
        else:
            self._tolerated, self._sentence = job.result, sentence_of(job.result, spreads)
        self.box.show_words(self._sentence)
        self.judged.emit()

    def show_for(self, study: LoopStudy) -> Tolerated | None:
        """Put the words for a loop into the box, unless one is being judged; returns what the loop is over the
        spread, where it was judged as it is."""
        if self.judging:
            return None
        mine = study is self.study
        self.box.show_words(self._sentence if mine else "")
        return self._tolerated if mine else None


__all__ = ["Spreading"]

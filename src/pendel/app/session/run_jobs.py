"""Runs as jobs of the worker process: start, progress, stop, exactly one end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.card_text import main_signals
from pendel.app.session.differences import differences
from pendel.app.session.jobs import RUN, End, Job
from pendel.app.session.run_figures import averaged_keys, measured_keys
from pendel.app.session.session import Session
from pendel.app.session.signal_evaluator import is_long
from pendel.app.session.sparks import draw_ahead
from pendel.core.catalogue.own_block import C
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.processes.requests import RunRequest
from pendel.core.processes.worker import RunFailed, RunFinished, Worker
from pendel.core.runs.record import kept
from pendel.core.runs.record.evaluating import EvaluatorProcess
from pendel.core.runs.record.kept import KeptRun

LOOK = 0.01
"""Seconds between two looks at whether to stop, and at how far the run has come."""


def ready_to_show(
    answer: RunFinished, keys: Sequence[str], evaluator: EvaluatorProcess, own_c: bool = False
) -> KeptRun:
    """A run, brought to its place (where C of a user ran, as if it came from elsewhere), with the signals
    that will be shown at once: for a long switching run evaluating them takes as long as the run. Raises
    `FileProblem`."""
    from pendel.core.runs.preparing.simulate import reopen  # slow to load, and not needed to start

    path = answer.keep()
    run = reopen(path, evaluator.content) if own_c else kept.load(path)
    run.evaluator = evaluator
    run.fetch(keys)
    if is_long(run):  # of a short one, figures are a moment's work once the traces are drawn
        run.fetch(measured_keys(run))
        run.fetch_between(averaged_keys(run, [[k] for k in keys]))
        draw_ahead(run, keys)
    return run


@dataclass(frozen=True)
class Ran:
    """A run that is ready to be shown, and what its process said."""

    answer: RunFinished | RunFailed
    run: KeptRun | None = None


class RunJobs(QObject):
    """One run at a time. ``ended`` comes exactly once for each ``started``."""

    started = pyqtSignal()
    progressed = pyqtSignal(float)
    ended = pyqtSignal(str, bool)
    """Sentence (empty when all went well) and whether it was a failure."""
    failed_at = pyqtSignal(list)

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self.session = session
        self.worker = Worker()
        self._drive = session.drive
        """The drive that runs; another may be open by the time the run ends."""
        self._in_worker = self._closed = False
        session.jobs.progressed.connect(self._progressed)

    @property
    def running(self) -> bool:
        return self.session.jobs.busy(RUN)

    def start(self, other: Drive | None = None, words: str = "") -> None:
        """Run the open drive, or another one that came of it, with ``words`` about it in the place of what differs."""
        if self.running:
            return
        session = self.session
        drive = other or session.drive
        path, name = session.shelf.next_place()
        before = session.shelf.drive_of_last()
        until = session.examined.settings.get("until", 1.0)
        self._drive = session.drive
        text, words = to_text(drive), words or differences(before, drive)
        # Whoever starts a run has asked about C that the drive brings.
        own_c = any(card.kind == C for card in drive.cards.values())
        request = RunRequest(text, name, words, str(path), own_c)
        keys = [*session.shown_keys(), *main_signals(session.drive)]
        session.shelf.remember_as_run(drive)
        session.jobs.start(RUN, lambda job: self._run(job, request, keys, until), self._take)
        self.started.emit()

    def stop(self) -> None:
        self.session.jobs.stop(RUN)

    def _run(self, job: Job, request: RunRequest, keys: Sequence[str], until: float) -> Ran:
        """In the job's thread: run it in the worker, then bring it to its place."""
        self._in_worker = True
        try:
            self.worker.request(request)
            self.session.shelf.evaluator.begin()  # it is wanted as soon as the run has ended
            while (answer := self.worker.answer(LOOK)) is None:
                if job.stopping:
                    self.worker.stop()
                job.report(min(1.0, self.worker.progress / until))
        finally:
            self._in_worker = False
            if self._closed:
                self.worker.kill()
        if isinstance(answer, RunFinished):
            return Ran(answer, ready_to_show(answer, keys, self.session.shelf.evaluator, request.own_c))
        assert isinstance(answer, RunFailed)
        return Ran(answer)

    def _progressed(self, job: Job, share: float) -> None:
        if job.kind is RUN:
            self.progressed.emit(share)

    def _take(self, job: Job) -> None:
        ran: Ran | None = job.result
        if job.end is not End.FINISHED or ran is None:
            self.ended.emit(job.sentence, job.end is End.FAILED)
        elif isinstance(ran.answer, RunFailed):
            self.failed_at.emit(list(ran.answer.findings))
            self.ended.emit(ran.answer.sentence, True)
        elif self.session.drive is not self._drive:
            assert ran.run is not None
            words = f"{ran.run.name} of {self._drive.title} ended. It is kept with that drive."
            self.ended.emit(words, False)
        else:
            assert ran.run is not None
            self.session.add_run(ran.run)
            self.ended.emit(ran.answer.message, bool(ran.answer.message) and not ran.answer.stopped)

    def close(self) -> None:
        """End the worker, with what runs in it; the thread that waits for that clears up."""
        self._closed = True
        if self._in_worker:
            self.worker.end_now()
        else:
            self.worker.kill()

"""Runs as jobs of the worker process: start, progress, stop, exactly one end."""

from __future__ import annotations

import secrets
import traceback
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.app.readying import is_long
from pendel.app.run_figures import averaged_keys, measured_keys
from pendel.app.session import Session, differences
from pendel.app.shown import main_signals
from pendel.core.catalogue.own_block import C
from pendel.core.drive.file import to_text
from pendel.core.errors import PendelError
from pendel.core.runs import kept
from pendel.core.runs.kept import KeptRun
from pendel.core.runs.worker import RunFailed, RunFinished, RunRequest, Worker

POLL_MS = 5


def ready_to_show(answer: RunFinished, keys: Sequence[str], own_c: bool = False) -> KeptRun:
    """A run, brought to its place (where C of a user ran, as if it came from elsewhere), with the signals
    that will be shown at once. Their equations are evaluated here, beside the window, since for a long
    switching run this takes as long as the run. Raises `FileProblem`."""
    from pendel.core.runs.simulate import reopen  # slow to load, and not needed to start

    path = answer.keep()
    run = reopen(path) if own_c else kept.load(path)
    run.fetch(keys)
    if is_long(run):  # of a short one, figures are a moment's work once the traces are drawn
        run.fetch(measured_keys(run))
        run.fetch_between(averaged_keys(run, [[k] for k in keys]))
    return run


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
        self.running = False
        self.until = 1.0
        self._reader = ThreadPoolExecutor(1, "run")
        self._reading: Future[KeptRun] | None = None
        self._answer: RunFinished | None = None
        self._own_c = False
        """Whether the drive that runs has C of a user."""
        self._drive = session.drive
        """The drive that runs; another may be open by the time the run ends."""
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)

    def start(self) -> None:
        if self.running:
            return
        session = self.session
        number = session.next_run_number()
        before = session.drive_of_last_run()
        path = session.runs_folder / f"run{number}_{secrets.token_hex(3)}.h5"  # no other window's
        self.until = session.examined.settings.get("until", 1.0)
        self.running = True
        self._drive = session.drive
        self.started.emit()
        text, words = to_text(session.drive), differences(before, session.drive)
        # Whoever starts a run has asked about C that the drive brings.
        self._own_c = any(card.kind == C for card in session.drive.cards.values())
        self.worker.request(RunRequest(text, f"Run {number}", words, str(path), self._own_c))
        session.remember_as_run()
        self._timer.start()

    def stop(self) -> None:
        self.worker.stop()

    def _poll(self) -> None:
        if self._reading is not None:
            if self._reading.done():
                self._finish(self._reading)
            return
        answer = self.worker.answer()
        if answer is None:
            self.progressed.emit(min(1.0, self.worker.progress / self.until))
        elif isinstance(answer, RunFinished):
            self._answer = answer
            self._reading = self._reader.submit(
                ready_to_show,
                answer,
                [*self.session.shown_keys(), *main_signals(self.session.drive)],
                self._own_c,
            )
        elif isinstance(answer, RunFailed):
            self._end()
            self.failed_at.emit(list(answer.findings))
            self.ended.emit(answer.sentence, True)

    def _end(self) -> None:
        self._timer.stop()
        self.running = False
        self._reading = None

    def _finish(self, reading: Future[KeptRun]) -> None:
        answer = self._answer
        assert answer is not None
        self._end()
        try:
            run = reading.result()
        except PendelError as problem:
            self.ended.emit(str(problem), True)
            return
        except Exception as problem:  # the job's boundary: the run must end here, whatever happened
            traceback.print_exc()
            self.ended.emit(f"The run cannot be shown: {problem}.", True)
            return
        if self.session.drive is not self._drive:
            self.ended.emit(f"{run.name} of {self._drive.title} ended. It is kept with that drive.", False)
            return
        self.session.add_run(run)
        self.ended.emit(answer.message, bool(answer.message) and not answer.stopped)

    def close(self) -> None:
        self._timer.stop()
        self._reader.shutdown(wait=False, cancel_futures=True)
        self.worker.kill()

"""Runs as jobs of the worker process: start, progress, stop, exactly one end."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.app.session import Session, differences
from pendel.core.drive.file import to_text
from pendel.core.errors import FileProblem
from pendel.core.runs import kept
from pendel.core.runs.worker import RunFailed, RunFinished, RunRequest, Worker

POLL_MS = 5


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
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)

    def start(self) -> None:
        if self.running:
            return
        session = self.session
        number = session.next_run_number()
        before = session.drive_of_last_run()
        path = session.runs_folder / f"run{number}.h5"
        self.until = session.examined.settings.get("until", 1.0)
        self.running = True
        self.started.emit()
        self.worker.request(
            RunRequest(to_text(session.drive), f"Run {number}", differences(before, session.drive), str(path))
        )
        session.remember_as_run()
        self._timer.start()

    def stop(self) -> None:
        self.worker.stop()

    def _poll(self) -> None:
        answer = self.worker.answer()
        if answer is None:
            self.progressed.emit(min(1.0, self.worker.progress / self.until))
            return
        self._timer.stop()
        self.running = False
        if isinstance(answer, RunFinished):
            self._finish(answer)
        elif isinstance(answer, RunFailed):
            self.failed_at.emit(list(answer.findings))
            self.ended.emit(answer.findings[0][0] if answer.findings else "The run failed.", True)

    def _finish(self, answer: RunFinished) -> None:
        try:
            run = kept.load(Path(answer.path))
        except FileProblem as problem:
            self.ended.emit(str(problem), True)
            return
        self.session.add_run(run)
        self.ended.emit(answer.message, bool(answer.message) and not answer.stopped)

    def close(self) -> None:
        self._timer.stop()
        self.worker.stop()
        self.worker.kill()

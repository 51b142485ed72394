"""Work in the process beside the window that one button starts and stops, with a line that says how it goes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QLabel, QPushButton

from pendel.app.session.jobs import End, Job, JobKind
from pendel.app.session.session import Session
from pendel.core.processes.requests import Request

LONGEST = 3600.0
"""s that such work may take."""


class BesideWork:
    """``take`` gets the result; ``line`` shows what is done, and why nothing came."""

    def __init__(
        self, session: Session, kind: JobKind, button: QPushButton, line: QLabel, take: Callable[[Any], None]
    ) -> None:
        self.session, self.kind, self.button, self.line, self.take = session, kind, button, line, take
        self._title = button.text()
        self._job: Job | None = None

    @property
    def working(self) -> bool:
        return self._job is not None and self._job.end is None

    def stop(self) -> bool:
        """Stop what is done; false where nothing is."""
        if self._job is None or not self.working:
            return False
        self._job.stop()
        self.line.setText("Stopping …")
        return True

    def start(self, request: Request, words: str) -> None:
        self.button.setText("Stop")
        self.line.setText(words)
        worker = self.session.beside_worker
        self._job = self.session.jobs.start(
            self.kind, lambda job: worker.ask(request, LONGEST, lambda: job.stopping), self._ended
        )

    def _ended(self, job: Job) -> None:
        self.button.setText(self._title)
        if job.end is not End.FINISHED:
            self.line.setText("Stopped." if job.stopping else job.sentence)
            return
        self.line.setText("")
        self.take(job.result)

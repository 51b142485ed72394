"""Gains of all loops proposed at one action, computed beside the window."""

from __future__ import annotations

import traceback

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session import LONGEST_JUDGING, Session
from pendel.core.drive.document import TABLES, Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import PendelError
from pendel.core.runs.worker import ProposeRequest


class Proposing(QObject):
    """Proposes in a thread of the session and takes the gains in one undo step, unless the drive changed
    meanwhile."""

    said = pyqtSignal(str)
    _done = pyqtSignal(object, object)

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self.session = session
        self.busy = False
        self._done.connect(self._take)

    def start(self) -> None:
        if self.busy:
            return
        self.busy = True
        self.said.emit("Proposing gains, inside out …")
        self.session.beside(self._propose, self.session.drive.copy())

    def _propose(self, drive: Drive) -> None:
        from pendel.core.loops.judgement import command_for

        try:
            asked = ProposeRequest(to_text(drive))
            found: object = command_for(self.session.beside_worker.ask(asked, LONGEST_JUDGING), drive)
        except Exception as problem:  # the job's boundary: it must end, and say so
            if not isinstance(problem, PendelError):
                traceback.print_exc()
            found = f"No gains proposed: {problem}"
        if not self.session.closing:
            self._done.emit(drive, found)

    def _take(self, drive: Drive, found) -> None:
        self.busy = False
        if isinstance(found, str):
            self.said.emit(found)
        elif any(drive.table(t) != self.session.drive.table(t) for t in TABLES):
            self.said.emit("The drive was changed meanwhile; no gains were taken. Propose them again.")
        elif not found.served:
            reasons = " ".join(found.left.values()) or "No regulator acts on what it measures yet."
            self.said.emit(f"No gains proposed. {reasons}")
        else:
            self.session.do(found.command)
            rest = f" Left as they are: {', '.join(found.left)}." if found.left else ""
            self.said.emit(
                f"Proposed gains taken for {len(found.served)} loops. Ctrl+Z takes them back.{rest}"
            )

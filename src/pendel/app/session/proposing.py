"""Gains of all loops proposed at one action, computed beside the window."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from pendel.app.session.jobs import PROPOSE, End, Job
from pendel.app.session.judging import LONGEST_JUDGING
from pendel.app.session.session import Session
from pendel.core.drive.document import TABLES, Drive
from pendel.core.drive.file import to_text
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.processes.requests import ProposeRequest
from pendel.core.trust import brings_allowed_c


class Proposing(QObject):
    """Proposes in a job and takes the gains in one undo step, unless the drive changed meanwhile."""

    status_message = pyqtSignal(str)

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self.session = session

    def start(self) -> None:
        if self.session.jobs.busy(PROPOSE):
            return
        drive, at = self.session.drive.copy(), self.session.judge_at
        self.status_message.emit("Proposing gains, inside out …")
        self.session.jobs.start(PROPOSE, lambda job: self._propose(job, drive, at), lambda job: self._take(job, drive))

    def _propose(self, job: Job, drive: Drive, at: JudgedAt):
        from pendel.core.loops.judging.judgement import command_for  # slow to load, and not needed to start

        request = ProposeRequest(to_text(drive), at, at.runs and brings_allowed_c(drive))
        answer = self.session.beside_worker.ask(request, LONGEST_JUDGING, lambda: job.stopping)
        return command_for(answer, drive)

    def _take(self, job: Job, drive: Drive) -> None:
        proposal = job.result
        if job.end is not End.FINISHED:
            self.status_message.emit(f"No gains proposed. {job.sentence}".strip())
        elif any(drive.table(t) != self.session.drive.table(t) for t in TABLES):
            self.status_message.emit("The drive was changed meanwhile; no gains were taken. Propose them again.")
        elif not proposal.served:
            reasons = " ".join(proposal.left.values()) or "No regulator acts on what it measures yet."
            self.status_message.emit(f"No gains proposed. {reasons}")
        else:
            self.session.do(proposal.command)
            rest = f" Left as they are: {', '.join(proposal.left)}." if proposal.left else ""
            self.status_message.emit(
                f"Proposed gains taken for {len(proposal.served)} loops. Ctrl+Z takes them back.{rest}"
            )

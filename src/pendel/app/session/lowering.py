"""What is lowered to C or to numbers of a processor is lowered in a process of its own: it is Python from end to
end, which would hold up the window from a thread, and need not wait for loops that are judged. Fits of tables are
worked out there, too."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import RunProblem
from pendel.core.processes.requests import DescribeRequest, WorkRequest, WriteRequest
from pendel.core.processes.worker import Beside
from pendel.core.worked_out import Work

LONGEST = 300.0
"""Seconds that ordering a drive's equations and lowering its controller may take."""


class Lowering:
    def __init__(self, worker: Beside | None = None) -> None:
        self.worker = worker or Beside(own_answers=True)

    def ask(
        self,
        request: type[WriteRequest | DescribeRequest],
        drive: Drive,
        stopping: Callable[[], bool] = lambda: False,
    ) -> Any:
        """What is asked for of a drive.

        Raises
        ------
        RunProblem
            as `Beside.ask`, and where the compiler refuses C of the drive that was allowed here, which only the
            window's process knows.
        Stopped
            as `Beside.ask`.
        """
        from pendel.core.check.typed_c import refused_c  # slow to load, and not needed to start

        if refused := refused_c(drive):
            raise RunProblem(str(refused[0]))
        return self.worker.ask(request(to_text(drive)), LONGEST, stopping)

    def work_out(self, work: Work, stopping: Callable[[], bool] = lambda: False) -> Any:
        """The result of what takes long, such as the smooth fit of flux tables. Raises as `Beside.ask`."""
        return self.worker.ask(WorkRequest(work), LONGEST, stopping)

    def close(self) -> None:
        self.worker.close()

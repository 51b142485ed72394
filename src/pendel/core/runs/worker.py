"""A process that runs drives, so that a crash or an endless loop ends one run and never the window.

The worker keeps builds and orderings loaded between runs. Requests and answers are plain records over a pipe;
stopping and progress go through shared memory, so that both are at once.
"""

from __future__ import annotations

import ctypes
import multiprocessing
import traceback
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.drive.file import from_text
from pendel.core.drive.findings import Finding
from pendel.core.errors import DriveHasFindings, PendelError


@dataclass(frozen=True)
class RunRequest:
    """Run the drive in ``drive_text`` and keep the result at ``path``."""

    drive_text: str
    name: str
    differs: str
    path: str


@dataclass(frozen=True)
class RunFinished:
    path: str
    message: str
    stopped: bool


@dataclass(frozen=True)
class RunFailed:
    """``findings`` hold where and what, or one sentence alone; ``log`` is for the log."""

    findings: tuple[tuple[str, str, str], ...]
    log: str = ""


def serve(connection: Connection, stop: Any, progress: Any) -> None:
    """The worker's life: answer requests until the pipe closes."""
    from pendel.core.plant.integrate import Watch
    from pendel.core.plant.model import time_loop

    watch = Watch(np.frombuffer(stop, dtype=np.int32), np.frombuffer(progress, dtype=np.float64))
    try:
        time_loop()
    except PendelError:
        pass  # no compiler: each request will say so
    while True:
        try:
            request = connection.recv()
        except (EOFError, OSError, KeyboardInterrupt):
            return
        try:
            answer = perform(request, watch)
        except DriveHasFindings as problem:
            answer = RunFailed(tuple((f.sentence, f.card, f.field) for f in problem.findings))
        except PendelError as problem:
            answer = RunFailed(((str(problem), "", ""),))
        except Exception as problem:  # the job's boundary: whatever happens must reach the window as one end
            answer = RunFailed(((f"The run failed inside Pendel: {problem}. The log has the details.", "", ""),), traceback.format_exc())
        try:
            connection.send(answer)
        except OSError:
            return


def perform(request: RunRequest, watch: Any) -> RunFinished:
    from pendel.core.plant.integrate import Outcome
    from pendel.core.runs.kept import save
    from pendel.core.runs.simulate import prepare, run_drive

    run = run_drive(prepare(from_text(request.drive_text)), name=request.name, watch=watch)
    run.differs = request.differs
    save(run, Path(request.path))
    return RunFinished(request.path, run.message, run.outcome is Outcome.STOPPED)


class Worker:
    """Handle on a worker process; restarts it when it dies."""

    def __init__(self) -> None:
        self._context = multiprocessing.get_context("spawn")
        self._process: Any = None
        self.start()

    def start(self) -> None:
        self.stop_flag = self._context.RawArray(ctypes.c_int32, 1)
        self.progress_value = self._context.RawArray(ctypes.c_double, 1)
        self.connection, theirs = self._context.Pipe()
        self._process = self._context.Process(target=serve, args=(theirs, self.stop_flag, self.progress_value), daemon=True)
        self._process.start()
        theirs.close()

    def request(self, request: RunRequest) -> None:
        if not self._process.is_alive():
            self.start()
        self.stop_flag[0] = 0
        self.progress_value[0] = 0.0
        self.connection.send(request)

    def stop(self) -> None:
        self.stop_flag[0] = 1

    @property
    def progress(self) -> float:
        """Simulated time reached (s)."""
        return self.progress_value[0]

    def answer(self) -> RunFinished | RunFailed | None:
        """The answer when there is one. A dead worker answers with what happened, and is replaced."""
        try:
            if self.connection.poll():
                return self.connection.recv()
        except (EOFError, OSError):
            pass
        else:
            if self._process.is_alive():
                return None
        code = self._process.exitcode
        self.kill()
        self.start()
        return RunFailed(((f"The run's process ended unexpectedly (code {code}). The drive is untouched; run again.", "", ""),))

    def kill(self) -> None:
        self.connection.close()
        if self._process.is_alive():
            self._process.terminate()
            self._process.join(2.0)
            if self._process.is_alive():
                self._process.kill()
        self._process.join(2.0)


__all__ = ["Finding", "RunFailed", "RunFinished", "RunRequest", "Worker"]

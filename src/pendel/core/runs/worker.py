"""A process that runs drives, so that a crash or an endless loop ends one run and never the window.

The worker keeps builds and orderings loaded between runs. Requests and answers are plain records over a pipe;
stopping and progress go through shared memory, so that both are at once.
"""

from __future__ import annotations

import contextlib
import ctypes
import mmap
import os
import signal
import socket
import subprocess
import sys
import traceback
from dataclasses import dataclass, replace
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.drive.file import from_text
from pendel.core.errors import DriveHasFindings, PendelError
from pendel.core.plant.compiler import plain_environment

SHARED_BYTES = 4096


def shared_flags(memory: mmap.mmap) -> tuple[np.ndarray, np.ndarray]:
    """The stop flag and the progress (s) in shared memory."""
    return np.frombuffer(memory, dtype=np.int32, count=1, offset=0), np.frombuffer(
        memory, dtype=np.float64, count=1, offset=8
    )


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


def serve(connection: Connection, memory: mmap.mmap) -> None:
    """The worker's life: answer requests until the pipe closes."""
    from pendel.core.plant.integrate import Watch
    from pendel.core.plant.model import time_loop

    watch = Watch(*shared_flags(memory))
    with contextlib.suppress(PendelError):  # without a compiler, each request will say so
        time_loop()
    while True:
        try:
            request = connection.recv()
        except (EOFError, OSError, KeyboardInterrupt):
            return
        answer: RunFinished | RunFailed
        try:
            answer = perform(request, watch)
        except DriveHasFindings as problem:
            answer = RunFailed(tuple((f.sentence, f.card, f.field) for f in problem.findings))
        except PendelError as problem:
            answer = RunFailed(((str(problem), "", ""),))
        except Exception as problem:  # the job's boundary: whatever happens must reach the window as one end
            answer = RunFailed(
                ((f"The run failed inside Pendel: {problem}. The log has the details.", "", ""),),
                traceback.format_exc(),
            )
        try:
            connection.send(answer)
        except OSError:
            return


PR_SET_PDEATHSIG = 1
"""From linux/prctl.h."""


def end_with_parent() -> None:
    """Let the system end this process when the one that started it is gone, however that ended."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)


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
        self.start()

    def start(self) -> None:
        ours, theirs = socket.socketpair()
        shared = os.memfd_create("pendel-run")
        os.ftruncate(shared, SHARED_BYTES)
        self.stop_flag, self.progress_value = shared_flags(mmap.mmap(shared, SHARED_BYTES))
        # Nothing is imported from the folder in which the window was started, nor taken from its environment.
        command = [sys.executable, "-P", "-m", "pendel.core.runs.worker", str(theirs.fileno()), str(shared)]
        self._process = subprocess.Popen(
            command,
            pass_fds=(theirs.fileno(), shared),
            stdin=subprocess.DEVNULL,
            cwd="/",
            env=plain_environment(),
        )
        theirs.close()
        os.close(shared)
        self.connection = Connection(ours.detach())

    @property
    def alive(self) -> bool:
        return self._process.poll() is None

    def request(self, request: RunRequest) -> None:
        if not self.alive:
            self.start()
        self.stop_flag[0] = 0
        self.progress_value[0] = 0.0
        self.connection.send(replace(request, path=os.path.abspath(request.path)))

    def stop(self) -> None:
        self.stop_flag[0] = 1

    @property
    def progress(self) -> float:
        """Simulated time reached (s)."""
        return float(self.progress_value[0])

    def answer(self) -> RunFinished | RunFailed | None:
        """The answer when there is one. A dead worker answers with what happened, and is replaced."""
        try:
            if self.connection.poll():
                return self.connection.recv()
        except (EOFError, OSError):
            pass
        else:
            if self.alive:
                return None
        self.kill()
        code = self._process.returncode
        self.start()
        return RunFailed(
            (
                (
                    f"The run's process ended unexpectedly (code {code}). The drive is untouched; run again.",
                    "",
                    "",
                ),
            )
        )

    def kill(self) -> None:
        self.connection.close()
        if self.alive:
            self._process.terminate()
        try:
            self._process.wait(2.0)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


__all__ = ["RunFailed", "RunFinished", "RunRequest", "Worker", "serve"]

if __name__ == "__main__":
    # The module must be known by its real name, so that records pickle alike on both sides.
    from pendel.core.runs import worker

    worker.end_with_parent()
    worker.serve(Connection(int(sys.argv[1])), mmap.mmap(int(sys.argv[2]), SHARED_BYTES))

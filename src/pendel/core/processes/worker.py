"""A process that runs compiled code, so that a crash or an endless loop ends one run and never the window.

It runs drives, replays runs through shipped code, and judges loops. It is
confined as far as the system can (`confine`) and keeps builds and orderings loaded between requests. Requests
and answers are plain records over a pipe; stopping and progress go through shared memory, so that both are at
once.
"""

from __future__ import annotations

import contextlib
import fcntl
import itertools
import mmap
import os
import pickle
import queue
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.drive.document import Drive
from pendel.core.drive.file import from_text
from pendel.core.errors import DriveHasFindings, FileProblem, PendelError, RunProblem, Stopped
from pendel.core.plant.compiler import plain_environment
from pendel.core.processes.answers import LARGEST, decoded, encoded
from pendel.core.processes.performing import ANSWERED, run_and_save, with_a_run
from pendel.core.processes.requests import (
    OWN_ANSWERS,
    CheckRequest,
    FormatsRequest,
    ProcessorRequest,
    Request,
    RunRequest,
    WithRun,
    WorkRequest,
    runs_own_c,
)
from pendel.core.runs.confined.child import drain, end_with_parent, private_environment, stand_back, started
from pendel.core.runs.confined.confine import ALL_HELD, Held, confine
from pendel.core.temporary import temporary_folder
from pendel.core.trust import allow_all_of

SHARED_BYTES = 4096
PATIENCE = 1.0
"""Seconds from being asked to stop until a run that does not is ended with its process."""
SAVING = 60.0
"""The same where the run has ended and is being kept."""
TYPED_C_ENDS_IT = "but it brings typed C, which can do that: look at its indices, pointers and calls"
LOOK = 0.02
"""Seconds between two looks at whether to stop, while an answer is waited for."""


class Shared:
    """What both sides see at once: the stop flag, the progress (s), whether a run is over and being kept,
    what confines the worker."""

    def __init__(self, memory: mmap.mmap):
        self.stop = np.frombuffer(memory, dtype=np.int32, count=1, offset=0)
        self.progress = np.frombuffer(memory, dtype=np.float64, count=1, offset=8)
        self.keeping = np.frombuffer(memory, dtype=np.int32, count=1, offset=16)
        self.held = np.frombuffer(memory, dtype=np.int32, count=1, offset=20)

    def stopping(self) -> bool:
        """Whether it was asked to leave off."""
        return bool(self.stop[0])

    def report(self, share: float) -> None:
        """How much of the work is done, 0 to 1, of what is no run."""
        self.progress[0] = share


@dataclass(frozen=True)
class RunFinished:
    """``left_at`` is where the worker left the run, which may write nowhere else; `keep` brings it to
    ``path``."""

    path: str
    message: str
    stopped: bool
    left_at: str = ""

    def keep(self) -> Path:
        """Move the run to where it was asked for. Raises `FileProblem`."""
        try:
            Path(self.path).parent.mkdir(parents=True, exist_ok=True)
            shutil.move(self.left_at, self.path)
        except OSError as problem:
            raise FileProblem(self.path, f"the run cannot be kept: {problem.strerror or problem}.") from problem
        return Path(self.path)


@dataclass(frozen=True)
class Answered:
    """The result of any other request."""

    result: Any


@dataclass(frozen=True)
class RunFailed:
    """``findings`` hold where and what, or one sentence alone; ``log`` is for the log."""

    findings: tuple[tuple[str, str, str], ...]
    log: str = ""

    @property
    def sentence(self) -> str:
        return self.findings[0][0] if self.findings else "The run failed."


Answer = RunFinished | Answered | RunFailed


def serve(connection: Connection, shared: Shared, folder: Path, *, own_answers: bool = False) -> None:
    """The worker's life: answer requests until the pipe closes."""
    from pendel.core.plant.runtime import time_loop

    with contextlib.suppress(PendelError):  # without a compiler, each request will say so
        time_loop()
    while True:
        try:
            request = connection.recv()
        except (EOFError, OSError, KeyboardInterrupt):
            return
        if apart_from_builds(request):
            connection.send_bytes(answered_apart(request, shared, folder, connection))
            continue
        answer = answered(request, shared, folder)
        try:
            connection.send_bytes(pickle.dumps(answer) if own_answers else encoded(answer))
        except OSError:
            return


def answered(request: Request, shared: Shared, folder: Path) -> Answer:
    """The answer to a request, or what went wrong with it."""
    try:
        return perform(request, shared, folder)
    except DriveHasFindings as problem:
        return RunFailed(tuple((f.sentence, f.card, f.field) for f in problem.findings))
    except PendelError as problem:
        return RunFailed(((str(problem), "", ""),))
    except Exception as problem:  # the job's boundary: whatever happens must reach the window as one end
        return RunFailed(
            ((f"The run failed inside Pendel: {problem}. The log has the details.", "", ""),),
            traceback.format_exc(),
        )


def apart_from_builds(request: Request) -> bool:
    """Whether typed C may run for it, and no program is started but compilers."""
    return runs_own_c(request) and not isinstance(request, CheckRequest | ProcessorRequest | FormatsRequest)


def answered_apart(request: Request, shared: Shared, folder: Path, connection: Connection) -> bytes:
    """The answer of a runner, for which what it needs first is built here. Where it ends without one, this process ends
    as it did, so that who asked gets the same."""
    from pendel.core.processes.runner import GoneWrong, in_runner

    next(NUMBERS)  # the copy counts for itself
    with contextlib.suppress(PendelError):
        drive = from_text(getattr(request, "drive_text", ""))
        allow_all_of(drive)  # that it may run was asked before
        build_ahead(drive)
    try:
        return in_runner(lambda: encoded(answered(request, shared, folder)), folder, let_go=connection.close)
    except GoneWrong as end:
        if end.code < 0:
            os.kill(os.getpid(), -end.code)
        os._exit(max(1, end.code))


def build_ahead(drive: Drive) -> None:
    """Order and compile the program of a drive whose C may run, and load nothing of it. Raises `PendelError`."""
    from pendel.core.plant.compiler import build_together
    from pendel.core.runs.preparing.simulate import prepare

    program = prepare(drive).program
    build_together([program.structure.source, *([program.control] if program.control else [])])


def perform(request: Request, shared: Shared, folder: Path) -> RunFinished | Answered:
    if isinstance(request, WorkRequest):
        return Answered(request.work.do())
    drive, path = from_text(request.drive_text), folder / f"run{next(NUMBERS)}.h5"
    if runs_own_c(request):
        allow_all_of(drive)
    if not isinstance(request, OWN_ANSWERS):
        shared.keeping[0] = 0
    if isinstance(request, WithRun):
        return Answered(with_a_run(request, drive, path))
    if isinstance(request, RunRequest):
        message, stopped = run_and_save(request, drive, shared, path)
        return RunFinished(request.path, message, stopped, str(path))
    return Answered(ANSWERED[type(request)](request, drive, shared))


NUMBERS = itertools.count(1)


def receive(connection: Connection, into: queue.SimpleQueue[bytes | None]) -> None:
    """Take in what a worker sends until it ends; `None` tells that."""
    with contextlib.suppress(EOFError, OSError, ValueError):
        while True:
            into.put(connection.recv_bytes(LARGEST))
    into.put(None)


class Worker:
    """Handle on a worker process, which is started with the first request and again when it dies. One request
    at a time.

    ``own_answers``: it is asked only for what runs no C of a drive and reads nothing but drives, so that what
    it sends was made by Pendel, and may be anything."""

    def __init__(self, *, own_answers: bool = False) -> None:
        self._own_answers = own_answers
        self._may_be_asked = OWN_ANSWERS if own_answers else Request
        self._process: subprocess.Popen[bytes] | None = None
        self._stop_asked = 0.0
        self._asked_path = ""
        self._own_c = False
        """Whether the process may have run C of a user."""
        self._heard_from = 0.0
        self._folder = temporary_folder("run")
        """The one place where the worker may write, beside its builds."""
        self._cache: tempfile.TemporaryDirectory[str] | None = None
        """The builds of a process that runs C of a user."""
        self.start()

    def start(self) -> None:
        ours, theirs = socket.socketpair()
        memory = os.memfd_create("pendel-run", os.MFD_CLOEXEC | os.MFD_ALLOW_SEALING)
        os.ftruncate(memory, SHARED_BYTES)
        # Cut shorter by the other side, it would end this process where it is looked at.
        fcntl.fcntl(memory, fcntl.F_ADD_SEALS, fcntl.F_SEAL_SHRINK | fcntl.F_SEAL_GROW | fcntl.F_SEAL_SEAL)
        self.shared = Shared(mmap.mmap(memory, SHARED_BYTES))
        # Nothing is imported from the folder in which the window was started, nor taken from its environment.
        command = [
            sys.executable,
            "-P",
            "-m",
            "pendel.core.processes.worker",
            str(theirs.fileno()),
            str(memory),
            self._folder.name,
            "own" if self._own_answers else "plain",
        ]
        environment = plain_environment()
        # Others load what lies in the common cache, so C of a user must not be able to write there.
        if self._own_c:
            # A new folder each time: in one that such C could write to, it may have left links for us to follow.
            if self._cache is not None:
                self._cache.cleanup()
            self._cache = temporary_folder("run")
            environment = private_environment(self._cache.name)
        environment |= {"TMPDIR": self._folder.name, "OPENBLAS_NUM_THREADS": "1"}
        self._process = started(
            command,
            pass_fds=(theirs.fileno(), memory),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            cwd="/",
            env=environment,
            start_new_session=True,
        )
        drain(self._process)
        theirs.close()
        os.close(memory)
        self.connection = Connection(ours.detach())
        self.received: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        """Messages as they came; nothing where the process has ended."""
        self._threads = [threading.Thread(target=receive, args=(self.connection, self.received), daemon=True)]
        self._threads[0].start()
        self._stop_asked = 0.0

    @property
    def alive(self) -> bool:
        return self._process is not None and self._process.poll() is None

    @property
    def pid(self) -> int:
        """Number of the process; 0 where there is none."""
        return self._process.pid if self._process is not None else 0

    @property
    def held(self) -> Held:
        """What confines it, once it has begun."""
        return Held(int(self.shared.held[0]) & ALL_HELD)

    def request(self, request: Request) -> None:
        """Ask for something. The request is sent beside, as a worker that does not read must not hold up who
        asks."""
        if not isinstance(request, self._may_be_asked):
            raise TypeError(f"{type(request).__name__} may run C of a drive")
        own_c = runs_own_c(request)
        if self.alive and own_c != self._own_c:
            self._end()
        if not self.alive:
            self._own_c = own_c
            self.start()
        self.shared.stop[0] = 0
        self.shared.progress[0] = 0.0
        self._stop_asked = 0.0
        if isinstance(request, RunRequest):
            self._asked_path = os.path.abspath(request.path)

        def send(connection: Connection) -> None:
            with contextlib.suppress(OSError, ValueError):  # it died; the answer will say so
                connection.send(request)

        self._threads[1:] = [threading.Thread(target=send, args=(self.connection,), daemon=True)]
        self._threads[1].start()

    def stop(self) -> None:
        """Ask the run to stop; one that does not is ended with its process."""
        self.shared.stop[0] = 1
        self._stop_asked = self._stop_asked or time.monotonic()

    @property
    def progress(self) -> float:
        """Simulated time reached (s); 0 where the process says what is no time."""
        said = float(self.shared.progress[0])
        return said if 0.0 <= said < 1e300 else 0.0

    def answer(self, wait: float = 0.0) -> Answer | None:
        """The answer when there is one, within so many seconds. A dead worker answers with what happened; the
        next request starts another."""
        try:
            data = self.received.get(timeout=wait) if wait else self.received.get_nowait()
        except queue.Empty:
            data = b""
        if data is None:
            remedy = TYPED_C_ENDS_IT if self._own_c else "run again"
            return self._replaced(
                f"The run's process ended unexpectedly (code {{code}}). The drive is untouched; {remedy}."
            )
        if data:
            return self._read(data)
        now = time.monotonic()
        if self.shared.keeping[0]:  # it hears of the stop when it is done with its record
            self._heard_from = now
        waited = now - self._stop_asked, now - max(self._stop_asked, self._heard_from)
        if self._stop_asked and (waited[0] > SAVING or waited[1] > PATIENCE):
            return self._replaced(
                "The run did not stop when asked, so its process was ended. Nothing of this run is kept."
            )
        return None

    def _read(self, data: bytes) -> Answer:
        try:
            answer = pickle.loads(data) if self._own_answers else decoded(data)  # noqa: S301  of our own making
            if isinstance(answer, RunFinished):
                path = Path(self._folder.name) / Path(answer.left_at).name
                if path.is_symlink() or not path.is_file():
                    raise ValueError("the run is not there")
                answer = RunFinished(self._asked_path, str(answer.message), bool(answer.stopped), str(path))
            if not isinstance(answer, Answer):
                raise TypeError("no answer")
        except Exception:  # noqa: BLE001  what a broken process sends may be anything
            return self._replaced(
                "The run's process sent something that is no answer. The drive is untouched; run again."
            )
        return answer

    def _replaced(self, sentence: str) -> RunFailed:
        self._end()
        assert self._process is not None
        code = self._process.returncode
        return RunFailed(((sentence.format(code=code), "", ""),))

    def ask(
        self,
        request: Request,
        patience: float,
        stopping: Callable[[], bool] = lambda: False,
        report: Callable[[float], None] = lambda progress: None,
    ) -> Answer:
        """Ask and wait, at most so many seconds; for threads beside the window. Once ``stopping`` holds, the
        process hears of it and leaves off where it can. ``report`` is called with its progress."""
        self.request(request)
        until = time.monotonic() + patience
        while (answer := self.answer(LOOK)) is None:
            if time.monotonic() > until:
                return self._replaced(f"There was no answer within {patience:.0f} s, so the process was ended.")
            report(self.progress)
            if stopping():
                self.shared.stop[0] = 1
        return answer

    def _end(self) -> None:
        self.end_now()
        if self._process is not None:
            self._process.wait()
        # What the process has started may hold the wire as well, which then never ends by itself.
        with contextlib.suppress(OSError), socket.socket(fileno=os.dup(self.connection.fileno())) as wire:
            wire.shutdown(socket.SHUT_RDWR)
        for (
            thread
        ) in self._threads:  # they end with the process; closed under them, the pipe's number could be another file's
            thread.join()
        self.connection.close()

    def end_now(self) -> None:
        """End the process; who waits for its answer is told so."""
        if self._process is not None:
            with contextlib.suppress(ProcessLookupError):
                self._process.kill()

    def kill(self) -> None:
        """End it for good."""
        self._end()
        self._folder.cleanup()
        if self._cache is not None:
            self._cache.cleanup()


class Beside:
    """A worker for what is asked from threads beside the window: one thing at a time, each with an end."""

    def __init__(self, *, own_answers: bool = False) -> None:
        self._own_answers = own_answers
        self._worker: Worker | None = None
        self._lock = threading.Lock()
        self._closed = False

    def ask(
        self,
        request: Request,
        patience: float,
        stopping: Callable[[], bool] = lambda: False,
        report: Callable[[float], None] = lambda progress: None,
    ) -> Any:
        """The result. Raises `PendelError` with what went wrong, when it takes longer than so many seconds;
        `Stopped` when it left off since ``stopping`` held."""
        with self._lock:
            if self._closed:
                raise RunProblem("Pendel is closing.")
            self._worker = self._worker or Worker(own_answers=self._own_answers)
            if self._closed:  # while it was started
                raise RunProblem("Pendel is closing.")
            answer = self._worker.ask(request, patience, stopping, report)
        if isinstance(answer, RunFailed):
            raise Stopped if stopping() else RunProblem(answer.sentence)
        assert isinstance(answer, Answered)
        return answer.result

    @property
    def pid(self) -> int:
        """Number of the process; 0 where there is none."""
        return self._worker.pid if self._worker is not None else 0

    def close(self) -> None:
        """End what is asked now, and all that would be."""
        self._closed = True
        if self._worker is not None:
            self._worker.end_now()
        with self._lock:
            if self._worker is not None:
                self._worker.kill()


__all__ = ["Answered", "Beside", "RunFailed", "RunFinished", "Worker", "serve"]


def main() -> None:
    """The process: confined before anything of a drive is read."""
    from pendel.core.plant.compiler import cache_folder

    end_with_parent()
    stand_back()
    shared, folder = Shared(mmap.mmap(int(sys.argv[2]), SHARED_BYTES)), Path(sys.argv[3])
    writable = [folder]
    with contextlib.suppress(PendelError):
        writable.append(cache_folder())
    shared.held[0] = int(confine(writable))
    serve(Connection(int(sys.argv[1])), shared, folder, own_answers=sys.argv[4] == "own")


if __name__ == "__main__":
    # The module must be known by its real name, so that records pickle alike on both sides.
    from pendel.core.processes import worker

    worker.main()

"""Typed C of a drive's author, run apart from what builds it.

The worker that may run such C orders and compiles, and loads nothing of it. For each request it forks: the copy can
compute, read programs and libraries and write its result, and nothing else (`confine.strictly`); what it finds missing
it asks the worker to build, as a text and one of the known sets of options. So C that runs can start no program, leave
no process behind, and change no build that a later request loads."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import struct
import sys
import threading
import traceback
from collections.abc import Callable, Sequence
from pathlib import Path

from pendel.core.errors import BuildProblem, PendelError
from pendel.core.plant import compiler
from pendel.core.plant.runtime import LOOP_FLAGS
from pendel.core.processes.answers import LARGEST
from pendel.core.runs.confined.child import end_with_parent
from pendel.core.runs.confined.confine import strictly

HEAD = struct.Struct("<cQ")
"""Begins a message: what it is, and its bytes."""
BUILD, BUILT, REFUSED, ANSWER = b"B", b"K", b"R", b"A"
OPTIONS = (compiler.FLAGS, LOOP_FLAGS)
"""Sets of options that a build may be asked for with."""
LONGEST_SOURCE = 64 << 20


class GoneWrong(Exception):
    """The runner has ended without an answer; ``code`` as of `os.waitstatus_to_exitcode`."""

    def __init__(self, code: int):
        super().__init__(code)
        self.code = code


def in_runner(
    work: Callable[[], bytes],
    folder: Path,
    *,
    let_go: Callable[[], None],
    more: Sequence[Path] = (),
    readable: Sequence[Path] = (),
) -> bytes:
    """What ``work`` gives, done by a confined copy of this process that may write in ``folder`` and in ``more`` alone,
    and read ``readable`` besides; ``let_go`` closes there what it is not to have.

    Raises
    ------
    GoneWrong
        where it has ended before.
    """
    ours, theirs = socket.socketpair()
    runner = os.fork()
    if runner == 0:
        ours.close()
        _run(work, [folder, *more], readable, theirs, let_go)
    theirs.close()
    try:
        with ours:
            return _served(ours)
    except (OSError, EOFError, struct.error, ValueError) as problem:
        with contextlib.suppress(ProcessLookupError):
            os.kill(runner, signal.SIGTERM if isinstance(problem, ValueError) else 0)
        code = os.waitstatus_to_exitcode(os.waitpid(runner, 0)[1])
        runner = 0
        raise GoneWrong(code) from problem
    finally:
        if runner:
            with contextlib.suppress(ProcessLookupError):
                os.kill(runner, signal.SIGKILL)
            os.waitpid(runner, 0)


def _served(wire: socket.socket) -> bytes:
    """Build what the runner asks for, until it answers."""
    while True:
        kind, size = HEAD.unpack(_taken(wire, HEAD.size))
        if kind == ANSWER and size <= LARGEST:
            return _taken(wire, size)
        if kind != BUILD or size > LONGEST_SOURCE:
            raise ValueError("the runner says what is no message")
        message = _taken(wire, size)
        reply, words = BUILT, b""
        try:
            compiler.build_library(message[1:].decode("utf-8"), flags=OPTIONS[message[0]])
        except PendelError as problem:
            reply, words = REFUSED, str(problem).encode()
        except UnicodeDecodeError as problem:
            raise ValueError("a source that is no text") from problem
        wire.sendall(HEAD.pack(reply, len(words)) + words)


def _taken(wire: socket.socket, size: int) -> bytes:
    data = bytearray(size)
    view = memoryview(data)
    while view:
        count = wire.recv_into(view)
        if not count:
            raise EOFError
        view = view[count:]
    return bytes(data)


# in the runner ----------------------------------------------------------------------------------------------------


def _run(
    work: Callable[[], bytes],
    writable: Sequence[Path],
    readable: Sequence[Path],
    wire: socket.socket,
    let_go: Callable[[], None],
) -> None:
    code = 1
    try:
        end_with_parent()
        let_go()
        builds = compiler.cache_folder()
        compiler.build_elsewhere(_asking(wire))
        strictly(writable, [builds, *readable])
        answer = work()
        wire.sendall(HEAD.pack(ANSWER, len(answer)) + answer)
        code = 0
    except BaseException:  # noqa: BLE001  who waits hears of the end alone
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(code)


def _asking(wire: socket.socket) -> Callable[[str, tuple[str, ...]], None]:
    lock = threading.Lock()

    def ask(source: str, flags: tuple[str, ...]) -> None:
        if flags not in OPTIONS:
            raise BuildProblem("This is not built where typed C runs.")
        data = bytes([OPTIONS.index(flags)]) + source.encode()
        with lock:
            wire.sendall(HEAD.pack(BUILD, len(data)) + data)
            kind, size = HEAD.unpack(_taken(wire, HEAD.size))
            words = _taken(wire, size)
        if kind == REFUSED:
            raise BuildProblem(words.decode("utf-8", "replace"))

    return ask

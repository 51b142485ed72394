"""A process of our own that runs code of a drive: started by one end of its wires, confined before it reads
anything."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import site
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path
from typing import Any

from pendel.core.errors import PendelError
from pendel.core.plant.compiler import cache_folder, plain_environment
from pendel.core.runs.confined.confine import confine
from pendel.core.wording import visible

PR_SET_PDEATHSIG = 1
"""From linux/prctl.h."""


def end_with_parent() -> None:
    """Let the system end this process when the one that started it is gone, however that ended. To the system that is
    the thread which did (prctl(2)), so it is to be started by `started`."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)


BEHIND = 5
"""Niceness of what computes beside a window: where all cores are taken, the window's thread has three times the share
of each."""


def stand_back() -> None:
    """Let the window, and whatever else answers a user, come first on the cores."""
    with contextlib.suppress(OSError):
        os.nice(BEHIND)
        if os.getsid(0) == os.getpid():  # Linux may weigh sessions, and niceness within each alone (sched(7))
            Path("/proc/self/autogroup").write_text(str(BEHIND))


@lru_cache(maxsize=1)
def starter() -> ThreadPoolExecutor:
    """The thread that starts processes."""
    return ThreadPoolExecutor(1, "starts processes")


starter()
os.register_at_fork(after_in_child=starter.cache_clear)


def started(command: Sequence[str], **how: Any) -> subprocess.Popen[Any]:
    """`subprocess.Popen`, called in a thread that lasts as long as this process: one that calls `end_with_parent` would
    else end with a job."""
    return starter().submit(lambda: subprocess.Popen(command, **how)).result()


HIDDEN = ("HOME", "USER", "LOGNAME")
"""Of the environment: what a process that may run code of a drive's author need not know."""


def private_environment(folder: str) -> dict[str, str]:
    """The environment of such a process, whose builds are in a folder of its own."""
    from pendel.core.plant.runtime import copy_loop  # slow to load, and seldom needed

    copy_loop(Path(folder))
    known = {n: v for n, v in plain_environment().items() if n not in HIDDEN and not n.startswith(("XDG_", "QT_"))}
    return {**known, "XDG_CACHE_HOME": folder, "PYTHONUSERBASE": site.getuserbase()}


LONGEST_LINE = 1 << 14
"""Bytes of what a process says on its error stream that are passed on; the rest is read and forgotten."""


def drain(process: subprocess.Popen[bytes]) -> None:
    """Pass on what a process says on its error stream, as visible lines: it gets no terminal of Pendel, into which it
    could type, and nothing that it says acts on one."""
    stream = process.stderr
    assert stream is not None

    def read() -> None:
        left = LONGEST_LINE
        with contextlib.suppress(OSError, ValueError), stream:
            for line in iter(lambda: stream.readline(LONGEST_LINE), b""):
                if left > 0:
                    left -= len(line)
                    words = line.decode("utf-8", "replace").rstrip("\n")
                    with contextlib.suppress(OSError, ValueError, AttributeError):
                        sys.stderr.write(f"{visible(words)}\n")

    threading.Thread(target=read, name="what a process says", daemon=True).start()


def start(
    module: str, folder: str, wire_bytes: int, *, private: bool = False
) -> tuple[subprocess.Popen[bytes], socket.socket]:
    """Start a module that calls `serve_confined`, with a folder it may write in. Returns the process and our end of the
    wire, on which ``wire_bytes`` of messages may wait. One that may run code of a drive's author is ``private``: its
    builds are in its folder, as others load what lies in the common cache."""
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    for end in (ours, theirs):
        end.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, wire_bytes)
    return begin(module, folder, [theirs], private=private), ours


def start_with_streams(module: str, folder: str, count: int) -> tuple[subprocess.Popen[bytes], list[socket.socket]]:
    """The same with several wires that carry bytes in order, whatever their number; the module calls
    `serve_streams_confined`."""
    pairs = [socket.socketpair() for _ in range(count)]
    return begin(module, folder, [theirs for _, theirs in pairs]), [ours for ours, _ in pairs]


def begin(
    module: str, folder: str, wires: list[socket.socket], *more: str, private: bool = False
) -> subprocess.Popen[bytes]:
    """Start a module with its ends of wires, which are closed here, its folder, and what else it is to know."""
    environment = private_environment(folder) if private else plain_environment()
    environment |= {"TMPDIR": folder, "OPENBLAS_NUM_THREADS": "1"}
    numbers = [wire.fileno() for wire in wires]
    process = started(
        [sys.executable, "-P", "-m", module, ",".join(map(str, numbers)), folder, *more],
        pass_fds=numbers,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        cwd="/",
        env=environment,
        start_new_session=True,
    )
    drain(process)
    for wire in wires:
        wire.close()
    return process


def serve_confined(serve: Callable[[socket.socket, Path], None]) -> None:
    """In the process that `start` has started: confine it, then serve its end of the wire."""
    serve_streams_confined(lambda wires, folder: serve(wires[0], folder))


def serve_streams_confined(serve: Callable[[list[socket.socket], Path], None]) -> None:
    """In the process that `start_with_streams` has started: confine it, then serve its ends of the wires."""
    end_with_parent()
    folder = Path(sys.argv[2])
    writable = [folder]
    with contextlib.suppress(PendelError):
        writable.append(cache_folder())
    confine(writable)
    os.environ["TMPDIR"] = str(folder)
    serve([socket.socket(fileno=int(number)) for number in sys.argv[1].split(",")], folder)

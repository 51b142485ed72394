"""A process of our own that runs a drive: started by one end of a wire, confined before it reads anything."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from pendel.core.errors import PendelError
from pendel.core.plant.compiler import cache_folder, plain_environment
from pendel.core.runs.confine import confine
from pendel.core.runs.worker import end_with_parent


def start(module: str, folder: str, wire_bytes: int) -> tuple[subprocess.Popen[bytes], socket.socket]:
    """Start a module that calls `serve_confined`, with a folder it may write in. Returns the process and our end of the
    wire, on which ``wire_bytes`` of messages may wait."""
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    for end in (ours, theirs):
        end.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, wire_bytes)
    process = subprocess.Popen(
        [sys.executable, "-P", "-m", module, str(theirs.fileno()), folder],
        pass_fds=(theirs.fileno(),),
        stdin=subprocess.DEVNULL,
        cwd="/",
        env={**plain_environment(), "TMPDIR": folder, "OPENBLAS_NUM_THREADS": "1"},
        start_new_session=True,
    )
    theirs.close()
    return process, ours


def serve_confined(serve: Callable[[socket.socket, Path], None]) -> None:
    """In the process that `start` has started: confine it, then serve its end of the wire."""
    end_with_parent()
    folder = Path(sys.argv[2])
    writable = [folder]
    with contextlib.suppress(PendelError):
        writable.append(cache_folder())
    confine(writable)
    os.environ["TMPDIR"] = str(folder)
    serve(socket.socket(fileno=int(sys.argv[1])), folder)

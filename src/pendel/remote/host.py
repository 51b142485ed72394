"""The process in which a script runs, or what callers ask for: confined as one that runs C of a drive's author is.

It is started ahead, loads what a run takes, and waits for a job. For the job it forks a runner that can compute, talk
to the owner of the drive, and write in its folder and in that of the script's files; it can start no process, reach no
network and read nothing of the user's. What is to be compiled the host compiles."""

from __future__ import annotations

import contextlib
import json
import linecache
import os
import signal
import socket
import sys
import threading
import traceback
import types
from pathlib import Path
from typing import Any

from pendel.core.errors import PendelError
from pendel.core.plant.compiler import cache_folder
from pendel.core.processes.runner import GoneWrong, in_runner
from pendel.core.runs.confined.child import end_with_parent
from pendel.core.runs.confined.confine import confine
from pendel.core.wording import visible
from pendel.remote.channels import LineReader, StreamChannel

FONTS = (Path("/etc/fonts"), Path("/etc/matplotlibrc"))
"""What drawing pictures reads besides."""
LONGEST_JOB = 4 << 20
CONFINED = (
    "A script is confined: it may start no program, reach no network, read nothing but programs and libraries, and "
    "write in its own folder alone, which is the one it begins in."
)
WENT_WRONG = 1
"""Exit code where a script ended by an error."""


def main() -> None:
    """``argv``: numbers of the owner's wire and of the output's, the folder of this process, that of files, and one
    of the user's where there is one."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it is meant for the runner
    end_with_parent()
    numbers, folder, *usable = sys.argv[1], *map(Path, sys.argv[2:])
    owner_number, output = map(int, numbers.split(","))
    with contextlib.suppress(PendelError):
        confine([folder, *usable, cache_folder()], FONTS)
    os.environ["TMPDIR"], os.environ["MPLCONFIGDIR"] = str(folder), str(folder / "plots")
    os.chdir(usable[0])  # the runner may not
    load_ahead()
    wire, sink = (
        socket.socket(fileno=owner_number),
        socket.socket(fileno=output),
    )  # the runner may not ask what they are
    line = LineReader(wire, LONGEST_JOB).line()
    if line is None:
        os._exit(0)
    job = json.loads(line)
    os._exit(done(job, wire, sink, folder, usable))


def load_ahead() -> None:
    """Load what a run of any drive takes."""
    from pendel.core.catalogue.index import kinds
    from pendel.core.drive import file
    from pendel.core.plant.runtime import time_loop

    kinds()
    file.quick_validator()
    with contextlib.suppress(PendelError):  # each run will say so
        time_loop()


def done(job: dict[str, Any], wire: socket.socket, sink: socket.socket, folder: Path, usable: list[Path]) -> int:
    """Exit code of a job."""

    def work() -> bytes:
        signal.signal(signal.SIGINT, signal.default_int_handler)
        channel = StreamChannel(wire)
        if job["job"] == "script":
            os.dup2(sink.fileno(), 1)
            os.dup2(sink.fileno(), 2)
            return bytes([run_script(job["name"], job["text"], channel)])
        from pendel.remote.desk import serve_desk

        return bytes([serve_desk(channel, sink)])

    try:
        return in_runner(work, folder, let_go=lambda: None, more=usable, readable=FONTS)[0]
    except GoneWrong as end:
        return 128 - end.code if end.code < 0 else max(1, end.code)


# in the runner ---------------------------------------------------------------------------------------------------


def run_script(name: str, text: str, channel: StreamChannel) -> int:
    """Run a script to its end, and have taken over what it changed. Returns the exit code."""
    from pendel.remote.here import begin_inside

    drive = begin_inside(channel)
    os.environ["MPLBACKEND"] = "module://pendel.remote.pictures"
    called = f"<{visible(name)}>"
    linecache.cache[called] = (len(text), None, text.splitlines(keepends=True), called)
    module = types.ModuleType("__main__")
    sys.modules["__main__"] = module
    sys.argv, sys.path[:0] = [called], [""]
    code = 0
    try:
        sys.stdout.reconfigure(line_buffering=True)  # type: ignore[union-attr]
        exec(compile(text, called, "exec"), module.__dict__)  # noqa: S102  what this process is for
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else WENT_WRONG
        if isinstance(end.code, str):
            print(end.code, file=sys.stderr)
    except BaseException as problem:  # noqa: BLE001  whatever a script raises
        code = WENT_WRONG
        report_problem(problem, called, channel)
    code = finish(drive, name, channel, code)
    left = [t for t in threading.enumerate() if type(t) is threading.Thread and t.name.startswith("Thread-")]
    if left:  # those of Pendel have names
        print(f"{len(left)} threads were still running, and end with the script.", file=sys.stderr)
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    return code & 0xFF


def finish(drive: Any, name: str, channel: StreamChannel, code: int) -> int:
    """Tell the owner what the script changed: for good where it went well, else to be decided."""
    try:
        if code:
            if changes := drive.unsent():
                channel.call("here.left", changes=changes, title=name)
            return code
        for sentence in drive.send_changes(name):
            print(sentence, file=sys.stderr)
    except PendelError as problem:
        print(f"What was changed is lost: {problem}", file=sys.stderr)
        return WENT_WRONG
    return 0


def report_problem(problem: BaseException, called: str, channel: StreamChannel) -> None:
    """Print a traceback that begins in the script, and tell its owner the line."""
    if isinstance(problem, KeyboardInterrupt):
        print("Stopped.", file=sys.stderr)
        return
    frames = traceback.extract_tb(problem.__traceback__)
    own = [frame for frame in frames if frame.filename == called]
    line = problem.lineno if isinstance(problem, SyntaxError) and problem.filename == called else None
    line = line or (own[-1].lineno if own else 0) or 0
    first = next((k for k, frame in enumerate(frames) if frame.filename == called), len(frames))
    print("Traceback (most recent call last):", file=sys.stderr)
    print("".join(traceback.format_list(frames[first:])), end="", file=sys.stderr)
    print("".join(traceback.format_exception_only(problem)), end="", file=sys.stderr)
    if isinstance(problem, PermissionError):
        print(CONFINED, file=sys.stderr)
    with contextlib.suppress(PendelError):
        channel.call("here.failed", line=line, sentence=str(problem)[:1000] or type(problem).__name__)


__all__ = ["main", "run_script"]

if __name__ == "__main__":
    main()

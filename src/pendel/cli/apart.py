# PYTHON_ARGCOMPLETE_OK
"""The terminal's verbs in a process of their own, confined before compiled code of a drive runs in it.

The process that was started waits, and brings the file that was asked for to its place; it compiles and runs
nothing."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
import time
import traceback
from collections.abc import Iterator, Sequence
from pathlib import Path

from pendel.cli import main as verbs
from pendel.cli.lines import print_aside
from pendel.core.drive.file import from_text, save
from pendel.core.errors import PendelError
from pendel.core.files.writing import copy_atomically
from pendel.core.temporary import temporary_folder

INTERRUPTED = 130
"""What shells give a program that ended by Ctrl+C."""


def terminal(arguments: Sequence[str] | None = None) -> int:
    """What the command ``pendel`` does."""
    for name in ("stdin", "stdout", "stderr"):  # one that is closed is none to Python
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "r" if name == "stdin" else "w"))  # noqa: SIM115
    parser = verbs.parser()
    if "_ARGCOMPLETE" in os.environ:  # the shell asks for words that fit
        import argcomplete

        argcomplete.autocomplete(parser)
    options = parser.parse_args(arguments)
    verb = next(v for v in verbs.ALL if v.name == options.verb)
    if empty := [name for name, value in vars(options).items() if value == ""]:
        print_aside(f"pendel: {empty[0].replace('_', ' ')} is empty. Give one, or leave it out.")
        return verbs.WRONG_CALL
    wanted = getattr(options, "out", None) or (options.file if verb.changes and verb.opens else None)
    out = Path(wanted) if wanted and wanted != verbs.STANDARD else None
    if out is not None and not out.absolute().parent.is_dir():
        print_aside(f"pendel: {out}: there is no folder {out.absolute().parent}. Make it, or name another.")
        return verbs.WRONG_CALL
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # threads that are there already would not be confined
    with temporary_folder("run") as folder:
        result = Path(folder) / f"result{out.suffix}" if out is not None and verb.runs else None
        code = result_of(arguments, Path(folder), result)
        if result is not None and result.is_file() and not result.is_symlink():
            assert out is not None
            try:
                bring(result, out, whole=verb.changes)
            except PendelError as problem:
                print_aside(f"pendel: {problem}")
                return verbs.WRONG_CALL
        return code


def bring(result: Path, out: Path, *, whole: bool) -> None:
    """Bring a file to its place, beside what stood there until it is ``whole``; a drive is read before. Raises
    `FileProblem`."""
    if whole:
        save(from_text(result.read_text("utf-8"), str(out)), out)
    else:
        copy_atomically(result, out)


def result_of(arguments: Sequence[str] | None, folder: Path, out: Path | None) -> int:
    """Exit code of the verb, done by another process that may write in ``folder`` alone."""
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        _do(arguments, folder, out)
    code = _ended(child)
    if code < 0:
        print_aside(f"pendel: the run's process ended unexpectedly (signal {-code}).")
        return verbs.FAILED
    return code


def _ended(child: int) -> int:
    """Exit code of the other process; Ctrl+C, or a signal to this process alone, ends it as well."""
    asks = signal.SIGINT
    try:
        with _hearing_the_end():
            return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    except Ended:
        asks = signal.SIGTERM  # in the background of a shell interrupts may be ignored
    except KeyboardInterrupt:
        pass
    code = _interrupted(child, asks)
    return INTERRUPTED if code else code


class Ended(KeyboardInterrupt):
    """This process is to end (SIGTERM)."""


def _end(*_: object) -> None:
    raise Ended


@contextlib.contextmanager
def _hearing_the_end() -> Iterator[None]:
    """A request to end is handed on: the other process would be killed with this one, and leave its socket, its token
    and half a file behind. Signals come to the main thread alone."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGTERM, _end)
    try:
        yield
    finally:
        signal.signal(signal.SIGTERM, before)


ASKED_AGAIN, KILLED = 0.5, 6.0
"""s after which a process that was interrupted is asked once more, and after which it is ended."""


def _interrupted(child: int, asks: signal.Signals = signal.SIGINT) -> int:
    """Exit code of the other process, which is to end soon. It is asked until it does: an interrupt that Python hears
    while it clears an object away is lost (data model, ``object.__del__``)."""
    begun = time.monotonic()
    asked = 0.0
    while True:
        try:
            ended, status = os.waitpid(child, os.WNOHANG)
            if ended:
                return os.waitstatus_to_exitcode(status)
            past = time.monotonic() - begun
            if past >= asked:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(child, asks if past < KILLED else signal.SIGKILL)
                asked = past + ASKED_AGAIN
            time.sleep(0.01)
        except KeyboardInterrupt:  # once more: at once
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)


def _do(arguments: Sequence[str] | None, folder: Path, out: Path | None) -> None:
    from pendel.core.runs.confined.child import end_with_parent  # slow to load, and not needed to complete words

    code = verbs.FAILED
    end_with_parent()
    signal.signal(signal.SIGTERM, _end)
    try:
        code = verbs.main(arguments, folder=folder, out=out)
        sys.stdout.flush()
    except KeyboardInterrupt:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_IGN)
        code = INTERRUPTED
    except BrokenPipeError:
        code = verbs.DONE
    except OSError as problem:
        if problem.filename is not None:
            traceback.print_exc()
        else:  # the output, not a file
            print_aside(f"pendel: the output cannot be written: {problem.strerror}. Free some space.")
            code = verbs.WRONG_CALL
    except BaseException:  # noqa: BLE001  the end of this process
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    sys.exit(terminal())

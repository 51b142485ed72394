"""The terminal's verbs in a process of their own, confined before compiled code of a drive runs in it.

The process that was started waits, and brings the file that was asked for to its place; it compiles and runs
nothing."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import traceback
from collections.abc import Sequence
from pathlib import Path

from pendel.cli import main as verbs

INTERRUPTED = 130
"""What shells give a program that ended by Ctrl+C."""


def terminal(arguments: Sequence[str] | None = None) -> int:
    """What the command ``pendel`` does."""
    options = verbs.parser().parse_args(arguments)
    out = Path(options.out) if getattr(options, "out", None) else None
    if out is not None and not out.absolute().parent.is_dir():
        print(
            f"pendel: {out}: there is no folder {out.absolute().parent}. Make it, or name another.",
            file=sys.stderr,
        )
        return verbs.WRONG_CALL
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # threads that are there already would not be confined
    with tempfile.TemporaryDirectory(prefix="pendel-run-", ignore_cleanup_errors=True) as folder:
        made = Path(folder) / f"traces{out.suffix}" if out is not None else None
        code = result_of(arguments, Path(folder), made)
        if made is not None and made.is_file() and not made.is_symlink():
            assert out is not None
            try:
                shutil.copyfile(made, out)
            except OSError as problem:
                print(
                    f"pendel: {out}: the traces cannot be saved: {problem.strerror}. Choose another folder.",
                    file=sys.stderr,
                )
                return verbs.WRONG_CALL
        return code


def result_of(arguments: Sequence[str] | None, folder: Path, out: Path | None) -> int:
    """Exit code of the verb, done by another process that may write in ``folder`` alone."""
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        _do(arguments, folder, out)
    while True:
        try:
            code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
            break
        except KeyboardInterrupt:  # the other process hears of it too
            continue
    if code < 0:
        print(f"pendel: the run's process ended unexpectedly (signal {-code}).", file=sys.stderr)
        return verbs.FAILED
    return code


def _do(arguments: Sequence[str] | None, folder: Path, out: Path | None) -> None:
    code = verbs.FAILED
    try:
        code = verbs.main(arguments, folder=folder, out=out)
        sys.stdout.flush()
    except KeyboardInterrupt:
        code = INTERRUPTED
    except BrokenPipeError:
        code = verbs.DONE
    except BaseException:  # noqa: BLE001  the end of this process
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    sys.exit(terminal())

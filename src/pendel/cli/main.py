# PYTHON_ARGCOMPLETE_OK
"""``pendel check | signals | set | propose | tune | run | measure | series | loops | linear | c | a2l | fmu | board |
live | ranges | formats | firmware``: the verbs of `pendel.core.verbs` for terminals.

Exit codes: 0 done; 1 the drive has faults, a loop is not stable, the run failed, or a build gave another bit; 2
the call or a file is wrong.
"""

from __future__ import annotations

import argparse
import contextlib
import math
import os
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pendel import __version__
from pendel.cli.beside import BESIDE, done_beside
from pendel.cli.lines import print_aside, print_line
from pendel.cli.making import NEW, made_new
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveHasFindings, DriveProblem, FileProblem, PendelError
from pendel.core.verbs import VERBS, Parameter, Verb, set_named
from pendel.core.wording import sentence_case

if TYPE_CHECKING:
    from pendel.core.plant.simulator import Watch

DONE, FAILED, WRONG_CALL = 0, 1, 2
ALL = (NEW, *VERBS, *BESIDE)
STANDARD = "-"
"""A file that stands for standard input, or output."""
UNBOUND = ("board", "script", "serve")
"""Verbs that go on until they are stopped."""
WITHOUT_RESULT = (*UNBOUND, "set")
DRIVE_TO = "where the changed drive goes, - for the terminal; without it, into the file it came from"
WITH_SUMMARY = ("series", "heat", "held", "split")
"""Verbs that print a summary beside the file they write."""
PROGRESS_EVERY = 0.2
"""Seconds between two figures of progress."""
EPILOGUE = (
    "Exit codes: 0 done; 1 the drive has faults, a loop is not stable, the run failed, or a build gave another bit; "
    "2 the call or a file is wrong."
)


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(
        prog="pendel", description="Model, simulate, tune and ship motor drives.", epilog=EPILOGUE
    )
    top.add_argument("--version", action="version", version=f"pendel {__version__}")
    verbs = top.add_subparsers(dest="verb", required=True, metavar="VERB")
    for verb in ALL:
        sub = verbs.add_parser(
            verb.name, help=verb.sentence, description=sentence_case(verb.sentence) + ".", epilog=EPILOGUE
        )
        if verb.opens:
            sub.add_argument("file", metavar="FILE", help="a .pendel drive; - reads it from standard input")
        for parameter in verb.parameters:
            add_parameter(sub, parameter)
        if verb.changes or verb.writes:
            sub.add_argument("--out", metavar="FILE", help=DRIVE_TO if verb.changes else verb.writes)
        if verb.name not in WITHOUT_RESULT and verb.opens:
            sub.add_argument("--json", action="store_true", help="print the result as JSON")
        if verb.name != "set" and verb.opens:
            sub.add_argument(
                "--set",
                metavar="NAME=VALUE",
                action="append",
                default=[],
                help="change a quantity, setting, card.value or card.choice before",
            )
        if verb.runs or verb.name in UNBOUND:
            sub.add_argument("--own-c", action="store_true", help="let C that the drive brings run on this computer")
    return top


def add_parameter(sub: argparse.ArgumentParser, parameter: Parameter) -> None:
    how: dict[str, Any] = {"metavar": parameter.shape, "help": parameter.sentence.replace("%", "%%")}
    if parameter.required or parameter.placed:
        how |= {"nargs": "+"} if parameter.many else {"nargs": "?"} if parameter.placed else {}
        sub.add_argument(parameter.name, **how)
        return
    if parameter.flag:
        sub.add_argument(f"--{parameter.option or parameter.name}", action="store_true", help=parameter.sentence)
        return
    how |= {"action": "append", "default": []} if parameter.many else {}
    sub.add_argument(f"--{parameter.option or parameter.name}", dest=parameter.name, **how)


def given_parameters(verb: Verb, options: argparse.Namespace) -> dict[str, Any]:
    """The parameters of a verb as the call has them."""
    given = {p.name: getattr(options, p.name) for p in verb.parameters}
    if isinstance(given.get("signals"), list):  # both commas and repeated options part them
        given["signals"] = [s.strip() for text in given["signals"] for s in text.split(",") if s.strip()]
    return given


def opened(path: str) -> Drive:
    """The drive of a file, or of standard input. Raises `FileProblem`."""
    from pendel.core.drive.file import from_text, load

    if path != STANDARD:
        return load(Path(path))
    try:
        return from_text(sys.stdin.read(), "standard input")
    except UnicodeDecodeError as problem:
        raise FileProblem("standard input", "it is no text.") from problem


@contextlib.contextmanager
def progress(drive: Drive, until: str | None) -> Iterator[Watch | None]:
    """Tell how far a run has come, where a terminal shows it."""
    if not sys.stderr.isatty():
        yield None
        return
    from pendel.core.drive.user_text import read_figure
    from pendel.core.plant.simulator import Watch

    watch, done = Watch.private(), threading.Event()
    end = 0.0
    with contextlib.suppress(DriveProblem):  # the run itself says what is wrong with its length
        end = read_figure(drive, until or drive.settings["until"], "s", 0.0)
    if not end > 0:
        yield None
        return

    def report() -> None:
        while not done.wait(PROGRESS_EVERY):
            print(
                f"\r{min(100, round(100 * float(watch.progress[0]) / end))} %",
                end="",
                file=sys.stderr,
                flush=True,
            )

    thread = threading.Thread(target=report, daemon=True)
    thread.start()
    try:
        yield watch
    finally:
        done.set()
        thread.join()
        print("\r     \r", end="", file=sys.stderr, flush=True)


def series_folder(file: str) -> Path | None:
    """Where the rows of a drive's series are kept; nowhere for one from standard input."""
    from pendel.core.series.running import folder_of

    return None if file == STANDARD else folder_of(Path(file).absolute())


@contextlib.contextmanager
def row_progress_line() -> Iterator[Callable[[int, int, int], None]]:
    """Tell how many rows of a series are there in one line, where a terminal shows it."""
    begun, before = time.monotonic(), -1

    def tell(done: int, failed: int, count: int) -> None:
        nonlocal before
        before = done if before < 0 else before
        took = time.monotonic() - begun
        left = took / max(1, done - before) * (count - done) if done > before else math.nan
        words = f" · about {left:.0f} s left" if left == left else ""
        wrong = f" · {failed} failed" if failed else ""
        print(f"\r{done} of {count} rows{wrong}{words}   ", end="", file=sys.stderr, flush=True)

    yield tell if sys.stderr.isatty() else lambda done, failed, count: None
    if sys.stderr.isatty():
        print(f"\r{' ' * 60}\r", end="", file=sys.stderr, flush=True)


def say_at_once(words: str) -> None:
    print_line(words)
    sys.stdout.flush()


def perform(verb: Verb, drive: Drive, options: argparse.Namespace) -> int:
    """Do what a verb does, and print or write what comes of it. Returns the exit code."""
    from pendel.cli.printing import as_json, show

    given = given_parameters(verb, options)
    if not verb.opens:
        return made_new(given, options)
    if verb.beside:
        return done_beside(verb, drive, options, given, say_at_once)
    if verb.name in UNBOUND:
        with contextlib.suppress(KeyboardInterrupt):
            verb.does(drive, own_c=options.own_c, say=say_at_once, **given)
        return DONE
    check_ending(verb, options)
    if verb.name in ("run", "measure"):
        with progress(drive, options.until) as watch:
            result = verb.does(drive, watch=watch, **given)
    elif verb.name == "series":
        with row_progress_line() as row_progress:
            result = verb.does(drive, folder=series_folder(options.file), progress=row_progress, **given)
    else:
        result = verb.does(drive, **given)
    if verb.changes:
        with contextlib.redirect_stdout(sys.stderr if options.out == STANDARD else sys.stdout):
            if verb.name not in WITHOUT_RESULT and options.json:
                print(as_json(result))
            elif result:
                show(result, verb.name)
        return write_drive(drive, options)
    if run := getattr(result, "run", None):
        tell_of(drive, run)
    to_file = verb.writes and options.out and options.out != STANDARD
    if to_file:
        write_result(result, options.result or Path(options.out))
    if options.json:
        print(as_json(result))
    elif to_file and verb.name not in WITH_SUMMARY:
        pass
    elif isinstance(result, str):
        print(result, end="")
    elif verb.name == "c":
        for path in result:
            print_line(path)
    else:
        show(result, verb.name)
    return FAILED if failed(result) else DONE


def write_result(result: Any, path: Path) -> None:
    """Write what a verb gives to the file of ``--out``. Raises `FileProblem`."""
    if isinstance(result, str):
        from pendel.core.files.writing import write_atomically

        write_atomically(path, result)
    elif hasattr(result, "save"):
        result.save(path)
    else:
        from pendel.core.formats.traces import save_traces

        save_traces([result.run], result.signals, path)


MOST_BYTES = 4_000_000
"""Of a file that is a parameter."""


def text_of(path: Path) -> str:
    """Of a file that is a parameter. Raises `FileProblem`."""
    try:
        if not path.is_file() or path.stat().st_size > MOST_BYTES:
            raise FileProblem(str(path), "it is no file, or too large.")
        return path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as problem:
        raise FileProblem(str(path), f"it cannot be read: {problem}.") from problem


def check_ending(verb: Verb, options: argparse.Namespace) -> None:
    """Raises `FileProblem` where the file of ``--out`` does not end as what is to be written, before that
    takes time."""
    out = getattr(options, "out", None)
    if not out or out == STANDARD or verb.endings is None:
        return
    endings = tuple(verb.endings())
    if Path(out).suffix not in endings:
        raise FileProblem(out, f"the ending must be {'one of ' if len(endings) > 1 else ''}{', '.join(endings)}.")


def tell_of(drive: Drive, run: Any) -> None:
    """What a run found goes to the terminal's error stream."""
    from pendel.core.runs.remarks.rounding import listed  # it loads what most verbs need not

    steps = run.counters["steps"]
    print_aside(f"{drive.title}: {run.end:g} s in {run.seconds:.3f} s, {steps} steps")
    for remark in run.remarks:
        print_aside(f"found: {remark.sentence}")
    for line in listed(run, 3):
        print_aside(f"as shipped: {line}")
    if run.message:
        print_aside(run.message)


def failed(result: Any) -> bool:
    """Whether a result is one that a script should stop at."""
    if (run := getattr(result, "run", None)) is not None:
        return bool(run.message)
    if not getattr(result, "keeps_limits", True):
        return True
    if getattr(result, "unlike", False) or getattr(result, "failed", 0):
        return True
    if not isinstance(result, list):
        return False
    stopping = any(getattr(each, "stops", False) for each in result)
    return stopping or any(getattr(each, "closed", False) and not each.problem and not each.stable for each in result)


def write_drive(drive: Drive, options: argparse.Namespace) -> int:
    """Write a changed drive where it is wanted. Raises `FileProblem`."""
    from pendel.core.drive.file import save, to_text

    out = options.out or options.file
    if out == STANDARD:
        print(to_text(drive), end="")
    else:
        save(drive, options.result or Path(out))
    return DONE


def confine_to(folder: Path, drive: Drive, options: argparse.Namespace) -> None:
    """Confine this process before it runs code that was made of a drive: from here on it reads programs and
    writes builds and ``folder`` only. What is to be asked of the user's files is asked before."""
    from pendel.core.errors import BuildProblem
    from pendel.core.plant.compiler import cache_folder
    from pendel.core.plant.runtime import copy_loop
    from pendel.core.runs.confined.confine import confine
    from pendel.core.trust import allow_all_of, brings_allowed_c, brings_c

    if brings_allowed_c(drive):
        allow_all_of(drive)  # the list of what was allowed cannot be read any more
    os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
    if brings_c(drive):  # others load what lies in the common cache
        copy_loop(folder)
        os.environ["XDG_CACHE_HOME"] = str(folder)
    writable = [folder]
    with contextlib.suppress(BuildProblem):
        writable.append(cache_folder())
    target = Path(options.folder) if options.verb == "c" else None
    if options.verb == "series" and (rows := series_folder(options.file)) and (options.name or rows.is_dir()):
        target = rows
    if target is not None:
        target.mkdir(parents=True, exist_ok=True)
        writable.append(target)
    confine(writable)


def main(arguments: Sequence[str] | None = None, *, folder: Path | None = None, out: Path | None = None) -> int:
    """Do what is asked, and return the exit code. With a ``folder`` the process confines itself to that
    first, and writes files to ``out`` instead of where they were asked for."""
    options = parser().parse_args(arguments)
    options.result = out
    from pendel.core.extensions import all_left_out
    from pendel.core.trust import allow_all_of, brings_allowed_c

    verb = next(v for v in ALL if v.name == options.verb)

    def prepared() -> Drive:
        drive = opened(options.file) if verb.opens else Drive()
        for parameter in verb.parameters:
            if parameter.reads and (path := getattr(options, parameter.name)):
                setattr(options, parameter.name, text_of(Path(path)))
        if verb.name != "set" and verb.opens:
            set_named(drive, options.set)
        for sentence in all_left_out():
            print_aside(f"found: {sentence}")
        if (verb.runs or verb.name in UNBOUND) and options.own_c:
            allow_all_of(drive)
        if folder is not None and verb.runs and not getattr(options, "workers", None):  # which confine themselves
            confine_to(folder, drive, options)
        return drive

    drive: list[Drive] = []
    code = told(verb, lambda: drive.append(prepared()))
    if not drive:
        return code
    if folder is not None and verb.name in COMPUTING and brings_allowed_c(drive[0]):
        return told(verb, lambda: apart(verb, drive[0], options, folder))
    return told(verb, lambda: perform(verb, drive[0], options))


COMPUTING = ("check", "signals", "propose", "tune", "run", "measure", "loops", "linear", "modes", "calm", "ranges")
"""Verbs that start no program but compilers, so that typed C can run apart from what builds it."""


def apart(verb: Verb, drive: Drive, options: argparse.Namespace, folder: Path) -> int:
    """Do a verb in a process in which typed C may run: it computes and prints, and starts nothing. Returns the exit
    code."""
    from pendel.core.processes.runner import GoneWrong, in_runner
    from pendel.core.processes.worker import build_ahead

    with contextlib.suppress(PendelError):  # the verb says it
        build_ahead(drive.copy())

    def work() -> bytes:
        code = told(verb, lambda: perform(verb, drive, options))
        sys.stdout.flush()
        sys.stderr.flush()
        return bytes([code])

    try:
        return in_runner(work, folder, let_go=lambda: None)[0]
    except GoneWrong as end:
        if end.code < 0:
            os.kill(os.getpid(), -end.code)
        return FAILED


def told(verb: Verb, work: Callable[[], int | None]) -> int:
    """The exit code of what is done for a verb; what goes wrong with it is reported."""
    from pendel.core.bench.errors import BenchProblem

    try:
        return work() or DONE
    except DriveHasFindings as problem:
        for finding in problem.findings:
            print_aside(f"fault: {finding.card or finding.field or 'drive'}: {finding}")
        return FAILED
    except (FileProblem, DriveProblem) as problem:
        print_aside(f"pendel: {problem}")
        return WRONG_CALL
    except PendelError as problem:
        print_aside(*f"pendel: {problem}".split("\n"))
        return WRONG_CALL if verb.name in UNBOUND and isinstance(problem, BenchProblem) else FAILED
    except BrokenPipeError:
        return DONE


if __name__ == "__main__":
    from pendel.cli.apart import terminal

    sys.exit(terminal())

"""Verbs with processes of their own: a script of a drive, and a drive that other programs reach."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from pendel.cli.lines import visible_json
from pendel.core.drive.document import Drive
from pendel.core.drive.script_edits import script_of
from pendel.core.errors import DriveProblem
from pendel.core.temporary import temporary_folder
from pendel.core.trust import allow_all_of, allow_script, refuse_strange_c, refuse_strange_script
from pendel.core.verbs.verb import Parameter, Verb
from pendel.core.wording import ACTING

FAILED = 1


def files_of(drive_path: Path | None) -> Path:
    from pendel.remote.owner import files_folder

    return files_folder(drive_path) if drive_path is not None else Path(folder_of_this_process().name)


@lru_cache(maxsize=1)
def folder_of_this_process() -> TemporaryDirectory[str]:
    """Where what a drive from standard input writes goes; it ends with this process."""
    return temporary_folder("files")


def shown(text: str) -> str:
    """What a script prints, as it may go to a terminal: nothing in it acts on one."""
    return ACTING.sub(lambda f: f[0] if f[0] in "\n\t" else f[0].encode("unicode_escape").decode(), text)


def run_script(
    drive: Drive,
    *,
    name: str | None = None,
    allow: bool = False,
    folder: str | None = None,
    own_c: bool = False,
    path: Path | None = None,
    say: Callable[[str], None] = lambda sentence: None,
    out: Callable[[Drive], None] | None = None,
) -> int:
    """Run a script of a drive in a confined process, and return the exit code. What it prints goes to the terminal;
    ``folder`` is one of the user's that it may use, ``out`` takes the drive as the script left it. Raises
    `DriveProblem` and `FileProblem`."""
    from pendel.remote.given import given_folder
    from pendel.remote.owner import FileOwner, answer_of
    from pendel.remote.script_run import Host, ScriptRun

    if name is None:
        for each in drive.scripts:
            say(each)
        return 0
    text = script_of(drive, name).text
    if allow:
        allow_script(text)
    refuse_strange_script(name, text, "call again with --allow")
    if own_c:
        allow_all_of(drive)
    owner = FileOwner(drive, path, say=lambda sentence: print(shown(sentence), file=sys.stderr))

    def write(words: str) -> None:
        with contextlib.suppress(OSError, ValueError):
            sys.stdout.write(shown(words))
            sys.stdout.flush()

    given = given_folder(os.path.abspath(os.path.expanduser(folder))) if folder else None
    run = ScriptRun(Host(files_of(path), given), name, text, answer_of(owner), write)
    end = None
    while end is None:
        try:
            end = run.wait()
        except KeyboardInterrupt:
            run.stop()
    if end.sentence:
        where = f" in line {end.line}" if end.line else ""
        print(shown(f"{name}{where}: {end.sentence}"), file=sys.stderr)
    elif out is not None:
        out(drive)
    elif owner.steps:
        print(f"{name} changed the drive. Its file is as before; --out FILE keeps the change.", file=sys.stderr)
    return 0 if not end.code else FAILED


def serve_drive(
    drive: Drive,
    *,
    socket: str | None = None,
    port: str | None = None,
    describe: bool = False,
    own_c: bool = False,
    path: Path | None = None,
    say: Callable[[str], None] = lambda sentence: None,
    out: Callable[[Drive], None] | None = None,
    stopping: threading.Event | None = None,
) -> int:
    """Let other programs reach a drive until Ctrl+C. Raises `DriveProblem`."""
    if describe:
        import json

        from pendel.remote.describe import document

        print(visible_json(json.dumps(document(), indent=2)))
        return 0
    from pendel.remote.owner import FileOwner, answer_of
    from pendel.remote.server import Server, leave_token

    if own_c:
        allow_all_of(drive)
    refuse_strange_c(drive, "add --own-c")
    if port is not None and not (port.isdecimal() and int(port) < 65536):
        raise DriveProblem(f"“{port}” is no port. Give a number from 0 to 65535; 0 takes one that is free.")
    if socket is None and port is None:
        raise DriveProblem("There is no door. Give --socket PATH, --port N or both.")
    owner = FileOwner(drive, path, say=lambda sentence: say(shown(sentence)))
    door = Path(socket).absolute() if socket is not None else None
    number = int(port) if port is not None else None
    server = Server(files_of(path), answer_of(owner), path=door, port=number, token=os.environ.get("PENDEL_TOKEN", ""))
    token: Path | None = None
    stopped = stopping or threading.Event()
    try:
        if door is not None:
            say(f"The drive is at {door}")
        if number is not None:
            token = leave_token(server)
            say(f"The drive is at {server.address}, its token in {token}")
        if stopping is None:
            signal.signal(signal.SIGTERM, lambda *_: stopped.set())
        with contextlib.suppress(KeyboardInterrupt):
            stopped.wait()
    finally:
        server.close()
        if token is not None:
            token.unlink(missing_ok=True)
    if out is not None:
        out(drive)
    elif owner.changed_since_saved:
        say("The drive was changed, and its file is as before. drive.save saves it, or --out FILE.")
    return 0


SCRIPT = Verb(
    "script",
    "run a script of a drive; without its name, list them",
    run_script,
    (
        Parameter("name", "of the script", "NAME", placed=True),
        Parameter("allow", "let a script that came with the drive run on this computer, now and later", flag=True),
        Parameter("folder", "of yours that the script may read and write in besides", "DIR"),
    ),
    runs=False,
    beside=True,
    writes="the drive as the script leaves it",
)
SERVE = Verb(
    "serve",
    "let other programs reach a drive by JSON-RPC, until Ctrl+C",
    serve_drive,
    (
        Parameter("socket", "a Unix socket that only its user can open", "PATH"),
        Parameter("port", "HTTP on 127.0.0.1; 0 takes a free one", "N"),
        Parameter("describe", "print all calls as an OpenRPC document, and end", flag=True),
    ),
    runs=False,
    beside=True,
    writes="the drive as it is at the end",
)
BESIDE: tuple[Verb, ...] = (SCRIPT, SERVE)


def done_beside(verb: Verb, drive: Drive, options: Any, given: dict[str, Any], say: Callable[[str], None]) -> int:
    """Do such a verb, and return the exit code."""
    from pendel.core.drive.file import save

    path = Path(options.file).absolute() if options.file != "-" else None
    out = (lambda result: save(result, Path(options.out))) if options.out else None
    code: int = verb.does(drive, path=path, own_c=options.own_c, say=say, out=out, **given)
    return code

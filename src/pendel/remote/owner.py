"""Who has the drive: what it answers to those who work on a copy, and one that has it from a file."""

from __future__ import annotations

import base64
import binascii
import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from pendel.core.drive import file
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.drive.merging import RecordChange, changes_from, merged
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.files.writing import write_atomically
from pendel.core.runs.record.places import next_run_path
from pendel.core.trust import brings_allowed_c
from pendel.remote.messages import NO_METHOD, Call, WrongCall

LARGEST_RUN, LARGEST_PICTURE = 512 << 20, 32 << 20
"""Bytes of a run that is kept, and of a picture."""


class Owner(Protocol):
    """The drive of a window, or of a process that serves one. Each may raise `PendelError`."""

    def fetch(self) -> tuple[int, int, Drive]:
        """A number that changes with the drive, one that tells which drive it is, and the drive."""

    def merge(self, which: int, changes: list[RecordChange], title: str) -> tuple[int, tuple[str, ...]]:
        """Take over changes of that drive as one step of undo; the number of the drive then, and sentences on what was
        not taken over."""

    def keep(self, run: bytes, name: str) -> str:
        """Keep a run from its file's content. What it is called."""

    def show(self, signals: list[str]) -> None:
        """Put signals on strips."""

    def clear(self) -> None:
        """Take all signals off the strips."""

    def hold(self, runs: list[str]) -> None:
        """Hold these runs beside new ones, and no others, by their names or what they are called."""

    def save(self) -> None:
        """Save the drive in its file."""

    def picture(self, png: bytes, name: str) -> bool:
        """Show a picture; false where nobody looks, and who made it is to write it."""


def text_in(params: dict[str, Any], name: str, most: int = 1 << 20) -> str:
    """Raises `WrongCall`."""
    value = params.get(name, "")
    if not isinstance(value, str) or len(value) > most:
        raise WrongCall(f"“{name}” must be a text of at most {most} letters.")
    return value


def bytes_in(params: dict[str, Any], name: str, most: int) -> bytes:
    """Raises `WrongCall`."""
    try:
        return base64.b64decode(text_in(params, name, most * 4 // 3 + 8), validate=True)
    except (binascii.Error, ValueError) as problem:
        raise WrongCall(f"“{name}” must be bytes as a text of base 64 (RFC 4648).") from problem


def answer_of(owner: Owner) -> Callable[[Call], Any]:
    """What an owner answers to calls of `pendel.remote.here`."""

    def fetch(params: dict[str, Any]) -> Any:
        generation, which, drive = owner.fetch()
        if params.get("generation") == generation:
            return {"generation": generation}
        text, own_c = file.to_text(drive), brings_allowed_c(drive)
        return {"generation": generation, "which": which, "text": text, "own_c": own_c}

    def merge(params: dict[str, Any]) -> Any:
        changes, title = changes_from(params.get("changes")), text_in(params, "title", 200)
        which = params.get("which")
        if not isinstance(which, int):
            raise WrongCall("“which” must be the number of the drive that was fetched.")
        generation, conflicts = owner.merge(which, changes, title or "Change from a program")
        return {"generation": generation, "conflicts": list(conflicts)}

    def keep(params: dict[str, Any]) -> Any:
        return {"name": owner.keep(bytes_in(params, "run", LARGEST_RUN), text_in(params, "name", 200))}

    def texts(params: dict[str, Any], name: str) -> list[str]:
        given = params.get(name, [])
        if not isinstance(given, list) or not all(isinstance(each, str) for each in given):
            raise WrongCall(f"“{name}” must be a list of texts.")
        return given[:100]

    def picture(params: dict[str, Any]) -> Any:
        png = bytes_in(params, "png", LARGEST_PICTURE)
        if not png.startswith(b"\x89PNG\r\n\x1a\n"):
            raise WrongCall("“png” must be a picture as PNG.")
        return {"shown": owner.picture(png, text_in(params, "name", 200))}

    methods: dict[str, Callable[[dict[str, Any]], Any]] = {
        "here.fetch": fetch,
        "here.merge": merge,
        "here.keep": keep,
        "here.show": lambda params: owner.show(texts(params, "signals")),
        "here.hold": lambda params: owner.hold(texts(params, "runs")),
        "here.clear": lambda params: owner.clear(),
        "here.picture": picture,
        "here.save": lambda params: owner.save(),
    }

    def answer(call: Call) -> Any:
        if call.method not in methods:
            raise WrongCall(f"There is no method {call.method[:60]}.", NO_METHOD)
        if not isinstance(call.params, dict):
            raise WrongCall(f"{call.method} takes its parameters by name.")
        return methods[call.method](call.params)

    return answer


class FileOwner:
    """A drive from a file, without a window. ``path`` is where its runs are kept beside; ``say`` is given what
    happens."""

    def __init__(self, drive: Drive, path: Path | None, say: Callable[[str], None] = lambda sentence: None):
        self.drive, self.path, self._say = drive, path, say
        self.steps: list[Command] = []
        self._generation = self._saved = 1
        self._lock = threading.Lock()

    @property
    def changed_since_saved(self) -> bool:
        return self._generation != self._saved

    def fetch(self) -> tuple[int, int, Drive]:
        with self._lock:
            return self._generation, 1, self.drive.copy()

    def merge(self, which: int, changes: list[RecordChange], title: str) -> tuple[int, tuple[str, ...]]:
        with self._lock:
            result = merged(self.drive, changes, title)
            if result.command.changes:
                result.command.apply(self.drive)
                self.steps.append(result.command)
                self._generation += 1
            return self._generation, result.conflicts

    def keep(self, run: bytes, name: str) -> str:
        if self.path is None:
            raise DriveProblem("A drive from standard input has no place where runs are kept. Give its file.")
        target = next_run_path(self.path.with_suffix(".runs"))
        write_atomically(target, run)
        self._say(f"kept {name or 'a run'} in {target}")
        return target.stem

    def show(self, signals: list[str]) -> None:
        """Without a window nothing is shown."""

    def clear(self) -> None:
        """Without a window there is no strip."""

    def hold(self, runs: list[str]) -> None:
        """Without a window no run is shown."""

    def picture(self, png: bytes, name: str) -> bool:
        return False

    def save(self) -> None:
        if self.path is None:
            raise DriveProblem("A drive from standard input has no file. Give one.")
        file.save(self.drive, self.path)
        self._saved = self._generation
        self._say(f"saved {self.path}")


def files_folder(path: Path) -> Path:
    """Where scripts of a drive may write files: the one place beside those of their process. Raises `FileProblem`."""
    return made_folder(path.with_suffix(".files"))


def made_folder(folder: Path) -> Path:
    """A folder of this user's that is no link, made where there is none. Raises `FileProblem`."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if folder.is_symlink() or folder.stat().st_uid != os.getuid():  # who sent the drive may have sent a link along
            raise FileProblem(str(folder), "scripts may not write there: it leads elsewhere, or is another user's.")
    except OSError as problem:
        raise FileProblem(str(folder), f"scripts cannot write there: {problem.strerror}.") from problem
    return folder

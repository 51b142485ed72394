"""Files written whole or not at all: beside the old one, flushed to the disk, then put in its place in one
step.

There is a whole file at the path at every instant. What a process that died left beside it goes with the next
writing."""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from pendel.core.errors import FileProblem

BESIDE = re.compile(r"\.(\d+)\.[0-9a-f]{8}\.part")
NEW_FILE = 0o666
YOUNG = 60.0
"""Seconds."""


def write_atomically(path: Path, data: str | bytes, *, keep_previous: bool = False) -> None:
    """Write a file whole; see `filled_atomically`. Raises `FileProblem`."""

    def fill(stream: BinaryIO) -> None:
        stream.write(data.encode("utf-8") if isinstance(data, str) else data)

    filled_atomically(path, fill, keep_previous=keep_previous)


def copy_atomically(source: Path, path: Path) -> None:
    """Copy a file whole; see `filled_atomically`. Raises `FileProblem`."""

    def fill(stream: BinaryIO) -> None:
        with source.open("rb") as content:
            shutil.copyfileobj(content, stream)

    filled_atomically(path, fill)


def filled_atomically(path: Path, fill: Callable[[BinaryIO], None], *, keep_previous: bool = False) -> None:
    """Write a file in the place of what was there, with its permissions, and with its owner where that may be
    given. A symbolic link stays, and what it points to is written. ``keep_previous`` keeps the old file as
    ``NAME.bak``.

    Raises
    ------
    FileProblem
        when the disk is full or the folder is read-only; the old file is then untouched.
    """
    temporary: Path | None = None
    try:
        place = path.resolve() if path.is_symlink() else path
        if place.exists() and not place.is_file():
            raise FileProblem(str(path), "this is a folder or a device, not a file. Choose another name.")
        remove_left_over(place)
        temporary = beside(place)
        handle = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, NEW_FILE)
        with os.fdopen(handle, "wb") as stream:
            fill(stream)
            stream.flush()
            keep_rights(place, stream.fileno())
            os.fsync(stream.fileno())
        if keep_previous and place.exists():
            keep_as(place, place.with_name(place.name + ".bak"))
        os.replace(temporary, place)
        flush_folder(place.parent)
    except (OSError, UnicodeError) as problem:
        if temporary is not None:
            with contextlib.suppress(OSError):
                temporary.unlink(missing_ok=True)
        reason = getattr(problem, "strerror", None) or problem
        raise FileProblem(
            str(path), f"it cannot be saved: {reason}. Choose another folder; nothing was lost."
        ) from problem


@contextlib.contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """A file beside ``path``, of its ending, for what writes files by their names; it takes the place of what was there
    once it is whole, with the permissions of that. Raises `OSError`."""
    place = path.resolve() if path.is_symlink() else path
    begun = beside(place).with_suffix(f".part{place.suffix}")
    try:
        yield begun
        with begun.open("rb+") as stream:
            keep_rights(place, stream.fileno())
            os.fsync(stream.fileno())
        os.replace(begun, place)
        flush_folder(place.parent)
    finally:
        with contextlib.suppress(OSError):
            begun.unlink(missing_ok=True)


def keep_rights(old: Path, new: int) -> None:
    """Give the new file, by its open number, what the old one has of permissions and owner."""
    try:
        had = old.stat()
    except FileNotFoundError:
        return
    with contextlib.suppress(OSError):  # only the administrator may give files away
        os.fchown(new, had.st_uid, had.st_gid)
    with contextlib.suppress(OSError):
        os.fchmod(new, had.st_mode & 0o7777)


def keep_as(old: Path, kept: Path) -> None:
    """Keep a file under a second name, replacing what has that name, while the first stays."""
    second = beside(kept)
    try:
        os.link(old, second)
    except OSError:  # not every file system has links
        shutil.copy2(old, second)
    os.replace(second, kept)
    second.unlink(missing_ok=True)  # where both are one file already, a rename does nothing


def flush_folder(folder: Path) -> None:
    """See to it that the new name is on the disk too."""
    with contextlib.suppress(OSError):  # not every file system can
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def remove_left_over(path: Path) -> None:
    """Remove what processes that are gone left beside a file, or beside its kept version."""
    for name in (path.name, f"{path.name}.bak"):
        for other in path.parent.glob(f"{glob_safe(begins(name))}.*.part"):
            match = BESIDE.fullmatch(other.name[len(begins(name)) :])
            with contextlib.suppress(OSError):
                # A young one may be of another computer that shares the folder.
                if match and not is_running(int(match[1])) and time.time() - other.stat().st_mtime > YOUNG:
                    other.unlink(missing_ok=True)


def begins(name: str) -> str:
    """How the names of files beside one begin; hidden, and short enough for what follows."""
    return f".{name[:100]}"


def beside(path: Path) -> Path:
    return path.with_name(f"{begins(path.name)}.{os.getpid()}.{secrets.token_hex(4)}.part")


def glob_safe(name: str) -> str:
    return re.sub(r"([*?[])", r"[\1]", name)


def is_running(process: int) -> bool:
    """Whether there is a process of this number on this computer."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True

"""Where windows keep what is not saved, and by which locks others know that they live."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_state_dir

from pendel.app.session.jobs import Job
from pendel.core.drive.lock import FileLock, lock_of, take
from pendel.core.files.writing import write_atomically

MOST_WINDOWS = 20
"""On one drive, that have an autosave each."""


@dataclass(frozen=True)
class Slot:
    """Where a window keeps what is not saved of a drive, and the lock by which others know that it lives."""

    path: Path
    lock: FileLock


def autosave_path(path: Path | None, number: int = 0) -> Path:
    """Where an autosave of a drive lies: apart from the drive, named by its place. Windows on one drive have
    a number each."""
    key = hashlib.sha256(os.fsencode(path.resolve() if path else "untitled")).hexdigest()[:12]
    name = re.sub(r"[^\w .-]", "_", path.stem)[:60] if path else "untitled"
    return Path(user_state_dir("pendel")) / "autosave" / f"{name}-{key}{f'-{number}' if number else ''}.pendel"


def slots(path: Path | None, *, used: bool) -> Iterator[Slot]:
    """Autosaves of a drive whose windows are gone, or places for a new one. Each is locked while it is looked
    at."""
    for number in range(MOST_WINDOWS):
        at = autosave_path(path, number)
        if at.exists() != used:
            continue
        if not used:
            at.parent.mkdir(parents=True, exist_ok=True)
        lock = take(lock_of(at))
        if isinstance(lock, FileLock):
            yield Slot(at, lock)


def free_slot(path: Path | None) -> Slot | None:
    """A place for the autosave of a window. Raises `OSError`."""
    return next(slots(path, used=False), None)


def write_unless_stopped(job: Job, path: Path, text: str) -> None:
    """Write an autosave; none is left of what nobody wants any more. Raises `FileProblem`."""
    if not job.stopping:
        write_atomically(path, text)
    if job.stopping:
        path.unlink(missing_ok=True)


def digest_of(path: Path) -> str | None:
    """Of a file's bytes; nothing where there is none."""
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() else None
    except OSError:
        return None

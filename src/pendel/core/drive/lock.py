"""Who has a drive's file open: a lock beside the file that the system lets go when its owner ends, however
that is.

The lock file holds process and computer, to tell whoever comes second. It keeps nobody from writing; windows
that meet ask."""

from __future__ import annotations

import contextlib
import fcntl
import os
import socket
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Owner:
    """A process that has a file open, as far as its lock tells."""

    process: int
    computer: str

    def __str__(self) -> str:
        return f"process {self.process} on {self.computer}" if self.process else "another program"


@dataclass
class FileLock:
    """Held until `release`, or until this process ends."""

    path: Path
    handle: int

    def release(self) -> None:
        if self.handle < 0:
            return
        with contextlib.suppress(OSError):
            self.path.unlink(missing_ok=True)
        os.close(self.handle)
        self.handle = -1


def lock_of(path: Path) -> Path:
    return path.with_name(f".{path.name[:200]}.open")


def take(lock: Path) -> FileLock | Owner | None:
    """The lock, its present owner, or nothing where the folder takes no locks."""
    try:
        handle = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o644)
    except OSError:
        return None
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        owner = owner_in(handle)
        os.close(handle)
        return owner
    except OSError:
        os.close(handle)
        return None
    if not same_file(lock, handle):  # the owner before removed it between our two steps
        os.close(handle)
        return take(lock)
    with contextlib.suppress(OSError):
        os.ftruncate(handle, 0)
        os.pwrite(handle, f"{os.getpid()} {socket.gethostname()}\n".encode(), 0)
    return FileLock(lock, handle)


def owner_in(handle: int) -> Owner:
    try:
        process, _, computer = os.pread(handle, 400, 0).decode("utf-8", "replace").strip().partition(" ")
        return Owner(int(process), "".join(c for c in computer if c.isprintable())[:80])
    except (OSError, ValueError):
        return Owner(0, "")


def same_file(path: Path, handle: int) -> bool:
    try:
        return os.path.samestat(path.stat(), os.fstat(handle))
    except OSError:
        return False

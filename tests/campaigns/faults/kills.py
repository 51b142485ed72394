"""Processes killed while they save, and disks that fill up meanwhile: there is a whole drive at the path at every
instant."""

from __future__ import annotations

import mmap
import os
import resource
import signal
import struct
import tempfile
import time
from pathlib import Path
from random import Random

from pendel.core.drive import file
from pendel.core.drive.document import Drive, Quantity
from pendel.core.errors import FileProblem
from tests.campaigns.faults.report import Boundary


def drive_of(number: int) -> Drive:
    drive = Drive(f"Drive {number}")
    drive.quantities["n"] = Quantity(str(number), "x" * (number % 7 * 250))
    return drive


def number_at(path: Path) -> int:
    """Of the drive at a path. Raises `FileProblem` where there is none, or not a whole one."""
    return int(file.load(path).quantities["n"].text)


def kill(rng: Random, into: Boundary) -> None:
    """A process saves one drive after the other until it is killed. What it had saved is there, or something newer."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "drive.pendel"
        begin = rng.randrange(1000)
        file.save(drive_of(begin), path)
        saved = mmap.mmap(-1, 8)
        saved[:8] = struct.pack("q", begin)
        child = os.fork()
        if child == 0:
            try:
                for number in range(begin + 1, begin + 100_000):
                    file.save(drive_of(number), path)
                    saved[:8] = struct.pack("q", number)
            finally:
                os._exit(0)
        time.sleep(rng.uniform(0, 0.02))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)

        def act() -> None:
            (known,) = struct.unpack("q", saved[:8])
            assert number_at(path) >= known, "what was saved is gone"
            before = path.with_name("drive.pendel.bak")
            assert not before.exists() or number_at(before) >= known - 1, "the version before is gone"
            for left in path.parent.glob(".*.part"):
                os.utime(left, (0, 0))
            file.save(drive_of(known + 5), path)
            assert not list(path.parent.glob(".*.part")), "what the dead left stays"

        into.meet(str(begin).encode(), act)


def full_disk(rng: Random, into: Boundary) -> None:
    """Saving stops half way: a sentence, the old file as it was, nothing left beside it."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "drive.pendel"
        file.save(drive_of(1), path)
        told = mmap.mmap(-1, 1)
        child = os.fork()
        if child == 0:
            try:
                signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
                room = rng.randrange(0, 600)
                resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))
                try:
                    file.save(drive_of(6), path)
                except FileProblem as problem:
                    told[:1] = b"s" if "cannot be saved" in str(problem) else b"x"
            finally:
                os._exit(0)
        os.waitpid(child, 0)

        def act() -> None:
            assert told[:1] == b"s", "no sentence on a disk that is full"
            assert number_at(path) == 1, "the old file is not as it was"
            assert [p.name for p in path.parent.iterdir()] == ["drive.pendel"], "something is left beside it"

        into.meet(b"", act)

"""Drives from files, and the examples that come with Pendel."""

from __future__ import annotations

from pathlib import Path

from pendel.api import Drive
from pendel.core.drive import file
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.user_text import known_name

__all__ = ["open_drive", "open_example"]


def open_drive(path: str | Path) -> Drive:
    """Open a ``.pendel`` file. Raises `FileProblem`."""
    return Drive(document=file.load(Path(path)))


def open_example(name: str) -> Drive:
    """Open one of the examples that come with Pendel, such as ``"car_door_drive"``. Raises `DriveProblem`."""
    known = sorted(p.stem for p in EXAMPLES.glob("*.pendel"))
    known_name("example", name, known, "Pendel")
    return open_drive(EXAMPLES / f"{name}.pendel")

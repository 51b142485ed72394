"""Drives from files, and the examples that come with Pendel."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from pendel.core.catalogue.goals.goal import made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.drive import file
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.user_text import known_name
from pendel.interface.api import Drive

__all__ = ["goals", "new", "open_drive", "open_example"]


def open_drive(path: str | Path) -> Drive:
    """Open a ``.pendel`` file. Raises `FileProblem`."""
    drive = Drive(document=file.load(Path(path)))
    drive.path = Path(path)
    return drive


def open_example(name: str) -> Drive:
    """Open one of the examples that come with Pendel, such as ``"car_door_drive"``. Raises `DriveProblem`."""
    known = sorted(p.stem for p in EXAMPLES.glob("*.pendel"))
    known_name("example", name, known, "Pendel")
    return Drive(document=file.load(EXAMPLES / f"{name}.pendel"))


def goals() -> dict[str, str]:
    """What `new` makes whole drives for, and what each is.

    >>> import pendel
    >>> list(pendel.goals())[:2]
    ['brushed_dc', 'synchronous']
    """
    return {goal.id: f"{goal.title}: {goal.sentence}" for goal in GOALS.values()}


def new(goal: str, *, options: Mapping[str, str] | None = None, **entries: str | float) -> Drive:
    """A whole drive from what a data sheet gives: wired, with gains that follow from what was entered.

    Parameters
    ----------
    goal
        one of `goals`.
    options
        such as ``{"regulate": "position"}``; the first of each without them.
    entries
        what the sheet gives, as text with units or numbers in the entry's own unit; usual values without them. Each
        becomes a quantity of this name: ``Drive.document.quantities`` has all of them.

    Raises
    ------
    DriveProblem
        for a goal, option or entry that there is not, and for a value that cannot be.

    >>> import pendel
    >>> d = pendel.new("brushed_dc", U_link="24 V", R_a=0.3)
    >>> [f"{loop.name}: {loop.phase_margin:.0f}°" for loop in d.judge()]
    ['Current: 63°', 'Speed: 67°']
    """
    known_name("goal", goal, GOALS, "Pendel")
    texts = {name: str(value) for name, value in entries.items()}
    return Drive(document=made(GOALS[goal], texts, options or {}))

"""Edits of a drive's duties; see `pendel.core.drive.commands`."""

from __future__ import annotations

from pendel.core.drive.commands import Change, Command, changed, removed
from pendel.core.drive.document import Drive
from pendel.core.drive.duties import DutyPlan
from pendel.core.errors import DriveProblem


def set_duty(drive: Drive, name: str, duty: DutyPlan, gesture: str = "") -> Command:
    """Keep a duty by a name, in the place of one of that name."""
    title = f"{'Change' if name in drive.duties else 'Keep'} {name}"
    return Command(title, (changed(drive, "duties", name, duty),), gesture)


def remove_duty(drive: Drive, name: str) -> Command:
    return Command(f"Delete {name}", tuple(removed(drive, "duties", [name])))


def rename_duty(drive: Drive, old: str, new: str) -> Command:
    """Raises `DriveProblem`."""
    new = new.strip()
    if not new or new in drive.duties:
        raise DriveProblem(f"A duty is called {new} already." if new else "A duty needs a name.")
    at, duty = list(drive.duties).index(old), drive.duties[old]
    return Command(f"Rename {old}", (Change("duties", old, duty, None, at), Change("duties", new, None, duty, at)))


__all__ = ["remove_duty", "rename_duty", "set_duty"]

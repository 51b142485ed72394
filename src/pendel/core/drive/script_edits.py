"""Edits of a drive's scripts."""

from __future__ import annotations

from pendel.core.drive.commands import Change, Command, changed, removed
from pendel.core.drive.document import Drive
from pendel.core.drive.scripts import Script
from pendel.core.errors import DriveProblem


def free_script_name(drive: Drive, name: str = "Script") -> str:
    """The name, numbered where it is taken."""
    number, free = 2, name
    while free in drive.scripts:
        free, number = f"{name} {number}", number + 1
    return free


def script_of(drive: Drive, name: str) -> Script:
    """Raises `DriveProblem`."""
    if name not in drive.scripts:
        known = ", ".join(drive.scripts) or "it has none"
        raise DriveProblem(f"No script is called “{name}”. Scripts of this drive: {known}.")
    return drive.scripts[name]


def set_script(drive: Drive, name: str, text: str, gesture: str = "") -> Command:
    """Change a script, or add one."""
    plain = text.replace("\r\n", "\n").replace("\r", "\n")
    title = f"{'Edit' if name in drive.scripts else 'Add'} {name}"
    return Command(title, (changed(drive, "scripts", name, Script(plain)),), gesture)


def remove_script(drive: Drive, name: str) -> Command:
    """Raises `DriveProblem`."""
    script_of(drive, name)
    return Command(f"Delete {name}", tuple(removed(drive, "scripts", [name])))


def rename_script(drive: Drive, old: str, new: str) -> Command:
    """Raises `DriveProblem`."""
    new, script = new.strip(), script_of(drive, old)
    if new == old:
        return Command(f"Rename {old}", ())
    if not new or new in drive.scripts:
        raise DriveProblem(
            f"A script is called “{new}” already. Choose a different name." if new else "A script needs a name."
        )
    at = list(drive.scripts).index(old)
    return Command(
        f"Rename {old}", (Change("scripts", old, script, None, at), Change("scripts", new, None, script, at))
    )


def move_script(drive: Drive, name: str, place: int) -> Command:
    """Put a script at a place of the list, from 0. Raises `DriveProblem`."""
    script, at = script_of(drive, name), list(drive.scripts).index(name)
    place = max(0, min(place, len(drive.scripts) - 1))
    if place == at:
        return Command(f"Move {name}", ())
    return Command(
        f"Move {name}", (Change("scripts", name, script, None, at), Change("scripts", name, None, script, place))
    )

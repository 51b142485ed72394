"""Edits of what a drive says of itself, and of how it is looked at."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from pendel.core.drive.commands import Command, changed, removed
from pendel.core.drive.document import Drive
from pendel.core.drive.views import ABOUT, RUNS, Note, Text, View


def about(drive: Drive) -> str:
    """What the drive says of itself, in Markdown; empty where it says nothing."""
    return drive.texts[ABOUT].text if ABOUT in drive.texts else ""


def set_about(drive: Drive, text: str, gesture: str = "") -> Command:
    """Change what the drive says of itself; an empty text takes it away."""
    title = "Describe the drive"
    plain = text.replace("\r\n", "\n").replace("\r", "\n").rstrip()
    if plain == about(drive):
        return Command(title, ())
    if not plain:
        return Command(title, tuple(removed(drive, "texts", [ABOUT])))
    return Command(title, (changed(drive, "texts", ABOUT, Text(plain)),), gesture)


def view_of_runs(drive: Drive) -> View:
    """How its runs are looked at; empty where nobody chose."""
    return drive.views.get(RUNS, View())


def set_view(drive: Drive, view: View) -> Command:
    """Change how the runs of the drive are looked at; an empty view takes it away."""
    title = "Lay out strips"
    if view == view_of_runs(drive):
        return Command(title, ())
    if view == View():
        return Command(title, tuple(removed(drive, "views", [RUNS])))
    return Command(title, (changed(drive, "views", RUNS, view),))


def take_view(drive: Drive, view: View) -> None:
    """Note how runs are looked at, without a step of undo: nobody edits a drive by looking at it."""
    if view == View():
        drive.views.pop(RUNS, None)
    else:
        drive.views[RUNS] = view


def free_note(drive: Drive) -> str:
    """A name for a new note."""
    number = 1
    while f"note_{number}" in drive.notes:
        number += 1
    return f"note_{number}"


def set_note(drive: Drive, name: str, note: Note) -> Command:
    """Change a note, move it, or add one; one without words is none."""
    known = drive.notes.get(name)
    if not note.text.strip():
        return Command("Delete a note", tuple(removed(drive, "notes", [name] if known is not None else [])))
    if note == known:
        return Command("Edit a note", ())
    title = "Add a note" if known is None else "Move a note" if known.text == note.text else "Edit a note"
    return Command(title, (changed(drive, "notes", name, note),))


def set_named(drive: Drive, wires: Iterable[str], named: bool) -> Command:
    """Draw wires as two ends that bear one name, or as lines again; ``wires`` are their keys."""
    keys = list(wires)
    changes = tuple(changed(drive, "wires", key, replace(drive.wires[key], named=named)) for key in keys)
    count = "wire" if len(keys) == 1 else f"{len(keys)} wires"
    return Command(f"Draw {count} as {'a named link' if named else 'a line'}", changes)

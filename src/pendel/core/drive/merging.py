"""Changes of a drive that were made on a copy of it: listed record by record, and taken over where nobody else changed
the same record meanwhile."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from pendel.core.drive import file
from pendel.core.drive.commands import Command, as_in, changed
from pendel.core.drive.document import TABLES, Drive
from pendel.core.errors import DriveProblem, FileProblem, shorten

Records = dict[str, dict[str, Any]]
"""By table and key: each record as a drive's file holds it."""


@dataclass(frozen=True)
class RecordChange:
    """A record of a table before and after; None where there is none."""

    table: str
    key: str
    before: Any
    after: Any

    def as_list(self) -> list[Any]:
        """For another process."""
        return [self.table, self.key, self.before, self.after]


@dataclass(frozen=True)
class Merged:
    """``command`` does what can be taken over; ``conflicts`` are sentences on what cannot."""

    command: Command
    conflicts: tuple[str, ...]


def records_of(drive: Drive) -> Records:
    record = json.loads(json.dumps(file.to_record(drive)))
    tables: Records = {table: record.get(table, {}) for table in TABLES if table != "wires"}
    return {**tables, "wires": {" ".join(ends[:2]): ends for ends in record["wires"]}}


def changes_between(before: Records, after: Records) -> list[RecordChange]:
    """What differs, removed records first."""
    changes = [
        RecordChange(table, key, record, None)
        for table, records in before.items()
        for key, record in records.items()
        if key not in after[table]
    ]
    return changes + [
        RecordChange(table, key, before[table].get(key), record)
        for table, records in after.items()
        for key, record in records.items()
        if before[table].get(key) != record
    ]


def changes_from(listed: object) -> list[RecordChange]:
    """Changes as another process sent them. Raises `DriveProblem` where that is none."""
    changes = []
    for each in listed if isinstance(listed, list) else [listed]:
        if not (isinstance(each, list) and len(each) == 4 and each[0] in TABLES and isinstance(each[1], str)):
            raise DriveProblem(
                f"{shorten(str(each))} is no change of a drive. Write a list of a table, a key, the record before and "
                "the record after."
            )
        changes.append(RecordChange(*each))
    return changes


def merged(drive: Drive, changes: Iterable[RecordChange], title: str) -> Merged:
    """Take changes over into a drive that may have been changed since.

    Raises
    ------
    DriveProblem
        where the drive would be none that a file can hold.
    """
    changes = list(changes)
    if (few := _alone(drive, changes, title)) is not None:
        return few
    records, conflicts = records_of(drive), []
    for change in changes:
        table = records[change.table]
        now = table.get(change.key)
        if now == change.after:
            continue
        if now != change.before:
            conflicts.append(f"{named(change)} was changed meanwhile, so this change of it was not taken over.")
        elif change.after is None:
            table.pop(change.key, None)
        else:
            table[change.key] = change.after
    whole: dict[str, Any] = {"format": file.FORMAT, "version": file.VERSION}
    whole |= {table: kept for table, kept in records.items() if kept or table in ("cards", "settings")}
    whole["wires"] = wires_between(records)
    lost = [each for each in changes if each.table == "wires" and each.after and each.after not in whole["wires"]]
    conflicts += [f"{named(each)} ends at a card that is not there, so it was not taken over." for each in lost]
    try:
        wanted = file.from_text(json.dumps(whole), "What was changed")
    except FileProblem as problem:
        raise DriveProblem(f"The change was not taken over: {problem.reason}") from problem
    return Merged(as_in(drive, wanted, title, whole=True), tuple(conflicts))


ALONE = ("settings", "quantities", "cards")
"""Tables whose records say nothing of others, but for what of a card is among `TOGETHER`."""
TOGETHER = ("kind", "name", "inside", "role", "face")


def _alone(drive: Drive, changes: list[RecordChange], title: str) -> Merged | None:
    """The same where only such records are written over, as most scripts do, by a look at these alone; None where that
    is not so, or where something is to be said of it."""
    part = Drive()
    for change in changes:
        key, before, after = change.key, change.before, change.after
        if change.table not in ALONE or before is None or after is None or key not in drive.table(change.table):
            return None
        if change.table == "cards":
            if not (isinstance(before, dict) and isinstance(after, dict)):
                return None
            if any(after.get(n) != before.get(n) for n in TOGETHER) or after.get("inside") or after.get("face"):
                return None
        part.table(change.table)[key] = drive.table(change.table)[key]
    records = records_of(part)
    if any(records[change.table][change.key] != change.before for change in changes):
        return None  # it is as wanted already, or was changed meanwhile
    for change in changes:
        records[change.table][change.key] = change.after
    whole = {"format": file.FORMAT, "version": file.VERSION, "wires": [], **{t: records[t] for t in ALONE}}
    try:
        wanted = file.from_text(json.dumps(whole), "What was changed")
    except FileProblem:
        return None
    made = [changed(drive, each.table, each.key, wanted.table(each.table)[each.key]) for each in changes]
    return Merged(Command(title, tuple(each for each in made if each.before != each.after)), ())


def wires_between(records: Records) -> list[Any]:
    """Wires whose cards are there: one may have gone meanwhile."""
    cards = records["cards"]

    def there(ends: object) -> bool:
        return not isinstance(ends, list) or all(str(end).partition(".")[0] in cards for end in ends[:2])

    return [ends for ends in records["wires"].values() if there(ends)]


def named(change: RecordChange) -> str:
    """What a change is of, for a sentence."""
    what = {"cards": "The card", "quantities": "The quantity", "wires": "The wire", "settings": "The setting"}
    return f"{what.get(change.table, 'What is called')} {shorten(change.key, 40)}"

"""A duty: what a drive does over minutes or hours, as stretches of steady operation that follow each other.

Types by name are those of IEC 60034-1, 4.2 (from memory): S1 continuous, S2 for a time from cold, S3 with rests, S4
with starts too, S5 with electric braking too, S6 with times of no load, S7 with braking and starts and without rest.
In S3 and S6 starts are taken to warm nothing, as the standard has it; in S4, S5 and S7 they count, as in any table,
which is what S8, with its several loads and speeds, is given by."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

from pendel.core.catalogue.card_names import names_of
from pendel.core.drive.document import Drive
from pendel.core.drive.duties import STEADY, DutyPlan
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names

MOST_STRETCHES = 20_000


@dataclass(frozen=True)
class Stretch:
    """Steady operation for a ``duration`` (s) with these texts for the duty's targets."""

    duration: float
    texts: tuple[str, ...]


@dataclass(frozen=True)
class Duty:
    """``targets`` are named as of `pendel.core.check.targets`. Where it is ``repeated``, its last stretch is followed
    by the first again. With ``changes`` the heat of what the drive does from one stretch to the next counts: starts,
    brakes, and whatever lasts until it has settled."""

    targets: tuple[str, ...]
    stretches: tuple[Stretch, ...]
    repeated: bool = True
    name: str = ""
    changes: bool = True

    @property
    def duration(self) -> float:
        """s, of once through."""
        return sum(s.duration for s in self.stretches)


def seconds_of(text: str, names: Names, where: str) -> float:
    """A time above zero. Raises `DriveProblem`."""
    try:
        value = value_in_field(text, "s", names)
    except PendelError as problem:
        raise DriveProblem(f"{where}: {problem}") from problem
    if not 0 < value < math.inf:
        raise DriveProblem(f"{where}: “{text}” is no time above 0. Enter one such as 240 s or 4 min.")
    return value


def table(
    targets: Sequence[str],
    rows: Sequence[Sequence[str]],
    names: Names,
    *,
    repeated: bool = True,
    name: str = "",
    changes: bool = True,
) -> Duty:
    """From rows of a time and a text for each target.

    Raises
    ------
    DriveProblem
        where there is no row, too many, or one that has not a time above zero and a text for each target.
    """
    if not targets:
        raise DriveProblem("The duty names nothing that changes. Choose what is set, such as the torque that is asked.")
    if not rows:
        raise DriveProblem("The duty has no stretch. Add one: how long, and with which value.")
    if len(rows) > MOST_STRETCHES:
        raise DriveProblem(f"The duty has {len(rows)} stretches; up to {MOST_STRETCHES} are possible. Join some.")
    stretches = []
    for number, row in enumerate(rows, 1):
        where = f"Stretch {number} of the duty"
        if len(row) != 1 + len(targets) or not all(text.strip() for text in row):
            raise DriveProblem(f"{where} needs a time and a value for each of {', '.join(targets)}. Fill it in.")
        stretches.append(Stretch(seconds_of(row[0], names, where), tuple(text.strip() for text in row[1:])))
    return Duty(tuple(targets), tuple(stretches), repeated, name, changes)


def duty_of_plan(drive: Drive, plan: DutyPlan, name: str) -> Duty:
    """A duty that a drive keeps. Raises `DriveProblem`."""
    names = names_of(drive)
    return table(plan.targets, plan.rows, names, repeated=plan.rounds == STEADY, name=name, changes=plan.changes)


TYPES = {
    "S1": "continuous",
    "S2": "for a time, from cold",
    "S3": "with rests",
    "S4": "with rests and starts",
    "S5": "with rests, starts and electric braking",
    "S6": "with times of no load",
    "S7": "with electric braking and starts, without rest",
}
"""That are said by a load, a time and a share of it."""
WITH_CHANGES = ("S4", "S5", "S7")
"""Those in which starting and braking count."""


def of_type(kind: str, target: str, *, load: str, rest: str, time: float, share: float = 1.0) -> Duty:
    """A duty type by its name.

    Parameters
    ----------
    load, rest
        texts of the target under load and otherwise; of S7 the other load or speed, such as the other direction.
    time
        of S1 and S2 how long (s), of the others the period.
    share
        of the period under load; IEC 60034-1 takes 10 min and 15, 25, 40 or 60 %.

    Raises
    ------
    DriveProblem
        for another name, a time that is none, or a share that is not between 0 and 1.
    """
    if kind not in TYPES:
        known = ", ".join(TYPES)
        raise DriveProblem(f"There is no duty type “{kind}” here. Known are {known}; others go as a table.")
    if not 0 < time < math.inf:
        raise DriveProblem(f"{kind}: {time:g} s is no time above 0. Enter one such as 10 min.")
    if kind in ("S1", "S2"):
        return Duty((target,), (Stretch(time, (load,)),), kind == "S1", kind, changes=False)
    if not 0 < share < 1:
        raise DriveProblem(f"{kind}: a share of {100 * share:g} % of the period leaves no rest. Enter 0 to 100 %.")
    parts = (Stretch(share * time, (load,)), Stretch((1 - share) * time, (rest,)))
    return Duty((target,), parts, True, f"{kind} {100 * share:g} %", changes=kind in WITH_CHANGES)


def from_csv(text: str, names: Names, *, repeated: bool = True) -> Duty:
    """From a table with a head: ``time``, then the targets; plain times are in s. Raises `DriveProblem`."""
    sample = text.lstrip("\ufeff")
    comma = ";" if ";" in sample.partition("\n")[0] else ","
    try:
        read = csv.reader(io.StringIO(sample), delimiter=comma, strict=True)
        rows = [row for row in read if any(map(str.strip, row))]
    except csv.Error as problem:
        raise DriveProblem(f"The table of the duty cannot be read: {problem}.") from problem
    if not rows or rows[0][0].strip().lower() != "time":
        raise DriveProblem("The table of a duty begins with a head: time, and the names of what is set.")
    if comma == ";":
        rows = [rows[0], *([cell.replace(",", ".") for cell in row] for row in rows[1:])]
    return table([cell.strip() for cell in rows[0][1:]], rows[1:], names, repeated=repeated)

"""Series of runs, planned in a drive, from the terminal."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from pendel.core.drive.document import Drive
from pendel.core.drive.plans import WAYS, Plan, Varied
from pendel.core.drive.user_text import known_name
from pendel.core.errors import DriveProblem
from pendel.core.series.points import whole_number
from pendel.core.series.running import Going, State, in_threads, state_of
from pendel.core.series.tables import RowTable, in_unit, shares

PASSING = "series"
"""Name of one that is given whole and not planned in the drive."""


@dataclass(frozen=True)
class Column:
    """A figure over all rows, in a unit."""

    measure: str
    unit: str
    least: float
    mean: float
    largest: float


@dataclass(frozen=True)
class SeriesReport:
    """A series as far as it was run."""

    name: str
    count: int
    done: int
    failed: int
    columns: tuple[Column, ...]
    table: RowTable

    def save(self, path: Path) -> None:
        """Write its rows. Raises `FileProblem`."""
        self.table.save(path)


@dataclass(frozen=True)
class Planned:
    """A series of a drive, and how far it is."""

    name: str
    state: State


def usable_cores() -> int:
    return len(os.sched_getaffinity(0))


def run_series(
    drive: Drive,
    name: str | None = None,
    cores: str | None = None,
    anew: bool = False,
    vary: Sequence[str] = (),
    figures: Sequence[str] = (),
    combined: str | None = None,
    count: str | None = None,
    *,
    folder: Path | None = None,
    told: Callable[[int, int, int], None] = lambda done, failed, count: None,
) -> SeriesReport | list[Planned]:
    """Run all rows of a series that are not there yet; without a name and without anything that varies, list the series
    of the drive.

    Parameters
    ----------
    vary
        ``NAME=VALUE, VALUE …`` or ``NAME=WAY: FROM, TO, COUNT`` for a series that is not planned in the drive.
    folder
        where its rows are kept; a temporary one without it.
    told
        is given how many rows are there, how many of them failed, and how many there will be.

    Raises
    ------
    DriveProblem, DriveHasFindings, FileProblem
    """
    if not (name or vary):
        return listed(drive, folder)
    threads = whole_number("a number of cores", cores, 1, 1024) if cores else usable_cores()
    if vary:
        plan = Plan(tuple(map(varied_from, vary)), measures=tuple(figures))
        plan = replace(plan, combined=combined or plan.combined, count=count or plan.count)
    else:
        known_name("series", name or "", drive.plans, drive.title)
        plan = drive.plans[name or ""]
        plan = replace(plan, measures=tuple(figures)) if figures else plan
    with tempfile.TemporaryDirectory(prefix="pendel-series-") as temporary:
        going = Going(folder if folder is not None and name else Path(temporary), name or PASSING, drive, plan)
        return _run(going, threads, anew, told)


def _run(going: Going, threads: int, anew: bool, told: Callable[[int, int, int], None]) -> SeriesReport:
    store = going.store()
    try:
        state = state_of(store, going.drive, going.plan)
        if state.differs and not anew:
            raise DriveProblem(
                f"The series {going.name} has {state.done} of {state.count} rows, but {state.differs}. Start it anew "
                "(--anew), or undo the change to go on."
            )
        last = 0.0
        done, failed = (0, 0) if anew else (state.done, state.failed)
        count = state.count
        for row in going.rows(in_threads(threads), anew=anew):
            done, failed = done + 1, failed + (row.outcome != "done")
            if not count or anew:
                count, anew = store.kept().count, False
            if time.monotonic() - last > 0.2:
                last = time.monotonic()
                told(done, failed, count)
        kept = store.kept()
        rows = tuple(store.rows(store.numbers().tolist()))
        return report_of(going.name, kept.plan, kept.count, RowTable(kept.plan, rows))
    finally:
        store.close()


def report_of(name: str, plan: Plan, count: int, table: RowTable) -> SeriesReport:
    columns = []
    for k, (measure, unit) in enumerate(zip(plan.measures, table.units)):
        least, mean, largest = shares([row.figures[k] for row in table.rows])
        columns.append(Column(measure, unit, in_unit(least, unit), in_unit(mean, unit), in_unit(largest, unit)))
    failed = sum(row.outcome != "done" for row in table.rows)
    return SeriesReport(name, count, len(table.rows), failed, tuple(columns), table)


def listed(drive: Drive, folder: Path | None) -> list[Planned]:
    """The series that a drive plans."""
    found = []
    for name, plan in drive.plans.items():
        state = State()
        if folder is not None and folder.is_dir():
            store = Going(folder, name, drive, plan).store()
            try:
                state = state_of(store, drive, plan)
            finally:
                store.close()
        found.append(Planned(name, state))
    return found


def varied_from(text: str) -> Varied:
    """``R_load=3, 4, 5 ohm`` or ``R_load=even: 3 ohm, 12 ohm, 10``. Raises `DriveProblem`."""
    target, equals, values = text.partition("=")
    if not equals or not target.strip() or not values.strip():
        raise DriveProblem(f"“{text}” is not NAME=VALUES, such as R_load=30 ohm, 45 ohm.")
    way, colon, rest = values.partition(":")
    named = bool(colon) and way.strip() in WAYS
    texts = (part.strip() for part in (rest if named else values).split(","))
    return Varied(target.strip(), way.strip() if named else "list", tuple(texts))

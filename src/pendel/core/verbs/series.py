"""Series of runs, planned in a drive, from the terminal."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from pendel.core.cores import usable_cores
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import WAYS, Plan, Varied
from pendel.core.drive.user_text import known_name
from pendel.core.errors import DriveProblem
from pendel.core.series.goals import EQUAL, LARGEST, LEAST_BUDGET, MOST_BUDGET, SMALLEST, Goal, Search
from pendel.core.series.points import whole_number
from pendel.core.series.rows import DONE, Row, Series, run_rows
from pendel.core.series.running import Going, Runs, State, in_threads, state_of
from pendel.core.series.tables import RowTable, in_unit, shares, table_of

PASSING = "series"
"""Name of one that is given whole and not planned in the drive."""


@dataclass(frozen=True)
class Column:
    """A figure over all rows, in a unit."""

    measure: str
    unit: str
    minimum: float
    mean: float
    maximum: float


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
class SearchReport:
    """What was found for a goal: what is said of it, the best values as texts and the figures of their run."""

    words: str
    keeps_limits: bool
    values: dict[str, str]
    columns: tuple[Column, ...]
    table: RowTable

    def save(self, path: Path) -> None:
        """Write all trials. Raises `FileProblem`."""
        self.table.save(path)


@dataclass(frozen=True)
class Planned:
    """A series of a drive, and how far it is."""

    name: str
    state: State


def run_series(
    drive: Drive,
    name: str | None = None,
    cores: str | None = None,
    anew: bool = False,
    vary: Sequence[str] = (),
    figures: Sequence[str] = (),
    combined: str | None = None,
    count: str | None = None,
    smallest: str | None = None,
    largest: str | None = None,
    equal: str | None = None,
    limits: str | None = None,
    trials: str | None = None,
    workers: str | None = None,
    traces: Sequence[str] = (),
    *,
    folder: Path | None = None,
    progress: Callable[[int, int, int], None] = lambda done, failed, count: None,
) -> SeriesReport | SearchReport | list[Planned]:
    """Run all rows of a series that are not there yet; without a name and without anything that varies, list the series
    of the drive.

    Parameters
    ----------
    vary
        ``NAME=VALUE, VALUE …`` or ``NAME=WAY: FROM, TO, COUNT`` for a series that is not planned in the drive.
    smallest, largest, equal
        a figure that is searched for, the last as ``FIGURE=VALUE``, by what varies, while ``limits`` are kept, in so
        many ``trials``.
    workers
        where rows run instead of here: ``tcp://host:port`` of a Dask scheduler, or ``local:N``.
    traces
        signals of which something to draw is kept with each row; those of the plan without it.
    folder
        where its rows are kept; a temporary one without it.
    progress
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
    plan = replace(plan, traces=tuple(traces)) if traces else plan
    if goal := goal_of(smallest, largest, equal, limits, trials):
        if workers:
            raise DriveProblem(
                "A search asks for a few rows at a time, which a cluster does not make faster. Run it here."
            )
        return search(drive, plan, goal, threads, progress)
    with tempfile.TemporaryDirectory(prefix="pendel-series-") as temporary:
        going = Going(folder if folder is not None and name else Path(temporary), name or PASSING, drive, plan)
        if not workers:
            return _run(going, in_threads(threads), anew, progress)
        from pendel.core.series.cluster import cluster

        with cluster(workers) as runs:
            return _run(going, runs, anew, progress)


def goal_of(
    smallest: str | None, largest: str | None, equal: str | None, limits: str | None, trials: str | None
) -> Goal | None:
    """Raises `DriveProblem` for more goals than one, or limits without one."""
    given = [(sense, text) for sense, text in ((SMALLEST, smallest), (LARGEST, largest), (EQUAL, equal)) if text]
    if not given and (limits or trials):
        raise DriveProblem("Limits and trials belong to a goal. Give a smallest, largest or equal figure.")
    if len(given) > 1:
        raise DriveProblem("A search has one goal. Give a smallest, a largest or an equal figure.")
    if not given:
        return None
    sense, text = given[0]
    figure, _, target = text.partition("=")
    budget = whole_number("a number of trials", trials, LEAST_BUDGET, MOST_BUDGET) if trials else Goal.budget
    return Goal(sense, figure.strip(), limits or "", target.strip(), budget)


def search(
    drive: Drive,
    plan: Plan,
    goal: Goal,
    threads: int,
    progress: Callable[[int, int, int], None] = lambda done, failed, count: None,
) -> SearchReport:
    """Search values for a goal. Raises `DriveProblem`, `DriveHasFindings` and `ExpressionProblem`."""
    searching = Search(drive, plan, goal)
    series = Series(drive, searching.plan)

    def run(numbers: Sequence[int], texts: Sequence[Sequence[str]]) -> list[Row]:
        return list(run_rows(series, numbers, threads, texts=texts))

    found = searching.find(
        run, lambda row: progress(len(searching.rows), sum(r.outcome != DONE for r in searching.rows), goal.budget)
    )
    table, best = RowTable(searching.plan, tuple(searching.rows)), found.best
    columns: tuple[Column, ...] = ()
    if best is not None:
        columns = tuple(
            Column(text, unit, *(3 * (in_unit(value, unit),)))
            for text, unit, value in zip(searching.plan.measures, table.units, best.figures)
        )
    values = dict(zip((v.target for v in searching.plan.varied), best.texts)) if best is not None else {}
    return SearchReport(found.words, found.keeps_limits and best is not None, values, columns, table)


def _run(going: Going, runs: Runs, anew: bool, progress: Callable[[int, int, int], None]) -> SeriesReport:
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
        for row in going.rows(runs, anew=anew):
            done, failed = done + 1, failed + (row.outcome != "done")
            if not count or anew:
                count, anew = store.kept().count, False
            if time.monotonic() - last > 0.2:
                last = time.monotonic()
                progress(done, failed, count)
        kept = store.kept()
        return report_of(going.name, kept.plan, kept.count, table_of(store))
    finally:
        store.close()


def report_of(name: str, plan: Plan, count: int, table: RowTable) -> SeriesReport:
    columns = []
    for k, (measure, unit) in enumerate(zip(plan.measures, table.units)):
        minimum, mean, maximum = shares([row.figures[k] for row in table.rows])
        columns.append(Column(measure, unit, in_unit(minimum, unit), in_unit(mean, unit), in_unit(maximum, unit)))
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

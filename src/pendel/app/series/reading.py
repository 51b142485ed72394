"""Rows of a series as they are kept, and what is said of them, for the page that shows them."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from pendel.app.series.table import cell_text
from pendel.core.cores import usable_cores
from pendel.core.drive.document import Drive
from pendel.core.drive.file import from_text
from pendel.core.drive.plans import Plan
from pendel.core.errors import FileProblem
from pendel.core.runs.record.kept import KeptRun
from pendel.core.series.gathered import Gathered
from pendel.core.series.rows import Row
from pendel.core.series.running import State, adopt, state_of
from pendel.core.series.store import RowStore, store_path
from pendel.core.series.traces import RowTrace
from pendel.core.wording import megabytes

CROWDED = "Trials of a search crowd where it looks, so they do not tell this. A series does."
NO_PLAN = "What if? A series runs the drive many times with values that vary, and reports figures of each run."
NO_ROWS = (
    "Say on the left what varies and which figures to report, then run the series. Rows come here as they are done."
)
AT_ONCE = 5000
"""Rows that are read at a time."""


@dataclass(frozen=True)
class ReadSeries:
    """The rows of a series as they are kept, and how far it is."""

    name: str
    state: State
    gathered: Gathered | None = None
    drive: Drive | None = None


def read_series(folder: Path, name: str, drive: Drive, plan: Plan) -> ReadSeries:
    """Raises `FileProblem` and `DriveProblem`."""
    adopt(folder, name, plan, drive.plans)
    path = store_path(folder, name)
    if not path.is_file():
        return ReadSeries(name, State())
    store = RowStore(path)
    try:
        state = state_of(store, drive, plan)
        if not state.begun:
            return ReadSeries(name, state)
        kept = store.kept()
        of = from_text(kept.drive_text, "The drive of the series")
        gathered = Gathered(of, kept.plan)
        numbers = store.numbers()
        for first in range(0, len(numbers), AT_ONCE):
            gathered.add(store.rows(numbers[first : first + AT_ONCE].tolist()))
        return ReadSeries(name, state, gathered, of)
    finally:
        store.close()


def varied_words(gathered: Gathered, row: Row) -> str:
    """What varied in a row, by name."""
    return ", ".join(
        f"{head.name} {cell_text(head, gathered.value(k, text))} {head.unit}".rstrip()
        for k, (head, text) in enumerate(zip(gathered.heads, row.texts))
    )


def bring_along(before: Path, now: Path) -> None:
    """Copy the series of a drive that was saved elsewhere; what is there stays. Raises `FileProblem`."""
    if before == now or not before.is_dir() or now.exists():
        return
    try:
        shutil.copytree(before, now)
    except (OSError, shutil.Error) as problem:
        raise FileProblem(str(now), f"the series cannot be brought there. They are in {before}.") from problem


def rows_kept(path: Path, numbers: Sequence[int]) -> list[Row]:
    """Rows by their numbers. Raises `FileProblem`."""
    store = RowStore(path)
    try:
        return store.rows(numbers)
    finally:
        store.close()


def traces_kept(path: Path, signal: str, numbers: Sequence[int]) -> list[RowTrace]:
    """Kept traces of a signal by the numbers of rows. Raises `FileProblem`."""
    store = RowStore(path)
    try:
        return list(store.traces(signal, numbers))
    finally:
        store.close()


def expected_words(run: KeptRun | None, plan: Plan | None, count: str) -> str:
    """How long so many runs will take, by the last run, and how much disk; nothing where there was none."""
    if run is None or plan is None or not run.seconds > 0:
        return ""
    runs = int(count.partition(" ")[0])
    size = RowStore.expected_bytes(plan, runs, run.drive_text)
    return f", about {duration(run.seconds * runs / usable_cores())} by the last run and {megabytes(size)} of disk"


def duration(seconds: float) -> str:
    """In words that are read at a glance."""
    if seconds < 90:
        return f"{seconds:.2g} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"

"""Rows of a series in an SQLite file: crash-safe, and read while it is written.

One file a plan, beside the drive (``NAME.series/PLAN.rows``): a table of rows with a column for each thing that varies
and each figure, the units of these, and the drive's text once. A row that is in it is done; whatever ends the program
between two batches, no row of them is lost and none is done twice.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import math
import os
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pendel.core.drive.document import slug
from pendel.core.drive.plans import Plan, plan_from, plan_record
from pendel.core.errors import FileProblem
from pendel.core.series.rows import DONE, Row
from pendel.core.series.traces import MOST_POINTS, RowTrace, expected_bytes, read, written

APPLICATION, VERSION = 0x50447273, 1
"""Of the file, as SQLite keeps them in its head."""
AT_ONCE = 500
"""Rows that are asked for at a time."""
TRACES = "CREATE TABLE IF NOT EXISTS traces (number INTEGER, signal TEXT, points BLOB, PRIMARY KEY (number, signal))"
PATIENCE = 5.0
"""s that one waits for another that writes."""


def store_path(folder: Path, name: str) -> Path:
    """Where the rows of a plan lie; names that make the same id are told apart by their hash."""
    plain = slug(name)
    mark = "" if plain == name else "-" + hashlib.sha256(name.encode()).hexdigest()[:8]
    return folder / f"{plain}{mark}.rows"


def plan_text(plan: Plan) -> str:
    """As a store has it."""
    return json.dumps(plan_record(plan), ensure_ascii=False)


@dataclass(frozen=True)
class Kept:
    """What a store was begun with."""

    drive_text: str
    plan: Plan
    count: int
    begun: str


ROW_BYTES, TEXT_BYTES, NUMBER_BYTES, EMPTY_BYTES = 34, 16, 10, 24_000
"""Of a row, a text and a number in it, and of a store without rows."""


class RowStore:
    """Rows of one series. One thread at a time may use it.

    Raises
    ------
    FileProblem
        where the file is damaged, from a newer version, or cannot be written.
    """

    def __init__(self, path: Path):
        self.path = path
        try:
            self._open = sqlite3.connect(path, timeout=PATIENCE, check_same_thread=False, isolation_level=None)
            with self._said():
                self._check()
        except FileProblem:
            self.close()
            raise
        except sqlite3.Error as problem:
            raise FileProblem(str(path), f"the rows of a series cannot be kept here: {problem}.") from problem

    def _check(self) -> None:
        known, version = self._pragma("application_id"), self._pragma("user_version")
        if known == 0 and version == 0 and not self._open.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
            return  # new
        if known != APPLICATION:
            raise FileProblem(str(self.path), "it holds no rows of a series. Choose another file, or delete it.")
        if version > VERSION:
            raise FileProblem(str(self.path), "it was written by a newer Pendel. Update Pendel to read it.")

    def _pragma(self, name: str) -> int:
        return int(self._open.execute(f"PRAGMA {name}").fetchone()[0])

    @contextlib.contextmanager
    def _said(self) -> Iterator[None]:
        """What SQLite has against it, in a sentence."""
        try:
            yield
        except sqlite3.Error as problem:
            words = str(problem)
            if "full" in words:
                remedy = "Make room on the disk and go on; all rows up to here are kept."
            elif "locked" in words:
                remedy = "Another program is at it. Try again when it is done."
            else:
                remedy = "If it is damaged, start the series anew."
            raise FileProblem(str(self.path), f"the rows cannot be read or written ({words}). {remedy}") from problem

    @property
    def is_begun(self) -> bool:
        with self._said():
            return bool(self._open.execute("SELECT count(*) FROM sqlite_master WHERE name='series'").fetchone()[0])

    def begin(self, drive_text: str, plan: Plan, count: int, begun: str) -> None:
        """Begin anew, with no row; what the file held before goes."""
        columns = [f"t{k} TEXT" for k in range(len(plan.varied))]
        columns += [f"m{k} REAL" for k in range(len(plan.measures))]
        with self._said():
            self._open.execute("PRAGMA journal_mode=WAL")
            self._open.execute("PRAGMA synchronous=NORMAL")
            self._open.execute("BEGIN IMMEDIATE")
            for table in ("series", "units", "rows", "lacking", "traces"):
                self._open.execute(f"DROP TABLE IF EXISTS {table}")
            self._open.execute("CREATE TABLE lacking (number INTEGER PRIMARY KEY)")
            self._open.execute("CREATE TABLE series (drive TEXT, plan TEXT, count INTEGER, begun TEXT)")
            self._open.execute("CREATE TABLE units (place INTEGER PRIMARY KEY, unit TEXT)")
            self._make_rows("rows", columns)
            self._open.execute(TRACES)
            self._open.execute("INSERT INTO series VALUES (?, ?, ?, ?)", (drive_text, plan_text(plan), count, begun))
            self._open.execute(f"PRAGMA application_id={APPLICATION}")
            self._open.execute(f"PRAGMA user_version={VERSION}")
            self._open.execute("COMMIT")

    def take_figures(self, plan: Plan) -> None:
        """Report other figures, and keep other traces, of the same rows. A row keeps those that it has; one that is new
        it lacks until it is added again. All of this, or where it fails nothing. Raises `FileProblem`."""
        known = self.kept().plan
        before, more = known.measures, set(plan.traces) - set(known.traces)
        places = [before.index(text) if text in before else None for text in plan.measures]
        texts = "".join(f", t{k}" for k in range(len(plan.varied)))
        taken = "".join(f", {'NULL' if place is None else f'm{place}'} AS m{k}" for k, place in enumerate(places))
        units = self.units()
        of_new = [(k, units[place]) for k, place in enumerate(places) if place in units]
        with self._said():
            self._open.execute("BEGIN IMMEDIATE")
            try:
                columns = [f"t{k} TEXT" for k in range(len(plan.varied))]
                columns += [f"m{k} REAL" for k in range(len(places))]
                self._make_rows("other", columns)
                self._open.execute(
                    f"INSERT INTO other SELECT number, outcome, reason, seed, seconds{texts}{taken} FROM rows"
                )
                self._open.execute("DROP TABLE rows")
                self._open.execute("ALTER TABLE other RENAME TO rows")
                self._open.execute("CREATE TABLE IF NOT EXISTS lacking (number INTEGER PRIMARY KEY)")
                self._open.execute(TRACES)
                gone = [(name,) for name in known.traces if name not in plan.traces]
                self._open.executemany("DELETE FROM traces WHERE signal=?", gone)
                if None in places or more:
                    self._open.execute("INSERT OR IGNORE INTO lacking SELECT number FROM rows")
                self._open.execute("DELETE FROM units")
                self._open.executemany("INSERT INTO units VALUES (?, ?)", of_new)
                self._open.execute("UPDATE series SET plan=?", (plan_text(plan),))
                self._open.execute("COMMIT")
            except sqlite3.Error:
                with contextlib.suppress(sqlite3.Error):
                    self._open.execute("ROLLBACK")
                raise

    @staticmethod
    def expected_bytes(plan: Plan, count: int, drive_text: str) -> int:
        """Of a store of so many rows, roughly: what SQLite's record format takes, and pages that are not full."""
        row = ROW_BYTES + TEXT_BYTES * len(plan.varied) + NUMBER_BYTES * len(plan.measures)
        return EMPTY_BYTES + len(drive_text.encode()) + row * count + expected_bytes(len(plan.traces), count)

    def _make_rows(self, name: str, columns: Sequence[str]) -> None:
        self._open.execute(
            f"CREATE TABLE {name} (number INTEGER PRIMARY KEY, outcome TEXT, reason TEXT, seed INTEGER, seconds REAL"
            f"{''.join(', ' + column for column in columns)})"
        )

    def kept(self) -> Kept:
        """What it was begun with. Raises `FileProblem`."""
        with self._said():
            drive, plan, count, begun = self._open.execute("SELECT drive, plan, count, begun FROM series").fetchone()
        try:
            return Kept(str(drive), plan_from(json.loads(plan)), int(count), str(begun))
        except (AssertionError, KeyError, TypeError, ValueError) as problem:
            raise FileProblem(str(self.path), "its plan cannot be read. Start the series anew.") from problem

    def add(self, rows: Sequence[Row]) -> None:
        """Keep rows with their traces, all of them or, where it fails, none. One that is there already stays, but where
        it lacks a figure."""
        if not rows:
            return
        signals = self.kept().plan.traces if any(row.traces for row in rows) else ()
        try:
            traces = [(r.number, name, written(t)) for r in rows for name, t in zip(signals, r.traces)]
        except ValueError as problem:
            raise FileProblem(str(self.path), f"a row came with {problem}. Begin the series again.") from problem
        places = ", ".join("?" * (5 + len(rows[0].texts) + len(rows[0].figures)))
        values = [
            (
                r.number,
                r.outcome,
                r.reason,
                r.seed,
                r.seconds,
                *r.texts,
                *(None if math.isnan(f) else f for f in r.figures),
            )
            for r in rows
        ]
        units = {k: unit for row in rows for k, unit in enumerate(row.units) if unit}
        with self._said():
            self._open.execute("BEGIN IMMEDIATE")
            try:
                if self._has_lacking():
                    numbers = [(row.number,) for row in rows]
                    known = "number=? AND number IN (SELECT number FROM lacking)"
                    self._open.executemany(f"DELETE FROM rows WHERE {known}", numbers)
                    self._open.executemany("DELETE FROM lacking WHERE number=?", numbers)
                self._open.executemany(f"INSERT OR IGNORE INTO rows VALUES ({places})", values)
                self._open.executemany("INSERT OR REPLACE INTO units VALUES (?, ?)", list(units.items()))
                if traces:  # stores of earlier versions have no place for any
                    self._open.executemany("INSERT OR REPLACE INTO traces VALUES (?, ?, ?)", traces)
                self._open.execute("COMMIT")
            except sqlite3.Error:
                with contextlib.suppress(sqlite3.Error):
                    self._open.execute("ROLLBACK")
                raise

    def _has_lacking(self) -> bool:
        """Whether rows lack figures; stores of earlier versions know of none."""
        known = self._open.execute("SELECT count(*) FROM sqlite_master WHERE name='lacking'").fetchone()[0]
        return bool(known and self._open.execute("SELECT count(*) FROM lacking").fetchone()[0])

    def numbers(self, *, whole: bool = False) -> np.ndarray:
        """Of the rows that are there, ascending; ``whole`` leaves those out that lack a figure."""
        with self._said():
            but = " WHERE number NOT IN (SELECT number FROM lacking)" if whole and self._has_lacking() else ""
            found = self._open.execute(f"SELECT number FROM rows{but} ORDER BY number")
            return np.array([n for (n,) in found], dtype=np.int64)

    def counts(self) -> tuple[int, int]:
        """Rows that are there and lack nothing, and those of them that could not run."""
        with self._said():
            but = " WHERE number NOT IN (SELECT number FROM lacking)" if self._has_lacking() else ""
            whole, failed = self._open.execute(
                f"SELECT count(*), coalesce(sum(outcome <> ?), 0) FROM rows{but}", (DONE,)
            ).fetchone()
        return int(whole), int(failed)

    def units(self) -> dict[int, str]:
        """In which figures are shown, by the place of their column."""
        with self._said():
            return {int(place): str(unit) for place, unit in self._open.execute("SELECT place, unit FROM units")}

    def figures(self, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Numbers of all rows and their figures, shape (rows, ``count``), not-a-number where there is none."""
        names = "".join(f", m{k}" for k in range(count))
        with self._said():
            found = self._open.execute(f"SELECT number{names} FROM rows ORDER BY number").fetchall()
        whole = np.array(found, dtype=float).reshape(len(found), 1 + count)
        return whole[:, 0].astype(np.int64), whole[:, 1:]

    def rows(self, numbers: Sequence[int]) -> list[Row]:
        """Rows by their numbers, in that order; those that are not there are left out."""
        plan, units = self.kept().plan, self.units()
        texts, figures = len(plan.varied), len(plan.measures)
        found = {}
        with self._said():
            for first in range(0, len(numbers), AT_ONCE):
                asked = [int(number) for number in numbers[first : first + AT_ONCE]]
                places = ", ".join("?" * len(asked))
                for record in self._open.execute(f"SELECT * FROM rows WHERE number IN ({places})", asked):
                    found[record[0]] = record
        shown = tuple(units.get(k, "") for k in range(figures))
        return [
            Row(
                r[0],
                tuple(map(str, r[5 : 5 + texts])),
                str(r[1]),
                str(r[2]),
                int(r[3]),
                float(r[4]),
                tuple(math.nan if v is None else float(v) for v in r[5 + texts :]),
                shown,
            )
            for r in (found[int(number)] for number in numbers if int(number) in found)
        ]

    def traces(self, signal: str, numbers: Sequence[int]) -> Iterator[RowTrace]:
        """Kept traces of a signal in rows, in that order; rows that have none, or only an empty one, are left out.
        Raises `FileProblem`."""
        with self._said():
            if not self._open.execute("SELECT count(*) FROM sqlite_master WHERE name='traces'").fetchone()[0]:
                return
        for number in numbers:
            with self._said():
                asked = "number=? AND signal=? AND length(points) <= ?", (int(number), signal, 16 * MOST_POINTS)
                found = self._open.execute(f"SELECT points FROM traces WHERE {asked[0]}", asked[1]).fetchone()
            try:
                trace = read(int(number), found[0]) if found is not None else None
            except (ValueError, TypeError) as problem:
                raise FileProblem(str(self.path), "a trace in it cannot be read. Begin the series again.") from problem
            if trace is not None and len(trace.t):
                yield trace

    def close(self) -> None:
        with contextlib.suppress(sqlite3.Error, AttributeError):
            self._open.close()


@contextlib.contextmanager
def being_run(path: Path) -> Iterator[None]:
    """Hold a series while rows of it are run.

    Raises
    ------
    FileProblem
        where another program does.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        held = os.open(path.with_suffix(".lock"), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    except OSError as problem:
        raise FileProblem(str(path), f"the rows cannot be kept here: {problem.strerror}.") from problem
    try:
        try:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as problem:
            raise FileProblem(
                str(path), "another window or program is running this series. Wait for it, or stop it there."
            ) from problem
        yield
    finally:
        os.close(held)

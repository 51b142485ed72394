"""Rows that are run: some of a series, in threads that share one build."""

from __future__ import annotations

import ctypes
import math
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field

import numpy as np

from pendel.core.catalogue.card_names import names_of
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import Plan
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveHasFindings, DriveProblem, PendelError, Stopped
from pendel.core.loops.regulators.find import find_loops
from pendel.core.plant.program import Doubles, Outcome, Structure
from pendel.core.plant.rows import evaluate_signals, in_one_thread, lean_library
from pendel.core.plant.simulator import Watch
from pendel.core.runs.preparing.simulate import Prepared, add_remarks, prepare, recorded_run
from pendel.core.runs.record.evaluating import Here
from pendel.core.series.columns import (
    Column,
    ColumnValue,
    evaluate_columns,
    read_column,
    signals_in,
    unknown_signal,
)
from pendel.core.series.following import Following
from pendel.core.series.loop_figures import MARGINS, LoopsAtRest
from pendel.core.series.points import Points, points_of, seed_of_row
from pendel.core.series.traces import kept_of
from pendel.core.trust import refuse_strange_c

DONE, FAILED = "done", "failed"


@dataclass(frozen=True)
class Row:
    """A row that was run, or could not be: its number, what varied, figures by column (SI; not-a-number where there is
    none), and why not."""

    number: int
    texts: tuple[str, ...]
    outcome: str
    reason: str
    seed: int
    seconds: float
    figures: tuple[float, ...]
    units: tuple[str, ...] = ()
    """In which figures are shown."""
    traces: tuple[Doubles, ...] = field(default=(), compare=False)
    """Of a plan that keeps some, where it was run: see `pendel.core.series.traces`."""


@dataclass
class Series:
    """A plan for a drive, ready to run rows of. Raises `DriveProblem`, `DriveHasFindings` and `SyntaxProblem` where it
    cannot."""

    drive: Drive
    plan: Plan
    points: Points = field(init=False)
    columns: tuple[Column, ...] = field(init=False)

    def __post_init__(self) -> None:
        refuse_strange_c(self.drive, "allow it")
        self.points = points_of(self.drive, self.plan)
        self.columns = tuple(map(read_column, self.plan.measures))
        functions = {taken.function for column in self.columns for taken in column.taken}
        self.needs_remarks = "remarks" in functions
        prepared = prepare(self.drive)
        self.following = Following(prepared, [axis.target.name for axis in self.points.axes])
        self.evaluator = LeanEvaluator(tuple(dict.fromkeys((*signals_in(self.columns), *self.plan.traces))))
        self.seed_varies = "seed" in self.following.targets
        if not self.following.as_a_whole:  # else signals may be there in some rows only
            known = {*prepared.structure.signals, *prepared.deck.signals}
            loops = [loop.key for loop in find_loops(self.drive)] if functions & {*MARGINS} else []
            for column in self.columns:
                if sentence := unknown_signal(column, known, self.drive.cards, loops):
                    raise DriveProblem(sentence)
            for name in self.plan.traces:
                if name not in known:
                    near = near_words(name, known)
                    raise DriveProblem(f"No trace of {name} can be kept: no signal is called so.{near}")

    @property
    def base(self) -> Prepared:
        return self.following.prepared

    def row_drive(self, number: int, texts: Sequence[str] = ()) -> Drive:
        """The drive of a row, with its own seed; ``texts`` where they are not those of the plan's points."""
        texts = texts or self.points.rows(number, number + 1)[0]
        drive = self.following.drive_of(texts)
        if not self.seed_varies:
            drive.settings["seed"] = str(seed_of_row(self.points.seed, number))
        return drive

    def run(self, number: int, watch: Watch | None = None, texts: Sequence[str] = ()) -> Row:
        """Run a row and tell its figures; never raises for what its values do."""
        texts = tuple(texts) or self.points.rows(number, number + 1)[0]
        begun = time.perf_counter()
        drive = self.row_drive(number, texts)
        seed = int(drive.settings["seed"]) if drive.settings["seed"].isdigit() else 0

        def stopping() -> bool:
            return watch is not None and bool(watch.stop[0])

        def row(
            outcome: str, reason: str, figures: Sequence[ColumnValue] = (), traces: tuple[Doubles, ...] = ()
        ) -> Row:
            values = tuple(each.value for each in figures) or (math.nan,) * len(self.columns)
            units = tuple(each.unit for each in figures) or ("",) * len(self.columns)
            return Row(number, texts, outcome, reason, seed, time.perf_counter() - begun, values, units, traces)

        try:
            with np.errstate(all="ignore"), in_one_thread():
                prepared = self.following.ready(drive)
                run = recorded_run(prepared, watch=watch, drive_text=self.base.text)
                if run.outcome is Outcome.STOPPED:
                    raise RowStopped
                if self.needs_remarks:
                    add_remarks(run, prepared)
                names = names_of(drive)
                run.evaluator = self.evaluator
                figures = evaluate_columns(self.columns, run, names, LoopsAtRest(drive, stopping))
                traces = kept_of(run, self.plan.traces)
        except Stopped as problem:
            raise RowStopped from problem
        except DriveHasFindings as problem:
            return row(FAILED, problem.findings[0].sentence)
        except PendelError as problem:
            return row(FAILED, str(problem))
        if run.message:
            return row(FAILED, run.message, figures, traces)
        whys = dict.fromkeys(f"{c.text}: {each.why}" for c, each in zip(self.columns, figures) if each.why)
        return row(DONE, " ".join(whys), figures, traces)


class LeanEvaluator(Here):
    """Evaluates signals that are told of by code for these alone, which takes a fraction of that for all."""

    def __init__(self, keys: tuple[str, ...]):
        self.keys = keys
        self._known: dict[int, tuple[Structure, ctypes.CDLL]] = {}

    def signals(self, structure: Structure, rows: Doubles, parameters: Doubles, keys: Sequence[str]) -> Doubles:
        wanted = [key for key in self.keys if key in structure.signals]
        lean = self._library(structure, wanted) if wanted and set(keys) <= set(wanted) else None
        return evaluate_signals(structure, rows, parameters, keys, lean)

    def _library(self, structure: Structure, keys: Sequence[str]) -> ctypes.CDLL:
        known = self._known.get(id(structure))
        if known is None or known[0] is not structure:
            known = self._known[id(structure)] = (structure, lean_library(structure, keys))
        return known[1]


class RowStopped(Exception):
    """A row that was stopped on its way is no row."""


def run_rows(
    series: Series,
    numbers: Sequence[int],
    threads: int,
    stopping: Callable[[], bool] = lambda: False,
    texts: Sequence[Sequence[str]] = (),
) -> Iterator[Row]:
    """Rows as they finish, so many at once; fewer where it was asked to stop. A row's figures are the same to the bit
    whatever runs beside it. ``texts`` of each where they are not those of the plan's points."""
    waiting = iter(zip(numbers, texts) if texts else ((number, ()) for number in numbers))
    watches: dict[Future[Row], Watch] = {}
    over = threading.Event()

    def begin() -> None:
        what = next(waiting, None)
        if what is not None and not over.is_set():
            watch = Watch.private()
            watches[pool.submit(series.run, what[0], watch, what[1])] = watch

    with ThreadPoolExecutor(max(1, threads)) as pool:
        try:
            for _ in range(max(1, threads)):
                begin()
            while watches:
                finished, _ = wait(watches, timeout=0.05, return_when=FIRST_COMPLETED)
                if stopping() and not over.is_set():
                    over.set()
                    for watch in watches.values():
                        watch.ask_to_stop()
                for each in finished:
                    del watches[each]
                    begin()
                    if not isinstance(each.exception(), RowStopped):
                        yield each.result()
        finally:
            over.set()
            for watch in watches.values():
                watch.ask_to_stop()


__all__ = ["DONE", "FAILED", "Row", "Series", "run_rows"]

"""Recorded rows looked at again: any signal at them, and rows as traces show them."""

from __future__ import annotations

import ctypes
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from pendel.core.cores import usable_cores
from pendel.core.plant.program import Doubles, Structure
from pendel.core.plant.runtime import Hoists, RunStruct, address, load, pointer, taken, time_loop

MOST_SETS_KEPT, SETS_BYTES = 8192, 64e6
"""Sets of modes whose hoisted values are kept on the way over a record, and the bytes they may take."""


def hoists_for(library: ctypes.CDLL, parameters: Doubles, n_mode: int, n_rows: int) -> Hoists:
    n_hoisted = library.pd_hoisted()
    width = n_mode + n_hoisted
    kept = max(1, min(MOST_SETS_KEPT, n_rows, int(SETS_BYTES / max(8, 8 * width))))
    # Not zeros: a place is written before it is read, and pages that stay untouched cost nothing.
    places, filled = np.empty(kept * width + 1), np.zeros(kept, dtype=np.uint8)
    hoists = Hoists(
        address(library, "pd_hoist"),
        pointer(parameters),
        pointer(places),
        pointer(filled),
        kept,
        n_mode,
        n_hoisted,
        library.pd_looped(),
    )
    hoists.keeps = (parameters, places, filled)
    return hoists


@dataclass(frozen=True, eq=False)
class Picked:
    """How C goes over rows for some of the signals: ``arguments``, with what they point to."""

    arguments: tuple[object, ...]
    keeps: tuple[object, ...]


def picked_at(
    structure: Structure,
    rows: Doubles,
    parameters: Doubles,
    keys: Sequence[str],
    lean: ctypes.CDLL | None = None,
) -> Picked:
    library = load(structure.source)
    pick = np.array([structure.signals.index(k) for k in keys], dtype=np.int32)
    nx, nu, n_mode = structure.row_shape
    hoists = hoists_for(library, parameters, n_mode, len(rows))
    whole = np.zeros(max(1, len(structure.signals)))
    evaluate = address(lean or library, "pd_signals")
    return Picked(
        (
            evaluate,
            pointer(rows),
            len(rows),
            nx,
            nu,
            ctypes.byref(hoists),
            pointer(pick),
            len(pick),
            pointer(whole),
        ),
        (rows, pick, hoists, whole),
    )


SOLVES = "pd_solve_loops("
"""In the text of a plant some of whose equations are solved at each row."""
ROWS_A_THREAD, STEPS_A_THREAD = 16_384, 2_048
"""Rows to evaluate, and steps to refine, from which on a thread pays; a step may be solved again in many parts."""
Part = TypeVar("Part")


_alone = threading.local()


@contextmanager
def in_one_thread() -> Iterator[None]:
    """What is worked out within takes this thread alone: for one of several runs that are looked at beside each
    other."""
    _alone.here = True
    try:
        yield
    finally:
        _alone.here = False


def in_parts(
    structure: Structure, n_rows: int, work: Callable[[int, int], Part], a_thread: int | None = None
) -> list[Part]:
    """``work(begin, end)`` on stretches of rows that follow each other, each in a thread of its own, as many as there
    are cores. All in one where equations are solved at each row: they begin with the solution of the row before."""
    solves = SOLVES in structure.source  # a structure from a file does not say how many there are
    count = (
        1
        if solves or getattr(_alone, "here", False)
        else max(1, min(usable_cores(), n_rows // (a_thread or ROWS_A_THREAD)))
    )
    ends = [n_rows * k // count for k in range(count + 1)]
    if count == 1:
        return [work(0, n_rows)]
    with ThreadPoolExecutor(count) as pool:
        return list(pool.map(work, ends, ends[1:]))


def evaluate_signals(
    structure: Structure, rows: Doubles, parameters: Doubles, keys: Sequence[str], lean: ctypes.CDLL | None = None
) -> Doubles:
    """Chosen signals at every row; shape (rows, len(keys)). ``lean`` is what `lean_library` made for these keys or
    more."""
    rows = np.ascontiguousarray(rows, dtype=float)
    out = np.empty((len(rows), len(keys)))

    def evaluate(begin: int, end: int) -> None:
        picked = picked_at(structure, rows[begin:end], parameters, keys, lean)
        time_loop().pd_evaluate(*picked.arguments, pointer(out[begin:end]))

    in_parts(structure, len(rows), evaluate)
    return out


def extremes(
    structure: Structure,
    rows: Doubles,
    parameters: Doubles,
    keys: Sequence[str],
    parts: int,
    lean: ctypes.CDLL | None = None,
) -> list[tuple[np.ndarray, np.ndarray]]:
    """Times and values of chosen signals where they are lowest and highest in each of so many stretches of equally
    many rows, in the order of time; of fewer than four rows a stretch, all rows. ``lean`` is what `lean_library`
    made for these keys."""
    size = len(rows) // max(1, parts)
    if size < 4:
        columns = np.ascontiguousarray(evaluate_signals(structure, rows, parameters, keys).T)
        return [(rows[:, 0].copy(), column) for column in columns]
    stretches = len(rows) // size
    places = np.empty((len(keys), stretches, 2), dtype=np.int64)
    values = np.empty((len(keys), stretches, 2))
    picked = picked_at(structure, rows, parameters, keys, lean)
    time_loop().pd_extremes(*picked.arguments, size, pointer(places), pointer(values))
    rest = rows[stretches * size :]
    columns = evaluate_signals(structure, rest, parameters, keys).T if len(rest) else np.empty((len(keys), 0))
    curves = []
    for at, value, tail in zip(places.reshape(len(keys), -1), values.reshape(len(keys), -1), columns):
        order = np.argsort(at, kind="stable")
        t = np.concatenate([rows[at[order], 0], rest[:, 0]])
        curves.append((t, np.concatenate([value[order], tail])))
    return curves


def lean_library(structure: Structure, keys: Sequence[str]) -> ctypes.CDLL:
    """C that evaluates these signals only, each in its place among all; that of all where they take more than their
    own function. Built where it is not there yet. Raises `BuildProblem`."""
    whole = structure.source
    signals = function_in(whole, "void pd_signals(")
    if any(call in signals for call in (SOLVES, "surfaces(", "_piece_")):
        return load(whole)
    places = [structure.signals.index(k) for k in keys]
    wanted = tuple(f"    y[{k}] = " for k in places)
    head, opening, *body = (
        line
        for line in signals.splitlines(keepends=True)
        if not line.startswith(("    y[", "    memset(y,")) or line.startswith(wanted)
    )
    cleared = "".join(f"    y[{k}] = 0;\n" for k in places)  # what is always zero is not written
    turn = function_in(whole, "static inline void pd_turn(") if "pd_turn(" in signals else ""
    ends = "".join(function_in(whole, f"static inline double pd_{name}(") for name in ("min", "max"))
    return load(f"#include <math.h>\n\n{ends}{turn}{head}{opening}{cleared}{''.join(body)}")


def function_in(source: str, head: str) -> str:
    """The text of an emitted function."""
    begin = source.index(head)
    line = source.index("\n", begin) + 1
    return source[begin : line if "}" in source[begin:line] else source.index("\n}\n", begin) + 3]


def last_before(rows: Doubles, times: Doubles) -> np.ndarray:
    """Places of the last rows at or before times (s), at least 0. NumPy's own search would first copy the
    column of times, and with it fetch the whole record from memory."""
    if not rows.flags.c_contiguous:
        return np.maximum(np.searchsorted(rows[:, 0], times, side="right") - 1, 0)
    times, places = np.ascontiguousarray(times, dtype=float), np.empty(len(times), dtype=np.int64)
    time_loop().pd_last_before(pointer(rows), *rows.shape, pointer(times), len(times), pointer(places))
    return places


MOST_SHOWN_LOG2 = 29
"""Logarithm of the bytes that rows of traces may take."""
FINE = 1e-5
"""Bend of a state within a step, over its range in the run, that traces may leave straight."""


BETWEEN, HALF_WAY, BOTH = 0, 1, 2


@dataclass(frozen=True, eq=False)
class Refined:
    """Rows of a record as traces show them, and those half way between these, one fewer; empty where they
    were not asked for."""

    rows: Doubles
    half_way: Doubles


def refined_rows(
    structure: Structure,
    rows: Doubles,
    parameters: Doubles,
    *,
    thinned_until: float = 0.0,
    straight: bool = False,
    span: Doubles | None = None,
    which: int = BOTH,
) -> Refined:
    """Rows with both sides of every jump, and with points between where a step is curved; and the rows half
    way between these.

    Points lie on the cubic through both ends of a step where that obeys the equations, else the step is
    solved again in parts. A record of fixed steps is ``straight`` between its rows. What was thinned stays as
    it is, and so does a record that would grow beyond ``2**MOST_SHOWN_LOG2`` bytes. ``span`` is what bends
    are measured against, by state; else the record's own."""
    library = load(structure.source)
    rows = np.ascontiguousarray(rows, dtype=float)
    nx, nu, n_mode = structure.row_shape
    states = rows[:, 1 : 1 + nx]
    if span is None:
        # Column by column: along rows, NumPy takes three times as long.
        span = np.array([np.ptp(column) for column in states.T]) if len(rows) else np.zeros(nx)
    fine = np.where(span > 0, FINE * span, 1.0) if nx else np.ones(1)
    if straight:
        fine = np.full(max(1, nx), np.inf)
    loop = time_loop()

    def refine(begin: int, end: int) -> Refined | None:
        """The steps from ``begin`` on up to the row at ``end``, with both of these rows; None where they do not fit."""
        stretch = rows[begin : end + 1]
        hoists = hoists_for(library, parameters, n_mode, len(stretch))
        work = RunStruct(nx=nx, n_command=nu, n_mode=n_mode, max_rows_log2=MOST_SHOWN_LOG2, p=pointer(parameters))
        work.rhs, work.jac = address(library, "pd_rhs"), address(library, "pd_jac")
        fits = loop.pd_refine(
            ctypes.byref(work),
            pointer(stretch),
            len(stretch),
            ctypes.byref(hoists),
            pointer(fine),
            thinned_until,
            which,
        )
        refined = taken(work.rows, work.n_rows, rows.shape[1], loop.pd_release)
        halves = taken(work.ticks, work.n_ticks, rows.shape[1], loop.pd_release)
        return Refined(refined, halves) if fits else None

    parts = in_parts(structure, len(rows), refine, STEPS_A_THREAD)
    fitting = [part for part in parts if part is not None]
    if (
        len(fitting) < len(parts)
        or max(sum(part.rows.nbytes for part in fitting), sum(part.half_way.nbytes for part in fitting))
        > 2**MOST_SHOWN_LOG2
    ):
        return Refined(rows, 0.5 * (rows[1:] + rows[:-1]))
    if len(fitting) == 1:
        return fitting[0]
    # Where two parts meet, both have the row.
    between = [part.rows[:-1] for part in fitting[:-1]] + [fitting[-1].rows]
    return Refined(np.concatenate(between), np.concatenate([part.half_way for part in fitting]))

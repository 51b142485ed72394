"""Linear blocks of any order with several inputs and outputs: x' = A·x + B·u, y = C·x + D·u, as matrices are typed.

Lines read ``A = -1/T, 0; 1, 0``: entries apart by commas or tabs, rows by semicolons or lines, each an expression in SI
of the drive's quantities. A line ``sampled`` says that they are those of one period, x⁺ = A·x + B·u; else they are
sampled by Tustin's rule for the block's period. Matrices that are left out are zero; without A, B and C the block is
the gain D.

The state is kept in increments (x⁺ = x + (A − 1)·x + …), whose coefficients stay exact where the block is slow
beside its tick. Only entries that can be other than zero are computed: after Tustin's rule those along which states
reach each other.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike

from pendel.core.drive.document import OwnEquations
from pendel.core.drive.user_text import parted

LINE = re.compile(r"^\s*([ABCD])\s*=\s*(.*)$")
SAMPLED = "sampled"
MOST_STATES, MOST_ENTRIES = 30, 600
"""Of a block, and of all its matrices that are not zero."""
RESERVED = re.compile(r"[A-Da-d]_\d+_\d+|(state|moved)_\d+")
"""Names by which the update reads entries and states."""
ZERO = re.compile(r"[+-]?(0+\.?0*|\.0+)")


@dataclass
class Matrices:
    """Texts of entries by the matrix, row and column, counted from 1; those that are not there are zero. ``problems``
    are (line, sentence)."""

    entries: dict[tuple[str, int, int], str] = field(default_factory=dict)
    sizes: dict[str, tuple[int, int]] = field(default_factory=dict)
    sampled: bool = False
    problems: list[tuple[int, str]] = field(default_factory=list)

    @property
    def order(self) -> int:
        return self.sizes.get("A", (0, 0))[0]

    def there(self, name: str, shape: tuple[int, int]) -> np.ndarray:
        """Which entries of a matrix are there."""
        found = np.zeros(shape, dtype=bool)
        for matrix, row, column in self.entries:
            if matrix == name and row <= shape[0] and column <= shape[1]:
                found[row - 1, column - 1] = True
        return found


def as_typed(
    A: ArrayLike = (),  # noqa: N803  as everybody calls them
    B: ArrayLike = (),  # noqa: N803
    C: ArrayLike = (),  # noqa: N803
    D: ArrayLike = (),  # noqa: N803
    *,
    inputs: Sequence[str],
    outputs: Sequence[str],
    sampled: bool = False,
) -> OwnEquations:
    """Lines of a block from matrices of numbers in SI, with the names of its ports; empty ones are left out.

    >>> as_typed(D=[[1, 2]], inputs=["u", "w"], outputs=["y"]).equations
    ('D = 1.0, 2.0',)
    """
    lines = [SAMPLED] if sampled else []
    for name, matrix in zip("ABCD", (A, B, C, D)):
        if np.size(matrix):
            rows = np.atleast_2d(np.asarray(matrix, dtype=float)).tolist()
            first, *rest = (", ".join(map(repr, row)) for row in rows)
            lines += [f"{name} = {first}", *rest]
    return OwnEquations((*(f"{n}: in" for n in inputs), *(f"{n}: out" for n in outputs)), equations=tuple(lines))


@lru_cache(maxsize=200)
def read_matrices(lines: tuple[str, ...], inputs: int, outputs: int) -> Matrices:
    """Read the lines of a block with so many inputs and outputs; never raises."""
    read = Matrices()
    at: dict[str, int] = {}
    texts: dict[str, str] = {}
    name = ""
    for number, line in enumerate(lines):
        match = LINE.match(line)
        if match is not None:
            name = match[1]
            if name in at:
                read.problems.append((number, f"{name} stands here twice. Leave one out."))
            at[name], texts[name] = number, match[2]
        elif line.strip() == SAMPLED:
            read.sampled = True
        elif line.strip() and name:
            texts[name] += f";{line}"
        elif line.strip():
            read.problems.append((number, "Write a matrix like A = -1, 0; 1, 0, or sampled."))
    for name, text in texts.items():
        _read_matrix(read, at[name], name, text.replace("\t", ","))
    if not read.problems:
        _compare(read, at, inputs, outputs)
    return read


def _read_matrix(read: Matrices, number: int, name: str, text: str) -> None:
    rows = [[entry.strip() for entry in parted(row, ",")] for row in parted(text, ";") if row.strip()]
    if not rows:
        read.problems.append((number, f"{name} has no entries. Write some, or leave it out."))
        return
    short = next((k for k, row in enumerate(rows, 1) if len(row) != len(rows[0])), None)
    if short is not None:
        counts = f"{len(rows[short - 1])} entries, and the first has {len(rows[0])}"
        read.problems.append((number, f"Row {short} of {name} has {counts}."))
        return
    empty = next(((r, c) for r, row in enumerate(rows, 1) for c, entry in enumerate(row, 1) if not entry), None)
    if empty is not None:
        read.problems.append((number, f"The entry in row {empty[0]}, column {empty[1]} of {name} is empty. Write 0."))
        return
    read.sizes[name] = len(rows), len(rows[0])
    for r, row in enumerate(rows, 1):
        read.entries |= {(name, r, c): entry for c, entry in enumerate(row, 1) if not ZERO.fullmatch(entry)}


def _compare(read: Matrices, at: dict[str, int], inputs: int, outputs: int) -> None:
    """Whether the matrices have sizes that go together."""
    states = read.order
    if not read.sizes:
        read.problems.append((0, "There is no matrix. Write one like D = 1, 0; 0, 1."))
    wanted = {
        "A": (states, states, "a row and a column for each state"),
        "B": (states, inputs, "a row for each state and a column for each input"),
        "C": (outputs, states, "a row for each output and a column for each state"),
        "D": (outputs, inputs, "a row for each output and a column for each input"),
    }
    for name, size in read.sizes.items():
        rows, columns, words = wanted[name]
        if size != (rows, columns):
            is_ = f"{name} is {size[0]} by {size[1]}"
            read.problems.append((at[name], f"{is_}; it has {words}: {rows} by {columns}."))
    if states and not {"B", "C"} <= read.sizes.keys():
        missing = "B" if "B" not in read.sizes else "C"
        read.problems.append((at["A"], f"There are states, but no {missing}. Write one, or leave A out."))
    if states > MOST_STATES or len(read.entries) > MOST_ENTRIES:
        many = f"{states} states and {len(read.entries)} entries that are not zero"
        limits = f"{MOST_STATES} and {MOST_ENTRIES}"
        read.problems.append((0, f"There are {many}; at most {limits} are possible. Part the block into two."))


def patterns(read: Matrices, inputs: int, outputs: int) -> dict[str, np.ndarray]:
    """Which coefficients of the update can be other than zero, by a to d: a and b of the increments, c and d of the
    outputs."""
    n = read.order
    a, b = read.there("A", (n, n)), read.there("B", (n, inputs))
    c, d = read.there("C", (outputs, n)), read.there("D", (outputs, inputs))
    if read.sampled:
        return {"a": a | np.eye(n, dtype=bool), "b": b, "c": c, "d": d}
    reach = a | np.eye(n, dtype=bool)
    for _ in range(max(1, math.ceil(math.log2(n + 1)))):
        reach = reach @ reach
    return {"a": reach @ a, "b": reach @ b, "c": c @ reach, "d": d | (c @ reach @ b)}


def update_lines(read: Matrices, inputs: list[str], outputs: list[str]) -> tuple[list[str], list[str]]:
    """The update in the block language, and the names of its coefficients and states."""
    there = patterns(read, len(inputs), len(outputs))
    states = [f"state_{k}" for k in range(1, read.order + 1)]
    names = [f"{m}_{r + 1}_{c + 1}" for m, pattern in there.items() for r, c in np.argwhere(pattern)]

    def total(row: int, of_states: str, of_inputs: str) -> str:
        terms = [f"{of_states}_{row + 1}_{k + 1} * {states[k]}" for k in np.flatnonzero(there[of_states][row])]
        terms += [f"{of_inputs}_{row + 1}_{k + 1} * {inputs[k]}" for k in np.flatnonzero(there[of_inputs][row])]
        return " + ".join(terms) or "0.0"

    lines = [f"{output} = {total(row, 'c', 'd')}" for row, output in enumerate(outputs)]
    lines += [f"moved_{row + 1} = {total(row, 'a', 'b')}" for row in range(read.order)]
    return [*lines, *(f"{name} = {name} + moved_{k}" for k, name in enumerate(states, 1))], [*names, *states]


def fastest_growth(read: Matrices, values: Mapping[str, float]) -> float:
    """The largest real part of A's eigenvalues (1/s); 0 without states."""
    a = matrices(read, values, 0, 0)["A"]
    return float(np.linalg.eigvals(a).real.max()) if len(a) else 0.0


def matrices(read: Matrices, values: Mapping[str, float], inputs: int, outputs: int) -> dict[str, np.ndarray]:
    """A to D from the entries' values; of inputs and outputs beyond the counts nothing."""
    n = read.order
    shapes = {"A": (n, n), "B": (n, inputs), "C": (outputs, n), "D": (outputs, inputs)}
    of = {name: np.zeros(shape) for name, shape in shapes.items()}
    for name, row, column in read.entries:
        if row <= shapes[name][0] and column <= shapes[name][1]:
            of[name][row - 1, column - 1] = values[f"{name}_{row}_{column}"]
    return of


def coefficients(
    read: Matrices, values: Mapping[str, float], inputs: int, outputs: int, period: float
) -> dict[str, float]:
    """What the update multiplies by, from the entries' values and the block's period (s).

    By Tustin's rule with M = (1 − A·T/2)⁻¹: M·A·T, M·B·T, C·M and D + C·M·B·T/2 (Franklin, Powell,
    Workman: Digital Control of Dynamic Systems, chapter 6, from memory; `scipy.signal.cont2discrete` gives the same).
    """
    a, b, c, d = matrices(read, values, inputs, outputs).values()
    if read.sampled:
        made = {"a": a - np.eye(len(a)), "b": b, "c": c, "d": d}
    else:
        inverse = _inverse(a, period)
        b_d = inverse @ b * period
        made = {"a": inverse @ a * period, "b": b_d, "c": c @ inverse, "d": d + c @ b_d / 2}
    return {
        f"{name}_{r + 1}_{k + 1}": float(made[name][r, k])
        for name, pattern in patterns(read, inputs, outputs).items()
        for r, k in np.argwhere(pattern)
    }


def _inverse(a: np.ndarray, period: float) -> np.ndarray:
    """(1 − A·T/2)⁻¹; where A grows by just 2/T, that of a period a little longer."""
    for stretched in (period, period * (1 + 1e-9)):
        try:
            return np.asarray(np.linalg.inv(np.eye(len(a)) - a * stretched / 2))
        except np.linalg.LinAlgError:
            continue
    return np.full_like(a, math.nan)

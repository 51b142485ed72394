"""Tables of texts: what somebody pastes from a spreadsheet or reads from a file, as rows of a card.

Lines of cells, apart by tabs, semicolons, commas or spaces, with a decimal comma where cells are not apart by commas.
Lines above the numbers name columns and their units. Remarks (``#``, ``%``, ``//``) and empty lines are skipped."""

from __future__ import annotations

import csv
import re
import statistics
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pendel.core.errors import ExpressionProblem, FileProblem
from pendel.core.formats.flux_files import is_remark, names_above, text_of, variables
from pendel.core.quantities.units import unit

LARGEST = 64 << 20
MOST_ROWS, MOST_COLUMNS = 500_000, 1000
OF_ARRAYS = (".mat", ".h5", ".hdf5")
NUMBER = re.compile(r"[-+]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][-+]?\d+)?")
BRACKETS = re.compile(r"[\[(]([^\[\]()]*)[\])]")


@dataclass(frozen=True)
class Cells:
    """A table of texts. ``rows`` are as wide as ``names``; ``units`` are those said above the columns, empty where none
    is known; ``lines`` is the line of the text each row is from, counted from 1."""

    names: tuple[str, ...]
    units: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    lines: tuple[int, ...]
    source: str


def cells_of(text: str, source: str = "what was pasted") -> Cells:
    """The table in a text.

    Raises
    ------
    FileProblem
        where no numbers are in it, or too many rows.
    """
    kept = [(n, line) for n, line in enumerate(text.splitlines(), 1) if line.strip() and not _is_remark(line)]
    if len(kept) > MOST_ROWS + 20:
        raise FileProblem(source, f"it has {len(kept)} lines; at most {MOST_ROWS} are taken. Leave some out.")
    mark = _mark([line for _, line in kept])
    if mark == " ":
        rows = [line.split() for _, line in kept]
    else:
        try:
            rows = [[cell.strip() for cell in row] for row in csv.reader((line for _, line in kept), delimiter=mark)]
        except csv.Error:  # a cell of more than 131072 characters
            rows = []
        if len(rows) != len(kept):
            raise FileProblem(source, "a quotation mark in it is not closed. Close it, or leave it out.")
    plain = [[_plain(cell, mark) for cell in row] for row in rows]
    first = next((n for n, row in enumerate(plain) if _is_numbers(row)), len(plain))
    if first == len(plain):
        raise FileProblem(source, "no row of numbers is in it. Give rows of cells, such as “0.5; 20”.")
    width = max(len(row) for row in plain[first:])
    above = rows[:first]
    of_units = len(above) > 1 and len(above[-1]) == width and all(map(is_unit_text, above[-1]))
    heads = (
        names_above(above[:-1] if of_units else above, width) if above else [f"column {n + 1}" for n in range(width)]
    )
    filled = tuple((*row, *[""] * (width - len(row))) for row in plain[first:])
    return Cells(
        tuple(heads),
        tuple(above[-1] if of_units else _units_in(heads)),
        filled,
        tuple(n for n, _ in kept[first:]),
        source,
    )


def cells_of_file(path: Path) -> Cells:
    """The table in a text file, or of the columns in a MAT or HDF5 file. Raises `FileProblem` where it cannot be read
    as one."""
    if path.suffix.lower() in OF_ARRAYS:
        return cells_of_arrays(variables(path), path.name)
    if path.exists() and not path.is_file():
        raise FileProblem(str(path), "this is no file, but a folder or a device. Choose a file.")
    try:
        if path.stat().st_size > LARGEST:
            raise FileProblem(str(path), f"it is larger than {LARGEST >> 20} MB. Leave out what is not needed.")
        data = path.read_bytes()
    except OSError as problem:
        raise FileProblem(
            str(path), f"it cannot be read ({problem.strerror or problem}). Check that it is there."
        ) from problem
    return cells_of(text_of(data), path.name)


def cells_of_arrays(arrays: Mapping[str, np.ndarray], source: str) -> Cells:
    """Those of the arrays that are as long as most, as columns; a matrix as several. What is no number is left empty.
    Raises `FileProblem` where there are too many."""
    columns = {}
    for name, array in arrays.items():
        if array.ndim == 1:
            columns[name] = array
        else:
            columns |= {f"{name} {k + 1}": column for k, column in enumerate(array.T)}
    lengths = Counter(len(column) for column in columns.values())
    length = max(lengths, key=lambda each: (lengths[each], each))
    kept = {name: column for name, column in columns.items() if len(column) == length}
    if length > MOST_ROWS or len(kept) > MOST_COLUMNS:
        raise FileProblem(
            source,
            f"it has {length} rows and {len(kept)} columns; at most {MOST_ROWS} and {MOST_COLUMNS} are taken. Leave "
            "some out.",
        )
    rows = zip(*([repr(x) if np.isfinite(x) else "" for x in column.tolist()] for column in kept.values()))
    return Cells(tuple(kept), tuple(map(_unit_of_name, kept)), tuple(rows), tuple(range(1, length + 1)), source)


def _unit_of_name(name: str) -> str:
    words = BRACKETS.findall(name)[-1:]
    return words[0].strip() if words and is_unit_text(words[0]) else ""


def _is_remark(line: str) -> bool:
    """A line of units may begin with the one of percent."""
    return is_remark(line) and not re.match(r"\s*%\s*[\t;,]", line)


def _mark(lines: Sequence[str]) -> str:
    """What cells are apart by, as the last line shows it: with a comma and spaces, the comma is a decimal one only
    where numbers stand on both sides without a space."""
    last = lines[-1] if lines else ""
    for mark in ("\t", ";"):
        if mark in last:
            return mark
    if "," not in last:
        return " " if _is_numbers(last.split()) else ","
    words = last.split()
    alone = all(NUMBER.fullmatch(word) and not word.endswith(",") for word in words)
    return " " if len(words) > 1 and alone else ","


def _plain(cell: str, mark: str) -> str:
    """A number with a decimal point; what a program writes for no number is nothing; all else as it is."""
    if cell.lower() == "nan":
        return ""
    return cell.replace(",", ".") if mark != "," and NUMBER.match(cell) else cell


def _is_numbers(row: Sequence[str]) -> bool:
    filled = [cell for cell in row if cell]
    return bool(filled) and sum(bool(NUMBER.match(cell)) for cell in filled) > len(filled) / 2


def _units_in(heads: Sequence[str]) -> list[str]:
    """In brackets, behind a comma, or the whole head where all heads are units: one such as “s” may be a name."""
    if all(map(is_unit_text, heads)):
        return [head.strip() for head in heads]
    units = []
    for head in heads:
        words = [*BRACKETS.findall(head)[-1:], *([head.rpartition(",")[2]] if "," in head else [])]
        units.append(next((word.strip() for word in words if is_unit_text(word)), ""))
    return units


def is_unit_text(text: str) -> bool:
    """Whether it is a unit, or several multiplied and divided."""
    try:
        unit(text.strip())
    except ExpressionProblem:
        return False
    return bool(text.strip())


def rows_of(
    cells: Cells, columns: Sequence[int], units: Sequence[str], needed: int | None = None
) -> list[tuple[str, ...]]:
    """Texts of chosen columns with their units (empty: as they stand), for fields of a card. From ``needed`` on, cells
    may be empty and columns beyond those that there are, which leaves them out.

    Raises
    ------
    FileProblem
        for an empty cell, with its line.
    """
    picked = []
    for row, line in zip(cells.rows, cells.lines):
        texts = []
        for place, (column, unit_text) in enumerate(zip(columns, units)):
            optional = needed is not None and place >= needed
            if optional and (column >= len(row) or not row[column]):
                texts.append("")
                continue
            if not row[column]:
                raise FileProblem(
                    cells.source,
                    f"line {line} has nothing in the column “{cells.names[column]}”. Fill it in or leave it out.",
                )
            whole = NUMBER.fullmatch(row[column]) is not None
            texts.append(f"{row[column]} {unit_text}" if unit_text and whole else row[column])
        while needed is not None and len(texts) > needed and not texts[-1]:
            texts.pop()  # what is left out at the end is as the card has it
        picked.append(tuple(texts))
    return picked


def gap_in(times: Sequence[float]) -> str:
    """A sentence on rows that are missing in a table of even steps; empty where none are."""
    if len(times) < 10:
        return ""
    steps = [b - a for a, b in zip(times, times[1:])]
    usual = statistics.median(steps)
    even = sum(abs(step - usual) <= 0.01 * abs(usual) for step in steps)
    wide = [n for n, step in enumerate(steps) if step > 1.5 * usual]
    if usual <= 0 or even < 0.9 * len(steps) or not wide:
        return ""
    n = wide[0]
    more = f", and at {len(wide) - 1} more places" if len(wide) > 1 else ""
    return (
        f"Rows are missing after {times[n]:g} s: the next is at {times[n + 1]:g} s, {usual:g} s apart "
        f"elsewhere{more}. A straight line is taken there."
    )

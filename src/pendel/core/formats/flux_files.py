"""Flux tables from files: CSV, MAT and HDF5, in columns or as matrices over two axes."""

from __future__ import annotations

import codecs
import csv
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pendel.core.catalogue.machines.flux import mirrored, star_of, table_of
from pendel.core.drive.document import FluxTable
from pendel.core.errors import FileProblem
from pendel.core.formats.apart import arrays_of
from pendel.core.quantities.units import figure

ROLES = ("i_d", "i_q", "psi_d", "psi_q")
DEFAULT_UNITS = {"i_d": "A", "i_q": "A", "psi_d": "Wb", "psi_q": "Wb"}
FACTORS = {"A": 1.0, "kA": 1e3, "mA": 1e-3, "Wb": 1.0, "mWb": 1e-3, "V·s": 1.0, "mV·s": 1e-3}
NEAR = 1e-6
"""Two values of an axis in a table of columns are one when they differ by less than this share of its
range."""
MOST_NUMBERS = 2_000_000
LARGEST_TEXT = 64 << 20
APART = 0.02
"""Of the largest flux: what several values at one place may differ by."""


@dataclass(frozen=True)
class Layout:
    """Which of a file's variables is what, in which unit, and how it is laid out."""

    names: Mapping[str, str]
    """By role (`ROLES`)."""
    units: Mapping[str, str]
    turned: frozenset[str] = frozenset()
    """Roles whose sign is turned."""
    rows: str = "i_d"
    """Of matrices: the current that changes from row to row."""
    mirror: bool = False
    """Given for i_q from 0 up only; the other half follows."""
    winding: str = "star"
    """Whose currents and fluxes these are; those of a ``delta`` become those of the star it is equivalent
    to."""


def variables(path: Path) -> dict[str, np.ndarray]:
    """Number arrays of a file by name.

    Raises
    ------
    FileProblem
        when it cannot be read or holds no numbers.
    """
    readers = {".csv": from_csv, ".txt": from_csv, ".mat": from_mat, ".h5": from_hdf, ".hdf5": from_hdf}
    reader = readers.get(path.suffix.lower())
    if reader is None:
        raise FileProblem(str(path), f"flux tables are read from {', '.join(readers)} files. Export it as one of them.")
    if path.exists() and not path.is_file():
        raise FileProblem(str(path), "this is no file, but a folder or a device. Choose a file.")
    try:
        arrays = {name: np.atleast_1d(np.squeeze(array)) for name, array in reader(path).items()}
    except FileProblem:
        raise
    except Exception as problem:  # the file's boundary: whatever a damaged one makes a library raise
        raise FileProblem(
            str(path),
            f"it cannot be read ({getattr(problem, 'strerror', None) or problem}). Check that it is there "
            "and not damaged.",
        ) from problem
    arrays = {n: a for n, a in arrays.items() if a.ndim <= 2 and 2 <= a.size <= MOST_NUMBERS}
    if not arrays:
        raise FileProblem(str(path), "no columns or matrices of numbers are in it.")
    return arrays


def from_csv(path: Path) -> dict[str, np.ndarray]:
    """Columns of numbers, named by the lines above them (`names_above`), else by their place. A cell that is no
    number is a hole. Empty lines, remarks (``#``, ``%``, ``//``) and titles are skipped.

    Raises
    ------
    FileProblem
        when it is too large for a table.
    """
    if path.stat().st_size > LARGEST_TEXT:
        raise FileProblem(str(path), f"it is larger than {LARGEST_TEXT >> 20} MB. Export the four columns alone.")
    lines = [line for line in text_of(path.read_bytes()).splitlines() if line.strip() and not is_remark(line)]
    if not lines:
        return {}
    mark = next((m for m in ";\t" if m in lines[-1]), ",")
    rows = [[cell.strip() for cell in row] for row in csv.reader(lines, delimiter=mark)]

    def number(cell: str) -> float:
        try:
            return float(cell.replace(",", ".") if mark != "," else cell)
        except ValueError:
            return float("nan")

    numbers = [[number(cell) for cell in row] for row in rows]
    first = next((k for k, row in enumerate(numbers) if np.isfinite(row).sum() > len(row) / 2), len(rows))
    if first == len(rows):
        return {}
    names = names_above(rows[:first], len(rows[first]))
    body = [(row + [float("nan")] * len(names))[: len(names)] for row in numbers[first:]]
    columns = np.array(body, dtype=float)
    return dict(zip(names, columns[np.any(np.isfinite(columns), axis=1)].T))


def names_above(rows: list[list[str]], width: int) -> list[str]:
    """The last line of as many different names, with the units in brackets where a line of them follows. All names are
    different; a column without one has its number."""
    named, units = [""] * width, [""] * width
    for row in rows:
        cells = [cell for cell in row if cell]
        if len(row) != width or not cells:
            continue
        if len(set(cells)) == len(cells) or not any(named):
            named, units = row, [""] * width
        else:
            units = row
    names: list[str] = []
    for k, (name, unit) in enumerate(zip(named, units)):
        whole = f"{name} ({unit})" if unit and not set("([") & set(name) else name
        names.append(whole if name and whole not in names else f"{name or 'column'} {k + 1}")
    return names


def text_of(data: bytes) -> str:
    """A text as spreadsheets and measuring programs save it: UTF-8, UTF-16 with a mark, else one byte a letter."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def is_remark(line: str) -> bool:
    return line.lstrip().startswith(("#", "%", "//"))


def from_mat(path: Path) -> dict[str, np.ndarray]:
    return arrays_of(path, "mat", MOST_NUMBERS)


def from_hdf(path: Path) -> dict[str, np.ndarray]:
    return arrays_of(path, "hdf", MOST_NUMBERS)


def guess(names: Mapping[str, np.ndarray]) -> Layout:
    """The likely mapping, from the names; a unit in brackets behind a name is taken."""
    chosen: dict[str, str] = {}
    units = dict(DEFAULT_UNITS)
    wanted = {
        "i_d": ("id", "currentd", "dcurrent"),
        "i_q": ("iq", "currentq", "qcurrent"),
        "psi_d": ("psid", "fluxd", "lambdad", "phid", "dflux"),
        "psi_q": ("psiq", "fluxq", "lambdaq", "phiq", "qflux"),
    }
    for role, words in wanted.items():
        for name in names:
            plain = "".join(ch for ch in name.split("(")[0].split("[")[0].split("/")[-1].lower() if ch.isalpha())
            if name not in chosen.values() and plain.startswith(words):
                chosen[role] = name
                unit = name.partition("(")[2].partition(")")[0] or name.partition("[")[2].partition("]")[0]
                if unit.strip() in unit_choices(role):
                    units[role] = unit.strip()
                break
    rows = "i_d"
    if set(chosen) == set(ROLES):
        shape = np.shape(names[chosen["psi_d"]])
        sizes = np.size(names[chosen["i_d"]]), np.size(names[chosen["i_q"]])
        if len(shape) == 2 and shape == sizes[::-1] != sizes:
            rows = "i_q"
    return Layout(chosen, units, rows=rows)


def unit_choices(role: str) -> tuple[str, ...]:
    return ("A", "kA", "mA") if role.startswith("i_") else ("Wb", "mWb", "V·s", "mV·s")


def assembled(arrays_by_name: Mapping[str, np.ndarray], mapping: Layout, source: str = "") -> FluxTable:
    """The table that a mapping makes of a file's variables; holes stay holes (not a number).

    Raises
    ------
    FileProblem
        when the chosen variables do not fit each other.
    """
    missing = [role for role in ROLES if mapping.names.get(role) not in arrays_by_name]
    if missing:
        raise FileProblem(source, f"nothing is chosen for {', '.join(missing)}. Choose a column or matrix for each.")
    arrays = {}
    for role in ROLES:
        unit = mapping.units[role]
        if unit not in unit_choices(role):
            known = ", ".join(unit_choices(role))
            raise FileProblem(source, f"“{unit}” is no unit for {role}. Choose one of {known}.")
        arrays[role] = arrays_by_name[mapping.names[role]] * FACTORS[unit] * (-1.0 if role in mapping.turned else 1.0)
    if all(a.ndim == 1 for a in arrays.values()):
        table = from_columns(arrays, source)
    else:
        table = from_matrices(arrays, mapping.rows, source)
    table = mirrored(table) if mapping.mirror else table
    return star_of(table) if mapping.winding == "delta" else table


def merged(values: np.ndarray) -> np.ndarray:
    """Sorted distinct values; those that differ by rounding are one."""
    known = np.sort(values[np.isfinite(values)])
    room = NEAR * (known[-1] - known[0]) if len(known) else 0.0
    return known[np.concatenate([[True], np.diff(known) > room])] if len(known) else known


def from_columns(arrays: Mapping[str, np.ndarray], source: str) -> FluxTable:
    sizes = {role: len(a) for role, a in arrays.items()}
    if len(set(sizes.values())) > 1:
        raise FileProblem(
            source,
            "the columns differ in length: "
            + ", ".join(f"{r} {n}" for r, n in sizes.items())
            + ". Choose matrices with their axes, or four equal columns.",
        )
    axes = [merged(arrays[n]) for n in ("i_d", "i_q")]
    if min(map(len, axes)) < 2 or len(axes[0]) * len(axes[1]) > MOST_NUMBERS:
        raise FileProblem(source, "the currents do not form a grid. Choose other columns for i_d and i_q.")
    placed = np.isfinite(arrays["i_d"]) & np.isfinite(arrays["i_q"])
    lost = np.flatnonzero(~placed & (np.isfinite(arrays["psi_d"]) | np.isfinite(arrays["psi_q"])))
    if len(lost):
        raise FileProblem(
            source, f"row {lost[0] + 1} of the numbers has fluxes without both currents. Fill them in or leave it out."
        )
    currents = [arrays[n][placed] for n in ("i_d", "i_q")]
    places = [np.abs(axis[None, :] - i[:, None]).argmin(axis=1) for i, axis in zip(currents, axes)]
    grids = [on_grid(role, arrays[role][placed], places, axes, source) for role in ("psi_d", "psi_q")]
    return table_of(axes[0], axes[1], grids[0], grids[1], source)


def on_grid(role: str, values: np.ndarray, places: list[np.ndarray], axes: list[np.ndarray], source: str) -> np.ndarray:
    """Values at their places; the mean where there are several at one, as of a loop that was measured up and down.

    Raises
    ------
    FileProblem
        where these differ by more than a measurement may.
    """
    shape = (len(axes[0]), len(axes[1]))
    known = np.isfinite(values)
    d, q, values = places[0][known], places[1][known], values[known]
    sums, counts, low, high = np.zeros(shape), np.zeros(shape), np.full(shape, np.inf), np.full(shape, -np.inf)
    np.add.at(sums, (d, q), values)
    np.add.at(counts, (d, q), 1.0)
    np.minimum.at(low, (d, q), values)
    np.maximum.at(high, (d, q), values)
    apart = np.where(counts > 0, high - low, 0.0)
    if np.max(apart, initial=0.0) > APART * np.max(np.abs(values), initial=0.0):
        k, j = np.unravel_index(int(np.argmax(apart)), shape)
        raise FileProblem(
            source,
            f"{role} is given several times at i_d {figure(axes[0][k], 'A')}, i_q {figure(axes[1][j], 'A')}, from "
            f"{figure(low[k, j], 'Wb')} to {figure(high[k, j], 'Wb')}. Leave all but one out.",
        )
    return np.divide(sums, counts, out=np.full(shape, np.nan), where=counts > 0)


def from_matrices(arrays: Mapping[str, np.ndarray], rows: str, source: str) -> FluxTable:
    psi = [arrays[r] if rows == "i_d" else arrays[r].T for r in ("psi_d", "psi_q")]
    axes = []
    for way, role in enumerate(("i_d", "i_q")):
        axis = arrays[role]
        if axis.ndim == 2:  # a mesh: the same in every row or column
            axis = (axis if rows == "i_d" else axis.T)[:, 0] if way == 0 else (axis if rows == "i_d" else axis.T)[0]
        axes.append(axis)
    for role, grid in zip(("psi_d", "psi_q"), psi):
        if grid.shape != (len(axes[0]), len(axes[1])):
            raise FileProblem(
                source,
                f"{role} is {' by '.join(map(str, grid.shape))}, the axes are {len(axes[0])} by "
                f"{len(axes[1])}. Change what runs along the rows, or choose other axes.",
            )
    return table_of(axes[0], axes[1], psi[0], psi[1], source)

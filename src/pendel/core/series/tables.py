"""Rows of a series as a table for other programs."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import h5py
import numpy as np

from pendel.core.drive.plans import Plan
from pendel.core.errors import FileProblem
from pendel.core.files.hdf import opened
from pendel.core.files.writing import write_atomically, written_whole
from pendel.core.quantities.units import unit as unit_of
from pendel.core.series.rows import Row
from pendel.core.series.store import RowStore
from pendel.core.series.traces import RowTrace

WITH_TRACES = ".h5"
"""The ending of a file that holds traces too."""
ENDINGS = (".csv", ".json", ".parquet", WITH_TRACES)


@dataclass(frozen=True)
class RowTable:
    """Rows with the heads of their columns: what varies as texts, figures in the units that heads name; and the traces
    that were kept, by their signals."""

    plan: Plan
    rows: tuple[Row, ...]
    traces: Mapping[str, tuple[RowTrace, ...]] = field(default_factory=dict)

    @property
    def units(self) -> list[str]:
        """Of the figures, by column."""
        return [
            next((row.units[k] for row in self.rows if k < len(row.units) and row.units[k]), "")
            for k in range(len(self.plan.measures))
        ]

    @property
    def heads(self) -> list[str]:
        figures = [f"{text} [{unit}]" if unit else text for text, unit in zip(self.plan.measures, self.units)]
        return ["row", *(v.target for v in self.plan.varied), *figures, "outcome", "reason", "seed"]

    def cells(self, row: Row) -> list[object]:
        """Of a row; None where there is no figure."""
        figures = [None if math.isnan(f) else in_unit(f, unit) for f, unit in zip(row.figures, self.units)]
        return [row.number, *row.texts, *figures, row.outcome, row.reason, row.seed]

    def as_csv(self) -> str:
        """Commas, a point in figures, heads in the first line (RFC 4180)."""
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(map(_not_a_formula, self.heads))
        for row in self.rows:
            cells = ("" if c is None else c for c in self.cells(row))
            writer.writerow(repr(c) if isinstance(c, float) else _not_a_formula(c) for c in cells)
        return out.getvalue()

    def as_records(self) -> list[dict[str, object]]:
        return [dict(zip(self.heads, self.cells(row))) for row in self.rows]

    def save(self, path: Path) -> None:
        """Write it by its ending, one of `ENDINGS`. Raises `FileProblem`."""
        if path.suffix == ".json":
            write_atomically(path, json.dumps(self.as_records(), ensure_ascii=False, indent=1) + "\n")
        elif path.suffix == ".parquet":
            self._save_parquet(path)
        elif path.suffix == WITH_TRACES:
            self._save_hdf(path)
        else:
            write_atomically(path, self.as_csv())

    def _save_parquet(self, path: Path) -> None:
        try:
            import pandas
            import pyarrow  # noqa: F401  pandas wants it
        except ImportError as problem:
            raise FileProblem(str(path), "Parquet wants pandas and pyarrow: pip install pandas pyarrow.") from problem
        frame = pandas.DataFrame([self.cells(row) for row in self.rows], columns=self.heads)
        try:
            frame.to_parquet(path)
        except OSError as problem:
            raise FileProblem(str(path), f"it cannot be written: {problem.strerror or problem}.") from problem

    def _save_hdf(self, path: Path) -> None:
        """Columns are ``rows/c0`` and on, each with its ``name``; traces ``traces/SIGNAL/ROW``, times (s) and values
        (SI)."""
        try:
            with written_whole(path) as part, opened(part, "w") as file:
                self._fill_hdf(file)
        except (OSError, RuntimeError, ValueError, TypeError) as problem:  # names of a hostile file too
            reason = getattr(problem, "strerror", None) or problem
            raise FileProblem(str(path), f"it cannot be written: {reason}.") from problem

    def _fill_hdf(self, file: h5py.File) -> None:
        columns = list(zip(*map(self.cells, self.rows)))
        file.attrs["format"] = "pendel series"
        for k, (head, cells) in enumerate(zip(self.heads, columns)):
            texts = any(isinstance(cell, str) for cell in cells)
            plain = [str(c) for c in cells] if texts else [math.nan if c is None else c for c in cells]
            file.create_dataset(f"rows/c{k}", data=plain).attrs["name"] = head
        for signal, traces in self.traces.items():
            for trace in traces:
                file.create_dataset(f"traces/{signal}/{trace.number}", data=np.vstack([trace.t, trace.y]))


def table_of(store: RowStore, numbers: Sequence[int] | None = None, *, traces: bool = True) -> RowTable:
    """Rows of a series, all without ``numbers``, and the traces that were kept, unless nobody wants them, as they are
    many times as large. Raises `FileProblem`."""
    plan = store.kept().plan
    numbers = store.numbers().tolist() if numbers is None else numbers
    kept = {signal: tuple(store.traces(signal, numbers)) for signal in plan.traces if traces}
    return RowTable(plan, tuple(store.rows(numbers)), kept)


def in_unit(si: float, unit: str) -> float:
    return si / unit_of(unit)[0] if unit else si


def _not_a_formula(cell: object) -> object:
    """A text that a spreadsheet would take for a formula gets an apostrophe before it; figures stay."""
    if isinstance(cell, str) and cell[:1] in ("=", "@", "\t", "\r"):
        return f"'{cell}"
    return cell


def shares(values: Sequence[float]) -> tuple[float, float, float]:
    """Least, mean and largest of figures; not-a-number where there is none."""
    there = [v for v in values if not math.isnan(v)]
    return (min(there), math.fsum(there) / len(there), max(there)) if there else (math.nan,) * 3

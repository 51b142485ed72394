"""Rows of a series as a table for other programs."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from pendel.core.drive.plans import Plan
from pendel.core.errors import FileProblem
from pendel.core.files.writing import write_atomically
from pendel.core.quantities.units import unit as unit_of
from pendel.core.series.rows import Row

ENDINGS = (".csv", ".json", ".parquet")


@dataclass(frozen=True)
class RowTable:
    """Rows with the heads of their columns: what varies as texts, figures in the units that heads name."""

    plan: Plan
    rows: tuple[Row, ...]

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

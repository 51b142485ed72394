"""Traces as text: one column a signal, named with its unit; columns of shorter runs end in empty fields. Figures have
as many digits as it takes to read the same number back, so that instants stay apart however late they are."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path
from typing import TextIO

from pendel.core.formats.traces import Column, plain


def write(table: Sequence[Column], path: Path) -> None:
    with path.open("w", newline="", encoding="utf-8") as stream:
        write_to(table, stream)


def write_to(table: Sequence[Column], stream: TextIO) -> None:
    length = max((len(v) for _, _, v in table), default=0)
    writer = csv.writer(stream)
    writer.writerow([heading(name, unit) for name, unit, _ in table])
    padded = [[*map(repr, v.tolist()), *[""] * (length - len(v))] for _, _, v in table]
    writer.writerows(zip(*padded))


def heading(name: str, unit: str) -> str:
    """A column's name and unit; a spreadsheet would take what begins with an operator for a formula."""
    text = plain(f"{name} [{unit}]" if unit else name)
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text

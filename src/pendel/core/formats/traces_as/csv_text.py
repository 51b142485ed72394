"""Traces as text: one column a signal, named with its unit; columns of shorter runs end in empty fields."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path
from typing import TextIO

from pendel.core.formats.traces import Column


def write(table: Sequence[Column], path: Path) -> None:
    with path.open("w", newline="", encoding="utf-8") as stream:
        write_to(table, stream)


def write_to(table: Sequence[Column], stream: TextIO) -> None:
    length = max((len(v) for _, _, v in table), default=0)
    writer = csv.writer(stream)
    writer.writerow([f"{name} [{unit}]" if unit else name for name, unit, _ in table])
    padded = [[f"{x:.9g}" for x in v] + [""] * (length - len(v)) for _, _, v in table]
    writer.writerows(zip(*padded))

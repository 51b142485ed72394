"""Traces as MDF 4.1, of one common time."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.formats.mdf4 import Mdf4Writer
from pendel.core.formats.traces import Column


def write(table: Sequence[Column], path: Path) -> None:
    """Columns behind the first time are set on it; where several runs have times of their own, these must go
    up."""
    times = table[0][2]
    own, found = times, list[tuple[str, str, np.ndarray]]()
    for name, unit, values in table[1:]:
        if name.endswith("time") and unit == "s":
            own = values
            continue
        same = len(own) == len(times) and np.array_equal(own, times)
        found.append((name, unit, values if same else np.interp(times, own, values)))
    with Mdf4Writer(path, [(name, unit) for name, unit, _ in found]) as file:
        file.write(times, np.column_stack([v for *_, v in found]) if found else np.zeros((len(times), 0)))

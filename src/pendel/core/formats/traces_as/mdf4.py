"""Traces as MDF 4.1, each run as a group of channels with its own time."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.formats.mdf4 import Mdf4Writer
from pendel.core.formats.traces import Column, is_time


def write(table: Sequence[Column], path: Path) -> None:
    begins = [k for k, (name, unit, _) in enumerate(table) if k == 0 or is_time(name, unit)]
    groups = [table[a:b] for a, b in zip(begins, [*begins[1:], len(table)])]

    def channels(group: Sequence[Column]) -> list[tuple[str, str]]:
        return [(name, unit) for name, unit, _ in group[1:]]

    with Mdf4Writer(path, channels(groups[0])) as file:
        for k, group in enumerate(groups):
            if k:
                file.begin_group(channels(group))
            times = group[0][2]
            file.write(times, np.column_stack([np.zeros((len(times), 0)), *(v for *_, v in group[1:])]))

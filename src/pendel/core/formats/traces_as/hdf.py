"""Traces as HDF5: one dataset a signal, its unit as attribute ``unit``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from pendel.core.formats.hdf import opened
from pendel.core.formats.traces import Column


def write(table: Sequence[Column], path: Path) -> None:
    with opened(path, "w") as file:
        for name, unit, values in table:
            file.create_dataset(name.replace("/", "_"), data=values).attrs["unit"] = unit

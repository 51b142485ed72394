"""Traces as HDF5: one dataset a signal, its unit as attribute ``unit`` and its name as ``name``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from pendel.core.files.hdf import opened
from pendel.core.formats.traces import Column, plain, unlike

LONGEST = 1000


def write(table: Sequence[Column], path: Path) -> None:
    places = unlike([place(name) for name, *_ in table], LONGEST)
    with opened(path, "w") as file:
        for at, (name, unit, values) in zip(places, table):
            dataset = file.create_dataset(at, data=values)
            dataset.attrs["unit"], dataset.attrs["name"] = plain(unit), plain(name)


def place(name: str) -> str:
    """A name without what leads elsewhere in such a file."""
    name_in_file = plain(name).replace("/", "_")
    return name_in_file if name_in_file.strip(".") else f"_{name_in_file}"

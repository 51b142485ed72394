"""How HDF5 files are opened."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import h5py


def opened(path: Path, mode: str) -> h5py.File:
    """A file without HDF5's own lock. A compiler that is started while a run is written inherits the lock for
    a moment, and the run could not be read a millisecond later; that nobody reads what is half written is
    settled without locks."""
    import h5py  # slow to load, and no run needs it

    return h5py.File(path, mode, locking=False)


def held_within(file: h5py.File, name: str) -> h5py.Dataset:
    """A dataset whose numbers are in the file itself. HDF5 would follow links, external storage and virtual datasets to
    any other file. Raises `ValueError` where it is none."""
    import h5py

    item = file
    for part in name.strip("/").split("/"):
        if not isinstance(item, h5py.Group) or not isinstance(item.get(part, getlink=True), h5py.HardLink):
            raise ValueError(f"{name} is not in the file itself")
        item = item[part]
    if not isinstance(item, h5py.Dataset):
        raise ValueError(f"{name} holds no numbers")
    if item.is_virtual or item.external:
        raise ValueError(f"the numbers of {name} are in another file; only those in the file itself are read")
    return item

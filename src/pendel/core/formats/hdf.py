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

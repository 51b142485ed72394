"""Traces as an archive of NumPy."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.formats.traces import Column


def write(columns: Sequence[Column], path: Path) -> None:
    np.savez(path, **{f"{name} [{unit}]": values for name, unit, values in columns})

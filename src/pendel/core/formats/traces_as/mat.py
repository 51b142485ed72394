"""Traces as a MAT file: one variable a signal, and ``names`` and ``units`` of all."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.formats.traces import Column


def write(table: Sequence[Column], path: Path) -> None:
    import scipy.io  # slow to load, and seldom needed

    plain = [
        (name.replace(".", "_").replace(": ", "_").replace(" ", "_"), values) for name, _, values in table
    ]
    variables = {name if name.isidentifier() else f"n{k}": values for k, (name, values) in enumerate(plain)}
    units, names = (np.array([column[k] for column in table], dtype=object) for k in (1, 0))
    scipy.io.savemat(path, {**variables, "units": units, "names": names})

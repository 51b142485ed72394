"""Traces as a MAT file: one variable a signal; and ``variables``, ``names`` and ``units`` of all, in one order."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from pendel.core.formats.traces import Column, plain, unlike

LONGEST = 63
"""Characters that names of variables may have in programs that read such files."""
OF_ALL = ("variables", "names", "units")


def write(table: Sequence[Column], path: Path) -> None:
    import scipy.io  # slow to load, and seldom needed

    variables = unlike([variable(name) for name, *_ in table], LONGEST, taken=OF_ALL)
    facts = (variables, [plain(name) for name, *_ in table], [plain(unit) for _, unit, _ in table])
    lists = {name: np.array(texts, dtype=object) for name, texts in zip(OF_ALL, facts)}
    scipy.io.savemat(path, {**dict(zip(variables, (values for *_, values in table))), **lists})


def variable(name: str) -> str:
    """A name with nothing but what variables may have: letters, digits and underscores, a letter first."""
    plain = "".join(c if c.isascii() and c.isalnum() else "_" for c in name.replace(": ", "_"))
    return plain if plain[:1].isalpha() else f"n{plain}"

"""Results as lists, groups, texts and numbers alone, for JSON: figures in full, what is no number as null."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.catalogue.declare import Kind
from pendel.core.drive.findings import Finding

LEFT_OUT = ("run", "unit_inside", "transfer", "table")
"""Fields of results that hold what they come from."""


def plain(thing: Any) -> Any:
    """The same of lists, dictionaries, texts and numbers alone; a complex number is its real and imaginary part.

    Raises
    ------
    TypeError
        for what is none of these.
    """
    if isinstance(thing, np.generic):
        thing = thing.item()
    if thing is None or isinstance(thing, bool | int | str):
        return thing.value if isinstance(thing, Enum) else thing
    if isinstance(thing, float):
        return thing if math.isfinite(thing) else None
    if isinstance(thing, complex):
        return [plain(thing.real), plain(thing.imag)]
    if isinstance(thing, np.ndarray):
        return plain(thing.tolist())
    if isinstance(thing, Path):
        return str(thing)
    if isinstance(thing, Enum):
        return thing.value
    if isinstance(thing, Kind):
        return {"id": thing.id, "title": thing.title}
    if isinstance(thing, Finding):
        return {"card": thing.card, "field": thing.field, "sentence": thing.sentence}
    if is_dataclass(thing) and not isinstance(thing, type):
        return {f.name: plain(getattr(thing, f.name)) for f in fields(thing) if f.name not in LEFT_OUT}
    if isinstance(thing, Mapping):
        return {str(k): plain(v) for k, v in thing.items()}
    if isinstance(thing, Iterable):
        return [plain(each) for each in thing]
    raise TypeError(f"{type(thing).__name__} has no form in JSON")

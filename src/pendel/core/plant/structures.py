"""Ordered structures that are known: in this process, and on disk beside the builds, by the key of their
skeleton.

Ordering the equations is the slow part of a first run. A skeleton may stand for several structures, as parts
state other equations where a value is zero; each is kept with the answers that led to it. What lies on disk
leads to C that is compiled and run, so it lies in the folder of builds, which only its user may touch, with
the hash of its bytes.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import fields
from functools import lru_cache
from importlib import metadata, resources
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Any

from pendel.core.equations.skeleton import Question, still_hold
from pendel.core.errors import PendelError
from pendel.core.plant.compiler import cache_folder
from pendel.core.plant.program import PulseShape, Structure

KNOWN = 64
"""Structures kept in a process."""
KEPT = 400
"""Files kept on disk."""
_known: dict[str, list[Structure]] = {}


@lru_cache(maxsize=1)
def version() -> str:
    """Of all that decides what a skeleton leads to: our code, and that of the library for symbols."""
    hashed = hashlib.sha256(metadata.version("casadi").encode())
    core = resources.files("pendel.core")
    for folder in ("catalogue", "equations", "plant"):
        for text in sources_in(core.joinpath(folder)):
            hashed.update(text)
    return hashed.hexdigest()[:16]


def sources_in(folder: Traversable) -> list[bytes]:
    sources = []
    for entry in sorted(folder.iterdir(), key=lambda e: e.name):
        if entry.is_dir():
            sources += sources_in(entry)
        elif entry.name.endswith((".py", ".c", ".h")):
            sources.append(entry.name.encode() + entry.read_bytes())
    return sources


def structure_for(
    key: str,
    values: Mapping[str, Mapping[str, float]],
    order: Callable[[], Structure],
) -> Structure:
    """The structure for a skeleton and values by card: one that is known, else ``order()`` makes it."""
    for known in _known.get(key, ()):
        if still_hold(known.answers, values):
            return known
    structure = read(key, values)
    if structure is None:
        structure = order()
        keep(key, structure)
    remember(key, structure)
    return structure


def is_known(key: str, values: Mapping[str, Mapping[str, float]]) -> bool:
    """Whether `structure_for` would order nothing."""
    if any(still_hold(known.answers, values) for known in _known.get(key, ())):
        return True
    structure = read(key, values)
    if structure is not None:
        remember(key, structure)
    return structure is not None


def remember(key: str, structure: Structure) -> None:
    _known.setdefault(key, []).append(structure)
    while sum(map(len, _known.values())) > KNOWN:
        with contextlib.suppress(StopIteration, KeyError, RuntimeError):  # another thread may be at it too
            del _known[next(iter(_known))]


def folder() -> Path:
    """Raises `BuildProblem` and `OSError`."""
    folder = cache_folder() / "structures"
    folder.mkdir(mode=0o700, exist_ok=True)
    return folder


def read(key: str, values: Mapping[str, Mapping[str, float]]) -> Structure | None:
    """What is kept on disk for these; nothing where it is not there, damaged, or of another version."""
    with contextlib.suppress(OSError, PendelError):
        for path in sorted(folder().glob(f"{key}-*.json")):
            with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
                structure = from_text(path.read_text("utf-8"))
                if still_hold(structure.answers, values):
                    os.utime(path)
                    return structure
    return None


def keep(key: str, structure: Structure) -> None:
    """Keep a structure on disk, where that can be."""
    with contextlib.suppress(OSError, PendelError):
        place = folder()
        text = to_text(structure)
        name = f"{key}-{hashlib.sha256(repr(structure.answers).encode()).hexdigest()[:16]}.json"
        with tempfile.NamedTemporaryFile("w", dir=place, delete=False, encoding="utf-8") as file:
            try:
                file.write(text)
                file.close()
                os.replace(file.name, place / name)
            except OSError:
                os.unlink(file.name)
                raise
        prune(place)


def prune(place: Path) -> None:
    ages = []
    for path in place.glob("*.json"):
        with contextlib.suppress(FileNotFoundError):
            ages.append((path.stat().st_mtime, path))
    for _, old in sorted(ages)[:-KEPT]:
        old.unlink(missing_ok=True)


def to_text(structure: Structure) -> str:
    record = {field.name: getattr(structure, field.name) for field in fields(structure)}
    record["answers"] = [(card, name, question.value, answer) for card, name, question, answer in structure.answers]
    body = json.dumps({"version": version(), "structure": record})
    return json.dumps({"sum": hashlib.sha256(body.encode()).hexdigest(), "body": body})


def from_text(text: str) -> Structure:
    """Raises `ValueError`, `KeyError` or `TypeError` for what is no structure of this version."""
    whole = json.loads(text)
    body = whole["body"]
    if hashlib.sha256(body.encode()).hexdigest() != whole["sum"]:
        raise ValueError("damaged")
    record = json.loads(body)
    if record["version"] != version():
        raise ValueError("of another version")
    kept = {name: tuples(value) for name, value in record["structure"].items()}
    kept["pulses"] = tuple(PulseShape(*shape) for shape in kept["pulses"])
    kept["answers"] = tuple(
        (card, name, Question(question), answer) for card, name, question, answer in kept["answers"]
    )
    return Structure(**kept)


def tuples(value: Any) -> Any:
    return tuple(tuples(v) for v in value) if isinstance(value, list) else value

"""Sets of live values in files: saved, read, compared."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from pendel.core.bench.description import Description, LiveValue
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.card_names import names_of
from pendel.core.check.values import evaluate_value, meant_unit
from pendel.core.drive.document import Drive
from pendel.core.errors import ExpressionProblem, FileProblem
from pendel.core.quantities.units import figure

FORMAT = "pendel values"
LARGEST, MOST = 1 << 20, 4000
"""Bytes of a file, and values in it."""


def set_text(name: str, texts: Mapping[str, str]) -> str:
    """Of a file: values as written, by ``block.value``."""
    return json.dumps({"format": FORMAT, "version": 1, "of": name, "values": dict(texts)}, indent=2) + "\n"


def read_set(path: Path) -> dict[str, str]:
    """Raises `FileProblem`."""
    try:
        if path.stat().st_size > LARGEST:
            raise ValueError
        facts = json.loads(path.read_text("utf-8"))
        values: dict[str, str] = facts["values"] if facts["format"] == FORMAT else {}
        good = facts["format"] == FORMAT and isinstance(values, dict) and len(values) <= MOST
        if not good or not all(isinstance(v, str) and len(v) < 1000 for v in values.values()):
            raise ValueError
    except OSError as problem:
        raise FileProblem(str(path), f"it cannot be read: {problem.strerror}.") from problem
    except (ValueError, KeyError, TypeError, RecursionError) as problem:
        raise FileProblem(str(path), "this is no set of values that Pendel saved. Choose another file.") from problem
    return dict(values)


def value_of(drive: Drive, live: LiveValue, text: str) -> float:
    """What a text is for a live value of a drive (SI). Raises `ExpressionProblem`."""
    declared = kind_in(drive, live.facts.block).value(live.facts.name)
    assert declared is not None
    names = names_of(drive)
    return evaluate_value(declared, text, names, meant_unit(drive, live.facts.block, declared))


def difference_words(
    texts: Mapping[str, str], description: Description, drive: Drive, now: Mapping[str, float]
) -> list[str]:
    """A sentence for each value of a set that the drive has otherwise, or not at all."""
    sentences = []
    for key, text in texts.items():
        live = description.values.get(key)
        if live is None:
            sentences.append(f"{key} is not live in this drive.")
            continue
        channel = live.channel
        try:
            value = value_of(drive, live, text)
        except ExpressionProblem as problem:
            sentences.append(f"{channel.title}: {problem}")
            continue
        if abs(value - now[key]) > 1e-9 * max(abs(value), abs(now[key])):
            words = f"{figure(value, channel.unit)} in the set, {figure(now[key], channel.unit)} in the drive"
            sentences.append(f"{channel.title}: {words}.")
    return sentences

"""Swept runs that were made of a drive, kept beside its runs: one JSON file, which anyone may have
written."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Sequence
from dataclasses import astuple
from pathlib import Path
from typing import Any

from pendel.core.drive.document import BESIDE_TABLES, Drive, KeptTransfer
from pendel.core.drive.file import to_text
from pendel.core.errors import FileProblem
from pendel.core.files.writing import write_atomically
from pendel.core.loops.models.sweep import SweptPoint

NAME = "sweeps.json"
MOST, MOST_POINTS, LARGEST = 60, 1000, 4 << 20
"""Sweeps that are kept, points of one, and bytes of a file that is read."""


def key_of(drive: Drive, way: KeptTransfer) -> str:
    """What a sweep is of: the drive but for what it keeps to look at, and the way."""
    plain = drive.copy()
    for table in (*BESIDE_TABLES, "taps"):
        plain.table(table).clear()
    text = json.dumps([to_text(plain), astuple(way)])
    return hashlib.sha256(text.encode()).hexdigest()


def resolved_way(drive: Drive, way: KeptTransfer) -> KeptTransfer:
    """With signals in the place of taps, so that a renamed tap is still the same way."""

    def signal(name: str) -> str:
        return str(drive.taps[name]) if name in drive.taps else name

    return KeptTransfer(signal(way.source), signal(way.target), tuple(map(signal, way.opened)), way.at)


def keep_sweep(folder: Path, drive: Drive, way: KeptTransfer, points: Sequence[SweptPoint]) -> None:
    """Keep the points in the place of those of the same drive and way. Raises `FileProblem`."""
    records = read_records(folder)
    key = key_of(drive, resolved_way(drive, way))
    records.pop(key, None)
    records[key] = [
        [p.frequency, p.response.real, p.response.imag, p.model.real, p.model.imag, p.harmonics, p.amplitude]
        for p in points[:MOST_POINTS]
    ]
    kept = dict(list(records.items())[-MOST:])
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if (folder / NAME).is_symlink():  # it would lead what is written elsewhere
            (folder / NAME).unlink()
    except OSError as problem:
        raise FileProblem(str(folder), f"the swept run cannot be kept: {problem.strerror}.") from problem
    write_atomically(folder / NAME, json.dumps(kept))


def kept_sweep(folder: Path, drive: Drive, way: KeptTransfer) -> tuple[SweptPoint, ...]:
    """The points that were kept of a drive as it is; none where there are none."""
    records = read_records(folder).get(key_of(drive, resolved_way(drive, way)), [])
    return tuple(SweptPoint(f, complex(re, im), complex(mre, mim), h, a) for f, re, im, mre, mim, h, a in records)


def read_records(folder: Path) -> dict[str, list[list[float]]]:
    """What a file holds, as far as it is what was written there."""
    path = folder / NAME
    try:
        if not path.is_file() or path.stat().st_size > LARGEST:
            return {}
        records = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError, RecursionError):
        return {}
    if not isinstance(records, dict):
        return {}
    return {key: points for key, points in records.items() if is_sweep(points)}


def is_sweep(points: Any) -> bool:
    return (
        isinstance(points, list)
        and 0 < len(points) <= MOST_POINTS
        and all(
            isinstance(p, list)
            and len(p) == 7
            and all(isinstance(x, int | float) and not isinstance(x, bool) and math.isfinite(x) for x in p)
            and p[0] > 0
            and math.hypot(p[1], p[2]) > 0
            and math.hypot(p[3], p[4]) > 0
            for p in points
        )
    )


__all__ = ["keep_sweep", "kept_sweep"]

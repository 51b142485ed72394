"""What the file of a kept run holds, as texts and arrays.

HDF5's library was not made for damaged or hostile files: some end a process, or never come to an end. So who must not
be held up has them read by `pendel.core.runs.record.evaluating.EvaluatorProcess`."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from pendel.core.files.hdf import held_within, opened

if TYPE_CHECKING:
    import h5py

CONDENSED = ("edges", "figures", "switched")
TEXTS, ARRAYS = ("drive", "equations"), ("rows", "ticks", "parameters")
LARGEST = 8 << 30
"""Bytes of one array of a kept run."""
DIMENSIONS = {"rows": 2, "ticks": 2, "parameters": 1}


@dataclass
class Content:
    """``texts`` are those of `TEXTS`, the format and the facts; ``arrays`` those of `ARRAYS`, and of the condensed
    record where there is one."""

    texts: dict[str, str] = field(default_factory=dict)
    arrays: dict[str, np.ndarray] = field(default_factory=dict)


def content_of(file: h5py.File) -> Content:
    """Read all of an open file. Raises whatever a damaged one makes the library raise."""
    if file.attrs.get("format") != "pendel run":
        return Content({"format": ""})
    content = Content({"format": "pendel run", "facts": str(file.attrs["facts"])})
    for name in TEXTS:
        content.texts[name] = text_in(file, name)
    for name in ARRAYS:
        content.arrays[name] = numbers_in(file, name, DIMENSIONS[name])
    if "condensed" in file:
        for name in CONDENSED:
            content.arrays[name] = numbers_in(file, f"condensed/{name}")
    return content


def content_here(path: Path) -> Content:
    """The same by path, in this process."""
    with opened(path, "r") as file:
        return content_of(file)


def packed(content: Content) -> bytes:
    """As bytes that are made of nothing but numbers and names: NumPy's own format without pickles."""
    texts = {f"text:{name}": np.frombuffer(text.encode(), np.uint8) for name, text in content.texts.items()}
    buffer = io.BytesIO()
    arrays: Any = {**texts, **content.arrays}
    np.savez(buffer, **arrays)
    return buffer.getvalue()


def unpacked(data: bytes) -> Content:
    """Raises whatever bytes that are no such file make NumPy raise."""
    content = Content()
    with np.load(io.BytesIO(data), allow_pickle=False) as held:
        for name in held.files:
            kind, parting, rest = name.partition(":")
            if parting and kind == "text":
                content.texts[rest] = held[name].astype(np.uint8).tobytes().decode()
            else:
                content.arrays[name] = np.ascontiguousarray(held[name], dtype=float)
    return content


def numbers_in(file: h5py.File, name: str, dimensions: int = 0) -> np.ndarray:
    """An array of numbers. Raises `ValueError` for anything else, or for more than can be meant."""
    dataset = held_within(file, name)
    if dataset.dtype.kind not in "fiu":
        raise ValueError(f"{name} holds no numbers")
    if dataset.size * 8 > LARGEST or (dimensions and len(dataset.shape) != dimensions):
        raise ValueError(f"{name} has a shape that cannot be")
    return np.ascontiguousarray(dataset[()], dtype=float)


def text_in(file: h5py.File, name: str) -> str:
    text = held_within(file, name)[()]
    if not isinstance(text, bytes):
        raise ValueError(f"{name} is no text")
    return text.decode()

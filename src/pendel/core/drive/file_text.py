"""The text of a drive's file: how it is read and taken apart, also where it is damaged."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pendel.core.errors import FileProblem

MAX_BYTES = 200_000_000
MOST_ENTRIES = 8_000_000
"""Of a file: its commas, which are counted before it is read."""

LeaveOut = Callable[[str], None]
"""Gets a sentence on what cannot be read: raises, or goes on without it."""


def text_of(path: Path) -> str:
    """Text of a regular file of a size a drive may have. Raises `FileProblem`."""
    try:
        if not path.is_file():
            reason = (
                "there is no such file."
                if not path.exists()
                else "this is no file that can be opened, but a folder or a device."
            )
            raise FileProblem(str(path), reason)
        with path.open("rb") as stream:
            size = os.fstat(stream.fileno()).st_size
            if size > MAX_BYTES:
                raise FileProblem(
                    str(path),
                    f"the file has {size / 1e6:.0f} MB; a drive has at most {MAX_BYTES // 1_000_000} MB. "
                    "This is probably another kind of file.",
                )
            data = stream.read(MAX_BYTES + 1)
    except (OSError, ValueError) as problem:
        cause = getattr(problem, "strerror", None) or problem
        raise FileProblem(str(path), f"it cannot be read: {cause}.") from problem
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as problem:
        raise FileProblem(str(path), "this is not a text file, so not a Pendel drive.") from problem


def parsed(text: str, source: str, leave_out: LeaveOut) -> Any:
    """The JSON of a text; where it breaks off or is damaged, what is before that."""
    try:
        return json.loads(text, parse_constant=refuse_constant)
    except (ValueError, RecursionError) as problem:
        where = f" in line {problem.lineno}" if isinstance(problem, json.JSONDecodeError) else ""
        leave_out(
            f"this is not a readable drive file (damaged{where}). The autosave or the previous version (.bak) may help."
        )
        ends = problem.pos if isinstance(problem, json.JSONDecodeError) else 0
    try:
        return json.loads(closed(text[:ends]), parse_constant=refuse_constant)
    except (ValueError, RecursionError) as problem:
        raise FileProblem(source, "nothing of this file can be read as a drive.") from problem


def closed(text: str) -> str:
    """The beginning of a JSON text up to its last whole item, with brackets closed."""
    opened: list[str] = []
    whole: tuple[int, list[str]] = (0, [])
    at, in_text = 0, False
    while at < len(text):
        letter = text[at]
        if in_text:
            at += letter == "\\"
            in_text = letter != '"'
        elif letter == '"':
            in_text = True
        elif letter in "[{":
            opened.append("]" if letter == "[" else "}")
            whole = (at + 1, list(opened))
        elif letter in "]}":
            if opened:
                opened.pop()
            whole = (at + 1, list(opened))
        elif letter == ",":
            whole = (at, list(opened))
        at += 1
    end, open_then = whole
    return text[:end] + "".join(reversed(open_then))


def refuse_constant(name: str) -> float:
    raise ValueError(f"{name} is not a value a drive can hold")

"""A script that belongs to a drive: Python that reads, changes and runs it. Nothing here runs one."""

from __future__ import annotations

from dataclasses import dataclass

LONGEST_SCRIPT = 400_000
"""Letters of a script."""


@dataclass(frozen=True)
class Script:
    """``text`` as typed, lines ended by a line feed."""

    text: str = ""


def script_lines(script: Script) -> list[str]:
    """As a drive's file holds it."""
    return script.text.split("\n")


def script_from(lines: list[str]) -> Script:
    return Script("\n".join(lines))

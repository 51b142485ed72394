"""Lines of C no longer than an editor shows: long statements and comments are broken where a reader would."""

from __future__ import annotations

import re
from textwrap import wrap

WIDTH, SHORT = 110, 24
BREAKS = re.compile(r"(?<=,) (?=\S)| (?=(?:[-+*/?:<>]|[<>=!]=|&&|\|\|) )")
"""Blanks at which a statement may go on in the next line: after a comma, before an operator."""
OPENING, CLOSING = "([{", ")]}"


def folded(text: str) -> str:
    """``text`` with every line that is too long broken; the compiler reads the same tokens."""
    return "\n".join(part for line in text.split("\n") for part in folded_line(line))


def folded_line(line: str) -> list[str]:
    if len(line) <= WIDTH or line.lstrip().startswith("#"):
        return [line]
    if line.startswith("/* ") and line.endswith(" */") and "*/" not in line[:-2]:
        inside = wrap(line[3:-3], WIDTH - 6, break_long_words=False, break_on_hyphens=False)
        lines = ["/* " + inside[0], *(f" * {rest}" for rest in inside[1:])]
        return [*lines[:-1], lines[-1] + " */"]
    if any(mark in line for mark in ("/*", "//", '"', "'")):
        return [line]
    return folded_statement(line)


def folded_statement(line: str) -> list[str]:
    """A statement over several lines, broken where the fewest brackets are open, and there as late as it fits."""
    further = " " * (len(line) - len(line.lstrip()) + 8)
    lines, rest = list[str](), line
    while len(rest) > WIDTH:
        start = len(rest) - len(rest.lstrip()) + 1
        places = [m.start() for m in BREAKS.finditer(rest, start, WIDTH + 1)]
        # A short piece alone on a line reads badly, however few brackets are open behind it.
        places = [p for p in places if p > WIDTH // 3 and len(rest) - p > SHORT] or places
        if not places:
            break
        at = min(places, key=lambda p: (depth(rest[:p]), -p))
        lines.append(rest[:at])
        rest = further + rest[at + 1 :]
    return [*lines, rest]


def depth(text: str) -> int:
    """How many brackets are open at the end of a text."""
    return sum((c in OPENING) - (c in CLOSING) for c in text)

"""Long functions of straight-line C in pieces: to keep thousands of numbers in registers takes a compiler more than
in proportion to their count (docs/numerics.md)."""

from __future__ import annotations

import re
from collections.abc import Sequence

LONG = 6000
"""Lines from which on a function is worth cutting."""
PIECE = 1500
WORD = re.compile(r"([A-Za-z_]\w*)")
DECLARED = re.compile(r" *double (\w+)(?:, (\w+))?(?: =|;)")
GIVEN = re.compile(r" *double (\w+) =|&(\w+)")


def function_of(name: str, parameters: str, begin: Sequence[str], lines: Sequence[str], more: str = "") -> str:
    """C of a function that gives nothing back. ``lines`` are declarations ``double a = …;``, declarations
    ``double a, b;`` before a call that takes their addresses, and assignments; all names are different. What
    ``begin`` declares is handed on to the pieces as the parameters ``more``."""
    if len(lines) < LONG:
        return f"void {name}({parameters})\n{{\n" + "\n".join([*begin, *lines]) + "\n}\n"
    pieces = ["\n".join(lines[k : k + PIECE]) for k in range(0, len(lines), PIECE)]
    at = {declared: k for k, piece in enumerate(pieces) for declared in names(DECLARED, piece)}
    places: dict[str, int] = {}
    """In ``common``, of names that one piece declares and others use."""
    for k, piece in enumerate(pieces):
        for word in WORD.findall(piece):
            if at.get(word, k) != k:
                places.setdefault(word, len(places))
    every = parameters + more
    texts, calls = [], []
    for k, piece in enumerate(pieces):
        others = {name: f"common[{place}]" for name, place in places.items() if at[name] != k}
        body = []
        for line in "".join([others.get(text, text) for text in WORD.split(piece)]).split("\n"):
            body.append(line)
            body += [f"    common[{places[n]}] = {n};" for n in names(GIVEN, line) if n in places]
        texts.append(f"void {name}_piece_{k}({every}, double *common)\n{{\n" + "\n".join(body) + "\n}\n")
        calls.append(f"    {name}_piece_{k}({', '.join(p.split()[-1].lstrip('*') for p in every.split(','))}, common);")
    begin = [*begin, f"    double common[{len(places) or 1}];"]
    texts.append(f"void {name}({parameters})\n{{\n" + "\n".join([*begin, *calls]) + "\n}\n")
    return "\n".join(texts)


def names(pattern: re.Pattern[str], text: str) -> list[str]:
    return [name for groups in pattern.findall(text) for name in groups if name]

"""What somebody asks of a drive in words: names that are nearly right, and figures with units."""

from __future__ import annotations

import difflib
from collections.abc import Iterable

from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, ExpressionProblem


def near_words(name: str, known: Iterable[str]) -> str:
    """“ Is it …?”, where something is called nearly so; else empty."""
    known = list(known)
    begins = [k for k in known if k.startswith(name)] if name else []
    near = begins or difflib.get_close_matches(name, known, n=1)
    return f" Is it {near[0]}?" if near else ""


def known_name(what: str, name: str, known: Iterable[str], owner: str) -> None:
    """Raise `DriveProblem` with what there is, when ``name`` is not among it."""
    known = sorted(known)
    if name not in known:
        raise DriveProblem(f"{owner} has no {what} “{name}”. It has {', '.join(known) or 'none'}.")


def read_figure(drive: Drive, text: str | None, unit: str, otherwise: float) -> float:
    """A text with a unit, or with the drive's quantities, in a unit. Raises `DriveProblem`."""
    from pendel.core.catalogue.card_names import names_of  # which knows what a drive may name
    from pendel.core.quantities.expressions import value_in_field

    if not text:
        return otherwise
    try:
        return value_in_field(text, unit, names_of(drive))
    except ExpressionProblem as problem:
        raise DriveProblem(str(problem)) from problem


__all__ = ["known_name", "near_words", "parted", "read_figure"]


def parted(text: str, mark: str) -> list[str]:
    """Parts of a text between marks outside of brackets."""
    parts, depth, begun = [], 0, 0
    for place, letter in enumerate(text):
        depth += (letter == "(") - (letter == ")")
        if letter == mark and depth <= 0:
            parts.append(text[begun:place])
            begun = place + 1
    return [*parts, text[begun:]]

"""Lines on the terminal. Names and values of a drive may come from anyone, so nothing in them moves the cursor, ends a
line, begins a column or turns the direction of writing: such characters are shown as escapes."""

from __future__ import annotations

import json
import sys

from pendel.core.wording import ACTING, visible


def visible_json(document: str) -> str:
    """The same of a JSON document, which stays one: within its strings ends of lines are escapes already."""
    return ACTING.sub(lambda found: found[0] if found[0] == "\n" else json.dumps(found[0])[1:-1], document)


def print_line(*cells: object) -> None:
    """Print a line with columns apart by tabs."""
    print(*(visible(str(cell)) for cell in cells), sep="\t")


def print_aside(*lines: object) -> None:
    """Print to the error stream; lines after the first, as of a compiler, are set in."""
    print(*(visible(str(line)) for line in lines), sep="\n  ", file=sys.stderr)

"""Lines on the terminal. Names and values of a drive may come from anyone, so nothing in them moves the cursor, ends a
line, begins a column or turns the direction of writing: such characters are shown as escapes."""

from __future__ import annotations

import json
import re
import sys

ACTING = re.compile(
    "[\x00-\x1f\x7f-\x9f\u061c\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f]"
)
"""Characters that act on a terminal instead of being seen: control characters of C0 and C1, ends of lines, marks of
direction (Unicode Standard Annex 9), what has no width, halves of pairs, and tags. Joiners stay, since words of some
languages need them."""


def visible(text: str) -> str:
    """A text in one line, as it may go to a terminal."""
    return ACTING.sub(lambda found: found[0].encode("unicode_escape").decode(), text)


def visible_json(document: str) -> str:
    """The same of a JSON document, which stays one: within its strings ends of lines are escapes already."""
    return ACTING.sub(lambda found: found[0] if found[0] == "\n" else json.dumps(found[0])[1:-1], document)


def print_line(*cells: object) -> None:
    """Print a line with columns apart by tabs."""
    print(*(visible(str(cell)) for cell in cells), sep="\t")


def print_aside(*lines: object) -> None:
    """Print to the error stream; lines after the first, as of a compiler, are set in."""
    print(*(visible(str(line)) for line in lines), sep="\n  ", file=sys.stderr)

"""Small things about words that many rooms say."""

from __future__ import annotations

import re


def sentence_case(text: str) -> str:
    """The text with a capital first letter; names such as DC and EMF within it stay as they are.

    >>> sentence_case("current of the DC link")
    'Current of the DC link'
    """
    return text[:1].upper() + text[1:]


ACTING = re.compile(
    "[\x00-\x1f\x7f-\x9f\u061c\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f]"
)
"""Characters that act on a terminal instead of being seen: control characters of C0 and C1, ends of lines, marks of
direction (Unicode Standard Annex 9), what has no width, halves of pairs, and tags. Joiners stay, since words of some
languages need them."""


def megabytes(size: float) -> str:
    """So many bytes, as they are read."""
    return f"{size / 1e6:.3g} MB" if size >= 1e5 else f"{size / 1e3:.3g} kB"


def visible(text: str) -> str:
    """A text in one line, as it may go to a terminal."""
    return ACTING.sub(lambda found: found[0].encode("unicode_escape").decode(), text)

"""The words of C that have a colour, by Pygments."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from pygments import lex
from pygments.lexers import CLexer
from pygments.token import Token

LEXER = CLexer(stripnl=False, ensurenl=False)
"""Building one takes much longer than a line."""
TINTED = (Token.Comment, Token.Keyword, Token.Literal, Token.Comment.Preproc, Token.Name.Function)
"""Kinds of words that have a colour; the first that fits."""

Line = tuple[str, bool]
"""A line, and whether it begins inside a comment."""
Words = tuple[tuple[tuple[int, int, int], ...], bool]
"""Where its words begin, how long they are and which of `TINTED` they are; and whether it ends inside a
comment."""


@lru_cache(maxsize=20_000)
def words_in(line: str, starts_inside: bool) -> Words:
    """The words of a line. An edit leaves most lines of the C as they were."""
    whole = f"/*{line}" if starts_inside else line
    shift = 2 if starts_inside else 0
    inside = "/*" in whole and whole.rfind("/*") > whole.rfind("*/")
    at, words = 0, []
    for kind, piece in lex(whole + ("*/" if inside else ""), LEXER):
        number = next((n for n, tinted in enumerate(TINTED) if kind in tinted), None)
        if number is not None:
            start = max(0, at - shift)
            words.append((start, at - shift + len(piece) - start, number))
        at += len(piece)
    return tuple(words), inside


def words_of(texts: Iterable[str]) -> dict[Line, Words]:
    """The words of all lines of texts."""
    words: dict[Line, Words] = {}
    for text in texts:
        inside = False
        for line in text.split("\n"):
            words[line, inside] = words_in(line, inside)
            inside = words[line, inside][1]
    return words

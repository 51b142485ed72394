"""The signs that an expression is made of."""

from __future__ import annotations

import re
from dataclasses import dataclass

from pendel.core.errors import SyntaxProblem

MAX_LENGTH = 2000


@dataclass(frozen=True)
class Token:
    kind: str
    text: str
    start: int
    end: int


TOKEN = re.compile(
    r"(?P<number>(\d+\.?\d*|\.\d+)([eE][+\-−]?\d+)?)"
    r"|(?P<name>°C?|%|[^\W\d²³][^\W²³]*(\.[^\W\d²³][^\W²³]*)*)"
    r"|(?P<op>[-+*/^(),=·−×²³])"
    r"|(?P<space>[\s\u2009\u202f]+|\#[^\n]*)"
)


def without_remark(text: str) -> str:
    """What stands before a remark, which # begins."""
    return text.partition("#")[0].rstrip()


def tokens(text: str) -> list[Token]:
    if len(text) > MAX_LENGTH:
        raise SyntaxProblem(text, 0, f"it is longer than {MAX_LENGTH} characters")
    tokens, at = [], 0
    while at < len(text):
        match = TOKEN.match(text, at)
        if match is None:
            raise SyntaxProblem(text, at, f"“{text[at]}” has no place here")
        if match.lastgroup != "space" and match.group("space") is None:
            kind = "number" if match.group("number") else "name" if match.group("name") else "op"
            shown = {"·": "*", "×": "*"}.get(match.group(), match.group().replace("−", "-"))
            tokens.append(Token(kind, shown, at, match.end()))
        at = match.end()
    # Thin-spaced thousands, as Pendel prints them, read back as one number.
    joined: list[Token] = []
    for token in tokens:
        last = joined[-1] if joined else None
        gap = text[last.end : token.start] if last else ""
        if (
            last
            and last.kind == token.kind == "number"
            and last.text.isdigit()
            and gap in ("\u2009", "\u202f", " ")
            and re.match(r"\d{3}(\D|$)", token.text)
        ):
            joined[-1] = Token("number", last.text + token.text, last.start, token.end)
        else:
            joined.append(token)
    return with_decimal_commas(joined, text)


def with_decimal_commas(tokens: list[Token], text: str) -> list[Token]:
    """Outside of brackets, where a comma parts nothing, ``0,9`` is a number. Raises `SyntaxProblem` for what may be a
    thousand, ``1,000``."""
    joined: list[Token] = []
    depth = 0
    for token in tokens:
        depth += (token.text == "(") - (token.text == ")")
        whole, comma = (joined[-2], joined[-1]) if len(joined) > 1 else (token, token)
        figures = whole.kind == token.kind == "number" and whole.text.isdigit() and token.text[0] != "."
        if depth or comma.text != "," or not figures:
            joined.append(token)
            continue
        if not whole.end == comma.start == token.start - 1:
            raise SyntaxProblem(text, comma.start, "a comma parts nothing here; write one number")
        if "." in token.text:
            raise SyntaxProblem(text, comma.start, f"a comma does not part thousands; write {whole.text}{token.text}")
        if whole.text != "0" and re.fullmatch(r"\d{3}", token.text):
            shown = f"{whole.text}.{token.text} or {whole.text}{token.text}"
            raise SyntaxProblem(text, whole.start, f"the comma may stand for a point or for thousands; write {shown}")
        joined[-2:] = [Token("number", f"{whole.text}.{token.text}", whole.start, token.end)]
    return joined

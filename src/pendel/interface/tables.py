"""Tables for notebooks."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape


def html_table(title: str, heads: Iterable[str], rows: Iterable[Iterable[str]]) -> str:
    """A table for notebooks; all its text is shown as it is."""

    def line(cells: Iterable[str], tag: str) -> str:
        return "<tr>" + "".join(f"<{tag} style='text-align:left'>{escape(c)}</{tag}>" for c in cells) + "</tr>"

    body = "".join(line(row, "td") for row in rows)
    return f"<table><caption>{escape(title)}</caption>{line(heads, 'th')}{body}</table>"

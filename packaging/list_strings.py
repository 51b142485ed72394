"""Print what a user can read of Pendel, to be read as a whole: ``python packaging/list_strings.py [folder]``.

One line each: file, line, text. An expression inside a text is shown as ``{…}``. Left out are docstrings, names, keys,
and what only computers read."""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

SOURCES = Path(__file__).parent.parent / "src" / "pendel"
WORDS = re.compile(r"[^\W\d_]{2,}.*\s.*[^\W\d_]{2,}|^[A-Z][a-z]+( …)?$", re.DOTALL)
"""Two words, or one as on a button."""
MACHINES = re.compile(r"[;{}<>\\]\s*$|^\s*#|^[\w.]+\(|#include|font-|border|^import |(?:static|const|double|float) ")
"""Ends and beginnings of C, styles and Python."""


def texts(path: Path) -> Iterator[tuple[int, str]]:
    """Line and text of all strings of a module that are written for people."""
    tree = ast.parse(path.read_text("utf-8"))
    skipped = set()
    for node in ast.walk(tree):
        for field, value in ast.iter_fields(node):
            if isinstance(value, list) and field == "body":
                skipped |= {id(n.value) for n in value if isinstance(n, ast.Expr) and isinstance(n.value, ast.Constant)}
        if isinstance(node, ast.JoinedStr):
            skipped |= {id(part) for part in node.values}
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            parts = (p.value if isinstance(p, ast.Constant) else "{…}" for p in node.values)
            yield node.lineno, "".join(str(part) for part in parts)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in skipped:
            yield node.lineno, node.value


def main(folder: Path = SOURCES) -> None:
    for path in sorted(folder.rglob("*.py")):
        for line, text in sorted(texts(path)):
            flat = " ".join(text.split())
            if WORDS.search(flat) and not MACHINES.search(flat):
                print(f"{path.relative_to(folder)}:{line}\t{flat}")


if __name__ == "__main__":
    main(*(Path(each) for each in sys.argv[1:2]))

"""Benchmarks are run seldom, so that what they call may be gone by then: each is imported, and every name that it takes
from a module of Pendel is there, also in the texts that it hands to other processes."""

import ast
import importlib
import sys
import textwrap
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

import pytest

FOLDER = Path(__file__).parents[2] / "benchmarks"


def named(tree: ast.AST) -> dict[str, object]:
    """What is imported from our modules, by name."""
    found: dict[str, object] = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("pendel"):
            module = importlib.import_module(node.module)
            for each in node.names:
                if not hasattr(module, each.name):
                    importlib.import_module(f"{node.module}.{each.name}")
                found[each.asname or each.name] = getattr(module, each.name)
    return found


def gone_from(tree: ast.AST) -> Iterator[str]:
    known = named(tree)
    for node in ast.walk(tree):
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            owner = known.get(node.value.id)
            if isinstance(owner, ModuleType | type) and not hasattr(owner, node.attr):
                yield f"{node.value.id}.{node.attr}"
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and "from pendel" in node.value:
            yield from gone_from(ast.parse(textwrap.dedent(node.value)))


@pytest.mark.parametrize("name", sorted(path.stem for path in FOLDER.glob("*.py")))
def test_a_benchmark_finds_what_it_calls(name, monkeypatch):
    monkeypatch.setattr(sys, "path", [str(FOLDER), str(FOLDER.parent), *sys.path])
    importlib.import_module(name)
    assert not list(gone_from(ast.parse((FOLDER / f"{name}.py").read_text("utf-8"))))

"""The block language: a small, typed part of Python that describes one update of a block.

Allowed are assignments, ``if``/``elif``/``else``, conditional expressions, arithmetic, comparisons,
``and``/``or``/ ``not`` and the intrinsics listed in `INTRINSICS`. The text of the function is read once; from
the tree come C for each number format (`pendel.core.controllers.emit`) and the symbolic form for linear
models (`pendel.core.controllers.symbolic`).
"""

from __future__ import annotations

import ast
import inspect
import textwrap
from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from functools import lru_cache

from pendel.core.errors import PendelError, shorten

INTRINSICS = {
    "saturate": 3,
    "absolute": 1,
    "floor": 1,
    "sqrt": 1,
    "sin": 1,
    "cos": 1,
    "atan2": 2,
    "minimum": 2,
    "maximum": 2,
    "wrapped": 1,
    "delayed": 3,
    "recalled": 2,
    "normal": 1,
    "interpolated": 2,
    "mapped": 4,
}
ACTIONS = {"remember": 2}
"""Calls that stand alone, since they only change memory."""
MEMORY = {"line": "delay line", "rng": "random source", "table": "profile table"}
"""Arguments of these names are not numbers but memory that only intrinsics touch."""
MEMORY_OF = {
    "delayed": "line",
    "recalled": "line",
    "remember": "line",
    "normal": "rng",
    "interpolated": "table",
    "mapped": "table",
}
"""The memory that is an intrinsic's first value."""


DEEPEST = 150
"""Operations in each other in one expression, and decisions in each other."""


class LanguageProblem(PendelError):
    """An update uses something outside the block language."""

    def __init__(self, function: str, line: int, reason: str):
        super().__init__(function, line, reason)
        self.function, self.line, self.reason = function, line, reason

    def __str__(self) -> str:
        return f"{self.function}, line {self.line}: {self.reason}."


@dataclass(frozen=True)
class Update:
    """A checked update: its arguments, statements, names of locals, and its comment."""

    name: str
    arguments: tuple[str, ...]
    body: tuple[ast.stmt, ...]
    locals: tuple[str, ...]
    comment: str
    verbatim: str = ""
    """Statements in C that stand for the body, which is then empty."""
    convert: str = ""
    """Those that turn values into words, for fixed point, ..."""
    words: str = ""
    """... and that are the update then."""

    @property
    def memory(self) -> list[str]:
        return [a for a in self.arguments if a in MEMORY]

    def halves(self, held: Collection[str]) -> tuple[Update, Update]:
        """What gives the outputs from what is remembered, and what takes the ``held`` inputs in for the next
        time.

        The first statement that mentions a held input begins the second half.
        """
        cut = next((k for k, statement in enumerate(self.body) if names_in(statement) & set(held)), len(self.body))
        return replace(self, body=self.body[:cut]), replace(self, body=self.body[cut:])


@lru_cache(maxsize=256)
def read_update(function: Callable[..., None] | Update) -> Update:
    """Read and check the text of an update function; what is read already is given back.

    Raises
    ------
    LanguageProblem
        for anything outside the language, with the line.
    """
    if isinstance(function, Update):
        return function
    return parse_update(textwrap.dedent(inspect.getsource(function)))


def parse_update(text: str) -> Update:
    try:
        tree = ast.parse(text).body[0]
    except (RecursionError, MemoryError) as problem:
        raise LanguageProblem("update", 1, "it is nested too deeply; split it over several lines") from problem
    except UnicodeError as problem:
        raise LanguageProblem("update", 1, "it has letters that no file can hold; type them anew") from problem
    if not isinstance(tree, ast.FunctionDef):
        raise LanguageProblem("update", 1, "it is not a function")
    arguments = tuple(a.arg for a in tree.args.args)
    comment = ast.get_docstring(tree) or ""
    body = tuple(tree.body[1:] if comment else tree.body)
    check = Checker(tree.name, set(arguments))
    for statement in body:
        check.statement(statement)
    return Update(tree.name, arguments, body, tuple(check.assigned), comment)


def as_written(node: ast.expr) -> str:
    """An expression as it was typed, or its kind where it is too deep to be written."""
    try:
        return shorten(ast.unparse(node))
    except RecursionError:
        return type(node).__name__.lower()


def names_in(statement: ast.stmt) -> set[str]:
    return {node.id for node in ast.walk(statement) if isinstance(node, ast.Name)}


class Checker:
    def __init__(self, name: str, known: set[str]):
        self.name, self.known, self.assigned = name, known, list[str]()
        self.depth = self.branches = 0

    def fail(self, node: ast.AST, reason: str) -> LanguageProblem:
        return LanguageProblem(self.name, getattr(node, "lineno", 0), reason)

    def statement(self, node: ast.stmt) -> None:
        self.branches += 1
        if self.branches > DEEPEST:
            raise self.fail(node, f"more than {DEEPEST} decisions are in each other; decide in steps")
        self._look_at(node)
        self.branches -= 1

    def _look_at(self, node: ast.stmt) -> None:
        match node:
            case ast.Assign(targets=[ast.Name(id=name)], value=value):
                self.expression(value)
                if name in MEMORY:
                    raise self.fail(node, f"{name} is memory and cannot be assigned")
                if name not in self.known:
                    self.known.add(name)
                    self.assigned.append(name)
            case ast.Expr(value=ast.Call(func=ast.Name(id=name), args=args, keywords=[])) if name in ACTIONS:
                if len(args) != ACTIONS[name]:
                    raise self.fail(node, f"{name} takes {ACTIONS[name]} values")
                self.call(node, name, args)
            case ast.If(test=test, body=body, orelse=orelse):
                self.expression(test)
                for inner in (*body, *orelse):
                    self.statement(inner)
            case _:
                raise self.fail(node, f"{type(node).__name__.lower()} is not part of the block language")

    def call(self, node: ast.AST, name: str, args: list[ast.expr]) -> None:
        """Values of a call; what needs memory must have it, of its kind, first."""
        memory = MEMORY_OF.get(name)
        if memory:
            first, args = args[0], args[1:]
            if not (isinstance(first, ast.Name) and first.id == memory and memory in self.known):
                raise self.fail(node, f"{name} needs a {MEMORY[memory]}, which this block has not")
        for argument in args:
            self.expression(argument)

    def expression(self, node: ast.expr) -> None:
        self.depth += 1
        if self.depth > DEEPEST:
            raise self.fail(node, f"it holds more than {DEEPEST} operations in each other; split it over several lines")
        self._look_into(node)
        self.depth -= 1

    def _look_into(self, node: ast.expr) -> None:
        match node:
            case ast.Constant(value=value) if isinstance(value, int | float) and not isinstance(value, bool):
                return
            case ast.Name(id=name):
                if name in MEMORY:
                    raise self.fail(node, f"{name} is memory and no number")
                if name not in self.known:
                    raise self.fail(node, f"{name} has no value here")
                return
            case ast.Call(func=ast.Name(id=name), args=args, keywords=[]) if name in INTRINSICS:
                if len(args) != INTRINSICS[name]:
                    raise self.fail(node, f"{name} takes {INTRINSICS[name]} values")
                self.call(node, name, args)
                return
            case ast.BinOp(op=ast.Add() | ast.Sub() | ast.Mult() | ast.Div() | ast.Pow()):
                if isinstance(node.op, ast.Pow):
                    raise self.fail(node, "powers are not part of the block language; multiply")
            case ast.UnaryOp(op=ast.USub() | ast.Not()) | ast.BoolOp() | ast.IfExp():
                pass
            case ast.Compare(ops=[ast.Lt() | ast.LtE() | ast.Gt() | ast.GtE()]):
                pass
            case _:
                raise self.fail(node, f"{as_written(node)} is not part of the block language")
        for child in ast.iter_child_nodes(node):
            if isinstance(child, ast.expr) and not (isinstance(node, ast.Call) and child is node.func):
                self.expression(child)

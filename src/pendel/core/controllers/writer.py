"""Statements of the block language as C in float64, for the simulation."""

from __future__ import annotations

import ast
from collections.abc import Sequence
from functools import lru_cache

from pendel.core.controllers.c_names import identifiers
from pendel.core.controllers.language import MEMORY, Update

LIBRARY = ("floor", "sqrt", "sin", "cos", "atan2")
"""Functions of the block language that C has."""


class Writer:
    """C of expressions and statements of one update."""

    def __init__(self, update: Update):
        self.fields = {a: f"b->{field}" for a, field in fields_of(update).items()}
        self.locals = identifiers(update.locals, ("b",))

    def expression(self, node: ast.expr) -> str:
        match node:
            case ast.Constant(value=int() | float() as value):
                return repr(float(value))
            case ast.Name(id=name):
                return self.place(name)
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                return f"-{self.inner(operand)}"
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                return f"!({self.expression(operand)})"
            case ast.BinOp(left=left, op=op, right=right):
                sign = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/"}[type(op)]
                tight = isinstance(op, ast.Mult | ast.Div)
                after = self.operand(right, tight, not isinstance(op, ast.Add | ast.Mult))
                return f"{self.operand(left, tight, False)} {sign} {after}"
            case ast.BoolOp(op=op, values=values):
                sign = " && " if isinstance(op, ast.And) else " || "
                return sign.join(f"({self.expression(v)})" for v in values)
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                sign = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}[type(op)]
                return f"{self.expression(left)} {sign} {self.expression(right)}"
            case ast.IfExp(test=test, body=body, orelse=orelse):
                return f"({self.expression(test)}) ? {self.inner(body)} : {self.inner(orelse)}"
            case ast.Call(func=ast.Name(id=name), args=args):
                return f"{function_name(name)}({', '.join(self.argument(a) for a in args)})"
        raise AssertionError(ast.dump(node))  # the checker admits nothing else

    def place(self, name: str) -> str:
        return self.fields.get(name) or self.locals[name]

    def argument(self, node: ast.expr) -> str:
        if isinstance(node, ast.Name) and node.id in MEMORY:
            return f"&b->{node.id}"
        return self.expression(node)

    def operand(self, node: ast.expr, tight: bool, after: bool) -> str:
        wraps = isinstance(node, ast.IfExp | ast.Compare | ast.BoolOp)
        if isinstance(node, ast.BinOp):
            weak = isinstance(node.op, ast.Add | ast.Sub)
            wraps = (tight and weak) or (after and (weak or tight))
        text = self.expression(node)
        return f"({text})" if wraps else text

    def inner(self, node: ast.expr) -> str:
        text = self.expression(node)
        return text if isinstance(node, ast.Name | ast.Constant | ast.Call) else f"({text})"

    def statements(self, body: Sequence[ast.stmt], indent: int, known: set[str]) -> list[str]:
        pad, lines = "    " * indent, []
        for node in body:
            if isinstance(node, ast.If):
                lines += self.branches(node, indent, known)
            elif isinstance(node, ast.Expr):
                lines.append(f"{pad}{self.expression(node.value)};")
            elif isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
                name = node.targets[0].id
                declare = "real_t " if name not in self.fields and name not in known else ""
                known.add(name)
                lines.append(f"{pad}{declare}{self.place(name)} = {self.expression(node.value)};")
        return lines

    def branches(self, node: ast.If, indent: int, known: set[str]) -> list[str]:
        pad = "    " * indent
        lines = [
            f"{pad}if ({self.expression(node.test)}) {{",
            *self.statements(node.body, indent + 1, set(known)),
        ]
        rest = node.orelse
        while len(rest) == 1 and isinstance(rest[0], ast.If):
            lines += [
                f"{pad}}} else if ({self.expression(rest[0].test)}) {{",
                *self.statements(rest[0].body, indent + 1, set(known)),
            ]
            rest = rest[0].orelse
        if rest:
            lines += [f"{pad}}} else {{", *self.statements(rest, indent + 1, set(known))]
        return [*lines, f"{pad}}}"]


@lru_cache(maxsize=256)
def fields_of(update: Update) -> dict[str, str]:
    """Fields of a block's struct by the arguments of its update; memory keeps its name."""
    memory = [a for a in update.arguments if a in MEMORY]
    others = [a for a in update.arguments if a not in MEMORY and a != "dt"]
    return {**identifiers(others, ("dt", *MEMORY)), **{m: m for m in memory}, "dt": "dt"}


def function_name(name: str) -> str:
    """A function of the block language in C: the library's own, or one of ours."""
    return name if name in LIBRARY else f"pd_{name}"

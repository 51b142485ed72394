"""A block's update in float: C that gives the same bits on every processor whose float is IEEE 754."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from pendel.core.controllers.numbers.block import BlockTree
from pendel.core.controllers.numbers.conversion import float_text
from pendel.core.controllers.numbers.explained import Explained, NamedNumbers
from pendel.core.controllers.numbers.integers import otherwise as joined_else
from pendel.core.controllers.numbers.live import LiveNumbers
from pendel.core.controllers.numbers.tree import (
    CLOSE,
    Assign,
    Call,
    CannotLower,
    Choose,
    Compare,
    Const,
    Either,
    Every,
    Expr,
    Live,
    Name,
    Product,
    Quotient,
    Remember,
    Scaled,
    Statement,
    Sum,
    Test,
    When,
    assignments,
    increment,
)

LARGEST, LEAST = 3.4e38, 1.2e-38
"""Normal numbers of 32-bit float (IEEE 754)."""
LOOSE, SUM, PRODUCT, ATOM = range(4)
"""How tightly an expression holds together in C."""


@dataclass
class FloatWriter:
    """C of one block's update in float of 32 or 64 bits.

    States that an update adds to keep, in 32 bits, what a sum rounds away: at 20 kHz a count of ticks would
    stop after fourteen minutes, and so would an integral whose increments have become small beside it.
    """

    tree: BlockTree
    bits: int
    places: Mapping[str, str]
    tables: list[str] = field(default_factory=list)
    live: LiveNumbers = field(default_factory=LiveNumbers)
    numbers: NamedNumbers | None = None
    """Where numbers get names, if they do."""

    @property
    def suffix(self) -> str:
        return "f" if self.bits == 32 else "d"

    @property
    def c_type(self) -> str:
        return "float" if self.bits == 32 else "double"

    @property
    def kept(self) -> frozenset[str]:
        """States with a rest."""
        return sums_in(self.tree) if self.bits == 32 else frozenset()

    def literal(self, value: float) -> str:
        if self.bits == 32 and abs(value) > LARGEST:
            raise CannotLower(
                self.tree.title, f"it holds {value:.3g}, more than 32-bit float can. Choose float 64 for it."
            )
        return float_text(0.0 if self.bits == 32 and abs(value) < LEAST else float(value), self.bits)

    def constant(self, value: float) -> str:
        text = self.literal(value)
        if isinstance(value, Explained) and value and self.numbers is not None:
            return self.numbers.name(value, self.c_type, text)
        return f"({text})" if value < 0 else text

    def value(self, expr: Expr, minimum: int = LOOSE) -> str:
        """An expression; in brackets where it holds together less than ``minimum``."""
        text, holds = self._value(expr)
        return text if holds >= minimum else f"({text})"

    def _value(self, expr: Expr) -> tuple[str, int]:
        match expr:
            case Const(value):
                return self.constant(value), ATOM
            case Live():
                return self.live.in_float(expr, self.bits), ATOM
            case Name(name):
                return self.places[name], ATOM
            case Sum(left, right, minus):
                return f"{self.value(left, SUM)} {'-' if minus else '+'} {self.value(right, PRODUCT)}", SUM
            case Scaled(factor, of):
                if factor == -1.0:
                    return f"-{self.value(of, ATOM)}", PRODUCT
                return f"{self.constant(factor)} * {self.value(of, ATOM)}", PRODUCT
            case Product(left, right):
                return f"{self.value(left, PRODUCT)} * {self.value(right, ATOM)}", PRODUCT
            case Quotient(over, under):
                return f"{self.value(over, PRODUCT)} / {self.value(under, ATOM)}", PRODUCT
            case Choose(test, yes, no):
                return f"({self.test(test)}) ? {self.value(yes, ATOM)} : {self.value(no, ATOM)}", LOOSE
            case Call(name, args):
                return self.call(name, args), ATOM
        raise AssertionError(expr)

    def call(self, name: str, args: Sequence[Expr]) -> str:
        match name:
            case "recalled":
                return "b->past[b->at]"
            case "interpolated":
                return self.interpolated(args[0])
            case "mapped":
                return self.mapped(args)
            case "normal" | "delayed":
                raise CannotLower(self.tree.title, f"{name} belongs to sensors, which stay on the host.")
        return f"pd_{name}_{self.suffix}({', '.join(self.value(a) for a in args)})"

    def array(self, name: str, values: Sequence[float]) -> str:
        if not any(f" pd_{name}[" in t for t in self.tables):
            text = ", ".join(self.literal(v) for v in values)
            self.tables.append(f"static const {self.c_type} pd_{name}[{len(values)}] = {{{text}}};")
        return f"pd_{name}"

    def interpolated(self, at: Expr) -> str:
        table = self.tree.instance.table
        if not table:
            return self.constant(0.0)
        stem = self.places[""]
        x = self.array(f"{stem}_x", [a for a, _ in table])
        y = self.array(f"{stem}_y", [b for _, b in table])
        return f"pd_interpolated_{self.suffix}({x}, {y}, {len(table)}, {self.value(at)})"

    def mapped(self, args: Sequence[Expr]) -> str:
        layer = getattr(args[0], "value", None)
        if layer is None:
            raise CannotLower(self.tree.title, "the layer of its map is no constant. Name it by a number.")
        first, stem = [a for a, _ in self.tree.instance.table], self.places[""]
        nx, ny = int(first[0]), int(first[1])
        axes = first[2 : 2 + nx], first[2 + nx : 2 + nx + ny]
        held = np.float32 if self.bits == 32 else np.float64
        if any(len({held(v) for v in axis}) < len(axis) for axis in axes):
            raise CannotLower(self.tree.title, CLOSE)
        x, y = self.array(f"{stem}_x", axes[0]), self.array(f"{stem}_y", axes[1])
        z = self.array(f"{stem}_z{int(layer)}", self.tree.table_values(int(layer)))
        at = ", ".join(self.value(a) for a in args[1:])
        return f"pd_mapped_{self.suffix}({x}, {nx}, {y}, {ny}, {z}, {at})"

    def test(self, test: Test) -> str:
        match test:
            case Compare(op, left, right):
                return f"{self.value(left, SUM)} {op} {self.value(right, SUM)}"
            case Every(tests):
                return " && ".join(f"({self.test(t)})" for t in tests)
            case Either(tests):
                return " || ".join(f"({self.test(t)})" for t in tests)
        raise AssertionError(test)

    def statements(self, body: Sequence[Statement], declared: set[str], indent: int = 1) -> list[str]:
        """``declared`` are names that need no type any more."""
        pad, lines = "    " * indent, list[str]()
        for statement in body:
            match statement:
                case Assign(name, value):
                    lines.append(pad + self.assign(name, value, declared))
                case Remember(value):
                    lines += [
                        f"{pad}b->past[b->at] = {self.value(value)};",
                        f"{pad}b->at = (b->at + 1 < {self.tree.places}) ? (b->at + 1) : 0;",
                    ]
                case When(test, then, otherwise):
                    lines += [f"{pad}if ({self.test(test)}) {{", *self.statements(then, declared, indent + 1)]
                    if otherwise:
                        lines += joined_else(self.statements(otherwise, declared, indent + 1), pad)
                    lines.append(f"{pad}}}")
        return lines

    def assign(self, name: str, value: Expr, declared: set[str]) -> str:
        at = self.places[name]
        if name in self.kept:
            if value == Call("wrapped", (Name(name),)):
                return f"pd_wrap_{self.suffix}(&{at}, &{at}_rest);"
            step = increment(value, name)
            if step is not None:
                return f"pd_add_{self.suffix}(&{at}, &{at}_rest, {self.value(step)});"
            return f"pd_put_{self.suffix}(&{at}, &{at}_rest, {self.value(value)});"
        kind = "" if name in declared else f"const {self.c_type} "
        return f"{kind}{at} = {self.value(value)};"


def sums_in(tree: BlockTree) -> frozenset[str]:
    """States that the update adds to."""
    return frozenset(
        a.name for a in assignments(tree.body) if a.name in tree.states and increment(a.value, a.name) is not None
    )

"""An update as a tree for one block of a drive: its constants filled in, choices settled, factors collected.

What a block's values decide is decided here, so that the C of a block holds the chosen branch alone. Factors
and divisors that are constants become one coefficient; what cannot be seen from outside is left out.
"""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, fields
from typing import cast

from pendel.core.errors import PendelError


class CannotLower(PendelError):
    """A block has no C in a number format."""

    def __init__(self, block: str, reason: str):
        super().__init__(block, reason)
        self.block, self.reason = block, reason

    def __str__(self) -> str:
        return f"{self.block}: {self.reason}"


CLOSE = (
    "points of its map lie closer than a step of the format. Choose one with more bits, or leave points out."
)


class Expr:
    """An expression; numbers in SI. Alike expressions are equal."""

    @property
    def parts(self) -> tuple[Expr, ...]:
        return ()

    def walk(self) -> Iterator[Expr]:
        yield self
        for part in self.parts:
            yield from part.walk()

    @property
    def names(self) -> frozenset[str]:
        return frozenset(e.name for e in self.walk() if isinstance(e, Name))


@dataclass(frozen=True)
class Const(Expr):
    value: float


@dataclass(frozen=True)
class Name(Expr):
    name: str


class _Joined(Expr):
    @property
    def parts(self) -> tuple[Expr, ...]:
        values = (getattr(self, f.name) for f in fields(cast("type", self)))
        return tuple(e for v in values for e in (v if isinstance(v, tuple) else (v,)) if isinstance(e, Expr))


@dataclass(frozen=True)
class Sum(_Joined):
    """``left + right``; with ``minus``, ``left - right``."""

    left: Expr
    right: Expr
    minus: bool = False


@dataclass(frozen=True)
class Scaled(_Joined):
    """A constant coefficient times an expression."""

    factor: float
    of: Expr


@dataclass(frozen=True)
class Product(_Joined):
    left: Expr
    right: Expr


@dataclass(frozen=True)
class Quotient(_Joined):
    over: Expr
    under: Expr


@dataclass(frozen=True)
class Call(_Joined):
    """An intrinsic; memory is not among its arguments."""

    function: str
    args: tuple[Expr, ...]


@dataclass(frozen=True)
class Choose(_Joined):
    test: Test
    yes: Expr
    no: Expr


class Test(_Joined):
    """What is true or false."""


@dataclass(frozen=True)
class Compare(Test):
    """``left op right`` with op one of <, <=, >, >=."""

    op: str
    left: Expr
    right: Expr


@dataclass(frozen=True)
class Every(Test):
    """All of several tests."""

    tests: tuple[Test, ...]


@dataclass(frozen=True)
class Either(Test):
    """At least one of several tests."""

    tests: tuple[Test, ...]


NEGATED = {"<": ">=", "<=": ">", ">": "<=", ">=": "<"}


def negated(test: Test) -> Test:
    """The opposite; with numbers that are numbers."""
    match test:
        case Compare(op, left, right):
            return Compare(NEGATED[op], left, right)
        case Every(tests):
            return Either(tuple(negated(t) for t in tests))
        case Either(tests):
            return Every(tuple(negated(t) for t in tests))
    raise AssertionError(test)


class Statement:
    pass


@dataclass(frozen=True)
class Assign(Statement):
    name: str
    value: Expr


@dataclass(frozen=True)
class When(Statement):
    test: Test
    then: tuple[Statement, ...]
    otherwise: tuple[Statement, ...]


@dataclass(frozen=True)
class Remember(Statement):
    """Puts a value into the block's delay line."""

    value: Expr


def assignments(body: Sequence[Statement]) -> Iterator[Assign]:
    for statement in body:
        if isinstance(statement, Assign):
            yield statement
        elif isinstance(statement, When):
            yield from assignments(statement.then)
            yield from assignments(statement.otherwise)


def expressions(body: Sequence[Statement]) -> Iterator[Expr]:
    """All expressions of statements, whole."""
    for statement in body:
        if isinstance(statement, Assign | Remember):
            yield statement.value
        elif isinstance(statement, When):
            yield statement.test
            yield from expressions(statement.then)
            yield from expressions(statement.otherwise)


SIGNS = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}
Known = dict[str, float]
"""Names that are constants at a place."""


class Specialiser:
    """Statements of the block language as a tree, with what is known filled in.

    A choice within a test is computed before the statement, into a local of its own: a test is looked at several
    times, and choices in tests of choices would multiply that. ``taken`` are names that such locals must not have.
    """

    def __init__(self, block: str, taken: frozenset[str] = frozenset()):
        self.block, self.taken = block, taken
        self.before: list[Assign] = []
        """What is computed before the statement that is being read."""
        self.testing = self.choices = 0

    def body(self, nodes: Sequence[ast.stmt], known: Known) -> tuple[Statement, ...]:
        """The statements; ``known`` is brought to what is known behind them."""
        found: list[Statement] = []
        for node in nodes:
            match node:
                case ast.Assign(targets=[ast.Name(id=name)], value=value):
                    made = self.value(value, known)
                    found += [*self.taken_before(), Assign(name, made)]
                    if isinstance(made, Const):
                        known[name] = made.value
                    else:
                        known.pop(name, None)
                case ast.Expr(value=ast.Call(args=[_, value])):
                    kept = self.value(value, known)
                    found += [*self.taken_before(), Remember(kept)]
                case ast.If(test=test, body=then, orelse=otherwise):
                    found += self.branches(test, then, otherwise, known)
                case _:
                    raise AssertionError(ast.dump(node))  # the checker admits nothing else
        return tuple(found)

    def branches(
        self, test: ast.expr, then: list[ast.stmt], otherwise: list[ast.stmt], known: Known
    ) -> tuple[Statement, ...]:
        decided = self.test(test, known)
        before = self.taken_before()
        if isinstance(decided, bool):
            return (*before, *self.body(then if decided else otherwise, known))
        yes, no = dict(known), dict(known)
        made = When(decided, self.body(then, yes), self.body(otherwise, no))
        known.clear()
        known.update({n: v for n, v in yes.items() if no.get(n) == v})
        return (*before, made)

    def taken_before(self) -> list[Assign]:
        before, self.before = self.before, []
        return before

    def chosen(self, choice: Choose) -> Expr:
        """A choice; within a test the local that holds it."""
        if not self.testing:
            return choice
        while (name := f"choice_{self.choices}") in self.taken:
            self.choices += 1
        self.choices += 1
        self.before.append(Assign(name, choice))
        return Name(name)

    def value(self, node: ast.expr, known: Known) -> Expr:
        match node:
            case ast.Constant(value=int() | float() as value):
                return self.constant(float(value))
            case ast.Name(id=name):
                return Const(known[name]) if name in known else Name(name)
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                return scaled(-1.0, self.value(operand, known))
            case ast.BinOp(left=left, op=ast.Add() | ast.Sub() as op, right=right):
                return self.sum(self.value(left, known), self.value(right, known), isinstance(op, ast.Sub))
            case ast.BinOp(left=left, op=ast.Mult(), right=right):
                return product(self.value(left, known), self.value(right, known))
            case ast.BinOp(left=left, op=ast.Div(), right=right):
                return self.quotient(self.value(left, known), self.value(right, known))
            case ast.IfExp(test=test, body=yes, orelse=no):
                decided = self.test(test, known)
                if isinstance(decided, bool):
                    return self.value(yes if decided else no, known)
                return self.chosen(Choose(decided, self.value(yes, known), self.value(no, known)))
            case ast.Call(func=ast.Name(id=name), args=args):
                return self.call(name, [self.value(a, known) for a in args if not _is_memory(a)])
            case ast.Compare() | ast.BoolOp() | ast.UnaryOp(op=ast.Not()):
                decided = self.test(node, known)
                if isinstance(decided, bool):
                    return Const(float(decided))
                return self.chosen(Choose(decided, Const(1.0), Const(0.0)))
        raise AssertionError(ast.dump(node))

    def constant(self, value: float) -> Const:
        if not math.isfinite(value):
            raise CannotLower(self.block, f"its values lead to {value}. Check its values.")
        return Const(value)

    def sum(self, left: Expr, right: Expr, minus: bool) -> Expr:
        if isinstance(left, Const) and isinstance(right, Const):
            return self.constant(left.value - right.value if minus else left.value + right.value)
        if isinstance(right, Const) and right.value == 0.0:
            return left
        if isinstance(left, Const) and left.value == 0.0:
            return scaled(-1.0, right) if minus else right
        if isinstance(right, Scaled) and right.factor == -1.0:
            return Sum(left, right.of, not minus)
        return Sum(left, right, minus)

    def quotient(self, over: Expr, under: Expr) -> Expr:
        if isinstance(under, Const):
            if under.value == 0.0:
                raise CannotLower(self.block, "it divides by a value that is 0. Change that value.")
            return scaled(1.0 / under.value, over)
        if isinstance(over, Const) and over.value == 0.0:
            return Const(0.0)
        return _collected(over, under, Quotient)

    def call(self, name: str, args: list[Expr]) -> Expr:
        if all(isinstance(a, Const) for a in args) and name in FOLDED:
            return self.constant(FOLDED[name](*(cast("Const", a).value for a in args)))
        return Call(name, tuple(args))

    def test(self, node: ast.expr, known: Known) -> Test | bool:
        self.testing += 1
        found = self._test(node, known)
        self.testing -= 1
        return found

    def _test(self, node: ast.expr, known: Known) -> Test | bool:
        match node:
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                a, b, sign = self.value(left, known), self.value(right, known), SIGNS[type(op)]
                if isinstance(a, Const) and isinstance(b, Const):
                    return holds(sign, a.value, b.value)
                return Compare(sign, a, b)
            case ast.BoolOp(op=op, values=values):
                return joined(isinstance(op, ast.And), [self.test(v, known) for v in values])
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                found = self.test(operand, known)
                return (not found) if isinstance(found, bool) else negated(found)
        value = self.value(node, known)
        if isinstance(value, Const):
            return value.value != 0.0
        return Either((Compare(">", value, Const(0.0)), Compare("<", value, Const(0.0))))


def _is_memory(node: ast.expr) -> bool:
    return isinstance(node, ast.Name) and node.id in ("line", "rng", "table")


def holds(op: str, a: float, b: float) -> bool:
    return {"<": a < b, "<=": a <= b, ">": a > b, ">=": a >= b}[op]


def joined(every: bool, tests: list[Test | bool]) -> Test | bool:
    """Several tests as one; what is decided already drops out or decides."""
    if any(t is (not every) for t in tests):
        return not every
    open_ = [t for t in tests if not isinstance(t, bool)]
    if not open_:
        return every
    return open_[0] if len(open_) == 1 else (Every if every else Either)(tuple(open_))


def wrap(angle: float) -> float:
    """An angle (rad) from −π up to π."""
    return angle - 2.0 * math.pi * math.floor(angle / (2.0 * math.pi) + 0.5)


FOLDED: dict[str, Callable[..., float]] = {
    "saturate": lambda x, low, high: low if x < low else (high if x > high else x),
    "absolute": abs,
    "floor": lambda x: float(math.floor(x)),
    "sqrt": lambda x: math.sqrt(max(x, 0.0)),
    "sin": math.sin,
    "cos": math.cos,
    "atan2": math.atan2,
    "minimum": min,
    "maximum": max,
    "wrapped": wrap,
}
"""Functions of constants are constants."""


def scaled(factor: float, of: Expr) -> Expr:
    """A coefficient times an expression, joined with the coefficient it may have already."""
    match of:
        case Const(value):
            return Const(factor * value)
        case Scaled(more, inner):
            return scaled(factor * more, inner)
    if factor == 0.0:
        return Const(0.0)
    return of if factor == 1.0 else Scaled(factor, of)


def product(left: Expr, right: Expr) -> Expr:
    if isinstance(left, Const):
        return scaled(left.value, right)
    if isinstance(right, Const):
        return scaled(right.value, left)
    return _collected(left, right, Product)


def _collected(left: Expr, right: Expr, join: type[Product] | type[Quotient]) -> Expr:
    """The coefficients of both sides taken out in front."""
    factor = 1.0
    if isinstance(left, Scaled):
        factor, left = factor * left.factor, left.of
    if isinstance(right, Scaled):
        more = right.factor if join is Product else 1.0 / right.factor
        factor, right = factor * more, right.of
    if join is Product and isinstance(left, Quotient) and left.under == right:
        return scaled(factor, left.over)
    if isinstance(left, Const) and join is Quotient:
        factor, left = factor * left.value, Const(1.0)
    return scaled(factor, join(left, right))

"""Filling what is known into an update: its constants, choices settled, factors collected.

What a block's values decide is decided here, so that the C of a block holds the chosen branch alone. Factors
and divisors that are constants become one coefficient, and so do those that hang on live values; what cannot
be seen from outside is left out.
"""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Sequence
from dataclasses import fields
from typing import cast

from pendel.core.controllers.numbers.intervals import Interval, applied
from pendel.core.controllers.numbers.tree import (
    NEGATED,
    Assign,
    Call,
    CannotLower,
    Choose,
    Compare,
    Const,
    Either,
    Every,
    Expr,
    Fixed,
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
    negated,
)

SIGNS = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}
Known = dict[str, Fixed]
"""Names that do not change from tick to tick, at a place."""


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
        statements: list[Statement] = []
        for node in nodes:
            match node:
                case ast.Assign(targets=[ast.Name(id=name)], value=value):
                    filled = self.value(value, known)
                    statements += [*self.taken_before(), Assign(name, filled)]
                    if isinstance(filled, Fixed):
                        known[name] = filled
                    else:
                        known.pop(name, None)
                case ast.Expr(value=ast.Call(args=[_, value])):
                    kept = self.value(value, known)
                    statements += [*self.taken_before(), Remember(kept)]
                case ast.If(test=test, body=then, orelse=otherwise):
                    statements += self.branches(test, then, otherwise, known)
                case _:
                    raise AssertionError(ast.dump(node))  # the checker admits nothing else
        return tuple(statements)

    def branches(
        self, test: ast.expr, then: list[ast.stmt], otherwise: list[ast.stmt], known: Known
    ) -> tuple[Statement, ...]:
        decided = self.test(test, known)
        before = self.taken_before()
        if isinstance(decided, bool):
            return (*before, *self.body(then if decided else otherwise, known))
        yes, no = dict(known), dict(known)
        branch = When(decided, self.body(then, yes), self.body(otherwise, no))
        known.clear()
        known.update({n: v for n, v in yes.items() if no.get(n) == v})
        return (*before, branch)

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
                return known[name] if name in known else Name(name)
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
        if isinstance(left, Fixed) and isinstance(right, Fixed):
            return hanging_on(Sum(left, right, minus))
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
        if isinstance(under, Live):
            if under.low <= 0.0 <= under.high:
                raise CannotLower(
                    self.block,
                    f"it divides by what may become 0 while {' and '.join(sorted(under.of.names))} is live. "
                    "Give it a range that leaves 0 out.",
                )
            if isinstance(over, Fixed):
                return hanging_on(Quotient(over, under))
            return product(hanging_on(Quotient(Const(1.0), under)), over)
        return _collected(over, under, Quotient)

    def call(self, name: str, args: list[Expr]) -> Expr:
        if all(isinstance(a, Const) for a in args) and name in FOLDED:
            return self.constant(FOLDED[name](*(cast("Const", a).value for a in args)))
        call = Call(name, tuple(args))
        return hanging_on(call) if all(isinstance(a, Fixed) for a in args) and name in FOLDED else call

    def test(self, node: ast.expr, known: Known) -> Test | bool:
        self.testing += 1
        outcome = self._test(node, known)
        self.testing -= 1
        return outcome

    def _test(self, node: ast.expr, known: Known) -> Test | bool:
        match node:
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                a, b, sign = self.value(left, known), self.value(right, known), SIGNS[type(op)]
                decided = None
                if isinstance(a, Fixed) and isinstance(b, Fixed):
                    decided = holds(sign, ends_of(a), ends_of(b))
                return Compare(sign, a, b) if decided is None else decided
            case ast.BoolOp(op=op, values=values):
                return joined(isinstance(op, ast.And), [self.test(v, known) for v in values])
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                outcome = self.test(operand, known)
                return (not outcome) if isinstance(outcome, bool) else negated(outcome)
        value = self.value(node, known)
        if isinstance(value, Const):
            return value.value != 0.0
        if isinstance(value, Live) and not value.low <= 0.0 <= value.high:
            return True
        return Either((Compare(">", value, Const(0.0)), Compare("<", value, Const(0.0))))


def _is_memory(node: ast.expr) -> bool:
    return isinstance(node, ast.Name) and node.id in ("line", "rng", "table")


def holds(op: str, a: Interval, b: Interval) -> bool | None:
    """Whether a comparison holds for all numbers of two intervals; None where it does for some."""
    if op in (">", ">="):
        opposite = holds(NEGATED[op], a, b)
        return None if opposite is None else not opposite
    always, never = (a.high < b.low, a.low >= b.high) if op == "<" else (a.high <= b.low, a.low > b.high)
    return True if always else (False if never else None)


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


def ends_of(expr: Fixed) -> Interval:
    return Interval(float(expr.value), float(expr.value)) if isinstance(expr, Const) else Interval(expr.low, expr.high)


def live_value(name: str, now: float, ends: Interval) -> Live:
    """A value that can be changed while the code runs."""
    return Live(Name(name), now, ends.low, ends.high)


def hanging_on(expr: Expr) -> Live:
    """One operation upon constants and live values as a number that hangs on these."""
    operands = expr.parts
    at = [ends_of(cast("Fixed", e)) for e in operands]
    numbers = [e.value if isinstance(e, Const) else cast("Live", e).now for e in operands]
    match expr:
        case Sum(_, _, minus):
            now, ends = (
                numbers[0] + (-numbers[1] if minus else numbers[1]),
                at[0] - at[1] if minus else at[0] + at[1],
            )
        case Product():
            now, ends = numbers[0] * numbers[1], at[0] * at[1]
        case Quotient():
            now, ends = numbers[0] / numbers[1], at[0].over(at[1])
        case Call(name, _):
            now, ends = FOLDED[name](*numbers), applied(name, at)
        case _:
            raise AssertionError(expr)
    make: Callable[..., Expr] = type(expr)
    of = make(**{f.name: _alone(getattr(expr, f.name)) for f in fields(cast("type", expr))})
    return Live(_plainer(of), now, min(ends.low, now), max(ends.high, now))


def _plainer(of: Expr) -> Expr:
    """A product with its constants joined, and times a reciprocal as a quotient."""
    match of:
        case Product(Const(a), Product(Const(b), rest)):
            return Product(Const(a * b), rest)
        case Product(Const(a), Quotient(Const(b), under)):
            return Quotient(Const(a * b), under)
        case Product(left, Quotient(Const(1.0), under)) | Product(Quotient(Const(1.0), under), left):
            return Quotient(left, under)
    return of


def _alone(operand: object) -> object:
    """An operand without what it is now."""
    if isinstance(operand, tuple):
        return tuple(_alone(o) for o in operand)
    return operand.of if isinstance(operand, Live) else operand


def scaled(factor: float, of: Expr) -> Expr:
    """A coefficient times an expression, joined with the coefficient it may have already."""
    match of:
        case Const(value):
            return Const(factor * value)
        case Scaled(more, inner):
            return scaled(factor * more, inner)
    if factor == 0.0:
        return Const(0.0)
    if factor == 1.0:
        return of
    if isinstance(of, Live):
        return hanging_on(Product(Const(factor), of))
    if isinstance(of, Product) and isinstance(of.left, Live) and factor != -1.0:
        return Product(hanging_on(Product(Const(factor), of.left)), of.right)
    return Scaled(factor, of)


def product(left: Expr, right: Expr) -> Expr:
    if isinstance(left, Const):
        return scaled(left.value, right)
    if isinstance(right, Const):
        return scaled(right.value, left)
    if isinstance(left, Live) and isinstance(right, Live):
        return hanging_on(Product(left, right))
    return _collected(left, right, Product)


def _collected(left: Expr, right: Expr, join: type[Product] | type[Quotient]) -> Expr:
    """The coefficients of both sides taken out in front."""
    (factor, live, a), (other, below, b) = _parted(left), _parted(right)
    if join is Quotient:
        other = 1.0 / other
        if below is not None and below.low <= 0.0 <= below.high:
            b, below = Product(below, b), None
        elif below is not None:
            below = hanging_on(Quotient(Const(1.0), below))
        if isinstance(a, Const):
            factor, a = factor * a.value, Const(1.0)
    factor *= other
    inner: Expr
    if join is Product and isinstance(a, Quotient) and a.under == b:
        inner = a.over
    elif join is Product and Const(1.0) in (a, b):
        inner = b if a == Const(1.0) else a
    else:
        inner = join(a, b)
    whole = scaled(factor, inner)
    for each in (live, below):
        whole = _with_live(each, whole) if each is not None else whole
    return whole


def _parted(expr: Expr) -> tuple[float, Live | None, Expr]:
    """An expression as a constant, a live coefficient where it has one, and what they are multiplied with."""
    match expr:
        case Scaled(factor, of):
            return (factor, *_parted(of)[1:])
        case Live():
            return 1.0, expr, Const(1.0)
        case Product(Live() as live, of):
            return 1.0, live, of
    return 1.0, None, expr


def _with_live(live: Live, expr: Expr) -> Expr:
    """A live coefficient times an expression, joined with the coefficient it may have already."""
    factor, own, rest = _parted(expr)
    if own is not None:
        live = hanging_on(Product(live, own))
    return scaled(factor, live if rest == Const(1.0) else Product(live, rest))

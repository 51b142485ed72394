"""An update as a tree: expressions, tests and statements, and what is asked of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, fields
from typing import cast

from pendel.core.errors import PendelError


class CannotLower(PendelError):
    """A block has no C in a number format."""

    def __init__(self, block: str, reason: str):
        super().__init__(block, reason)
        self.block, self.reason = block, reason

    def __str__(self) -> str:
        return f"{self.block}: {self.reason}"


CLOSE = "points of its map lie closer than a step of the format. Choose one with more bits, or leave points out."


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


@dataclass(frozen=True)
class Live(Expr):
    """A number made of constants and of values that can be changed while the code runs, which is computed when
    they are and not at each tick. ``of`` is how, and ``now`` what it is at present; it lies between ``low``
    and ``high``."""

    of: Expr
    now: float = field(compare=False)
    low: float = field(compare=False)
    high: float = field(compare=False)

    @property
    def size(self) -> float:
        """The largest absolute value it can have."""
        return max(abs(self.low), abs(self.high))


Fixed = Const | Live
"""What does not change from tick to tick."""


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


def assigned_often(body: Iterable[Statement], top: bool = True) -> set[str]:
    """Locals that need a place of their own: assigned more than once, or within a branch."""
    seen: set[str] = set()
    often: set[str] = set()
    for statement in body:
        match statement:
            case Assign(name, _):
                (often if name in seen or not top else seen).add(name)
            case When(_, then, otherwise):
                often |= assigned_often(then, False) | assigned_often(otherwise, False)
    return often


def increment(value: Expr, name: str) -> Expr | None:
    """What a sum that begins with ``name`` adds to it; none where ``value`` is no such sum."""
    if not isinstance(value, Sum):
        return None
    if value.left == Name(name):
        return Scaled(-1.0, value.right) if value.minus else value.right
    first = increment(value.left, name)
    return None if first is None else Sum(first, value.right, value.minus)

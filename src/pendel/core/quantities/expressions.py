"""Expressions as engineers write them: ``2*R_a``, ``48 V``, ``1.9e-4 kg*m^2``, ``L*der(i) = u - R*i``.

A hand-written reader gives a tree of five node types; evaluation walks that tree. Nothing is ever handed
to Python's own evaluator. A number followed by a unit symbol carries that unit; the unit goes on over
``*``, ``/`` and ``^`` as long as unit symbols follow, so a quantity may not be named like a unit.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

from pendel.core.errors import (
    DividesByZero,
    ExpressionProblem,
    MixedTurns,
    NotANumber,
    SyntaxProblem,
    UnknownName,
    WrongDimension,
)
from pendel.core.quantities.celsius import CELSIUS, in_celsius
from pendel.core.quantities.curve import rises, value_on
from pendel.core.quantities.tokens import Token, tokens
from pendel.core.quantities.units import (
    NO_TURN,
    NONE,
    Dimension,
    Turn,
    dimension_text,
    is_unit,
    turn,
    unit,
)

MAX_DEPTH = 60
LARGEST_POWER = 1000.0
"""Of a unit in a result."""


@dataclass(frozen=True)
class Number:
    value: float
    unit: str | None = None


@dataclass(frozen=True)
class Name:
    name: str


@dataclass(frozen=True)
class Negative:
    operand: Node


@dataclass(frozen=True)
class Binary:
    op: str
    left: Node
    right: Node


@dataclass(frozen=True)
class Call:
    function: str
    arguments: tuple[Node, ...]


Node = Number | Name | Negative | Binary | Call


@dataclass(frozen=True)
class Measured:
    """A value in SI base units with its dimension, the exponents of cycles and radians in it, and that of the
    constant pi, by which one becomes the other: ``2*pi*50 Hz`` is a speed."""

    si: float
    dim: Dimension = NONE
    turn: Turn = NO_TURN
    pi: float = 0.0
    celsius: float = 0.0
    """How often a temperature in °C is in it, which counts from 273.15 K: one is such a temperature, none a difference
    or a temperature that counts from zero."""


FUNCTIONS = {
    "sqrt": 1,
    "sin": 1,
    "cos": 1,
    "tan": 1,
    "atan": 1,
    "exp": 1,
    "log": 1,
    "abs": 1,
    "sign": 1,
    "tanh": 1,
    "min": 2,
    "max": 2,
}
CONSTANTS = {"pi": math.pi}
TABLE = "table"
"""A function of a value and of points, in pairs."""
MOST_POINTS = 100


class Reader:
    """Recursive descent over one expression; precedence as in school: ^, sign, * and /, + and −."""

    def __init__(self, text: str):
        self.text, self.tokens, self.at, self.depth = text, tokens(text), 0, 0

    def peek(self) -> str:
        return self.tokens[self.at].text if self.at < len(self.tokens) else ""

    def fail(self, reason: str) -> SyntaxProblem:
        position = self.tokens[self.at].start if self.at < len(self.tokens) else len(self.text)
        return SyntaxProblem(self.text, position, reason)

    def take(self, text: str) -> None:
        if self.peek() != text:
            raise self.fail(f"“{text}” is missing")
        self.at += 1

    def whole(self) -> Node:
        node = self.sum()
        if self.at < len(self.tokens):
            raise self.fail("an operator is missing before it")
        return node

    def sum(self) -> Node:
        self.depth += 1
        if self.depth > MAX_DEPTH:
            raise self.fail("too many brackets inside each other")
        node = self.product()
        while self.peek() in ("+", "-"):
            op = self.peek()
            self.at += 1
            node = Binary(op, node, self.product())
        self.depth -= 1
        return node

    def product(self) -> Node:
        node = self.signed()
        while self.peek() in ("*", "/"):
            op = self.peek()
            self.at += 1
            node = Binary(op, node, self.signed())
        return node

    def signed(self) -> Node:
        signs = 0
        while self.peek() in ("-", "+"):
            signs += self.peek() == "-"
            self.at += 1
        node = self.power()
        return Negative(node) if signs % 2 else node

    def power(self) -> Node:
        base = self.atom()
        if self.peek() in ("²", "³"):
            exponent = {"²": 2.0, "³": 3.0}[self.peek()]
            self.at += 1
            return Binary("^", base, Number(exponent))
        if self.peek() == "^":
            self.at += 1
            negative = self.peek() == "-"
            self.at += negative
            exponent_node = self.atom()
            if self.peek() == "^":
                raise self.fail("a power of a power wants brackets")
            return Binary("^", base, Negative(exponent_node) if negative else exponent_node)
        return base

    def atom(self) -> Node:
        if self.at >= len(self.tokens):
            raise self.fail("a value is missing at the end")
        token = self.tokens[self.at]
        if token.text == "(":
            self.at += 1
            node = self.sum()
            self.take(")")
            return node
        if token.kind == "number":
            self.at += 1
            return Number(float(token.text), self.unit_after())
        if token.kind == "name":
            self.at += 1
            if self.peek() == "(":
                return self.call(token)
            return Name(token.text)
        twice = token.text == "*" and self.at and self.tokens[self.at - 1].text == "*"
        raise self.fail("powers are written with ^" if twice else "a value is missing before it")

    def call(self, token: Token) -> Call:
        if token.text not in FUNCTIONS and token.text not in ("der", TABLE):
            self.at -= 1
            raise self.fail(f"{token.text} is not a function; known are {', '.join(sorted([*FUNCTIONS, TABLE]))}")
        self.take("(")
        arguments = [self.sum()]
        while self.peek() == ",":
            self.at += 1
            arguments.append(self.sum())
        self.take(")")
        if token.text == TABLE:
            if len(arguments) > 2 * MOST_POINTS + 1:
                raise self.fail(f"table takes {MOST_POINTS} points at most; a longer one is a battery's or a map's")
            if len(arguments) < 5 or len(arguments) % 2 == 0:
                raise self.fail("table takes a value and two points or more, such as table(q, 0, 88 V, 1, 110 V)")
        elif len(arguments) != FUNCTIONS.get(token.text, 1):
            raise self.fail(f"{token.text} takes {FUNCTIONS.get(token.text, 1)} values")
        return Call(token.text, tuple(arguments))

    def unit_after(self) -> str | None:
        """The unit that follows a number, if one does; ``0.8/V`` and ``0.8 1/V`` are read too."""
        text = ""
        if (
            self.peek() == "1"
            and self.at + 1 < len(self.tokens)
            and self.tokens[self.at + 1].text == "/"
            and self.unit_at(self.at + 2)
        ):
            self.at += 1
        if self.peek() == "/" and self.unit_at(self.at + 1):
            self.at += 1
            text = "1/"
        elif not self.unit_at(self.at):
            return None
        text += self.unit_piece()
        while self.peek() in ("*", "/") and self.unit_at(self.at + 1):
            text += self.peek()
            self.at += 1
            text += self.unit_piece()
        return text

    def unit_at(self, at: int) -> bool:
        if at >= len(self.tokens) or self.tokens[at].kind != "name" or not is_unit(self.tokens[at].text):
            return False
        return not (at + 1 < len(self.tokens) and self.tokens[at + 1].text == "(")

    def unit_piece(self) -> str:
        text = self.peek()
        self.at += 1
        if self.peek() in ("²", "³"):
            text += {"²": "^2", "³": "^3"}[self.peek()]
            self.at += 1
        elif self.peek() == "^":
            following = [t.text for t in self.tokens[self.at + 1 : self.at + 3]]
            size = 2 if following[:1] == ["-"] else 1
            exponent = "".join(following[:size])
            if re.fullmatch(r"-?\d", exponent):
                text += "^" + exponent
                self.at += 1 + size
        return text


@lru_cache(maxsize=4096)
def read(text: str) -> Node:
    """The tree of an expression.

    Raises
    ------
    SyntaxProblem
        with the position where reading failed.
    """
    if not text.strip():
        raise SyntaxProblem(text, 0, "it is empty; write a value")
    return Reader(text).whole()


def read_equation(text: str) -> tuple[Node, Node]:
    """Left and right side of ``left = right``."""
    sides = text.split("=")
    if len(sides) != 2:
        raise SyntaxProblem(text, 0, "an equation needs exactly one “=”")
    return read(sides[0]), read(sides[1])


def walk(node: Node) -> Iterator[Node]:
    """All nodes of a tree. A sum of a thousand terms is a thousand nodes deep, more than calls within calls
    may be."""
    waiting = [node]
    while waiting:
        current = waiting.pop()
        yield current
        match current:
            case Negative(operand):
                waiting.append(operand)
            case Binary(_, left, right):
                waiting += (right, left)
            case Call(_, arguments):
                waiting += reversed(arguments)


def names_in(text: str) -> set[str]:
    """Names an expression refers to; empty when it cannot be read."""
    try:
        return {n.name for n in walk(read(text)) if isinstance(n, Name) and n.name not in CONSTANTS}
    except SyntaxProblem:
        return set()


def is_plain(text: str) -> bool:
    """True when the expression holds neither a name nor a unit, so that the field's own unit applies."""
    try:
        return all(not isinstance(n, Name) and not (isinstance(n, Number) and n.unit) for n in walk(read(text)))
    except SyntaxProblem:
        return False


def is_literal(text: str) -> bool:
    """True for a single number, with or without a unit."""
    try:
        node = read(text)
    except SyntaxProblem:
        return False
    return isinstance(node.operand if isinstance(node, Negative) else node, Number)


def renamed(text: str, old: str, new: str) -> str:
    """``text`` with every use of the name ``old`` replaced, spacing kept."""
    try:
        parts = tokens(text)
    except SyntaxProblem:
        return text
    if old not in names_in(text):
        return text
    for token in reversed(parts):
        if token.kind == "name" and token.text == old:
            text = text[: token.start] + new + text[token.start + len(old) :]
    return text


def with_other_cards(text: str, new: Mapping[str, str]) -> str:
    """``text`` with every ``card.value`` whose card is called otherwise under its new id, spacing kept."""
    if not any(f"{old}." in text for old in new):
        return text
    try:
        parts = tokens(text)
    except SyntaxProblem:
        return text
    for token in reversed(parts):
        card, dot, _ = token.text.partition(".")
        if token.kind == "name" and dot and card in new:
            text = text[: token.start] + new[card] + text[token.start + len(card) :]
    return text


Lookup = Callable[[str], Measured]


def evaluate(node: Node, lookup: Lookup, text: str = "") -> Measured:
    """Value and dimension of a tree.

    Parameters
    ----------
    lookup
        gives the value of a name, or raises `UnknownName`.

    Raises
    ------
    ExpressionProblem
        named by situation: unknown name, wrong dimension, division by zero, no finite number.
    """
    try:
        result = _evaluate(node, lookup, text)
    except (OverflowError, ValueError):
        raise NotANumber(text, math.nan) from None
    except RecursionError:
        raise SyntaxProblem(
            text, 0, "it is reached through too many names; write one of them as a plain value"
        ) from None
    if not math.isfinite(result.si):
        raise NotANumber(text, result.si)
    if any(not abs(power) <= LARGEST_POWER for power in result.dim):
        raise NotANumber(text, math.inf)
    return result


def _evaluate(node: Node, lookup: Lookup, text: str) -> Measured:
    match node:
        case Number(value, None):
            return Measured(value)
        case Number(value, unit_text):
            factor, dim = unit(unit_text)
            return Measured(value * factor, dim, turn(unit_text), celsius=float(unit_text in CELSIUS))
        case Name(name):
            return Measured(CONSTANTS[name], pi=1.0) if name in CONSTANTS else lookup(name)
        case Negative(operand):
            inner = _evaluate(operand, lookup, text)
            return replace(
                inner, si=-inner.si, celsius=inner.celsius if isinstance(operand, Number) else -inner.celsius
            )
        case Binary():
            chain: list[Binary] = []  # of terms or factors, from the last back to the first
            first: Node = node
            while isinstance(first, Binary):
                chain.append(first)
                first = first.left
            total = _evaluate(first, lookup, text)
            for each in reversed(chain):
                total = _binary(each.op, total, _evaluate(each.right, lookup, text), text)
            return total
        case Call("der", (Name(name),)):
            return lookup(f"der({name})")
        case Call(function, arguments):
            return _call(function, [_evaluate(a, lookup, text) for a in arguments], text)
    raise SyntaxProblem(text, 0, "it holds something unknown")


def _binary(op: str, a: Measured, b: Measured, text: str) -> Measured:
    if op in "+-":
        dim = combine_sum(a.dim, b.dim, op)
        if op == "+":
            return Measured(a.si + b.si, dim, common_turn(a, b, text), celsius=a.celsius + b.celsius)
        return Measured(a.si - b.si, dim, common_turn(a, b, text), celsius=a.celsius - b.celsius)
    if op == "*":
        whole = turned(a.si * b.si, a, b, 1.0)
        return replace(whole, celsius=a.celsius * b.si * (b.dim == NONE) + b.celsius * a.si * (a.dim == NONE))
    if op == "/":
        if b.si == 0:
            raise DividesByZero(text)
        whole = turned(a.si / b.si, a, b, -1.0)
        return replace(whole, celsius=a.celsius / b.si * (b.dim == NONE))
    if b.dim != NONE:
        raise WrongDimension(dimension_text(b.dim), "a plain number", "The exponent")
    if a.si == 0 and b.si < 0:
        raise DividesByZero(text)
    value = a.si**b.si
    if isinstance(value, complex):
        raise NotANumber(text, math.nan)
    cycles, radians = a.turn
    return Measured(value, tuple(x * b.si for x in a.dim), (cycles * b.si, radians * b.si), a.pi * b.si)


def turned(si: float, a: Measured, b: Measured, sign: float) -> Measured:
    """A product or quotient (``sign`` -1). As many factors of pi as cycles make radians of them, and the
    other way round."""
    dim = tuple(x + sign * y for x, y in zip(a.dim, b.dim))
    cycles, radians = (x + sign * y for x, y in zip(a.turn, b.turn))
    pi = a.pi + sign * b.pi
    if pi and pi == cycles:
        cycles, radians, pi = 0.0, radians + pi, 0.0
    elif pi and pi == -radians:
        cycles, radians, pi = cycles - pi, 0.0, 0.0
    return Measured(si, dim, (cycles, radians), pi)


def common_turn(a: Measured, b: Measured, text: str) -> Turn:
    if NO_TURN in (a.turn, b.turn) or a.turn == b.turn:
        return a.turn if a.turn != NO_TURN else b.turn
    raise MixedTurns(text)


def combine_sum(a: Dimension, b: Dimension, op: str) -> Dimension:
    if a != b:
        verb = "The value added" if op == "+" else "The value subtracted"
        raise WrongDimension(dimension_text(b), dimension_text(a), verb)
    return a


ANGLE_FUNCTIONS = {
    "sin": math.sin,
    "cos": math.cos,
    "tan": math.tan,
    "atan": math.atan,
    "exp": math.exp,
    "log": math.log,
    "tanh": math.tanh,
}


def _call(function: str, args: list[Measured], text: str) -> Measured:
    first = args[0]
    if function in ANGLE_FUNCTIONS:
        if first.dim != NONE:
            raise WrongDimension(dimension_text(first.dim), "a plain number", f"The value in {function}()")
        return Measured(ANGLE_FUNCTIONS[function](first.si))
    if function == "sqrt":
        return Measured(math.sqrt(first.si), tuple(x / 2 for x in first.dim))
    if function == "abs":
        return replace(first, si=abs(first.si))
    if function == "sign":
        return Measured(math.copysign(1.0, first.si) if first.si else 0.0)
    if function in ("min", "max"):
        if args[0].dim != args[1].dim:
            raise WrongDimension(dimension_text(args[1].dim), dimension_text(args[0].dim), f"One value in {function}()")
        value = (min if function == "min" else max)(a.si for a in args)
        chosen = args[0] if args[0].si == value else args[1]
        return Measured(value, first.dim, common_turn(args[0], args[1], text), celsius=chosen.celsius)
    if function == TABLE:
        return _on_curve(args, text)
    raise SyntaxProblem(text, 0, f"{function}() has no place in a value")


def _on_curve(args: list[Measured], text: str) -> Measured:
    """The first of them, looked up along points that follow in pairs."""
    at, x, y = args[0], args[1::2], args[2::2]
    for each, dim, words in ((x, at.dim, "A place along table()"), (y, y[0].dim, "A height of table()")):
        for point in each:
            if point.dim != dim:
                raise WrongDimension(dimension_text(point.dim), dimension_text(dim), words)
    if not rises([point.si for point in x]):
        raise SyntaxProblem(text, 0, "the places along table() do not rise from point to point")
    return replace(y[0], si=value_on(at.si, [p.si for p in x], [p.si for p in y]))


def value_in_field(text: str, wanted_unit: str, lookup: Lookup) -> float:
    """SI value of a field's text. A plain number is taken in the field's own unit.

    Raises
    ------
    ExpressionProblem
        as `evaluate`, and `WrongDimension` where the result does not fit the field.
    """
    known = without_names(text, wanted_unit)
    return known if known is not None else _value_in_field(text, wanted_unit, lookup)


@lru_cache(maxsize=4096)
def without_names(text: str, wanted_unit: str) -> float | None:
    """The same of a text that says all by itself, as most do; None where it does not, or cannot be."""
    try:
        if any(isinstance(n, Name) and n.name not in CONSTANTS for n in walk(read(text))):
            return None
        return _value_in_field(text, wanted_unit, no_name)
    except ExpressionProblem:
        return None


def no_name(name: str) -> Measured:
    raise UnknownName(name, None)


def _value_in_field(text: str, wanted_unit: str, lookup: Lookup) -> float:
    factor, dim = unit(wanted_unit)
    result = evaluate(read(text), lookup, text)
    if result.dim == NONE and is_plain(text):
        return result.si * factor
    if result.dim != dim:
        raise WrongDimension(dimension_text(result.dim), dimension_text(dim), f"“{text}”")
    if wanted_unit in CELSIUS:
        return in_celsius(result.si, result.celsius, text)
    return in_turns_of(wanted_unit, result, text)


def in_turns_of(wanted_unit: str, result: Measured, text: str) -> float:
    """SI value of ``text``, where the field counts radians and the value cycles, or the other way round,
    converted.

    Raises
    ------
    MixedTurns
        where the text is more than one value, so that a factor of 2π may be in it already, or counts other than once
        what the field counts once.
    """
    wanted = turn(wanted_unit)
    (cycles, radians), (wanted_cycles, wanted_radians) = result.turn, wanted
    if cycles and wanted_radians and not wanted_cycles:
        factor, alike = (2.0 * math.pi) ** cycles, result.turn == (wanted_radians, 0.0)
    elif radians and wanted_cycles and not wanted_radians:
        factor, alike = (2.0 * math.pi) ** -radians, result.turn == (0.0, wanted_cycles)
    else:
        return result.si
    node = read(text)
    if not alike or not isinstance(node.operand if isinstance(node, Negative) else node, Number | Name):
        raise MixedTurns(text)
    return result.si * factor


__all__ = [
    "Binary",
    "Call",
    "ExpressionProblem",
    "FUNCTIONS",
    "Lookup",
    "Mapping",
    "Measured",
    "Name",
    "Negative",
    "Node",
    "Number",
    "UnknownName",
    "evaluate",
    "is_literal",
    "is_plain",
    "names_in",
    "read",
    "read_equation",
    "renamed",
    "tokens",
    "value_in_field",
    "walk",
]

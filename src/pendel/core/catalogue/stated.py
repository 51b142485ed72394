"""The equations of a part as it states them, written so that they can be read, and set as mathematics: from the very
declaration that runs."""

from __future__ import annotations

import math
import re
from collections import Counter
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import casadi as ca

from pendel.core.catalogue.declare import Link, Part
from pendel.core.catalogue.index import kinds
from pendel.core.check import examine
from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.equations.context import Network, PartContext, Pin
from pendel.core.equations.flatten import equation_values, skeleton_of
from pendel.core.equations.terms import new_symbol
from pendel.core.errors import PendelError
from pendel.core.vocabulary import Group

CARD = "part"
LONGEST = 240
"""Letters of an equation that is shown; one that is longer helps nobody to see how a part works."""
SYMBOLS = {
    Link.DC: ("u", "i"),
    Link.LINE: ("v", "i"),
    Link.AC3: ("v", "i"),
    Link.SHAFT: ("omega", "M"),
    Link.ROD: ("v", "F"),
    Link.HEAT: ("T", "P"),
}
"""What is equal along a wire of each link, and what flows into the part."""
PHASES = ("a", "b", "c")
SUM, PRODUCT, POWER, ATOM = range(4)
"""How closely parts of an expression hang together."""
CONSTANTS = (
    (2 * math.pi, "2*pi"),
    (math.pi, "pi"),
    (2 * math.pi / 3, "2*pi/3"),
    (4 * math.pi / 3, "4*pi/3"),
    (math.sqrt(2), "sqrt(2)"),
    (math.sqrt(3), "sqrt(3)"),
    (math.sqrt(2 / 3), "sqrt(2/3)"),
    (math.sqrt(3) / 2, "sqrt(3)/2"),
    (1 / math.sqrt(3), "1/sqrt(3)"),
    (2 / 3, "2/3"),
    (1 / 3, "1/3"),
)
"""Numbers that are known by how they come about."""
FUNCTIONS = {
    ca.OP_SQRT: "sqrt",
    ca.OP_SIN: "sin",
    ca.OP_COS: "cos",
    ca.OP_TAN: "tan",
    ca.OP_ATAN: "atan",
    ca.OP_EXP: "exp",
    ca.OP_LOG: "log",
    ca.OP_FABS: "abs",
    ca.OP_SIGN: "sign",
    ca.OP_TANH: "tanh",
    ca.OP_FMIN: "min",
    ca.OP_FMAX: "max",
}


class NotReadable(Exception):
    """An expression has something that is no school mathematics, such as a table or a condition."""


@dataclass(frozen=True)
class Stated:
    """``equations`` as ``left = right``; ``signals`` of a port by their symbols, with what they are; how many equations
    are ``left_out``, being long or of tables and conditions. ``residuals`` are those that are shown, as they run."""

    equations: tuple[str, ...] = ()
    symbols: tuple[tuple[str, str], ...] = ()
    left_out: int = 0
    residuals: tuple[ca.SX, ...] = ()
    level: str = ""


@lru_cache(maxsize=512)
def stated(kind_id: str) -> Stated:
    """Of a kind with its usual values, at its first level of detail. Nothing for blocks, assemblies, own parts, and
    parts whose usual values make no drive."""
    kind = kinds().get(kind_id)
    if not isinstance(kind, Part) or kind.own is not None or kind.takes_flux:
        return Stated()
    try:
        return _stated(kind)
    except (PendelError, LookupError, ArithmeticError, RuntimeError, ValueError):
        return Stated()


def _stated(kind: Part) -> Stated:
    drive = Drive()
    more: dict[str, Any] = {}
    if kind.has_profile and not kind.profile_optional:
        more["profile"] = kind.first_profile
    if kind.rows:
        more["rows"] = kind.rows.first
    commands.add_card(drive, kind.id, CARD, **more).apply(drive)
    key = next(iter(drive.cards))
    examined = examine(drive)
    (form,) = skeleton_of(drive, {key: kind}).parts
    network, words = Network(), list[tuple[str, str]]()
    pins = _pins(kind, key, words)
    context = PartContext(
        network,
        replace(form, level=kind.levels[0]),
        pins=pins,
        values=equation_values(key, drive.cards[key], kind, examined),
        starts=examined.starts.get(key, {}),
        profile=examined.profiles.get(key, ((), ())),
    )
    kind.build(context)
    level = kind.levels[0] if len(kind.levels) > 1 else ""
    ports = {str(s) for lines in pins.values() for pin in lines for s in (pin.across, pin.through)}
    return _written(network, key, tuple(words), level, ports)


def _pins(kind: Part, key: str, words: list[tuple[str, str]]) -> dict[str, list[Pin]]:
    """Symbols for all ports: one voltage and one current of a pair that stands by itself, a potential and a current of
    each line else. Heat ports are left alone, as they mostly are."""
    heat = kind.group == Group.HEAT
    ports = [p for p in kind.ports if not p.link.is_signal and (heat or p.link is not Link.HEAT or p.required)]
    count = Counter(port.link for port in ports)
    taken = {v.name for v in kind.values} | {s.name for s in kind.states}
    by_itself = kind.potentials is None and not any(p.link in (Link.LINE, Link.AC3) for p in ports)

    def symbol(quantity: str, port: str, end: str = "") -> ca.SX:
        """By the end alone where the port is the only one of its sort, and nothing else is called so."""
        short = named(quantity, end if count[link] == 1 else port + end)
        name = short if short not in taken else named(quantity, f"{port}{end}")
        while name in taken:
            name += "_port"
        taken.add(name)
        return new_symbol(f"{key}.{name}")

    pins: dict[str, list[Pin]] = {}
    for port in ports:
        link = port.link
        across, through = SYMBOLS[link]
        if link is Link.DC and by_itself:
            u, i = symbol(across, port.name), symbol(through, port.name)
            pins[port.name] = [Pin(u, i), Pin(ca.SX(0), -i)]
        else:
            ends = PHASES if link is Link.AC3 else ("p", "n") if link is Link.DC else ("",)
            across = "v" if link is Link.DC else across
            pins[port.name] = [Pin(symbol(across, port.name, e), symbol(through, port.name, e)) for e in ends]
        first = pins[port.name][0]
        words += [(str(each).removeprefix(f"{key}."), port.label) for each in (first.across, first.through)]
    return pins


def named(symbol: str, *indices: str) -> str:
    index = "".join(each for each in indices if each)
    return f"{symbol}_{index}" if index else symbol


def _written(network: Network, key: str, words: tuple[tuple[str, str], ...], level: str, ports: set[str]) -> Stated:
    """What was stated, with what is only called otherwise called by one name."""
    states = {s.key for s in network.states}
    residuals, same = [], list[tuple[ca.SX, ca.SX]]()
    for _, residual in network.equations:
        for port, other in same:
            residual = ca.substitute(residual, port, other)
        a, b, sign = equal_symbols(residual) or (ca.SX(0), ca.SX(0), 0)
        if sign and {str(a), str(b)} <= ports:
            residuals.append(residual)
            same.append((b, sign * a))
        elif sign and str(a) in ports and str(b) in states:
            same.append((a, sign * b))
        elif sign and str(b) in ports and str(a) in states:
            same.append((b, sign * a))
        else:
            residuals.append(residual)
    equations, shown, left_out = [], [], 0
    for residual in residuals:
        if residual.is_zero():
            continue
        try:
            text = as_equation(residual, key)
        except NotReadable:
            left_out += 1
            continue
        if len(text) > LONGEST:
            left_out += 1
            continue
        equations.append(text)
        shown.append(residual)
    used = {name for text in equations for name in re.findall(r"\w+", text)}
    return Stated(tuple(equations), tuple(w for w in words if w[0] in used), left_out, tuple(shown), level)


def equal_symbols(residual: ca.SX) -> tuple[ca.SX, ca.SX, int] | None:
    """The two symbols of an equation that says that one is the other, or the other turned round, and which."""
    sign = 1 if residual.is_op(ca.OP_SUB) else -1 if residual.is_op(ca.OP_ADD) else 0
    if not sign:
        return None
    a, b = residual.dep(0), residual.dep(1)
    for n, each in enumerate((a, b)):
        if each.is_op(ca.OP_NEG):
            sign, a, b = -sign, *((each.dep(0), b) if n == 0 else (a, each.dep(0)))
    return (a, b, sign) if a.is_symbolic() and b.is_symbolic() else None


def as_equation(residual: ca.SX, key: str) -> str:
    """``left = right`` of what is zero, a derivative on the left. Raises `NotReadable`."""
    left, right = residual, ca.SX(0)
    if residual.is_op(ca.OP_SUB):
        left, right = residual.dep(0), residual.dep(1)
    elif residual.is_op(ca.OP_ADD):
        left, right = residual.dep(0), -residual.dep(1)
    if right.is_zero() and left.is_op(ca.OP_NEG):
        left = left.dep(0)
    one, other = written(left, key), written(right, key)
    if "der(" in other and "der(" not in one:
        one, other = other, one
    return f"{one} = {other}"


def written(expression: ca.SX, key: str) -> str:
    """An expression as it is typed in a field. Raises `NotReadable`."""
    return _with_rank(expression, key, 0)[0]


def _with_rank(x: ca.SX, key: str, depth: int) -> tuple[str, int]:
    if depth > 60:
        raise NotReadable
    if x.is_symbolic():
        name = re.sub(rf"\b{key}\.", "", str(x))
        if not re.fullmatch(r"[^\W\d]\w*|der\([^\W\d]\w*\)", name):
            raise NotReadable
        return name, ATOM
    if x.is_constant():
        value = float(x)
        for known, text in CONSTANTS:
            if abs(abs(value) - known) < 1e-12 * known:
                return (text, PRODUCT) if value > 0 else (f"-{text}", SUM)
        return (f"{value:.12g}", ATOM) if value >= 0 else (f"-{-value:.12g}", SUM)
    return _operation(x, key, depth)


def _operation(x: ca.SX, key: str, depth: int) -> tuple[str, int]:
    op = x.op()
    sides = [_with_rank(x.dep(n), key, depth + 1) for n in range(x.n_dep())]

    def side(n: int, least: int) -> str:
        text, rank = sides[n]
        return text if rank >= least else f"({text})"

    match op:
        case ca.OP_ADD:
            return f"{side(0, SUM)} + {side(1, PRODUCT)}", SUM
        case ca.OP_SUB:
            return f"{side(0, SUM)} - {side(1, PRODUCT)}", SUM
        case ca.OP_MUL:
            return f"{side(0, PRODUCT)}*{side(1, POWER)}", PRODUCT
        case ca.OP_DIV:
            return f"{side(0, PRODUCT)}/{side(1, POWER)}", PRODUCT
        case ca.OP_NEG:
            return f"-{side(0, PRODUCT)}", SUM
        case ca.OP_SQ:
            return f"{side(0, ATOM)}^2", POWER
        case ca.OP_TWICE:
            return f"2*{side(0, POWER)}", PRODUCT
        case ca.OP_INV:
            return f"1/{side(0, POWER)}", PRODUCT
        case ca.OP_POW | ca.OP_CONSTPOW if x.dep(1).is_constant():
            return f"{side(0, ATOM)}^{side(1, ATOM)}", POWER
        case _ if op in FUNCTIONS:
            return f"{FUNCTIONS[op]}({', '.join(text for text, _ in sides)})", ATOM
    raise NotReadable

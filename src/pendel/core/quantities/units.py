"""Units: text to factor and dimension, and figures back to text.

Inside the core every value is in SI base units; a unit is met only where text comes in or goes out.
Angle carries no dimension, so N·m/A and V·s/rad are the same dimension, as the trade expects.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator
from functools import lru_cache
from importlib import resources

from pendel.core.errors import SyntaxProblem

Dimension = tuple[float, ...]
"""Exponents of length, mass, time, current, temperature."""

BASE_SYMBOLS = ("m", "kg", "s", "A", "K")
NONE: Dimension = (0.0,) * len(BASE_SYMBOLS)


@lru_cache(maxsize=1)
def table() -> dict[str, tuple[float, Dimension]]:
    """Factor to SI and dimension of each unit symbol; made by Pint (`packaging/make_unit_table.py`)."""
    text = resources.files("pendel.core.quantities").joinpath("units.json").read_text("utf-8")
    known = {name: (factor, tuple(dims)) for name, (factor, *dims) in json.loads(text).items()}
    return {other: known[name] for name in known for other in (*spellings(name), name)}


def spellings(name: str) -> Iterator[str]:
    """What else a unit is written as: with the Greek letter for micro, the sign for ohm, a capital."""
    if "µ" in name:
        yield name.replace("µ", "\u03bc")
    if "Ω" in name:
        yield name.replace("Ω", "\u2126")
    if name.endswith("ohm"):
        yield f"{name[:-3]}Ohm"


def is_unit(name: str) -> bool:
    return name in table()


def unit_symbol(name: str) -> tuple[float, Dimension]:
    """Factor to SI and dimension of one unit symbol such as ``mH`` or ``rpm``."""
    try:
        return table()[name]
    except KeyError:
        raise SyntaxProblem(name, 0, "this unit is not known") from None


def flat(text: str) -> str:
    """A unit expression without spaces, powers as ``^2``."""
    return text.replace("²", "^2").replace("³", "^3").replace("·", "*").replace(" ", "").strip("*")


POWER = re.compile(r"-?[0-9]{1,2}(\.[0-9]{1,3})?")


def factors(text: str) -> Iterator[tuple[str, float]]:
    """Symbols and exponents of a unit expression."""
    sign = 1.0
    for piece in re.findall(r"[*/]|[^*/]+", flat(text)):
        if piece in "*/":
            sign = 1.0 if piece == "*" else -1.0
            continue
        name, raised, power = piece.partition("^")
        if raised and not POWER.fullmatch(power):
            raise SyntaxProblem(text, 0, f"“^{power}” is no power of a unit; write one like ^2 or ^-1")
        if name != "1":
            yield name, sign * (float(power) if power else 1.0)


@lru_cache(maxsize=4096)
def unit(text: str) -> tuple[float, Dimension]:
    """Factor to SI and dimension of a unit expression such as ``kg·m²`` or ``N·m/A``."""
    factor, dim = 1.0, list(NONE)
    for name, exponent in factors(text):
        f, d = unit_symbol(name)
        try:
            factor *= f**exponent
        except OverflowError:
            factor = math.inf
        if not 0 < factor < math.inf:
            raise SyntaxProblem(text, 0, "this unit is larger or smaller than any number")
        dim = [a + exponent * b for a, b in zip(dim, d)]
    return factor, tuple(dim)


TURNING = frozenset(
    ["rpm", "rad", "deg", "°", "rev", "mrad", "urad", "µrad", "\u03bcrad", "nrad", "krad", "Mrad", "Grad"]
)
Turn = tuple[float, float]
"""Exponents of cycles and of radians in a unit. SI gives neither a dimension, yet 25 Hz of turning are 157
rad/s."""
NO_TURN: Turn = (0.0, 0.0)


@lru_cache(maxsize=4096)
def turn(text: str) -> Turn:
    """Of a unit expression: Hz and 1/min count cycles, rpm, rad and degrees count radians once in SI."""
    if flat(text) in ("1/min", "min^-1"):
        return (1.0, 0.0)
    units = list(factors(text))
    cycles = sum(exponent for name, exponent in units if name.endswith("Hz") and is_unit(name))
    return cycles, sum(exponent for name, exponent in units if name in TURNING)


NAMED = {
    unit(u)[1]: u
    for u in (
        "",
        "A/s",
        "V/s",
        "A·s",
        "N·m/s",
        "kg·m²",
        "N·m·s",
        "N/m",
        "N·s/m",
        "kg",
        "m",
        "s",
        "A",
        "K",
        "m/s",
        "m/s²",
        "Hz",
        "V",
        "W",
        "J",
        "N",
        "H",
        "F",
        "Ω",
        "N·m/A",
        "K/W",
        "J/K",
        "V/A²",
        "A/V",
        "m²",
    )
}


def dimension_text(dim: Dimension) -> str:
    """A readable unit for a dimension, such as ``V`` or ``kg·m²``; ``a plain number`` for none."""
    if dim == NONE:
        return "a plain number"
    if dim in NAMED:
        return {"J": "J (or N·m)", "Hz": "rad/s (or Hz)", "N·m/A": "N·m/A (or V·s)"}.get(NAMED[dim], NAMED[dim])
    return base_units(dim)


def base_units(dim: Dimension) -> str:
    """In units of the base, as it can be read back: ``A/m``, ``m/s^3/A``."""
    above = [s if e == 1 else f"{s}^{e:g}" for s, e in zip(BASE_SYMBOLS, dim) if e > 0]
    below = [s if e == -1 else f"{s}^{-e:g}" for s, e in zip(BASE_SYMBOLS, dim) if e < 0]
    return "/".join(["·".join(above) or "1", *below]) if dim != NONE else ""


def si_unit(dim: Dimension) -> str:
    return NAMED.get(dim) or base_units(dim)


PER_SECOND: Dimension = (0.0, 0.0, -1.0, 0.0, 0.0)


def si_unit_of(dim: Dimension, turns: Turn) -> str:
    """The same for a value that counts radians, cycles or neither: 100 rad/s are not 16 Hz where cycles were
    not requested."""
    if dim != PER_SECOND:
        return si_unit(dim)
    cycles, radians = turns
    return "rad/s" if radians else "Hz" if cycles else "1/s"


MINUS, THIN = "\u2212", "\u2009"


def with_symbols(unit: str) -> str:
    """A unit as typed, in its usual signs: ``uH`` is µH."""
    return re.sub(r"\bu(?=[A-Za-z])", "µ", unit.replace("ohm", "Ω"))


DIGITS = 4
"""Significant ones, where nobody prefers more."""
_preferred = [DIGITS]


def use_digits(count: int) -> None:
    """From now on figures have so many digits where none are asked for; never fewer than `DIGITS`, as some of them are
    taken over."""
    _preferred[0] = max(DIGITS, count)


def number_text(value: float, digits: int = 0) -> str:
    """A figure for people: significant digits (0: as preferred), real minus, thin-spaced thousands."""
    digits = digits or _preferred[0]
    if math.isnan(value):
        return "–"
    if math.isinf(value):
        return ("" if value > 0 else MINUS) + "∞"
    if value == 0:
        return "0"
    size = abs(value)
    if 1e-4 <= size < 1e7:
        text = f"{value:.{max(0, digits - 1 - math.floor(math.log10(size)))}f}"
        if "." in text:
            text = text.rstrip("0").rstrip(".")
        whole, dot, rest = text.lstrip("-").partition(".")
        whole = re.sub(r"(?<=\d)(?=(\d{3})+$)", THIN, whole) if len(whole) > 4 else whole
        return (MINUS if text.startswith("-") and (whole != "0" or rest) else "") + whole + dot + rest
    mantissa, _, power = f"{value:.{digits - 1}e}".partition("e")
    if "." in mantissa:
        mantissa = mantissa.rstrip("0").rstrip(".")
    return f"{mantissa}e{int(power)}".replace("-", MINUS)


SCALED = {"V", "A", "W", "Ω", "s", "H", "F", "Hz", "J", "m"}
STEPS = ((1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m"), (1e-6, "µ"), (1e-9, "n"), (1e-12, "p"))


def figure(value: float, unit_text: str, digits: int = 0) -> str:
    """``value`` (SI) as a figure in ``unit_text``, with a prefix where the unit is a plain SI one."""
    digits = digits or _preferred[0]
    if unit_text in SCALED and value and math.isfinite(value):
        shown = float(f"{abs(value):.{digits - 1}e}")  # 999.96 V are 1 kV where three digits are shown
        for step, prefix in STEPS:
            if shown >= step and not (unit_text in ("s", "m") and step > 1):
                return f"{number_text(value / step, digits)} {prefix}{unit_text}"
    factor, _ = unit(unit_text)
    return f"{number_text(value / factor, digits)} {unit_text}".rstrip()

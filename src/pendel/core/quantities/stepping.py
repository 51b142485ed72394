"""Changing a written value by a key or the wheel: by an addition or a factor, in the unit it is written
in."""

from __future__ import annotations

import math
import re

from pendel.core.errors import ExpressionProblem, shorten
from pendel.core.quantities.expressions import Lookup, is_literal, value_in_field
from pendel.core.quantities.tokens import without_remark
from pendel.core.quantities.units import unit

FACTOR_MARKS = ("×", "x", "*")
LITERAL = re.compile(r"\s*([-−+]?)\s*(\d+(?:\.\d*)?|\.\d+)((?:e[-−+]?\d+)?)\s*([^\d\s].*)?", re.DOTALL)
THOUSANDS = re.compile(r"(?<=\d)[\u2009\u202f](?=\d)")
"""Spaces between groups of digits, as figures are shown with."""
LEAST_FACTOR, MOST_FACTOR = 1.0 + 1e-6, 1e3


def factor_mark(text: str) -> str:
    """What a step begins with that is a factor, with the space before it; empty for one that is added, such as the
    quantity ``x_max``."""
    plain = text.strip()
    mark = next((m for m in FACTOR_MARKS if plain.startswith(m)), "")
    if not mark or (mark.isidentifier() and plain[1:2].isidentifier()):
        return ""
    return text[: text.index(mark) + 1]


def read_step(text: str, field_unit: str, names: Lookup) -> tuple[float, bool]:
    """A step as typed: what it adds in SI, or a factor, and whether it is one.

    Raises
    ------
    ExpressionProblem
        where it is neither, or steps nowhere.
    """
    if mark := factor_mark(text):
        factor = value_in_field(text.removeprefix(mark), "", names)
        if not LEAST_FACTOR <= factor <= MOST_FACTOR:
            raise ExpressionProblem(f"a step of “{text}” is no factor above 1. Write it like ×1.1.")
        return factor, True
    step = abs(value_in_field(text, field_unit, names))
    if not 0.0 < step < math.inf:
        raise ExpressionProblem(f"a step of “{text}” changes nothing. Give one above 0, or a factor like ×1.1.")
    return step, False


MOST_DIGITS = 15


def digits_of(text: str) -> int:
    """A number of significant digits as typed; 0 for an empty text.

    Raises
    ------
    ExpressionProblem
    """
    if not text:
        return 0
    if not (text.isascii() and text.isdigit() and len(text) <= 2 and 1 <= int(text) <= MOST_DIGITS):
        raise ExpressionProblem(
            f"“{shorten(text)}” is no number of digits. Give a whole number from 1 to {MOST_DIGITS}."
        )
    return int(text)


def rounded(value: float, digits: int) -> str:
    """A number to so many significant digits: 160 to 2 digits is 160, not 1.6e+02."""
    return f"{float(f'{value:.{digits}g}'):.{max(10, digits)}g}"


def stepped(text: str, field_unit: str, count: int, step: str, names: Lookup, digits: int = 0) -> str:
    """A value's text after so many steps up or down, in the unit it was written in, rounded to ``digits``
    where there are some. Without a ``step`` it is one in the second digit.

    Raises
    ------
    ExpressionProblem
        where the text is no plain value, or the step cannot be read.
    """
    plain = without_remark(text)
    remark = text[len(plain) :]
    match = LITERAL.fullmatch(THOUSANDS.sub("", plain))
    if match is None or not is_literal(plain):
        raise ExpressionProblem(f"“{text}” is an expression. Type a value to change it in steps.")
    sign, mantissa, exponent, own_unit = match.groups()
    value = float(f"{sign.replace('−', '-')}{mantissa}{exponent.replace('−', '-')}")
    value_in_field(text, field_unit, names)  # what stands behind the figure must be a unit of the field
    if step:
        by, is_factor = read_step(step, field_unit, names)
        scale = unit(own_unit.strip() if own_unit else field_unit)[0]
        after = value * by**count if is_factor else value + count * by / scale
    else:
        after = value + count * fine_step(value, count)
    if not math.isfinite(after):
        raise ExpressionProblem(f"“{text}” cannot be changed by that step.")
    written = rounded(0.0 if abs(after) < 1e-12 * max(abs(value), 1e-300) else after, digits or 10)
    if digits and count and float(written) == value:
        raise ExpressionProblem(
            f"{digits} digits of “{text}” do not show that step. Give more digits or a larger step."
        )
    return f"{written} {own_unit.strip()}{remark}" if own_unit else f"{written}{remark}"


def own_unit(text: str) -> str:
    """The unit that a plain figure is written with; empty where there is none, or the text is an expression."""
    plain = without_remark(text)
    match = LITERAL.fullmatch(THOUSANDS.sub("", plain)) if is_literal(plain) else None
    return match[4].strip() if match is not None and match[4] else ""


def multiplied(text: str, factor: float) -> str:
    """A value's text times a factor, in the unit it was written in; an expression in brackets."""
    text = without_remark(text)
    match = LITERAL.fullmatch(THOUSANDS.sub("", text))
    if match is None or not is_literal(text):
        return f"{factor:g}*{text}" if text.isidentifier() else f"{factor:g}*({text})"
    sign, mantissa, exponent, own_unit = match.groups()
    value = float(f"{sign.replace('−', '-')}{mantissa}{exponent.replace('−', '-')}")
    return f"{value * factor:.4g} {own_unit.strip() if own_unit else ''}".strip()


def fine_step(value: float, count: int) -> float:
    """One in the second digit; towards zero of a power of ten in the digit below, so that up and down undo
    each other."""
    if value == 0.0 or not math.isfinite(value):
        return 0.1
    size = abs(value)
    place = math.floor(math.log10(size) + 1e-9)
    inwards = (count < 0) == (value > 0)
    if inwards and math.isclose(size, 10.0**place, rel_tol=1e-9):
        place -= 1
    return 10.0 ** (place - 1)

"""Symbols for the equations of parts.

CasADi's operators look for other types first, which for two scalars takes six times as long as the operation. A large
drive states thousands of them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import casadi as ca

Operator = Callable[[Any, Any], ca.SX]


def either_way(op: int, forth: Operator, back: Operator) -> tuple[Operator, Operator]:
    """An operator of CasADi and its reflected one, for scalars and numbers without the search; else as they are."""

    def ahead(a: Any, b: Any) -> ca.SX:
        return as_term(ca.SX.binary(op, a, b)) if isinstance(b, FITS) else forth(a, b)

    def reflected(b: Any, a: Any) -> ca.SX:
        return as_term(ca.SX.binary(op, a, b)) if isinstance(a, FITS) else back(b, a)

    return ahead, reflected


FITS = (ca.SX, float, int)


class Term(ca.SX):
    """An expression of CasADi. A sum, difference, product or quotient with another expression or a number is one too;
    all else goes CasADi's own way and gives a plain expression."""

    __add__, __radd__ = either_way(ca.OP_ADD, ca.SX.__add__, ca.SX.__radd__)
    __sub__, __rsub__ = either_way(ca.OP_SUB, ca.SX.__sub__, ca.SX.__rsub__)
    __mul__, __rmul__ = either_way(ca.OP_MUL, ca.SX.__mul__, ca.SX.__rmul__)
    __truediv__, __rtruediv__ = either_way(ca.OP_DIV, ca.SX.__truediv__, ca.SX.__rtruediv__)

    def __neg__(self) -> ca.SX:
        return as_term(ca.SX.unary(ca.OP_NEG, self))


def as_term(expression: ca.SX) -> ca.SX:
    """An expression that was just made, as a term."""
    expression.__class__ = Term
    return expression


def new_symbol(name: str) -> ca.SX:
    return as_term(ca.SX.sym(name))

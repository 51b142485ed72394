"""Symbols for the equations of parts.

CasADi's operators look for other types first, which for two scalars takes six times as long as the operation. A large
drive states thousands of them.
"""

from __future__ import annotations

from typing import Any

import casadi as ca


class Term(ca.SX):
    """An expression of CasADi. A sum, difference, product or quotient with another expression or a number is one too;
    all else goes CasADi's own way and gives a plain expression."""

    def __add__(self, other: Any) -> ca.SX:
        return binary(ca.OP_ADD, self, other) if fits(other) else super().__add__(other)

    def __radd__(self, other: Any) -> ca.SX:
        return binary(ca.OP_ADD, other, self) if fits(other) else super().__radd__(other)

    def __sub__(self, other: Any) -> ca.SX:
        return binary(ca.OP_SUB, self, other) if fits(other) else super().__sub__(other)

    def __rsub__(self, other: Any) -> ca.SX:
        return binary(ca.OP_SUB, other, self) if fits(other) else super().__rsub__(other)

    def __mul__(self, other: Any) -> ca.SX:
        return binary(ca.OP_MUL, self, other) if fits(other) else super().__mul__(other)

    def __rmul__(self, other: Any) -> ca.SX:
        return binary(ca.OP_MUL, other, self) if fits(other) else super().__rmul__(other)

    def __truediv__(self, other: Any) -> ca.SX:
        return binary(ca.OP_DIV, self, other) if fits(other) else super().__truediv__(other)

    def __rtruediv__(self, other: Any) -> ca.SX:
        return binary(ca.OP_DIV, other, self) if fits(other) else super().__rtruediv__(other)

    def __neg__(self) -> ca.SX:
        return as_term(ca.SX.unary(ca.OP_NEG, self))


def fits(other: Any) -> bool:
    return isinstance(other, (ca.SX, float, int))


def binary(op: int, a: Any, b: Any) -> ca.SX:
    return as_term(ca.SX.binary(op, a, b))


def as_term(expression: ca.SX) -> ca.SX:
    """An expression that was just made, as a term."""
    expression.__class__ = Term
    return expression


def new_symbol(name: str) -> ca.SX:
    return as_term(ca.SX.sym(name))

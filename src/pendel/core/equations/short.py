"""What CasADi's own functions do with any expression, for one as short as most rows of a large drive.

Half the rows of a circuit are a sum or difference of two symbols, and half of what is solved for is a symbol or
its negative. CasADi's functions first find out which of their forms was called, which takes longer than what they
then do; to read such an expression node by node takes a tenth of it. What comes out is the same.
"""

from __future__ import annotations

from collections.abc import Set
from typing import NamedTuple

import casadi as ca

NOUGHT, ONE, MINUS_ONE = ca.SX(0), ca.SX(1), ca.SX(-1)


class Pair(NamedTuple):
    """a + b or a - b of two different symbols."""

    op: int
    a: ca.SX
    b: ca.SX

    def slope(self, name: str) -> ca.SX:
        """By one of its symbols."""
        return MINUS_ONE if self.op == ca.OP_SUB and self.b.name() == name else ONE

    def solved_for(self, name: str) -> ca.SX:
        """What makes the pair zero, for one of its symbols."""
        other = self.b if self.a.name() == name else self.a
        return -other if self.op == ca.OP_ADD else other


def pair_of(expression: ca.SX, unknowns: Set[str]) -> Pair | None:
    """An expression with these unknowns as a pair, where it is one."""
    if len(unknowns) > 2 or not expression.is_dense() or expression.op() not in (ca.OP_ADD, ca.OP_SUB):
        return None
    a, b = expression.dep(0), expression.dep(1)
    return Pair(expression.op(), a, b) if a.is_symbolic() and b.is_symbolic() else None


class Product(NamedTuple):
    """One symbol or the product of two, or its negative."""

    sign: int
    symbols: tuple[ca.SX, ...]


def product_of(expression: ca.SX) -> Product | None:
    """A scalar expression as a product, where it is one, as most coefficients of circuits are."""
    if not expression.is_dense():
        return None
    sign, core = (-1, expression.dep()) if expression.op() == ca.OP_NEG else (1, expression)
    if core.is_symbolic():
        return Product(sign, (core,))
    if core.op() != ca.OP_MUL:
        return None
    a, b = core.dep(0), core.dep(1)
    return Product(sign, (a, b)) if a.is_symbolic() and b.is_symbolic() else None


def names_in(expression: ca.SX) -> set[str]:
    """The names of the symbols of an expression."""
    core = expression.dep() if expression.is_dense() and expression.op() == ca.OP_NEG else expression
    if core.is_leaf():
        return {core.name()} if core.is_symbolic() else set()
    return {s.name() for s in ca.symvar(expression)}

"""Intervals, and affine forms over what a block begins its update with.

Two bounds of each expression are kept and their meet is used: interval arithmetic, which follows branches, and
an affine form, in which what is subtracted from itself cancels (Stolfi, de Figueiredo: Self-Validated
Numerical Methods and Applications, chapters 2 and 3)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

INF = math.inf


@dataclass(frozen=True)
class Interval:
    """All numbers from ``low`` to ``high``."""

    low: float
    high: float

    @property
    def size(self) -> float:
        """The largest absolute value."""
        return max(abs(self.low), abs(self.high))

    @property
    def finite(self) -> bool:
        return math.isfinite(self.low) and math.isfinite(self.high)

    def hull(self, other: Interval) -> Interval:
        return Interval(min(self.low, other.low), max(self.high, other.high))

    def meet(self, other: Interval) -> Interval | None:
        low, high = max(self.low, other.low), min(self.high, other.high)
        return Interval(low, high) if low <= high else None

    def within(self, other: Interval) -> bool:
        return other.low <= self.low and self.high <= other.high

    def __contains__(self, x: float) -> bool:
        return self.low <= x <= self.high

    def __add__(self, other: Interval) -> Interval:
        return Interval(self.low + other.low, self.high + other.high)

    def __neg__(self) -> Interval:
        return Interval(-self.high, -self.low)

    def __sub__(self, other: Interval) -> Interval:
        return self + -other

    def times(self, factor: float) -> Interval:
        return self * Interval(factor, factor)

    def __mul__(self, other: Interval) -> Interval:
        corners = [_product(a, b) for a in (self.low, self.high) for b in (other.low, other.high)]
        return Interval(min(corners), max(corners))

    def over(self, other: Interval) -> Interval:
        """The quotient; everything where the divisor may be zero."""
        if 0.0 in other:
            return EVERYTHING
        return self * Interval(1.0 / other.high, 1.0 / other.low)


def _product(a: float, b: float) -> float:
    return 0.0 if a == 0.0 or b == 0.0 else a * b


EVERYTHING = Interval(-INF, INF)
TURN = Interval(-math.pi, math.pi)


def applied(name: str, at: Sequence[Interval]) -> Interval:
    """What a function of the block language can give for what lies in intervals; everything where it is no
    function of them alone."""
    match name, at:
        case "saturate", (x, low, high):
            if low.high <= x.low and x.high <= high.low:
                return x
            top = min(x.high, high.high)
            return Interval(min(max(x.low, low.low), high.low), max(top, low.high) if x.low < low.high else top)
        case "absolute", (x,):
            return Interval(0.0 if 0.0 in x else min(abs(x.low), abs(x.high)), x.size)
        case "floor", (x,):
            return Interval(*(math.floor(e) if math.isfinite(e) else e for e in (x.low, x.high)))
        case "sqrt", (x,):
            return Interval(math.sqrt(max(x.low, 0.0)), math.sqrt(max(x.high, 0.0)))
        case "sin" | "cos", _:
            return Interval(-1.0, 1.0)
        case "atan2" | "wrapped", _:
            return TURN
        case "minimum", _:
            return Interval(min(a.low for a in at), min(a.high for a in at))
        case "maximum", _:
            return Interval(max(a.low for a in at), max(a.high for a in at))
    return EVERYTHING


def symmetric(size: float) -> Interval:
    return Interval(-size, size)


@dataclass(frozen=True)
class Bounded:
    """An expression's interval, and its affine form: ``const`` and a coefficient for each symbol.

    What no affine form can say becomes a symbol of its own.
    """

    interval: Interval
    form: Mapping[str, float]
    const: float = 0.0
    bases: Mapping[str, Interval] = field(default_factory=dict)
    """Intervals of the symbols."""

    @classmethod
    def exactly(cls, value: float) -> Bounded:
        return cls(Interval(value, value), {}, value)

    @classmethod
    def symbol(cls, name: str, interval: Interval) -> Bounded:
        return cls(interval, {name: 1.0}, 0.0, {name: interval})

    def plus(self, other: Bounded, sign: float = 1.0) -> Bounded:
        interval = self.interval + (other.interval if sign > 0 else -other.interval)
        form = dict(self.form)
        for name, factor in other.form.items():
            form[name] = form.get(name, 0.0) + sign * factor
        const, bases = self.const + sign * other.const, {**self.bases, **other.bases}
        total = Interval(const, const)
        for name, factor in form.items():
            if factor:
                total += bases[name].times(factor)
        return Bounded(interval.meet(total) or interval, form, const, bases)

    def times(self, factor: float) -> Bounded:
        form = {n: f * factor for n, f in self.form.items()}
        return Bounded(self.interval.times(factor), form, self.const * factor, self.bases)

    def limited(self, to: Interval) -> Bounded:
        """With what is known besides; the form stays, as the value does."""
        return Bounded(self.interval.meet(to) or self.interval, self.form, self.const, self.bases)

"""How a processor holds a number: float, or a word that counts steps of a power of two or parts of a turn."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import Enum

from pendel.core.controllers.numbers.intervals import Interval


class NumberFormat(Enum):
    """The number format of a block."""

    FLOAT64 = "float64"
    FLOAT32 = "float32"
    FIXED32 = "fixed32"
    FIXED16 = "fixed16"

    @property
    def fixed(self) -> bool:
        return self in (NumberFormat.FIXED16, NumberFormat.FIXED32)

    @property
    def bits(self) -> int:
        return {"float64": 64, "float32": 32, "fixed32": 32, "fixed16": 16}[self.value]

    @property
    def label(self) -> str:
        return f"{self.value[:5]} {self.value[5:]}"

    @property
    def richness(self) -> int:
        """By which of two formats a number that both need is held."""
        return list(NumberFormat)[::-1].index(self)


@dataclass(frozen=True)
class Rep:
    """A float (``bits`` 32 or 64), or a word of ``bits`` that stands for word·2^−fraction between ``low`` and
    ``high``; an angle's word stands for word·2π/2^bits rad and wraps."""

    floating: bool
    bits: int
    fraction: int = 0
    low: int = 0
    high: int = 0
    angle: bool = False

    @property
    def c_type(self) -> str:
        if self.floating:
            return "float" if self.bits == 32 else "double"
        return f"int{self.bits}_t"

    @property
    def step(self) -> float:
        """One step of the word, in SI; of a float none."""
        if self.floating:
            return 0.0
        return 2.0 * math.pi / 2.0**self.bits if self.angle else math.ldexp(1.0, -self.fraction)

    @property
    def range(self) -> Interval | None:
        """What it can hold, in SI; of a float anything."""
        return None if self.floating else Interval(self.low * self.step, self.high * self.step)

    def word(self, value: float) -> int:
        """The word for a value, rounded and limited; an angle wraps."""
        if self.angle:
            turns = value / (2.0 * math.pi)
            word = math.floor((turns - math.floor(turns + 0.5)) * 2.0**self.bits + 0.5)
            return word if word < 2 ** (self.bits - 1) else word - 2**self.bits
        return max(self.low, min(self.high, math.floor(math.ldexp(value, self.fraction) + 0.5)))

    def value(self, word: int) -> float:
        """What a word stands for, in SI."""
        return word * self.step


FLOAT = {32: Rep(True, 32), 64: Rep(True, 64)}


def turn_word(bits: int) -> Rep:
    half = 2 ** (bits - 1)
    return Rep(False, bits, 0, -half, half - 1, True)


def word_for(interval: Interval, bits: int, *, headroom: int = 0, grid: int | None = None) -> Rep:
    """The finest word that holds an interval; ``grid`` is the fraction beyond which its values have no
    digits."""
    half = 2 ** (bits - 1 - headroom)
    size = max(interval.size, LEAST)
    fraction = bits - 1 if interval.size == 0.0 else math.floor(math.log2((half - 2) / size))
    fraction = min(fraction, MOST_FRACTION)
    if grid is not None:
        fraction = min(fraction, grid)
    maximum = 2 ** (bits - 1) - (1 if bits == 16 else 2)
    slack = 0 if grid is not None and fraction == grid else SLACK
    low = max(-maximum, math.floor(math.ldexp(interval.low, fraction)) - slack)
    high = min(maximum, math.ceil(math.ldexp(interval.high, fraction)) + slack)
    return Rep(False, bits, fraction, low, high)


LEAST, GREATEST = 2.0**-60, 2.0**60
"""Sizes between which a signal can lie to be held in words."""
MOST_FRACTION, SLACK = 60, 1
"""Binary digits behind the point at most; steps that rounding may go beyond a proven range."""


def whole_word(rep: Rep) -> Rep:
    """The same step over all that the word can hold, with the headroom it has."""
    maximum = 2 ** max(rep.low.bit_length(), rep.high.bit_length(), 1)
    maximum = min(maximum, 2 ** (rep.bits - 1)) - (1 if rep.bits == 16 else 2)
    return replace(rep, low=-maximum, high=maximum)

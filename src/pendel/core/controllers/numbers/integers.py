"""Integer expressions in C with their bounds as whole numbers, and how exactly coefficients keep their
values."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.tree import Expr, Live

MOST = {32: 2**31 - 2, 64: 2**63 - 2}
"""The largest absolute value of an intermediate of 32 and 64 bits."""


@dataclass(frozen=True)
class Code:
    """An integer expression in C that stands for a value times 2^fraction, between ``low`` and ``high``."""

    text: str
    fraction: int
    low: int
    high: int
    atom: bool = False
    const: float | None = None
    gain: float = 1.0
    """What the smallest step of what it comes from was multiplied with, ..."""
    grain: float = 0.0
    """... and that step; 0 stands for a step of its own word, ..."""
    by_rounding: bool = True
    """... and whether it is what rounding makes: what a product changes by depends on where its factors are, and a
    count or a choice of few values moves by as much as it should."""
    live: Live | None = None
    """The live number that it is, which can be had in other steps."""
    loose: Expr | None = None
    """The quotient that it is, where its divisor may be so small that its bounds say little."""

    @property
    def minimum(self) -> float:
        """Its smallest change."""
        return self.grain * self.gain if self.grain else math.ldexp(1.0, -self.fraction)

    def from_steps_of(self, other: Code, factor: float = 1.0) -> Code:
        """With the smallest change of another, times a factor."""
        grain = other.grain or math.ldexp(1.0, -other.fraction)
        gain = (other.gain if other.grain else 1.0) * abs(factor)
        return replace(self, grain=grain, gain=gain, by_rounding=other.by_rounding)

    def as_coarse_as(self, *others: Code) -> Code:
        """With the smallest change of what is picked from it or limited, where that is more than its own step."""
        coarsest = max((c for c in others if c.const is None), key=lambda c: c.minimum, default=self)
        return self.from_steps_of(coarsest) if coarsest.minimum > self.minimum else self

    @property
    def size(self) -> int:
        return max(abs(self.low), abs(self.high))

    @property
    def wide(self) -> bool:
        return self.size > MOST[32]

    @property
    def width(self) -> int:
        return 64 if self.wide else 32

    @property
    def bits(self) -> int:
        """Digits of the largest absolute value."""
        return self.size.bit_length()

    @property
    def inner(self) -> str:
        return self.text if self.atom else f"({self.text})"

    @property
    def interval(self) -> Interval:
        return Interval(math.ldexp(self.low, -self.fraction), math.ldexp(self.high, -self.fraction))


def whole(value: int) -> str:
    """An integer as C."""
    if -(2**31) < value < 2**31:
        return f"{value}" if value >= 0 else f"({value})"
    return f"INT64_C({value})" if value >= 0 else f"(-INT64_C({-value}))"


def widened(code: Code) -> str:
    """An operand of 32 bits as one of 64."""
    return f"(int64_t){code.text}" if code.atom else f"pd_wide({code.text})"


def bits_of(code: Code, bits: int) -> str:
    """An expression as an unsigned number of so many bits; high ones do not count."""
    if code.atom:
        return f"(uint{bits}_t){code.text}"
    if code.wide:
        return f"pd_bits64({code.text})" if bits == 64 else f"(uint32_t)pd_bits64({code.text})"
    return f"pd_bits32({code.text})" if bits == 32 else f"pd_bits64(pd_wide({code.text}))"


def rounded(value: float) -> int:
    return math.floor(value + 0.5)


@dataclass(frozen=True)
class Coefficient:
    """A coefficient, how exactly its word keeps it, and where it acts."""

    wanted: float
    kept: float

    @property
    def error(self) -> float:
        return abs(self.kept / self.wanted - 1.0) if self.wanted else 0.0


def turn_code(text: str, bits: int) -> Code:
    """An angle's word as a number; the half turn itself, a step beyond, has room in every product."""
    half = 2 ** (bits - 1) - 2
    return Code(text, 0, -half, half, True)


def otherwise(inner: list[str], pad: str) -> list[str]:
    """The other branch; where it is one decision alone, as ``else if``."""
    deeper = f"{pad}    "
    if inner and inner[0].startswith(f"{deeper}if (") and inner.index(f"{deeper}}}") == len(inner) - 1:
        rest = [line.removeprefix("    ") for line in inner[1:-1]]
        if f"{deeper}}} else {{" not in inner:  # a chain of decisions says what else happens (MISRA C:2012, 15.7)
            rest += [f"{pad}}} else {{", f"{deeper}/* nothing else */"]
        return [f"{pad}}} else {inner[0].strip()}", *rest]
    return [f"{pad}}} else {{", *inner]


def truncated(a: int, b: int) -> int:
    """Division as C has it."""
    return abs(a) // abs(b) * (1 if (a < 0) == (b < 0) else -1)


def exact_fraction(value: float, digits: int) -> int:
    """The fewest binary digits behind the point that hold a value exactly, or as many as ``digits`` allow."""
    if value == 0.0:
        return 0
    mantissa, exponent = math.frexp(value)
    whole_mantissa = int(math.ldexp(abs(mantissa), 53))
    zeros = (whole_mantissa & -whole_mantissa).bit_length() - 1
    return min(53 - zeros - exponent, digits - exponent)


def scaled_size(code: Code, fraction: int) -> int:
    """The largest absolute value of what `FixedWriter.at` makes, and what it needs while it rounds."""
    if code.const is not None:
        return abs(rounded(math.ldexp(code.const, fraction))) if fraction < 200 else 2**200
    if code.live is not None and fraction < 200:
        return rounded(math.ldexp(code.live.size, fraction))
    shift = code.fraction - fraction
    return code.size << -shift if shift < 0 else (code.size >> shift) + 1

"""Bringing integer expressions to one step: shifts that round, sums and coefficients that fit, limits,
roots."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from pendel.core.controllers.numbers.block import BlockTree
from pendel.core.controllers.numbers.explained import Explained, NamedNumbers
from pendel.core.controllers.numbers.filling import hanging_on
from pendel.core.controllers.numbers.integers import (
    MOST,
    Code,
    Coefficient,
    bits_of,
    exact_fraction,
    rounded,
    scaled_size,
    whole,
    widened,
)
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.live import LiveNumber, LiveNumbers
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.controllers.numbers.tree import CannotLower, Const, Expr, Live, Product


def live_code(number: LiveNumber) -> Code:
    rep = number.rep
    return Code(f"b->{number.name}", rep.fraction, rep.low, rep.high, True, live=number.live)


@dataclass
class Scaling:
    """What is written of one block in words of ``bits``; ``reps`` are those of its inputs, outputs, states and
    locals that are assigned more than once."""

    tree: BlockTree
    bits: int
    reps: Mapping[str, Rep]
    used: set[str] = field(default_factory=set)
    """Functions of the library that the C calls."""
    coefficients: list[Coefficient] = field(default_factory=list)
    divisors: list[Expr] = field(default_factory=list)
    """Divisors that the bounds do not keep from zero."""
    lost: dict[str, float] = field(default_factory=dict)
    """States whose smallest increments are less than half their step: how much (SI) an increment must
    have."""
    coarse: dict[Expr, Interval] = field(default_factory=dict)
    """Quotients that lose digits since they might be large: from one step of them to what they may come to
    (SI)."""
    jumps: dict[str, float] = field(default_factory=dict)
    """What names that have words change by at least (SI), as a step of what they are computed from counts so much."""
    limited: set[str] = field(default_factory=set)
    places: dict[str, str] = field(default_factory=dict)
    """Where names are in C."""
    naturals: dict[str, Code] = field(default_factory=dict)
    """Locals that are assigned once and keep what they are given."""
    tables: list[str] = field(default_factory=list)
    live: LiveNumbers = field(default_factory=LiveNumbers)
    numbers: NamedNumbers = field(default_factory=NamedNumbers)
    counting: str = ""
    """What names of counters begin with, where the C is to count lost steps and what is cut off."""
    counted: list[str] = field(default_factory=list)
    """States of which it counts lost steps."""
    unsure: frozenset[str] = frozenset()
    """Names whose range is not proven: where their words end, something may be cut off, ..."""
    cut: list[str] = field(default_factory=list)
    """... and those of which it counts that."""

    finest: int | None = None
    """Steps beyond which the sum that is being written need not be finer: those of the state that it goes
    to, as rounding twice would favour one direction."""

    def widened(self, code: Code) -> str:
        """An operand; a place of 16 bits as a number of 32, as which it is computed with."""
        return f"(int32_t){code.text}" if code.text in self.short else code.inner

    @property
    def short(self) -> set[str]:
        """Places of 16 bits, which need no cast to go into such a one."""
        return {self.places[n] for n, r in self.reps.items() if r.bits == 16 and n in self.places}

    @property
    def long_memory(self) -> set[str]:
        """Places of what is remembered in more digits than the format's, counts apart: what multiplies such a one tick
        after tick needs them too, and the product is of 64 bits anyway."""
        return {self.places[s] for s in self.tree.states if self.reps[s].bits > self.bits and self.reps[s].fraction > 0}

    @property
    def maximum(self) -> int:
        return MOST[2 * self.bits]

    def call(self, name: str, *args: str) -> str:
        self.used.add(name)
        return f"{name}({', '.join(args)})"

    def at(self, code: Code, fraction: int, *, wide: bool = False) -> Code:
        """A value in steps of 2^−fraction; finer ones are rounded."""
        if code.const is not None:
            return self.constant(code.const, fraction)
        shift = code.fraction - fraction
        if shift == 0:
            return code
        if code.live is not None and (number := self.live.in_words(code.live, fraction)) is not None:
            return live_code(number)
        if code.size == 0:
            return Code("0", fraction, 0, 0, True)
        if shift < 0:
            factor = 2**-shift
            low, high = code.low * factor, code.high * factor
            scaled = Code("", fraction, low, high)
            if scaled.size > (MOST[64] if wide else self.maximum):
                raise self.no_room()
            text = widened(code) if scaled.wide and not code.wide else self.widened(code)
            return replace(scaled, text=f"{text} * {whole(factor)}").from_steps_of(code)
        return self.shifted_right(code, shift, fraction)

    def no_room(self) -> CannotLower:
        return CannotLower(
            self.tree.title,
            "numbers of its update lie too far apart for words of this length. Narrow its ranges, or choose float.",
        )

    def shifted_right(self, code: Code, shift: int, fraction: int) -> Code:
        if shift == 0:
            return code
        if shift > code.bits:
            return Code("0", fraction, 0, 0, True)
        half = 2 ** (shift - 1)
        low, high = (code.low + half) >> shift, (code.high + half) >> shift
        width = 64 if code.size + half > MOST[32] else 32
        if code.size + half > MOST[64]:  # no room to round: the last digit goes first
            text = self.call(f"pd_down{code.width}", code.text, "1")
            halved = Code(text, code.fraction - 1, code.low >> 1, code.high >> 1, True)
            return self.shifted_right(halved, shift - 1, fraction)
        text = self.call(f"pd_shr{width}", code.text, f"{shift}")
        shifted = Code(text, fraction, low, high, True)
        if code.minimum > shifted.minimum:
            shifted = shifted.from_steps_of(code)
        return replace(shifted, text=f"(int32_t){text}", atom=False) if width == 64 and not shifted.wide else shifted

    def live_number(self, live: Live) -> Code:
        """A live number with W − 1 digits."""
        fraction = self.bits - 1 - math.frexp(live.size)[1]
        number = self.live.in_words(live, fraction) or self.live.in_words(live, fraction - 1)
        if number is None:
            raise self.no_room()
        return live_code(number)

    def constant(self, value: float, fraction: int | None = None) -> Code:
        """A constant in given steps, or in the coarsest that hold it exactly, at most W − 1 digits."""
        if fraction is None:
            fraction = exact_fraction(value, self.bits - 1)
        word = rounded(math.ldexp(value, fraction))
        return Code(self.named(value, word, fraction), fraction, word, word, True, value)

    def named(self, value: float, word: int, fraction: int) -> str:
        """The word of a number, by its name where it has one."""
        if not (isinstance(value, Explained) and word):
            return whole(word)
        steps = f"in steps of 2^{-fraction}" if fraction else ""
        return self.numbers.name(value, f"int{32 if abs(word) <= MOST[32] else 64}_t", whole(word), steps)

    def aligned(self, a: Code, b: Code, *, added: bool = False) -> tuple[Code, Code]:
        """Both in the finest steps in which they fit; with ``added`` so does their sum."""
        fraction = max(self.digits_behind(c) for c in (a, b))
        if added and self.finest is not None:
            fraction = min(fraction, self.finest)
        join = sum if added else max
        while join(scaled_size(c, fraction) for c in (a, b)) > self.maximum:
            fraction -= 1
        return self.at(a, fraction), self.at(b, fraction)

    def digits_behind(self, code: Code) -> int:
        """Binary digits behind the point that a value needs; a constant those that keep it nearly."""
        if code.live is not None:
            return self.bits - 5 - math.frexp(code.live.size)[1]
        return code.fraction if code.const is None else exact_fraction(code.const, self.bits - 5)

    def narrowed(self, code: Code, digits: int) -> Code:
        """With at most so many digits."""
        shift = code.bits - digits
        if shift <= 0:
            return code
        if code.const is not None:
            return self.constant(code.const, code.fraction - shift)
        if code.loose is not None:
            self.coarse[code.loose] = Interval(math.ldexp(1.0, shift - code.fraction), code.interval.size)
        if ((code.size + 2 ** (shift - 1)) >> shift).bit_length() > digits:  # rounded up to one digit more
            shift += 1
        return self.shifted_right(code, shift, code.fraction - shift)

    def times(self, factor: float, code: Code) -> Code:
        """A coefficient times a value: at most W − 1 digits of the one, so that the product fits."""
        if code.const is not None:
            return self.constant(factor * code.const)
        if code.live is not None:
            return self.live_number(hanging_on(Product(Const(factor), code.live)))
        if code.size == 0 or factor == 0.0:
            return Code("0", code.fraction, 0, 0, True, 0.0)
        mantissa, exponent = math.frexp(factor)
        if abs(mantissa) == 0.5:  # a power of two moves the point
            low, high = (code.low, code.high) if factor > 0 else (-code.high, -code.low)
            text = code.text if factor > 0 else f"-{code.inner}"
            scaled = Code(text, code.fraction - (exponent - 1), low, high, code.atom and factor > 0)
            return scaled.from_steps_of(code, factor)
        code, digits, room = self.beside(code)
        fraction = min(exact_fraction(factor, digits), digits - exponent)
        word = rounded(math.ldexp(factor, fraction))
        while abs(word) * code.size > room:
            fraction -= 1
            word = rounded(math.ldexp(factor, fraction))
        self.coefficients.append(Coefficient(factor, math.ldexp(word, -fraction)))
        return self.multiplied(Code(self.named(factor, word, fraction), fraction, word, word, True), factor, code, room)

    def times_live(self, live: Live, code: Code) -> Code:
        """A live coefficient times a value, with as many digits as the product has room for."""
        if code.const is not None:
            return self.live_number(hanging_on(Product(Const(code.const), live))) if code.const else code
        if code.live is not None:
            return self.live_number(hanging_on(Product(live, code.live)))
        if code.size == 0 or live.size == 0.0:
            return Code("0", code.fraction, 0, 0, True, 0.0)
        code, digits, room = self.beside(code)
        fraction = digits - math.frexp(live.size)[1]
        number = self.live.in_words(live, fraction)
        while number is None or max(-number.rep.low, number.rep.high) * code.size > room:
            fraction -= 1
            number = self.live.in_words(live, fraction)
        return self.multiplied(live_code(number), live.now, code, room)

    def beside(self, code: Code) -> tuple[Code, int, int]:
        """A value that is to be multiplied, the digits that a coefficient may have, and what the product may
        come to."""
        digits = min(self.bits - 1, (2 * self.bits - 1) - code.bits)
        if code.bits <= self.bits + 1:
            return code, digits, self.maximum
        if self.bits == 16:  # a counter or the like: its digits matter
            return code, min(31, 62 - code.bits) if code.text in self.long_memory else 15, MOST[64]
        return self.narrowed(code, 32), 31, self.maximum

    def multiplied(self, coefficient: Code, factor: float, code: Code, room: int) -> Code:
        """A coefficient's word times a value."""
        ends = [c * v for c in (coefficient.low, coefficient.high) for v in (code.low, code.high)]
        product = Code("", code.fraction + coefficient.fraction, min(ends), max(ends))
        text = widened(code) if product.wide and not code.wide else self.widened(code)
        product = replace(product, text=f"{text} * {coefficient.text}").from_steps_of(code, factor)
        return self.narrowed(product, 2 * self.bits - 2) if product.size > room else product

    def saturated(self, x: Code, low: Code, high: Code) -> Code:
        movable = [c for c in (low, high) if c.const is not None or c.live is not None]
        fraction = max(self.digits_behind(c) for c in (x, *movable))
        if self.finest is not None:  # a state that goes as far as its limits let it keeps their digits
            fraction = max(fraction, min(self.finest, max(self.digits_behind(c) for c in (low, high))))
        while any(scaled_size(c, fraction) > self.maximum for c in (x, low, high)):
            fraction -= 1
        x, low, high = (self.at(c, fraction) for c in (x, low, high))
        if low.high <= x.low and x.high <= high.low:
            return x
        width = 64 if any(c.wide for c in (x, low, high)) else 32
        bottom, top = min(max(x.low, low.low), high.low), min(x.high, high.high)
        if x.low < low.high:
            top = max(top, low.high)
        clipped = Code(
            self.call(f"pd_clamp{width}", x.text, low.text, high.text),
            fraction,
            bottom,
            max(bottom, top),
            True,
        ).as_coarse_as(x)
        return (
            replace(clipped, text=f"(int32_t){clipped.text}", atom=False)
            if width == 64 and not clipped.wide
            else clipped
        )

    def extreme(self, name: str, a: Code, b: Code) -> Code:
        a, b = (self.apart_from_zero(c, d) for c, d in zip((a, b), self.aligned(a, b)))
        minimum = name == "minimum"
        if (a.high <= b.low) if minimum else (a.low >= b.high):
            return a
        if (b.high <= a.low) if minimum else (b.low >= a.high):
            return b
        pick = min if minimum else max
        width = 64 if a.wide or b.wide else 32
        text = self.call(f"pd_{pick.__name__}{width}", a.text, b.text)
        picked = Code(text, a.fraction, pick(a.low, b.low), pick(a.high, b.high), True).as_coarse_as(a, b)
        return (
            replace(picked, text=f"(int32_t){picked.text}", atom=False) if width == 64 and not picked.wide else picked
        )

    def apart_from_zero(self, limit: Code, code: Code) -> Code:
        """A limit that is not zero stays so, as what divides by the result relies on it."""
        if limit.const and code.low == code.high == 0:
            word = 1 if limit.const > 0 else -1
            return replace(code, text=whole(word), low=word, high=word)
        return code

    def root(self, x: Code) -> Code:
        """The whole root of a number of 2W − 2 digits, which has W − 1."""
        digits = 2 * self.bits - 2
        x = self.narrowed(x, digits)
        up = digits - x.bits
        fraction = x.fraction + up
        if fraction % 2:
            up -= 1
        if up < 0:
            x = self.shifted_right(x, 1, x.fraction - 1)
            up = 0
        x = self.at(x, x.fraction + up)
        if x.low < 0:
            x = Code(self.call(f"pd_max{x.width}", x.text, "0"), x.fraction, 0, max(0, x.high), True)
        text = self.call(f"pd_sqrt{x.width}", bits_of(x, x.width))
        return Code(text, x.fraction // 2, math.isqrt(x.low), math.isqrt(max(0, x.high)), True)

    def clamp(self, code: Code, low: int, high: int, name: str) -> str:
        """A value between the ends of a word; what is cut off of a name that is not sure is counted, where the C is to
        count."""
        ends = (code.text, whole(low), whole(high))
        if not (self.counting and name in self.unsure):
            return self.call(f"pd_clamp{code.width}", *ends)
        if name not in self.cut:
            self.cut.append(name)
        counted = f"pd_cut({', '.join(ends)}, &{self.counting}cut{self.cut.index(name)})"
        return counted if code.wide else f"(int32_t){counted}"

    def into(self, code: Code, rep: Rep, name: str = "") -> Code:
        """A value as a word of ``rep``, limited where it is not proven to fit."""
        if code.const is not None:
            word = rep.word(code.const)
            return Code(whole(word), rep.fraction, word, word, True, code.const)
        shift = code.fraction - rep.fraction
        if shift < 0 and scaled_size(code, rep.fraction) > MOST[64]:  # limit first, what is shifted then fits
            low, high = -((-rep.low) >> -shift) - 1, (rep.high >> -shift) + 1
            code = Code(
                self.clamp(code, low, high, name),
                code.fraction,
                low,
                high,
                True,
            )
            self.limited.add(name)
        code = self.at(code, rep.fraction, wide=True)
        if rep.low <= code.low and code.high <= rep.high:
            return code
        self.limited.add(name)
        text = self.clamp(code, rep.low, rep.high, name)
        stored = Code(
            text,
            rep.fraction,
            max(rep.low, min(code.low, rep.high)),
            min(rep.high, max(code.high, rep.low)),
            True,
        )
        return replace(stored, text=f"(int32_t){text}", atom=False) if code.wide and rep.bits <= 32 else stored

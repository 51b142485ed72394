"""From one number format to another, as C: shifts that round, limits, parts of a turn."""

from __future__ import annotations

import math

from pendel.core.controllers.numbers.representation import Rep


def converted(text: str, given: Rep, wanted: Rep) -> str:
    """C that turns ``text``, held as ``given``, into ``wanted``."""
    if given == wanted:
        return text
    if given.floating and wanted.floating:
        return text if given.bits == wanted.bits else f"({wanted.c_type}){text}"
    if given.floating:
        return _from_float(text, given, wanted)
    if wanted.floating:
        step = float_text(given.step, wanted.bits)
        return f"({wanted.c_type}){text} * {step}"
    return _between_words(text, given, wanted)


def float_text(value: float, bits: int) -> str:
    if bits == 64:
        return repr(value)
    text = f"{value:.9g}"
    return (text if any(c in text for c in ".en") else text + ".0") + "f"


def _from_float(text: str, given: Rep, wanted: Rep) -> str:
    if wanted.angle:
        return f"pd_turn{wanted.bits}_d({'(double)' if given.bits == 32 else ''}{text})"
    if wanted.bits == 64:
        steps = float_text(math.ldexp(1.0, min(wanted.fraction, 31)), 64)
        more = 2 ** max(0, wanted.fraction - 31)
        return f"(int64_t)pd_word_d((double){text}, {steps}, INT32_MIN, INT32_MAX) * {more}"
    suffix = "f" if given.bits == 32 else "d"
    steps = float_text(math.ldexp(1.0, wanted.fraction), given.bits)
    call = f"pd_word_{suffix}({text}, {steps}, {wanted.low}, {wanted.high})"
    return f"(int16_t){call}" if wanted.bits == 16 else call


def _between_words(text: str, given: Rep, wanted: Rep) -> str:
    if given.angle and wanted.angle:
        if given.bits > wanted.bits:
            shift = given.bits - wanted.bits
            return f"pd_turn{wanted.bits}(((uint32_t){text} + {2 ** (shift - 1)}u) >> {shift})"
        return f"pd_turn{wanted.bits}((uint32_t){text} << {wanted.bits - given.bits})"
    if given.angle:
        return _scaled(text, given, wanted, given.step)
    if wanted.angle:
        return _wrapping(text, given, wanted)
    shift = given.fraction - wanted.fraction
    if shift == 0 and wanted.low <= given.low and given.high <= wanted.high:
        return f"({wanted.c_type}){text}" if wanted.bits < given.bits else text
    if shift > 62:
        return "0"
    wide = given.bits == 64 or wanted.bits == 64 or _most(given) + 2 ** max(0, shift - 1) > 2**31 - 1
    low, high = given.low, given.high
    if shift > 0:
        text = f"pd_shr{64 if wide else 32}({text}, {shift})"
        low, high = (low + 2 ** (shift - 1)) >> shift, (high + 2 ** (shift - 1)) >> shift
    elif shift < 0:
        # What lies far beyond is limited before it is shifted, to a step beyond what fits, and then once more.
        bottom, top = -((-wanted.low) >> -shift) - 1, (wanted.high >> -shift) + 1
        if low < bottom or high > top:
            text = f"pd_clamp{64 if given.bits == 64 else 32}({text}, {bottom}, {top})"
            low, high = max(low, bottom), min(high, top)
        low, high = low * 2**-shift, high * 2**-shift
        wide = wide or max(-low, high) > 2**31 - 1
        text = f"{'(int64_t)' if wide and given.bits < 64 else ''}{text} * {whole(2**-shift)}"
    if low < wanted.low or high > wanted.high:
        text = f"pd_clamp{64 if wide else 32}({text}, {wanted.low}, {wanted.high})"
    return f"({wanted.c_type})({text})" if wanted.bits < (64 if wide else 32) else text


def whole(value: int) -> str:
    return f"{value}" if value < 2**31 else f"INT64_C({value})"


def _most(rep: Rep) -> int:
    return max(abs(rep.low), abs(rep.high))


def _scaled(text: str, given: Rep, wanted: Rep, unit: float) -> str:
    """A word times a unit as a word: a coefficient of 31 digits, shifted and limited."""
    factor = unit * 2.0**wanted.fraction
    shift = 30 - math.frexp(factor)[1]
    word = math.floor(math.ldexp(factor, shift) + 0.5)
    if shift <= 0 or shift > 62:
        return (
            "0" if shift > 62 else f"({wanted.c_type})pd_clamp64((int64_t){text} * {word}, {wanted.low}, {wanted.high})"
        )
    inner = f"pd_shr64((int64_t){text} * {word}, {shift})"
    return f"({wanted.c_type})pd_clamp64({inner}, {wanted.low}, {wanted.high})"


def _wrapping(text: str, given: Rep, wanted: Rep) -> str:
    """A number in rad as parts of a turn, which wrap."""
    factor = given.step * 2.0**wanted.bits / (2.0 * math.pi)
    shift = 30 - math.frexp(factor)[1]
    word = math.floor(math.ldexp(factor, shift) + 0.5)
    product = f"(int64_t){text} * {word}"
    if 0 < shift <= 62:
        product = f"pd_shr64({product}, {shift})"
    return f"pd_turn{wanted.bits}((uint32_t)pd_bits64({product}))"

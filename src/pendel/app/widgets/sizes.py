"""Sizes of responses: drawn in dB, and written in dB or as ratios, as whoever reads them prefers."""

from __future__ import annotations

from pendel.core.quantities.units import number_text

DECIBELS, RATIOS = "dB", "ratio"


class _Shown:
    unit = DECIBELS


def use_sizes(unit: str) -> None:
    """Write sizes in dB or as ratios, from now on; what is drawn already stays as it is."""
    _Shown.unit = unit


def in_ratios() -> bool:
    return _Shown.unit == RATIOS


def size_text(decibels: float, digits: int = 3) -> str:
    """A size given in dB, with its unit: “−3 dB”, or “0.708”.

    >>> size_text(-20.0)
    '−20 dB'
    """
    if in_ratios() and decibels == decibels:
        return number_text(10 ** (decibels / 20), digits) if decibels < 6000 else "∞"
    return f"{number_text(decibels, digits)} dB"


def size_unit(words: str) -> str:
    """A unit of sizes and the remark behind it, as shown: “dB of 1 rad/s” is “times 1 rad/s” in ratios."""
    if not in_ratios() or not words.startswith(DECIBELS):
        return words
    rest = words.removeprefix(DECIBELS)
    return rest.replace(" of ", "times ", 1) if rest.startswith(" of ") else RATIOS + rest

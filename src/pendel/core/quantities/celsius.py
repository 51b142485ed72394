"""Temperatures in degrees Celsius, which count from 273.15 K, apart from differences, which count from nothing."""

from __future__ import annotations

from pendel.core.errors import ExpressionProblem

CELSIUS, ZERO_CELSIUS = ("°C", "degC"), 273.15
"""Names of the unit, and K at 0 °C (BIPM: The International System of Units, 9th ed., 2.3.1)."""


def in_celsius(si: float, count: float, text: str) -> float:
    """A temperature in °C: as it is where one in °C is in it, else counted from absolute zero.
    ``250 K`` is −23.15 °C, ``80 °C + 10 K`` is 90 °C.

    Parameters
    ----------
    si, count
        what ``text`` is worth, and how often a temperature in °C is in it.

    Raises
    ------
    ExpressionProblem
        where it is none, as the sum of two temperatures.
    """
    if abs(count - 1.0) < 1e-9:
        return si
    if abs(count) < 1e-9:
        return si - ZERO_CELSIUS
    raise ExpressionProblem(
        f"“{text}” adds temperatures in °C to each other, which is no temperature. Write differences in K."
    )

"""Cards that stand for the other side where a drive is parted at its heat ports."""

from __future__ import annotations

from pendel.core.catalogue.heat import bodies
from pendel.core.catalogue.heat.blown import SPEED

PORT = "a"
METER = bodies.CALORIMETER.id
"""Holds a temperature, and counts the heat."""
SOURCE = bodies.SOURCE.id


def temperature(card: str) -> str:
    """The value (°C) at a meter."""
    return f"{card}.T"


def given(card: str) -> str:
    """The value (W) that a source gives."""
    return f"{card}.P"


def blown(card: str) -> str:
    """The value (rad/s) of the speed of what is blown and has no shaft."""
    return f"{card}.{SPEED}"


def counted(card: str) -> str:
    """The state (J) of a meter."""
    return f"{card}.energy"


def felt(card: str) -> str:
    """The signal (°C) at any of them."""
    return f"{card}.temperature"

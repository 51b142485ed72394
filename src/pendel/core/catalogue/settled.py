"""What a part does once its lags are over, as NumPy has it for many places at once: for whoever looks at a whole trip
in steps of a second and not at its equations."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.declare import Values
from pendel.core.drive.document import Card

OfSpeed = Callable[[Values, Card, np.ndarray], np.ndarray]
"""At speeds (rad/s), such as the largest torque (N·m)."""
OfPlace = Callable[[Values, Card, np.ndarray, np.ndarray], np.ndarray]
"""At speeds (rad/s) and torques at the shaft (N·m), a power (W)."""


@dataclass(frozen=True)
class Burner:
    """An engine. ``fuel`` is the power of what it burns; below ``slowest`` it does not run by itself, ``least`` is the
    torque that its idle governor gives whatever is asked, ``drag`` is the
    torque by which it then holds what turns it; ``heating`` of its fuel, J/kg."""

    fuel: OfPlace
    least: OfSpeed
    most: OfSpeed
    slowest: Callable[[Values], float]
    fastest: Callable[[Values], float]
    drag: Callable[[Values], float]
    heating: Callable[[Values], float]


@dataclass(frozen=True)
class Turner:
    """A machine with its converter. ``link_power`` is the signal of what it takes."""

    loss: OfPlace
    most: OfSpeed
    link_power: str


@dataclass(frozen=True)
class Store:
    """A store of electric charge: open-circuit voltage (V) and resistance (Ω) at charges (0 to 1), and what it holds
    (A·s). ``power`` and ``resistance_now`` are signals, of the power that it gives and of the part of its resistance
    that acts at once; ``at_once`` is that part of all."""

    voltage: OfSpeed
    resistance: OfSpeed
    at_once: OfSpeed
    capacity: Callable[[Values], float]
    power: str
    resistance_now: str


@dataclass(frozen=True)
class Rigid:
    """Shafts that turn in fixed ratios: each row has, by port, what its speed is multiplied by, and sums to zero."""

    rows: Callable[[Values], tuple[dict[str, float], ...]]


ONE_SPEED = Rigid(lambda v: ({"a": 1.0, "b": -1.0},))
Settled = Burner | Turner | Store | Rigid

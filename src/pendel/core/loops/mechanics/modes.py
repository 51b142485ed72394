"""Modes of the mechanics as numbers and names alone."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np


@dataclass(frozen=True)
class Body:
    """What has inertia: ``mass`` in kg·m² or kg, ``referred`` the same seen from the first body of its chain, whose
    speed it turns into its own by ``ratio``. ``state`` is the key of its speed."""

    state: str
    card: str
    name: str
    unit: str
    mass: float
    ratio: float

    @property
    def referred(self) -> float:
        return self.mass * self.ratio * self.ratio


@dataclass(frozen=True)
class Spring:
    """What gives way: ``stiffness`` in N·m/rad or N/m."""

    state: str
    card: str
    name: str
    stiffness: float


@dataclass(frozen=True)
class Mode:
    """An oscillation exp(s·t). ``shape`` has a complex speed for each body of its chain, seen from the first body and
    the largest of them 1; ``kinetic`` and ``elastic`` the shares in each sort of energy, by the keys of states."""

    s: complex
    name: str
    shape: Mapping[str, complex]
    kinetic: Mapping[str, float]
    elastic: Mapping[str, float]

    @property
    def frequency(self) -> float:
        """Hz, natural."""
        return abs(self.s) / (2 * math.pi)

    @property
    def damping(self) -> float:
        return -self.s.real / abs(self.s)


@dataclass(frozen=True)
class Chain:
    """Bodies that move with each other, in their order from the machine on; ``path`` are all cards along
    it."""

    path: tuple[str, ...]
    bodies: tuple[Body, ...]
    springs: tuple[Spring, ...]
    modes: tuple[Mode, ...]
    held: tuple[float, ...]
    """Natural frequencies (Hz) with the first body held: there its speed answers no torque of its own."""
    frequency: np.ndarray = field(compare=False, repr=False)
    """Hz, around its modes; empty where there are none."""
    mobility: np.ndarray = field(compare=False, repr=False)
    """Complex: speed of the first body for a torque or force of one on it, over ``frequency``."""
    referred: bool
    """Whether the ratios of speeds are known. What slips between its bodies has none; then shapes are by the root of
    the energy."""

    @property
    def inertia(self) -> float:
        """All of it, seen from the first body; NaN where ratios are not known."""
        return math.nan if not self.referred else sum(b.referred for b in self.bodies)


@dataclass(frozen=True)
class Mechanics:
    chains: tuple[Chain, ...] = ()
    at: str = ""
    remarks: tuple[str, ...] = ()

    @property
    def modes(self) -> list[tuple[Chain, Mode]]:
        modes = [(chain, mode) for chain in self.chains for mode in chain.modes]
        return sorted(modes, key=lambda each: each[1].frequency)


__all__ = ["Body", "Chain", "Mechanics", "Mode", "Spring"]

"""How long a power module lasts under the swings of its junction.

Swings are counted by rainflow (ASTM E1049-85, 5.4.4, from memory), each does the damage of one over the cycles that it
could be borne (Palmgren, Miner). How many those are is a power of the swing, and follows the mean temperature
where an activation energy is given: N = N_r·(ΔT/ΔT_r)^−α·exp(E_a/k_B·(1/T_m − 1/T_r)) (Coffin, Manson; as in
Held and others: Fast power cycling test for IGBT modules, PEDS 1997; both from memory)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pendel.core.errors import DriveProblem

BOLTZMANN = 8.617333e-5
"""eV/K."""
KELVIN = 273.15
LEAST_SWING = 1.0
"""K; smaller swings do nothing that counts."""
YEAR = 365.25 * 86400.0


@dataclass(frozen=True)
class Swing:
    """``count`` (0.5 or 1) swings by ``size`` (K) about ``mean`` (°C)."""

    size: float
    mean: float
    count: float


@dataclass(frozen=True)
class Endurance:
    """Of a sheet: ``cycles`` at swings of ``size`` (K) about ``mean`` (°C); α; activation energy (eV), 0 for none."""

    cycles: float
    size: float
    exponent: float = 5.0
    mean: float = 100.0
    activation: float = 0.0

    def __post_init__(self) -> None:
        if not (self.cycles > 0 and self.size > 0 and self.exponent > 0 and self.activation >= 0):
            raise DriveProblem(
                "A curve of endurance needs cycles, a swing and an exponent above 0. Take them from the sheet of the "
                "module."
            )

    def bears(self, swing: Swing) -> float:
        """Cycles until it fails by such swings."""
        warm = 1.0 / (swing.mean + KELVIN) - 1.0 / (self.mean + KELVIN)
        return self.cycles * (swing.size / self.size) ** -self.exponent * math.exp(self.activation / BOLTZMANN * warm)


@dataclass(frozen=True)
class Life:
    """``swings`` of one duty, the ``damage`` it does (1: failed), and what follows (years); infinite without swings."""

    swings: tuple[Swing, ...]
    damage: float
    years: float


def turning_points(y: Sequence[float] | np.ndarray) -> list[float]:
    """Where a curve turns, with its first and last point."""
    points: list[float] = []
    for value in np.asarray(y, dtype=float).tolist():
        if points and value == points[-1]:
            continue
        if len(points) > 1 and (points[-1] - points[-2]) * (value - points[-1]) > 0:
            points[-1] = value
        else:
            points.append(value)
    return points


def rainflow(y: Sequence[float] | np.ndarray) -> list[Swing]:
    """Swings of a curve, as they close; what is left counts half."""
    found, stack = [], list[float]()
    for point in turning_points(y):
        stack.append(point)
        while len(stack) >= 3:
            last, before = abs(stack[-1] - stack[-2]), abs(stack[-2] - stack[-3])
            if last < before:
                break
            swing = Swing(before, 0.5 * (stack[-2] + stack[-3]), 0.5 if len(stack) == 3 else 1.0)
            found.append(swing)
            if len(stack) == 3:
                del stack[0]
            else:
                del stack[-3:-1]
    found += [Swing(abs(b - a), 0.5 * (a + b), 0.5) for a, b in zip(stack, stack[1:])]
    return found


def life(temperatures: np.ndarray, duration: float, endurance: Endurance) -> Life:
    """Of a junction (°C) over a duty of ``duration`` (s), which is repeated until it fails.

    A cycle that repeats itself is counted from its warmest point on, so that its largest swing is whole."""
    y = np.asarray(temperatures, dtype=float)
    if len(y) > 1 and abs(y[0] - y[-1]) < LEAST_SWING:
        y = np.roll(y[:-1], -int(np.argmax(y[:-1])))
        y = np.append(y, y[0])
    swings = tuple(s for s in rainflow(y) if s.size >= LEAST_SWING)
    damage = sum(s.count / endurance.bears(s) for s in swings)
    return Life(swings, damage, duration / damage / YEAR if damage > 0 else math.inf)

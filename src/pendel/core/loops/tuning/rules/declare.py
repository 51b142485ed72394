"""What a tuning rule is, and what it sees of the loop.

The page, the terminal and Python read rules from one table. To add one, write a file like
``magnitude_optimum.py`` and name it in
``table.py``, or offer a `Rule` from a package by an entry point of the group ``pendel.tuning_rules``.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from pendel.core.loops.tuning.rules.lag_plant import LagPlant


class LoopSeen(Protocol):
    """A loop whose gains are wanted: sampled every ``dt`` (s), by a regulator with or without an integral
    part."""

    @property
    def dt(self) -> float: ...
    @property
    def has_integral(self) -> bool: ...
    def plant_at(self, frequency: np.ndarray) -> np.ndarray:
        """The plant's response from the regulator's output to the actual value at frequencies (Hz), with the
        sign of negative
        feedback taken out and with sampling, hold and delay."""

    def regulator_at(self, gains: Mapping[str, float], frequency: np.ndarray) -> np.ndarray:
        """The regulator's own response with these gains."""

    def picture(self, f_wish: float | None = None) -> LagPlant:
        """The plant as lag and small delays, fitted around the frequencies where the loop will cross (Hz)."""


@dataclass(frozen=True)
class Wishes:
    """What the user asks for: a crossover (Hz; None leaves it to the rule) and a phase margin (degrees)."""

    crossover: float | None = None
    phase_margin: float = 60.0


@dataclass(frozen=True)
class Rule:
    """``propose`` gives gains by their names, K_p and, with an integral part, T_i (s). Raises `DriveProblem`
    for an unreachable wish.

    A rule that takes a crossover and scales the whole regulator also serves those whose parts follow from
    tables.
    """

    id: str
    title: str
    propose: Callable[[LoopSeen, Wishes], dict[str, float]]
    takes_crossover: bool = False
    scales_only: bool = False

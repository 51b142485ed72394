"""Gains by rule from a lag-and-delay picture of the plant: G ≈ K / (1 + s·T_1) with small delays summing to
T_σ.

Magnitude and symmetrical optimum: Leonhard, Control of Electrical Drives, 3rd ed., sections 7.1 and 14;
Föllinger, Regelungstechnik, 12th ed., section 7 (from memory). Their closed loops overshoot 4.3 % and 43 %.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from scipy.optimize import OptimizeResult


@dataclass(frozen=True)
class LagPlant:
    """``K`` static gain, ``T_1`` main lag (s), ``T_sigma`` sum of small delays (s)."""

    K: float
    T_1: float
    T_sigma: float


@dataclass(frozen=True)
class Gains:
    K_p: float
    T_i: float


def magnitude_optimum(plant: LagPlant) -> Gains:
    """The main lag cancelled, closed loop damped by 1/√2: K_p = T_1/(2·K·T_σ), T_i = T_1."""
    return Gains(plant.T_1 / (2.0 * plant.K * plant.T_sigma), plant.T_1)


def symmetrical_optimum(plant: LagPlant, a: float = 2.0) -> Gains:
    """Crossover at 1/(a·T_σ) with the largest margin there: K_p = T_1/(a·K·T_σ), T_i = a²·T_σ."""
    return Gains(plant.T_1 / (a * plant.K * plant.T_sigma), a * a * plant.T_sigma)


def lag_picture(omega: np.ndarray, response: np.ndarray, T_start: float) -> LagPlant:
    """Fit `LagPlant` to a frequency response in the logarithmic sense.

    ``omega`` (rad/s) should lie well below the sampling, where the small delays show as phase only.
    """
    upwards, downwards = (_fit(omega, response * sign, T_start) for sign in (1.0, -1.0))
    sign, fit = (1.0, upwards) if upwards.cost <= downwards.cost else (-1.0, downwards)
    K, T1, Ts = np.exp(fit.x)
    return LagPlant(sign * float(K), float(T1), float(Ts))


def _fit(omega: np.ndarray, response: np.ndarray, T_start: float) -> OptimizeResult:
    """Logarithms of K, T_1 and T_σ; the phase is taken within a turn below zero where it ends."""
    phase = np.unwrap(np.angle(response))
    phase -= 2.0 * math.pi * math.ceil(phase[-1] / (2.0 * math.pi))
    target = np.log(np.abs(response)) + 1j * phase

    def residual(q: np.ndarray) -> np.ndarray:
        K, T1, Ts = np.exp(q)
        model = np.log(K) - np.log(1 + 1j * omega * T1) - 1j * omega * Ts
        return np.concatenate([(model - target).real, (model - target).imag])

    K0 = abs(response[0]) * math.hypot(1.0, 10.0)
    import scipy.optimize  # slow to load, and seldom needed

    return scipy.optimize.least_squares(
        residual,
        np.log([K0, 10.0 / omega[0], T_start]),
        bounds=([-40, math.log(1e-7), math.log(1e-8)], [40, math.log(1e4), math.log(10.0)]),
    )


def for_crossover(
    response_at: complex, f_c: float, plant: LagPlant, *, phase_margin: float, has_integral: bool
) -> Gains:
    """Gains that let |L| cross 1 at ``f_c`` (Hz).

    The integral time cancels the plant's main lag where that is within reach of the crossover; else it is the
    shortest that leaves ``phase_margin`` (degrees).
    """
    omega = 2.0 * math.pi * f_c
    T_i = plant.T_1
    if plant.T_1 * omega > 20.0:
        room = math.radians(180.0 - phase_margin) + math.atan2(response_at.imag, response_at.real)
        room = (room + math.pi) % (2 * math.pi) - math.pi
        T_i = 1.0 / (omega * math.tan(min(max(room, 0.05), 1.2)))
    controller = abs(1.0 + 1.0 / (1j * omega * T_i)) if has_integral else 1.0
    return Gains(1.0 / (controller * abs(response_at)), T_i)

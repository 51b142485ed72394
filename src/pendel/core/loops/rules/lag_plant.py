"""A plant seen as a lag and small delays: G ≈ K / (1 + s·T_1) with delays that sum to T_σ."""

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
    """Of a PI regulator; T_i in s."""

    K_p: float
    T_i: float

    def named(self, has_integral: bool) -> dict[str, float]:
        """By the names that regulations give them."""
        return {"K_p": self.K_p, "T_i": self.T_i} if has_integral else {"K_p": self.K_p}


def fit_lag_model(omega: np.ndarray, response: np.ndarray, T_start: float) -> LagPlant:
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

"""A plant seen as a lag and small delays: G ≈ K / (1 + s·T_1) with delays that sum to T_σ."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np


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


SHORTEST_LAG, LONGEST_LAG = 1e-7, 1e4
SHORTEST_DELAY, LONGEST_DELAY = 1e-8, 10.0
"""s."""
TRIED = 121
"""Lags that are tried before the best is refined: a factor of 1.24 apart."""


def fit_lag_model(omega: np.ndarray, response: np.ndarray) -> LagPlant:
    """Fit `LagPlant` to a frequency response in the logarithmic sense.

    ``omega`` (rad/s) should lie well below the sampling, where the small delays show as phase only.
    """
    upwards, downwards = (_fit(omega, response * sign) for sign in (1.0, -1.0))
    sign, (_, K, T1, Ts) = (1.0, upwards) if upwards[0] <= downwards[0] else (-1.0, downwards)
    return LagPlant(sign * K, T1, Ts)


def _fit(omega: np.ndarray, response: np.ndarray) -> tuple[float, float, float, float]:
    """Sum of squares, K, T_1 and T_σ; the phase is taken within a turn below zero where it ends. For a given lag,
    log K and T_σ are least squares in closed form, so the lag alone is searched (variable projection: Golub and
    Pereyra, SIAM J. Numer. Anal. 10 (1973) 413)."""
    phase = np.unwrap(np.angle(response))
    phase -= 2.0 * math.pi * math.ceil(phase[-1] / (2.0 * math.pi))
    size = np.log(np.abs(response))

    def projected(lags: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Sums of squares, log K and T_σ by lag (s)."""
        lag = 1.0 + 1j * omega * lags[:, None]
        rest, turn = size + np.log(np.abs(lag)), phase + np.angle(lag)
        log_K = np.mean(rest, axis=1)
        Ts = np.clip(-(turn @ omega) / (omega @ omega), SHORTEST_DELAY, LONGEST_DELAY)
        squares = np.sum((rest - log_K[:, None]) ** 2 + (turn + omega * Ts[:, None]) ** 2, axis=1)
        return squares, log_K, Ts

    tried = np.linspace(math.log(SHORTEST_LAG), math.log(LONGEST_LAG), TRIED)
    best = int(np.argmin(projected(np.exp(tried))[0]))
    around = tried[max(0, best - 1)], tried[min(TRIED - 1, best + 1)]
    import scipy.optimize  # slow to load, and seldom needed

    optimum = scipy.optimize.minimize_scalar(
        lambda q: projected(np.exp([q]))[0][0], bounds=around, method="bounded", options={"xatol": 1e-9}
    )
    T1 = math.exp(optimum.x)
    squares, log_K, Ts = projected(np.array([T1]))
    return float(squares[0]), math.exp(log_K[0]), T1, float(Ts[0])

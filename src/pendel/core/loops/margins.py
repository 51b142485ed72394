"""Crossover, margins and Ms of an open loop L (negative feedback taken out: closed loop is L/(1+L)).

Åström, Murray: Feedback Systems, 2nd ed., section 10.3: gain margin at −180°, phase margin at |L| = 1,
Ms = max |1/(1+L)|.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Margins:
    """``crossover`` in Hz, ``phase`` in degrees, ``gain`` as a factor; NaN where there is none."""

    crossover: float
    phase: float
    gain: float
    ms: float
    stable: bool

    @property
    def damped(self) -> bool:
        """Stable with room to spare: 35° at the crossover and Ms of 2.1 at most."""
        return self.stable and self.phase >= 35 and self.ms <= 2.1

    @property
    def gain_db(self) -> float:
        return 20 * math.log10(self.gain) if self.gain > 0 and math.isfinite(self.gain) else self.gain


def unwrapped_phase(response: np.ndarray) -> np.ndarray:
    """Phase in degrees, continuous, within −360° … 0° at the last crossover; without one, starting within
    −270° … +90°."""
    phase = np.degrees(np.unwrap(np.angle(response)))
    falls = falls_below_one(np.abs(response))
    if len(falls):
        return phase - 360.0 * math.ceil(phase[falls[-1]] / 360.0)
    return phase - 360.0 * math.ceil((phase[0] - 90.0) / 360.0)


def falls_below_one(size: np.ndarray) -> np.ndarray:
    """Places after which |L| is below 1, where it was not before."""
    return np.flatnonzero((size[:-1] >= 1.0) & (size[1:] < 1.0))


def margins(frequency: np.ndarray, response: np.ndarray, *, stable: bool) -> Margins:
    """Margins at the last crossover, from samples of L over ``frequency`` (Hz), interpolated on logarithmic
    axes."""
    size, phase = np.abs(response), unwrapped_phase(response)
    level = np.log(np.maximum(size, 1e-300))
    falls = falls_below_one(size)
    crossover = phase_margin = gain_margin = math.nan
    if len(falls):
        k = falls[-1]
        share = level[k] / (level[k] - level[k + 1])
        phase_margin = float(180.0 + phase[k] + share * (phase[k + 1] - phase[k]))
        crossover = _between(frequency, k, share)
    turned = phase + 180.0
    passes = np.flatnonzero((turned[:-1] > 0) & (turned[1:] <= 0))
    if len(passes):
        k = passes[0]
        share = turned[k] / (turned[k] - turned[k + 1])
        gain_margin = math.exp(-(level[k] + share * (level[k + 1] - level[k])))
    return Margins(crossover, phase_margin, gain_margin, float(np.max(1.0 / np.abs(1.0 + response))), stable)


def _between(frequency: np.ndarray, k: int, share: float) -> float:
    return float(
        math.exp(math.log(frequency[k]) + share * (math.log(frequency[k + 1]) - math.log(frequency[k])))
    )

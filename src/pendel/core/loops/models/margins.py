"""Crossover, margins and Ms of an open loop L (negative feedback taken out: closed loop is L/(1+L)).

Åström, Murray: Feedback Systems, 2nd ed., section 10.3: the gain margin is the least factor, the phase margin
the least lag that brings a loop to its limit of stability; Ms = max |1/(1+L)|. With a resonance |L| crosses one
several times, and its phase −180°, −540° and so on: the crossing that leaves least counts.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Margins:
    """``crossover`` in Hz, ``phase`` in degrees, ``gain`` as a factor; NaN where there is none. ``phase_at`` is where
    |L| is one with the least phase margin (Hz): the crossover, but for loops that cross one several times."""

    crossover: float
    phase: float
    gain: float
    ms: float
    stable: bool
    phase_at: float = math.nan

    @property
    def elsewhere(self) -> bool:
        """Whether the phase margin is that of another crossing than the last."""
        return abs(self.phase_at - self.crossover) > 0.01 * self.crossover

    @property
    def damped(self) -> bool:
        """Stable with room to spare: 35° at the crossover and Ms of 2.1 at most."""
        return self.stable and self.phase >= 35 and self.ms <= 2.1

    @property
    def gain_db(self) -> float:
        return 20 * math.log10(self.gain) if self.gain > 0 and math.isfinite(self.gain) else self.gain


NOTHING = 1e-12
"""|L| below this has no phase but that of rounding, as with a gain of zero."""


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
    """Margins of L from its samples over ``frequency`` (Hz), interpolated on logarithmic axes. The crossover is
    the last one. Where the phase there is beyond −180°, the margins are what is too much: negative, and below
    one."""
    size, phase = np.abs(response), unwrapped_phase(response)
    level = np.log(np.maximum(size, 1e-300))
    crossover = lag = at = math.nan
    if len(falls := falls_below_one(size)):
        k = falls[-1]
        share = level[k] / (level[k] - level[k + 1])
        crossover = at = _between(frequency, k, share)
        lag = float(180.0 + phase[k] + share * (phase[k + 1] - phase[k]))
        lags = (180.0 + at_crossings(level, phase)) % 360.0
        if lag >= 0 and np.min(lags) < lag - 1e-9:
            lag = float(np.min(lags))
            at = float(np.exp(at_crossings(level, np.log(frequency))[int(np.argmin(lags))]))
    ms = float(np.max(1.0 / np.abs(1.0 + response)))
    return Margins(crossover, lag, gain_margin(level, phase, beyond=lag < 0), ms, stable, at)


def gain_margin(level: np.ndarray, phase: np.ndarray, *, beyond: bool) -> float:
    """The factor from ln|L| and its phase (degrees): the least above one at any crossing of −180° and whole
    turns from it. Of a loop that is ``beyond`` its limit, the least at which its phase falls through −180°."""
    turn = np.floor((phase + 180.0) / 360.0)
    passes = np.flatnonzero(turn[1:] != turn[:-1])
    edges = 360.0 * np.maximum(turn[passes], turn[passes + 1]) - 180.0
    share = (edges - phase[passes]) / (phase[passes + 1] - phase[passes])
    gains = np.exp(-(level[passes] + share * (level[passes + 1] - level[passes])))
    if beyond:
        falling = gains[turn[passes + 1] < turn[passes]]
        return float(np.min(falling)) if len(falling) else math.nan
    more = gains[(gains > 1.0) & (gains < 1.0 / NOTHING)]
    return float(np.min(more)) if len(more) else math.nan


def at_crossings(level: np.ndarray, values: np.ndarray) -> np.ndarray:
    """``values`` where ``level`` passes zero, either way."""
    k = np.flatnonzero((level[1:] >= 0) != (level[:-1] >= 0))
    return values[k] + level[k] / (level[k] - level[k + 1]) * (values[k + 1] - values[k])


def _between(frequency: np.ndarray, k: int, share: float) -> float:
    return float(math.exp(math.log(frequency[k]) + share * (math.log(frequency[k + 1]) - math.log(frequency[k]))))

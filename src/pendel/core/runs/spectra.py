"""Spectrum of a window of a trace, and its distortion."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from pendel.core.runs.kept import KeptRun

BINS = 1 << 16
HIGHEST_ORDER = 50


@dataclass(frozen=True)
class Spectrum:
    """Lines at multiples of 1/window: frequencies (Hz) and peak amplitudes (unit of the trace), the mean at 0
    Hz."""

    frequency: np.ndarray
    amplitude: np.ndarray
    start: float
    end: float

    def line(self, frequency: float) -> float:
        """Amplitude of the line nearest to a frequency (Hz)."""
        return float(self.amplitude[int(np.argmin(np.abs(self.frequency - frequency)))])

    @property
    def mean(self) -> float:
        return float(self.amplitude[0])

    def distortion(self, fundamental: float) -> float:
        """Total harmonic distortion: root of the summed squares of orders 2 to 50 over the fundamental.

        IEC 61000-4-7:2002, 3.2 (from memory); lines between the orders are not part of it.
        """
        first = self.line(fundamental)
        orders = np.arange(2, HIGHEST_ORDER + 1) * fundamental
        orders = orders[orders <= self.frequency[-1]]
        if first == 0 or not len(orders):
            return math.nan
        return math.sqrt(sum(self.line(f) ** 2 for f in orders)) / first


def spectrum_of(run: KeptRun, key: str, start: float, end: float, *, fundamental: float = 0.0) -> Spectrum:
    """Lines of a signal of a run between two times (s); see `spectrum`.

    Raises
    ------
    DriveProblem
        where the run was thinned: what is left of its pulses there would fold back as lines that are none.
    """
    run.must_be_whole(key, whole_periods(start, end, fundamental), "a spectrum")
    return spectrum(*run.trace(key).drawn, start, end, fundamental=fundamental)


def whole_periods(start: float, end: float, fundamental: float) -> float:
    """Where a window (s) begins so that it holds whole periods of a frequency (Hz); as it is where that is 0 or there
    is not one."""
    periods = math.floor((end - start) * fundamental * (1 + 1e-9)) if fundamental > 0 else 0
    return end - periods / fundamental if periods >= 1 else start


def spectrum(t: np.ndarray, y: np.ndarray, start: float, end: float, *, fundamental: float = 0.0) -> Spectrum:
    """Fourier lines of a trace that is straight between its points and may jump.

    The trace is averaged over equal bins, exactly, before the transform, and the averaging is divided out
    again: so jumps between the bins are not missed and fold back little. With a ``fundamental`` (Hz) the
    window is cut, at its start, to whole periods of it.
    """
    start = whole_periods(start, end, fundamental)
    edges = np.linspace(start, end, BINS + 1)
    area = integral(t, y, edges)
    means = np.diff(area) / np.diff(edges)
    half = BINS // 4
    lines = np.fft.rfft(means)[: half + 1] / BINS
    order = np.arange(half + 1)
    amplitude = 2 * np.abs(lines) / np.sinc(order / BINS)
    amplitude[0] = means.mean()
    return Spectrum(order / (end - start), amplitude, start, end)


def integral(t: np.ndarray, y: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Integral of a piecewise straight trace from its start to each of ``at``; the ends are carried on
    level."""
    steps = np.diff(t)
    total = np.concatenate([[0.0], np.cumsum(0.5 * (y[1:] + y[:-1]) * steps)])
    k = np.clip(np.searchsorted(t, at, side="right") - 1, 0, max(0, len(t) - 2))
    inside = np.clip(at, t[0], t[-1]) - t[k]
    width = np.where(steps[k] > 0, steps[k], 1.0) if len(steps) else np.ones_like(at)
    slope = (y[np.minimum(k + 1, len(y) - 1)] - y[k]) / width
    found = total[k] + y[k] * inside + 0.5 * slope * inside * inside
    return found + (at - np.clip(at, t[0], t[-1])) * np.where(at > t[-1], y[-1], y[0])

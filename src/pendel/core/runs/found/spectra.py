"""Spectrum of a window of a trace, and its distortion."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.errors import DriveProblem
from pendel.core.runs.record.measures import window

if TYPE_CHECKING:
    from pendel.core.runs.record.kept import KeptRun

BINS = 1 << 16
HIGHEST_ORDER = 50
AT_ONCE = 8192
"""Points whose powers stay in the processor's cache."""


@dataclass(frozen=True)
class Spectrum:
    """Lines at multiples of 1/window: frequencies (Hz) and peak amplitudes (unit of the trace), the mean at 0
    Hz. Where a ``fundamental`` (Hz) was given, its ``harmonics`` are those of orders 1 to 50, exact however high."""

    frequency: np.ndarray
    amplitude: np.ndarray
    start: float
    end: float
    fundamental: float = 0.0
    harmonics: np.ndarray | None = None

    def line(self, frequency: float) -> float:
        """Amplitude of the line nearest to a frequency (Hz); not-a-number beyond the last line, and below half the
        first, where the window is too short to tell."""
        order = frequency / self.fundamental if self.harmonics is not None else 0.0
        if self.harmonics is not None and 1 <= round(order) <= len(self.harmonics) and abs(order - round(order)) < 1e-9:
            return float(self.harmonics[round(order) - 1])
        k = round(frequency * (self.end - self.start))
        if frequency and not 0 < k < len(self.amplitude):
            return math.nan
        return float(self.amplitude[k])

    @property
    def mean(self) -> float:
        return float(self.amplitude[0])

    def distortion(self, fundamental: float) -> float:
        """Total harmonic distortion: root of the summed squares of orders 2 to 50 over the fundamental; not-a-number
        where there is none, or the lines do not reach so far.

        IEC 61000-4-7:2002, 3.2 (from memory); lines between the orders are not part of it.
        """
        first, *others = (self.line(order * fundamental) for order in range(1, HIGHEST_ORDER + 1))
        return math.sqrt(sum(f * f for f in others)) / first if first else math.nan


def spectrum_of(run: KeptRun, key: str, start: float, end: float, *, fundamental: float = 0.0) -> Spectrum:
    """Lines of a signal of a run between two times (s); see `spectrum`.

    Raises
    ------
    DriveProblem
        where the run was thinned: what is left of its pulses there would fold back as lines that are none; and where
        the window holds no whole period of the fundamental.
    """
    run.must_be_whole(key, whole_periods(start, end, fundamental), "a spectrum")
    if fundamental > 0 and not holds_a_period(start, end, fundamental):
        raise DriveProblem(
            f"{start:g} s to {end:g} s holds no whole period of {fundamental:g} Hz. Take a longer span, or a higher "
            "fundamental."
        )
    return spectrum(*run.trace(key).drawn, start, end, fundamental=fundamental)


def holds_a_period(start: float, end: float, fundamental: float) -> bool:
    return (end - start) * fundamental * (1 + 1e-9) >= 1


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
    spectrum_of_window = Spectrum(order / (end - start), amplitude, start, end)
    if fundamental <= 0 or not holds_a_period(start, end, fundamental):
        return spectrum_of_window
    return replace(spectrum_of_window, fundamental=fundamental, harmonics=harmonics(t, y, start, end, fundamental))


def spectrum_of_samples(times: np.ndarray, values: np.ndarray) -> Spectrum:
    """Lines of samples that lie evenly in time (s), two at least: what they are samples of is not known to hold
    between them, so nothing is divided out. The window reaches to where the next one would be."""
    n = len(values)
    step = float(times[-1] - times[0]) / (n - 1)
    amplitude = 2 * np.abs(np.fft.rfft(values)) / n
    amplitude[0] = np.mean(values)
    if n % 2 == 0:
        amplitude[-1] /= 2  # at half the rate there is one line, not a pair
    return Spectrum(np.arange(len(amplitude)) / (n * step), amplitude, float(times[0]), float(times[0]) + n * step)


def harmonics(t: np.ndarray, y: np.ndarray, start: float, end: float, fundamental: float) -> np.ndarray:
    """Peak amplitudes of the orders 1 to 50 over whole periods, of a trace that is straight between its points and
    may jump: each piece's Fourier integral in closed form, so nothing folds back."""
    t, y = window(t, y, start, end)
    width = np.diff(t)
    wide = width > 0
    slope = np.divide(np.diff(y), width, out=np.zeros_like(width), where=wide)
    # By points instead of pieces: what remains of the ends is where the trace jumps, and of the slopes where it bends.
    parts = np.zeros((2, len(t)))
    parts[0, 1:] += y[1:] * wide
    parts[0, :-1] -= y[:-1] * wide
    parts[1, 1:] += slope
    parts[1, :-1] -= slope
    count = np.any(parts != 0, axis=0)
    parts, turned = parts[:, count], np.exp(-2j * math.pi * fundamental * (t[count] - start))
    sums = np.zeros((HIGHEST_ORDER, 2), dtype=complex)
    for first in range(0, len(turned), AT_ONCE):
        block, weights = turned[first : first + AT_ONCE], parts[:, first : first + AT_ONCE]
        power = np.ones_like(block)
        for total in sums:
            power *= block
            total += weights @ power.view(float).reshape(-1, 2) @ np.array([1, 1j])
    omega = 2 * math.pi * fundamental * np.arange(1, HIGHEST_ORDER + 1)
    return np.asarray(2 / (end - start) * np.abs(1j * sums[:, 0] / omega + sums[:, 1] / omega**2))


def integral(t: np.ndarray, y: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Integral of a piecewise straight trace from its start to each of ``at``; the ends are carried on
    level."""
    steps = np.diff(t)
    total = np.concatenate([[0.0], np.cumsum(0.5 * (y[1:] + y[:-1]) * steps)])
    k = np.clip(np.searchsorted(t, at, side="right") - 1, 0, max(0, len(t) - 2))
    inside = np.clip(at, t[0], t[-1]) - t[k]
    width = np.where(steps[k] > 0, steps[k], 1.0) if len(steps) else np.ones_like(at)
    slope = (y[np.minimum(k + 1, len(y) - 1)] - y[k]) / width
    total_inside = total[k] + y[k] * inside + 0.5 * slope * inside * inside
    return total_inside + (at - np.clip(at, t[0], t[-1])) * np.where(at > t[-1], y[-1], y[0])

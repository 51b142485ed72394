"""What the spectrum panel shows of runs, computed beside the window: of a run with a million points that takes longer
than a hand notices."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from pendel.core.errors import DriveProblem
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.found.powers import Powers, powers
from pendel.core.runs.found.spectra import Spectrum, spectrum_of, whole_periods
from pendel.core.runs.record.kept import KeptRun


@dataclass(frozen=True)
class Wish:
    """A signal between two times (s), in runs with their colours; ``fundamental`` (Hz) is 0 where it is to be the
    largest line. With a voltage the powers of a current are wanted, too."""

    signal: str
    runs: tuple[tuple[KeptRun, str], ...]
    start: float
    end: float
    fundamental: float
    voltage: str | None = None


@dataclass(frozen=True)
class RunLines:
    """A run's lines; ``base`` is its fundamental (Hz), 0 where the trace is level. ``unit`` is that of the trace."""

    run: KeptRun
    tint: str
    lines: Spectrum
    base: float
    unit: str


@dataclass
class ShownSpectra:
    """``problem``: why a run has no lines. Of ``power_rows`` each has a run's figures."""

    found: list[RunLines] = field(default_factory=list)
    problem: str = ""
    power_rows: list[tuple[str, ...]] = field(default_factory=list)
    power_problems: list[str] = field(default_factory=list)

    @property
    def largest(self) -> RunLines | None:
        """The run in which the fundamental is largest, such as the switching one of two: orders and figures are its."""
        return max(self.found, key=lambda each: each.lines.line(each.base) if each.base > 0 else 0.0, default=None)


def spectra_for(wish: Wish) -> ShownSpectra:
    shown = ShownSpectra()
    for run, tint in wish.runs:
        if wish.signal not in run.keys:
            continue
        try:
            shown.found.append(lines_of(run, tint, wish))
        except DriveProblem as problem:
            shown.problem = f"{run.name}: {problem}"
    largest = shown.largest
    if wish.voltage is not None and largest is not None and largest.run.declared_unit(wish.signal) == "A":
        add_powers(shown, wish, wish.voltage)
    return shown


def lines_of(run: KeptRun, tint: str, wish: Wish) -> RunLines:
    trace = run.trace(wish.signal)
    lines = spectrum_of(run, wish.signal, wish.start, wish.end, fundamental=wish.fundamental)
    base = wish.fundamental or largest_line(lines, float(np.max(np.abs(trace.y), initial=0.0)))
    if not wish.fundamental and base > 0:
        lines = spectrum_of(run, wish.signal, wish.start, wish.end, fundamental=base)
    return RunLines(run, tint, lines, base, trace.unit)


def add_powers(shown: ShownSpectra, wish: Wish, voltage: str) -> None:
    for each in shown.found:
        if voltage not in each.run.keys:
            continue
        try:
            begin = whole_periods(wish.start, wish.end, each.base)
            of_run = powers(each.run, voltage, wish.signal, begin, wish.end)
            shown.power_rows.append(power_row(each, of_run, voltage, (begin, wish.end)))
        except DriveProblem as problem:
            shown.power_problems.append(str(problem))


def power_row(each: RunLines, of_run: Powers, voltage: str, window: tuple[float, float]) -> tuple[str, ...]:
    """A run's powers, and how far its current and voltage are from sines."""
    sizes = ((of_run.active, "W"), (of_run.apparent, "VA"), (of_run.non_active, "VA"))
    of_voltage = spectrum_of(each.run, voltage, *window, fundamental=each.base)
    distortions = [s.distortion(each.base) if each.base > 0 else math.nan for s in (each.lines, of_voltage)]
    thd = [f"{number_text(100 * d, 3)} %" if math.isfinite(d) else "–" for d in distortions]
    power_factor = number_text(of_run.factor, 4) if math.isfinite(of_run.factor) else "–"
    return (each.run.name, *(figure(size, unit, 4) for size, unit in sizes), power_factor, *thd)


def largest_line(lines: Spectrum, peak: float) -> float:
    """Frequency (Hz) of the largest line; 0 where the trace, of this ``peak``, is level but for what steps
    may err."""
    a = lines.amplitude[1:]
    if not len(a) or float(np.max(a)) <= max(1e-7 * (abs(lines.mean) + float(np.max(a))), 1e-9 * peak):
        return 0.0
    return float(lines.frequency[1 + int(np.argmax(a))])


def last_relevant(lines: Spectrum) -> int:
    """Place of the last line above a hundredth of the largest, and a little more."""
    a = lines.amplitude[1:]
    tall = np.flatnonzero(a > 0.01 * float(np.max(a, initial=0.0)))
    return min(len(a), int(1.15 * (tall[-1] + 1)) + 8) if len(tall) else len(a)


def right_edge(found: Sequence[RunLines]) -> float:
    """Hz: where the last relevant line of any run lies; 0 where all are level."""
    return max((float(e.lines.frequency[last_relevant(e.lines)]) for e in found if e.base > 0), default=0.0)

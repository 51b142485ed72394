"""Every figure against its definition: the solution written out densely, over random windows."""

from __future__ import annotations

import numpy as np

from pendel.core.plant.rows import evaluate_signals, refined_rows
from tests.campaigns.truth.drives import Case
from tests.campaigns.truth.methods import run_with
from tests.campaigns.truth.report import Tally

DENSER = 2e-3
ALLOWED = 1e-4
"""Of a signal's largest value."""
SHORT = 0.05
"""Of a run: a window shorter than this has less to divide by what a node's voltage does within nanoseconds, so means
may err by more."""
LEAKS = 1e-5
"""Of the largest signal of its unit: what is smaller all the time flows through blocked devices."""
NO_ANGLE = 1e-3
"""Of the largest flux: the angle of less than this is none."""
ALL_LEAKS = 1e-4
"""A per V: where no more flows, dead time has eaten every pulse, and all voltages are those of blocked devices, for
nanoseconds."""


def figures(case: Case, tally: Tally, windows: int = 3) -> None:
    """Means, rms and ripples of all signals of the plant between random times."""
    run = run_with(case)
    if run.message or len(run.rows) < 3:
        tally.skipped += 1
        return
    rng = np.random.default_rng(case.seed)
    states = run.rows[:, 1 : 1 + len(run.structure.state_keys)]
    dense = refined_rows(
        run.structure,
        run.rows,
        run.parameters,
        straight="load" in run.settings,
        span=DENSER * np.ptp(states, axis=0),
    ).rows
    keys = [k for k in run.structure.signals if ":" not in k]
    y, t = evaluate_signals(run.structure, dense, run.parameters, keys), dense[:, 0]
    turns = [run.infos[k].unit == "rad" and bool(np.any(np.abs(np.diff(y[:, n])) > np.pi)) for n, k in enumerate(keys)]
    largest: dict[str, float] = {}
    for n, key in enumerate(keys):
        unit = run.infos[key].unit
        largest[unit] = max(largest.get(unit, 0.0), float(np.max(np.abs(y[:, n]))))
    if largest.get("A", 1.0) < ALL_LEAKS * largest.get("V", 0.0):
        tally.skipped += 1
        return
    for _ in range(windows):
        a, b = np.sort(rng.uniform(0, run.end, 2))
        first, last = np.searchsorted(t, [a, b])
        if last - first < 10:
            continue
        a, b = float(t[first]), float(t[last])
        step, inside = np.diff(t[first : last + 1])[:, None], y[first : last + 1]
        mean = np.sum(step * (inside[1:] + inside[:-1]) / 2, axis=0) / (b - a)
        square = np.sum(step * (inside[1:] ** 2 + inside[1:] * inside[:-1] + inside[:-1] ** 2) / 3, axis=0) / (b - a)
        for n, key in enumerate(keys):
            pieces = run.pieces(key)
            size = max(np.max(np.abs(y[:, n])), LEAKS * largest[run.infos[key].unit], 1e-9)
            flux_of = key.replace("flux_angle", "rotor_flux")
            if flux_of != key:
                flux = y[:, keys.index(flux_of)]
                if np.min(flux[first : last + 1]) < NO_ANGLE * np.max(flux):
                    tally.skipped += 1
                    continue
            if turns[n]:
                mean[n], square[n] = of_turning(t[first : last + 1], inside[:, n])
            gap = max(abs(pieces.mean(a, b) - mean[n]), abs(pieces.rms(a, b) - np.sqrt(square[n]))) / size
            gap *= min(1.0, (b - a) / (SHORT * run.end))
            tally.note(float(gap) / ALLOWED, f"{case.name} {key}", case.drive)


def of_turning(t: np.ndarray, angle: np.ndarray) -> tuple[float, float]:
    """Mean, and mean square, of an angle between −π and π that goes round: sampled so densely between its points that a
    jump of a whole turn lies within a ten-thousandth of it."""
    whole = np.unwrap(angle)
    span = (np.arange(2000) + 0.5) / 2000
    jumps = np.flatnonzero(np.abs(np.diff(angle)) > np.pi)
    step = np.diff(t)
    parts = [
        step * (angle[1:] + angle[:-1]) / 2,
        step * (angle[1:] ** 2 + angle[1:] * angle[:-1] + angle[:-1] ** 2) / 3,
    ]
    for k in jumps:
        between = np.mod(whole[k] + span * (whole[k + 1] - whole[k]) + np.pi, 2 * np.pi) - np.pi
        for power, part in enumerate(parts, 1):
            part[k] = step[k] * np.mean(between**power)
    return tuple(float(np.sum(part) / (t[-1] - t[0])) for part in parts)  # type: ignore[return-value]

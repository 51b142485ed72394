"""Every figure against its definition: the solution written out densely, over random windows."""

from __future__ import annotations

import numpy as np

from pendel.core.plant.model import evaluate_signals, refined_rows
from truth.drives import Case
from truth.methods import run_with
from truth.report import Tally

DENSER = 2e-3
ALLOWED = {"rectifier": 5e-4, "dc_converter": 1e-4}
ALLOWED_ELSE = 5e-5
"""Of a signal's largest value. Where a device begins to conduct between blocked ones, a node's voltage settles within nanoseconds, by a
change of states that no trace resolves; the piece after it takes that for a slope."""


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
    for _ in range(windows):
        a, b = np.sort(rng.uniform(0, run.end, 2))
        first, last = np.searchsorted(t, [a, b])
        if last - first < 10:
            continue
        a, b = float(t[first]), float(t[last])
        step, inside = np.diff(t[first : last + 1])[:, None], y[first : last + 1]
        mean = np.sum(step * (inside[1:] + inside[:-1]) / 2, axis=0) / (b - a)
        square = np.sum(
            step * (inside[1:] ** 2 + inside[1:] * inside[:-1] + inside[:-1] ** 2) / 3, axis=0
        ) / (b - a)
        for n, key in enumerate(keys):
            pieces = run.pieces(key)
            size = max(np.max(np.abs(y[:, n])), 1e-9)
            gap = max(abs(pieces.mean(a, b) - mean[n]), abs(pieces.rms(a, b) - np.sqrt(square[n]))) / size
            tally.note(float(gap) / ALLOWED.get(case.family, ALLOWED_ELSE), f"{case.name} {key}", case.drive)

"""Where the energy of a run went: what each part lost between two times, conducting and switching."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pendel.core.runs import measures
from pendel.core.runs.kept import KeptRun

ROUNDING = 1e-9
"""Of the largest loss: what is below is none."""


@dataclass(frozen=True)
class Lost:
    """``what`` names the part, with “switching” where that is it; mean power (W) and energy (J)."""

    what: str
    power: float
    energy: float


def losses(run: KeptRun, start: float, end: float) -> list[Lost]:
    """All parts that lost something between two times (s), the largest first."""
    if not end > start:
        return []
    keys = [k for k in run.keys if k.endswith(".loss")]
    run.fetch(keys)
    powers: dict[str, float] = {}
    for key in keys:
        trace = run.trace(key)
        powers[run.infos[key].card] = measures.mean(*measures.window(trace.t, trace.y, start, end))
    for device in run.devices:
        t, e = run.switchings[device.key]
        what = f"{run.infos[device.voltage].card}, switching"
        spent = float(np.sum(e[(t >= start) & (t < end)])) / (end - start)
        powers[what] = powers.get(what, 0.0) + spent
    least = ROUNDING * max((abs(power) for power in powers.values()), default=0.0)
    found = [Lost(what, power, power * (end - start)) for what, power in powers.items() if abs(power) > least]
    return sorted(found, key=lambda each: -each.power)

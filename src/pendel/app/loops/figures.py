"""Figures of a loop beside its plots, by name and how each is written."""

from __future__ import annotations

import math
from collections.abc import Callable

from pendel.core.quantities.units import figure, number_text


def or_dash(value: float, write: Callable[[float], str]) -> str:
    return write(value) if math.isfinite(value) else "–"


FOLLOWS = (
    ("crossover", lambda j: or_dash(j.margins.crossover, lambda v: figure(v, "Hz", 3))),
    ("phase margin", lambda j: or_dash(j.margins.phase, lambda v: f"{v:.0f}°")),
    ("gain margin", lambda j: or_dash(j.margins.gain_db, lambda v: f"{number_text(v, 3)} dB")),
    ("Ms", lambda j: or_dash(j.margins.ms, lambda v: number_text(v, 3))),
    ("rise", lambda j: or_dash(j.measures.rise, lambda v: figure(v, "s", 3))),
    ("overshoot", lambda j: or_dash(j.measures.overshoot, lambda v: f"{number_text(v, 3)} %")),
    ("settles 2 %", lambda j: or_dash(j.measures.settling, lambda v: figure(v, "s", 3))),
)

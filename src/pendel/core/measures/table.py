"""All measures, in the order in which they are shown."""

from __future__ import annotations

from pendel.core.extensions import Table
from pendel.core.measures.declare import Measure, Place

OURS = (
    "mean",
    "rms",
    "ripple",
    "rise",
    "overshoot",
    "settling",
    "remaining_error",
    "dip",
    "recovery",
    "peak_current",
    "copper_heat",
)
MEASURES = Table(
    "pendel.measures",
    Measure,
    [f"pendel.core.measures.{name}" for name in OURS],
    constant="MEASURE",
    word="measure",
)


def measures_at(place: Place) -> list[Measure]:
    return [measure for measure in MEASURES if measure.place is place]

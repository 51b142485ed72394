"""Figures of a run beside the strips, as text: response to a setpoint, dip at a load, peak current and
heat."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

import numpy as np

from pendel.core.measures import Place, Span, measures_at
from pendel.core.measures.declare import BAND
from pendel.core.quantities.units import figure
from pendel.core.runs.found.run_roles import machine_currents, signals_with
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.remarks.balance import balance_keys
from pendel.core.vocabulary import SignalRole


def measured(
    run: KeptRun, actual: str, setpoint: str | None, a: float, b: float, shown: Iterable[str], band: float = BAND
) -> dict[str, str]:
    """Measures of one run's response between two times, as text; ``shown`` are the signals on the strips, ``band`` is
    that of settling and recovery."""
    span = Span(run, actual, a, b, setpoint, tuple(shown), band)
    figures = ((measure, measure.value(span)) for measure in measures_at(Place.RESPONSE))
    return {
        measure.title_in(band): figure_or_dash(measure.unit_for(span))(value)
        for measure, value in figures
        if value is not None
    }


def step_measured(run: KeptRun, actual: str, setpoint: str | None, a: float, b: float) -> str:
    """To which step of its setpoint a response is measured, as text."""
    if setpoint is None:
        return ""
    moves = Span(run, actual, a, b, setpoint).moves
    if not moves:
        return "no step of its setpoint, "
    which = "the step" if len(moves) == 1 else f"the last of {len(moves)} steps,"
    return f"{which} at {figure(moves[-1].begins, 's', 4)}, "


def settled(value: float, y: np.ndarray) -> float:
    """Zero for what is only rounding against the trace's size."""
    return 0.0 if abs(value) < 1e-9 * float(np.max(np.abs(y))) else value


def measured_keys(run: KeptRun) -> list[str]:
    """What the figures beside the strips are made of: the energy balance, profiles of loads, and the currents
    of the machine."""
    losses = signals_with(run, SignalRole.COPPER_LOSS)
    heat = next(iter(losses), None)
    return [
        *losses,
        *signals_with(run, SignalRole.LOAD_LEVEL),
        *balance_keys(run),
        *(machine_currents(run, heat.partition(".")[0]) if heat else ()),
    ]


def averaged_keys(run: KeptRun, strips: Iterable[Iterable[str]]) -> list[str]:
    """Of these, and of the first signal on each strip, what is averaged."""
    known = set(run.keys)
    first = (next((s for s in signals if s in known), None) for signals in strips)
    heat = signals_with(run, SignalRole.COPPER_LOSS)
    return [*(k for k in first if k), *heat, *balance_keys(run)]


SMALLEST_SHARE = 1e-5
"""Of a share in percent that is shown as a figure: what is less says nothing, and is wide."""


def figure_or_dash(unit: str) -> Callable[[float], str]:
    def told(value: float) -> str:
        if unit == "%" and 0 < abs(value) < SMALLEST_SHARE:
            return "≈ 0 %"
        return "–" if math.isnan(value) else figure(value, unit, 3)

    return told

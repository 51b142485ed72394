"""Figures of a run beside the strips, as text: response to a setpoint, dip at a load, peak current and heat."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

import numpy as np

from pendel.core.quantities.units import figure, number_text
from pendel.core.runs import measures
from pendel.core.runs.balance import balance_keys
from pendel.core.runs.kept import KeptRun
from pendel.core.runs.run_roles import signals_of, signals_with
from pendel.core.vocabulary import SignalRole


def measured(
    run: KeptRun, actual: str, setpoint: str | None, a: float, b: float, shown: Iterable[str]
) -> dict[str, str]:
    """Measures of one run between two times, as text; ``shown`` are the signals on the strips."""
    trace = run.trace(actual)
    t, y = measures.window(trace.t, trace.y, a, b)
    target, disturbed_at = float(y[-1]), disturbance(run, a, b)
    if setpoint and setpoint in run.keys:
        wish = run.trace(setpoint)
        t_w, y_w = measures.window(wish.t, wish.y, a, b)
        target = float(y_w[np.argmax(np.abs(y_w))])
        # The response ends where the load comes or the setpoint leaves its level again.
        leaves = t_w[(np.abs(y_w - target) > 0.01 * abs(target)) & (t_w > t_w[np.argmax(np.abs(y_w))])]
        end = min([b, *([disturbed_at] if disturbed_at else []), *leaves[:1]])
    else:
        end = disturbed_at or b
    t_s, y_s = measures.window(trace.t, trace.y, a, end)
    step = measures.step_measures(t_s, y_s, float(y_s[0]), target)
    second = figure_or_dash("s")
    found = {
        "rise": second(step.rise),
        "overshoot": percent(step.overshoot),
        "settles 2 %": second(step.settling),
        "remaining error": percent(
            100 * step.remaining / (target - float(y_s[0])) if target != y_s[0] else math.nan
        ),
    }
    if disturbed_at is not None:
        until = b
        if setpoint and setpoint in run.keys:
            left = [x for x in leaves if x > disturbed_at]
            until = min([b, *left[:1]])
        dip = measures.dip_measures(*measures.window(trace.t, trace.y, disturbed_at, until), target)
        found |= {"dip at load": percent(dip.percent), "recovers in": second(dip.recovery)}
    heat = next(iter(signals_with(run, SignalRole.COPPER_LOSS)), None)
    found["peak current"] = figure_or_dash("A")(peak_current(run, heat, a, b, shown))
    if heat:
        pieces = run.pieces(heat)
        found["copper heat"] = figure(pieces.integral(*pieces.within(a, b)), "J", 3)
    return found


def peak_current(run: KeptRun, heat: str | None, a: float, b: float, shown: Iterable[str]) -> float:
    """A, of the machine that ``heat`` belongs to, in any of its phases; without one, of the first current
    among ``shown``."""
    currents = currents_of(run, heat) if heat else []
    if not currents:
        currents = [s for s in shown if s in run.keys and run.infos[s].unit == "A"][:1]
    run.fetch(currents)
    windows = (measures.window(run.trace(k).t, run.trace(k).y, a, b)[1] for k in currents)
    return max((float(np.max(np.abs(y))) for y in windows if len(y)), default=math.nan)


def disturbance(run: KeptRun, a: float, b: float) -> float | None:
    """When a load profile first moves by more than half its range within the window."""
    for key in signals_with(run, SignalRole.LOAD_LEVEL):
        trace = run.trace(key)
        inside = (trace.t >= a) & (trace.t <= b)
        y, t = trace.y[inside], trace.t[inside]
        if len(y) and np.ptp(y) > 0:
            rises = np.flatnonzero(np.abs(y - y[0]) > 0.02 * np.ptp(y))
            if len(rises):
                return float(t[max(0, rises[0] - 1)])
    return None


def settled(value: float, y: np.ndarray) -> float:
    """Zero for what is only rounding against the trace's size."""
    return 0.0 if abs(value) < 1e-9 * float(np.max(np.abs(y))) else value


def currents_of(run: KeptRun, heat: str) -> list[str]:
    """The currents of the machine whose copper loss is ``heat``."""
    machine = heat.rpartition(".")[0]
    currents = (SignalRole.MACHINE_CURRENT, SignalRole.PHASE_CURRENT)
    return [key for role in currents for key in signals_of(run, machine, role)]


def measured_keys(run: KeptRun) -> list[str]:
    """What the figures beside the strips are made of: the energy balance, profiles of loads, and the currents
    of the machine."""
    losses = signals_with(run, SignalRole.COPPER_LOSS)
    heat = next(iter(losses), None)
    return [
        *losses,
        *signals_with(run, SignalRole.LOAD_LEVEL),
        *balance_keys(run),
        *(currents_of(run, heat) if heat else ()),
    ]


def averaged_keys(run: KeptRun, strips: Iterable[Iterable[str]]) -> list[str]:
    """Of these, and of the first signal on each strip, what is averaged."""
    known = set(run.keys)
    first = (next((s for s in signals if s in known), None) for signals in strips)
    heat = signals_with(run, SignalRole.COPPER_LOSS)
    return [*(k for k in first if k), *heat, *balance_keys(run)]


def figure_or_dash(unit: str) -> Callable[[float], str]:
    return lambda value: "–" if math.isnan(value) else figure(value, unit, 3)


def percent(value: float) -> str:
    return "–" if math.isnan(value) else f"{number_text(value, 3)} %"

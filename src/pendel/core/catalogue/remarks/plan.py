"""A vehicle that leaves its plan of speed."""

from __future__ import annotations

import numpy as np

from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.drive.findings import Remark
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole

MOST = 1_000_000
"""Instants that are looked at."""
LEFT, LASTS = 2 / 3.6, 1.0
"""m/s and s beside the plan, as driving cycles allow (UN GTR 15, annex 6: 2 km/h within 1 s; from memory)."""


def plan_left(seen: Seen, key: str) -> Remark | None:
    """Where the speed is beyond 2 km/h beside what was planned within a second before and after."""
    run, card, kind = seen.run, seen.drive.cards[key], seen.kinds[key]
    ends = [
        seen.source(key, port.name)
        for role in (SignalRole.SETPOINT, SignalRole.ACTUAL)
        for port in kind.ports
        if port.role is role
    ]
    traces = [run.trace(f"{end.card}.{end.port}") for end in ends if end is not None]
    if len(traces) != 2:
        return None
    t = np.arange(0.0, run.end, max(run.tick, run.end / MOST))
    plan, actual = (trace.at(t) for trace in traces)
    step = float(t[1] - t[0]) if len(t) > 1 else 1.0
    reach = max(1, round(LASTS / step))
    high, low = (_extreme(plan, reach, worst) for worst in (np.maximum, np.minimum))
    beside = np.maximum(actual - high, low - actual) - LEFT
    if not np.any(beside > 0):
        return None
    worst, first = int(np.argmax(beside)), int(np.argmax(beside > 0))
    lasts = float(np.sum(beside > 0) * step)
    side = "below" if actual[worst] < plan[worst] else "above"
    return Remark(
        f"{card.name} leaves the plan {figure(lasts, 's', 3)} in all, first at {figure(float(t[first]), 's', 4)}; by "
        f"{figure(abs(float(actual[worst] - plan[worst])), 'km/h', 3)} {side} it at {figure(float(t[worst]), 's', 4)}. "
        "What drives or brakes it is too weak there, or the gains are.",
        key,
        float(t[first]),
    )


def _extreme(x: np.ndarray, reach: int, worst: np.ufunc) -> np.ndarray:
    """The largest or smallest within ``reach`` ticks on both sides."""
    found = x.copy()
    for shift in range(1, reach + 1):
        found[shift:] = worst(found[shift:], x[:-shift])
        found[:-shift] = worst(found[:-shift], x[shift:])
    return found

"""Traces as the few points that a card or a row of a list has room for, and their sizes."""

from __future__ import annotations

from collections.abc import Iterable
from weakref import WeakKeyDictionary

import numpy as np

from pendel.app.session.live_view import LiveView
from pendel.core.runs.found.spectra import integral
from pendel.core.runs.record.kept import KeptRun

NOTHING = np.empty((0, 2))
_sparks: WeakKeyDictionary[KeptRun, dict[str, np.ndarray]] = WeakKeyDictionary()
_sizes: WeakKeyDictionary[KeptRun, dict[str, float]] = WeakKeyDictionary()


def spark(run: KeptRun | LiveView, key: str) -> np.ndarray:
    """A trace as few points in the unit square, each the mean of its stretch, so that pulses do not beat;
    shape (n, 2). Kept with the run, as every edit draws it again."""
    if isinstance(run, LiveView):
        return drawn_small(run, key)
    known = _sparks.setdefault(run, {})
    if key not in known:
        known[key] = drawn_small(run, key)
    return known[key]


def draw_ahead(run: KeptRun, keys: Iterable[str]) -> None:
    """Draw traces small, and find their sizes, before the window asks for them: those of a long run take their
    time."""
    for key in keys:
        if key in run.keys:
            spark(run, key)
            largest(run, key)


def largest(run: KeptRun | LiveView, key: str) -> float:
    """The largest size of a trace; kept with the run as well."""
    known = {} if isinstance(run, LiveView) else _sizes.setdefault(run, {})
    if key not in known:
        y = run.trace(key).y
        known[key] = float(np.max(np.abs(y))) if len(y) else 0.0
    return known[key]


def drawn_small(run: KeptRun | LiveView, key: str, points: int = 80) -> np.ndarray:
    trace = run.trace(key)
    if len(trace.y) < 2 or not np.all(np.isfinite(trace.y)) or trace.t[-1] <= trace.t[0]:
        return NOTHING
    edges = np.linspace(trace.t[0], trace.t[-1], points + 1)
    y = np.diff(integral(trace.t, trace.y, edges)) / np.diff(edges)
    low, high = float(np.min(y)), float(np.max(y))
    size = high - low
    flat = size <= 1e-9 * max(abs(low), abs(high), 1e-12)
    level = np.full(points, 0.5) if flat else (y - low) / size
    return np.column_stack([np.linspace(0, 1, points), level])

"""Ranges from a run: what each signal and state of a controller came to."""

from __future__ import annotations

import ctypes
import math

import numpy as np

from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.observed import observed_source
from pendel.core.controllers.numbers.tree import assigned_often
from pendel.core.firmware.ship import inputs_of, replay, signals_of
from pendel.core.plant.runtime import load, pointer
from pendel.core.runs.record.kept import KeptRun

DIGITS = 4
"""Of a size that is kept: its bound is doubled, so more would tell nothing."""


def sizes_in(deck: ControlDeck, run: KeptRun) -> dict[str, dict[str, float]]:
    """Largest absolute values (SI) in a run by card and name: of all signals of sensors and blocks, of what
    the plant gives them, of what blocks remember, and of locals with a place of their own.

    Raises
    ------
    BuildProblem
        when the compiler refuses, or the run does not fit the deck as it is now.
    """
    seen_sizes: dict[str, dict[str, float]] = {}

    def note(name: str, size: float) -> None:
        card, _, item = name.partition(".")
        if math.isfinite(size) and size > 0.0:
            seen_sizes.setdefault(card, {})[item] = float(f"{size:.{DIGITS}g}")

    for signal in (*deck.signals, *deck.measured):
        if signal in run.keys:
            y = run.trace(signal).y
            note(signal, float(np.max(np.abs(y))) if len(y) else 0.0)
    observed = observed_source(deck)
    lowered = observed.lowered
    library = load(observed.text)
    replay(library, inputs_of(lowered, run), len(signals_of(lowered)))
    sizes = np.zeros(max(1, len(observed.names)))
    library.pd_ctl_seen.argtypes = [ctypes.c_void_p]
    library.pd_ctl_seen(pointer(sizes))
    placed = {f"{b.name}.{n}" for b in lowered.blocks for n in (*b.tree.states, *assigned_often(b.tree.body), LINE)}
    for name, size in zip(observed.names, sizes):
        if name in placed:
            note(name, float(size))
    return seen_sizes

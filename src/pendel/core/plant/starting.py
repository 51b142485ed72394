"""Values at the start of a run, above all those of states that depend on each other.

A rigid joint leaves one independent state where the parts declare two. What was entered must hold whichever of
them stayed a state: the remaining ones are moved, as little as possible, until every demoted state has its
entered value (Gauss-Newton on the demoted states' equations, least change in the Euclidean norm).
"""

from __future__ import annotations

import ctypes
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from pendel.core.plant.model import PlantModel

ROUNDS = 20
FITS = 1e-9


@dataclass(frozen=True)
class Contradiction:
    """``state`` was to start at ``wanted``; the others make it start at ``follows`` (SI)."""

    state: str
    wanted: float
    follows: float


@dataclass(frozen=True)
class Starts:
    """Starting values of the remaining states, shape (n,), and what could not be met."""

    values: np.ndarray
    contradictions: tuple[Contradiction, ...]


def consistent_starts(model: PlantModel) -> Starts:
    """Starting values that agree with each other, as entered where they were entered."""
    structure = model.structure
    entries = {e.key: e for e in model.network.states}
    x = np.array([entries[k].start if k in entries else 0.0 for k in structure.state_keys], dtype=float)
    wanted = [(row, entries[k]) for row, k in enumerate(structure.demoted_keys) if entries[k].given]
    if not wanted:
        return Starts(x, ())
    rows = [row for row, _ in wanted]
    goal = np.array([e.start for _, e in wanted])
    free = [n for n, k in enumerate(structure.state_keys) if k not in entries or not entries[k].given]
    for _ in range(ROUNDS):
        value, slope = demoted_states(model, x)
        gap = goal - value[rows]
        if not free or np.all(np.abs(gap) <= FITS * (1 + np.abs(goal))):
            break
        x[free] += np.linalg.lstsq(slope[np.ix_(rows, free)], gap, rcond=None)[0]
    value, _ = demoted_states(model, x)
    off = tuple(
        Contradiction(e.key, e.start, float(value[row]))
        for row, e in wanted
        if not abs(value[row] - e.start) <= 1e3 * FITS * (1 + abs(e.start))
    )
    return Starts(x, off)


def loop_values(model: PlantModel, x: np.ndarray, u: np.ndarray, s: np.ndarray) -> np.ndarray:
    """What is found numerically, at time zero, states ``x``, inputs ``u`` and modes ``s``; shape (loops,)."""
    return looked_up(model, "pd_solve_loops", len(model.system.torn), x, u, s)


def surface_values(model: PlantModel, x: np.ndarray, u: np.ndarray, s: np.ndarray) -> np.ndarray:
    """What the surfaces give there; shape (10 · surfaces,)."""
    return looked_up(model, "pd_surfaces", model.symbols["f"].numel(), x, u, s)


def looked_up(model: PlantModel, function: str, count: int, x: np.ndarray, u: np.ndarray, s: np.ndarray) -> np.ndarray:  # fmt: skip
    """``count`` numbers that a function of the model's code gives at time zero; it is there only where there are any."""
    from pendel.core.plant.model import load, pointer

    found = np.zeros(count)
    if count:
        library = load(model.structure.source)
        hoisted = np.zeros(max(1, library.pd_hoisted()))
        held = [np.ascontiguousarray(a, dtype=float) for a in (x, u, s, model.parameters, hoisted, found)]
        at = [ctypes.c_void_p(pointer(a)) for a in held]
        library.pd_hoist(at[3], at[2], at[4])
        getattr(library, function)(ctypes.c_double(0.0), *at)
        found = held[5]
    return found


def demoted_states(model: PlantModel, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Demoted states at ``x`` and time zero, shape (m,), and their derivatives by ``x``, shape (m, n)."""
    from pendel.core.plant.model import load, pointer

    structure = model.structure
    library = load(structure.source)
    p, s = model.parameters, model.mode_starts
    first = [levels[0] if levels else 0.0 for _, levels in model.profiles]
    u = np.array([0.0] * len(structure.commands) + first + [0.0] * len(first) + [0.0])
    hoisted = np.zeros(max(1, library.pd_hoisted()))
    m, n = len(structure.demoted_keys), len(structure.state_keys)
    value, slope = np.zeros(m), np.zeros((n, m))
    held = [np.ascontiguousarray(a, dtype=float) for a in (x, u, s, p, hoisted, value, slope)]
    at = [ctypes.c_void_p(pointer(a)) for a in held]
    library.pd_hoist(at[3], at[2], at[4])
    library.pd_demoted(ctypes.c_double(0.0), *at)
    return held[5], held[6].T

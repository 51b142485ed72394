"""Values at the start of a run, above all those of states that depend on each other.

A rigid joint leaves one independent state where the parts declare two. What was entered must hold whichever of
them stayed a state: the remaining ones are moved, as little as possible, until every demoted state has its
entered value (Gauss-Newton on the demoted states' equations, least change in the Euclidean norm).
"""

from __future__ import annotations

import ctypes
from dataclasses import dataclass

import numpy as np

from pendel.core.equations.numbers import Numbers
from pendel.core.plant.program import Doubles, Profile, Structure
from pendel.core.plant.runtime import load, pointer

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


def consistent_starts(
    structure: Structure, numbers: Numbers, parameters: Doubles, profiles: tuple[Profile, ...]
) -> Starts:
    """Starting values that agree with each other, as entered where they were entered."""
    x = np.array([numbers.start(k) for k in structure.state_keys], dtype=float)
    wanted = [(row, k) for row, k in enumerate(structure.demoted_keys) if k in numbers.given_starts]
    if not wanted:
        return Starts(x, ())
    rows = [row for row, _ in wanted]
    goal = np.array([numbers.start(k) for _, k in wanted])
    free = [n for n, k in enumerate(structure.state_keys) if k not in numbers.given_starts]
    for _ in range(ROUNDS):
        value, slope = demoted_states(structure, parameters, profiles, x)
        gap = goal - value[rows]
        if not free or np.all(np.abs(gap) <= FITS * (1 + np.abs(goal))):
            break
        x[free] += np.linalg.lstsq(slope[np.ix_(rows, free)], gap, rcond=None)[0]
    value, _ = demoted_states(structure, parameters, profiles, x)
    off = tuple(
        Contradiction(key, start, float(value[row]))
        for (row, key), start in zip(wanted, goal.tolist())
        if not abs(value[row] - start) <= 1e3 * FITS * (1 + abs(start))
    )
    return Starts(x, off)


def loop_values(structure: Structure, parameters: Doubles, x: Doubles, u: Doubles, s: Doubles) -> Doubles:
    """What is found numerically, at time zero, states ``x``, inputs ``u`` and modes ``s``; shape (loops,)."""
    return _looked_up(structure, "pd_solve_loops", structure.loops, (x, u, s, parameters))


def surface_values(structure: Structure, parameters: Doubles, x: Doubles, u: Doubles, s: Doubles) -> Doubles:
    """What the surfaces give there; shape (10 · surfaces,)."""
    return _looked_up(structure, "pd_surfaces", 10 * len(structure.surfaces), (x, u, s, parameters))


def _looked_up(structure: Structure, function: str, count: int, at: tuple[Doubles, ...]) -> Doubles:
    """``count`` numbers that a function of the model's code gives at time zero; it is there only where there
    are any."""
    if not count:
        return np.zeros(0)
    return _called(structure, function, at, np.zeros(count))[0]


def _called(structure: Structure, function: str, at: tuple[Doubles, ...], *results: Doubles) -> list[Doubles]:
    library = load(structure.source)
    hoisted = np.zeros(max(1, library.pd_hoisted()))
    held = [np.ascontiguousarray(a, dtype=float) for a in (*at, hoisted, *results)]
    places = [ctypes.c_void_p(pointer(a)) for a in held]
    library.pd_hoist(places[3], places[2], places[4])
    getattr(library, function)(ctypes.c_double(0.0), *places)
    return held[5:]


def demoted_states(
    structure: Structure, parameters: Doubles, profiles: tuple[Profile, ...], x: Doubles
) -> tuple[Doubles, Doubles]:
    """Demoted states at ``x`` and time zero, shape (m,), and their derivatives by ``x``, shape (m, n)."""
    first = [levels[0] if levels else 0.0 for _, levels in profiles]
    u = np.array([0.0] * len(structure.commands) + first + [0.0] * len(first) + [0.0])
    modes = np.array(structure.mode_starts, dtype=float)
    m, n = len(structure.demoted_keys), len(structure.state_keys)
    value, slope = _called(structure, "pd_demoted", (x, u, modes, parameters), np.zeros(m), np.zeros((n, m)))
    return value, slope.T

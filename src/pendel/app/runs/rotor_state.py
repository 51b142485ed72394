"""What the rotor diagram shows at a time, computed beside the window: the signals it takes may have to be evaluated."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pendel.core.runs.found.vectors import Vectors, current_limits, current_path, link_voltage, vectors_at
from pendel.core.runs.record.kept import KeptRun


@dataclass(frozen=True)
class RotorState:
    """A machine of a run at a time (s). ``link`` (V) is not a number where there is none; ``path`` is the current (A)
    over the last electrical turn, ``peak`` its largest size in the run. ``limits`` (A) are those of all machines."""

    run: KeptRun
    machine: str
    time: float
    vectors: Vectors
    link: float
    path: np.ndarray
    peak: float
    limits: Mapping[str, float]

    @property
    def limit(self) -> float:
        """A; infinite where the machine's card tells none."""
        return self.limits.get(self.machine, math.inf)


def rotor_state(run: KeptRun, machine: str, time: float, limits: Mapping[str, float] | None) -> RotorState:
    """``limits`` where they are known of this run."""
    vectors = vectors_at(run, machine, time)
    return RotorState(
        run,
        machine,
        time,
        vectors,
        link_voltage(run, time),
        current_path(run, machine, time - last_turn(run, machine, time, vectors), time),
        max(float(np.max(np.abs(current_path(run, machine, 0.0, run.end)))), 1e-12),
        current_limits(run) if limits is None else limits,
    )


def last_turn(run: KeptRun, machine: str, time: float, vectors: Vectors) -> float:
    """Duration (s) of the last electrical turn, at most the run so far."""
    before = vectors_at(run, machine, max(time - run.tick, run.tick))
    step = float(np.angle(np.exp(1j * (vectors.angle - before.angle))))
    return min(time, 2 * math.pi * run.tick / abs(step)) if abs(step) > 1e-9 else time

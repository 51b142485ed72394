"""Space vectors of a three-phase machine at an instant of a run, in amplitudes (Clarke with 2/3)."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from pendel.core.check import examine
from pendel.core.drive.file import from_text
from pendel.core.errors import PendelError
from pendel.core.runs.found.run_roles import cards_with, kinds_in, signals_of, signals_with
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.measures import mean, window
from pendel.core.vocabulary import SignalRole, ValueRole

TURN = np.exp(2j * np.pi / 3)


@dataclass(frozen=True)
class Vectors:
    """In the stator's frame: current (A), voltage (V) and flux (Wb), and the angle (rad) of the rotor's
    frame."""

    current: complex
    voltage: complex
    flux: complex
    angle: float

    def in_rotor(self, vector: complex) -> complex:
        """A vector seen from the rotor's frame: real along d, imaginary along q."""
        return vector * complex(np.exp(-1j * self.angle))


def machines(run: KeptRun) -> list[str]:
    """Cards of a run that have phase currents and a rotor's frame."""
    return [c for c in cards_with(run, SignalRole.PHASE_CURRENT, SignalRole.PHASE_VOLTAGE) if angle_key(run, c)]


def angle_key(run: KeptRun, machine: str) -> str:
    """The signal that gives the rotor's frame: the angle of the magnet, or of the rotor flux."""
    keys = (k for role in (SignalRole.ROTOR_ANGLE, SignalRole.FIELD_ANGLE) for k in signals_of(run, machine, role))
    return next(keys, "")


def current_limits(run: KeptRun) -> dict[str, float]:
    """A, peak: of each of a run's machines whose card tells a largest current."""
    try:
        values = examine(from_text(run.drive_text)).values
    except PendelError:
        return {}
    names = {m: kinds_in(run)[m].value_name(ValueRole.CURRENT_LIMIT) for m in machines(run)}
    limits = {m: values.get(m, {}).get(name, math.nan) for m, name in names.items()}
    return {machine: limit for machine, limit in limits.items() if limit > 0}


def clarke(a: Any, b: Any, c: Any) -> Any:
    """α + jβ of three phases, keeping amplitudes."""
    return 2 / 3 * (a + TURN * b + TURN**2 * c)


def vectors_at(run: KeptRun, machine: str, time: float) -> Vectors:
    """The vectors at a time (s): averaged over the tick before it, so that pulses show as the voltage they
    make."""
    run.fetch(needed(run, machine))
    end = min(max(time, run.tick), run.end)
    span = (max(0.0, end - run.tick), end)

    def average(key: str) -> float:
        return run.pieces(key).mean(*span)

    angle = run.trace(angle_key(run, machine))
    at = float(
        np.angle(mean(*window(angle.t, np.cos(angle.y), *span)) + 1j * mean(*window(angle.t, np.sin(angle.y), *span)))
    )
    current, voltage = (
        clarke(*map(average, signals_of(run, machine, role)))
        for role in (SignalRole.PHASE_CURRENT, SignalRole.PHASE_VOLTAGE)
    )
    flux = flux_at(run, machine, average, at)
    return Vectors(complex(current), complex(voltage), flux, at)


def flux_at(run: KeptRun, machine: str, average: Callable[[str], float], angle: float) -> complex:
    """Wb, in the stator's frame; not a number where the machine tells no flux."""
    if in_rotor := signals_of(run, machine, SignalRole.FLUX_DQ):
        return complex(*map(average, in_rotor)) * complex(np.exp(1j * angle))
    in_stator = signals_of(run, machine, SignalRole.FLUX_ALPHA_BETA)
    return complex(*map(average, in_stator)) if in_stator else complex(math.nan, math.nan)


NEEDED = (
    SignalRole.PHASE_CURRENT,
    SignalRole.PHASE_VOLTAGE,
    SignalRole.FLUX_DQ,
    SignalRole.FLUX_ALPHA_BETA,
)


def needed(run: KeptRun, machine: str) -> list[str]:
    return [k for role in NEEDED for k in signals_of(run, machine, role)]


def current_path(run: KeptRun, machine: str, start: float, end: float, points: int = 400) -> np.ndarray:
    """The current's vector between two times, in the stator's frame; shape (points,), complex."""
    run.fetch(needed(run, machine))
    t = np.linspace(max(0.0, start), min(end, run.end), points)
    phases = [
        np.interp(t, trace.t, trace.y) for trace in map(run.trace, signals_of(run, machine, SignalRole.PHASE_CURRENT))
    ]
    return np.asarray(clarke(*phases))


def link_voltage(run: KeptRun, time: float) -> float:
    """Voltage (V) of the first converter's link at a time, or not-a-number where there is none."""
    key = next(iter(signals_with(run, SignalRole.LINK_VOLTAGE)), "")
    if not key:
        return float("nan")
    trace = run.trace(key)
    return float(np.interp(time, trace.t, trace.y))

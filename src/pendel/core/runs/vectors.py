"""Space vectors of a three-phase machine at an instant of a run, in amplitudes (Clarke with 2/3)."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from pendel.core.check import examine
from pendel.core.drive.file import from_text
from pendel.core.errors import PendelError
from pendel.core.runs.kept import KeptRun
from pendel.core.runs.measures import mean, window

TURN = np.exp(2j * np.pi / 3)
PHASES = ("a", "b", "c")
ANGLES = ("angle_e", "flux_angle")
"""Signals that give the rotor's frame: of the magnet, or of the rotor flux."""


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
    keys = set(run.keys)
    cards = dict.fromkeys(k.partition(".")[0] for k in run.structure.signals)
    return [c for c in cards if f"{c}.current_a" in keys and f"{c}.voltage_a" in keys and angle_key(run, c)]


def angle_key(run: KeptRun, machine: str) -> str:
    return next((k for a in ANGLES if (k := f"{machine}.{a}") in run.structure.signals), "")


def current_limits(run: KeptRun) -> dict[str, float]:
    """A, peak: of each of a run's machines whose card tells a largest current."""
    try:
        values = examine(from_text(run.drive_text)).values
    except PendelError:
        return {}
    limits = {m: values.get(m, {}).get("I_max", math.nan) for m in machines(run)}
    return {machine: limit for machine, limit in limits.items() if limit > 0}


def clarke(a, b, c):
    """α + jβ of three phases, keeping amplitudes."""
    return 2 / 3 * (a + TURN * b + TURN**2 * c)


def vectors_at(run: KeptRun, machine: str, time: float) -> Vectors:
    """The vectors at a time (s): averaged over the tick before it, so that pulses show as the voltage they
    make."""
    run.fetch(needed(run, machine))
    end = min(max(time, run.tick), run.end)
    span = (max(0.0, end - run.tick), end)

    def average(name: str) -> float:
        return run.pieces(f"{machine}.{name}").mean(*span)

    angle = run.trace(angle_key(run, machine))
    at = float(
        np.angle(
            mean(*window(angle.t, np.cos(angle.y), *span))
            + 1j * mean(*window(angle.t, np.sin(angle.y), *span))
        )
    )
    current, voltage = (clarke(*(average(f"{what}_{n}") for n in PHASES)) for what in ("current", "voltage"))
    flux = flux_at(run, machine, average, at)
    return Vectors(complex(current), complex(voltage), complex(flux), at)


def flux_at(run: KeptRun, machine: str, average, angle: float) -> complex:
    if f"{machine}.flux_d" in run.structure.signals:
        return complex(average("flux_d"), average("flux_q")) * complex(np.exp(1j * angle))
    return complex(average("flux_alpha"), average("flux_beta"))


def needed(run: KeptRun, machine: str) -> list[str]:
    names = [f"{what}_{n}" for what in ("current", "voltage") for n in PHASES] + [
        "flux_d",
        "flux_q",
        "flux_alpha",
        "flux_beta",
    ]
    return [k for n in names if (k := f"{machine}.{n}") in run.structure.signals]


def current_path(run: KeptRun, machine: str, start: float, end: float, points: int = 400) -> np.ndarray:
    """The current's vector between two times, in the stator's frame; shape (points,), complex."""
    run.fetch(needed(run, machine))
    t = np.linspace(max(0.0, start), min(end, run.end), points)
    found = [
        np.interp(t, trace.t, trace.y) for trace in (run.trace(f"{machine}.current_{n}") for n in PHASES)
    ]
    return np.asarray(clarke(*found))


def link_voltage(run: KeptRun, time: float) -> float:
    """Voltage (V) of the first converter's link at a time, or not-a-number where there is none."""
    key = next((k for k in run.structure.signals if k.endswith(".link_voltage")), "")
    if not key:
        return float("nan")
    trace = run.trace(key)
    return float(np.interp(time, trace.t, trace.y))

"""Torque over speed: the path a machine took in a run, and the most it can do at the link voltage and its
current limit."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from pendel.core.catalogue.declare import Curve, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.machines import flux
from pendel.core.catalogue.machines.optima import CurrentPlane
from pendel.core.drive.document import Drive, FluxTable
from pendel.core.runs.kept import KeptRun

SPEEDS = 61


def turning_machines(run: KeptRun, drive: Drive) -> list[str]:
    """Cards of a run that are machines with a shaft."""
    known = set(run.structure.signals)
    return [
        key
        for key, card in drive.cards.items()
        if card.face is None
        and kind_of(card).group == "machine"
        and {f"{key}.speed", f"{key}.torque"} <= known
    ]


def path(run: KeptRun, machine: str) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Time (s), speed (rad/s) and torque (N·m) of a machine over a run."""
    run.fetch([f"{machine}.speed", f"{machine}.torque"])
    speed, torque = run.trace(f"{machine}.speed"), run.trace(f"{machine}.torque")
    return speed.t, speed.y, np.interp(speed.t, torque.t, torque.y)


def most_torque(drive: Drive, values: dict[str, dict[str, float]], machine: str, link: float) -> Curve | None:
    """The envelope: torque at most over speed. A machine by tables takes the ``link`` voltage (V) of the run;
    other kinds that tell a curve over speed, such as an induction machine on its rated supply, give that.
    None where there is none."""
    card = drive.cards[machine]
    if card.kind == "pmsm_tables" and card.flux is not None and math.isfinite(link):
        speeds, torques = envelope_of_tables(card.flux, values[machine]["p"], values[machine]["I_max"], link)
        return Curve("Torque at most", "Speed", "rpm", "N·m", speeds, torques)
    kind = kind_of(card)
    if not isinstance(kind, Part) or kind.curve is None:
        return None
    curve = kind.curve(values[machine], card)
    return curve if curve is not None and curve.x_unit == "rpm" else None


@lru_cache(maxsize=16)
def envelope_of_tables(
    table: FluxTable, p: float, I_max: float, link: float
) -> tuple[np.ndarray, np.ndarray]:
    """Largest torque (N·m) over speed (rad/s) of a machine by tables; the resistance is left out."""
    plane = CurrentPlane(table, flux.fitted(table), p, I_max)
    top, d, q = plane.most()
    own = flux.fitted(table).fluxes(d, q)
    corner = link / math.sqrt(3.0) / math.hypot(float(own[0][0, 0]), float(own[1][0, 0])) / p
    speeds = np.linspace(0.0, 3.0 * corner, SPEEDS)
    torques = [top if w <= corner else plane.most(link / math.sqrt(3.0) / (p * w))[0] for w in speeds]
    return speeds, np.maximum(np.array(torques), 0.0)

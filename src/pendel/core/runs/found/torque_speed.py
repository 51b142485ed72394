"""Torque over speed: the path a machine took in a run, and the most it can do at the link voltage and its
current limit."""

from __future__ import annotations

import numpy as np

from pendel.core.catalogue.declare import Curve, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive
from pendel.core.runs.found.run_roles import cards_with, signals_of
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import SignalRole


def turning_machines(run: KeptRun, drive: Drive) -> list[str]:
    """Cards of a run that are machines with a shaft, and that the drive has."""
    return [
        card
        for card in cards_with(run, SignalRole.SPEED, SignalRole.TORQUE, SignalRole.COPPER_LOSS)
        if card in drive.cards
    ]


def path(run: KeptRun, machine: str) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Time (s), speed (rad/s) and torque (N·m) of a machine over a run."""
    names = [signals_of(run, machine, role)[0] for role in (SignalRole.SPEED, SignalRole.TORQUE)]
    run.fetch(names)
    speed, torque = map(run.trace, names)
    return speed.t, speed.y, np.interp(speed.t, torque.t, torque.y)


def most_torque(drive: Drive, values: dict[str, dict[str, float]], machine: str, link: float) -> Curve | None:
    """The envelope: torque at most over speed. A machine by tables takes the ``link`` voltage (V) of the run;
    other kinds that tell a curve over speed, such as an induction machine on its rated supply, give that.
    None where there is none."""
    card = drive.cards[machine]
    kind = kind_of(card)
    if not isinstance(kind, Part):
        return None
    if kind.most_torque is not None:
        return kind.most_torque(values[machine], card, link)
    if kind.curve is None:
        return None
    curve = kind.curve(values[machine], card)
    return curve if curve is not None and curve.x_unit == "rpm" else None

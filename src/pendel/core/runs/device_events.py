"""What the devices of a run went through: both switches of a leg on at once, and energy lost in switching."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from pendel.core.catalogue.declare import Leg, Part
from pendel.core.drive.document import Drive
from pendel.core.plant.model import evaluate_signals
from pendel.core.quantities.units import figure
from pendel.core.runs.kept import KeptRun, Remark


@dataclass(frozen=True)
class Overlap:
    """The worst time both switches of a leg conducted: when and for how long (s), peak current (A), energy (J)."""

    card: str
    leg: str
    count: int
    begins: float
    lasts: float
    peak: float
    energy: float

    def remark(self, name: str, dead_time: float) -> Remark:
        """What to say and to do; ``dead_time`` (s) is the present one. What it lacks is the overlap, and a tenth in hand."""
        leg = f"leg {self.leg}" if self.leg else "the leg"
        times = f", {self.count} times in all" if self.count > 1 else ""
        needed = figure(1.1 * (dead_time + self.lasts), "s", 2)
        return Remark(
            f"{name}: {leg} has both switches on for {figure(self.lasts, 's', 3)} at {figure(self.begins, 's', 4)}{times}, "
            f"peak {figure(self.peak, 'A', 3)}, {figure(self.energy, 'J', 2)}. A dead time of at least {needed} would prevent it.",
            self.card,
            self.begins,
            "t_dead",
            needed,
        )


def overlaps(run: KeptRun, drive: Drive, kind_of: Callable[[Any], Any]) -> list[Overlap]:
    """Every leg's worst overlap, if any."""
    legs = [(card, leg) for card, record in drive.cards.items() for leg in legs_of(kind_of(record))]
    found = [
        leg_overlap(run, card, leg)
        for card, leg in legs
        if f"{card}.{leg.gate_upper}" in run.structure.mode_keys
    ]
    return [o for o in found if o is not None]


def legs_of(kind: Any) -> tuple[Leg, ...]:
    return kind.legs if isinstance(kind, Part) else ()


def gate_column(run: KeptRun, key: str) -> np.ndarray:
    """A gate at every recorded row, as it holds from that row on."""
    return run.rows[:, run.rows.shape[1] - len(run.structure.mode_keys) + run.structure.mode_keys.index(key)]


def leg_overlap(run: KeptRun, card: str, leg: Leg) -> Overlap | None:
    t = run.rows[:, 0]
    both = (gate_column(run, f"{card}.{leg.gate_upper}") > 0.5) & (
        gate_column(run, f"{card}.{leg.gate_lower}") > 0.5
    )
    at = np.flatnonzero(both[:-1] & (np.diff(t) > 0))
    if not len(at):
        return None
    keys = [f"{card}.{leg.current_upper}", f"{card}.{leg.current_lower}", f"{card}.link_voltage"]
    upper, lower, link = evaluate_signals(run.structure, run.rows[at], run.parameters, keys).T
    through = np.minimum(upper, lower)
    energy = through * link * (t[at + 1] - t[at])
    # Rows that follow each other in time are one overlap.
    group = np.cumsum(np.concatenate([[0], (t[at[1:]] > t[at[:-1] + 1]).astype(int)]))
    total = np.bincount(group, energy)
    worst = np.flatnonzero(group == int(np.argmax(total)))
    begins, ends = float(t[at[worst[0]]]), float(t[at[worst[-1]] + 1])
    return Overlap(card, leg.name, int(group[-1]) + 1, begins, ends - begins, float(np.max(through[worst])), float(np.max(total)))  # fmt: skip


@dataclass(frozen=True)
class SwitchingEnergy:
    """Energy (J) of each switching of a card's devices, at the times (s)."""

    card: str
    times: np.ndarray
    energies: np.ndarray

    def between(self, start: float, end: float) -> float:
        return float(np.sum(self.energies[(self.times >= start) & (self.times < end)]))


def switching_energies(run: KeptRun, drive: Drive, values: dict[str, dict[str, float]], kind_of: Callable[[Any], Any]) -> list[SwitchingEnergy]:  # fmt: skip
    """Turn-on and turn-off energies, in proportion to the voltage and the current that is switched.

    E = E_ref·(u/U_ref)·(i/I_ref), the usual scaling of data-sheet energies (common practice, no source).
    """
    found = []
    for card, record in drive.cards.items():
        legs = [
            leg for leg in legs_of(kind_of(record)) if f"{card}.{leg.gate_upper}" in run.structure.mode_keys
        ]
        if legs and "E_on" in values.get(card, {}):
            parts = [leg_energies(run, card, leg, values[card]) for leg in legs]
            found.append(SwitchingEnergy(card, *(np.concatenate([p[k] for p in parts]) for k in (0, 1))))
    return found


def leg_energies(run: KeptRun, card: str, leg: Leg, v: dict[str, float]) -> tuple[np.ndarray, np.ndarray]:
    """Times and energies of a leg's switchings. A switch loses what it takes over or gives up of the load's current."""
    times, energies = [], []
    scale = 1.0 / (v["U_ref"] * v["I_ref"])
    keys = [f"{card}.{leg.current_upper}", f"{card}.{leg.current_lower}", f"{card}.link_voltage"]
    for gate, sign in ((leg.gate_upper, 1.0), (leg.gate_lower, -1.0)):
        step = np.diff(gate_column(run, f"{card}.{gate}"))
        for at, energy in (
            (np.flatnonzero(step > 0.5) + 1, v["E_on"]),
            (np.flatnonzero(step < -0.5) + 1, v["E_off"]),
        ):
            upper, lower, link = evaluate_signals(run.structure, run.rows[at], run.parameters, keys).T
            times.append(run.rows[at, 0])
            energies.append(energy * np.maximum(sign * (upper - lower), 0.0) * np.abs(link) * scale)
    return np.concatenate(times), np.concatenate(energies)


__all__ = ["Overlap", "SwitchingEnergy", "overlaps", "switching_energies"]

"""What the devices of a run went through: both switches of a leg on at once, and energy lost in switching."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from pendel.core.catalogue.declare import Kind, Leg, Part
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Remark
from pendel.core.plant.program import Structure
from pendel.core.plant.rows import evaluate_signals
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun, SwitchingLoss
from pendel.core.vocabulary import ENERGY_FACTOR, SignalRole, ValueRole, plainest

SIDES = ("upper", "lower")


class Rows(Protocol):
    """Rows of a run, whole or in part."""

    @property
    def rows(self) -> np.ndarray: ...
    @property
    def structure(self) -> Structure: ...
    @property
    def parameters(self) -> np.ndarray: ...


@dataclass(frozen=True)
class Overlap:
    """The worst time both switches of a leg conducted: when and for how long (s), peak current (A), energy
    (J)."""

    card: str
    leg: str
    count: int
    begins: float
    lasts: float
    peak: float
    energy: float

    def remark(self, name: str, value: str, dead_time: float) -> Remark:
        """What to say and to do; ``dead_time`` (s) is the present one, kept in ``value``. What it lacks is
        the overlap, and a
        tenth in hand."""
        leg = f"leg {self.leg}" if self.leg else "the leg"
        times = f", {self.count} times in all" if self.count > 1 else ""
        needed = figure(1.1 * (dead_time + self.lasts), "s", 2)
        return Remark(
            f"{name}: {leg} has both switches on for {figure(self.lasts, 's', 3)} at "
            f"{figure(self.begins, 's', 4)}{times}, "
            f"peak {figure(self.peak, 'A', 3)}, {figure(self.energy, 'J', 2)}. A dead time of at least "
            f"{needed} would prevent it.",
            self.card,
            self.begins,
            value,
            needed,
        )


def overlaps(run: KeptRun, kinds: Mapping[str, Kind]) -> list[Overlap]:
    """Every leg's worst overlap, if any."""
    parts = {card: kind for card, kind in kinds.items() if isinstance(kind, Part)}
    overlaps = [
        leg_overlap(run, card, leg, next(iter(kind.signal_names(SignalRole.LINK_VOLTAGE)), ""))
        for card, kind in parts.items()
        for leg in kind.legs
        if f"{card}.{leg.gate('upper')}" in run.structure.mode_keys
    ]
    return [o for o in overlaps if o is not None]


def gate_column(run: Rows, key: str) -> np.ndarray:
    """A gate at every recorded row, as it holds from that row on."""
    return run.rows[:, run.rows.shape[1] - len(run.structure.mode_keys) + run.structure.mode_keys.index(key)]


def leg_overlap(run: KeptRun, card: str, leg: Leg, link: str) -> Overlap | None:
    """``link`` is the signal of the card that tells the voltage across the leg."""
    t = run.rows[:, 0]
    gates = [gate_column(run, f"{card}.{leg.gate(side)}") > 0.5 for side in SIDES]
    both = gates[0] & gates[1]
    at = np.flatnonzero(both[:-1] & (np.diff(t) > 0))
    if not len(at):
        return None
    keys = [*(f"{card}.{leg.signal('current', side)}" for side in SIDES), f"{card}.{link}"]
    upper, lower, voltage = evaluate_signals(run.structure, run.rows[at], run.parameters, keys).T
    through = np.minimum(upper, lower)
    energy = through * voltage * (t[at + 1] - t[at])
    # Rows that follow each other in time are one overlap.
    group = np.cumsum(np.concatenate([[0], (t[at[1:]] > t[at[:-1] + 1]).astype(int)]))
    total = np.bincount(group, energy)
    worst = np.flatnonzero(group == int(np.argmax(total)))
    begins, ends = float(t[at[worst[0]]]), float(t[at[worst[-1]] + 1])
    return Overlap(
        card,
        leg.name,
        int(group[-1]) + 1,
        begins,
        ends - begins,
        float(np.max(through[worst])),
        float(np.max(total)),
    )


NUMBERS = (
    ValueRole.TURN_ON_ENERGY,
    ValueRole.TURN_OFF_ENERGY,
    ValueRole.RECOVERY_ENERGY,
    ValueRole.TRANSITION_TIME,
    ValueRole.REFERENCE_VOLTAGE,
    ValueRole.REFERENCE_CURRENT,
)
"""What a device that loses energy in switching tells, in the order of `SwitchingLoss`."""


def switching_losses(
    drive: Drive, kinds: Mapping[str, Kind], values: Mapping[str, Mapping[str, float]], modes: tuple[str, ...]
) -> list[SwitchingLoss]:
    """Devices of a drive that lose energy in switching, at the level of detail the run has."""
    losses = []
    for card, kind in kinds.items():
        names = [kind.value_name(role) for role in NUMBERS]
        if not isinstance(kind, Part) or not all(names):
            continue
        level = kind.level(drive.cards[card], drive.settings["level"])
        if len(kind.levels) > 1 and level == plainest():
            continue  # its averaged equations have the losses already
        for s in kind.all_switches:
            gate, current, voltage = (f"{card}.{n}" for n in (s.gate, s.current, s.voltage))
            if gate in modes:
                numbers = (values[card][n] for n in names)
                losses.append(SwitchingLoss(card, s.name, gate, current, voltage, s.partner, *numbers))
    return losses


def energies_of(
    run: Rows, devices: list[SwitchingLoss], evaluate: Callable[..., np.ndarray] = evaluate_signals
) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    """By key: times (s) and energies (J) of a device's switchings, in order. ``evaluate`` is `evaluate_signals`, or
    does the same elsewhere.

    What is switched is the voltage before and the current after turning on, the current before and the
    voltage after turning off. Energies scale with both, the usual reading of data sheets (common practice, no
    source); the transition adds ½·u·i·t: Mohan, Undeland, Robbins: Power Electronics, 3rd ed., section 2-5.
    The diode that gives way to a device that turns on loses its recovery energy.
    """
    energies: dict[str, list[tuple[np.ndarray, np.ndarray]]] = {d.key: [] for d in devices}
    by_name = {(d.card, d.name): d.key for d in devices}
    states = 1 + len(run.structure.state_keys)
    for d in devices:
        step = np.diff(gate_column(run, d.gate))
        for at, energy, turns_on in (
            (np.flatnonzero(step > 0.5) + 1, d.e_on, True),
            (np.flatnonzero(step < -0.5) + 1, d.e_off, False),
        ):
            after = run.rows[at]
            before = np.concatenate([after[:, :states], run.rows[at - 1][:, states:]], axis=1)
            factor = f"{d.gate}{ENERGY_FACTOR}"
            keys = [d.voltage, d.current, *([factor] if factor in run.structure.signals else [])]
            (u_0, i_0, *_), (u_1, i_1, *warmer) = (
                evaluate(run.structure, rows, run.parameters, keys).T for rows in (before, after)
            )
            power = np.maximum(u_0, 0) * np.maximum(i_1, 0) if turns_on else np.maximum(u_1, 0) * np.maximum(i_0, 0)
            scale = power / (d.u_ref * d.i_ref) * (warmer[0] if warmer else 1.0)
            energies[d.key].append((after[:, 0], energy * scale + 0.5 * power * d.transition))
            partner = by_name.get((d.card, d.partner))
            if turns_on and partner and d.e_rec > 0:
                energies[partner].append((after[:, 0], d.e_rec * scale))
    return {key: in_order(pieces) for key, pieces in energies.items()}


def in_order(pieces: list[tuple[np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    t, e = (np.concatenate([p[k] for p in pieces]) for k in (0, 1))
    order = np.argsort(t, kind="stable")
    return t[order], e[order]


__all__ = ["Overlap", "SwitchingLoss", "energies_of", "overlaps", "switching_losses"]

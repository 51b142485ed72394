"""A run as those see it who look for something in it: a drive's wires, the roles of its signals, and a choice
of its ticks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.drive.document import Drive, End
from pendel.core.vocabulary import Link, SignalRole

if TYPE_CHECKING:
    from pendel.core.catalogue.declare import Kind
    from pendel.core.runs.record.kept import KeptRun

MOST_TICKS = 200
LONGEST_CHAIN = 10
"""Blocks of one input between a sensor and who reads it."""


@dataclass(frozen=True)
class Seen:
    """``kinds``, ``values`` (SI) by card; ``sources`` gives the end that feeds an input ``card.port``;
    ``ticks`` are the numbers
    of up to `MOST_TICKS` ticks, evenly over what of the run is kept in full."""

    run: KeptRun
    drive: Drive
    kinds: Mapping[str, Kind]
    values: Mapping[str, Mapping[str, float]]
    sources: Mapping[str, End]
    ticks: np.ndarray

    def name(self, card: str) -> str:
        return self.drive.cards[card].name

    def source(self, card: str, port: str) -> End | None:
        return self.sources.get(f"{card}.{port}")

    def signals(self, card: str, role: SignalRole) -> list[str]:
        """Signals of a card, by their keys, that have a role and that the run has; in the order of their
        declaration."""
        known = {*self.run.structure.signals, *self.run.tick_signals}
        names = self.kinds[card].signal_names(role) if card in self.kinds else ()
        return [key for n in names if (key := f"{card}.{n}") in known]

    def has(self, card: str, *roles: SignalRole) -> bool:
        return all(self.signals(card, role) for role in roles)

    def at_ticks(self, keys: Sequence[str], ticks: np.ndarray) -> np.ndarray:
        """Signals of the control deck, shape (keys, ticks)."""
        return self.run.on_ticks(keys, ticks).T

    def of_plant(self, keys: Sequence[str], ticks: np.ndarray) -> np.ndarray:
        """Signals of parts at ticks, shape (keys, ticks)."""
        return self.run.on_rows(keys, self.run.rows_of(ticks)).T

    @property
    def three_phase_machines(self) -> list[str]:
        return [card for card in self.kinds if self.is_three_phase_machine(card)]

    def is_three_phase_machine(self, card: str) -> bool:
        phases = self.has(card, SignalRole.PHASE_CURRENT, SignalRole.PHASE_VOLTAGE)
        return phases and (self.has(card, SignalRole.ROTOR_ANGLE) or self.has(card, SignalRole.FIELD_ANGLE))

    def machine_measured(self, end: End | None) -> str:
        """The three-phase machine a signal comes from, through sensors and blocks of one input; empty where
        it is none."""
        for _ in range(LONGEST_CHAIN):
            if end is None:
                return ""
            if self.is_three_phase_machine(end.card):
                return end.card
            before = [b for a, b in self.sources.items() if a.startswith(f"{end.card}.")]
            if len(before) != 1:
                return ""
            end = before[0]
        return ""

    def machine_turning(self, sensor: str) -> str:
        """The machine with a rotor's angle of its own whose shaft angle a sensor measures by its only input;
        empty where none is."""
        ports = [p.name for p in self.kinds[sensor].ports if p.link is Link.SIGNAL_IN]
        end = self.source(sensor, ports[0]) if len(ports) == 1 else None
        if end is None or f"{end.card}.{end.port}" not in self.signals(end.card, SignalRole.SHAFT_ANGLE):
            return ""
        return end.card if self.has(end.card, SignalRole.ROTOR_ANGLE) else ""

    def rotor_angle(self, machine: str, ticks: np.ndarray) -> np.ndarray:
        """Electrical angle (rad) at ticks."""
        return np.asarray(self.of_plant(self.signals(machine, SignalRole.ROTOR_ANGLE), ticks)[0])


def some_ticks(run: KeptRun) -> np.ndarray:
    """Numbers of up to `MOST_TICKS` ticks, evenly over what of the run is kept in full."""
    first = int(np.ceil(run.thinned_until / run.tick))
    count = min(len(run.ticks) - first, MOST_TICKS)
    return np.linspace(first, len(run.ticks) - 1, max(0, count)).astype(int)

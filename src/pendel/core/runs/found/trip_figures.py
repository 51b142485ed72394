"""Figures of a trip: distance, fuel and energy for 100 km, also as if a store had its charge back."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.declare import Kind, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import Group, Link, SignalRole

KM_100, KWH = 1e5, 3.6e6
NEAR = 1.0
"""m. A trip that is shorter leads to no figure for 100 km."""


@dataclass(frozen=True)
class TripFigures:
    """Of a trip between two times. ``distance`` in m, ``duration`` in s, ``fuel`` in kg; ``from_store`` is what the
    cells of all stores gave more than they got (J); ``fuel_corrected`` (kg) is not-a-number where ``why_not`` says why.

    Corrected is the fuel that a trip takes which ends at the charge it began with: what the store gave would have come
    from the engine by the trip's own efficiency from fuel to shaft, and by that of the machines that generated, from
    shaft to link; the store's own losses are left out (Guzzella, Sciarretta: Vehicle Propulsion Systems, chapter on
    supervisory control, equivalence of fuel and charge; from memory)."""

    distance: float
    duration: float
    fuel: float
    from_store: float
    fuel_corrected: float
    why_not: str = ""

    @property
    def mean_speed(self) -> float:
        """m/s"""
        return self.distance / self.duration

    @property
    def fuel_for_100_km(self) -> float:
        """kg"""
        return self.fuel / self.distance * KM_100

    @property
    def corrected_for_100_km(self) -> float:
        """kg"""
        return self.fuel_corrected / self.distance * KM_100

    @property
    def energy_for_100_km(self) -> float:
        """Out of stores, J."""
        return self.from_store / self.distance * KM_100

    @property
    def words(self) -> str:
        """All that there is, in a line."""
        said = [
            f"{figure(self.distance / 1000, '', 4)} km in {figure(self.duration, 's', 4)}, "
            f"{figure(self.mean_speed, 'km/h', 3)} on average"
        ]
        if self.fuel:
            said.append(f"{self.fuel_for_100_km:.3g} kg fuel for 100 km")
        if self.fuel and math.isfinite(self.fuel_corrected):
            said.append(f"{self.corrected_for_100_km:.3g} kg at the charge it began with")
        elif self.fuel and self.why_not:
            said.append(self.why_not)
        if self.from_store:
            said.append(f"{self.energy_for_100_km / KWH:.3g} kWh for 100 km out of the store")
        return "; ".join(said) + "."


def trip_of(run: KeptRun, drive: Drive, energies: Mapping[str, float], begin: float, end: float) -> TripFigures | None:
    """Of a run between two times (s), with the energy (J) of each port, and what was supplied, lost and so on by card,
    as `flows.integrals` has them; None where nothing goes anywhere."""
    kinds: dict[str, Kind] = {}
    for key, card in drive.cards.items():
        try:
            kinds[key] = kind_of(card)
        except DriveProblem:
            continue

    def change(role: SignalRole) -> float | None:
        """By how much signals of a role grew, in all; none where there is none."""
        signals = [f"{key}.{name}" for key, kind in kinds.items() for name in names(kind, role)]
        signals = [name for name in signals if name in run.keys]
        grown = [float(np.diff(run.trace(name).at(np.array([begin, end])))[0]) for name in signals]
        return sum(grown) if grown else None

    distance = change(SignalRole.DISTANCE)
    if distance is None or abs(distance) < NEAR:
        return None
    fuel = change(SignalRole.FUEL) or 0.0
    stores = [key for key, kind in kinds.items() if names(kind, SignalRole.CHARGE)]
    given = sum(energies.get(f"supplied:{k}", 0.0) - energies.get(f"delivered:{k}", 0.0) for k in stores)
    corrected, why = _corrected(kinds, energies, fuel, given)
    return TripFigures(abs(distance), end - begin, fuel, given, corrected, why)


def names(kind: Kind, role: SignalRole) -> tuple[str, ...]:
    """Signals of a part that have a role."""
    return kind.signal_names(role) if isinstance(kind, Part) else ()


def _corrected(
    kinds: Mapping[str, Kind], energies: Mapping[str, float], fuel: float, given: float
) -> tuple[float, str]:
    """The fuel of a trip that ends as it began, and why it cannot be told."""
    engines = [key for key, kind in kinds.items() if names(kind, SignalRole.FUEL)]
    burnt = sum(energies.get(f"supplied:{key}", 0.0) for key in engines)
    if not given or not engines:
        return (fuel, "")
    work = -sum(_at(kinds[key], key, energies, moving=True) for key in engines)
    into = out = 0.0
    for key, kind in kinds.items():
        if kind.group == Group.MACHINE and key not in engines:
            shaft, link = (_at(kind, key, energies, moving=moving) for moving in (True, False))
            if shaft > 0 > link:
                into, out = into + shaft, out - link
    if burnt <= 0 or work <= 0:
        return math.nan, "at the charge it began with it cannot be told: the engine gave nothing"
    if out <= 0:
        return math.nan, "at the charge it began with it cannot be told: no machine generated"
    return fuel * (1 + given / (work / burnt * out / into) / burnt), ""


def _at(kind: Kind, key: str, energies: Mapping[str, float], *, moving: bool) -> float:
    """Energy (J) into a part at its shafts, or at its electrical ports."""
    ports = (p for p in kind.ports if (p.link.moves if moving else p.link.is_electrical) and p.link is not Link.HEAT)
    return sum(energies.get(f"port:{key}.{p.name}", 0.0) for p in ports)

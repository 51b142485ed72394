"""Where energy went from part to part in a run: what flowed through every wire between two times.

A part's power at a port is the sum of across times through over its lines. Ports that one wire joins hand on what comes
in; where several give and several take, each takes from all in proportion. Parts that single lines join are one node:
potentials, and with them the power of one line, mean something only together."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Generic, TypeVar

import numpy as np

from pendel.core.catalogue.index import kind_of
from pendel.core.drive.file import from_text
from pendel.core.drive.nesting import full_name
from pendel.core.equations.flatten import parts_of, stated_network
from pendel.core.errors import DriveProblem
from pendel.core.last_few import LastFew
from pendel.core.plant.model import PlantModel
from pendel.core.plant.program import BALANCE, FLOWS, Structure
from pendel.core.plant.rows import evaluate_signals
from pendel.core.quantities.units import figure
from pendel.core.runs.found.trip_figures import TripFigures, trip_of
from pendel.core.runs.preparing.simulate import Prepared, prepare_run
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.measures import Pieces
from pendel.core.vocabulary import Link

PORT = "port:"
SMALL = 1e-9
"""Of the largest energy: what is below is none."""

ORDERED = LastFew[tuple[str, tuple[str, ...]], Structure](4)
"""Equations with the power at each port, by the equations of a run and its signals: ordering them takes longest."""
PortName = tuple[str, str]
Item = TypeVar("Item")


@dataclass(frozen=True)
class NodeEnergy:
    """Energies (J) of a part, or of parts that single lines join: what ``came`` from others and ``went`` to them, was
    ``supplied`` from outside, ``delivered`` there and ``lost`` as heat, and by how much more is ``stored``."""

    key: str
    title: str
    cards: tuple[str, ...]
    came: float
    went: float
    supplied: float
    delivered: float
    lost: float
    stored: float

    @property
    def open(self) -> float:
        """What the run errs by (J)."""
        return self.came + self.supplied - self.went - self.delivered - self.lost - self.stored

    @property
    def through(self) -> float:
        """The largest of what comes in and what goes out (J)."""
        ways = (self.supplied, -self.delivered, -self.lost, -self.stored)
        return max(self.came + sum(x for x in ways if x > 0), self.went - sum(x for x in ways if x < 0))


@dataclass(frozen=True)
class Flow:
    """Energy (J, above zero) from one node to another, by their keys."""

    source: str
    target: str
    energy: float


@dataclass(frozen=True)
class SignalRange:
    """What a signal of a card went through: least, mean and most, in SI, and the unit it is declared in."""

    key: str
    card: str
    label: str
    unit: str
    least: float
    mean: float
    most: float


@dataclass(frozen=True)
class EnergyFlows:
    """Between two times (s)."""

    begin: float
    end: float
    nodes: tuple[NodeEnergy, ...]
    flows: tuple[Flow, ...]
    trip: TripFigures | None = None
    """Where something travels."""
    signals: tuple[SignalRange, ...] = ()
    """Of all parts, card by card."""


def flows_of(run: KeptRun, begin: float, end: float) -> EnergyFlows:
    """Energy flows of a run between two times (s), as far as it goes.

    Raises
    ------
    DriveProblem
        where the run ends before, or its record no longer holds all steps there.
    """
    begin, end = max(begin, run.begin), min(end, run.end)
    if not end > begin:
        raise DriveProblem(f"The run goes from {figure(run.begin, 's')} to {figure(run.end, 's')}. Choose times in it.")
    if run.thinned_until > begin:
        raise DriveProblem(
            f"The record was long, so until {figure(run.thinned_until, 's', 4)} it keeps few points. Begin there, or "
            "run a shorter time."
        )
    prepared = prepare_run(from_text(run.drive_text))
    same = (run.structure.source, run.structure.signals)
    structure = ORDERED.get(same) or ORDERED.keep(same, flow_structure(prepared))
    if structure.state_keys != run.structure.state_keys or structure.mode_keys != run.structure.mode_keys:
        raise DriveProblem("The run was made by another version of Pendel. Run again.")
    energies = integrals(run, structure, begin, end)
    found = gathered(prepared, energies, begin, end)
    trip = trip_of(run, prepared.drive, energies, begin, end)
    return replace(found, trip=trip, signals=ranges_of(run, begin, end))


def ranges_of(run: KeptRun, begin: float, end: float) -> tuple[SignalRange, ...]:
    """Of each signal of a part, over all steps between two times (s)."""
    keys = [key for key in run.infos if key in run.structure.signals]
    fine, middle = (
        evaluate_signals(run.structure, rows, run.parameters, keys) for rows in (run.expanded, run.half_way)
    )
    times, found = run.times, list[SignalRange]()
    inside, half = (times >= begin) & (times <= end), 0.5 * (times[1:] + times[:-1])
    between = (half >= begin) & (half <= end)
    for n, key in enumerate(keys):
        y, y_half = np.ascontiguousarray(fine[:, n]), np.ascontiguousarray(middle[:, n])
        ends = np.interp([begin, end], times, y)
        each = np.concatenate([ends, y[inside], y_half[between[: len(y_half)]]])
        mean = Pieces(times, y, y_half).integral(begin, end) / (end - begin)
        info = run.infos[key]
        found.append(SignalRange(key, info.card, info.label, info.unit, float(each.min()), mean, float(each.max())))
    return tuple(found)


def flow_structure(prepared: Prepared) -> Structure:
    """The drive's equations with the power at each port as signals."""
    parts = parts_of(prepared.drive, kind_of)
    network, _ = stated_network(prepared.skeleton, prepared.numbers, parts)
    heat = {(key, p.name) for key, part in parts.items() for p in part.ports if p.link is Link.HEAT}
    network.signals = {
        f"{PORT}{card}.{port}": sum((pin.across * pin.through for pin in pins[1:]), pins[0].across * pins[0].through)
        for (card, port), pins in network.ports.items()
        if (card, port) not in heat and pins
    }
    return PlantModel(network, ()).structure


def integrals(run: KeptRun, structure: Structure, begin: float, end: float) -> dict[str, float]:
    """Energy (J) of each signal: powers over time, and what is stored more at the end."""
    run.refine()
    keys = list(structure.signals)
    fine, middle = (evaluate_signals(structure, rows, run.parameters, keys) for rows in (run.expanded, run.half_way))
    times, found = run.times, dict[str, float]()
    for n, key in enumerate(keys):
        y = np.ascontiguousarray(fine[:, n])
        if key.partition(":")[0] == "stored":
            found[key] = float(np.diff(np.interp([begin, end], times, y))[0])
        else:
            found[key] = Pieces(times, y, np.ascontiguousarray(middle[:, n])).integral(begin, end)
    return found


class Joined(Generic[Item]):
    """Things that are one, by their first."""

    def __init__(self) -> None:
        self._of: dict[Item, Item] = {}

    def first(self, item: Item) -> Item:
        while (above := self._of.setdefault(item, item)) != item:
            item = above
        return item

    def join(self, a: Item, b: Item) -> None:
        self._of[self.first(b)] = self.first(a)


def gathered(prepared: Prepared, energies: dict[str, float], begin: float, end: float) -> EnergyFlows:
    """Nodes and flows from the energy at each port."""
    drive, ports = prepared.drive, prepared.skeleton.ports
    kinds = {card: kind_of(drive.cards[card]) for card, _ in ports}
    link = {name: port.link for name in ports if (port := kinds[name[0]].port(name[1])) is not None}
    wires, nodes = Joined[PortName](), Joined[str]()
    for card, _ in ports:
        nodes.first(card)
    for (card_a, port_a, _), (card_b, port_b, _) in prepared.skeleton.joins:
        if link.get((card_a, port_a)) is Link.HEAT:
            continue
        wires.join((card_a, port_a), (card_b, port_b))
        if Link.LINE in (link.get((card_a, port_a)), link.get((card_b, port_b))):
            nodes.join(card_a, card_b)
    came: dict[str, float] = {}
    went: dict[str, float] = {}
    flows: dict[tuple[str, str], float] = {}
    nets: dict[PortName, dict[str, float]] = {}
    for name in ports:
        if f"{PORT}{name[0]}.{name[1]}" in energies:
            net, node = nets.setdefault(wires.first(name), {}), nodes.first(name[0])
            net[node] = net.get(node, 0.0) + energies[f"{PORT}{name[0]}.{name[1]}"]
    for net in nets.values():
        takers = {node: energy for node, energy in net.items() if energy > 0}
        givers = {node: -energy for node, energy in net.items() if energy < 0}
        whole = sum(givers.values())
        for node, energy in takers.items():
            came[node] = came.get(node, 0.0) + energy
            for giver, given in givers.items():
                flows[giver, node] = flows.get((giver, node), 0.0) + energy * given / whole
        for node, energy in givers.items():
            went[node] = went.get(node, 0.0) + energy
    found = []
    for node in dict.fromkeys(nodes.first(card) for card, _ in ports):
        cards = tuple(dict.fromkeys(card for card, _ in ports if nodes.first(card) == node))
        sums = {kind: total(energies, kind, cards) for kind in BALANCE}
        found.append(
            NodeEnergy(
                node,
                title_of([full_name(drive, card) for card in cards]),
                cards,
                came.get(node, 0.0),
                went.get(node, 0.0),
                *(sums[kind] for kind in ("supplied", "delivered", "lost", "stored")),
            )
        )
    largest = max((node.through for node in found), default=0.0)
    shown = tuple(node for node in found if node.through > SMALL * largest)
    kept = tuple(Flow(a, b, e) for (a, b), e in netted(flows).items() if e > SMALL * largest)
    return EnergyFlows(begin, end, shown, kept)


def total(energies: dict[str, float], kind: str, cards: Iterable[str]) -> float:
    assert kind in (*FLOWS, "stored")
    return sum(energies.get(f"{kind}:{card}", 0.0) for card in cards)


def netted(flows: dict[tuple[str, str], float]) -> dict[tuple[str, str], float]:
    """Of two nodes that give to each other, what is left one way."""
    left = {}
    for (a, b), energy in flows.items():
        back = flows.get((b, a), 0.0)
        if energy > back:
            left[a, b] = energy - back
    return left


def title_of(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"

"""What is usually wired to what: read from the drives that goals make and from the examples."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from pendel.core.catalogue.declare import Block, Kind, Part
from pendel.core.catalogue.goals.goal import made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.catalogue.index import kind_of
from pendel.core.drive import file
from pendel.core.drive.document import Drive, End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.errors import DriveProblem
from pendel.core.vocabulary import Group

Place = tuple[str, str]
"""What a card is, and its port or signal: of a block its kind, of a part its group, as machines are wired alike."""


@dataclass(frozen=True)
class Through:
    """A sensor between a part's signal and a block's input."""

    kind: str
    into: str
    out: str


@dataclass
class Habits:
    """``direct`` counts wires by their places, both ways round where they carry power; ``through`` the sensors between
    a signal and an input; ``partners`` the kinds at the other end of a place, which may be one of a single kind."""

    direct: Counter[tuple[Place, Place]] = field(default_factory=Counter)
    through: dict[tuple[Place, Place], Counter[Through]] = field(default_factory=lambda: defaultdict(Counter))
    partners: dict[Place, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))


def place_of(kind: Kind, port: str) -> Place:
    return (kind.id if isinstance(kind, Block) else f"group {kind.group}", port)


@lru_cache(maxsize=1)
def habits() -> Habits:
    """Of all drives that come along; some 70 ms, once."""
    found = Habits()
    for drive in drives():
        _learn(found, drive)
    return found


def drives() -> Iterator[Drive]:
    for goal in GOALS.values():
        for options in goal.ways():
            yield made(goal, {}, options)
    for path in sorted(EXAMPLES.glob("*.pendel")):
        yield file.load(path)


def _learn(found: Habits, drive: Drive) -> None:
    kinds: dict[str, Kind] = {}
    for key, card in drive.cards.items():
        try:
            kinds[key] = kind_of(card)
        except DriveProblem:
            continue
    into: dict[str, list[End]] = defaultdict(list)
    for wire in drive.wires.values():
        if wire.a.card not in kinds or wire.b.card not in kinds:
            continue
        a, b = kinds[wire.a.card], kinds[wire.b.card]
        one, other = place_of(a, wire.a.port), place_of(b, wire.b.port)
        found.direct[(one, other)] += 1
        port = a.port(wire.a.port)
        if port is not None and not port.link.is_signal:
            found.direct[(other, one)] += 1
        for this, that, port_name in ((a, b, wire.a.port), (b, a, wire.b.port)):
            for place in (place_of(this, port_name), (this.id, port_name)):
                found.partners[place][that.id] += 1
        if isinstance(b, Block) and b.group == Group.SENSOR:
            into[wire.b.card].append(wire.a)
    for wire in drive.wires.values():
        for source in into.get(wire.a.card, ()):
            sensor, reader = kinds[wire.a.card], kinds.get(wire.b.card)
            if isinstance(kinds[source.card], Part) and isinstance(reader, Block):
                measured = next(w.b.port for w in drive.wires.values() if w.a == source and w.b.card == wire.a.card)
                ends = (place_of(kinds[source.card], source.port), place_of(reader, wire.b.port))
                found.through[ends][Through(sensor.id, measured, wire.a.port)] += 1


__all__ = ["Habits", "Place", "Through", "drives", "habits", "place_of"]

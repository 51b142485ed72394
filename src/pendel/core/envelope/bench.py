"""The part of a drive that a trip sees as one: a machine, what feeds and regulates it, on a test bench.

Behind the machine's shaft comes a bench that holds its speed, in place of all mechanics; where its torque is asked for
comes a constant. Blocks that then act on no part that is left go too."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pendel.core.catalogue.card_names import with_values_of_missing
from pendel.core.catalogue.declare import Block, Kind
from pendel.core.catalogue.heat.bodies import AMBIENT
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.mechanics.loads import IMPOSED_SPEED
from pendel.core.catalogue.systems import envelope
from pendel.core.drive import commands
from pendel.core.drive.document import BESIDE_TABLES, Drive, End
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem
from pendel.core.quantities.units import si_unit, unit
from pendel.core.system.fold import SUPPLIES, acting_blocks
from pendel.core.vocabulary import Group, Link, SignalRole, plainest
from pendel.core.vocabulary.levels import SYSTEM

MECHANICAL = (Link.SHAFT, Link.ROD)
ASKED_VALUE = "value"
"""Of the constant that asks."""
LASTS = "1000000 s"
"""Of the bench's profile, beyond any run."""


@dataclass(frozen=True)
class Bench:
    """``drive`` has only what is looked at, ``asked`` a constant that asks for the torque, in the ``unit`` in which
    that is done there (A in a drive that asks for a current), ``holder`` what holds the speed. ``sources`` are cards
    whose losses are not of the part."""

    drive: Drive
    machine: str
    asked: str
    unit: str
    holder: str
    sources: frozenset[str]

    def at(self, speed: float, asked: float) -> Drive:
        """The bench at a speed (rad/s) and what is asked for (SI)."""
        made = self.drive.copy()
        commands.set_value(made, self.asked, ASKED_VALUE, f"{asked!r} {si_unit(unit(self.unit)[1])}".strip()).apply(
            made
        )
        corners = [("0 s", f"{speed!r} rad/s"), (LASTS, f"{speed!r} rad/s")]
        commands.set_profile(made, self.holder, corners).apply(made)
        return made


def machines(drive: Drive) -> list[str]:
    """Cards with a shaft that have signals of its speed and torque, and take electrical power."""
    found = []
    for key, card in drive.cards.items():
        kind = kind_of(card)
        roles = (
            all(kind.signal_names(role) for role in (SignalRole.SPEED, SignalRole.TORQUE)) if _is_part(kind) else False
        )
        links = {port.link for port in kind.ports}
        if roles and Link.SHAFT in links and kind.group == Group.MACHINE and links - {*MECHANICAL, Link.HEAT}:
            found.append(key)
    return found


def torque_ends(drive: Drive) -> list[End]:
    """Outputs of blocks that may be where a torque is asked for: those in N·m first, then currents, then others."""
    from pendel.core.check.signal_units import SignalUnits

    units = SignalUnits(drive)
    ends = dict.fromkeys(w.a for w in drive.wires.values() if isinstance(kind_of(drive.cards[w.a.card]), Block))
    return sorted(ends, key=lambda end: {"N·m": 0, "A": 1}.get(units.of(end), 2))


def bench_of(drive: Drive, machine: str, torque: str) -> Bench:
    """Cut a machine out of a drive. ``torque`` is the output of a block, ``card.port``, that asks for its torque.

    Raises
    ------
    DriveProblem
        where one of them is not there, or a block that is needed reads what lies behind the shaft.
    """
    if machine not in machines(drive):
        known = machines(drive)
        raise DriveProblem(f"“{machine}” is no machine with a shaft.{near_words(machine, known)}")
    end = End.parse(torque)
    readers = [(key, wire) for key, wire in drive.wires.items() if wire.a == end]
    if end.card not in drive.cards or not readers:
        known = [str(each) for each in torque_ends(drive)]
        raise DriveProblem(f"Nothing reads “{torque}” as the torque that is asked.{near_words(torque, known)}")
    made = drive.copy()
    if made.settings["level"] == SYSTEM:  # there it would be put together from what is to be found
        made.settings["level"] = plainest()
    for table in (*BESIDE_TABLES, "taps"):
        made.table(table).clear()
    made.cards.update({key: replace(card, envelope={}) for key, card in made.cards.items() if card.envelope})
    asked = _added(made, envelope.ASKED, "Asked on the bench")
    for key, wire in readers:
        commands.remove_wires(made, [key]).apply(made)
        commands.add_wire(made, End(asked, "out"), wire.b).apply(made)
    shaft = next(p.name for p in kind_of(drive.cards[machine]).ports if p.link is Link.SHAFT)
    gone = _behind(drive, machine)
    needed = acting_blocks(made, gone) - {asked}
    blocks = {key for key, card in made.cards.items() if isinstance(kind_of(card), Block)}
    _refuse_readers(drive, made, needed, gone)
    commands.remove_cards(made, [*gone, *(key for key in blocks if key not in needed and key != asked)]).apply(made)
    holder = _added(made, IMPOSED_SPEED.id, "Bench of the map")
    commands.add_wire(made, End(machine, shaft), End(holder, IMPOSED_SPEED.ports[0].name)).apply(made)
    made.cards[machine] = replace(made.cards[machine], starts={})
    with_values_of_missing(made, drive)
    sources = frozenset(key for key, card in made.cards.items() if kind_of(card).group in SUPPLIES)
    return Bench(made, machine, asked, unit_asked(drive, torque), holder, sources)


def held_at(bench: Bench, temperature: float) -> Bench:
    """The same with all that can give heat away held at a temperature (°C), in place of bodies that it would warm."""
    made = bench.drive.copy()
    bodies = [key for key, card in made.cards.items() if kind_of(card).group == Group.HEAT]
    if bodies:
        commands.remove_cards(made, bodies).apply(made)
    ports = [
        End(key, port.name)
        for key, card in made.cards.items()
        for port in kind_of(card).ports
        if port.link is Link.HEAT
    ]
    if not ports:
        raise DriveProblem(
            f"Nothing of {made.cards[bench.machine].name} and what feeds it has a heat port, so its losses are the "
            "same at any temperature."
        )
    held = _added(made, AMBIENT.id, "Temperature of the map")
    commands.set_value(made, held, AMBIENT.values[0].name, f"{temperature!r} °C").apply(made)
    for port in ports:
        commands.add_wire(made, port, End(held, AMBIENT.ports[0].name)).apply(made)
    return replace(bench, drive=made)


def unit_asked(drive: Drive, torque: str) -> str:
    """The unit in which an output asks for torque; N·m where nothing says."""
    from pendel.core.check.signal_units import SignalUnits

    return SignalUnits(drive).of(End.parse(torque)) or "N·m"


def _is_part(kind: Kind) -> bool:
    return hasattr(kind, "signal_names") and not isinstance(kind, Block)


def _added(drive: Drive, kind: str, name: str) -> str:
    before = set(drive.cards)
    commands.add_card(drive, kind, name).apply(drive)
    return next(key for key in drive.cards if key not in before)


def _behind(drive: Drive, machine: str) -> list[str]:
    """Cards that mechanical wires join with the machine's shaft, and what only these give heat to."""
    found = [machine]
    for card in found:
        for wire in drive.wires.values():
            for here, there in ((wire.a, wire.b), (wire.b, wire.a)):
                port = kind_of(drive.cards[here.card]).port(here.port)
                body = kind_of(drive.cards[there.card]).group == Group.HEAT  # a fan on the shaft cools the machine
                moves = port is not None and port.link in MECHANICAL
                if here.card == card and moves and not body and there.card not in found:
                    found.append(there.card)
    return found[1:]


def _refuse_readers(drive: Drive, made: Drive, needed: set[str], gone: list[str]) -> None:
    for wire in made.wires.values():
        if wire.b.card in needed and wire.a.card in gone:
            raise DriveProblem(
                f"{drive.cards[wire.b.card].name} reads {wire.a} and is needed to drive the machine, but that lies "
                "behind its shaft, where the bench will be. Let it read the machine's own speed or angle."
            )

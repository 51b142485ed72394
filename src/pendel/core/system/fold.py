"""A drive at the level *system*: each machine that carries an envelope is one card, with its rotor, in place of the
machine, what feeds it up to the DC link, and the blocks that then act on nothing. All else stays."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace

from pendel.core.catalogue.card_names import names_of, with_values_of_missing
from pendel.core.catalogue.control.arithmetic import GAIN
from pendel.core.catalogue.declare import Block, Kind
from pendel.core.catalogue.index import ASSEMBLY, kind_of
from pendel.core.catalogue.systems.folded_machine import KIND as FOLDED
from pendel.core.drive.commands import Command, card_of, changed
from pendel.core.drive.document import BESIDE_TABLES, Card, Drive, End, Wire
from pendel.core.drive.findings import Finding, fault
from pendel.core.errors import DriveHasFindings, DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.vocabulary import Group, Link, SignalRole, plainest
from pendel.core.vocabulary.levels import SYSTEM

TORQUE, PER, DIGEST, LEVEL = "torque", "per", "digest", "level"
"""Of `Card.envelope`, besides values by their names: the output that asks for torque, ``card.port``; the torque for one
of what it gives; a hash of what the envelope was made of; and the level of detail at which that was."""
ROW, MOST_LIMITS = ("n", "M", "B"), 60
"""Of its limits, each with a number behind: a speed, and what drives and brakes there at most."""
SUPPLIES = (Group.SUPPLY, "supply")
INERTIA = "J_m"
"""The value that machines and what stands for them have in common."""
SAME = (SignalRole.SPEED, SignalRole.SHAFT_ANGLE, SignalRole.TORQUE)
"""Signals of a machine that what stands for it has, too."""


def at_level(drive: Drive) -> Drive:
    """The drive itself; at the level *system* a copy in which its envelopes stand for what they were made of.

    Raises
    ------
    DriveHasFindings
        where no machine carries one, or one cannot stand for its machine.
    """
    if drive.settings["level"] != SYSTEM:
        return drive
    carrying = carriers(drive)
    if not carrying:
        raise DriveHasFindings([nothing_to_fold()])
    made = drive.copy()
    made.settings["level"] = plainest()
    for key in carrying:
        try:
            _fold(made, drive, key)
        except DriveProblem as problem:
            raise DriveHasFindings([fault(str(problem), key, "envelope")]) from problem
    with_values_of_missing(made, drive)
    return made


def carriers(drive: Drive) -> list[str]:
    """Machines that carry an envelope."""
    return [key for key, card in drive.cards.items() if card.envelope]


def without_envelope(drive: Drive, machine: str) -> Command:
    """Have a machine carry none any more."""
    card = card_of(drive, machine)
    after = changed(drive, "cards", machine, replace(card, envelope={}))
    return Command(f"Remove envelope of {card.name}", (after,))


def nothing_to_fold() -> Finding:
    return fault(
        "At the level system a machine stands with its converter and inner loops as an envelope, and no machine here "
        "carries one. Make one (Run, Make envelope …), or choose another level.",
        field="level",
    )


@dataclass(frozen=True)
class Cut:
    """``gone`` are the machine, what feeds it, and what only these heat; ``links`` wires of the DC link, by their key,
    with the end that goes."""

    gone: frozenset[str]
    links: Mapping[str, End]


def _fold(made: Drive, drive: Drive, machine: str) -> None:
    """Raises `DriveProblem`."""
    card = drive.cards[machine]
    asked = _asked(drive, card)
    cut = cut_of(drive, machine)
    gone = cut.gone | heated_by(drive, cut.gone)
    wires = [w for w in made.wires.values() if not {w.a.card, w.b.card} & gone]
    links = set(cut.links.values())
    to_link = [(w, end) for key in gone for w, end in _ends(made, key) if end in links and not _within(w, gone)]
    wires += [_moved(w, end, End(machine, "dc")) for w, end in to_link]
    shaft = next((p.name for p in kind_of(card).ports if p.link is Link.SHAFT), "")
    behind = [(w, end) for w, end in _ends(made, machine) if end.port == shaft]
    wires += [_moved(w, end, End(machine, "shaft")) for w, end in behind]
    feeding = End(asked.card, asked.port)
    made.cards[machine] = _standing(drive, machine)
    per = card.envelope.get(PER, "")
    if per and per != "1":
        name = made.free_name(f"{card.name} torque")
        scale = made.free_id(name)
        made.cards[scale] = Card(GAIN, name, values={"K": per})
        wires.append(Wire(feeding, End(scale, "x")))
        feeding = End(scale, "out")
    wires.append(Wire(feeding, End(machine, "torque")))
    made.wires = {w.key: w for w in wires}
    for key in gone - {machine}:
        del made.cards[key]
    _without_idle_blocks(made, drive, machine, gone)
    _leave_out_what_is_not_there(made, machine)


def _asked(drive: Drive, card: Card) -> End:
    end = End.parse(card.envelope.get(TORQUE, "none.none"))
    if end.card not in drive.cards or kind_of(drive.cards[end.card]).port(end.port) is None:
        raise DriveProblem(
            f"The torque of {card.name} was asked for at {end}, which is not there any more. Recreate its envelope."
        )
    return end


def cut_of(drive: Drive, machine: str) -> Cut:
    """What feeds a machine: all that its electrical wires lead to, up to where a block decides.

    Raises
    ------
    DriveProblem
        where that comes to no DC link, or to two.
    """
    name = drive.cards[machine].name
    gone, inner = [machine], {machine}
    sources: dict[str, set[str]] = {}
    for key in gone:
        if key not in inner:
            continue
        for wire, here in _ends(drive, key):
            port = kind_of(drive.cards[key]).port(here.port)
            there = wire.b if wire.a == here else wire.a
            if port is None or not port.link.is_electrical or there.card in inner:
                continue
            kind = kind_of(drive.cards[there.card])
            if kind.group in SUPPLIES:
                raise DriveProblem(
                    f"{name} is fed by {drive.cards[there.card].name} with nothing between that a block decides on, so "
                    "an envelope cannot stand for both."
                )
            if any(p.link is Link.SIGNAL_IN for p in kind.ports):
                sources.setdefault(there.card, set()).add(there.port)
            else:
                inner.add(there.card)
            if there.card not in gone:
                gone.append(there.card)
    links: dict[str, End] = {}
    for key, entered in sources.items():
        for wire, here in _ends(drive, key):
            port = kind_of(drive.cards[key]).port(here.port)
            there = wire.b if wire.a == here else wire.a
            if port is None or not port.link.is_electrical or here.port in entered or there.card in gone:
                continue
            if port.link is not Link.DC:
                raise DriveProblem(
                    f"{drive.cards[key].name} is not fed by a DC link alone, so the envelope of {name} cannot stand "
                    f"for it: {port.label} is wired, too."
                )
            links[wire.key] = here
    if not links or not sources:
        raise DriveProblem(f"{name} is not fed from a DC link by a converter, so its envelope has nowhere to stand.")
    if not set(links.values()) <= _net(drive, next(iter(links.values()))):
        raise DriveProblem(f"{name} is fed from two DC links, and its envelope stands at one. Choose another level.")
    return Cut(frozenset(gone), links)


def heated_by(drive: Drive, gone: frozenset[str]) -> frozenset[str]:
    """What only the cards that go give heat to: an envelope tells one loss, and not where it comes from."""
    found: list[str] = []
    for key in [*gone]:
        found += _heat_neighbours(drive, key, {*gone, *found})
    for key in found:
        found += _heat_neighbours(drive, key, {*gone, *found})
    giving = [key for key in found if is_giving(kind_of(drive.cards[key]))]
    return frozenset() if giving else frozenset(found)


def is_giving(kind: Kind) -> bool:
    """Whether heat may come from it, other than that it was given."""
    return kind.group != Group.HEAT and any(p.link.is_electrical or p.link.moves for p in kind.ports)


def _heat_neighbours(drive: Drive, key: str, known: set[str]) -> list[str]:
    around = []
    for wire, here in _ends(drive, key):
        port = kind_of(drive.cards[key]).port(here.port)
        there = (wire.b if wire.a == here else wire.a).card
        if port is not None and port.link is Link.HEAT and there not in known and there not in around:
            around.append(there)
    return around


def _net(drive: Drive, end: End) -> set[End]:
    """Ends that wires join with one."""
    found = {end}
    while True:
        more = {each for w in drive.wires.values() if {w.a, w.b} & found for each in _both(w)}
        if more <= found:
            return found
        found |= more


def _standing(drive: Drive, machine: str) -> Card:
    card, names = drive.cards[machine], names_of(drive)
    value = kind_of(card).value(INERTIA)
    if value is None or not any(p.link is Link.SHAFT for p in kind_of(card).ports):
        raise DriveProblem(f"{card.name} has no rotor inertia {INERTIA}, so its envelope cannot stand for it.")
    try:
        inertia = value_in_field(card.values.get(INERTIA, value.default), value.unit, names)
    except ExpressionProblem as problem:
        raise DriveProblem(f"Rotor inertia of {card.name}: {problem}") from problem
    known = {v.name for v in FOLDED.values}
    values = {name: text for name, text in card.envelope.items() if name in known} | {INERTIA: f"{inertia!r} kg*m^2"}
    count = next(k for k in range(MOST_LIMITS + 1) if f"{ROW[0]}_{k}" not in card.envelope or k == MOST_LIMITS)
    rows = tuple(tuple(card.envelope.get(f"{name}_{k}", "") for name in ROW) for k in range(count))
    starts = {s.name: card.starts[s.name] for s in FOLDED.states if s.name in card.starts}
    return Card(FOLDED.id, card.name, card.x, card.y, values, starts=starts, rows=rows)


def _without_idle_blocks(made: Drive, drive: Drive, machine: str, gone: frozenset[str]) -> None:
    """Take out blocks that acted on what went, or read it, and act on nothing that is left. Raises `DriveProblem`."""
    acting, before = acting_blocks(made), acting_blocks(drive)
    kind = kind_of(drive.cards[machine])
    same = {name: role for role in SAME for name in kind.signal_names(role)} if hasattr(kind, "signal_names") else {}
    idle = {key for key in _blocks(made) if key in before and key not in acting}
    lost: list[tuple[End, End]] = []
    for wire in drive.wires.values():
        if wire.a.card not in gone or wire.b.card not in made.cards or wire.b.card not in _blocks(drive):
            continue
        role = same.get(wire.a.port) if wire.a.card == machine else None
        if role is not None:
            moved = Wire(End(machine, FOLDED.signal_names(role)[0]), wire.b)
            made.wires[moved.key] = moved
        else:
            lost.append((wire.a, wire.b))
    for source, reader in lost:
        if reader.card in acting:
            raise DriveProblem(
                f"{drive.cards[reader.card].name} reads {source}, which is not there at the level system, and is "
                "needed for what stays. Let it read the machine's speed or angle, or choose another level."
            )
        idle |= {reader.card, *_readers_of(made, reader.card)} - acting
    made.wires = {w.key: w for w in made.wires.values() if not {w.a.card, w.b.card} & idle}
    for key in idle:
        made.cards.pop(key, None)


def acting_blocks(drive: Drive, gone: Collection[str] = ()) -> set[str]:
    """Blocks that in the end act on a part, other than those that are ``gone``."""
    blocks = _blocks(drive)
    idle = {*blocks, *gone}
    found = {w.a.card for w in drive.wires.values() if w.a.card in blocks and w.b.card not in idle}
    while True:
        more = {w.a.card for w in drive.wires.values() if w.a.card in blocks and w.b.card in found}
        if more <= found:
            return found
        found |= more


def _readers_of(drive: Drive, card: str) -> set[str]:
    """Blocks that read what a block gives, and those that read these."""
    found = {card}
    while True:
        more = {w.b.card for w in drive.wires.values() if w.a.card in found and w.b.card in _blocks(drive)}
        if more <= found:
            return found - {card}
        found |= more


def _blocks(drive: Drive) -> set[str]:
    return {key for key, card in drive.cards.items() if isinstance(kind_of(card), Block)}


def _leave_out_what_is_not_there(made: Drive, machine: str) -> None:
    """What looks at a drive may look at cards and signals that went; a run needs none of it."""

    def is_there(target: str) -> bool:
        card, dot, name = target.partition(".")
        known = {s.name for s in FOLDED.signals} | {v.name for v in FOLDED.values}
        return not dot or (card in made.cards and (card != machine or name in known))

    made.taps = {name: end for name, end in made.taps.items() if is_there(str(end))}
    made.panel = {key: each for key, each in made.panel.items() if is_there(each.target)}
    for table in BESIDE_TABLES:
        if table != "panel":
            made.table(table).clear()
    made.cards = {key: replace(card, envelope={}) if card.envelope else card for key, card in made.cards.items()}
    while empty := {k for k, card in made.cards.items() if card.kind == ASSEMBLY.id} - {
        card.inside for card in made.cards.values()
    }:
        for key in empty:
            del made.cards[key]


def _ends(drive: Drive, key: str) -> Iterator[tuple[Wire, End]]:
    for wire in drive.wires.values():
        for end in _both(wire):
            if end.card == key:
                yield wire, end


def _within(wire: Wire, cards: frozenset[str]) -> bool:
    return wire.a.card in cards and wire.b.card in cards


def _both(wire: Wire) -> tuple[End, End]:
    return wire.a, wire.b


def _moved(wire: Wire, old: End, new: End) -> Wire:
    return Wire(new, wire.b) if wire.a == old else Wire(wire.a, new)


__all__ = [
    "DIGEST",
    "LEVEL",
    "PER",
    "ROW",
    "TORQUE",
    "acting_blocks",
    "at_level",
    "carriers",
    "cut_of",
    "nothing_to_fold",
    "without_envelope",
]

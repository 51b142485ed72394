"""What a card or a wire asks for next: kinds that complete it, by what is usually joined to what is still open."""

from __future__ import annotations

from collections import Counter

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Kind, Link
from pendel.core.drive import commands
from pendel.core.drive.commands import Change, Command
from pendel.core.drive.document import Drive, End, Wire
from pendel.core.wiring.habits import habits, place_of
from pendel.core.wiring.obvious import Obvious, obvious, obvious_command, resolved_or

REQUIRED, OTHERWISE = 1.0, 0.25
"""How much an open port counts: one that must be joined, and one that may be."""


def completing(drive: Drive, card: str, only: str = "") -> dict[str, float]:
    """Kinds by how much they complete a card, from 0 to about 1 for each of its open ports, or for ``only`` one of
    them."""
    kind = kind_in(drive, card)
    joined = {str(end) for wire in drive.wires.values() for end in (wire.a, wire.b)}
    found: dict[str, float] = {}
    for port in kind.ports:
        if str(resolved_or(drive, End(card, port.name))) in joined or only not in ("", port.name):
            continue
        partners = habits().partners
        known = partners.get((kind.id, port.name)) or partners.get(place_of(kind, port.name), Counter())
        whole = sum(known.values())
        counts = REQUIRED if port.required and port.link is not Link.HEAT else OTHERWISE
        for other, times in known.items():
            found[other] = found.get(other, 0.0) + counts * times / whole
    return found


def through_ports(kind: Kind, link: Link) -> tuple[str, str] | None:
    """The two ports by which a kind goes into a wire of that link: signals by its one input and its one output, all
    else by two ports of the link; none where it has others."""
    if link.is_signal:
        into = [p.name for p in kind.ports if p.link is Link.SIGNAL_IN and p.required]
        out = [p.name for p in kind.ports if p.link is Link.SIGNAL_OUT]
        return (into[0], out[0]) if len(into) == len(out) == 1 else None
    ends = sorted((p for p in kind.ports if p.link is link), key=lambda p: p.side == "right")
    return (ends[0].name, ends[1].name) if len(ends) == 2 else None


def add_into_wire(drive: Drive, added: Command, new: str, ports: tuple[str, str], wire: Wire) -> Command:
    """A command that adds a card, and puts it into a wire: what fed the reader feeds the card, which feeds it now."""
    scratch = drive.copy()
    changes: list[Change] = []

    def take(command: Command) -> None:
        command.apply(scratch)
        changes.extend(command.changes)

    take(added)
    take(commands.remove_wires(scratch, [wire.key]))
    take(commands.add_wire(scratch, wire.a, End(new, ports[0])))
    take(commands.add_wire(scratch, End(new, ports[1]), wire.b))
    return Command(added.title, tuple(changes))


def add_wired(drive: Drive, added: Command, new: str, beside: str) -> Command:
    """A command that adds a card, with the wires to another one that are obvious."""
    scratch = drive.copy()
    added.apply(scratch)
    found = obvious(scratch, [new, beside])
    between = Obvious([pair for pair in found.sure if {end.card for end in pair} == {new, beside}])
    return added.then(obvious_command(scratch, between), added.title)

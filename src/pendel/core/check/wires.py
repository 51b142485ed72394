"""Wires, ports and taps: whether they lead somewhere, and fit."""

from __future__ import annotations

from collections.abc import Mapping

from pendel.core.catalogue.declare import Kind, Link, Part
from pendel.core.check.examined import Examined, Subject
from pendel.core.drive import commands
from pendel.core.drive.document import Drive, End, Wire
from pendel.core.drive.findings import attention, fault
from pendel.core.drive.nesting import resolved


def end_exists(drive: Drive, kinds: dict[str, Kind], end: End) -> Link | None:
    """The link of an end, or ``None`` when it points nowhere. A part's signals can be read like outputs."""
    kind = kinds.get(end.card)
    if kind is None:
        return None
    port = kind.port(end.port)
    if port:
        return port.link
    if isinstance(kind, Part) and any(s.name == end.port for s in kind.signals):
        return Link.SIGNAL_OUT
    return None


def links_of(drive: Drive, kinds: dict[str, Kind], wire: Wire) -> list[Link | None]:
    """The links of both ends of a wire. What a part has under the name of one of its inputs, as the torque that it
    makes and the one that is asked of it, is what it has where it feeds an input."""
    links = [end_exists(drive, kinds, end) for end in (wire.a, wire.b)]
    kind = kinds.get(wire.a.card)
    if links == [Link.SIGNAL_IN] * 2 and isinstance(kind, Part) and wire.a.port in {s.name for s in kind.signals}:
        return [Link.SIGNAL_OUT, Link.SIGNAL_IN]
    return links


def fits(a: Link, b: Link) -> bool:
    """Whether two links can be joined."""
    return (a is b and a not in (Link.SIGNAL_IN, Link.SIGNAL_OUT)) or {a, b} in (
        {Link.SIGNAL_IN, Link.SIGNAL_OUT},
        {Link.DC, Link.LINE},
    )


MOST_WIRES_TOLD = 100
"""Wires that are wrong, told one by one."""


def _untold(drive: Drive, kinds: Mapping[str, Kind], end: End) -> bool:
    """Whether an end is of a card whose kind this version does not have. That is a fault of the card, and its wires
    and taps may be right: they stay for whoever has the kind."""
    card = resolved(drive, end).card
    return card in drive.cards and card not in kinds


def wires(of: Subject) -> None:
    drive, kinds, result = of.drive, of.kinds, of.result
    feeds: dict[str, str] = {}
    wrong: list[tuple[str, str, str]] = []
    for wire in drive.wires.values():
        if any(_untold(drive, kinds, end) for end in (wire.a, wire.b)):
            continue
        links = links_of(drive, kinds, wire)
        lost = next((str(end) for end, link in zip((wire.a, wire.b), links) if link is None), None)
        if lost or links[0] is None or links[1] is None:
            wrong.append(
                (
                    wire.key,
                    f"A wire points to {lost}, which does not exist. Delete the wire or restore the card.",
                    _card_of(drive, wire),
                )
            )
            continue
        if not fits(links[0], links[1]):
            wrong.append(
                (
                    wire.key,
                    f"The wire from {wire.a} to {wire.b} joins a {links[0].value} port with a "
                    f"{links[1].value} port. Delete it.",
                    _card_of(drive, wire),
                )
            )
            continue
        if {*links} == {Link.DC, Link.LINE}:
            _minus_line(drive, kinds, wire, links[0] is Link.DC, result)
        if links[1] is Link.SIGNAL_IN and isinstance(kinds[wire.a.card], Part) and isinstance(kinds[wire.b.card], Part):
            wrong.append(
                (
                    wire.key,
                    f"The wire from {wire.a} to {wire.b} leads from part to part. Put a block or a sensor "
                    "between them.",
                    wire.b.card,
                )
            )
            continue
        if links[1] is Link.SIGNAL_IN:
            if str(wire.b) in feeds:
                words = f"{wire.b} is fed twice, by {feeds[str(wire.b)]} and by {wire.a}. Delete one of the wires."
                wrong.append((wire.key, words, wire.b.card))
            feeds[str(wire.b)] = str(wire.a)
    for key, sentence, card in wrong[:MOST_WIRES_TOLD]:
        source = drive.wires[key].a if "fed twice" in sentence else ""
        label = f"Delete the wire from {source}" if source else "Delete the wire"
        result.findings.append(fault(sentence, card, "", commands.remove_wires(drive, [key]), label))
    if more := [key for key, _, _ in wrong[MOST_WIRES_TOLD:]]:
        words = f"{len(more)} more wires lead nowhere or join what does not fit. Delete them."
        result.findings.append(fault(words, "", "", commands.remove_wires(drive, more), "Delete these wires"))


def _minus_line(drive: Drive, kinds: dict[str, Kind], wire: Wire, begins_at_pair: bool, result: Examined) -> None:
    """A wire from a pair to a line is of its minus line. Whoever ties that to a potential wants it so; others may take
    it for the plus line."""
    pair, line = (wire.a, wire.b) if begins_at_pair else (wire.b, wire.a)
    if len(kinds[line.card].ports) > 1:
        result.findings.append(
            attention(
                f"{drive.cards[line.card].name}: the wire to {pair} joins the minus line of "
                f"{drive.cards[pair.card].name}, and leaves its plus line open. "
                "For the plus line put a part between them that opens the pair.",
                line.card,
                line.port,
            )
        )


def _card_of(drive: Drive, wire: Wire) -> str:
    return wire.a.card if wire.a.card in drive.cards else wire.b.card if wire.b.card in drive.cards else ""


def ports(of: Subject) -> None:
    drive, kinds, result = of.drive, of.kinds, of.result
    joined = {str(end) for w in drive.wires.values() for end in (w.a, w.b)}
    for key, kind in kinds.items():
        card = drive.cards[key]
        for port in kind.ports:
            if not port.required or f"{key}.{port.name}" in joined or port.link is Link.SIGNAL_OUT:
                continue
            if port.link is Link.SIGNAL_IN and isinstance(kind, Part):
                result.findings.append(
                    attention(
                        f"{card.name}: nothing feeds “{port.label}”, so it stays 0. Wire a block to it.",
                        key,
                        port.name,
                    )
                )
            elif port.link is Link.SIGNAL_IN:
                result.findings.append(
                    attention(f"{card.name}: nothing is wired to “{port.label}”, so it reads 0.", key, port.name)
                )
            else:
                result.findings.append(
                    attention(f"{card.name}: the port “{port.label}” is not connected.", key, port.name)
                )


def taps(of: Subject) -> None:
    drive, kinds, result = of.drive, of.kinds, of.result
    for name, end in drive.taps.items():
        if end_exists(drive, kinds, end) is None and not _untold(drive, kinds, end):
            result.findings.append(
                fault(
                    f"The tap {name} points to {end}, which does not exist. Delete the tap.",
                    "",
                    name,
                    commands.remove_tap(drive, name),
                    "Delete the tap",
                )
            )

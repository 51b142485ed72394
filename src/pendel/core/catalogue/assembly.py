"""The kind of an assembly, which is whatever its face shows of the cards inside."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from pendel.core.catalogue.declare import Deck, Kind, Link, Port, Value
from pendel.core.catalogue.index import kind_of, known_kind
from pendel.core.drive.assemblies import KIND
from pendel.core.drive.document import Drive, End
from pendel.core.drive.nesting import members, resolved

MARK = "▤"
"""Of an assembly of blocks; one of parts has none."""


@dataclass(frozen=True, kw_only=True)
class Assembly(Kind):
    """Several cards folded into one."""


def kind_in(drive: Drive, key: str) -> Kind:
    """The kind of a card; for an assembly one with the ports and values of its face, as far as their kinds are known.

    Raises
    ------
    DriveProblem
        when this version has no such kind.
    """
    card = drive.cards[key]
    if card.face is None:
        return kind_of(card)
    inner = [drive.cards[k] for k in members(drive, key).values() if drive.cards[k].face is None]
    decks = {kind.deck for c in inner if (kind := known_kind(c)) is not None}
    return Assembly(
        id=KIND,
        title="Assembly",
        sentence=f"{len(inner)} cards in one.",
        group=KIND,
        mark=MARK,
        ports=tuple(p for i in card.face.ports if (p := port_behind(drive, key, i.name)) is not None),
        values=tuple(v for i in card.face.values if (v := value_behind(drive, key, i.name)) is not None),
        deck=Deck.POWER if Deck.POWER in decks or not decks else Deck.CONTROL,
    )


def port_behind(drive: Drive, assembly: str, name: str) -> Port | None:
    end = resolved(drive, End(assembly, name))
    if end.card == assembly:
        return None
    card = drive.cards[end.card]
    kind = known_kind(card)
    port = kind.port(end.port) if kind is not None else None
    if port is not None:
        return replace(port, name=name, label=f"{card.name} {port.label}", required=False)
    signal = next((s for s in getattr(kind, "signals", ()) if s.name == end.port), None)
    return Port(name, Link.SIGNAL_OUT, f"{card.name} {signal.label}", "bottom", signal.unit) if signal else None


def value_behind(drive: Drive, assembly: str, name: str) -> Value | None:
    end = resolved(drive, End(assembly, name))
    kind = known_kind(drive.cards[end.card]) if end.card != assembly else None
    value = kind.value(end.port) if kind is not None else None
    return replace(value, name=name) if value else None


def open_ports(drive: Drive, cards: Iterable[str]) -> list[End]:
    """Ports of cards that want a wire and have none: a new assembly shows them, so that they can still be
    wired."""
    joined = {end for w in drive.wires.values() for end in (w.a, w.b)}
    return [
        End(key, port.name)
        for key in cards
        if drive.cards[key].face is None
        for port in kind_of(drive.cards[key]).ports
        if (port.required or port.link is Link.SIGNAL_OUT) and End(key, port.name) not in joined
    ]

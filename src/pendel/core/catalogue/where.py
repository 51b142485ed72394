"""Where something is in a drive, by what it is called or what is written there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import Kind
from pendel.core.drive.document import Drive
from pendel.core.drive.nesting import full_name
from pendel.core.errors import DriveProblem

MOST = 80
"""Places that are listed."""
Kinds = Mapping[str, Kind | None]
OWN = ("ports", "values", "states", "unknowns", "equations", "convert", "words")


@dataclass(frozen=True)
class Place:
    """``card`` and ``field`` say where, as in a finding; a ``field`` without a ``card`` is a quantity."""

    title: str
    sentence: str
    card: str = ""
    field: str = ""
    kind: Kind | None = None
    """Of the card."""


def places(drive: Drive, text: str) -> list[Place]:
    """Cards, quantities, taps, values and lines of equations that hold all words of a text, whatever their case: first
    what is called so. Without words, all cards."""
    words = text.lower().split()
    named, written = [], []
    kinds = {key: _kind(drive, key) for key in drive.cards}
    for place in [*_cards(drive, kinds), *_quantities(drive), *_taps(drive, kinds)]:
        if holds(words, place.title):
            named.append(place)
        elif holds(words, f"{place.title} {place.sentence} {place.card}"):
            written.append(place)
    if words:
        named.sort(key=lambda place: not place.title.lower().startswith(words[0]))
        written += [p for p in _values(drive, kinds) if holds(words, f"{p.title} {p.sentence}")]
    else:
        named = [place for place in named if place.card]
    return [*named, *written][:MOST]


def holds(words: list[str], text: str) -> bool:
    text = text.lower()
    return all(word in text for word in words)


def _kind(drive: Drive, key: str) -> Kind | None:
    try:
        return kind_in(drive, key)
    except DriveProblem:
        return None


def _cards(drive: Drive, kinds: Kinds) -> Iterator[Place]:
    for key, card in drive.cards.items():
        kind = kinds[key]
        inside = f", in {full_name(drive, card.inside)}" if card.inside in drive.cards else ""
        yield Place(card.name, f"{kind.title if kind is not None else card.kind}{inside}", key, kind=kind)


def _quantities(drive: Drive) -> Iterator[Place]:
    for name, quantity in drive.quantities.items():
        note = f" · {quantity.note}" if quantity.note else ""
        yield Place(name, f"Quantity, {quantity.text}{note}", field=name)


def _taps(drive: Drive, kinds: Kinds) -> Iterator[Place]:
    for name, end in drive.taps.items():
        if end.card in drive.cards:
            yield Place(name, f"Tap on {end.port} of {full_name(drive, end.card)}", end.card, kind=kinds[end.card])


def _values(drive: Drive, kinds: Kinds) -> Iterator[Place]:
    for key, card in drive.cards.items():
        kind, name = kinds[key], full_name(drive, key)
        for value in kind.values if kind is not None else ():
            text = card.values.get(value.name, value.default)
            if text.strip():
                yield Place(f"{name}: {value.name}", f"{value.label}, {text}", key, value.name, kind)
        for section in OWN if card.own is not None else ():
            for number, line in enumerate(getattr(card.own, section)):
                yield Place(f"{name}: {section}", line, key, f"{section}:{number}", kind)


__all__ = ["Place", "places"]

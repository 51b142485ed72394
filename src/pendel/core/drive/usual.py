"""What cards leave out is as usual: the file says what that was, so that a later catalogue changes no drive.

The drive knows no kind; the catalogue gives here what is usual of one.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from pendel.core.drive.commands import Command, card_of, changed
from pendel.core.drive.document import Drive, End
from pendel.core.drive.nesting import resolved

Texts = Mapping[str, Mapping[str, str]]
"""``values`` and ``choices`` of one kind, by name."""
_tellers: list[Callable[[str], Texts]] = []


def told_by(teller: Callable[[str], Texts]) -> None:
    """From now on, what is usual of a kind by its id; nothing of kinds that it does not know."""
    _tellers[:] = [teller]


def usual_of(kind: str) -> Texts:
    return _tellers[0](kind) if _tellers else {}


def usual_record(drive: Drive) -> dict[str, Any]:
    """By kind, the values and choices that some card of it leaves out."""
    record: dict[str, Any] = {}
    for card in drive.cards.values():
        for table, texts in usual_of(card.kind).items():
            left_out = {name: text for name, text in texts.items() if name not in getattr(card, table)}
            if left_out:
                record.setdefault(card.kind, {}).setdefault(table, {}).update(left_out)
    return record


def take_usual(drive: Drive, card: str, name: str) -> Command:
    """Leave a value of a card out again, so that it is as usual; one on the face of an assembly is that behind it."""
    behind = resolved(drive, End(card, name))
    record = card_of(drive, behind.card)
    values = {n: text for n, text in record.values.items() if n != behind.port}
    after = changed(drive, "cards", behind.card, replace(record, values=values))
    return Command(f"Take the usual {behind.port} of {record.name}", (after,))


def kept_as_it_was(card: dict[str, Any], usual: Mapping[str, Texts]) -> dict[str, Any]:
    """A card's record, with what it leaves out and what is otherwise now than it was when the file was written."""
    now, then = usual_of(card["kind"]), usual.get(card["kind"], {})
    added = {}
    for table, texts in then.items():
        here = card.get(table, {})
        known = now.get(table, {})
        changed = {n: t for n, t in texts.items() if n not in here and known.get(n, t) != t}
        if changed:
            added[table] = {**here, **changed}
    return {**card, **added} if added else card

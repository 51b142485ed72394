"""Cards taken out of a drive and put into one: copies on its sheets, and what a clipboard or a shelf holds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from pendel.core.drive.commands import Change, Command, card_of, changed, put
from pendel.core.drive.document import Card, Drive, End, Quantity, Wire
from pendel.core.drive.limits import within_sheet
from pendel.core.drive.nesting import free_role, with_members
from pendel.core.quantities.expressions import names_in, with_other_cards


def copy_cards(drive: Drive, cards: Iterable[str], offset: int = 8) -> tuple[Command, list[str]]:
    """Copies of cards with the wires among them, on the same sheet; returns the command and the new ids."""
    chosen = list(cards)
    sheet = card_of(drive, chosen[0]).inside if chosen else ""
    return paste_cards(drive, clip(drive, chosen), offset, sheet)


@dataclass(frozen=True)
class Clip:
    """Cards and the wires among them, as taken to the clipboard, with the quantities that they name."""

    cards: Mapping[str, Card]
    wires: tuple[Wire, ...]
    quantities: Mapping[str, Quantity] = field(default_factory=dict)

    def differing(self, drive: Drive) -> list[str]:
        """Quantities of which a drive has its own, which it keeps."""
        return [n for n, q in self.quantities.items() if n in drive.quantities and drive.quantities[n].text != q.text]


def clip(drive: Drive, cards: Iterable[str]) -> Clip:
    wanted = with_members(drive, [key for key in cards if card_of(drive, key)])
    inner = tuple(w for w in drive.wires.values() if w.a.card in wanted and w.b.card in wanted)
    cards = {key: drive.cards[key] for key in wanted}
    return Clip(cards, inner, quantities_used(drive, cards.values()))


def quantities_used(drive: Drive, cards: Iterable[Card]) -> dict[str, Quantity]:
    """Quantities that the cards' texts name, and those that these name in turn."""
    texts = [text for card in cards for text in card.texts]
    wanted: set[str] = set()
    while texts:
        for name in names_in(texts.pop()) - wanted:
            if name in drive.quantities:
                wanted.add(name)
                texts.append(drive.quantities[name].text)
    return {name: q for name, q in drive.quantities.items() if name in wanted}


def paste_cards(drive: Drive, clipped: Clip, offset: int = 8, sheet: str = "") -> tuple[Command, list[str]]:
    """A command that adds the clipped cards under free names to the sheet of an assembly (or the drive's own), and
    their quantities as far as the drive has none of that name.

    Returns it with the new ids of those that lie on that sheet.
    """
    scratch = drive.copy()
    new_ids: dict[str, str] = {}
    missing = [(name, q) for name, q in clipped.quantities.items() if name not in drive.quantities]
    changes = [Change("quantities", name, None, q, len(drive.quantities) + k) for k, (name, q) in enumerate(missing)]
    for key, card in clipped.cards.items():
        name = scratch.free_name(card.name)
        new_ids[key] = scratch.free_id(name)
        put(scratch, "cards", new_ids[key], replace(card, name=name), None)

    def moved_signal(signal: str) -> str:
        card, dot, name = signal.partition(".")
        return new_ids.get(card, card) + dot + name

    def named_as_new(text: str) -> str:
        """What names a card that comes along names its twin."""
        return with_other_cards(text, new_ids)

    scratch = drive.copy()
    for key, card in clipped.cards.items():
        new, held = new_ids[key], card.inside in new_ids
        after = replace(
            card.rewritten(named_as_new),
            name=scratch.free_name(card.name),
            pinned_key="",  # there must be no second
            x=within_sheet(card.x + (0 if held else offset)),
            y=within_sheet(card.y + (0 if held else offset)),
            inside=new_ids[card.inside] if held else sheet,
            role=card.role if held else free_role(scratch, sheet, new),
            tuned_on={moved_signal(name): gain for name, gain in card.tuned_on.items()},
        )
        changes.append(changed(scratch, "cards", new, after))
        put(scratch, "cards", new, after, None)
    for wire in clipped.wires:
        a, b = (End(new_ids[end.card], end.port) for end in (wire.a, wire.b))
        twin = Wire(a, b, wire.named)
        changes.append(changed(scratch, "wires", twin.key, twin))
        put(scratch, "wires", twin.key, twin, None)
    outer = [new_ids[key] for key, card in clipped.cards.items() if card.inside not in new_ids]
    first = next((c for c in clipped.cards.values() if c.inside not in new_ids), None)
    title = f"Paste {first.name}" if first is not None and len(outer) == 1 else "Paste"
    return Command(title, tuple(changes)), outer

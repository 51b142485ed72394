"""Names in expressions: quantities of the drive, and values of its cards as ``card.value``."""

from __future__ import annotations

from dataclasses import replace

from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.declare import ANY, Value
from pendel.core.drive.document import Drive, Quantity
from pendel.core.drive.nesting import ancestors
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem, ExpressionProblem, UnknownCardValue
from pendel.core.quantities.expressions import Measured, evaluate, names_in, read, renamed, value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import si_unit_of


def names_of(drive: Drive) -> Names:
    """What names stand for in the expressions of a drive."""
    return DriveNames(drive)


class DriveNames(Names):
    """Evaluates each name once. A value of a card is what its field has, in its unit."""

    def __init__(self, drive: Drive):
        super().__init__({name: quantity.text for name, quantity in drive.quantities.items()})
        self.drive = drive

    def worked_out(self, name: str) -> Measured:
        card, dot, item = name.partition(".")
        if not dot:
            return super().worked_out(name)
        value = self._value(name, card, item)
        text = self.drive.cards[card].values.get(item, value.default)
        if not text.strip():
            raise UnknownCardValue(name, "it is empty. Enter it, or write a value here.")
        if value.unit == ANY:
            return evaluate(read(text), self, text)
        return of_field(value_in_field(text, value.unit, self), value.unit)

    def _value(self, name: str, card: str, item: str) -> Value:
        drive = self.drive
        if card not in drive.cards:
            raise UnknownCardValue(name, f"there is no card {card}.{near_words(card, list(drive.cards))}")
        if any(has_twins(drive, assembly) for assembly in ancestors(drive, card)):
            raise UnknownCardValue(
                name, "it lies in one of several assemblies of one design. Put it on the face, and name that."
            )
        try:
            kind = kind_in(drive, card)
        except DriveProblem as problem:
            raise UnknownCardValue(name, str(problem)) from problem
        value = kind.value(item)
        if value is None or item not in {v.name for v in kind.values_in_force(drive.cards[card])}:
            known = [v.name for v in kind.values_in_force(drive.cards[card])]
            why = "is not in use as the card is now" if value is not None else "is none of it"
            raise UnknownCardValue(name, f"{item} {why}. It has {', '.join(known) or 'no values'}.")
        return value


def has_twins(drive: Drive, assembly: str) -> bool:
    """Whether another assembly of the same design follows it."""
    face = drive.cards[assembly].face if assembly in drive.cards else None
    same = [c for c in drive.cards.values() if face is not None and c.face is not None and c.face.design == face.design]
    return len(same) > 1


def of_field(si: float, unit_text: str) -> Measured:
    """What the value of a field is worth, with its dimension."""
    one = evaluate(read(f"1 {unit_text}"), Names({}), unit_text) if unit_text else Measured(1.0)
    if one.celsius:
        return evaluate(read(f"{si!r} °C"), Names({}), unit_text)
    return replace(one, si=si)


def with_values_of_missing(part: Drive, whole: Drive) -> None:
    """Have a part of a drive stand by itself: what its texts name of cards that it has not, becomes a quantity."""
    names, known = names_of(whole), set(part.quantities)
    found: dict[str, str] = {}

    def follow(text: str) -> str:
        for name in sorted(names_in(text)):
            if "." not in name or name.partition(".")[0] in part.cards:
                continue
            if name not in found:
                found[name] = free_name(name.replace(".", "_"), known)
                known.add(found[name])
            text = renamed(text, name, found[name])
        return text

    part.cards = {key: card.rewritten(follow) for key, card in part.cards.items()}
    part.quantities = {key: replace(q, text=follow(q.text)) for key, q in part.quantities.items()}
    for name, instead in found.items():
        try:
            worth = names(name)
        except ExpressionProblem:
            continue  # the finding is that of the whole
        part.quantities[instead] = Quantity(f"{worth.si!r} {si_unit_of(worth.dim, worth.turn)}".strip(), f"was {name}")


def free_name(stem: str, known: set[str]) -> str:
    number, name = 2, stem
    while name in known:
        name, number = f"{stem}_{number}", number + 1
    return name


__all__ = ["DriveNames", "names_of", "with_values_of_missing"]

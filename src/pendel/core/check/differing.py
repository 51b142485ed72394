"""Numbers in which drives differ, such as those of runs that are compared."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from pendel.core.catalogue.card_names import names_of
from pendel.core.check.targets import Target, targets
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import evaluate, read, value_in_field
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import unit, with_symbols

NOT_COMPARED = ("seed",)
"""Settings that tell nothing by their size."""


@dataclass(frozen=True)
class Differing:
    """A number, named as in `pendel.core.check.targets`, in SI for each drive, and the unit that it is shown in."""

    name: str
    title: str
    unit: str
    values: tuple[float, ...]

    def shown(self, si: float) -> float:
        return si / unit(self.unit)[0] if self.unit else si


def differing(drives: Sequence[Drive]) -> list[Differing]:
    """Quantities, settings and values of cards that all drives have as numbers, and not all the same; of no drive or
    one, none."""
    if len(drives) < 2:
        return []
    cards = {key for key, card in drives[0].cards.items() if any(card != other.cards.get(key) for other in drives[1:])}
    known = [among(drive, cards) for drive in drives]
    found = []
    for name, first in known[0].items():
        each = [there[name] for there in known if name in there]
        if name in NOT_COMPARED or len(each) < len(drives) or all(one.text == first.text for one in each):
            continue
        try:
            values = tuple(number(one, drive) for one, drive in zip(each, drives))
        except (DriveProblem, ExpressionProblem):
            continue
        if len(set(values)) > 1 and all(map(math.isfinite, values)):
            found.append(Differing(name, first.title, with_symbols(own_unit(first.text) or first.unit or ""), values))
    return found


def among(drive: Drive, cards: Collection[str]) -> dict[str, Target]:
    """What is a number among quantities, settings and values of some cards: looking at all takes long."""
    few = drive.copy()
    few.cards = {key: card for key, card in drive.cards.items() if key in cards}
    return {each.name: each for each in targets(few) if not each.options}


def number(of: Target, drive: Drive) -> float:
    """What its text amounts to, in SI. Raises `DriveProblem` and `ExpressionProblem`."""
    names = names_of(drive)
    if of.unit is not None:
        return value_in_field(of.text, of.unit, names)
    return evaluate(read(of.text), names, of.text).si


__all__ = ["Differing", "differing"]

"""Controllers that count on other values than the machine beside them has."""

from __future__ import annotations

import math
from dataclasses import replace

from pendel.core.catalogue.card_names import has_twins
from pendel.core.catalogue.declare import ANY, Block, Deck, Value
from pendel.core.check.examined import Subject
from pendel.core.drive.commands import Command, changed
from pendel.core.drive.findings import attention
from pendel.core.drive.nesting import ancestors
from pendel.core.quantities.units import figure, unit
from pendel.core.vocabulary import Group

ALIKE = 0.01
"""By which share two values may differ and still be those of one machine, as a sheet rounds them."""
LIMITS = tuple(unit(each)[1] for each in ("V", "A", "rad/s"))
"""A voltage, a current or a speed limits a machine; what it is made of has other units."""


def ties(of: Subject) -> None:
    """Report what a block is told of a machine, where that is otherwise; with the way to tie it to the machine."""
    machines = [key for key, kind in of.kinds.items() if kind.group == Group.MACHINE and key in of.result.values]
    for key, kind in of.kinds.items() if machines else ():
        if not isinstance(kind, Block) or kind.deck is not Deck.CONTROL:
            continue
        other = [(value, machine) for value in kind.values if (machine := unlike(of, machines, key, value))]
        if not other:
            continue
        tied = {value.name: f"{machine}.{value.name}" for value, machine in other}
        card = of.drive.cards[key]
        command = Command("Tie them", (changed(of.drive, "cards", key, replace(card, values={**card.values, **tied})),))
        said = (told(of, key, value, machine) for value, machine in other[:2])
        more = f", and {len(other) - 2} more differ" if len(other) > 2 else ""
        sentence = f"{of.drive.cards[key].name}: {'; '.join(said)}{more}. Tie them, unless that is meant."
        of.result.findings.append(attention(sentence, key, other[0][0].name, command, "Tie them"))


def unlike(of: Subject, machines: list[str], block: str, value: Value) -> str:
    """The one machine that has this value otherwise; empty where there is none, or more than one has such a value."""
    if value.unit == ANY or value.name not in {v.name for v in of.kinds[block].values_in_force(of.drive.cards[block])}:
        return ""
    dimension = unit(value.unit)[1]
    having = []
    for key in machines:
        theirs = of.kinds[key].value(value.name)
        in_force = {v.name for v in of.kinds[key].values_in_force(of.drive.cards[key])}
        if theirs is not None and value.name in in_force and theirs.unit != ANY and unit(theirs.unit)[1] == dimension:
            having.append(key)
    if len(having) != 1 or dimension in LIMITS or any(has_twins(of.drive, a) for a in ancestors(of.drive, having[0])):
        return ""
    here, there = (of.result.values.get(key, {}).get(value.name, math.nan) for key in (block, having[0]))
    if not (math.isfinite(here) and math.isfinite(there)) or math.isclose(here, there, rel_tol=ALIKE):
        return ""
    return having[0]


def told(of: Subject, block: str, value: Value, machine: str) -> str:
    here, there = (figure(of.result.values[key][value.name], value.unit, 3) for key in (block, machine))
    return f"{value.label} {value.name} is {here}, but {of.drive.cards[machine].name} has {there}"

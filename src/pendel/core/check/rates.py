"""Angles that are read more often than they are measured."""

from __future__ import annotations

import math
from dataclasses import replace

from pendel.core.catalogue.declare import Block
from pendel.core.check.examined import Subject
from pendel.core.drive.commands import Command, changed
from pendel.core.drive.findings import attention
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import ValueRole


def held_angles(of: Subject) -> None:
    """A field angle made of a shaft angle that is held for many ticks lags behind the rotor by half of that time."""
    for wire in of.drive.wires.values():
        reader, source = of.kinds.get(wire.b.card), of.kinds.get(wire.a.card)
        if not (isinstance(reader, Block) and isinstance(source, Block) and wire.b.port in reader.turns):
            continue
        often, seldom = (ticks_of(of, key) for key in (wire.b.card, wire.a.card))
        if not often < seldom:
            continue
        title, other = of.drive.cards[wire.b.card].name, of.drive.cards[wire.a.card].name
        held = figure(seldom * of.result.settings.get("tick", math.nan), "s", 3)
        port = source.port(wire.a.port)
        label = port.label.lower() if port is not None else wire.a.port
        sentence = (
            f"{title}: it turns with the {label} of {other}, which is read every {seldom:.0f} ticks and held for "
            f"{held}, so that the field lags behind the rotor. Read it every {often:.0f} ticks"
        )
        name = source.value_name(ValueRole.PERIODS)
        card = of.drive.cards[wire.a.card]
        after = replace(
            card, values={**card.values, name: f"{often:.0f}"}, choices={**card.choices, **source.where_read_often}
        )
        fix = Command(f"Read {other} more often", (changed(of.drive, "cards", wire.a.card, after),))
        of.result.findings.append(attention(f"{sentence}.", wire.a.card, name, fix, "Read it as often"))


def ticks_of(of: Subject, card: str) -> float:
    """Every how many ticks a block runs; NaN where that is not known."""
    name = of.kinds[card].value_name(ValueRole.PERIODS)
    return of.result.values.get(card, {}).get(name, math.nan) if name else 1.0

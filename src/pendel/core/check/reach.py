"""Blocks that may give more than the part they feed can take."""

from __future__ import annotations

import math
from dataclasses import replace

from pendel.core.catalogue.control.ports import LIMITS
from pendel.core.catalogue.control.pulse_stage import KIND as PULSE_STAGE
from pendel.core.catalogue.declare import Block, Link, Part
from pendel.core.check.examined import Subject
from pendel.core.drive import commands
from pendel.core.drive.commands import Change, Command, changed
from pendel.core.drive.document import End, Wire
from pendel.core.drive.findings import attention
from pendel.core.quantities.units import number_text
from pendel.core.vocabulary import ValueRole

MEANT_OTHERWISE = 1.5
"""Times what can be taken: so far beyond, a voltage was meant and no duty."""


def limits_beyond(of: Subject) -> None:
    """What is beyond the range of an input is cut off there, and an integral behind a limit of its own winds up."""
    for wire in of.drive.wires.values():
        source, part = of.kinds.get(wire.a.card), of.kinds.get(wire.b.card)
        port = part.port(wire.b.port) if isinstance(part, Part) else None
        if not isinstance(source, Block) or port is None or port.low is None or port.high is None:
            continue
        if not all(limit in source.values for limit in LIMITS):
            continue
        names = [limit.name for limit in LIMITS]
        low, high = (of.result.values.get(wire.a.card, {}).get(name, math.nan) for name in names)
        if not (low < port.low * (1 + 1e-9) - 1e-12 or high > port.high * (1 + 1e-9) + 1e-12):
            continue
        regulator, card = of.drive.cards[wire.a.card], of.drive.cards[wire.b.card]
        takes = f"{number_text(port.low)} to {number_text(port.high)}"
        sentence = (
            f"{regulator.name} may give {number_text(low)} to {number_text(high)}, and {card.name} takes {takes} as "
            f"“{port.label}”: what is beyond is cut off there"
        )
        reach = max(abs(low), abs(high))
        if reach > MEANT_OTHERWISE * max(abs(port.low), abs(port.high)):
            fix = stage_between(of, wire, reach)
            sentence += ". Put a pulse stage between, which makes a duty of a voltage"
            found = attention(f"{sentence}.", wire.a.card, names[1], fix, "Put a pulse stage between")
        else:
            within = {names[0]: f"{max(low, port.low):.9g}", names[1]: f"{min(high, port.high):.9g}"}
            after = replace(regulator, values={**regulator.values, **within})
            fix = Command(f"Limit {regulator.name}", (changed(of.drive, "cards", wire.a.card, after),))
            found = attention(f"{sentence}. Limit it to that.", wire.a.card, names[1], fix, "Limit it to that")
        of.result.findings.append(found)


def stage_between(of: Subject, wire: Wire, reach: float) -> Command:
    """A pulse stage in a wire, laid out for the link voltage that another card is laid out for, else for what the
    regulator may give (V)."""
    drive = of.drive
    roles = ((drive.cards[key], kind.value_name(ValueRole.LINK_VOLTAGE)) for key, kind in of.kinds.items())
    link = next((card.values[name] for card, name in roles if name in card.values), f"{reach:.6g} V")
    scratch, changes = drive.copy(), list[Change]()

    def take(command: Command) -> None:
        command.apply(scratch)
        changes.extend(command.changes)

    regulator, part = drive.cards[wire.a.card], drive.cards[wire.b.card]
    into, out = (next(p for p in PULSE_STAGE.ports if p.link is link_) for link_ in (Link.SIGNAL_IN, Link.SIGNAL_OUT))
    take(commands.remove_wires(scratch, [wire.key]))
    place = (regulator.x + part.x) // 2, regulator.y
    take(commands.add_card(scratch, PULSE_STAGE.id, PULSE_STAGE.title, *place, inside=regulator.inside))
    key = changes[-1].key
    take(commands.set_value(scratch, key, PULSE_STAGE.value_name(ValueRole.LINK_VOLTAGE), link))
    take(commands.add_wire(scratch, wire.a, End(key, into.name)))
    take(commands.add_wire(scratch, End(key, out.name), wire.b))
    return Command("Put a pulse stage between", tuple(changes))

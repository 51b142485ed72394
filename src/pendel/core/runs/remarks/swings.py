"""Blocks whose output swings with a few of its own periods to an oscillation: a loop at the edge of its rate.

A sampled loop with more gain than its rate allows swings with two periods to an oscillation, with a delay of one
period with six (Åström, Wittenmark: Computer-Controlled Systems, 3rd ed., chapter 3; six follow from the phase of an
integrator with 1.5 periods of delay, -180 degrees there), and a limit makes these a few more."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from pendel.core.catalogue.control.ports import LIMITS
from pendel.core.catalogue.declare import Kind
from pendel.core.controllers.deck import ControlDeck
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Remark
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import Link, ValueRole

FEWEST = 16
"""Turning points in a row."""
LARGE = 0.1
"""Of the block's limits, or of all that its output moves over in the run."""
EVEN = 0.5
"""By how much of the last swing one may differ from it."""
SLOWEST = 5
"""Periods from one turning point to the next."""

Values = Mapping[str, Mapping[str, float]]


def swings(run: KeptRun, drive: Drive, kinds: Mapping[str, Kind], values: Values, deck: ControlDeck) -> list[Remark]:
    """At most one for each block: of regulators; where none of them swings, of what parts are given, but duties of
    three phases, which swing anyway."""
    found: dict[str, Remark] = {}
    columns: Mapping[str, int] = {key: n for n, key in enumerate(run.tick_signals)}
    for key, reach in outputs(deck, kinds, values).items():
        card, _, _ = key.partition(".")
        if card in found or card not in drive.cards or key not in columns:
            continue
        block = deck.block(card)
        if found and not block.regulates:
            continue  # it passes on what a regulator says
        phase = (block.phase - run.first_tick) % block.every
        place = swing_of(run.ticks[phase :: block.every, columns[key]], reach)
        if place is None:
            continue
        time = (run.first_tick + phase + place * block.every) * run.tick
        found[card] = Remark(
            f"{drive.cards[card].name} swings up and down within a few of its own periods of "
            f"{figure(block.every * run.tick, 's', 3)}, from {figure(time, 's', 4)} on. Its loop has more gain "
            "than its rate allows. Lower the gain, or let what acts in the loop run more often.",
            card,
            time,
        )
    return list(found.values())


def outputs(deck: ControlDeck, kinds: Mapping[str, Kind], values: Values) -> dict[str, float]:
    """Of blocks, by their keys, and all that each may take, or its part; 0 where nothing bounds it. What knows its link
    voltage is bounded by that: harmonics of dead time are much of a small voltage, and no swing of its loop."""
    found: dict[str, float] = {}
    for block in deck.blocks:
        low, high = (values.get(block.name, {}).get(limit.name, math.nan) for limit in LIMITS)
        kind = kinds.get(block.name)
        link = values.get(block.name, {}).get(kind.value_name(ValueRole.LINK_VOLTAGE), 0.0) if kind else 0.0
        reach = high - low if math.isfinite(high - low) else link
        found |= {f"{block.name}.{each.out}": reach for each in block.regulates}
    for target, signal in deck.commands.items():
        card, _, name = target.partition(".")
        kind = kinds.get(card)
        port = kind.port(name) if kind is not None else None
        if kind is None or port is None or any(each.link is Link.AC3 for each in kind.ports):
            continue
        found.setdefault(signal, port.high - port.low if port.low is not None and port.high is not None else 0.0)
    return found


def swing_of(y: np.ndarray, reach: float) -> int | None:
    """At which sample a signal begins to swing; None where it does not. ``reach`` is all that it may take, so that the
    last digit of a sensor is not much of it."""
    span = float(np.ptp(y)) if len(y) else 0.0
    if not math.isfinite(span) or span <= 0:
        return None
    steps = np.diff(y)
    moved = np.flatnonzero(steps)
    turns = moved[1:][steps[moved[1:]] * steps[moved[:-1]] < 0]  # places of turning points
    if len(turns) < FEWEST:
        return None
    sizes = np.abs(np.diff(y[turns]))
    good = (np.diff(turns) <= SLOWEST) & (sizes >= LARGE * max(span, reach))
    good[1:] &= np.abs(np.diff(sizes)) <= EVEN * sizes[:-1]
    ends = np.flatnonzero(np.diff(np.concatenate([[0], good.astype(int), [0]])))
    streak = next((first for first, last in zip(ends[::2], ends[1::2]) if last - first >= FEWEST), None)
    return None if streak is None else int(turns[streak])


__all__ = ["swings"]

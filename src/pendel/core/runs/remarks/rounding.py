"""How far the signals of a controller as shipped were from those in float 64, tick by tick in a run."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.errors import PendelError
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.remarks.limited import LIMITED, LOST, counts_of

DIFFERENCE = "_off"
"""Ends the key of a signal's difference."""


def add_differences(run: KeptRun, lowered: Lowered) -> None:
    """Beside each signal of the controller, its difference from the same controller in float 64, which is fed
    with what the run's inputs were. Where all is float 64, or a block has no C in it, there is none."""
    if not len(run.ticks) or all(b.number is NumberFormat.FLOAT64 for b in lowered.blocks):
        return
    from pendel.core.firmware.ship import beside_recorded, signals_of  # they know of runs

    known = set(run.tick_signals)
    new = [s for s in signals_of(lowered) if s in known and f"{s}{DIFFERENCE}" not in run.infos]
    try:
        beside = beside_recorded(lowered, run, new)
    except PendelError:
        return
    run.ticks = beside.ticks
    for signal in new:
        info, key = run.infos[signal], f"{signal}{DIFFERENCE}"
        run.tick_signals = [*run.tick_signals, key]
        run.infos[key] = replace(info, key=key, label=f"difference of {info.label}")
    gaps = [
        (signal, float(largest), float(largest / span) if span > 0 else 0.0)
        for signal, largest, span in zip(new, beside.largest, beside.span)
        if np.isfinite(largest)
    ]
    run.differences = sorted(gaps, key=lambda each: -each[2])


def listed(run: KeptRun, maximum: int) -> list[str]:
    """The furthest of its differences in words, and how often words were limited and steps lost."""
    lines = []
    for key, largest, share in run.differences[:maximum]:
        info = run.infos[key]
        gap = figure(largest, run.units.of(key, info.unit), 3)
        name = info.card if info.label.lower() == info.card.lower() else f"{info.card}, {info.label}"
        lines.append(f"{name}: up to {gap} from float 64, {100 * share:.2g} % of its span")
    for kind, words, none in (
        (LIMITED, "met the end of its range at", "no word met the end of its range"),
        (LOST, "took no step in at", "no sum lost a step"),
    ):
        counts = counts_of(run, kind)
        lines += [f"{name} {words} {count} ticks" for name, count in counts.items()]
        if run.differences and not counts:
            lines.append(none)
    return lines

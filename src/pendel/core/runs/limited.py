"""Where words of a controller as shipped were at the end of their range in a run, and so did not hold what
came."""

from __future__ import annotations

import ctypes
from functools import lru_cache

import numpy as np

from pendel.core.controllers.numbers.counted import counted_source, may_lose
from pendel.core.controllers.numbers.lowering import Lowered, outside_range
from pendel.core.controllers.numbers.ranges import Source
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.drive.findings import Remark
from pendel.core.plant.runtime import load, pointer
from pendel.core.quantities.units import figure
from pendel.core.runs.kept import KeptRun

LOST, LIMITED = "lost:", "limited:"
"""Begin the names of a run's counts: updates at which a sum took no step in, and ticks at which a signal met the
end of its range."""
SOME = 0.01
"""Fraction of a block's updates from which on lost steps are remarked."""


def counts_of(run: KeptRun, kind: str) -> dict[str, int]:
    """What was counted of one kind, `LOST` or `LIMITED`, by ``block.state`` or ``block.signal``."""
    return {n.removeprefix(kind): count for n, count in run.counters.items() if n.startswith(kind)}


def limited_words(run: KeptRun, lowered: Lowered) -> list[Remark]:
    """A remark on each signal whose range, found or set by hand, ended before what came. Ranges that are proven
    end where a limit of the block keeps the signal."""
    return [remark for signal, title, rep in not_proven(lowered) for remark in _at_end(run, signal, title, rep)]


@lru_cache(maxsize=4)
def not_proven(lowered: Lowered) -> list[tuple[str, str, Rep]]:
    """Signals whose range is not proven, with the titles of their blocks and their words. Kept for the last
    controllers, as one that runs again is the same."""
    reps = []
    for block in lowered.blocks:
        for port in block.tree.outputs:
            known = block.ranges.ranges.get(port)
            if known is not None and known.source is not Source.PROVEN:
                reps.append((f"{block.name}.{port}", block.tree.title, block.reps[port]))
    for key, rep in lowered.inputs.items():
        if not key.turn and outside_range(lowered, key.signal).source is not Source.PROVEN:
            reps.append((key.signal, lowered.deck.title_of(key.signal), rep))
    return reps


def lost_steps(run: KeptRun, lowered: Lowered) -> list[Remark]:
    """A remark on each sum that took no step in at some ticks, though what it adds was not zero, since that was
    less than half its step; where these are more than a few."""
    if not may_lose(lowered):
        return []
    from pendel.core.firmware.ship import inputs_of, replay, signals_of  # they know of runs

    counted = counted_source(lowered)
    library = load(counted.text)
    counts = np.zeros(max(1, len(counted.names)))
    before = counts.copy()
    library.pd_ctl_lost.argtypes = [ctypes.c_void_p]
    library.pd_ctl_lost(pointer(before))  # a library that was loaded before has counted then
    replay(library, inputs_of(lowered, run), len(signals_of(lowered)))
    library.pd_ctl_lost(pointer(counts))
    lost: dict[str, int] = {}
    for name, count in zip(counted.names, counts - before):
        lost[name] = lost.get(name, 0) + int(count)
    run.counters |= {f"{LOST}{name}": count for name, count in lost.items() if count}
    remarks = []
    for name, count in lost.items():
        block, _, state = name.partition(".")
        updates = -(-len(run.ticks) // lowered.block(block).tree.instance.every)
        if count > SOME * updates:
            title = lowered.block(block).tree.title
            sentence = (
                f"{title}: {state} took no step in at {count} of its {updates} updates, though what "
                "it adds was not 0, as half its step is more. Take more bits for it."
            )
            remarks.append(Remark(sentence, block, 0.0))
    return remarks


def _at_end(run: KeptRun, signal: str, title: str, rep: Rep) -> list[Remark]:
    held = rep.range
    if held is None or rep.angle or signal not in run.keys:
        return []
    trace = run.trace(signal)
    at = np.flatnonzero((trace.y >= held.high) | (trace.y <= held.low))
    if not len(at):
        return []
    run.counters[f"{LIMITED}{signal}"] = len(at)
    when, unit = float(trace.t[at[0]]), run.infos[signal].unit if signal in run.infos else ""
    port, low = signal.partition(".")[2], bool(trace.y[at[0]] <= held.low)
    sentence = (
        f"{title}: {port} met the end of its range at {len(at)} ticks, first at {figure(when, 's', 4)}; it "
        f"holds {'down' if low else 'up'} to "
        f"{figure(held.low if low else held.high, unit, 3)} as shipped. Widen its range, or find ranges again."
    )
    return [Remark(sentence, signal.partition(".")[0], when)]

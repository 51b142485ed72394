"""Where words of a controller as shipped were at the end of their range in a run, and so did not hold what
came."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import lru_cache

import numpy as np

from pendel.core.controllers.numbers.counted import Cut, counted_source, may_count, read_counts
from pendel.core.controllers.numbers.lowering import Lowered, source_rep
from pendel.core.controllers.numbers.ranges import Source
from pendel.core.controllers.numbers.representation import Rep
from pendel.core.drive.findings import Remark
from pendel.core.plant.runtime import load
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.record.kept import KeptRun

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
        for port in block.tree.inputs:
            signal, rep = str(block.tree.instance.sources[port]), block.reps[port]
            converted = rep is not source_rep(lowered, block, port) and not (rep.floating or rep.angle)
            if converted and lowered.ranges.of(signal).source is not Source.PROVEN:
                reps.append((signal, block.tree.title, rep))
    for key, rep in lowered.inputs.items():
        if not key.turn and lowered.ranges.of(key.signal).source is not Source.PROVEN:
            reps.append((key.signal, lowered.deck.title_of(key.signal), rep))
    return reps


def lost_inside(run: KeptRun, lowered: Lowered) -> list[Remark]:
    """Remarks on what happened inside blocks: memory whose range ended before what came, and sums that took no step in
    at more than a few ticks, though what they add was not zero, since that was less than half their step."""
    if not may_count(lowered):
        return []
    from pendel.core.firmware.ship import inputs_of, replay, signals_of  # they know of runs

    counted = counted_source(lowered)
    library = load(counted.text)
    read_counts(library, counted)  # a library that was loaded before has counted then
    replay(library, inputs_of(lowered, run), len(signals_of(lowered)))
    lost, cuts = read_counts(library, counted)
    inside = {name: cut for name, cut in cuts.items() if name not in run.keys}
    run.counters |= {f"{LOST}{name}": count for name, count in lost.items() if count}
    run.counters |= {f"{LIMITED}{name}": cut.ticks for name, cut in inside.items()}
    return [*_cut_off(run, lowered, inside), *_lost_steps(run, lowered, lost)]


def _cut_off(run: KeptRun, lowered: Lowered, cuts: Mapping[str, Cut]) -> Iterator[Remark]:
    for name, cut in cuts.items():
        key, _, item = name.partition(".")
        block, when = lowered.block(key), cut.first * lowered.deck.tick
        ends = block.reps[item].range
        held = f", which holds {number_text(ends.low)} to {number_text(ends.high)} (SI) as shipped" if ends else ""
        yield Remark(
            f"{block.tree.title}: what it remembers, {item}, met the end of its range{held}, at {cut.ticks} ticks, "
            f"first at {figure(when, 's', 4)}. Widen its range, or find ranges again in a run that goes as far.",
            key,
            when,
        )


def _lost_steps(run: KeptRun, lowered: Lowered, lost: Mapping[str, int]) -> Iterator[Remark]:
    for name, count in lost.items():
        key, _, state = name.partition(".")
        block = lowered.block(key)
        updates = -(-len(run.ticks) // block.tree.instance.every)
        if count > SOME * updates:
            yield Remark(
                f"{block.tree.title}: {state} took no step in at {count} of its {updates} updates, though what "
                "it adds was not 0, as half its step is more. Take more bits for it.",
                key,
                0.0,
            )


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

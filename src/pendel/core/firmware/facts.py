"""What a controller is in its number formats, as a table: blocks, signals, words, memory."""

from __future__ import annotations

from dataclasses import dataclass

from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.lowering import Lowered, LoweredBlock, rests
from pendel.core.controllers.numbers.ranges import Source
from pendel.core.controllers.numbers.representation import NumberFormat, Rep


@dataclass(frozen=True)
class SignalFacts:
    """One signal: what it can hold (SI), one step of it, and where its range comes from. A float holds
    anything, and has no step."""

    signal: str
    c_type: str
    low: float
    high: float
    step: float
    angle: bool
    source: str
    used: float
    """Fraction of what it can hold that was used in the run in which ranges were found; NaN where none
    was."""


@dataclass(frozen=True)
class BlockFacts:
    """One block as shipped. ``name`` is its name in code, ``key`` the number by which it is found there, ``every``
    its rate in ticks and ``phase`` the tick of these at which it runs, ``data`` in bytes."""

    block: str
    title: str
    name: str
    key: int
    every: int
    phase: int
    number: NumberFormat
    own_format: bool
    data: int
    signals: tuple[SignalFacts, ...]


def bytes_of(block: LoweredBlock) -> int:
    """Bytes of what a block holds: outputs, states, rests, live values and what hangs on them, delay line."""
    names = dict.fromkeys((*block.tree.outputs, *block.tree.states))
    sizes = [block.reps[n].bits // 8 for n in names]
    sizes += [4] * len(rests(block))
    sizes += [block.value_bits // 8] * len(block.tree.live) + [n.rep.bits // 8 for n in block.live]
    if block.tree.places:
        sizes += [block.reps[LINE].bits // 8 * block.tree.places, 4]
    return sum(sizes)


def facts_of(lowered: Lowered) -> tuple[BlockFacts, ...]:
    """The blocks of a deck in running order."""
    return tuple(
        BlockFacts(
            block.name,
            block.tree.title,
            lowered.members[block.name],
            lowered.keys[block.name],
            block.tree.instance.every,
            block.tree.instance.phase,
            block.number,
            block.name in lowered.choices.blocks,
            bytes_of(block),
            tuple(signal_facts(lowered, block, name) for name in shown_names(block)),
        )
        for block in lowered.blocks
    )


def shown_names(block: LoweredBlock) -> tuple[str, ...]:
    """A block's outputs, and of what it remembers that whose range is not proven or somebody's limit."""
    unsure = [n for n, r in block.ranges.ranges.items() if r.source in (Source.RUN, Source.HAND) and n in block.reps]
    return tuple(dict.fromkeys((*block.tree.outputs, *unsure)))


def signal_facts(lowered: Lowered, block: LoweredBlock, port: str) -> SignalFacts:
    signal, rep = f"{block.name}.{port}", block.reps[port]
    held = rep.range
    known = block.ranges.ranges.get(port)
    source = known.source if known is not None else Source.NONE
    used = float("nan")
    if held is not None and not rep.angle and signal in lowered.seen and held.size > 0.0:
        used = lowered.seen[signal] / held.size
    infinite = float("inf")
    low, high = (held.low, held.high) if held is not None else (-infinite, infinite)
    return SignalFacts(signal, rep.c_type, low, high, rep.step, rep.angle, source.value, used)


def word_text(rep: Rep, value: float) -> str:
    """The word for a value in SI, as the processor holds it."""
    return f"{value:.9g}" if rep.floating else f"{rep.word(value)}"

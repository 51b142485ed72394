"""Ranges through a whole deck: from what the plant gives, block by block, until nothing grows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from pendel.core.controllers.deck import BlockInstance, ControlDeck, Part
from pendel.core.controllers.numbers.block import BlockTree, block_tree
from pendel.core.controllers.numbers.digits import grid
from pendel.core.controllers.numbers.intervals import EVERYTHING, Interval
from pendel.core.controllers.numbers.ranges import BlockRanges, Hints, Range, Source, block_ranges
from pendel.core.controllers.numbers.representation import NumberFormat

ROUNDS = 8
"""Passes through the deck after which what still grows is taken for unbounded."""


@dataclass(frozen=True)
class Choices:
    """What is chosen for a deck: number formats, ranges by hand (SI) by ``block.port``, values that can be
    changed while the code runs, with their ends (SI) by ``block.value``, and pinned keys of blocks."""

    default: NumberFormat = NumberFormat.FLOAT32
    blocks: Mapping[str, NumberFormat] = field(default_factory=dict)
    ranges: Mapping[str, Interval] = field(default_factory=dict)
    live: Mapping[str, Interval] = field(default_factory=dict)
    keys: Mapping[str, int] = field(default_factory=dict)

    def of(self, block: str) -> NumberFormat:
        return self.blocks.get(block, self.default)

    def live_of(self, block: str) -> dict[str, Interval]:
        """Live values of a block."""
        return {n.removeprefix(f"{block}."): i for n, i in self.live.items() if n.startswith(f"{block}.")}


def control_blocks(deck: ControlDeck) -> list[BlockInstance]:
    return [b for b in deck.blocks if not b.sensor]


def trees_of(deck: ControlDeck, choices: Choices = Choices()) -> dict[str, BlockTree]:
    """Trees of all blocks, sensors too. Raises `CannotLower`."""
    cut = {s.block for s in deck.steps if s.part is not Part.WHOLE}
    return {
        b.name: block_tree(b, deck.tick, split=b.name in cut, live={} if b.sensor else choices.live_of(b.name))
        for b in deck.blocks
    }


def hints_of(tree: BlockTree, choices: Choices, seen: Mapping[str, float]) -> Hints:
    """What is known of a block's names. What counts in exact steps is not bounded by a run that happened to
    end."""
    stem = f"{tree.name}."
    counts = {n for n in tree.states if grid(n, tree, {}, 3) is not None}
    by_hand = {n.removeprefix(stem): i for n, i in choices.ranges.items() if n.startswith(stem)}
    sizes = {n.removeprefix(stem): x for n, x in seen.items() if n.startswith(stem)}
    return Hints(by_hand, {n: x for n, x in sizes.items() if n not in counts})


def deck_ranges(
    deck: ControlDeck, trees: Mapping[str, BlockTree], choices: Choices, seen: Mapping[str, float]
) -> tuple[dict[str, BlockRanges], dict[str, Range]]:
    """Ranges of all blocks, and of what the plant gives, until nothing grows."""
    known: dict[str, Interval] = {}
    outside: dict[str, Range] = {}
    for signal in deck.measured:
        own = Hints({"": choices.ranges[signal]} if signal in choices.ranges else {}, {"": seen.get(signal, 0.0)})
        outside[signal] = own.decide("", EVERYTHING)
        known[signal] = outside[signal].interval
    for block in deck.blocks:
        known |= {f"{block.name}.{p}": Interval(0.0, 0.0) for p in block.outputs}
    ranges: dict[str, BlockRanges] = {}
    for count in range(ROUNDS + 2):
        grew = False
        for block in deck.blocks:
            tree = trees[block.name]
            hints = hints_of(tree, choices, seen)
            inputs = {p: known[str(block.sources[p])] for p in tree.inputs}
            if tree.verbatim:
                ranges[block.name] = BlockRanges({p: hints.decide(p, EVERYTHING) for p in block.outputs})
            else:
                ranges[block.name] = block_ranges(tree, inputs, hints)
            for port in block.outputs:
                name = f"{block.name}.{port}"
                if port not in ranges[block.name].ranges:
                    ranges[block.name].ranges[port] = Range(Interval(0.0, 0.0), Source.PROVEN, Interval(0.0, 0.0))
                after = ranges[block.name].interval(port)
                if not after.within(known[name]):
                    grew = True
                    raw = EVERYTHING if count >= ROUNDS else known[name].hull(after)
                    known[name] = hints.decide(port, raw).interval
        if not grew:
            break
    return ranges, outside

"""Ranges through a whole deck: from what the plant gives, block by block, until nothing grows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from pendel.core.controllers.deck import BlockInstance, ControlDeck, Part
from pendel.core.controllers.numbers.block import LINE, BlockTree, block_tree
from pendel.core.controllers.numbers.digits import grid
from pendel.core.controllers.numbers.intervals import EVERYTHING, Interval, symmetric
from pendel.core.controllers.numbers.ranges import BlockRanges, Hints, Range, Source, block_ranges
from pendel.core.controllers.numbers.representation import GREATEST, NumberFormat
from pendel.core.controllers.numbers.tree import assigned_often

EXACT_ROUNDS, ROUNDS, NARROWING_ROUNDS = 6, 14, 3
"""Passes through the deck in which what grows is followed; in which it is tried twice as far; after which it is taken
for unbounded, one output at a time; and those that then bring back what was tried too far."""
DIGITS_LEFT = 10
"""Binary digits that a word keeps at least for twice what was seen, before a range that is not sure is taken for too
wide."""
NOTHING = Range(Interval(0.0, 0.0), Source.PROVEN, Interval(0.0, 0.0))


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


@dataclass
class DeckRanges:
    """Ranges of all names of a deck's blocks, sensors too, and of what the plant gives them."""

    blocks: dict[str, BlockRanges] = field(default_factory=dict)
    outside: dict[str, Range] = field(default_factory=dict)

    def of(self, signal: str) -> Range:
        """The range of a signal, ``block.port`` or one of the plant's."""
        if signal in self.outside:
            return self.outside[signal]
        block, _, port = signal.partition(".")
        return self.blocks[block].ranges[port]


def deck_ranges(
    deck: ControlDeck, trees: Mapping[str, BlockTree], choices: Choices, seen: Mapping[str, float]
) -> DeckRanges:
    """Ranges of all blocks, and of what the plant gives, until nothing grows.

    A name has the range that holds whatever comes, where there is one. Else it has the one that follows where what the
    plant gives, and what nothing bounds, stay within twice what a run showed.
    """
    proven = _Going(deck, trees, choices, {}, DeckRanges()).ranges
    if not any(seen.values()):
        return proven
    shown = _Going(deck, trees, choices, seen, proven).ranges
    for name, block in shown.blocks.items():
        safe = proven.blocks[name].ranges
        block.ranges = {n: _safer(r, safe.get(n)) for n, r in block.ranges.items()}
    return shown


def _safer(shown: Range, proven: Range | None) -> Range:
    """The range that needs nothing that was only seen, where it has ends."""
    if shown.source in (Source.HAND, Source.RUN):
        return shown
    if proven is not None and proven.interval.size <= GREATEST:
        return proven
    return replace(shown, source=Source.FOLLOWS if shown.interval.finite else Source.NONE)


class _Going:
    """Through a deck again and again from what is known of what comes from outside."""

    def __init__(
        self,
        deck: ControlDeck,
        trees: Mapping[str, BlockTree],
        choices: Choices,
        seen: Mapping[str, float],
        proven: DeckRanges,
    ) -> None:
        self.deck, self.trees = deck, trees
        self.ranges = DeckRanges()
        self.known: dict[str, Interval] = {}
        for signal in deck.measured:
            own = Hints({"": choices.ranges[signal]} if signal in choices.ranges else {}, {"": seen.get(signal, 0.0)})
            end = own.assuming({""}) if own.may_assume("") else own
            self.ranges.outside[signal] = end.decide("", EVERYTHING)
            self.known[signal] = self.ranges.outside[signal].interval
        for block in deck.blocks:
            self.known |= {f"{block.name}.{p}": Interval(0.0, 0.0) for p in block.outputs}
        self.hints = {b.name: hints_of(trees[b.name], choices, seen) for b in deck.blocks}
        for name, ranges in proven.blocks.items():
            safe = frozenset(n for n, r in ranges.ranges.items() if r.interval.size <= GREATEST)
            self.hints[name] = replace(self.hints[name], safe=safe, room=room_in(choices, name))
        self.inputs: dict[str, dict[str, Interval]] = {}
        self.boundless: dict[str, frozenset[str]] = dict.fromkeys((b.name for b in deck.blocks), frozenset())
        self.settle()

    def settle(self) -> None:
        rounds = 0
        while grown := self.round():
            rounds += 1
            if rounds < EXACT_ROUNDS:
                self.known |= {n: self.known[n].hull(i) for n, i in grown.items()}
            elif rounds < ROUNDS:  # what stays within when it may go twice as far is bounded
                self.known |= {n: twice(self.known[n], i) for n, i in grown.items()}
            else:
                self.let_go(next(iter(grown)))
        if rounds >= EXACT_ROUNDS:
            for _ in range(NARROWING_ROUNDS):
                self.known |= {n: i for n, i in self.given().items() if i.within(self.known[n])}
                self.round()

    def round(self) -> dict[str, Interval]:
        """Once through all blocks; the outputs that go beyond what was known of them."""
        grown: dict[str, Interval] = {}
        for block in self.deck.blocks:
            self.block(block)
            for name, after in self.given(block).items():
                if not after.within(self.known[name]):
                    grown[name] = after
                    self.known[name] = self.known[name].hull(after)
        return grown

    def block(self, block: BlockInstance) -> None:
        tree, hints = self.trees[block.name], self.hints[block.name]
        inputs = {p: self.known[str(block.sources[p])] for p in tree.inputs}
        if self.inputs.get(block.name) == inputs:
            return
        self.inputs[block.name] = inputs
        if tree.verbatim:
            ends = hints.assuming(p for p in block.outputs if hints.may_assume(p))
            ranges = BlockRanges({p: ends.decide(p, EVERYTHING) for p in block.outputs}, assumed=ends.assumed)
        else:
            ranges = block_ranges(tree, inputs, hints)
        if block.sensor:  # what it gives was seen as well as what it measures
            ends = hints.assuming(p for p in block.outputs if hints.may_assume(p))
            ranges.ranges |= {p: ends.decide(p, ranges.ranges[p].reaches) for p in block.outputs if p in ranges.ranges}
        self.hints[block.name] = hints.assuming(ranges.assumed)
        self.boundless[block.name] |= ranges.boundless
        ranges.boundless = self.boundless[block.name]
        for port in block.outputs:
            ranges.ranges.setdefault(port, NOTHING)
        self.ranges.blocks[block.name] = ranges

    def given(self, *blocks: BlockInstance) -> dict[str, Interval]:
        """Ranges of outputs of blocks, of all where none is named."""
        return {
            f"{block.name}.{p}": self.ranges.blocks[block.name].interval(p)
            for block in blocks or self.deck.blocks
            for p in block.outputs
        }

    def let_go(self, signal: str) -> None:
        """Give up to bound an output: it ends at twice what a run showed of it, or has no end."""
        block, _, port = signal.partition(".")
        hints = self.hints[block]
        if hints.may_assume(port):
            self.hints[block] = hints.assuming({port})
            self.boundless[block] |= {port}
            self.known[signal] = symmetric(2.0 * hints.seen[port])
            del self.inputs[block]
        else:
            self.known[signal] = EVERYTHING


def room_in(choices: Choices, block: str) -> float:
    """How many times as wide as twice what was seen a range may be in a block's words, or in those of what it feeds
    where it is in float itself."""
    number = choices.of(block)
    fixed = [n for n in (choices.default, *choices.blocks.values()) if n.fixed]
    bits = number.bits if number.fixed else min((n.bits for n in fixed), default=64)
    return 2.0 ** (bits - 1 - DIGITS_LEFT)


def twice(known: Interval, grown: Interval) -> Interval:
    """A side that grows, twice as far."""
    return Interval(
        2.0 * min(grown.low, 0.0) if grown.low <= known.low else known.low,
        2.0 * max(grown.high, 0.0) if grown.high >= known.high else known.high,
    )


def hints_of(tree: BlockTree, choices: Choices, seen: Mapping[str, float]) -> Hints:
    """What is known of a block's names that have a word. What counts in exact steps is not bounded by a run that
    happened to end."""
    stem = f"{tree.name}."
    counts = {n for n in tree.states if grid(n, tree, {}, 3) is not None}
    placed = {*tree.memory, *assigned_often(tree.body), LINE} - counts
    by_hand = {n.removeprefix(stem): i for n, i in choices.ranges.items() if n.startswith(stem)}
    sizes = {n.removeprefix(stem): x for n, x in seen.items() if n.startswith(stem)}
    return Hints(by_hand, {n: x for n, x in sizes.items() if n in placed})

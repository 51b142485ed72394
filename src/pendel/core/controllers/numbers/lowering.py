"""A control deck in number formats: ranges through all blocks, words for all signals, and the C of each
block."""

from __future__ import annotations

import contextlib
import itertools
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from pendel.core.controllers.c_names import drive_name, identifiers
from pendel.core.controllers.deck import ControlDeck, Part, Step
from pendel.core.controllers.numbers.block import LINE, BlockTree
from pendel.core.controllers.numbers.deck_ranges import (
    Choices,
    DeckRanges,
    control_blocks,
    deck_ranges,
    trees_of,
)
from pendel.core.controllers.numbers.digits import grid
from pendel.core.controllers.numbers.explained import NamedNumbers
from pendel.core.controllers.numbers.fixed import FixedWriter
from pendel.core.controllers.numbers.floating import LARGEST, LEAST, FloatWriter, sums_in
from pendel.core.controllers.numbers.integers import Coefficient
from pendel.core.controllers.numbers.intervals import TURN, Interval, symmetric
from pendel.core.controllers.numbers.live import LiveNumber, LiveNumbers, renamed
from pendel.core.controllers.numbers.ranges import (
    BlockRanges,
    Source,
)
from pendel.core.controllers.numbers.representation import (
    FLOAT,
    GREATEST,
    NumberFormat,
    Rep,
    turn_word,
    whole_word,
    word_for,
)
from pendel.core.controllers.numbers.tree import (
    CannotLower,
    Expr,
    Statement,
    assigned_often,
    assignments,
)

OWN_MEMBERS = ("in", "out", "tick")
FIRST_KEY = 1001
"""Of blocks whose key is not pinned."""
REMEDY = "Run the drive once and find ranges, set one for it, or choose float."


@dataclass(frozen=True)
class Input:
    """A signal from outside; ``turn`` where it counts as an angle."""

    signal: str
    turn: bool = False


@dataclass
class LoweredBlock:
    """A block in its number format."""

    tree: BlockTree
    number: NumberFormat
    ranges: BlockRanges
    reps: dict[str, Rep]
    places: dict[str, str] = field(default_factory=dict)
    bodies: dict[Part, list[str]] = field(default_factory=dict)
    tables: list[str] = field(default_factory=list)
    coefficients: list[Coefficient] = field(default_factory=list)
    divisors: list[Expr] = field(default_factory=list)
    lost: dict[str, float] = field(default_factory=dict)
    coarse: dict[Expr, Interval] = field(default_factory=dict)
    jumps: dict[str, float] = field(default_factory=dict)
    """What its outputs change by at least, by a step of what they are computed from."""
    limited: set[str] = field(default_factory=set)
    numbers: LiveNumbers = field(default_factory=LiveNumbers)
    live: tuple[LiveNumber, ...] = ()
    """What it computes from its live values when these change."""
    counting: bool = False
    """Whether its C counts steps that a sum loses, and what its words cut off, ..."""
    counted: dict[str, str] = field(default_factory=dict)
    """... and then the states, by their counters in C, ..."""
    cut: dict[str, str] = field(default_factory=dict)
    """... and names whose words cut something off, by theirs."""

    @property
    def name(self) -> str:
        return self.tree.name

    @property
    def value_bits(self) -> int:
        """Of the float in which its live values are kept and worked with: as exact as its words are."""
        return 64 if self.number in (NumberFormat.FLOAT64, NumberFormat.FIXED32) else 32


@dataclass(eq=False)
class Lowered:
    """A deck in number formats, ready to be written."""

    deck: ControlDeck
    choices: Choices
    blocks: list[LoweredBlock]
    ranges: DeckRanges
    """Ranges of all names, sensors' and the plant's too."""
    inputs: dict[Input, Rep]
    seen: Mapping[str, float]

    @cached_property
    def name(self) -> str:
        return drive_name(self.deck.name)

    @cached_property
    def members(self) -> dict[str, str]:
        return identifiers((b.name for b in self.blocks), OWN_MEMBERS)

    @cached_property
    def value_structs(self) -> dict[str, str]:
        """Names, beside the members, for the live values of blocks that have some."""
        wished = {b.name: f"{self.members[b.name]}_values" for b in self.blocks if b.tree.live}
        names = identifiers(wished.values(), (*self.members.values(), *OWN_MEMBERS))
        return {block: names[text] for block, text in wished.items()}

    @cached_property
    def fed(self) -> dict[Input, str]:
        """Members of the struct of inputs."""
        signals = [i.signal for i in self.inputs]
        wished = {i: f"{i.signal}_turn" if i.turn and signals.count(i.signal) > 1 else i.signal for i in self.inputs}
        names = identifiers(wished.values())
        return {i: names[text] for i, text in wished.items()}

    @cached_property
    def given(self) -> dict[str, str]:
        """Members of the struct of outputs by command."""
        return identifiers(c for c, s in self.deck.commands.items() if s.partition(".")[0] in self.members)

    @property
    def steps(self) -> list[Step]:
        return [s for s in self.deck.steps if s.block in self.members]

    def block(self, name: str) -> LoweredBlock:
        return next(b for b in self.blocks if b.name == name)

    @cached_property
    def keys(self) -> dict[str, int]:
        """Numbers by which blocks are found: pinned ones, and for the others those that follow in running order
        behind all that can be pinned."""
        pinned = self.choices.keys
        free = (n for n in itertools.count(FIRST_KEY))
        return {b.name: pinned.get(b.name) or next(free) for b in self.blocks}

    def place(self, signal: str) -> str:
        """Where a signal or state of a block is in the controller's struct."""
        name, _, port = signal.partition(".")
        return f"{self.members[name]}.{self.block(name).places[port].removeprefix('b->')}"

    def rep(self, signal: str) -> Rep:
        """How a signal of the deck is held."""
        name, _, port = signal.partition(".")
        return self.block(name).reps[port]


def lower(
    deck: ControlDeck,
    choices: Choices,
    seen: Mapping[str, float] | None = None,
    *,
    counting: bool = False,
) -> Lowered:
    """A deck in number formats.

    Parameters
    ----------
    seen
        the largest absolute value of signals (``block.port``, SI) in a run.
    counting
        whether the C counts steps that sums lose and what words cut off, which what is shipped does not.

    Raises
    ------
    CannotLower
        naming the block, why it has no C in its format, and the remedy.
    """
    seen = seen or {}
    trees = trees_of(deck, choices)
    ranges = deck_ranges(deck, trees, choices, seen)
    lowered = [
        LoweredBlock(trees[b.name], choices.of(b.name), ranges.blocks[b.name], {}, counting=counting)
        for b in control_blocks(deck)
    ]
    lowered_deck = Lowered(deck, choices, lowered, ranges, {}, seen)
    for block in lowered:
        with too_far_apart(block):
            signal_words(block)
    lowered_deck.inputs.update(input_words(lowered_deck))
    for block in lowered:
        with too_far_apart(block):
            inner_words(lowered_deck, block)
            write(lowered_deck, block)
    return lowered_deck


@contextlib.contextmanager
def too_far_apart(block: LoweredBlock) -> Iterator[None]:
    """Numbers that arithmetic cannot bring together are reported at their block."""
    try:
        yield
    except ArithmeticError as problem:
        raise CannotLower(
            block.tree.title,
            "numbers of its update lie too far apart for words. Check its values, or choose float.",
        ) from problem


# words ----------------------------------------------------------------------------------------------------


def usable(block: LoweredBlock, name: str) -> Interval:
    """The range of a name, which a word needs."""
    known = block.ranges.ranges.get(name)
    if known is None:
        return Interval(0.0, 0.0)
    if not known.interval.finite:
        raise CannotLower(
            block.tree.title,
            f"{name} has no range that can be proven. {REMEDY}",
        )
    return held(block.tree.title, name, known.interval)


def held(title: str, name: str, interval: Interval) -> Interval:
    """A range that words can hold. Raises `CannotLower`."""
    if interval.size > GREATEST:
        raise CannotLower(
            title,
            f"what is proven of {name} ends at {interval.size:.3g}, more than words can hold. {REMEDY}",
        )
    return interval


def signal_words(block: LoweredBlock) -> None:
    """Words of a block's outputs."""
    if not block.number.fixed:
        block.reps |= dict.fromkeys(block.tree.outputs, FLOAT[block.number.bits])
        return
    if block.tree.verbatim and not block.tree.instance.code.words.strip():
        raise CannotLower(
            block.tree.title,
            "its C is written for float. Choose float 32 or float 64 for it, or write its update in words.",
        )
    bits = block.number.bits
    for port in block.tree.outputs:
        if port in block.tree.angles:
            block.reps[port] = turn_word(bits)
            continue
        digits = None if block.tree.verbatim else grid(port, block.tree, {}, 3)
        block.reps[port] = named_word(block, port, bits, digits)


def reaches(block: LoweredBlock, name: str) -> Interval:
    """What a name may come to without a limit; zero where nothing that can happen assigns it."""
    known = block.ranges.ranges.get(name)
    return known.reaches if known is not None else Interval(0.0, 0.0)


def counter(block: LoweredBlock, name: str, digits: int) -> Rep:
    """A word of 32 bits for what counts in exact steps: as far as is proven, and not as a run happened to
    end, since a count that ends early is another count."""
    proven = reaches(block, name)
    interval = proven if proven.finite else symmetric((2.0**30 - 4.0) / 2.0**digits)
    return word_for(interval, 32, headroom=1, grid=digits)


def named_word(block: LoweredBlock, name: str, bits: int, digits: int | None, headroom: int = 0) -> Rep:
    rep = word_for(usable(block, name), bits, headroom=headroom, grid=digits)
    known = block.ranges.ranges.get(name)
    return rep if known is None else up_to_its_end(rep, known.source)


def up_to_its_end(rep: Rep, source: Source) -> Rep:
    """A word that ends where its range does, if that is sure or somebody's limit; else it holds all it can."""
    return rep if source in (Source.PROVEN, Source.HAND) else whole_word(rep)


def input_words(lowered: Lowered) -> dict[Input, Rep]:
    """How what comes from outside is held: as the richest format that reads it needs."""
    readers: dict[Input, list[LoweredBlock]] = {}
    inside = set(lowered.members)
    for block in lowered.blocks:
        for port in block.tree.inputs:
            signal = str(block.tree.instance.sources[port])
            if signal.partition(".")[0] not in inside:
                key = Input(signal, port in block.tree.angle_inputs and not _is_64(block))
                readers.setdefault(key, []).append(block)
    order = {s: k for k, s in enumerate((*lowered.deck.signals, *lowered.deck.measured))}
    keys = sorted(readers, key=lambda i: (order.get(i.signal, len(order)), i.turn))
    return {key: _outside_word(lowered, key, readers[key]) for key in keys}


def _is_64(block: LoweredBlock) -> bool:
    return block.number is NumberFormat.FLOAT64


def _outside_word(lowered: Lowered, key: Input, blocks: Iterable[LoweredBlock]) -> Rep:
    number = max((b.number for b in blocks), key=lambda n: n.richness)
    if not number.fixed:
        return FLOAT[number.bits]
    if key.turn:
        return turn_word(number.bits)
    known = lowered.ranges.of(key.signal)
    if not known.interval.finite:
        raise CannotLower(
            lowered.deck.title_of(key.signal),
            "it has no range. Run the drive once and find ranges, set one, or give its converter a range.",
        )
    word = word_for(held(lowered.deck.title_of(key.signal), key.signal, known.interval), number.bits)
    return up_to_its_end(word, known.source)


def inner_words(lowered: Lowered, block: LoweredBlock) -> None:
    """Words of inputs, states, and locals that are assigned more than once."""
    tree, number = block.tree, block.number
    for port in tree.inputs:
        block.reps[port] = input_rep(lowered, block, port)
    if not number.fixed:
        block.reps |= dict.fromkeys((*tree.states, *tree.locals), FLOAT[number.bits])
        if tree.places:
            block.reps[LINE] = FLOAT[number.bits]
        return
    bits = number.bits
    if tree.verbatim:
        maximum = 2 ** (2 * bits - 1) - 1
        block.reps |= dict.fromkeys(tree.states, Rep(False, 2 * bits, 0, -maximum, maximum))
        return
    grids = {p: block.reps[p].fraction for p in tree.inputs if not block.reps[p].angle and block.reps[p].fraction <= 0}
    for name in tree.states:
        if name in tree.angles:
            block.reps[name] = turn_word(32)
            continue
        digits = grid(name, tree, grids, 3)
        summed = name in tree.accumulated
        if digits is not None and (summed or not reaches(block, name).finite):
            block.reps[name] = counter(block, name, digits)
            continue
        size = 2 * bits if summed else bits
        block.reps[name] = named_word(block, name, size, digits, headroom=1 if size > bits or size == 32 else 0)
    often = assigned_often(tree.body)
    for name in tree.locals:
        if name in tree.angles:
            block.reps[name] = turn_word(32)
        elif name in often:
            block.reps[name] = named_word(block, name, 32, grid(name, tree, grids, 3), headroom=1)
    if tree.places:
        line = block.ranges.ranges.get(LINE)
        interval = line.interval if line else Interval(0.0, 0.0)
        if not interval.finite:
            raise CannotLower(tree.title, "what it remembers has no range. Find ranges, or choose float.")
        word = word_for(held(tree.title, "what it remembers", interval), bits)
        block.reps[LINE] = up_to_its_end(word, line.source) if line else word


def input_rep(lowered: Lowered, block: LoweredBlock, port: str) -> Rep:
    """How a block takes an input: as it comes where that is its own format, else in its own."""
    signal = str(block.tree.instance.sources[port])
    source = source_rep(lowered, block, port)
    if not block.number.fixed:
        return FLOAT[block.number.bits]
    if port in block.tree.angle_inputs:
        return turn_word(block.number.bits)
    if not source.floating and not source.angle and source.bits == block.number.bits:
        return source
    if source.angle:
        return whole_word(word_for(TURN, block.number.bits))
    name, _, out = signal.partition(".")
    if name in lowered.members:
        interval = usable(lowered.block(name), out)
    else:
        interval = lowered.ranges.of(signal).interval
    if not interval.finite:
        raise CannotLower(lowered.deck.title_of(signal), f"{out} has no range. Find ranges, or set one for it.")
    return whole_word(word_for(held(block.tree.title, port, interval), block.number.bits))


def source_rep(lowered: Lowered, block: LoweredBlock, port: str) -> Rep:
    """How the signal that an input reads is held."""
    signal = str(block.tree.instance.sources[port])
    if signal.partition(".")[0] in lowered.members:
        return lowered.rep(signal)
    return lowered.inputs[input_key(block, port)]


def input_key(block: LoweredBlock, port: str) -> Input:
    signal = str(block.tree.instance.sources[port])
    return Input(signal, port in block.tree.angle_inputs and not _is_64(block))


# C --------------------------------------------------------------------------------------------------------


def write(lowered: Lowered, block: LoweredBlock) -> None:
    """The statements of a block."""
    tree = block.tree
    names = identifiers([*tree.inputs, *tree.outputs, *tree.states, *tree.locals], ("b", "past", "at", "c", "values"))
    fields = {n: f"b->{names[n]}" for n in (*tree.outputs, *tree.states)}
    block.places = {n: fields.get(n, names[n]) for n in names}
    block.places[""] = f"{lowered.name}_{lowered.members[block.name]}"
    rest = {f"{n}_rest" for n in names.values()}
    block.numbers = LiveNumbers(
        identifiers(v.name for v in tree.live), {*names.values(), *rest, "past", "at", "values"}
    )
    if tree.verbatim:
        return
    parts = {Part.GIVE: tree.give, Part.TAKE: tree.take} if tree.split else {Part.WHOLE: tree.give}
    for part, body in parts.items():
        block.bodies[part] = fixed_body(block, body) if block.number.fixed else float_body(block, body)
    settled = block.numbers.settle(line for lines in block.bodies.values() for line in lines)
    block.bodies = {part: renamed(lines, settled) for part, lines in block.bodies.items()}
    block.live = tuple(settled.values())
    refuse_beyond_float(block)


def refuse_beyond_float(block: LoweredBlock) -> None:
    """Raise `CannotLower` where a live value, or what hangs on it in float, is more or less than 32 bits
    hold."""
    if block.value_bits == 64:
        return
    reached: dict[str, tuple[float, ...]] = {v.name: (v.start, v.ends.low, v.ends.high) for v in block.tree.live}
    reached |= {n.name: (n.live.low, n.live.high) for n in block.live if n.rep.floating}
    for name, numbers in reached.items():
        for x in numbers:
            if abs(x) > LARGEST or 0.0 < abs(x) < LEAST:
                raise CannotLower(
                    block.tree.title,
                    f"with live values, {name} reaches {x:.3g}, which 32-bit float does not hold. "
                    "Narrow the range, or choose float 64 for it.",
                )


def float_body(block: LoweredBlock, body: tuple[Statement, ...]) -> list[str]:
    numbers = NamedNumbers(names_taken(block))
    writer = FloatWriter(block.tree, block.number.bits, block.places, block.tables, block.numbers, numbers)
    used = {a.name for a in assignments(body)}
    often = [n for n in block.tree.locals if n in assigned_often(body) and n in used]
    zero = writer.constant(0.0)
    head = [f"    {writer.c_type} {block.places[n]} = {zero};" for n in often]
    declared = {*often, *block.tree.outputs, *block.tree.states}
    return numbers.settled([*head, *writer.statements(body, declared)])


def names_taken(block: LoweredBlock) -> frozenset[str]:
    """Names that a block's functions use."""
    return frozenset({"b", *(place for place in block.places.values() if "->" not in place)})


def fixed_body(block: LoweredBlock, body: tuple[Statement, ...]) -> list[str]:
    writer = FixedWriter(
        block.tree,
        block.number.bits,
        block.reps,
        places=dict(block.places),
        tables=block.tables,
        live=block.numbers,
        numbers=NamedNumbers(names_taken(block)),
        counting=f"pd_at_{block.name}_{len(block.bodies)}_" if block.counting else "",
        unsure=frozenset(n for n, r in block.ranges.ranges.items() if r.source is not Source.PROVEN),
    )
    env: dict[str, tuple[int, int]] = {}
    used = {a.name for a in assignments(body)}
    own = [n for n in block.tree.locals if n in block.reps and n in used]
    for name in own:
        if not block.reps[name].angle:
            env[name] = (0, 0)
    head = [f"    {block.reps[n].c_type} {block.places[n]} = 0;" for n in own]
    lines = writer.numbers.settled(without_unused([*head, *writer.statements(body, env)]))
    block.coefficients += writer.coefficients
    block.divisors += writer.divisors
    block.lost |= writer.lost
    # A quotient that may be far larger than all that the block takes, keeps and gives has digits for nothing.
    held = [rep.range.size for rep in block.reps.values() if rep.range is not None]
    beyond = 2.0 ** (block.number.bits // 2) * max(held, default=1.0)
    block.coarse |= {quotient: reach for quotient, reach in writer.coarse.items() if reach.high > beyond}
    block.limited |= writer.limited
    for name in block.tree.outputs:
        block.jumps[name] = max(writer.jumps.get(name, 0.0), block.jumps.get(name, 0.0))
    block.counted |= {f"{writer.counting}{k}": name for k, name in enumerate(writer.counted)}
    block.cut |= {f"{writer.counting}cut{k}": name for k, name in enumerate(writer.cut)}
    return lines


DECLARED = re.compile(r"^ +(?:const )?(?:u?int\d+_t) (\w+) = ")


def without_unused(lines: list[str]) -> list[str]:
    """Lines without locals that nothing reads, since bounds have decided what would have read them."""
    while True:
        counts = Counter(word for line in lines for word in re.findall(r"\w+", line))
        kept = [line for line in lines if not ((m := DECLARED.match(line)) and counts[m[1]] == 1)]
        if len(kept) == len(lines):
            return lines
        lines = kept


def rests(block: LoweredBlock) -> frozenset[str]:
    """States with a field for what their sums round away."""
    return sums_in(block.tree) if block.number is NumberFormat.FLOAT32 and not block.tree.verbatim else frozenset()


__all__ = [
    "Choices",
    "Input",
    "Lowered",
    "LoweredBlock",
    "control_blocks",
    "lower",
    "rests",
]

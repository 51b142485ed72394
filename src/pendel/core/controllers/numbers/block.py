"""A block as it is shipped: its tree, what it reads and remembers, and which of its names are angles."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

from pendel.core.controllers.deck import BlockInstance
from pendel.core.controllers.language import Update
from pendel.core.controllers.numbers.explained import Explained
from pendel.core.controllers.numbers.filling import Specialiser, live_value
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.pruning import pruned, read_at_first, without_repeats
from pendel.core.controllers.numbers.tree import (
    Call,
    CannotLower,
    Const,
    Expr,
    Fixed,
    Live,
    Name,
    Statement,
    Sum,
    assignments,
    expressions,
)

MOST_PLACES, LINE = 1_000_000, "the past"
"""Periods that a delay line remembers at most, and the name of what it holds among a block's names."""


@dataclass(frozen=True)
class LiveValue:
    """A value that can be changed while the code runs: what it is when it starts, and its ends; SI."""

    name: str
    start: float
    ends: Interval


@dataclass(frozen=True, eq=False)
class BlockTree:
    """One block of a drive with its values filled in.

    ``give`` is the whole update, or where a loop needs its output before its input the first half, and ``take``
    then the second.
    """

    instance: BlockInstance
    give: tuple[Statement, ...]
    take: tuple[Statement, ...]
    inputs: tuple[str, ...]
    """Inputs that are read and wired."""
    states: tuple[str, ...]
    """What is remembered and read again."""
    angle_inputs: frozenset[str]
    angle_outputs: frozenset[str]
    live: tuple[LiveValue, ...] = ()
    """Values that can be changed while the code runs, as far as it reads them."""

    @property
    def name(self) -> str:
        return self.instance.name

    @property
    def title(self) -> str:
        return self.instance.title

    @property
    def outputs(self) -> tuple[str, ...]:
        return self.instance.outputs

    @property
    def body(self) -> tuple[Statement, ...]:
        return (*self.give, *self.take)

    @property
    def verbatim(self) -> bool:
        return bool(self.instance.code.verbatim)

    @property
    def split(self) -> bool:
        return bool(self.take)

    @cached_property
    def memory(self) -> tuple[str, ...]:
        """Names that keep their value from one update to the next: states, and outputs that are read before
        they are assigned or not assigned always."""
        return (*self.states, *self.outputs)

    @cached_property
    def locals(self) -> tuple[str, ...]:
        fields = {*self.inputs, *self.memory}
        return tuple(dict.fromkeys(a.name for a in assignments(self.body) if a.name not in fields))

    @cached_property
    def accumulated(self) -> frozenset[str]:
        """States that an assignment makes from themselves, whose small increments must not be lost."""
        return frozenset(a.name for a in assignments(self.body) if a.name in self.states and a.name in a.value.names)

    @cached_property
    def angles(self) -> frozenset[str]:
        """Names that are angles, which wrap: angle ports, and what is assigned an angle."""
        angles = {*self.angle_inputs, *self.angle_outputs}
        while True:
            more = {a.name for a in assignments(self.body) if is_angle(a.value, angles)} - angles
            if not more:
                return frozenset(angles)
            angles |= more

    @property
    def places(self) -> int:
        """Places of its delay line."""
        recalled = [
            e.args[0]
            for whole in expressions(self.body)
            for e in whole.walk()
            if isinstance(e, Call) and e.function == "recalled"
        ]
        if not recalled:
            return 0
        (ticks,) = set(recalled) if len(set(recalled)) == 1 else (None,)
        value = getattr(ticks, "value", None)
        if value is None or not 1 <= value <= MOST_PLACES:
            raise CannotLower(self.title, "its delay is no constant number of periods.")
        return int(value)

    def table_values(self, layer: int | None) -> list[float]:
        """Values of its table; of one layer of a map."""
        second = [b for _, b in self.instance.table]
        if layer is None or not second:
            return second
        nx, ny = (int(self.instance.table[k][0]) for k in (0, 1))
        return second[layer * nx * ny : (layer + 1) * nx * ny]


def is_angle(expr: Expr, angles: set[str]) -> bool:
    """Whether an expression wraps: an angle, or one and something added to it."""
    match expr:
        case Name(name):
            return name in angles
        case Call("wrapped" | "atan2", _):
            return True
        case Sum(left, right, minus):
            return is_angle(left, angles) or (not minus and is_angle(right, angles))
    return False


def block_tree(
    block: BlockInstance, tick: float, *, split: bool = False, live: Mapping[str, Interval] | None = None
) -> BlockTree:
    """Fill in what is known of a block in a deck of this base period (s).

    Parameters
    ----------
    live
        values that are not filled in, as they can be changed while the code runs, with their ends (SI).

    Raises
    ------
    CannotLower
        where its values lead to no number, or a live one lies beyond its ends.
    """
    return _block_tree(_Key(block, live or {}), tick * block.every, split)


class _Key:
    """A block by what its tree depends on."""

    def __init__(self, block: BlockInstance, live: Mapping[str, Interval]):
        self.block, self.live = block, live
        self.key = (
            (block.name, block.title, block.kind, block.code, block.inputs, block.outputs),
            (tuple(block.values.items()), tuple(block.sources.items()), tuple(live.items())),
            (block.holds, block.turns, block.table, block.every, block.phase, tuple(block.written.items())),
        )

    def __hash__(self) -> int:
        return hash(self.key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Key) and self.key == other.key


@lru_cache(maxsize=512)
def _block_tree(key: _Key, period: float, split: bool) -> BlockTree:
    block = key.block
    code = block.code
    wired = tuple(p for p in block.inputs if block.sources.get(p) and p in code.arguments)
    angles = frozenset(block.turns) & frozenset(wired)
    angle_outputs = frozenset(block.turns) & frozenset(block.outputs)
    live = live_values(block, key.live)
    if code.verbatim:
        return BlockTree(block, (), (), wired, block.states, angles, angle_outputs, live)
    numbers = {v: block.values[v] for v in block.used_values}
    numbers |= {p: 0.0 for p in block.inputs if p not in wired} | {"dt": period}
    for name, value in numbers.items():
        if not math.isfinite(value):
            raise CannotLower(block.title, f"its value {name} is {value}. Check its values.")
    known: dict[str, Fixed] = {name: Const(Explained(value, (name,))) for name, value in numbers.items()}
    known |= {v.name: live_value(v.name, v.start, v.ends) for v in live}
    return _with_known(block, known, wired, angles, angle_outputs, split)


def live_values(block: BlockInstance, live: Mapping[str, Interval]) -> tuple[LiveValue, ...]:
    """The values of a block that are live. Raises `CannotLower` where one lies beyond its ends."""
    values = tuple(LiveValue(v, block.values[v], live[v]) for v in block.used_values if v in live)
    for v in values:
        if v.start not in v.ends:
            raise CannotLower(
                block.title,
                f"its live value {v.name} is {v.start:.6g} (SI), and goes from {v.ends.low:.6g} to "
                f"{v.ends.high:.6g}. "
                "Widen its range, or change the value.",
            )
    return values


def _with_known(
    block: BlockInstance,
    known: dict[str, Fixed],
    wired: tuple[str, ...],
    angles: frozenset[str],
    angle_outputs: frozenset[str],
    split: bool,
) -> BlockTree:
    begun = dict(known)
    specialiser = Specialiser(block.title, frozenset({*block.code.arguments, *block.code.locals}))
    parts: Sequence[Update] = block.code.halves(block.holds) if split else (block.code,)
    halves = [specialiser.body(part.body, known) for part in parts]
    whole = tuple(s for half in halves for s in half)
    states = needed_states(block, whole)
    never = {s for s in states if s not in {a.name for a in assignments(pruned(whole, frozenset(states)))}}
    if never:  # what nothing assigns stays at its start
        still = {**dict.fromkeys(never, Const(0.0)), **begun}
        return _with_known(block, still, wired, angles, angle_outputs, split)
    kept = frozenset({*states, *block.outputs})
    taken = frozenset({*block.code.arguments, *block.code.locals})
    take = without_repeats(pruned(halves[1], kept), taken) if split else ()
    crossing = frozenset(read_at_first(take)) - frozenset(wired) if split else frozenset()
    give = without_repeats(pruned(halves[0], kept | crossing), taken)
    extra = tuple(sorted(crossing - kept))
    inner = [e for whole in expressions((*give, *take)) for e in whole.walk()]
    refuse_endless(block.title, inner)
    used = {e.name for e in inner if isinstance(e, Name)}
    ports = tuple(p for p in wired if p in used)
    hung = {n for e in inner if isinstance(e, Live) for n in e.of.names}
    of = {n: e for n, e in begun.items() if isinstance(e, Live) and n in hung}
    live = tuple(LiveValue(n, e.now, Interval(e.low, e.high)) for n, e in of.items())
    return BlockTree(block, give, take, ports, (*states, *extra), angles & used, angle_outputs, live)


def refuse_endless(title: str, inner: Sequence[Expr]) -> None:
    """Raise `CannotLower` where constants or what hangs on live values may be beyond all numbers."""
    numbers = [getattr(e, "value", getattr(e, "factor", 0.0)) for e in inner]
    if not all(math.isfinite(x) for x in numbers if isinstance(x, float)):
        raise CannotLower(title, "its values lead to numbers beyond all bounds. Check its values.")
    for e in inner:
        if isinstance(e, Live) and not (math.isfinite(e.now) and math.isfinite(e.size)):
            names = " and ".join(sorted(e.of.names))
            raise CannotLower(title, f"with {names} live, it leads to numbers beyond all bounds. Narrow the range.")


def needed_states(block: BlockInstance, body: tuple[Statement, ...]) -> tuple[str, ...]:
    """States that outputs hang on, through the updates that follow too."""
    needed: set[str] = set()
    while True:
        live = pruned(body, frozenset({*needed, *block.outputs}))
        read = read_at_first(live) & set(block.states)
        if read <= needed:
            return tuple(s for s in block.states if s in needed)
        needed |= read

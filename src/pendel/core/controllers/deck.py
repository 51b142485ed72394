"""The control deck as data: sensors and blocks with their values, sources and rates, in running order."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum
from functools import cached_property, lru_cache
from graphlib import CycleError, TopologicalSorter
from heapq import heappop, heappush
from typing import NamedTuple

from pendel.core.controllers.language import Update, read_update
from pendel.core.errors import PendelError


class LoopWithoutDelay(PendelError):
    """Blocks feed each other within one tick."""

    def __init__(self, names: tuple[str, ...]):
        super().__init__(names)
        self.names = names

    def __str__(self) -> str:
        names = " → ".join((*self.names, self.names[0]))
        return f"{names} feed each other within one tick. Put a delay or an integrator into the loop."


@dataclass(frozen=True)
class Regulation:
    """A loop that a block closes: ports of setpoint, actual value and output, and which of its values are the
    gains.

    ``gains`` maps what a rule speaks of (``K_p``, ``T_i``, ``T_d``) to the block's values. A block whose
    whole output grows with one value, such as a bandwidth, gives that as ``K_p`` and says so by ``scaled``.
    """

    setpoint: str = "setpoint"
    actual: str = "actual"
    out: str = "out"
    gains: Mapping[str, str] = field(default_factory=dict)
    axis: str = ""
    scaled: bool = False


@lru_cache(maxsize=256)
def delays_in(code: Update) -> tuple[str, ...]:
    """Values of an update that tell how far back its delay line is read."""
    calls = (n for statement in code.body for n in ast.walk(statement) if isinstance(n, ast.Call))
    return tuple(
        last.id
        for call in calls
        if isinstance(call.func, ast.Name)
        and call.func.id in ("delayed", "recalled")
        and isinstance(last := call.args[-1], ast.Name)
    )


@dataclass(frozen=True)
class BlockInstance:
    """One block of the deck.

    ``sources`` maps input ports to the signal they read (``card.port``) or ``None``.
    ``values`` are in SI and include derived ones; ``table`` is a profile's corners.
    """

    name: str
    kind: str
    title: str
    update: Callable[..., None] | Update
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    values: dict[str, float]
    sources: dict[str, str | None]
    every: int
    sensor: bool
    holds: frozenset[str] = frozenset()
    turns: frozenset[str] = frozenset()
    """Ports of an angle, which counts within one turn."""
    table: tuple[tuple[float, float], ...] = ()
    regulates: tuple[Regulation, ...] = ()
    compares: Regulation | None = None
    smooth: Mapping[str, float] = field(default_factory=dict)
    bounds: Mapping[str, str] = field(default_factory=dict)
    phase: int = 0
    """At which tick of its period it runs."""
    written: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    """Its values as they stand in the drive, with the unit that each is declared in."""
    only_turning: bool = False
    """Whether what it gives means nothing while nothing turns."""

    def runs_at(self, tick: int) -> bool:
        return (tick - self.phase) % self.every == 0

    @property
    def code(self) -> Update:
        return read_update(self.update)

    @cached_property
    def states(self) -> tuple[str, ...]:
        """Arguments that are neither ports, values, memory nor the period."""
        known = {*self.inputs, *self.outputs, *self.values, "dt", *self.code.memory}
        return tuple(a for a in self.code.arguments if a not in known)

    @cached_property
    def line_places(self) -> int:
        """Places that its delay line needs: for the longest delay, one more to interpolate, and the
        present."""
        return 2 + math.ceil(max((self.values.get(name, 0.0) for name in delays_in(self.code)), default=0.0))

    @cached_property
    def used_values(self) -> tuple[str, ...]:
        return tuple(a for a in self.code.arguments if a in self.values)


@dataclass(frozen=True, eq=False)
class ControlDeck:
    """Blocks in running order, the base period (s) and what the plant exchanges with them.

    Compared and hashed as itself, so that what follows from a deck can be kept for it.
    """

    name: str
    blocks: tuple[BlockInstance, ...]
    tick: float
    delay: int
    measured: tuple[str, ...]
    """Plant signals that are read, ``card.signal``."""
    commands: dict[str, str]
    """Plant inputs and the block signal that feeds each."""

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        """The calls of a tick, in order."""
        return running_steps(self.blocks)

    @cached_property
    def form(self) -> tuple[object, ...]:
        """All but the numbers: decks of one form have the same code."""
        blocks = tuple(
            (
                b.name,
                b.kind,
                b.title,
                b.code,
                b.inputs,
                b.outputs,
                tuple(b.values),
                tuple(b.sources.items()),
                b.every,
                b.phase,
                b.sensor,
                b.holds,
                b.turns,
                len(b.table),
            )
            for b in self.blocks
        )
        return self.name, self.tick, self.delay, self.measured, tuple(self.commands.items()), blocks

    @property
    def signals(self) -> list[str]:
        return [f"{b.name}.{port}" for b in self.blocks for port in b.outputs]

    @property
    def rates(self) -> list[int]:
        return sorted({b.every for b in self.blocks})

    @property
    def period(self) -> int:
        """Ticks after which the schedule repeats."""
        return math.lcm(*self.rates) if self.blocks else 1

    def title_of(self, signal: str) -> str:
        """Title of the block that gives a signal; the signal itself where the plant does."""
        block = self._by_name.get(signal.partition(".")[0])
        return block.title if block else signal

    def block(self, name: str) -> BlockInstance:
        return self._by_name[name]

    @cached_property
    def _by_name(self) -> dict[str, BlockInstance]:
        return {b.name: b for b in self.blocks}


class Part(Enum):
    """What of a block runs: all of it, or where a loop needs it first what it gives and later what it takes
    in."""

    WHOLE = "update"
    GIVE = "give"
    TAKE = "take"


@dataclass(frozen=True)
class Step:
    """One call in a tick."""

    block: str
    part: Part = Part.WHOLE

    def reads(self, block: BlockInstance) -> tuple[str, ...]:
        """Inputs that are fetched for this call."""
        return {
            Part.WHOLE: block.inputs,
            Part.GIVE: tuple(p for p in block.inputs if p not in block.holds),
            Part.TAKE: block.inputs,
        }[self.part]


def running_steps(blocks: Sequence[BlockInstance]) -> tuple[Step, ...]:
    """Calls in an order in which each block reads what its sources give in the same tick; sensors first, else
    as drawn.

    A block that only remembers some input, such as an integrator, is cut in two where it closes a loop, so
    that its reader gets its output and it gets its input of the same tick, wherever it stands.

    Raises
    ------
    LoopWithoutDelay
        naming the blocks of a loop in which every block passes its input on at once.
    """
    return _ordered_steps(
        tuple(RunsIn(b.name, b.sensor, b.holds, tuple((p, s) for p, s in b.sources.items() if s)) for b in blocks)
    )


class RunsIn(NamedTuple):
    """What the order of calls depends on."""

    name: str
    sensor: bool
    holds: frozenset[str]
    sources: tuple[tuple[str, str], ...]


@lru_cache(maxsize=64)
def _ordered_steps(blocks: tuple[RunsIn, ...]) -> tuple[Step, ...]:
    by_name = {b.name: b for b in blocks}
    feeds = [
        (giver, port, b.name)
        for b in blocks
        for port, source in b.sources
        if (giver := source.split(".")[0]) in by_name
    ]
    cut = {name for name in _looped(feeds) if by_name[name].holds}
    before: dict[Step, list[Step]] = {}
    for b in blocks:
        if b.name in cut:
            before[Step(b.name, Part.TAKE)] = [Step(b.name, Part.GIVE)]
        else:
            before[Step(b.name)] = []
    for giver, port, name in feeds:
        reader = Step(name) if name not in cut else Step(name, Part.TAKE if port in by_name[name].holds else Part.GIVE)
        before.setdefault(reader, []).append(Step(giver, Part.GIVE) if giver in cut else Step(giver))
    place = {b.name: (not b.sensor, n) for n, b in enumerate(blocks)}
    return _in_order(before, lambda step: (*place[step.block], step.part.value))


def _looped(feeds: Sequence[tuple[str, str, str]]) -> set[str]:
    """The blocks that are part of loops."""
    sources: dict[str, list[str]] = {}
    for giver, _, name in feeds:
        sources.setdefault(name, []).append(giver)
    try:
        TopologicalSorter(sources).prepare()
        return set()
    except CycleError:
        import networkx as nx  # slow to load, and few drives have loops without a plant in them

        whole = nx.DiGraph((giver, name) for giver, _, name in feeds)
        looped = {n for part in nx.strongly_connected_components(whole) for n in part if len(part) > 1}
        return looped | {giver for giver, _, name in feeds if giver == name}


def _in_order(before: Mapping[Step, Sequence[Step]], key: Callable[[Step], tuple]) -> tuple[Step, ...]:
    """Steps with each behind those `before` it, the least of a key next. Raises `LoopWithoutDelay`."""
    sorter = TopologicalSorter(before)
    try:
        sorter.prepare()
    except CycleError:
        import networkx as nx

        loop = nx.find_cycle(nx.DiGraph((a, b) for b, sources in before.items() for a in sources))
        raise LoopWithoutDelay(tuple(dict.fromkeys(a.block for a, _ in loop))) from None
    steps, ready = list[Step](), list[tuple[tuple, Step]]()
    while sorter.is_active():
        for step in sorter.get_ready():
            heappush(ready, (key(step), step))
        _, step = heappop(ready)
        steps.append(step)
        sorter.done(step)
    return tuple(steps)


def in_running_order(blocks: Sequence[BlockInstance]) -> tuple[BlockInstance, ...]:
    """Blocks in the order of their first call. Raises `LoopWithoutDelay`."""
    by_name = {b.name: b for b in blocks}
    return tuple(by_name[name] for name in dict.fromkeys(s.block for s in running_steps(blocks)))

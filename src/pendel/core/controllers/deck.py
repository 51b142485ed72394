"""The control deck as data: sensors and blocks with their values, sources and rates, in running order."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from pendel.core.controllers.language import Update, read_update
from pendel.core.errors import PendelError


class LoopWithoutDelay(PendelError):
    """Blocks feed each other within one tick."""

    def __init__(self, names: tuple[str, ...]):
        super().__init__(names)
        self.names = names

    def __str__(self) -> str:
        return f"{' → '.join((*self.names, self.names[0]))} feed each other within one tick. Put a delay or an integrator into the loop."


@dataclass(frozen=True)
class BlockInstance:
    """One block of the deck.

    ``sources`` maps input ports to the signal they read (``card.port``) or ``None``.
    ``values`` are in SI and include derived ones; ``table`` is a profile's corners.
    """

    name: str
    kind: str
    title: str
    update: Callable[..., None]
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    values: dict[str, float]
    sources: dict[str, str | None]
    every: int
    sensor: bool
    holds: frozenset[str] = frozenset()
    table: tuple[tuple[float, float], ...] = ()
    regulates: bool = False

    @property
    def code(self) -> Update:
        return read_update(self.update)

    @property
    def states(self) -> tuple[str, ...]:
        """Arguments that are neither ports, values, memory nor the period."""
        known = {*self.inputs, *self.outputs, *self.values, "dt", *self.code.memory}
        return tuple(a for a in self.code.arguments if a not in known)

    @property
    def used_values(self) -> tuple[str, ...]:
        return tuple(a for a in self.code.arguments if a in self.values)


@dataclass(frozen=True)
class ControlDeck:
    """Blocks in running order, the base period (s) and what the plant exchanges with them."""

    name: str
    blocks: tuple[BlockInstance, ...]
    tick: float
    delay: int
    measured: tuple[str, ...]
    """Plant signals that are read, ``card.signal``."""
    commands: dict[str, str]
    """Plant inputs and the block signal that feeds each."""

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

    def block(self, name: str) -> BlockInstance:
        return next(b for b in self.blocks if b.name == name)


def in_running_order(blocks: list[BlockInstance]) -> tuple[BlockInstance, ...]:
    """Sort so that every block runs after those it reads within the tick; sensors first, else as drawn.

    Raises
    ------
    LoopWithoutDelay
        naming the blocks of a loop in which every block passes its input on at once.
    """
    import networkx as nx  # slow to load, and not needed before the first ordering

    by_name = {b.name: b for b in blocks}
    graph = nx.DiGraph()
    graph.add_nodes_from(by_name)
    for block in blocks:
        for port, source in block.sources.items():
            giver = source.split(".")[0] if source else ""
            if giver in by_name and port not in block.holds:
                graph.add_edge(giver, block.name)
    place = {b.name: (not b.sensor, n) for n, b in enumerate(blocks)}
    try:
        return tuple(by_name[n] for n in nx.lexicographical_topological_sort(graph, key=lambda n: place[n]))
    except nx.NetworkXUnfeasible:
        loop = nx.find_cycle(graph)
        raise LoopWithoutDelay(tuple(a for a, _ in loop)) from None

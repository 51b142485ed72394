"""Wires become equations: across is equal along a wire, through sums to zero. Alike in every domain."""

from __future__ import annotations

import functools
import itertools
import operator
from collections.abc import Hashable, Iterable, Mapping, Sequence
from typing import TypeVar

import casadi as ca

from pendel.core.equations.context import Network, Pin
from pendel.core.equations.skeleton import PinName

Item = TypeVar("Item", bound=Hashable)


def connect(
    network: Network,
    ports: Mapping[tuple[str, str], int],
    electric: Iterable[tuple[str, ...]],
    joins: Iterable[tuple[PinName, PinName]],
) -> dict[tuple[str, str], list[Pin]]:
    """Give every port its pins and state the connection equations.

    Parameters
    ----------
    ports
        number of lines of each port (two for a DC pair).
    electric
        groups ``(card, port, port, …)`` of electrical ports with a common potential. A group that no part ties
        to zero gets its first line tied, since only differences of potential matter.
    joins
        pairs of lines that a wire joins.
    """
    every: list[PinName] = [(*port, n) for port, count in ports.items() for n in range(count)]
    across: dict[PinName, ca.SX] = {}
    node_of: dict[PinName, int] = {}
    pins: dict[tuple[str, str], list[Pin]] = {key: [] for key in ports}
    nodes = [sorted(node) for node in joined(every, joins)]
    through: dict[PinName, ca.SX] = {}
    for number, node in enumerate(nodes):
        symbol = network.unknown("across:" + ".".join(map(str, node[0])))
        for pin in node:
            across[pin], node_of[pin] = symbol, number
            through[pin] = network.unknown("through:" + ".".join(map(str, pin)))
    sums = [functools.reduce(operator.add, (through[pin] for pin in node)) for node in nodes]
    lines, ties = dict[int, None](), list[tuple[int, int]]()
    for card, *group in electric:
        own = [node_of[(card, port, n)] for port in group for n in range(ports[(card, port)])]
        lines |= dict.fromkeys(own)
        ties += zip(own, own[1:])
    for island in joined(list(lines), ties):
        first = min(island)
        if not any(card_pin_is_ground(pin, ports) for n in island for pin in nodes[n]):
            tie = network.unknown(f"tie:{first}")
            sums[first] = sums[first] + tie
            network.equation(nodes[first][0][0], across[nodes[first][0]])
    for node, total in zip(nodes, sums):
        network.equation(node[0][0], total)
    for (card, port), count in ports.items():
        pins[(card, port)] = [Pin(across[(card, port, n)], through[(card, port, n)]) for n in range(count)]
    return pins


def joined(items: Sequence[Item], pairs: Iterable[tuple[Item, Item]]) -> list[list[Item]]:
    """Items in groups that pairs join, in the order of the first of each. CasADi finds them as the blocks of a
    symmetric pattern; to load a library of graphs would take longer than most drives take to be ordered."""
    place = {item: k for k, item in enumerate(items)}
    ends = [(place[a], place[b]) for a, b in pairs]
    rows, columns = [a for a, _ in ends], [b for _, b in ends]
    pattern = ca.Sparsity.triplet(len(items), len(items), rows + columns, columns + rows)
    _, order, begins = (pattern + ca.Sparsity.diag(len(items))).scc()
    groups = sorted(sorted(order[a:b]) for a, b in itertools.pairwise(begins))
    return [[items[k] for k in group] for group in groups]


GROUND_PORT = "line"


def card_pin_is_ground(pin: PinName, ports: Mapping[tuple[str, str], int]) -> bool:
    """A part whose only port is a single line cannot be anything but a tie of the potential."""
    card, port, _ = pin
    return ports[(card, port)] == 1 and port == GROUND_PORT and sum(1 for c, _ in ports if c == card) == 1

"""Wires become equations: across is equal along a wire, through sums to zero. Alike in every domain."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import casadi as ca

from pendel.core.equations.context import Network, Pin
from pendel.core.equations.skeleton import PinName


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
    import networkx as nx  # slow to load, and not needed before the first ordering

    graph = nx.Graph()
    for (card, port), count in ports.items():
        graph.add_nodes_from((card, port, n) for n in range(count))
    graph.add_edges_from(joins)
    across: dict[PinName, ca.SX] = {}
    node_of: dict[PinName, int] = {}
    pins: dict[tuple[str, str], list[Pin]] = {key: [] for key in ports}
    nodes = [sorted(node) for node in nx.connected_components(graph)]
    through: dict[PinName, ca.SX] = {}
    for number, node in enumerate(nodes):
        symbol = network.unknown("across:" + ".".join(map(str, node[0])))
        for pin in node:
            across[pin], node_of[pin] = symbol, number
            through[pin] = network.unknown("through:" + ".".join(map(str, pin)))
    sums = [sum((through[pin] for pin in node), ca.SX(0)) for node in nodes]
    islands = nx.Graph()
    for card, *group in electric:
        lines = [node_of[(card, port, n)] for port in group for n in range(ports[(card, port)])]
        islands.add_nodes_from(lines)
        islands.add_edges_from(zip(lines, lines[1:]))
    for island in nx.connected_components(islands):
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


GROUND_PORT = "line"


def card_pin_is_ground(pin: PinName, ports: Mapping[tuple[str, str], int]) -> bool:
    """A part whose only port is a single line cannot be anything but a tie of the potential."""
    card, port, _ = pin
    return ports[(card, port)] == 1 and port == GROUND_PORT and sum(1 for c, _ in ports if c == card) == 1

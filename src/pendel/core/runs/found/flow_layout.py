"""Places for a picture of energy flows: columns by the longest way from a source, widths by energy.

Of a circle of flows the weakest turns back; within a column nodes stand in the order of what comes to them (one pass of
the barycentre heuristic: Sugiyama, Tagawa, Toda, IEEE Trans. SMC 11 (1981) 109, from memory)."""

from __future__ import annotations

from dataclasses import dataclass

from pendel.core.runs.found.flows import EnergyFlows, Flow, NodeEnergy


@dataclass(frozen=True)
class Block:
    """A node's place: its column, and top and height in the same measure as `Band` (all of a column is at most 1)."""

    node: NodeEnergy
    column: int
    top: float
    height: float


@dataclass(frozen=True)
class Band:
    """A flow from the right side of one block to the left side of another: where it begins and ends, and its width."""

    flow: Flow
    begins: float
    ends: float
    width: float


@dataclass(frozen=True)
class FlowLayout:
    """``scale`` is the width of one joule."""

    blocks: tuple[Block, ...]
    bands: tuple[Band, ...]
    columns: int
    scale: float


def laid_out(of: EnergyFlows, *, gap: float = 0.16) -> FlowLayout:
    """``gap`` lies between two blocks of a column, as a share of the height; less where there are many."""
    columns = columns_of(of)
    count = 1 + max(columns.values(), default=0)
    most = max((list(columns.values()).count(n) for n in range(count)), default=1)
    gap = min(gap, 0.6 / max(1, most - 1))
    members: list[list[NodeEnergy]] = [[] for _ in range(count)]
    place: dict[str, float] = {}
    for node in of.nodes:
        members[columns[node.key]].append(node)
    for column in members:
        column.sort(key=lambda node: centre(node, of.flows, place))
        for n, node in enumerate(column):
            place[node.key] = (n + 0.5) / len(column)
    room = min(
        ((1 - gap * (len(c) - 1)) / total for c in members if c and (total := sum(n.through for n in c)) > 0),
        default=0.0,
    )
    blocks: dict[str, Block] = {}
    for number, column in enumerate(members):
        top = 0.5 * (1 - room * sum(n.through for n in column) - gap * (len(column) - 1))
        for node in column:
            blocks[node.key] = Block(node, number, top, room * node.through)
            top += room * node.through + gap
    return FlowLayout(tuple(blocks.values()), bands(of, blocks, room), count, room)


def centre(node: NodeEnergy, flows: tuple[Flow, ...], place: dict[str, float]) -> float:
    """Where what comes to a node comes from, on the whole."""
    into = [(f.energy, place[f.source]) for f in flows if f.target == node.key and f.source in place]
    whole = sum(energy for energy, _ in into)
    return sum(energy * at for energy, at in into) / whole if whole > 0 else 0.5


def columns_of(of: EnergyFlows) -> dict[str, int]:
    """By node, the longest way to it."""
    left = sorted(of.flows, key=lambda f: -f.energy)
    onward: dict[str, set[str]] = {node.key: set() for node in of.nodes}
    for flow in left:
        if flow.source in onward and flow.target in onward and not reaches(onward, flow.target, flow.source):
            onward[flow.source].add(flow.target)
    columns = dict.fromkeys(onward, 0)
    for _ in onward:
        for source, targets in onward.items():
            for target in targets:
                columns[target] = max(columns[target], columns[source] + 1)
    return columns


def reaches(onward: dict[str, set[str]], begin: str, end: str) -> bool:
    seen, open_ = set[str](), [begin]
    while open_:
        node = open_.pop()
        if node == end:
            return True
        if node not in seen:
            seen.add(node)
            open_ += onward[node]
    return False


def bands(of: EnergyFlows, blocks: dict[str, Block], room: float) -> tuple[Band, ...]:
    """Flows side by side at both ends, in the order of the blocks at the other end."""
    begins, ends = {}, {}
    known = [f for f in of.flows if f.source in blocks and f.target in blocks]
    for key, block in blocks.items():
        at = block.top
        for flow in sorted((f for f in known if f.source == key), key=lambda f: blocks[f.target].top):
            begins[flow] = at
            at += room * flow.energy
        at = block.top
        for flow in sorted((f for f in known if f.target == key), key=lambda f: blocks[f.source].top):
            ends[flow] = at
            at += room * flow.energy
    return tuple(Band(f, begins[f], ends[f], room * f.energy) for f in known)

"""Sources that conducting devices short-circuit: for good, which stops a run, or long enough to be told."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from typing import Any

import networkx as nx
import numpy as np

from pendel.core.catalogue.declare import LEVELS, Part
from pendel.core.drive.document import Drive
from pendel.core.equations.flatten import joins, port_lines
from pendel.core.plant.program import DeviceTest, ShortPath
from pendel.core.quantities.units import figure
from pendel.core.runs.kept import KeptRun, Remark

FOR_GOOD = 1e-3
"""s. What lasts longer, or to the end of the run, is no slow gate but a wrong circuit."""
SOURCES = {
    "dc_source": (("dc", 0), ("dc", 1)),
    "ac_source": (("a", 0), ("b", 0)),
    "set_voltage": (("a", 0), ("b", 0)),
}
"""Pins between which a source holds its voltage."""
DEVICES = {"transistor": ("gate", "transistor"), "switch": ("gate",), "diode": ("diode",)}
"""Modes any of which lets a device of two ends conduct."""
STIFF_SOURCES = ("dc_source", "set_voltage")
"""Sources with no inductance, which nothing but the devices limits; only these stop a run."""
MOST_PATHS, MOST_DEVICES = 64, 6
THROUGH = {
    "pair_opener": ((("pair", 0), ("plus", 0)), (("pair", 1), ("minus", 0))),
    "ammeter": ((("a", 0), ("b", 0)),),
}
"""Pins of a part that are one."""


def short_paths(
    drive: Drive, kind_of: Callable[[Any], Any], mode_keys: Sequence[str]
) -> tuple[ShortPath, ...]:
    """The ways from one end of a stiff source to the other that lead through devices alone."""
    sources = [key for key, card in drive.cards.items() if card.kind in STIFF_SOURCES]
    devices = conducting_devices(drive, kind_of, mode_keys) if sources else []
    if not devices:
        return ()
    still = still_joined(drive, kind_of)
    node = {pin: n for n, pins in enumerate(nx.connected_components(still)) for pin in pins}

    def place(pin):
        return node.setdefault(pin, len(node))

    graph = nx.MultiGraph()
    for number, (_, _, a, b) in enumerate(devices):
        graph.add_edge(place(a), place(b), number)
    found: list[ShortPath] = []
    for source in sources:
        plus, minus = (place((source, *pin)) for pin in SOURCES[drive.cards[source].kind])
        if plus == minus or not (plus in graph and minus in graph):
            continue
        ways = nx.all_simple_edge_paths(graph, plus, minus, cutoff=MOST_DEVICES)
        for way in itertools.islice(ways, MOST_PATHS):
            chosen = [devices[number] for _, _, number in way]
            found.append(ShortPath(source, tuple(d[0] for d in chosen), tuple(d[1] for d in chosen)))
    return tuple(found)


def lasting_shorts(run: KeptRun, drive: Drive, kind_of: Callable[[Any], Any]) -> list[Remark]:
    """A remark on each source whose ends devices join for good, with these devices and the current."""
    columns, paths = conducting_paths(run, drive, kind_of)
    sources = [key for key, card in drive.cards.items() if card.kind in SOURCES]
    if not columns or not sources:
        return []
    t = run.rows[:, 0]
    modes, row_of = distinct(run.rows[:, columns] > 0.5)
    still = still_joined(drive, kind_of)
    found: list[Remark] = []
    for source in sources:
        plus, minus = ((source, *pin) for pin in SOURCES[drive.cards[source].kind])
        culprits = [path_between(still, paths, mode, plus, minus) for mode in modes]
        shorted = np.array([bool(c) for c in culprits])[row_of]
        edges = np.flatnonzero(np.diff(np.concatenate([[0], shorted.astype(int), [0]])))
        for begins, ends in zip(edges[::2], edges[1::2]):
            until_end = ends >= len(t)
            lasts = t[min(ends, len(t) - 1)] - t[begins]
            if lasts >= 0.999 * FOR_GOOD or (until_end and lasts > 0.5 * (t[-1] - t[0])):
                found.append(
                    remark(run, drive, source, culprits[row_of[begins]], t[begins], lasts, until_end)
                )
                break
    return found


def distinct(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distinct rows of truths, and for each row which of them it is; packed into one number where they fit."""
    bits = np.arange(rows.shape[1], dtype=np.int64)
    if len(bits) > 62:
        found, of = np.unique(rows, axis=0, return_inverse=True)
        return found, of.ravel()
    codes, of = np.unique(rows @ (1 << bits), return_inverse=True)
    return (codes[:, None] >> bits) & 1, of


def remark(
    run: KeptRun, drive: Drive, source: str, culprits: list[str], begins: float, lasts: float, until_end: bool
) -> Remark:
    names = [drive.cards[c].name for c in dict.fromkeys(culprits)]
    current = run.trace(f"{source}.current")
    inside = (current.t >= begins) & (current.t <= begins + lasts)
    peak = figure(float(np.max(np.abs(current.y[inside]))), "A", 3)
    span = "to the end of the run" if until_end else f"for {figure(lasts, 's', 3)}"
    return Remark(
        f"{' and '.join(names)} short-circuit{'s' if len(names) == 1 else ''} {drive.cards[source].name} "
        f"from {figure(begins, 's', 4)} on {span}, up to {peak}. Check what drives the gates and which way "
        "the diodes point.",
        culprits[0],
        float(begins),
    )


def conducting_paths(
    run: KeptRun, drive: Drive, kind_of: Callable[[Any], Any]
) -> tuple[list[int], list[tuple[Any, ...]]]:
    """Columns of the rows that tell what conducts, and for each device its columns' places among them and its
    ends."""
    keys = run.structure.mode_keys
    first = run.rows.shape[1] - len(keys)
    devices = conducting_devices(drive, kind_of, keys)
    columns = list(dict.fromkeys(first + keys.index(m) for _, test, _, _ in devices for m in test.modes))
    paths = [
        (
            key,
            all if test.all_needed else any,
            [columns.index(first + keys.index(m)) for m in test.modes],
            a,
            b,
        )
        for key, test, a, b in devices
    ]
    return columns, paths


def conducting_devices(
    drive: Drive, kind_of: Callable[[Any], Any], mode_keys: Sequence[str]
) -> list[tuple[str, DeviceTest, tuple, tuple]]:
    """Each device, or leg of a converter, that can join two pins: its card, when it conducts, the pins."""
    found: list[tuple[str, DeviceTest, tuple, tuple]] = []
    for key, card in drive.cards.items():
        modes = tuple(m for n in DEVICES.get(card.kind, ()) if (m := f"{key}.{n}") in mode_keys)
        if modes:
            found.append((key, DeviceTest(modes), (key, "a", 0), (key, "b", 0)))
        # With a level above, the gates of a leg never overlap.
        kind = kind_of(card)
        deepest = isinstance(kind, Part) and kind.level(card, drive.settings["level"]) == LEVELS[-1]
        for leg in kind.legs if isinstance(kind, Part) and deepest else ():
            gates = tuple(f"{key}.{leg.gate(side)}" for side in ("upper", "lower"))
            if all(g in mode_keys for g in gates):
                found.append((key, DeviceTest(gates, True), (key, "dc", 0), (key, "dc", 1)))
    return found


def still_joined(drive: Drive, kind_of: Callable[[Any], Any]) -> nx.Graph:
    """Pins that wires and openers make one."""
    graph = nx.Graph()
    graph.add_edges_from(joins(drive, port_lines({key: kind_of(c) for key, c in drive.cards.items()})))
    grounds = [(key, "line", 0) for key, c in drive.cards.items() if c.kind == "ground"]
    graph.add_edges_from(zip(grounds, grounds[1:]))
    for key, card in drive.cards.items():
        graph.add_edges_from(((key, *a), (key, *b)) for a, b in THROUGH.get(card.kind, ()))
    return graph


def path_between(
    still: nx.Graph, paths: list[tuple], mode: np.ndarray, plus: tuple, minus: tuple
) -> list[str]:
    """Devices that lead from one end of a source to the other in these modes; empty where none do."""
    graph = still.copy()
    graph.add_nodes_from((plus, minus))
    for key, decide, places, a, b in paths:
        if places and decide(mode[p] for p in places):
            graph.add_edge(a, b, device=key)
    if not nx.has_path(graph, plus, minus):
        return []
    way = nx.shortest_path(graph, plus, minus)
    return [d for a, b in zip(way, way[1:]) if (d := graph.edges[a, b].get("device"))]


__all__ = ["FOR_GOOD", "lasting_shorts", "short_paths"]

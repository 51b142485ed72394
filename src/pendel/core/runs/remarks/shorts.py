"""Sources that conducting devices short-circuit: for good, which stops a run, or long enough to be told."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.catalogue.declare import Kind, Part
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Remark
from pendel.core.equations.flatten import joins, port_lines
from pendel.core.equations.skeleton import PinName
from pendel.core.plant.program import DeviceTest, ShortPath
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import Conduction, deepest

if TYPE_CHECKING:
    import networkx as nx

FOR_GOOD = 1e-3
"""s. What lasts longer, or to the end of the run, is no slow gate but a wrong circuit."""
MOST_PATHS, MOST_DEVICES = 64, 6
Device = tuple[str, DeviceTest, PinName, PinName]
"""A card, when it conducts, and the pins that it joins then."""
Path = tuple[str, Callable[[Iterable[object]], bool], list[int], PinName, PinName]
"""A card, whether all or any of its modes must be on, their places, and the pins."""


def short_paths(drive: Drive, kinds: Mapping[str, Kind], mode_keys: Sequence[str]) -> tuple[ShortPath, ...]:
    """The ways from one end of a stiff source to the other that lead through devices alone."""
    sources = {key: held for key, held in voltage_sources(kinds).items() if held.stiff}
    devices = conducting_devices(drive, kinds, mode_keys) if sources else []
    if not devices:
        return ()
    import networkx as nx  # slow to load

    still = still_joined(drive, kinds)
    node = {pin: n for n, pins in enumerate(nx.connected_components(still)) for pin in pins}

    def place(pin: tuple[str, str, int]) -> int:
        return node.setdefault(pin, len(node))

    graph = nx.MultiGraph()
    for number, (_, _, a, b) in enumerate(devices):
        graph.add_edge(place(a), place(b), number)
    paths: list[ShortPath] = []
    for source, held in sources.items():
        plus, minus = (place((source, *pin)) for pin in held.ends or ())
        if plus == minus or not (plus in graph and minus in graph):
            continue
        ways = nx.all_simple_edge_paths(graph, plus, minus, cutoff=MOST_DEVICES)
        for way in itertools.islice(ways, MOST_PATHS):
            chosen = [devices[number] for _, _, number in way]
            paths.append(ShortPath(source, tuple(d[0] for d in chosen), tuple(d[1] for d in chosen)))
    return tuple(paths)


def lasting_shorts(run: KeptRun, drive: Drive, kinds: Mapping[str, Kind]) -> list[Remark]:
    """A remark on each source whose ends devices join for good, with these devices and the current."""
    columns, paths = conducting_paths(run, drive, kinds)
    sources = voltage_sources(kinds)
    if not columns or not sources:
        return []
    t = run.rows[:, 0]
    modes, row_of = distinct(run.rows[:, columns] > 0.5)
    still = still_joined(drive, kinds)
    remarks: list[Remark] = []
    for source, held in sources.items():
        plus, minus = ((source, *pin) for pin in held.ends or ())
        culprits = [path_between(still, paths, mode, plus, minus) for mode in modes]
        shorted = np.array([bool(c) for c in culprits])[row_of]
        edges = np.flatnonzero(np.diff(np.concatenate([[0], shorted.astype(int), [0]])))
        for begins, ends in zip(edges[::2], edges[1::2]):
            until_end = ends >= len(t)
            lasts = t[min(ends, len(t) - 1)] - t[begins]
            if lasts >= 0.999 * FOR_GOOD or (until_end and lasts > 0.5 * (t[-1] - t[0])):
                remarks.append(
                    remark(
                        run,
                        drive,
                        f"{source}.{held.current}",
                        culprits[row_of[begins]],
                        t[begins],
                        lasts,
                        until_end,
                    )
                )
                break
    return remarks


def voltage_sources(kinds: Mapping[str, Kind]) -> dict[str, Conduction]:
    """Parts that hold a voltage between their ends."""
    parts = {key: kind.conduction for key, kind in kinds.items() if isinstance(kind, Part)}
    return {key: own for key, own in parts.items() if own.holds_voltage and own.ends}


def distinct(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distinct rows of truths, and for each row which of them it is; packed into one number where they
    fit."""
    bits = np.arange(rows.shape[1], dtype=np.int64)
    if len(bits) > 62:
        unlike, of = np.unique(rows, axis=0, return_inverse=True)
        return unlike, of.ravel()
    codes, of = np.unique(rows @ (1 << bits), return_inverse=True)
    return (codes[:, None] >> bits) & 1, of


def remark(
    run: KeptRun,
    drive: Drive,
    current: str,
    culprits: list[str],
    begins: float,
    lasts: float,
    until_end: bool,
) -> Remark:
    """``current`` is the source's, by its key; ``culprits`` are the cards that conduct."""
    names = [drive.cards[c].name for c in dict.fromkeys(culprits)]
    source = current.partition(".")[0]
    trace = run.trace(current)
    inside = (trace.t >= begins) & (trace.t <= begins + lasts)
    peak = figure(float(np.max(np.abs(trace.y[inside]))), "A", 3)
    span = "to the end of the run" if until_end else f"for {figure(lasts, 's', 3)}"
    return Remark(
        f"{' and '.join(names)} short-circuit{'s' if len(names) == 1 else ''} {drive.cards[source].name} "
        f"from {figure(begins, 's', 4)} on {span}, up to {peak}. Check what drives the gates and which way "
        "the diodes point.",
        culprits[0],
        float(begins),
    )


def conducting_paths(run: KeptRun, drive: Drive, kinds: Mapping[str, Kind]) -> tuple[list[int], list[Path]]:
    """Columns of the rows that tell what conducts, and for each device its columns' places among them and its
    ends."""
    keys = run.structure.mode_keys
    first = run.rows.shape[1] - len(keys)
    devices = conducting_devices(drive, kinds, keys)
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


def conducting_devices(drive: Drive, kinds: Mapping[str, Kind], mode_keys: Sequence[str]) -> list[Device]:
    """Each device, or leg of a converter, that can join two pins: its card, when it conducts, the pins."""
    devices: list[Device] = []
    for key, kind in kinds.items():
        if not isinstance(kind, Part):
            continue
        own = kind.conduction
        modes = tuple(m for n in own.conducts if (m := f"{key}.{n}") in mode_keys)
        if modes and own.ends:
            devices.append((key, DeviceTest(modes), (key, *own.ends[0]), (key, *own.ends[1])))
        if kind.level(drive.cards[key], drive.settings["level"]) != deepest():
            continue  # only there can the gates of a leg overlap
        for leg in kind.legs:
            gates = tuple(f"{key}.{leg.gate(side)}" for side in ("upper", "lower"))
            if all(g in mode_keys for g in gates):
                devices.append((key, DeviceTest(gates, True), (key, leg.rails, 0), (key, leg.rails, 1)))
    return devices


def still_joined(drive: Drive, kinds: Mapping[str, Kind]) -> nx.Graph:
    """Pins that wires and openers make one."""
    import networkx as nx  # slow to load

    graph = nx.Graph()
    every = {key: kind for key, kind in kinds.items() if isinstance(kind, Part)}
    graph.add_edges_from(joins(drive, port_lines(drive, every)))
    parts = {key: kind.conduction for key, kind in kinds.items() if isinstance(kind, Part)}
    earthed = [(key, *own.earths) for key, own in parts.items() if own.earths]
    graph.add_edges_from(itertools.pairwise(earthed))
    for key, own in parts.items():
        graph.add_edges_from(((key, *a), (key, *b)) for a, b in own.joined)
    return graph


def path_between(still: nx.Graph, paths: list[Path], mode: np.ndarray, plus: PinName, minus: PinName) -> list[str]:
    """Devices that lead from one end of a source to the other in these modes; empty where none do."""
    import networkx as nx  # slow to load

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

"""How the shafts of an engine, of machines and of a vehicle hang together: in fixed ratios, as gears without slip
tell them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.declare import Kind, Part
from pendel.core.catalogue.settled import Burner, Rigid, Turner
from pendel.core.drive.document import Drive
from pendel.core.equations.connect import joined
from pendel.core.errors import DriveProblem
from pendel.core.vocabulary import SignalRole

Ends = list[tuple[str, str]]
"""Cards and ports."""
RANK = 1e-9


@dataclass(frozen=True)
class Shafts:
    """``ratios``, shape (1 + machines, 1 or 2): speeds of the engine and of the machines over that of the vehicle's
    axle and, where that is free, the engine's."""

    engine: str
    machines: tuple[str, ...]
    ratios: np.ndarray

    @property
    def engine_is_free(self) -> bool:
        return self.ratios.shape[1] == 2

    def torques(self, axle: np.ndarray, engine: np.ndarray) -> np.ndarray:
        """Torques of the machines (N·m), shape (machines, …), with which these and the engine's together are
        ``axle`` at the axle and nothing at a free engine: by virtual power."""
        wanted = [axle - self.ratios[0, 0] * engine]
        if self.engine_is_free:
            wanted.append(-self.ratios[0, 1] * engine)
        inverse = np.linalg.inv(self.ratios[1:].T)
        return np.tensordot(inverse, np.stack(np.broadcast_arrays(*wanted)), axes=1)


def shafts_of(drive: Drive, kinds: Mapping[str, Kind], values: Mapping[str, Mapping[str, float]]) -> Shafts:
    """Raises `DriveProblem` where they do not hang together so."""
    parts = {key: kind for key, kind in kinds.items() if isinstance(kind, Part)}
    engines = [key for key, kind in parts.items() if isinstance(kind.settled, Burner)]
    machines = [key for key, kind in parts.items() if isinstance(kind.settled, Turner)]
    if len(engines) != 1:
        words = "has none" if not engines else "has " + " and ".join(drive.cards[key].name for key in engines)
        raise DriveProblem(f"The best split needs one combustion engine beside machines; this drive {words}.")
    vehicles = [key for key, kind in parts.items() if kind.signal_names(SignalRole.DISTANCE) and shaft_ends(kind, key)]
    if not vehicles:
        raise DriveProblem("The best split needs a vehicle that goes a distance; this drive has none.")
    ends = [end for key, kind in parts.items() for end in shaft_ends(kind, key)]
    wires = [((w.a.card, w.a.port), (w.b.card, w.b.port)) for w in drive.wires.values()]
    groups = joined(ends, [(a, b) for a, b in wires if a in ends and b in ends])
    group_of = {end: number for number, group in enumerate(groups) for end in group}
    reached = reached_from({engines[0], *machines, *vehicles}, parts, groups)
    rows = []
    for key in reached:
        kind, own = parts[key], shaft_ends(parts[key], key)
        if isinstance(kind.settled, Rigid):
            for each in kind.settled.rows(values[key]):
                row = np.zeros(len(groups))
                for port, share in each.items():
                    row[group_of[key, port]] += share
                rows.append(row)
        elif len([end for end in own if len(groups[group_of[end]]) > 1]) > 1:
            raise DriveProblem(
                f"{drive.cards[key].name} lets its shafts turn each as it likes. The best split knows gears, planetary "
                "gears, differentials and what sits on one shaft."
            )
    wanted = [group_of[shaft_ends(parts[key], key)[0]] for key in (engines[0], *machines)]
    axle = group_of[shaft_ends(parts[vehicles[0]], vehicles[0])[0]]
    touched = sorted({group_of[end] for key in reached for end in shaft_ends(parts[key], key)})
    ratios = solved(np.array(rows).reshape(-1, len(groups))[:, touched], touched, axle, wanted)
    if ratios is None:
        raise DriveProblem(
            "The speeds of engine and machines do not follow from those of the vehicle and of the engine alone. The "
            "best split knows drives where they do."
        )
    if len(machines) != ratios.shape[1]:
        raise DriveProblem(
            f"Its {len(machines)} machines could share a torque in more than one way beside the engine, or in none. "
            f"The best split knows drives with {ratios.shape[1]} of them for these shafts."
        )
    return Shafts(engines[0], tuple(machines), ratios)


def shaft_ends(kind: Part, key: str) -> Ends:
    return [(key, port.name) for port in kind.ports if port.link.moves]


def reached_from(begun: set[str], parts: Mapping[str, Part], groups: list[Ends]) -> list[str]:
    """Cards whose shafts hang together with those of others."""
    reached = set(begun)
    while True:
        more = {card for group in groups if any(c in reached for c, _ in group) for card, _ in group} - reached
        if not more:
            return [key for key in parts if key in reached]
        reached |= more


def solved(rows: np.ndarray, touched: list[int], axle: int, wanted: list[int]) -> np.ndarray | None:
    """Speeds over those of the axle and of the engine, the first of ``wanted``; over the axle's alone where all
    follow from that; None where they do not."""
    null = np.eye(len(touched))
    if len(rows):
        _, sizes, right = np.linalg.svd(rows)
        null = right[int(np.sum(sizes > RANK * sizes[0])) :].T
    place = {group: null[k] for k, group in enumerate(touched)}
    for given in ([place[axle]], [place[axle], place[wanted[0]]]):
        base = np.array(given)
        all_of = np.array([place[group] for group in wanted])
        found, _, rank, _ = np.linalg.lstsq(base.T, all_of.T, rcond=None)
        if rank == len(base) and np.allclose(base.T @ found, all_of.T, atol=1e-9):
            return found.T
    return None

"""The loops of a drive, found from its wiring, inside out."""

from __future__ import annotations

from dataclasses import dataclass

from pendel.core.controllers.deck import ControlDeck
from pendel.core.drive.document import Drive
from pendel.core.runs.simulate import Prepared, averaged, prepare, signal_infos


@dataclass(frozen=True)
class Loop:
    """A regulator that acts on what it measures. ``depth`` counts the regulators further in."""

    regulator: str
    kind: str
    label: str
    setpoint: str | None
    actual: str
    """The plant signal that comes back."""
    depth: int
    closed: bool
    period: float


def path_to_plant(
    deck: ControlDeck, signal: str, regulators: set[str], seen: frozenset[str] = frozenset()
) -> tuple[bool, int]:
    """Whether a block signal reaches the plant, and through how many regulators at most."""
    reaches, depth = signal in deck.commands.values(), 0
    for block in deck.blocks:
        if block.name in seen or signal not in block.sources.values():
            continue
        for port in block.outputs:
            on, inner = path_to_plant(deck, f"{block.name}.{port}", regulators, seen | {block.name})
            if on:
                reaches, depth = True, max(depth, inner + (block.name in regulators))
    return reaches, depth


def plant_origin(deck: ControlDeck, signal: str | None, seen: frozenset[str] = frozenset()) -> str | None:
    """The plant signal a block signal comes from, through sensors, gains and filters."""
    if signal is None:
        return None
    if signal in deck.measured:
        return signal
    block = next((b for b in deck.blocks if signal.split(".")[0] == b.name), None)
    if block is None or block.name in seen or block.regulates:
        return None
    found = (plant_origin(deck, s, seen | {block.name}) for s in block.sources.values())
    return next((f for f in found if f), None)


def upstream(deck: ControlDeck, signal: str | None, found: set[str] | None = None) -> set[str]:
    """Blocks that a signal depends on."""
    found = set() if found is None else found
    block = next((b for b in deck.blocks if signal and signal.split(".")[0] == b.name), None)
    if block is not None and block.name not in found:
        found.add(block.name)
        for source in block.sources.values():
            upstream(deck, source, found)
    return found


LABELS = {
    "A": "Current",
    "V": "Voltage",
    "rad/s": "Speed",
    "rpm": "Speed",
    "m/s": "Speed",
    "rad": "Position",
    "m": "Position",
}


def find_loops(drive: Drive, prepared: Prepared | None = None) -> list[Loop]:
    """All loops of a drive. Raises `DriveHasFindings` as `prepare`."""
    prepared = prepared or prepare(averaged(drive))
    deck = prepared.deck
    infos = signal_infos(drive)
    regulators = {b.name for b in deck.blocks if b.regulates}
    loops = []
    for block in deck.blocks:
        if not block.regulates:
            continue
        reaches, depth = path_to_plant(deck, f"{block.name}.{block.outputs[0]}", regulators)
        origin = plant_origin(deck, block.sources.get("actual"))
        if not reaches or origin is None:
            continue
        unit = infos[origin].unit
        shown = infos[block.sources["actual"]].unit if block.sources["actual"] in infos else unit
        label = LABELS.get(shown or unit, LABELS.get(unit, block.title))
        loops.append(
            Loop(
                block.name,
                block.kind,
                label,
                block.sources.get("setpoint"),
                origin,
                depth,
                block.values.get("closed", 1.0) > 0.5,
                deck.tick * block.every,
            )
        )
    return sorted(loops, key=lambda loop: loop.depth)

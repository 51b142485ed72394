"""The loops of a drive, found from its wiring, inside out."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pendel.core.controllers.deck import BlockInstance, ControlDeck, Regulation
from pendel.core.drive.document import Drive
from pendel.core.runs.preparing.simulate import averaged, prepare, signal_infos


@dataclass(frozen=True)
class Loop:
    """A regulator that acts on what it measures. ``depth`` counts the regulators further in."""

    regulator: str
    regulation: Regulation
    label: str
    setpoint: str | None
    """The signal at the regulator's setpoint."""
    source: str
    """The signal at the regulator's actual value."""
    actual: str
    """The plant signal that comes back."""
    depth: int
    closed: bool
    period: float

    @property
    def key(self) -> str:
        """The regulator's card, with the axis' output where it has several."""
        return f"{self.regulator}.{self.regulation.out}" if self.regulation.axis else self.regulator


def directly(deck: ControlDeck, signal: str, regulators: set[str]) -> tuple[bool, list[str]]:
    """Whether a block signal reaches the plant past no regulator, and the regulators that it meets first."""
    reaches, met, seen, ahead = False, [], {signal}, [signal]
    while ahead:
        now = ahead.pop()
        reaches |= now in deck.commands.values()
        for block in deck.blocks:
            if now not in block.sources.values():
                continue
            if block.name in regulators:
                met.append(block.name)
                continue
            new = [s for s in (f"{block.name}.{port}" for port in block.outputs) if s not in seen]
            seen.update(new)
            ahead += new
    return reaches, list(dict.fromkeys(met))


def path_to_plant(
    deck: ControlDeck, signal: str, regulators: set[str], seen: frozenset[str] = frozenset()
) -> tuple[bool, int]:
    """Whether a block signal reaches the plant, and through how many regulators at most. Ways are told apart
    by these alone: those through other blocks may be twice as many for each place at which signals part and
    join."""
    (reaches, met), depth = directly(deck, signal, regulators), 0
    for name in met:
        for port in deck.block(name).outputs if name not in seen else ():
            on, inner = path_to_plant(deck, f"{name}.{port}", regulators, seen | {name})
            if on:
                reaches, depth = True, max(depth, inner + 1)
    return reaches, depth


def plant_origin(deck: ControlDeck, signal: str | None, seen: set[str] | None = None) -> str | None:
    """The plant signal a block signal comes from, through sensors, gains and filters."""
    if signal is None:
        return None
    if signal in deck.measured:
        return signal
    seen = set() if seen is None else seen
    block = next((b for b in deck.blocks if signal.split(".")[0] == b.name), None)
    if block is None or block.name in seen or block.regulates:
        return None
    seen.add(block.name)
    origins = (plant_origin(deck, s, seen) for s in block.sources.values())
    return next((f for f in origins if f), None)


def estimate_in(deck: ControlDeck, source: str) -> str:
    """The title of a block without which a signal has nothing of the plant, and which finds nothing while nothing
    turns; empty where there is none."""
    blocks = [b for b in deck.blocks if b.only_turning]
    if plant_origin(deck, source, {b.name for b in blocks}) is not None:
        return ""
    before = upstream(deck, source)
    return next((b.title for b in blocks if b.name in before), "")


def upstream(deck: ControlDeck, signal: str | None, seen: set[str] | None = None) -> set[str]:
    """Blocks that a signal depends on."""
    seen = set() if seen is None else seen
    block = next((b for b in deck.blocks if signal and signal.split(".")[0] == b.name), None)
    if block is not None and block.name not in seen:
        seen.add(block.name)
        for source in block.sources.values():
            upstream(deck, source, seen)
    return seen


def acting_blocks(deck: ControlDeck) -> set[str]:
    """Blocks that the plant feels; the others only watch."""
    blocks: set[str] = set()
    for signal in deck.commands.values():
        upstream(deck, signal, blocks)
    return blocks


def feeds_a_regulator(deck: ControlDeck, block: BlockInstance, regulators: set[str]) -> bool:
    """Whether what a block gives is the error of a regulator, whose loop it then belongs to: at its actual value, or
    at its setpoint where nothing of the plant comes to that."""
    _, met = directly(deck, f"{block.name}.{block.outputs[0]}", regulators)
    compared = [deck.block(name).sources.get(each.actual) for name in met for each in deck.block(name).regulates]
    return any(plant_origin(deck, source) is None or block.name in upstream(deck, source) for source in compared)


LABELS = {
    "A": "Current",
    "V": "Voltage",
    "rad/s": "Speed",
    "rpm": "Speed",
    "m/s": "Speed",
    "Wb": "Flux",
    "rad": "Position",
    "m": "Position",
}


def find_loops(drive: Drive, deck: ControlDeck | None = None) -> list[Loop]:
    """All loops of a drive, by its control deck. Raises `DriveHasFindings` as `prepare`."""
    deck = deck or prepare(averaged(drive)).deck
    infos = signal_infos(drive)
    regulators = {b.name for b in deck.blocks if b.regulates}
    loops = []
    compared = [(b, b.compares) for b in deck.blocks if b.compares is not None]
    for block, regulation in (
        *((b, each) for b in deck.blocks for each in b.regulates),
        *((b, each) for b, each in compared if not feeds_a_regulator(deck, b, regulators)),
    ):
        reaches, depth = path_to_plant(deck, f"{block.name}.{regulation.out}", regulators)
        source = block.sources.get(regulation.actual)
        origin = plant_origin(deck, source)
        if origin is None:  # wired the other way round, where the plant answers downwards
            regulation = replace(regulation, setpoint=regulation.actual, actual=regulation.setpoint)
            source = block.sources.get(regulation.actual)
            origin = plant_origin(deck, source)
        if not reaches or source is None or origin is None:
            continue
        unit = infos[origin].unit
        shown = infos[source].unit if source in infos else unit
        label = LABELS.get(shown or unit, LABELS.get(unit, block.title))
        loops.append(
            Loop(
                block.name,
                regulation,
                f"{label} {regulation.axis}".rstrip(),
                block.sources.get(regulation.setpoint),
                source,
                origin,
                depth,
                block.values.get("closed", 1.0) > 0.5,
                deck.tick * block.every,
            )
        )
    return sorted(loops, key=lambda loop: loop.depth)

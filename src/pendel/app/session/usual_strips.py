"""Which signals are laid out on the strips before the user chooses any."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from pendel.app.session.session import Session
from pendel.core.catalogue.declare import Block, Kind, Part
from pendel.core.catalogue.index import known_kind
from pendel.core.drive.view_edits import view_of_runs
from pendel.core.vocabulary import Group, SignalRole

MOST_USUAL = 4
"""Strips that are laid out where the drive has no machine."""


@dataclass
class StripSpec:
    """Signals of one strip. ``setpoints`` are drawn dashed; ``height`` is a multiple of a usual strip's."""

    signals: list[str] = field(default_factory=list)
    setpoints: set[str] = field(default_factory=set)
    height: float = 1.0


def kept_strips(session: Session) -> list[StripSpec]:
    """As the drive's file has them; none where it has no view."""
    view = view_of_runs(session.drive)
    return [StripSpec(list(s.signals), set(s.setpoints), s.height) for s in view.strips]


def default_strips(session: Session) -> list[StripSpec]:
    """Setpoint against actual of the outermost regulator, machine current, loads, converter voltage, or link
    voltage and power of a grid that is fed back to, how a vehicle goes and slips; taps where there is neither
    a machine nor a converter."""
    drive = session.drive
    strips: list[StripSpec] = []
    sources = {str(w.b): str(w.a) for w in drive.wires.values()}
    kinds = {key: kind for key, card in drive.cards.items() if (kind := known_kind(card)) is not None}
    regulators = [k for k, kind in kinds.items() if isinstance(kind, Block) and kind.regulates]
    ends = {k: setpoint_and_actual(kinds[k], k, sources) for k in regulators}
    inner = {(setpoint or "").split(".")[0] for setpoint, _ in ends.values()}
    outer = [k for k in regulators if k in inner] or regulators
    for key in outer[:1]:
        setpoint, actual = ends[key]
        wanted = [s for s in (actual, setpoint) if s]
        if wanted:
            strips.append(StripSpec(wanted, {setpoint} if setpoint else set()))
    if trip := of_a_trip(kinds):
        return strips + trip
    machine = next((k for k, kind in kinds.items() if kind.group == Group.MACHINE), None)
    moved = next((k for k, kind in kinds.items() if kind.group == Group.MECHANICS and kind.usual), None)
    leading = moved or machine
    if machine and not strips:
        speed = first_of(kinds[leading or machine], SignalRole.SPEED)
        strips.append(StripSpec([f"{leading}.{speed}"]))
    for key in (moved, machine):
        strips += [StripSpec([f"{key}.{n}" for n in names]) for names in usual_of(kinds[key])] if key else []
    loads = [
        f"{k}.{name}"
        for k, kind in kinds.items()
        if kind.group == Group.LOAD and (name := first_of(kind, SignalRole.LOAD))
    ]
    if loads:
        strips.append(StripSpec(loads[:2]))
    converters = [k for k, kind in kinds.items() if kind.group == Group.CONVERTER]
    converter = converters[0] if converters else None
    grid = next((k for k, kind in kinds.items() if first_of(kind, SignalRole.GRID_POWER)), None)
    linked = next((k for k in converters if first_of(kinds[k], SignalRole.LINK_VOLTAGE)), None)
    if grid and linked and len(converters) > 1:
        # Two converters on one link, one of them on the grid: what the link does, and which way the power goes.
        pair = ((linked, SignalRole.LINK_VOLTAGE), (grid, SignalRole.GRID_POWER))
        strips += [StripSpec([f"{k}.{first_of(kinds[k], role)}"]) for k, role in pair]
    elif converter and (main := main_of(kinds[converter])):
        strips.append(StripSpec([f"{converter}.{main}"]))
    if machine is None and converter is None and drive.taps:
        strips.append(StripSpec([str(end) for end in drive.taps.values()]))
    if machine is None:
        on_strips = {s for spec in strips for s in spec.signals}
        parts = [(k, kind) for k, kind in kinds.items() if isinstance(kind, Part) and kind.main_signal]
        parts.sort(key=lambda part: part[1].group == Group.SUPPLY)  # what a supply gives is mostly known
        mains = [[f"{k}.{name}" for name in with_phases(kind)] for k, kind in parts]
        strips += [StripSpec(m) for m in mains if m[0] not in on_strips][: max(0, MOST_USUAL - len(strips))]
    return strips or [StripSpec()]


def of_a_trip(kinds: Mapping[str, Kind]) -> list[StripSpec]:
    """Of a drive with a store: powers of store, machines and engines, charge, fuel, the store's voltage, and the
    temperature of the first body that is warmed. Empty where there is no store."""
    store = next((k for k, kind in kinds.items() if first_of(kind, SignalRole.CHARGE)), None)
    if store is None:
        return []
    power = "power"
    with_power = [store, *(k for k, kind in kinds.items() if kind.group == Group.MACHINE)]
    powers = [f"{k}.{power}" for k in with_power if any(s.name == power for s in kinds[k].signals)]
    strips = [StripSpec(powers[:MOST_USUAL])] if powers else []
    for role in (SignalRole.CHARGE, SignalRole.FUEL):
        named = [f"{k}.{name}" for k, kind in kinds.items() if (name := first_of(kind, role))]
        strips += [StripSpec(named)] if named else []
    strips.append(StripSpec([f"{store}.voltage"]))
    body = next((k for k, kind in kinds.items() if kind.group == Group.HEAT and kind.states), None)
    return [*strips, *([StripSpec([f"{body}.{main_of(kinds[body])}"])] if body else [])]


def keys_of(strips: list[StripSpec]) -> list[str]:
    return [s for spec in strips for s in spec.signals]


def first_of(kind: Kind, role: SignalRole) -> str:
    """The first signal of a kind that has a role; empty where none has."""
    return next(iter(kind.signal_names(role)), "")


def main_of(kind: Kind) -> str:
    return kind.main_signal if isinstance(kind, Part) else ""


def setpoint_and_actual(kind: Kind, key: str, sources: Mapping[str, str]) -> tuple[str | None, str | None]:
    """What feeds the ports of a regulator that have these roles."""
    inputs = (kind.port_names(role) for role in (SignalRole.SETPOINT, SignalRole.ACTUAL))
    setpoint, actual = (sources.get(f"{key}.{names[0]}") if names else None for names in inputs)
    return setpoint, actual


def with_phases(kind: Part) -> list[str]:
    """The main signal of a part, with those of the other phases where it is one phase's."""
    stem, known = kind.main_signal.removesuffix("a"), {s.name for s in kind.signals}
    phases = [f"{stem}{n}" for n in "abc"]
    return phases if stem.endswith("_") and known >= set(phases) else [kind.main_signal]


def usual_of(kind: Kind) -> tuple[tuple[str, ...], ...]:
    """Signals that are looked at together, strip by strip: as the kind says, else the current of a
    machine."""
    current = first_of(kind, SignalRole.MACHINE_CURRENT)
    return kind.usual or (((current,),) if current else ())

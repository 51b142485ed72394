"""Which signals are laid out on the strips before the user chooses any."""

from __future__ import annotations

from pendel.app.session import Session
from pendel.app.strips import StripSpec
from pendel.core.catalogue.declare import Block, Kind, Part, Signal
from pendel.core.catalogue.index import kind_of
from pendel.core.errors import DriveProblem

GRIDS = ("three_phase_source", "ac_source")
MOST_USUAL = 4
"""Strips that are laid out where the drive has no machine."""


def default_strips(session: Session) -> list[StripSpec]:
    """Setpoint against actual of the outermost regulator, machine current, loads, converter voltage, or link
    voltage and power of a grid that is fed back to, how a vehicle goes and slips; taps where there is neither
    a machine nor a converter."""
    drive = session.drive
    strips: list[StripSpec] = []
    sources = {str(w.b): str(w.a) for w in drive.wires.values()}
    kinds = {}
    for key, card in drive.cards.items():
        try:
            kinds[key] = kind_of(card)
        except DriveProblem:
            continue
    regulators = [k for k, kind in kinds.items() if isinstance(kind, Block) and kind.regulates]
    inner = {sources.get(f"{k}.setpoint", "").split(".")[0] for k in regulators}
    outer = [k for k in regulators if k in inner] or regulators
    for key in outer[:1]:
        setpoint, actual = sources.get(f"{key}.setpoint"), sources.get(f"{key}.actual")
        wanted = [s for s in (actual, setpoint) if s]
        if wanted:
            strips.append(StripSpec(wanted, {setpoint} if setpoint else set()))
    machine = next((k for k, kind in kinds.items() if kind.group == "machine"), None)
    vehicle = next((k for k, kind in kinds.items() if kind.id == "vehicle"), None)
    if machine and not strips:
        strips.append(StripSpec([f"{vehicle or machine}.speed"]))
    if vehicle:
        strips.append(StripSpec([f"{vehicle}.slip_{axle}" for axle in ("front", "rear")]))
    if machine:
        strips += [StripSpec([f"{machine}.{n}" for n in names]) for names in usual_of(kinds[machine])]
    loads = [
        f"{k}.load"
        for k, kind in kinds.items()
        if isinstance(kind, Part) and kind.group == "load" and any(s.name == "load" for s in kind.signals)
    ]
    if loads:
        strips.append(StripSpec(loads[:2]))
    converters = [k for k, kind in kinds.items() if kind.group == "converter"]
    converter = converters[0] if converters else None
    grid = next((k for k, kind in kinds.items() if kind.id in GRIDS), None)
    linked = next(
        (k for k in converters if any(s.name == "link_voltage" for s in signals_of(kinds[k]))), None
    )
    if grid and linked and len(converters) > 1:
        # Two converters on one link, one of them on the grid: what the link does, and which way the power goes.
        strips += [StripSpec([f"{linked}.link_voltage"]), StripSpec([f"{grid}.power"])]
    elif converter:
        strips.append(StripSpec([f"{converter}.{kinds[converter].main_signal}"]))
    if machine is None and converter is None and drive.taps:
        strips.append(StripSpec([str(end) for end in drive.taps.values()]))
    if machine is None:
        told = {s for spec in strips for s in spec.signals}
        parts = [(k, kind) for k, kind in kinds.items() if isinstance(kind, Part) and kind.main_signal]
        parts.sort(key=lambda part: part[1].group == "supply")  # what a supply gives is mostly known
        mains = [[f"{k}.{name}" for name in with_phases(kind)] for k, kind in parts]
        strips += [StripSpec(m) for m in mains if m[0] not in told][: max(0, MOST_USUAL - len(strips))]
    return strips or [StripSpec()]


def keys_of(strips: list[StripSpec]) -> list[str]:
    return [s for spec in strips for s in spec.signals]


def signals_of(kind: Kind) -> tuple[Signal, ...]:
    return kind.signals if isinstance(kind, Part) else ()


def with_phases(kind: Part) -> list[str]:
    """The main signal of a part, with those of the other phases where it is one phase's."""
    stem, known = kind.main_signal.removesuffix("a"), {s.name for s in kind.signals}
    phases = [f"{stem}{n}" for n in "abc"]
    return phases if stem.endswith("_") and known >= set(phases) else [kind.main_signal]


def usual_of(machine: Kind) -> list[list[str]]:
    """Signals of a machine that are looked at together, strip by strip."""
    known = {s.name for s in signals_of(machine)}
    if {"i_d", "i_q"} <= known:
        return [["torque"], ["i_q", "i_d"], ["current_a", "current_b", "current_c"]]
    if "emf_a" in known:
        return [["torque"], ["current_a", "current_b", "current_c"]]
    if "rotor_flux" in known:
        return [["torque"], ["current"]]
    return [["current"]]

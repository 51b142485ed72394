"""Natural frequencies, damping and mode shapes of what moves in a drive, from the very equations that run.

The states of bodies and of what gives way between them are taken out of the linear plant with no current and no
flux, so that no machine pulls: M·dv/dt = f, the free modes of a chain (Den Hartog: Mechanical Vibrations,
chapter 5; Dresig, Holzweißig: Dynamics of Machinery, chapter 4, both from memory). Bodies are known by the kinetic
energy they store, springs by the energy of their stretch.
"""

from __future__ import annotations

import math
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import casadi as ca
import numpy as np
import scipy.linalg

from pendel.core.catalogue.declare import Part, State
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive
from pendel.core.drive.nesting import full_name
from pendel.core.equations.context import stacked
from pendel.core.errors import DriveProblem
from pendel.core.last_few import LastFew
from pendel.core.loops.mechanics.modes import Body, Chain, Mechanics, Mode, Spring
from pendel.core.loops.models.linear import linear_plant, without_drops
from pendel.core.loops.models.points import WorkingPoint, in_contact
from pendel.core.plant.program import Structure
from pendel.core.plant.starting import loop_values, surface_values
from pendel.core.runs.preparing.simulate import Prepared
from pendel.core.vocabulary import Link

SPEEDS, PLACES = ("rad/s", "m/s"), ("rad", "m")
TURNS = {"": "rad", "1/s": "rad/s", "Hz": "rad/s"}
"""What own equations call an angle and its speed, in SI base units."""
STRETCHED = 1e3
"""Stretch (rad or m) at which a spring's energy is looked at: past any play."""
SMALL = 1e-9
BESIDE = 0.1
"""Share of the slowest frequency at which a response begins, and of its end at which the fastest lies."""


@dataclass(frozen=True)
class Motion:
    """The moving part of a plant: dx/dt = A x over kept states, and what the speeds of bodies and the stretches of
    springs are of these."""

    A: np.ndarray
    kept: tuple[str, ...] = ()
    speeds: Mapping[str, np.ndarray] = field(default_factory=dict)
    stretches: Mapping[str, np.ndarray] = field(default_factory=dict)
    masses: Mapping[str, float] = field(default_factory=dict)
    stiffnesses: Mapping[str, float] = field(default_factory=dict)
    units: Mapping[str, str] = field(default_factory=dict)


def mechanics_of(prepared: Prepared, point: WorkingPoint | None = None) -> Mechanics:
    """The modes of a drive whose converters are averaged: about rest with everything in contact and sliding, or with
    the places and modes that a point has.

    Raises
    ------
    DriveProblem
        where what moves has no linear form.
    """
    motion = motion_of(prepared, point)
    chains = [c for cards in moving_groups(prepared.drive) if (c := chain_of(prepared.drive, motion, cards))]
    at = point.name if point is not None else "at rest, everything in contact"
    return Mechanics(tuple(chains), at, tuple(remarks_on(prepared, point, chains)))


def motion_of(prepared: Prepared, point: WorkingPoint | None) -> Motion:
    """What moves, linear about a point without current and flux."""
    units = state_units(prepared.drive)
    if not units:
        return Motion(np.zeros((0, 0)))
    places = {k: v for k, v in point.states.items() if units.get(k) in PLACES} if point is not None else {}
    modes = dict(point.modes) if point is not None else in_contact(prepared.structure)
    plant = linear_plant(prepared, (), WorkingPoint("", places, modes=modes))
    kept = [k for k, key in enumerate(plant.states) if key in units]
    A = plant.A[np.ix_(kept, kept)]
    if not np.all(np.isfinite(A)):
        bad = {plant.states[kept[k]].partition(".")[0] for k in np.flatnonzero(~np.isfinite(A).all(axis=1))}
        names = ", ".join(sorted(full_name(prepared.drive, card) for card in bad))
        raise DriveProblem(
            f"What moves has no finite slope here: {names}. Check for a division by zero, such as springs in "
            f"a row without "
            "mass or damping between them, or choose another operating point."
        )
    form = form_of(prepared, units)
    rows = state_rows(prepared, form, places, modes)
    masses, stiffnesses = energies(prepared, form, units)
    return Motion(
        A,
        tuple(plant.states[k] for k in kept),
        {key: rows[key][kept] for key, mass in masses.items() if mass > 0},
        {key: rows[key][kept] for key, k in stiffnesses.items() if k > 0},
        masses,
        stiffnesses,
        units,
    )


def state_units(drive: Drive) -> dict[str, str]:
    """Units of the speeds, angles and places of all parts that something can turn or push."""
    units = {f"{key}.{s.name}": TURNS.get(s.unit, s.unit) for key in drive.cards for s in states_of(drive, key)}
    return {key: unit for key, unit in units.items() if unit in (*SPEEDS, *PLACES)}


def states_of(drive: Drive, card: str) -> tuple[State, ...]:
    """Those of a part that something can turn or push; no others."""
    kind = kind_of(drive.cards[card])
    moves = isinstance(kind, Part) and any(p.link in (Link.SHAFT, Link.ROD) for p in kind.ports)
    return kind.states if isinstance(kind, Part) and moves else ()


@dataclass(frozen=True)
class MovingForm:
    """What the equations of a drive say of what moves, for any values that leave them as they are."""

    structure: Structure
    keys: tuple[str, ...]
    """Of the states of moving parts, kept or fixed by others."""
    rows: ca.Function
    """What each is of the states that are kept."""
    energies: ca.Function
    """The second derivative of the energy that its card stores, by each, from the parameters; 0 without
    any."""


_forms: LastFew[int, MovingForm] = LastFew(6)


def form_of(prepared: Prepared, units: Mapping[str, str]) -> MovingForm:
    """Stating the equations takes most of what modes take; so this is known by the structure."""
    structure = prepared.structure
    known = _forms.get(id(structure))
    if known is not None and known.structure is structure:
        return known
    model = prepared.model
    system, symbols, network = model.system, model.symbols, model.network
    entries = {e.key: e.symbol for e in (*system.states, *system.demoted)}
    keys = tuple(key for key in units if key in entries)
    expressions = stacked(*(system.express(entries[key]) for key in keys))
    rows = ca.Function("rows", [symbols[n] for n in "txuspzf"], [model.derivative(expressions, symbols["x"])])
    raw = {e.key: e.symbol for e in network.states}
    seconds = stacked(*(ca.hessian(network.stored.get(key.partition(".")[0], ca.SX(0)), raw[key])[0] for key in keys))
    others = [s for s in ca.symvar(seconds) if not ca.depends_on(symbols["p"], s)]
    stretched = {raw[key].name() for key in keys if units[key] in PLACES}
    for symbol in others:
        seconds = ca.substitute(seconds, symbol, STRETCHED if symbol.name() in stretched else 0.0)
    form = MovingForm(structure, keys, rows, ca.Function("energies", [symbols["p"]], [seconds]))
    return _forms.keep(id(structure), form)


def state_rows(
    prepared: Prepared, form: MovingForm, places: Mapping[str, float], modes: Mapping[str, float]
) -> dict[str, np.ndarray]:
    """Each state as a row over the states that are kept; those that others fix are sums of these."""
    structure = prepared.structure
    sizes = [form.rows.numel_in(k) for k in range(form.rows.n_in())]
    n = len(structure.state_keys)
    x = np.array([places.get(key, 0.0) for key in structure.state_keys])[: sizes[1]]
    s = np.array([modes.get(k, 0.0) for k in structure.mode_keys])
    u = np.zeros(sizes[2])
    parameters = without_drops(prepared)
    solved = [values(structure, parameters, x, u, s) for values in (loop_values, surface_values)]
    columns = np.array(form.rows(0.0, x, u, s, parameters[: sizes[4]], *solved))
    return dict(zip(form.keys, columns.reshape(len(form.keys), sizes[1])[:, :n]))


def energies(
    prepared: Prepared, form: MovingForm, units: Mapping[str, str]
) -> tuple[dict[str, float], dict[str, float]]:
    """What every speed has of mass and every stretch of stiffness: the second derivative of the energy
    stored."""
    values = np.array(form.energies(prepared.parameters[: form.energies.numel_in(0)])).ravel()
    split = dict(zip(form.keys, values.tolist()))
    return (
        {k: v for k, v in split.items() if units[k] in SPEEDS},
        {k: v for k, v in split.items() if units[k] in PLACES},
    )


def moving_groups(drive: Drive) -> list[list[str]]:
    """Cards that shafts and rods connect, each group from a machine outwards, else from its first card."""
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    moving = {
        key: kind
        for key, kind in kinds.items()
        if isinstance(kind, Part) and any(p.link in (Link.SHAFT, Link.ROD) for p in kind.ports)
    }
    beside: dict[str, list[str]] = {key: [] for key in moving}
    for wire in drive.wires.values():
        a, b = wire.a.card, wire.b.card
        port = kinds[a].port(wire.a.port) if a in kinds else None
        if a in beside and b in beside and port is not None and port.link in (Link.SHAFT, Link.ROD):
            beside[a].append(b)
            beside[b].append(a)

    def drives(key: str) -> bool:
        return any(p.link.is_electrical for p in moving[key].ports)

    groups, seen = [], set[str]()
    for begin in sorted(moving, key=lambda k: (not drives(k), len(beside[k]) > 1)):
        if begin in seen:
            continue
        order, ahead = [], [begin]
        while ahead:
            now = ahead.pop()
            if now not in seen:
                seen.add(now)
                order.append(now)
                ahead += [k for k in reversed(beside[now]) if k not in seen]
        groups.append(order)
    return groups


def chain_of(drive: Drive, motion: Motion, cards: Sequence[str]) -> Chain | None:
    """The bodies on cards that are connected, and their modes; none where nothing on them has inertia."""
    place = {card: n for n, card in enumerate(cards)}
    motion = within_chain(motion, place)

    def mine(keys: Iterable[str]) -> list[str]:
        return sorted(keys, key=lambda k: place[k.partition(".")[0]])

    speeds, stretched = mine(motion.speeds), springs_among(motion, mine(motion.stretches))
    if not speeds:
        return None
    V = np.array([motion.speeds[k] for k in speeds])
    masses = np.array([motion.masses[k] for k in speeds])
    ratios = rigid_ratios(motion, V, speeds, stretched)
    bodies = tuple(
        Body(key, key.partition(".")[0], named(drive, key, speeds), motion.units[key], mass, ratio)
        for key, mass, ratio in zip(
            speeds, masses.tolist(), (ratios if ratios is not None else np.ones(len(speeds))).tolist()
        )
    )
    springs = tuple(
        Spring(k, k.partition(".")[0], named(drive, k, stretched), motion.stiffnesses[k]) for k in stretched
    )
    modes = tuple(modes_among(motion, V, bodies, springs, ratios is not None))
    answers = np.linalg.pinv(V.T @ np.diag(masses) @ V) @ V[0]
    held = tuple(held_frequencies(motion, V[0], answers)) if len(speeds) > 1 else ()
    frequency, mobility = mobility_of(motion, V[0], answers, [*(m.frequency for m in modes), *held])
    return Chain(tuple(cards), bodies, springs, modes, held, frequency, mobility, ratios is not None)


def within_chain(motion: Motion, cards: Container[str]) -> Motion:
    """The part of it on some cards: what moves elsewhere neither swings nor answers here."""
    mine = [n for n, key in enumerate(motion.kept) if key.partition(".")[0] in cards]

    def rows(of: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
        return {key: row[mine] for key, row in of.items() if key.partition(".")[0] in cards}

    kept = tuple(motion.kept[n] for n in mine)
    return replace(
        motion,
        A=motion.A[np.ix_(mine, mine)],
        kept=kept,
        speeds=rows(motion.speeds),
        stretches=rows(motion.stretches),
    )


def springs_among(motion: Motion, keys: Sequence[str]) -> list[str]:
    """Stretches on which what moves depends; a mere angle stores nothing."""
    return [k for k in keys if np.any(motion.A @ pseudo(motion.stretches[k]))]


def pseudo(row: np.ndarray) -> np.ndarray:
    """The least change of states by which a row of theirs changes by one."""
    size = float(row @ row)
    return row / size if size else row


def named(drive: Drive, key: str, among: Sequence[str]) -> str:
    """Its card's name, with the state's where the card has several."""
    card, _, state = key.partition(".")
    if sum(k.partition(".")[0] == card for k in among) == 1:
        return full_name(drive, card)
    label = next((s.label for s in states_of(drive, card) if s.name == state), state)
    return f"{full_name(drive, card)}, {label}"


def rigid_ratios(motion: Motion, V: np.ndarray, speeds: Sequence[str], stretched: Sequence[str]) -> np.ndarray | None:
    """Speeds of the bodies over that of the first, while nothing stretches; None where that is no single
    motion."""
    kept = [k for k in range(V.shape[1]) if np.any(V[:, k])]
    rates = np.array([motion.stretches[k] @ motion.A for k in stretched]).reshape(len(stretched), V.shape[1])
    free = scipy.linalg.null_space(row_scaled(rates[:, kept])) if len(rates) else np.eye(len(kept))
    if free.shape[1] != 1:
        return None
    moving = V[:, kept] @ free[:, 0]
    if abs(moving[0]) < SMALL * float(np.max(np.abs(moving))):
        return None
    return moving / moving[0]


def row_scaled(rows: np.ndarray) -> np.ndarray:
    sizes = np.max(np.abs(rows), axis=1, keepdims=True, initial=0.0)
    return np.divide(rows, sizes, out=np.zeros_like(rows), where=sizes > 0)


def modes_among(
    motion: Motion, V: np.ndarray, bodies: Sequence[Body], springs: Sequence[Spring], referred: bool
) -> list[Mode]:
    balanced, scaling = scipy.linalg.matrix_balance(motion.A, permute=False)
    values, vectors = np.linalg.eig(balanced)
    vectors = scaling @ vectors
    masses = np.array([b.mass for b in bodies])
    S = np.array([motion.stretches[s.state] for s in springs]).reshape(len(springs), V.shape[1])
    stiffnesses = np.array([s.stiffness for s in springs])
    modes = []
    for value, vector in zip(values, vectors.T):
        if value.imag <= SMALL * abs(value):
            continue
        speed, stretch = V @ vector, S @ vector
        kinetic, elastic = masses * np.abs(speed) ** 2, stiffnesses * np.abs(stretch) ** 2
        whole = float(np.sum(kinetic))
        # What swings elsewhere reaches here by rounding alone.
        if whole <= SMALL * float(np.max(np.abs(vector))) ** 2 * float(np.max(masses)):
            continue
        seen = speed / np.array([b.ratio for b in bodies]) if referred else speed * np.sqrt(masses)
        seen = seen / seen[int(np.argmax(np.abs(seen)))]
        shape = dict(zip((b.state for b in bodies), seen.tolist()))
        modes.append(Mode(complex(value), "", shape, shares(bodies, kinetic), shares(springs, elastic)))
    modes.sort(key=lambda m: m.frequency)
    return [with_name(mode, number, springs) for number, mode in enumerate(modes, 1)]


def shares(of: Sequence[Body | Spring], energy: np.ndarray) -> dict[str, float]:
    whole = float(np.sum(energy))
    return {each.state: e / whole if whole else 0.0 for each, e in zip(of, energy.tolist())}


ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth")


def with_name(mode: Mode, number: int, springs: Sequence[Spring]) -> Mode:
    """Called after what gives way most in it."""
    soft = max(springs, key=lambda s: mode.elastic[s.state], default=None)
    count = f"{ORDINALS[number - 1]} mode" if number <= len(ORDINALS) else f"mode {number}"
    of = f", {soft.name}" if soft is not None else ""
    return Mode(mode.s, f"{count}{of}", mode.shape, mode.kinetic, mode.elastic)


def held_frequencies(motion: Motion, held: np.ndarray, answers: np.ndarray) -> list[float]:
    """With the first body, whose speed is the row ``held``, kept still by whatever torque that takes: its acceleration
    is taken away along ``answers``, the rates that a torque of one on it brings."""
    size = float(held @ answers)
    if not size:
        return []
    project = np.eye(len(held)) - np.outer(answers, held) / size
    values = np.linalg.eigvals(scipy.linalg.matrix_balance(project @ motion.A @ project, permute=False)[0])
    mine = np.abs(values[values.imag > SMALL * np.abs(values)]) / (2 * math.pi)
    return sorted(mine.tolist())


def mobility_of(
    motion: Motion, speed: np.ndarray, answers: np.ndarray, around: Sequence[float]
) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies (Hz), closest where something rings, and what the speed of the first body is there for a torque of
    one on it."""
    if not around:
        return np.zeros(0), np.zeros(0, dtype=complex)
    low, high = BESIDE * min(around), max(around) / BESIDE
    close = [f * (1 + side * d) for f in around for side in (-1, 1) for d in np.geomspace(1e-4, 0.1, 25)]
    frequency = np.unique(np.concatenate([np.geomspace(low, high, 300), close]))
    return frequency, response_of(motion.A, answers, speed, 2j * math.pi * frequency)


def response_of(A: np.ndarray, b: np.ndarray, c: np.ndarray, s: np.ndarray) -> np.ndarray:
    """c (s − A)⁻¹ b. By eigenvectors, as there may be thousands of places; one by one where these do not
    span."""
    acts = np.any(A, axis=0) | (c != 0)  # a mere angle acts on nothing
    A, b, c = A[np.ix_(acts, acts)], b[acts], c[acts]
    balanced, scaling = scipy.linalg.matrix_balance(A, permute=False)
    values, vectors = np.linalg.eig(balanced)
    left, right = (
        (c @ scaling) @ vectors,
        np.linalg.lstsq(vectors, np.linalg.solve(scaling, b), rcond=None)[0],
    )

    def straight(at: np.ndarray) -> np.ndarray:
        whole = at[:, None, None] * np.eye(len(A)) - A
        return np.asarray(np.linalg.solve(whole, np.broadcast_to(b, (len(at), len(b)))[..., None])[..., 0] @ c)

    response = np.asarray((left * right / (s[:, None] - values)).sum(axis=1))
    some = np.linspace(0, len(s) - 1, 5).astype(int)
    true = straight(s[some])
    return response if np.all(np.abs(response[some] - true) <= 1e-6 * np.abs(true)) else straight(s)


def remarks_on(prepared: Prepared, point: WorkingPoint | None, chains: Sequence[Chain]) -> list[str]:
    remarks = []
    if point is None and any(k.endswith(".contact") for k in prepared.structure.mode_keys):
        remarks.append(
            "Ropes pull and backlash is used up here. While a rope is slack or teeth are apart, the parts "
            "swing by themselves."
        )
    moving = {key for c in chains for key in c.path}
    if own := [full_name(prepared.drive, k) for k in moving if prepared.drive.cards[k].own is not None]:
        remarks.append(
            f"{', '.join(sorted(own))}: own equations state no energy, so what moves there counts in the "
            f"modes but has no bar."
        )
    if any(not c.referred and c.modes for c in chains):
        remarks.append(
            "Where bodies slip on each other, or an end is held, there is no ratio of speeds: bars are by "
            "the root of the energy."
        )
    return remarks


__all__ = ["mechanics_of"]

"""What takes a mode of the mechanics out of a loop: a notch, a low-pass, or a damping loop, as blocks that fit.

A speed fed back to where a force acts on the same body takes energy out of every mode, whatever masses and
stiffnesses are: it is a damper to the ground (collocated feedback; Preumont: Vibration Control of Active
Structures, chapter 7, from memory). That holds while the force answers the speed within a quarter of a turn;
sampling, computing delay and the current's loop use that up towards high frequencies.
"""

from __future__ import annotations

import cmath
import math
from dataclasses import dataclass, replace
from enum import Enum

import numpy as np

from pendel.core.catalogue.control.against_modes import (
    BEHIND,
    SPEED,
    Placed,
    Recipe,
    low_pass,
    notch_filter,
)
from pendel.core.catalogue.control.against_modes import damping_loop as recipe_of_loop
from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import kind_of
from pendel.core.controllers.deck import ControlDeck
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive, End
from pendel.core.drive.nesting import sheet_of
from pendel.core.errors import DriveProblem
from pendel.core.loops.mechanics.modes import Chain, Mechanics, Mode
from pendel.core.loops.models.linear_models import LinearModel
from pendel.core.loops.models.realisation import in_continuous_time, minimal
from pendel.core.loops.models.transfer import Ends, transfer
from pendel.core.loops.regulators.find import acting_blocks, find_loops, plant_origin
from pendel.core.quantities.units import number_text
from pendel.core.runs.preparing.simulate import Prepared
from pendel.core.vocabulary import Link, SignalRole, ValueRole

WIDTH = 1.0
"""Relative width of a notch: poles of damping 0.5."""
LEAST_DEPTH = 0.02
WEAKER = 10.0
"""A low-pass leaves this part of the mode."""
SLOWER = 5.0
"""What counts as the mean speed follows this much slower than the mode swings."""
DAMPED = 0.3
"""Damping that a damping loop is to give."""
GAINS = np.geomspace(0.02, 30.0, 90)
"""Over the gain that would do for a small damping: those that are tried."""
QUARTER = 90.0
FORCES, CURRENTS = ("N·m", "N"), ("A",)


class By(Enum):
    NOTCH = "notch"
    LOW_PASS = "low-pass"
    DAMPING = "damping"


def means_of(name: str) -> By:
    """Raises `DriveProblem`."""
    known = {each.value: each for each in By}
    if name not in known:
        raise DriveProblem(f"“{name}” is no way to calm a mode. Choose one of {', '.join(known)}.")
    return known[name]


@dataclass(frozen=True)
class Calming:
    """Blocks to put behind the signal ``at``. For a damping loop, ``gain`` is that from the speed signal ``speed`` to
    it (SI), ``mean`` the time constant (s) of what counts as mean speed, and ``reached`` the damping of the
    mode in the closed drive; ``before`` is that without."""

    by: By
    at: str
    frequency: float
    depth: float = 0.0
    speed: str = ""
    gain: float = 0.0
    mean: float = 0.0
    before: float = math.nan
    reached: float = math.nan
    remarks: tuple[str, ...] = ()


def places_for(prepared: Prepared) -> list[str]:
    """Block outputs behind which something can act on a mode: forces first, the nearest to the plant before others,
    then what currents are to be."""
    deck = prepared.deck
    acting = acting_blocks(deck)
    outputs = [f"{b.name}.{p}" for b in deck.blocks if b.name in acting for p in b.outputs]
    units = {s: info.unit for s in outputs if (info := prepared.infos.get(s)) is not None}
    forces = [s for s in reversed(outputs) if units.get(s) in FORCES]
    setpoints = {loop.setpoint for loop in find_loops(prepared.drive, deck)}
    currents = [s for s in reversed(outputs) if units.get(s) in CURRENTS and s in setpoints]
    read = {s for b in deck.blocks for s in b.sources.values()}
    return [s for s in (*forces, *currents) if s in read]


def speeds_for(prepared: Prepared, chain: Chain) -> list[str]:
    """Block outputs that give the speed of a chain's first body: measured as such before those from its
    angle."""
    deck, card = prepared.deck, chain.bodies[0].card
    kind = kind_of(prepared.drive.cards[card])
    assert isinstance(kind, Part)
    straight = {f"{card}.{name}" for name in kind.signal_names(SignalRole.SPEED)}
    speeds = []
    for signal in deck.signals:
        origin = plant_origin(deck, signal)
        info = prepared.infos.get(signal)
        if (
            origin is not None
            and origin.partition(".")[0] == card
            and info is not None
            and info.unit in ("rad/s", "m/s")
        ):
            speeds.append((origin not in straight, signal))
    return [signal for _, signal in sorted(speeds, key=lambda each: each[0])]


def mode_of(mechanics: Mechanics, number: int) -> tuple[Chain, Mode]:
    """The mode of a number from 1, slowest first. Raises `DriveProblem`."""
    if not mechanics.modes:
        raise DriveProblem("Nothing in this drive swings: it has no two bodies with something elastic between them.")
    if not 1 <= number <= len(mechanics.modes):
        raise DriveProblem(f"There is no mode {number}. This drive has {len(mechanics.modes)}; count from the slowest.")
    return mechanics.modes[number - 1]


def calming(
    prepared: Prepared,
    mechanics: Mechanics,
    by: By,
    number: int = 1,
    *,
    at: str = "",
    speed: str = "",
    damping: float = DAMPED,
) -> Calming:
    """What to put against a mode of a drive whose converters are averaged.

    Parameters
    ----------
    number
        of the mode, from 1.
    at, speed
        block outputs: behind which it goes, and what a damping loop feeds back; the most likely without them.
    damping
        to reach by a damping loop.

    Raises
    ------
    DriveProblem
        where there is no such mode or signal, or nothing there acts on it.
    """
    chain, mode = mode_of(mechanics, number)
    deck = prepared.deck
    at = at or next(iter(places_for(prepared)), "")
    if not at:
        raise DriveProblem(
            "No block gives a torque, a force or the setpoint of a current, so nothing can be put behind "
            "one. Name the "
            "signal it should act at."
        )
    period = period_behind(deck, at)
    if 2 * mode.frequency * period >= 1:
        raise DriveProblem(
            f"The mode swings at {mode.frequency:.4g} Hz, faster than half the rate of {at} "
            f"({0.5 / period:.4g} Hz): no "
            "block there sees it. Choose a faster signal."
        )
    if by is By.NOTCH:
        depth = min(1.0, max(LEAST_DEPTH, 2 * mode.damping / WIDTH))
        return Calming(by, at, mode.frequency, depth=depth, remarks=(notch_words(mode),))
    if by is By.LOW_PASS:
        corner = mode.frequency / math.sqrt(WEAKER)
        return Calming(by, at, corner, remarks=(low_pass_words(mode, corner),))
    if not 0 < damping < 1:
        raise DriveProblem(
            f"A damping of {damping:g} cannot be reached by design. Choose one between 0 and 1, such as 0.3."
        )
    return damping_loop(prepared, chain, mode, at, speed, damping)


def period_behind(deck: ControlDeck, at: str) -> float:
    """s, of the block that gives a signal. Raises `DriveProblem` where none does."""
    if at not in deck.signals:
        raise DriveProblem(
            f"“{at}” is no output of a block, so nothing can be put behind it. Choose one, such as a torque."
        )
    return deck.tick * deck.block(at.partition(".")[0]).every


def notch_words(mode: Mode) -> str:
    return (
        f"A notch at {mode.frequency:.4g} Hz keeps the loop from driving this mode, as long as it stays "
        f"there: with a "
        f"stiffness or mass off by 10 % the mode moves by 5 %, to where the notch leaves "
        f"{notch_leaves(0.05):.0%}. What a "
        "load excites it does not damp."
    )


def notch_leaves(off: float) -> float:
    """Size of the notch, with nothing left at its middle, at a relative distance from it."""
    x = 1.0 + off
    return abs((1 - x * x) / complex(1 - x * x, WIDTH * x))


def low_pass_words(mode: Mode, corner: float) -> str:
    return (
        f"A low-pass at {corner:.4g} Hz leaves a tenth of the mode. It serves loops that cross below a third "
        f"of it, "
        f"{corner / 3:.3g} Hz; faster ones lose their margin to it."
    )


def damping_loop(prepared: Prepared, chain: Chain, mode: Mode, at: str, speed: str, damping: float) -> Calming:
    deck = prepared.deck
    known = speeds_for(prepared, chain)
    speed = speed or next(iter(known), "")
    first = chain.bodies[0].name
    if not speed:
        raise DriveProblem(
            f"No block gives the speed of {first}. Wire a speed sensor to its speed, so that it can be fed back."
        )
    if speed not in deck.signals:
        raise DriveProblem(f"“{speed}” is no output of a block. Choose one that gives a speed of {first}.")
    model = minimal(transfer(prepared, Ends(at, speed)).model).model
    if model.dt == 0:
        raise DriveProblem(f"{at} and {speed} are not sampled, so no damping loop of blocks can be laid between them.")
    s = nearest_pole(model, mode)
    before = damping_at(s)
    if before >= damping:
        raise DriveProblem(
            f"In the closed drive this mode has a damping of {before:.3g} already. Ask for more than that, up to 1."
        )
    mean, z = SLOWER / abs(s), np.exp(s * model.dt)
    answer = force_answer(prepared, chain, at, speed, mean)
    turn = residue(model, z) * high_pass(z, mean, model.dt) / z
    sign = answer.sign or math.copysign(1.0, turn.real)
    turn *= sign
    if turn == 0:
        raise DriveProblem(f"The mode does not show in {speed}, or {at} does not act on it. Choose other signals.")
    # A small gain K moves the pole by −K·turn/dt.
    off = abs(math.degrees(cmath.phase(turn)))
    if off >= QUARTER:
        raise DriveProblem(
            f"A damping loop cannot hold this mode: at {abs(s) / (2 * math.pi):.4g} Hz the force answers the "
            f"speed {off:.0f}° "
            "off, as sampling, delay and the loops inside turn it; from 90° on it excites. Sample faster, or "
            "put a notch "
            "or a low-pass there."
        )
    small = sign * damping * abs(s) * model.dt / abs(turn)
    gain, reached, stable = search_gain(model, s, mean, small, damping)
    remarks = [
        "Fed back where the force acts, a speed takes energy out of every mode, whatever masses and "
        "stiffnesses are, as "
        "long as the force answers it within 90°.",
        f"Here it answers this mode {off:.0f}° off.",
    ]
    remarks += limits_of_it(chain, answer)
    if not stable:
        remarks.append(
            f"More than {number_text(reached, 2)} of damping it cannot give: with a larger gain something "
            f"else begins to swing."
        )
    elif reached < 0.95 * damping:
        remarks.append(
            f"More than {number_text(reached, 2)} it does not give with any gain: then the body stands, and "
            f"the rest swings on."
        )
    card = deck.block(at.partition(".")[0])
    kind = kind_of(prepared.drive.cards[card.name])
    if any(n in card.values for n in ("low", "high")) or kind.value_names(ValueRole.CURRENT_LIMIT):
        remarks.append(f"What it adds comes behind the limits of {card.title}.")
    return Calming(By.DAMPING, at, mode.frequency, 0.0, speed, gain, mean, before, reached, tuple(remarks))


def nearest_pole(model: LinearModel, mode: Mode) -> complex:
    """The mode as it is in the closed drive: the swinging pole whose place is nearest, 1/s."""
    poles = [in_continuous_time(complex(z), model.dt) for z in model.poles]
    swinging = [s for s in poles if math.isfinite(abs(s)) and s.imag > 1e-3 * abs(s)]
    if not swinging:
        raise DriveProblem(
            f"In the closed drive nothing swings near {mode.frequency:.4g} Hz: its loops hold this mode already."
        )
    return min(swinging, key=lambda s: abs(cmath.log(s / mode.s)))


def high_pass(z: complex, mean: float, dt: float) -> complex:
    """What a signal keeps without its mean of time constant ``mean``, as the block PT1 computes that."""
    a = math.exp(-dt / mean)
    return a * (z - 1) / (z - a)


def residue(model: LinearModel, z: complex) -> complex:
    """Of C (zI − A)⁻¹ B at a pole, from its left and right eigenvectors."""
    import scipy.linalg

    values, left, right = scipy.linalg.eig(model.A, left=True, right=True)
    k = int(np.argmin(np.abs(values - z)))
    size = left[:, k].conj() @ right[:, k]
    return complex((model.C @ right[:, k])[0] * (left[:, k].conj() @ model.B)[0] / size)


def closed_by(model: LinearModel, gain: float, mean: float) -> np.ndarray:
    """The system matrix with −gain times the speed without its mean fed back."""
    a, n = math.exp(-model.dt / mean), len(model.A)
    straight, held = a, -a * (1 - a)
    whole = 1.0 + gain * straight * model.D[0, 0]
    u = -gain / whole * np.hstack([straight * model.C, [[held]]])
    y = np.hstack([model.C, [[0.0]]]) + model.D[0, 0] * u
    A = np.zeros((n + 1, n + 1))
    A[:n, :n], A[n, n] = model.A, a
    A[:n] += model.B @ u
    A[n] += y[0]
    return A


DOUBLE = 1e-7
"""By how much rounding moves a pole at 1 that is there twice, as a position behind a speed that nothing holds."""


def search_gain(model: LinearModel, s: complex, mean: float, small: float, damping: float) -> tuple[float, float, bool]:
    """The least gain with which the mode has the damping, else that with which it has most, while nothing grows; what
    it comes to, and whether no gain was too large. The mode's pole is followed from gain to gain."""
    from scipy.optimize import brentq

    model = model.on_its_way()
    outer = max(1.0, float(np.max(np.abs(model.poles)))) + DOUBLE
    followed, gain, best = complex(np.exp(s * model.dt)), 0.0, (0.0, damping_at(s))

    def moved(k: float, near: complex) -> tuple[complex, bool]:
        poles = np.linalg.eigvals(closed_by(model, k, mean))
        return complex(poles[int(np.argmin(np.abs(poles - near)))]), bool(np.max(np.abs(poles)) <= outer)

    def reached(k: float, near: complex) -> float:
        return damping_at(in_continuous_time(moved(k, near)[0], model.dt))

    for k in (small * GAINS).tolist():
        pole, stable = moved(k, followed)
        if not stable:
            return (*best, False)
        if (now := reached(k, followed)) >= damping:
            near = followed
            exact = float(brentq(lambda x: reached(x, near) - damping, gain, k, rtol=1e-9)) if gain != k else k
            return exact, reached(exact, near), True
        if now > best[1]:
            best = (k, now)
        followed, gain = pole, k
    return (*best, True)


def damping_at(s: complex) -> float:
    return -s.real / abs(s) if math.isfinite(abs(s)) else 1.0


@dataclass(frozen=True)
class ForceAnswer:
    """``sign`` of the force for a signal, 0 where it is not known; ``edge``: Hz up to which it answers the speed fed
    back within a quarter of a turn, infinite where it is not known."""

    sign: float = 0.0
    edge: float = math.inf


def force_answer(prepared: Prepared, chain: Chain, at: str, speed: str, mean: float) -> ForceAnswer:
    """How the force on the first body answers its speed by way of a damping loop, as far as a machine
    reports its torque."""
    card = chain.bodies[0].card
    kind = kind_of(prepared.drive.cards[card])
    assert isinstance(kind, Part)
    torque = next((f"{card}.{n}" for n in kind.signal_names(SignalRole.TORQUE)), "")
    if not torque:
        return ForceAnswer()
    answer = transfer(prepared, Ends(at, torque))
    corner = 1.0 / (2 * math.pi * mean)
    frequency = answer.frequencies()
    frequency = frequency[frequency > corner]
    if not len(frequency):
        return ForceAnswer()
    dt = period_behind(prepared.deck, speed)
    answers = answer.response(frequency)
    sign = 1.0 if answers[0].real >= 0 else -1.0
    swing = np.array([high_pass(z, mean, dt) for z in np.exp(2j * math.pi * frequency * dt)])
    lag = np.degrees(np.unwrap(np.angle(sign * answers * swing)))
    lag -= 180.0 * frequency * dt  # a speed is seen half a period late in the mean
    beyond = np.flatnonzero(lag < -QUARTER)
    return ForceAnswer(sign, float(frequency[beyond[0]]) if len(beyond) else math.inf)


def limits_of_it(chain: Chain, answer: ForceAnswer) -> list[str]:
    if math.isinf(answer.edge):
        return []
    limits = [
        f"The force answers within 90° up to {answer.edge:.3g} Hz; beyond, sampling, delay and the loops "
        f"inside turn it "
        "against the speed."
    ]
    if harmed := [m.name for m in chain.modes if m.frequency > answer.edge]:
        limits.append(
            f"That excites: {', '.join(harmed)}. Damping there has to come from elsewhere, or a low-pass keeps it out."
        )
    return limits


# placing -------------------------------------------------------------------------


def command_for(drive: Drive, calming: Calming) -> Command:
    """One step that puts the blocks into the drive. Raises `DriveProblem` where it lost what they hang on."""
    recipe = recipe_for(calming)
    build, keys = Building(drive), list[str]()
    for place, block in enumerate(recipe.blocks):
        signal = calming.at if BEHIND in block.reads.values() else calming.speed
        keys.append(build.add(block, signal, place))
    readers = build.taken_from(calming.at)
    for key, block in zip(keys, recipe.blocks):
        for port, source in block.reads.items():
            start = {BEHIND: calming.at, SPEED: calming.speed}.get(str(source)) or build.output(keys[int(source)])
            build.do(commands.add_wire(build.drive, build.end(start), End(key, port)))
    for reader in readers:
        build.do(commands.add_wire(build.drive, build.end(build.output(keys[0])), reader))
    return replace(build.command, title=f"{recipe.title} behind {calming.at}")


def recipe_for(calming: Calming) -> Recipe:
    if calming.by is By.NOTCH:
        return notch_filter(calming.frequency, WIDTH, calming.depth)
    if calming.by is By.LOW_PASS:
        return low_pass(calming.frequency)
    return recipe_of_loop(calming.gain, calming.mean)


STEP_X, STEP_Y = 38, 24
"""Room for a block, in grid steps."""
NEAR = ((-1, 0), (-1, 1), (-1, -1), (0, 1), (0, -1), (1, 1), (1, -1), (1, 0))


class Building:
    """Commands one after the other, each made from the drive as the ones before leave it."""

    def __init__(self, drive: Drive):
        self.drive = drive.copy()
        self.command = Command("", ())

    def do(self, command: Command) -> None:
        command.apply(self.drive)
        self.command = self.command.then(command)

    def taken_from(self, signal: str) -> list[End]:
        """Take all wires away that leave a signal, and give where they led."""
        a = self.end(signal)
        wires = {key: w for key, w in self.drive.wires.items() if w.a == a}
        if not wires:
            raise DriveProblem(f"Nothing reads {signal} any more. Choose another signal to put a block behind.")
        self.do(commands.remove_wires(self.drive, wires))
        return [w.b for w in wires.values()]

    def add(self, block: Placed, beside: str, far: int) -> str:
        """A block near the one that gives a signal, updated as often. The first stands on the sheet where the signal is
        read."""
        end = self.end(beside)
        source = self.drive.cards[end.card]
        values = dict(block.values)
        every = next(iter(kind_of(source).value_names(ValueRole.PERIODS)), "")
        if source.values.get(every, "").strip():
            values[every] = source.values[every]
        wire = next((w for w in self.drive.wires.values() if w.a == end), None)
        sheet = sheet_of(self.drive, wire) if wire is not None and not far else source.inside
        x, y = self.free_place(source.x, source.y + (STEP_Y if far else 0), sheet, far)
        self.do(
            commands.add_card(self.drive, block.kind, block.name, x, y, values=values, inside=sheet, phase=source.phase)
        )
        return next(reversed(self.drive.cards))

    def output(self, card: str) -> str:
        kind = kind_of(self.drive.cards[card])
        return f"{card}.{next(p.name for p in kind.ports if p.link is Link.SIGNAL_OUT)}"

    def free_place(self, x: int, y: int, sheet: str, far: int) -> tuple[int, int]:
        taken = [(c.x, c.y) for c in self.drive.cards.values() if c.inside == sheet]
        x -= far * STEP_X

        def free(px: int, py: int) -> bool:
            return px >= 2 and py >= 2 and all(abs(px - a) >= STEP_X - 4 or abs(py - b) >= STEP_Y - 2 for a, b in taken)

        for ring in range(30):
            for dx, dy in NEAR if ring else ((0, 0),):
                place = x + dx * ring * STEP_X, y + dy * ring * STEP_Y // 2
                if free(*place):
                    return place
        return x, y

    def end(self, signal: str) -> End:
        card, _, port = signal.partition(".")
        if card not in self.drive.cards:
            raise DriveProblem(f"There is no card {card} any more, so nothing can be put behind {signal}.")
        return End(card, port)


__all__ = ["By", "Calming", "calming", "command_for", "means_of", "mode_of", "places_for", "speeds_for"]

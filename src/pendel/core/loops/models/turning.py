"""Drives that turn steadily, in the frame that turns with them: there d and q stand still, and a model holds for good.

A three-phase drive in steady rotation comes back to itself turned by an angle from tick to tick (a relative
equilibrium: Golubitsky, Stewart: The Symmetry Perspective, chapter 6, from memory). Linear from tick k to the next,
its matrices are those of a tick later but for one change of coordinates E, the same all around:

    E A(k) = A(k+1) E,   E B(k) = B(k+1),   C(k) = C(k+1) E.

E is found from these equations by least squares over the whole turn, without knowing which states turn; E⁻¹ A(0) is
then the model of the turning frame. What no input reaches or no output shows at any angle, such as the zero sequence
of three duties, is taken out before: it need not turn with the rest.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy.linalg
from scipy.interpolate import CubicSpline

from pendel.core.catalogue.index import kind_of
from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.symbolic import LinearBlock
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.linear import NOTHING, LinearPlant, SampledDrive, Silent, linear_plant, without_drops
from pendel.core.loops.models.linear_models import LiftedModel, LinearModel
from pendel.core.loops.models.points import WorkingPoint, WorkingPoints, point_of_row
from pendel.core.loops.models.realisation import combined
from pendel.core.plant.program import Outcome, RunSettings
from pendel.core.plant.recorded import Ring, Snapshot
from pendel.core.plant.rows import evaluate_signals
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import Prepared
from pendel.core.trust import refuse_strange_c
from pendel.core.vocabulary import SignalRole

INSTANTS = 12
"""Angles around a turn at which a drive is made linear."""
PIECES = 2
"""Parts of a tick over which the plant counts as standing still."""
STEADY, DRIFTS = 2e-3, 2e-5
"""What the step of the angle from tick to tick may change by around a turn, and by what it does so that it
is reported."""
USUALLY_UNLIKE, AT_MOST_UNLIKE = 0.01, 0.15
"""What responses from different angles may be off their mean by, at half of the frequencies and at any: slots and
tolerances of the run make them ripple a little, most where something is hardly damped. What is shown is the one nearest
to the mean."""
RANKS = (1e-6, 1e-5, 1e-7, 1e-4, 1e-8)
"""What a direction counts for nothing by, beside the largest: the first with which a frame is found. Where hardly
anything reaches, E would be made of rounding."""
TURNS_ONLY = 1.5
"""Condition of a change of frame that only turns; where rounding is in it, it stretches, and has poles of
its own."""
TOLERANCE = 1e-9
"""Of that run: what is off in it is off in the frame."""
ON_THE_WAY = (0.5, 0.8, 0.95)
"""Shares of a run at which it is remembered, to go back to before its last turn."""
STEPS = 4
"""Of the run in a tick at least."""


@dataclass
class MovingPlant(LinearPlant):
    """A plant whose matrices move within a tick; its own are those at the tick."""

    pieces: tuple[LinearPlant, ...] = ()

    def sampled(self, dt: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        n, m, k = len(self.states), len(self.commands), len(self.loads)
        A, B, W = np.eye(n), np.zeros((n, m)), np.zeros((n, k))
        for piece in self.pieces:
            a, b, w = piece.sampled(dt / len(self.pieces))
            A, B, W = a @ A, a @ B + b, a @ W + w
        return A, B, W


@dataclass(frozen=True)
class Rotation:
    """Where a drive turns steadily: its points and plants at ticks in a row, from each of some angles on; ``rate`` in
    rad of the field per second, ``drift`` what it still changes by in that turn, as a share."""

    point: WorkingPoint
    rows: tuple[tuple[tuple[WorkingPoint, MovingPlant], ...], ...]
    rate: float
    drift: float

    def remarks(self) -> tuple[str, ...]:
        if self.drift < DRIFTS:
            return ()
        return (
            f"The speed still drifts by {100 * self.drift:.2g} % within a turn, which moves slow poles. A "
            f"longer run is more exact.",
        )


def angle_signals(prepared: Prepared) -> list[str]:
    """Angles of what turns in machines: the rotor's own field, or one that slips against it."""
    return [
        f"{card}.{name}"
        for card, record in prepared.drive.cards.items()
        for role in (SignalRole.ROTOR_ANGLE, SignalRole.FIELD_ANGLE)
        for name in kind_of(record).signal_names(role)
        if f"{card}.{name}" in prepared.structure.signals
    ]


def rotation_of(prepared: Prepared, extra: tuple[str, ...] = ()) -> Rotation:
    """The steady rotation in which a run of the drive ends.

    Parameters
    ----------
    extra
        plant signals that are looked at beside those that blocks read.

    Raises
    ------
    DriveProblem
        where there is none.
    """
    refuse_strange_c(prepared.drive, "allow it")
    angles = angle_signals(prepared)
    if not angles:
        raise DriveProblem(
            "A run of this drive does not settle, and no machine in it reports the angle of its field. Hold "
            "its "
            "setpoints and loads, make the run longer, or choose an instant."
        )
    deck, until = prepared.deck, prepared.examined.settings["until"]
    period = math.lcm(*(b.every for b in deck.blocks)) if deck.blocks else 1
    in_a_row = 2 * period + max((b.phase for b in deck.blocks), default=0)
    signals = tuple(dict.fromkeys((*deck.measured, *extra)))
    with simulator_until(prepared, until, in_a_row) as simulator:
        step, snapshots = angle_step(prepared, simulator, angles[0], until)
        if abs(step) * until / deck.tick < 4 * math.pi:
            raise DriveProblem(
                "A run of this drive neither settles nor turns twice. Make the run longer, or choose an instant."
            )
        apart = math.ceil((in_a_row + 2) / period)  # a run does not go back: one row ends before the next begins
        stride = max(apart, math.floor(2 * math.pi / abs(step) / INSTANTS / period)) * period
        first = math.floor((until / deck.tick - INSTANTS * stride - in_a_row - 1) / period) * period
        if first < 1:
            raise DriveProblem("The run ends before a steady turn is over. Make it longer, or choose an instant.")
        simulator.restore(
            max(
                (s for s in snapshots if s.time < (first - 4) * deck.tick),
                key=lambda s: s.time,
                default=snapshots[0],
            )
        )
        pairs = [
            ticks_from(prepared, simulator, first + k * stride, in_a_row, signals, angles[0]) for k in range(INSTANTS)
        ]
    rows, steps = tuple(row for row, _ in pairs), [step for _, step in pairs]
    drift = float(np.ptp(steps)) / abs(float(np.mean(steps)))
    if drift > STEADY:
        low, high = (abs(s) / (2 * math.pi * deck.tick) for s in (min(steps), max(steps)))
        raise DriveProblem(
            f"The drive still speeds up or slows down where the run ends: its field turns with {low:.4g} to "
            f"{high:.4g} Hz. "
            "Make the run longer, hold its setpoints and loads, or choose an instant."
        )
    rate = float(np.mean(steps)) / deck.tick
    name = f"in steady rotation, {abs(rate) / (2 * math.pi):.4g} Hz"
    return Rotation(replace(rows[0][0][0], name=name, calm=True), rows, rate, drift)


def simulator_until(prepared: Prepared, until: float, kept: int) -> Simulator:
    """A run to ``until`` (s) in steps of a part of a tick, that keeps so many ticks at least. It runs without what the
    linear model leaves out, which are dead times and drops, what makes up for them, and steps of timers and sensors:
    where it settles then, that is at rest in its frame."""
    settings, tick = prepared.examined.settings, prepared.deck.tick
    chosen = RunSettings(
        until,
        min(settings["tolerance"], TOLERANCE),
        prepared.drive.settings["method"],
        int(settings["seed"]),
        h_max=tick / STEPS,
        fixed_step=settings["step"],
    )
    deck = prepared.deck
    blocks = tuple(
        replace(b, values={**b.values, **{n: x for n, x in b.smooth.items() if n in b.values}}) for b in deck.blocks
    )
    inputs = prepared.inputs(chosen, replace(deck, blocks=blocks))
    inputs = replace(inputs, parameters=without_drops(prepared))
    return Simulator(prepared.program, inputs, ring=Ring(20 * STEPS * (kept + 2), 2 * (kept + 2)))


def advanced(simulator: Simulator, t: float) -> None:
    outcome = simulator.advance(t)
    if outcome not in (Outcome.PAUSED, Outcome.DONE):
        raise DriveProblem(f"The run ends at {simulator.time:g} s, before it turns steadily. See why on Runs.")


class Seen:
    """The plant over some ticks of a run, between its rows."""

    def __init__(self, prepared: Prepared, rows: np.ndarray, begin: float):
        self.prepared = prepared
        structure, tick = prepared.structure, prepared.deck.tick
        rows = rows[rows[:, 0] >= begin - tick]
        _, last = np.unique(rows[::-1, 0], return_index=True)
        self.rows = rows[::-1][last]
        n = len(structure.state_keys)
        self.states = CubicSpline(self.rows[:, 0], self.rows[:, 1 : 1 + n])

    def row(self, t: float, within: float) -> np.ndarray:
        """As a row of the run, with commands and modes as of the time ``within`` a tick."""
        structure = self.prepared.structure
        n = len(structure.state_keys)
        row = self.rows[np.searchsorted(self.rows[:, 0], within)].copy()
        row[0], row[1 : 1 + n] = t, self.states(t)
        return row

    def point(self, t: float, within: float, given: Mapping[str, float]) -> WorkingPoint:
        return point_of_row(self.prepared, self.row(t, within), given)

    def turned(self, angle: str, one: float, other: float) -> float:
        """By what an angle moves between two times, rad within half a turn."""
        rows = np.array([self.row(t, t) for t in (one, other)])
        low, high = evaluate_signals(self.prepared.structure, rows, self.prepared.parameters, (angle,))[:, 0].tolist()
        return math.remainder(high - low, 2 * math.pi)


def angle_step(prepared: Prepared, simulator: Simulator, angle: str, until: float) -> tuple[float, list[Snapshot]]:
    """By what an angle moves in a tick at the end of a run, rad within half a turn; and snapshots on the way
    there."""
    tick, snapshots = prepared.deck.tick, [simulator.state()]
    for share in ON_THE_WAY:
        advanced(simulator, min(share * until, until - 8 * tick))
        snapshots.append(simulator.state())
    advanced(simulator, until - 1.5 * tick)
    seen = Seen(prepared, simulator.recorded().rows, until - 4 * tick)
    return seen.turned(angle, until - 3.5 * tick, until - 2.5 * tick), snapshots


def ticks_from(
    prepared: Prepared, simulator: Simulator, first: int, count: int, signals: tuple[str, ...], angle: str
) -> tuple[tuple[tuple[WorkingPoint, MovingPlant], ...], float]:
    """Points and plants of ticks in a row, and by what the angle moves in the first. A point has what blocks remember
    before its tick and give at it; the plant is that from it to the next."""
    dt = prepared.deck.tick
    known = []
    for tick in range(first, first + count):
        advanced(simulator, (tick - 0.5) * dt)
        remembered = simulator.recorded().remembered
        advanced(simulator, (tick + 0.5) * dt)
        known.append((remembered, simulator.present()[1]))
    advanced(simulator, (first + count + 0.5) * dt)
    seen = Seen(prepared, simulator.recorded().rows, first * dt)
    plants = []
    for tick, (remembered, given) in zip(range(first, first + count), known):
        begin, inside = tick * dt, (tick + 0.5) * dt
        point = replace(seen.point(begin, inside, given), remembered=remembered)
        pieces = tuple(
            linear_plant(prepared, signals, seen.point(begin + (k + 0.5) / PIECES * dt, inside, given))
            for k in range(PIECES)
        )
        plants.append((point, MovingPlant(**linear_plant(prepared, signals, point).__dict__, pieces=pieces)))
    return tuple(plants), seen.turned(angle, first * dt, (first + 1) * dt)


BlocksAround = tuple[tuple[dict[str, LinearBlock], ...], ...]
"""Linear forms of blocks by their names, at each point of a rotation."""


def blocks_around(rotation: Rotation) -> BlocksAround:
    """With nothing known yet."""
    return tuple(tuple({} for _ in row) for row in rotation.rows)


class TurningDrive(SampledDrive):
    """A drive in the frame that turns with it. What it gives holds between signals that stand still there: of d and q,
    speeds, torques, and not of phases.

    Parameters
    ----------
    rotation
        in which it turns; its plants give the signals that are looked at.
    known
        linear forms of blocks at its points, for studies that share it; what is missing is added.
    """

    def __init__(
        self,
        deck: ControlDeck,
        rotation: Rotation,
        *,
        silent: Silent = NOTHING,
        known: BlocksAround | None = None,
    ):
        self.rotation = rotation
        self.known = known if known is not None else blocks_around(rotation)
        self.around = [
            [
                SampledDrive(deck, point, plant, silent=silent, linear=blocks)
                for (point, plant), blocks in zip(row, of_row)
            ]
            for row, of_row in zip(rotation.rows, self.known)
        ]
        # Poles at one of an angle and a speed are double, and move by the root of what the run drifts by.
        self.rounding = 1e-5 + 0.05 * math.sqrt(rotation.drift)
        first = self.around[0][0]
        super().__init__(deck, rotation.point, first.plant, silent=silent, linear=dict(first.linear))
        self._first = dict(self.linear)

    def limited(self) -> list[str]:
        return list(dict.fromkeys(name for row in self.around for drive in row for name in drive.limited()))

    def period_map(
        self,
        *,
        inject: str | None = None,
        setpoint: str | None = None,
        opened: frozenset[str] = frozenset(),
        ticks: int | None = None,
        watch: tuple[str, ...] = (),
        each_tick: bool = False,
        looked: int = 1,
    ) -> tuple[np.ndarray, np.ndarray, list[dict[str, np.ndarray]]]:
        """As of a drive that stands still; its states are combinations of those of the drive."""
        if ticks not in (None, self.period):
            raise ValueError("a turning drive is known from period to period")
        frame = self.frame(inject, setpoint, opened, watch, each_tick)
        return frame.A, frame.B, frame.seen(watch)[::looked]

    def frame(
        self,
        inject: str | None,
        setpoint: str | None,
        opened: frozenset[str],
        watch: tuple[str, ...],
        each_tick: bool,
    ) -> Frame:
        changed = {name: form for name, form in self.linear.items() if form is not self._first[name]}
        for drive in (d for row in self.around for d in row):
            drive.linear.update(changed)
        span = self.period
        maps = [
            [
                self._map(
                    row[self.origin + begin : self.origin + begin + span],
                    inject,
                    setpoint,
                    opened,
                    watch,
                    each_tick,
                )
                for row in self.around
            ]
            for begin in (0, span)
        ]
        rotation = turned(*maps)
        if rotation is None:
            ends = " and ".join(dict.fromkeys(filter(None, (inject or setpoint, *watch))))
            raise DriveProblem(
                f"{ends} do not stand still in a frame that turns with the drive, so there is no model of "
                f"this way that "
                "holds. Choose signals along d and q, speeds or torques, a longer run, or an instant. Where "
                "something else "
                "turns at another frequency, such as a grid behind a rectifier, judge by runs."
            )
        return rotation

    def _map(
        self,
        row: Sequence[SampledDrive],
        inject: str | None,
        setpoint: str | None,
        opened: frozenset[str],
        watch: tuple[str, ...],
        each_tick: bool,
    ) -> Map:
        """From one period to the next, at one angle."""
        n, width = len(self.names), len(row) if each_tick else 1
        S, rows = np.eye(n, n + width), []
        for j, drive in enumerate(row):
            drive.origin = (self.origin + j) % self.period
            phi, gamma, seen = drive.period_map(inject=inject, setpoint=setpoint, opened=opened, ticks=1, watch=watch)
            u = np.zeros((1, n + width))
            u[0, n + (j if each_tick else 0)] = 1.0
            rows += [seen[0][w][:n] @ S + seen[0][w][n] * u[0] for w in watch]
            S = phi @ S + gamma @ u
        whole = np.array(rows).reshape(len(rows), n + width)
        return Map(S[:, :n], S[:, n:], whole[:, :n], whole[:, n:])

    def lifted(self, watch: str, inject: str, opened: frozenset[str]) -> LiftedModel:
        frame = self.frame(inject, None, opened, (watch,), True)
        return LiftedModel(frame.A, frame.B, frame.C, frame.D, self.deck.tick)

    def model(
        self,
        watch: str,
        *,
        inject: str | None = None,
        setpoint: str | None = None,
        opened: frozenset[str] = frozenset(),
    ) -> LinearModel:
        frame = self.frame(inject, setpoint, opened, (watch,), False)
        names = combined(frame.basis, self.names)
        dt = self.deck.tick * self.period
        return LinearModel(frame.A, frame.B, frame.C[:1], frame.D[:1], dt, names, inject or setpoint or "", watch)


class TurningPoints(WorkingPoints):
    """A rotation in the place of points that stand still, with what is linear about it. Raises `DriveProblem` as
    `rotation_of`."""

    def __init__(self, prepared: Prepared):
        super().__init__(prepared)
        self.rotation = rotation_of(prepared)
        self.around = blocks_around(self.rotation)


@dataclass(frozen=True)
class Map:
    """x⁺ = A x + B u, y = C x + D u over a period that begins at one angle; y has what is watched at each
    tick."""

    A: np.ndarray
    B: np.ndarray
    C: np.ndarray
    D: np.ndarray

    def response(self, z: np.ndarray) -> np.ndarray:
        """At points of the plane of z, shape (points, outputs, inputs)."""
        n = len(self.A)
        return (
            self.C
            @ np.linalg.solve(z[:, None, None] * np.eye(n) - self.A, np.broadcast_to(self.B, (len(z), *self.B.shape)))
            + self.D
        )


@dataclass(frozen=True)
class Frame(Map):
    """The same in the turning frame; ``basis`` (n, k) leads from its states to those of the drive."""

    basis: np.ndarray

    def seen(self, watch: tuple[str, ...]) -> list[dict[str, np.ndarray]]:
        rows = np.hstack([self.C, self.D])
        return [
            {w: rows[j * len(watch) + k] for k, w in enumerate(watch)} for j in range(len(rows) // max(1, len(watch)))
        ]


def turned(now: Sequence[Map], later: Sequence[Map]) -> Frame | None:
    """The model of the turning frame from maps at angles around a turn, and those one period later each; None where no
    frame makes them constant."""
    scale = scales((*now, *later))
    now, later = ([in_scale(m, scale) for m in maps] for maps in (now, later))
    best: tuple[float, Frame] | None = None
    for rank in RANKS:
        within = turned_within(now, later, rank)
        if within is None:
            continue
        stretch, frame = within
        if best is None or stretch < best[0]:
            best = within
        if stretch < TURNS_ONLY:
            break
    return replace(best[1], basis=scale[:, None] * best[1].basis) if best is not None else None


def turned_within(now: Sequence[Map], later: Sequence[Map], rank: float) -> tuple[float, Frame] | None:
    """As `turned`, without directions that count for less than ``rank`` beside the largest; and by how much the
    change of frame stretches one direction more than another (its condition)."""
    Q = joint_basis([m.A for m in (*now, *later)], [m.B for m in (*now, *later)], rank)
    now, later = ([within(m, Q) for m in maps] for maps in (now, later))
    R = joint_basis([m.A.T for m in (*now, *later)], [m.C.T for m in (*now, *later)], rank)
    now, later = ([within(m, R) for m in maps] for maps in (now, later))
    E = change_of_frame(now, later)
    try:
        frames = [Map(np.linalg.solve(E, m.A), np.linalg.solve(E, m.B), m.C, m.D) for m in now]
        middle = most_usual(frames)
    except np.linalg.LinAlgError:
        return None
    if middle is None:
        return None
    return float(np.linalg.cond(E)) if E.size else 1.0, Frame(**middle.__dict__, basis=Q @ R)


def scales(maps: Iterable[Map]) -> np.ndarray:
    """Units of the states in which the numbers of all maps are of a size."""
    maps = list(maps)
    n = len(maps[0].A)
    whole = np.zeros((n + 1, n + 1))
    for m in maps:
        whole[:n, :n] = np.maximum(whole[:n, :n], np.abs(m.A))
        whole[:n, n] = np.maximum(whole[:n, n], np.max(np.abs(m.B), axis=1, initial=0.0))
        whole[n, :n] = np.maximum(whole[n, :n], np.max(np.abs(m.C), axis=0, initial=0.0))
    _, (scale, _) = scipy.linalg.matrix_balance(whole, permute=False, separate=True)
    return np.asarray(scale[:n] / scale[n])


def in_scale(m: Map, t: np.ndarray) -> Map:
    return Map(m.A * t[None, :] / t[:, None], m.B / t[:, None], m.C * t[None, :], m.D)


def within(m: Map, Q: np.ndarray) -> Map:
    return Map(Q.T @ m.A @ Q, Q.T @ m.B, m.C @ Q, m.D)


def joint_basis(As: Sequence[np.ndarray], Bs: Sequence[np.ndarray], rank: float) -> np.ndarray:
    """An orthogonal basis of what inputs reach by any of the maps in any order."""
    basis = column_space(np.hstack(Bs), rank)
    while True:
        wider = column_space(np.hstack([basis, *(A @ basis for A in As)]), rank)
        if wider.shape[1] <= basis.shape[1]:
            return basis
        basis = wider


def column_space(columns: np.ndarray, rank: float) -> np.ndarray:
    U, sizes, _ = np.linalg.svd(columns, full_matrices=False)
    return U[:, sizes > rank * max(float(sizes[0]) if len(sizes) else 0.0, 1e-300)]


def change_of_frame(now: Sequence[Map], later: Sequence[Map]) -> np.ndarray:
    """E of the least squares of E A = A' E, E B = B', C = C' E over all pairs: by their normal equations, with the
    columns of E below each other."""
    n = len(now[0].A)
    one = np.eye(n)
    normal, right = np.zeros((n * n, n * n)), np.zeros(n * n)
    for m, p in zip(now, later):
        normal += np.kron(m.A @ m.A.T + m.B @ m.B.T, one)
        normal += np.kron(one, p.A.T @ p.A + p.C.T @ p.C)
        normal -= np.kron(m.A, p.A) + np.kron(m.A.T, p.A.T)
        right += (p.B @ m.B.T).ravel(order="F") + (p.C.T @ m.C).ravel(order="F")
    return np.asarray(scipy.linalg.lstsq(normal, right)[0].reshape(n, n, order="F"))


def most_usual(frames: Sequence[Map]) -> Map | None:
    """That whose response is nearest to the mean of all; None where they are not the same from all angles."""
    z = np.exp(1j * np.geomspace(1e-3, 3.0, 12))
    responses = np.array([f.response(z) for f in frames])
    mean = np.mean(responses, axis=0)
    size = np.maximum(np.abs(mean), 1e-6 * max(float(np.max(np.abs(mean))), 1e-300))
    off = np.max(np.abs(responses - mean) / size, axis=(2, 3))
    same = np.all(np.median(off, axis=1) <= USUALLY_UNLIKE) and np.all(off <= AT_MOST_UNLIKE)
    return frames[int(np.argmin(np.max(off, axis=1)))] if same else None


__all__ = ["BlocksAround", "Rotation", "TurningDrive", "TurningPoints", "blocks_around", "rotation_of"]

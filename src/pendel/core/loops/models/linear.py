"""Linear models of a whole drive: plant exactly sampled, blocks at their rates, delays as they are.

One schedule period of the deck is run on matrices: each signal is carried as its linear dependence on the
state at the period's start and on the injected input. This gives the exact time-invariant model at that
period, for any mix of rates (lifting; Chen, Francis: Optimal Sampled-Data Control Systems, chapter 8).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import NamedTuple

import casadi as ca
import numpy as np
import scipy.linalg

from pendel.core.catalogue.index import kind_of
from pendel.core.controllers.deck import BlockInstance, ControlDeck, Part, Step
from pendel.core.controllers.symbolic import LinearBlock, linear_blocks
from pendel.core.equations.context import stacked
from pendel.core.errors import DriveProblem
from pendel.core.last_few import LastFew
from pendel.core.loops.models.linear_models import LiftedModel, LinearModel, responds
from pendel.core.loops.models.points import WorkingPoint, WorkingPoints, at_rest
from pendel.core.plant.program import Structure
from pendel.core.plant.starting import loop_values, surface_values
from pendel.core.runs.preparing.simulate import Prepared
from pendel.core.vocabulary import ValueRole


@dataclass
class LinearPlant:
    """dx/dt = A x + B u + W l, y = C x + D u + V l around an operating point; y are the plant signals asked
    for, l what profiles give."""

    A: np.ndarray
    B: np.ndarray
    C: np.ndarray
    D: np.ndarray
    states: tuple[str, ...]
    commands: tuple[str, ...]
    signals: tuple[str, ...]
    loads: tuple[str, ...]
    W: np.ndarray
    V: np.ndarray

    def sampled(self, dt: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Exact matrices for inputs and loads that are constant over ``dt``."""
        n, m, k = len(self.states), len(self.commands), len(self.loads)
        inputs = np.hstack([self.B, self.W])
        whole = scipy.linalg.expm(np.block([[self.A, inputs], [np.zeros((m + k, n + m + k))]]) * dt)
        return whole[:n, :n], whole[:n, n : n + m], whole[:n, n + m :]


def without_drops(prepared: Prepared) -> np.ndarray:
    """Parameters with every dead time and every drop of a converter with dead time zero, shape (p,).

    What is lost to them depends on the current's sign alone. About zero current its slope would act as a
    resistance of many ohms that the drive shows nowhere else.
    """
    keys = prepared.structure.parameter_keys
    kinds = {card: kind_of(record) for card, record in prepared.drive.cards.items()}
    by_sign = {
        f"{card}.{name}"
        for card, kind in kinds.items()
        if kind.value_name(ValueRole.DEAD_TIME)
        for role in (ValueRole.DEAD_TIME, ValueRole.DROP)
        for name in kind.value_names(role)
    }
    signs = [k in by_sign for k in keys]
    signs += [False] * (len(prepared.parameters) - len(keys))
    return np.where(signs, 0.0, prepared.parameters)


@dataclass(frozen=True)
class Derivatives:
    """Exact derivatives of a plant's equations and signals, for any values that leave the equations as they
    are."""

    structure: Structure
    function: ca.Function
    states: tuple[str, ...]
    commands: tuple[str, ...]
    loads: tuple[str, ...]
    still: int
    """Numbers of the profiles' offsets and slopes."""
    values: int
    """Numbers that it takes of the parameters; those of surfaces are behind them."""


_derivatives: LastFew[tuple[int, tuple[str, ...]], Derivatives] = LastFew(12)
"""By the structure and the signals; stating and differentiating equations takes most of what a linear model
takes."""


def derivatives_of(prepared: Prepared, signals: tuple[str, ...]) -> Derivatives:
    structure = prepared.structure
    known = _derivatives.get((id(structure), signals))
    if known is not None and known.structure is structure:
        return known
    model = prepared.model
    symbols, network, by = model.symbols, model.network, model.derivative
    x, u = symbols["x"], stacked(*network.inputs.values())
    y = stacked(*(model.signals[s] for s in signals))
    levels = stacked(*(p.offset for p in network.profiles))
    rest = stacked(*(p.offset for p in network.profiles), *(p.slope for p in network.profiles))
    function = ca.Function(
        "plant",
        [symbols["t"], x, u, rest, symbols["s"], symbols["p"], symbols["z"], symbols["f"]],
        [by(f, v) for f in (model.rhs, y) for v in (x, u, levels)],
    )
    derivatives = Derivatives(
        structure,
        function,
        tuple(e.key for e in model.system.states),
        tuple(network.inputs),
        tuple(p.key for p in network.profiles),
        rest.numel(),
        symbols["p"].numel(),
    )
    return _derivatives.keep((id(structure), signals), derivatives)


def linear_plant(prepared: Prepared, signals: tuple[str, ...], point: WorkingPoint | None = None) -> LinearPlant:
    """Linearise the plant about a point, else at rest; derivatives are exact."""
    structure = prepared.structure
    of = derivatives_of(prepared, signals)
    point = point or at_rest(structure)
    states = np.array([point.states.get(k, 0.0) for k in of.states])
    inputs = np.array([point.inputs.get(k, 0.0) for k in of.commands])
    modes = np.array([point.modes.get(k, 0.0) for k in structure.mode_keys])
    still = np.zeros(of.still)
    still[: len(of.loads)] = [point.loads.get(k, 0.0) for k in of.loads]
    parameters = without_drops(prepared)
    both = np.concatenate([inputs, still])
    solved = [values(structure, parameters, states, both, modes) for values in (loop_values, surface_values)]
    at = [0.0, states, inputs, still, modes, parameters[: of.values], *solved]
    A, B, W, C, D, V = (np.array(m, dtype=float) for m in of.function(*at))
    n, m, k, loads = len(of.states), len(of.commands), len(signals), len(of.loads)
    return LinearPlant(
        A.reshape(n, n),
        B.reshape(n, m),
        C.reshape(k, n),
        D.reshape(k, m),
        of.states,
        of.commands,
        signals,
        of.loads,
        W.reshape(n, loads),
        V.reshape(k, loads),
    )


@dataclass(frozen=True)
class Silent:
    """Blocks that give 0, and ports (``block.port``) that read 0, while a part of a drive is looked at."""

    blocks: frozenset[str] = frozenset()
    ports: frozenset[str] = frozenset()


NOTHING = Silent()


@dataclass(frozen=True)
class KnownAtPoint:
    """The plant and blocks of a drive, linear about one point."""

    plant: LinearPlant
    blocks: dict[str, LinearBlock] = field(default_factory=dict)
    """By their names, as they are needed."""


def sampled_drive(
    prepared: Prepared,
    point: WorkingPoint,
    *,
    silent: Silent = NOTHING,
    extra: tuple[str, ...] = (),
    known: dict[str, KnownAtPoint] | None = None,
) -> SampledDrive:
    """A drive made linear about a point.

    Parameters
    ----------
    extra
        plant signals beside those the blocks read.
    known
        what is known by the names of points, for studies that share it; what is missing is added.
    """
    signals = tuple(dict.fromkeys((*prepared.deck.measured, *extra)))
    known = {} if known is None else known
    if point.name not in known:
        known[point.name] = KnownAtPoint(linear_plant(prepared, signals, point))
    at = known[point.name]
    return SampledDrive(prepared.deck, point, at.plant, silent=silent, linear=at.blocks)


class Stretch(NamedTuple):
    """Ticks, one after another, in which the same blocks run; what is watched is ``looked`` at in the first or in
    none."""

    running: tuple[bool, ...]
    begins: int
    ticks: int
    looked: bool


@lru_cache(maxsize=256)
def stretches(rates: tuple[tuple[int, int], ...], first: int, count: int, looked: int) -> tuple[Stretch, ...]:
    """So many ticks from ``first`` on; ``rates`` are every how many ticks, and at which of them, each block runs.
    Every ``looked``-th of the ticks begins a stretch of its own."""
    stretches = list[Stretch]()
    for place in range(count):
        running = tuple((first + place - phase) % every == 0 for every, phase in rates)
        if place % looked and running == stretches[-1].running:
            stretches[-1] = stretches[-1]._replace(ticks=stretches[-1].ticks + 1)
        else:
            stretches.append(Stretch(running, first + place, 1, place % looked == 0))
    return tuple(stretches)


class SampledDrive:
    """The drive as one linear sampled system, of numbers alone.

    Parameters
    ----------
    plant
        linear about ``point``.
    silent
        such as an outer loop while an inner one is judged.
    linear
        linear forms of the blocks at the point, where they are known; what is missing is added.
    """

    rounding = 1e-9
    """By what a pole of what does not grow may lie outside the unit circle."""
    range: tuple[float, float] | None = None
    """Hz over which it is known, where that is not all."""

    def __init__(
        self,
        deck: ControlDeck,
        point: WorkingPoint,
        plant: LinearPlant,
        *,
        silent: Silent = NOTHING,
        linear: dict[str, LinearBlock] | None = None,
    ):
        self.deck, self.point, self.plant, self.silent = deck, point, plant, silent
        self.whole = deck
        """Of the whole drive, where this is of a part of it."""
        self.origin = 0
        """Tick at which its period begins: that of the block that is looked at, where this runs later."""
        self.Ad, self.Bd, self.Wd = plant.sampled(deck.tick)
        self.blocks = [b for b in deck.blocks if b.name not in silent.blocks]
        known = linear if linear is not None else {}
        for block in self.blocks:
            if block.name not in known:
                known[block.name] = self.about_point(block)
        self.linear = {b.name: known[b.name] for b in self.blocks}
        self.outputs = [f"{b.name}.{p}" for b in self.blocks for p in b.outputs]
        self.layout()

    def about_point(self, block: BlockInstance) -> LinearBlock:
        """A block's linear form at the point's inputs and memory. Gains are the numbers that change, here and where
        values spread, so it is stated for any of them."""
        gains = dict.fromkeys(own for loop in block.regulates for own in loop.gains.values())
        return self.about_point_with(block, tuple(gains))({})

    def about_point_with(
        self, block: BlockInstance, free: tuple[str, ...]
    ) -> Callable[[Mapping[str, float]], LinearBlock]:
        """The same for any numbers of its values that are ``free``."""
        return linear_blocks(
            block,
            self.deck.tick * block.every,
            self.inputs_of(block),
            {s: self.point.remembered.get(f"{block.name}.{s}", 0.0) for s in block.states},
            free,
        )

    def inputs_of(self, block: BlockInstance) -> dict[str, float]:
        """What a block reads at the point, by its ports."""
        return {p: self.point.signals.get(s, 0.0) for p, s in block.sources.items() if s}

    @property
    def delay(self) -> float:
        """What commands wait (s)."""
        return self.deck.tick * self.deck.delay

    def limited(self) -> list[str]:
        """Blocks in which something is at its limit at the point; a source that ends at one only does what
        it should."""
        return [b.name for b in self.blocks if b.inputs and self.linear[b.name].limited]

    @cached_property
    def period(self) -> int:
        return math.lcm(*(b.every for b in self.blocks)) if self.blocks else 1

    def layout(self) -> None:
        """State: plant states, commands on their way, block states, outputs held between updates."""
        names = [*self.plant.states, *(f"pending {c}" for c in self.plant.commands)]
        self.block_at: dict[str, slice] = {}
        for b in self.blocks:
            n = self.linear[b.name].E.shape[0]
            self.block_at[b.name] = slice(len(names), len(names) + n)
            names += [f"{b.name}.{s}" for s in b.states] + [f"{b.name} {k + 1} ago" for k in range(n - len(b.states))]
        self.outputs_at: dict[str, slice] = {}
        first = len(names)
        for b in self.blocks:
            self.outputs_at[b.name] = slice(first, first := first + len(b.outputs))
        self.held_at = {s: len(names) + k for k, s in enumerate(self.outputs)}
        self.names = tuple(names + [f"held {s}" for s in self.outputs])

    @np.errstate(over="ignore", invalid="ignore")  # what grows without bounds within a period is seen by its poles
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
        """Run one period on matrices.

        ``inject`` names what the input is added to, or replaces where it is opened: a block's output, what blocks
        read of a measured signal, what the plant takes of a command, or a load (a profile of the plant). ``setpoint``
        is an input port ``block.port`` it is added to. What is watched is what arrives there, before that. The input
        stays for the period, or is one of its own at ``each_tick``. Returns Φ, Γ and, for every so many ticks as it
        is ``looked`` at, the rows of the watched signals."""
        n, count = len(self.names), ticks or self.period
        known: dict[tuple[bool, ...], tuple[np.ndarray, np.ndarray]] = {}
        """What a tick does, by which blocks run in it: most ticks of a period are alike."""
        S = np.eye(n, n + (count if each_tick else 1))
        seen: list[dict[str, np.ndarray]] = []
        rates = tuple((b.every, b.phase) for b in self.blocks)
        for stretch in stretches(rates, self.origin, count, 1 if each_tick else looked):
            if stretch.running not in known:
                known[stretch.running] = self._tick_map(stretch.begins, inject, setpoint, opened, watch)
            step, rows = known[stretch.running]
            now = n + (stretch.begins - self.origin) * each_tick
            if stretch.looked:
                values = rows[:, :n] @ S
                values[:, now] += rows[:, n]
                seen.append(dict(zip(watch, values)))
            if stretch.ticks > 1:
                held = np.vstack([step, np.eye(1, n + 1, n)])
                step = np.linalg.matrix_power(held, stretch.ticks)[:n]
            S = step[:, :n] @ S
            S[:, now] += step[:, n]
        return S[:, :n], S[:, n:], seen

    def _tick_map(
        self,
        tick: int,
        inject: str | None,
        setpoint: str | None,
        opened: frozenset[str],
        watch: tuple[str, ...],
    ) -> tuple[np.ndarray, np.ndarray]:
        """State after a tick and what is watched in it, by the state before it and the input; shapes (n, n + 1) and
        (w, n + 1)."""
        n, nx, nc = len(self.names), len(self.plant.states), len(self.plant.commands)
        width = n + 1
        S, e, nothing = np.eye(n, width), np.zeros(width), np.zeros(width)
        e[n] = 1.0
        loaded = [k for k, name in enumerate(self.plant.loads) if name == inject]
        at_commands = inject in self.plant.commands or not opened.isdisjoint(self.plant.commands)

        def changed(name: str, value: np.ndarray) -> np.ndarray:
            """What goes on of a signal where the input comes in, or where it is opened."""
            kept = nothing if name in opened else value
            return kept + e if name == inject else kept

        def taken(commands: np.ndarray) -> np.ndarray:
            if not at_commands:
                return commands
            rows = [changed(c, row) for c, row in zip(self.plant.commands, commands)]
            return np.array(rows).reshape(nc, width)

        # With a computing delay the plant takes now what the last tick gave, and is then looked at; without, it
        # is looked at while it still has the last tick's.
        u = S[nx : nx + nc].copy() if self.deck.delay else None
        applied = S[nx : nx + nc] if u is None else taken(u)
        y = self.plant.C @ S[:nx] + self.plant.D @ applied
        if loaded:
            y += np.outer(self.plant.V[:, loaded[0]], e)
        measured = dict(zip(self.plant.signals, y))
        raw: dict[str, np.ndarray] = {}

        def read(source: str | None) -> np.ndarray:
            if source is None:
                return nothing
            if source in measured:
                value = measured[source]
            elif source in self.held_at:
                value = S[self.held_at[source]]
            else:
                return nothing
            return changed(source, value)

        for step in self.deck.steps:
            if step.block not in self.silent.blocks and self.deck.block(step.block).runs_at(tick):
                self._run_block(step, S, read, setpoint, watch, raw)
        seen = np.zeros((len(watch), width))
        for row, w in zip(seen, watch):
            row += measured.get(w, raw.get(w, S[self.held_at[w]] if w in self.held_at else nothing))
        pending = np.array([read(self.deck.commands.get(c)) for c in self.plant.commands]).reshape(nc, width)
        if u is None:
            u = pending
        for k, c in enumerate(self.plant.commands):
            if c in watch:
                seen[watch.index(c)] = u[k]
        acting = taken(u)
        S[nx : nx + nc] = pending if self.deck.delay else acting
        S[:nx] = self.Ad @ S[:nx] + self.Bd @ acting
        if loaded:
            S[:nx] += np.outer(self.Wd[:, loaded[0]], e)
        return S, seen

    def _run_block(
        self,
        step: Step,
        S: np.ndarray,
        read: Callable[[str | None], np.ndarray],
        setpoint: str | None,
        watch: tuple[str, ...],
        raw: dict[str, np.ndarray],
    ) -> None:
        """Let a block take in, give, or both: its rows of ``S``, and those of watched inputs in ``raw``."""
        b, at, width = self.deck.block(step.block), self.block_at[step.block], S.shape[1]
        states = at.stop - at.start
        given = np.zeros((states + len(b.inputs), width))
        given[:states] = S[at]
        for row, p in zip(given[states:], b.inputs):
            port = f"{b.name}.{p}"
            if port not in self.silent.ports:
                row += read(b.sources.get(p))
            if port == setpoint:
                row[-1] += 1.0
            if port in watch:
                raw[port] = row
        gives = self.linear[b.name].whole @ given
        if step.part is not Part.GIVE:
            S[at] = gives[:states]
        if step.part is not Part.TAKE:
            S[self.outputs_at[b.name]] = gives[states:]

    def lifted(self, watch: str, inject: str, opened: frozenset[str]) -> LiftedModel:
        """The model with an input and an output at each tick of the period."""
        n = len(self.names)
        phi, gamma, seen = self.period_map(inject=inject, opened=opened, watch=(watch,), each_tick=True)
        rows = np.array([each[watch] for each in seen])
        return LiftedModel(phi, gamma, rows[:, :n], rows[:, n:], self.deck.tick)

    def model(
        self,
        watch: str,
        *,
        inject: str | None = None,
        setpoint: str | None = None,
        opened: frozenset[str] = frozenset(),
    ) -> LinearModel:
        phi, gamma, seen = self.period_map(
            inject=inject, setpoint=setpoint, opened=opened, watch=(watch,), looked=self.period
        )
        row = seen[0][watch]
        return LinearModel(
            phi,
            gamma,
            row[None, :-1],
            row[None, -1:],
            self.deck.tick * self.period,
            self.names,
            inject or setpoint or "",
            watch,
        )


def linear_model(prepared: Prepared, source: str, target: str, opened: tuple[str, ...] = ()) -> LinearModel:
    """Model from a signal to another. Between plant input and plant signal it is continuous, else sampled.

    Raises
    ------
    DriveProblem
        when a signal does not exist.
    """
    commands = prepared.structure.commands
    points = WorkingPoints(prepared)
    if source in commands and target in prepared.structure.signals:
        plant = linear_plant(prepared, (target,), points.rest)
        column = commands.index(source)
        if not (np.any(plant.B[:, column]) or np.any(plant.D[:, column])):
            plant = linear_plant(prepared, (target,), points.end)
        return LinearModel(
            plant.A, plant.B[:, [column]], plant.C, plant.D[:, [column]], 0.0, plant.states, source, target
        )
    known = {*prepared.deck.signals, *prepared.structure.signals}
    if source not in prepared.deck.signals or target not in known:
        missing = source if source not in prepared.deck.signals else target
        raise DriveProblem(
            f"{missing} is no signal a model can start from or end at. Choose a block's output, a plant input or a tap."
        )
    extra = (target,) if target in prepared.structure.signals else ()
    cut = frozenset(opened)
    for point in points:
        drive = sampled_drive(prepared, point, extra=extra)
        drive.origin = prepared.deck.block(source.partition(".")[0]).phase
        model = drive.model(target, inject=source, opened=cut)
        if responds(model):
            break
    return model

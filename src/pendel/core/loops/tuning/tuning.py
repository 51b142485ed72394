"""One loop judged and tuned: open-loop response with given gains, margins, step response, proposed gains."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import numpy as np

from pendel.core.catalogue.index import kind_of
from pendel.core.controllers.deck import BlockInstance, ControlDeck
from pendel.core.controllers.symbolic import LinearBlock
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.models.continuous import continuous_response
from pendel.core.loops.models.linear import SampledDrive, Silent, sampled_drive
from pendel.core.loops.models.linear_models import LiftedModel, LinearModel, far_values, on_the_way, responds
from pendel.core.loops.models.margins import Margins, margins
from pendel.core.loops.models.points import WorkingPoints
from pendel.core.loops.models.turning import TurningDrive, TurningPoints
from pendel.core.loops.regulators.find import Loop, acting_blocks, estimate_in, find_loops, upstream
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.regulators.measured import MeasuredDrive, MeasuredPoints
from pendel.core.loops.tuning.gains import changed_inside, take_gains
from pendel.core.loops.tuning.rules import RULES, Wishes
from pendel.core.loops.tuning.rules.lag_plant import LagPlant, fit_lag_model
from pendel.core.runs.preparing.simulate import Prepared, averaged, prepare
from pendel.core.runs.record.measures import StepMeasures, step_measures
from pendel.core.trust import refuse_strange_c
from pendel.core.vocabulary import Link

POINTS, BEYOND = 500, 8.0
POINTS_BELOW, DEEPEST, LEAD_IN = 250, 1e-5, 20
"""Frequencies below the usual ones, where the lowest lies beside them, and how many are shown before a
crossover there."""
MOST_STEPS = 4000
"""Of a response."""


@dataclass(frozen=True)
class LoopAnalysis:
    """A loop with one set of gains."""

    gains: Mapping[str, float]
    frequency: np.ndarray
    response: np.ndarray
    margins: Margins
    step_t: np.ndarray
    step_y: np.ndarray
    measures: StepMeasures


MOST_LIFTED = 1000
"""Maximum ticks of a period with one input each: matrices have the square of it."""


class LoopStudy:
    """A loop with its plant response computed once, so that gains can be changed live.

    ``G`` is the response from the regulator's output to its actual value at the regulator's rate, inner loops
    closed and outer loops frozen; computing delay, hold and sensors are in it. It answers upwards, see
    ``turned``. It holds numbers alone, and no equations.

    Parameters
    ----------
    drive
        linear, about the point at which the loop answers.
    plant_model
        of it from the regulator's output to its actual value, where that is known.
    """

    def __init__(self, drive: SampledDrive, loop: Loop, plant_model: LinearModel | LiftedModel | None = None):
        self.drive, self.loop = drive, loop
        self.continuous = False
        """Whether L is looked at as if nothing were sampled; see `pendel.core.loops.models.continuous`."""
        self.block: BlockInstance = drive.deck.block(loop.regulator)
        drive.origin = self.block.phase
        self.output = f"{loop.regulator}.{loop.regulation.out}"
        self.actual = f"{loop.regulator}.{loop.regulation.actual}"
        as_declared = loop.regulation in (*self.block.regulates, self.block.compares)
        self.turned = 1.0 if as_declared else -1.0
        """−1 where setpoint and actual value are swapped, since the plant answers downwards."""
        self.drive.linear[loop.regulator] = self.with_gains({})
        self.plant_model = plant_model or self._plant()
        self.dt = self.plant_model.dt
        nyquist = 0.5 / self.dt
        low, high = drive.range or (nyquist * 1e-4, nyquist * 0.999)
        self.frequency = spaced(low, high)

    def _plant(self) -> LinearModel | LiftedModel:
        """At the regulator's rate, also where other blocks that take part are slower than it."""
        cut, every = frozenset({self.output}), self.block.every
        if self.drive.period == every or self.drive.period > MOST_LIFTED:
            return self.drive.model(self.actual, inject=self.output, opened=cut)
        return self.drive.lifted(self.actual, self.output, cut).held_for(every)

    @cached_property
    def G(self) -> np.ndarray:
        return np.asarray(self.turned * self.plant_model.response(2 * math.pi * self.frequency))

    @property
    def can_be_continuous(self) -> bool:
        """Not in a frame that turns, nor where the plant was measured."""
        return type(self.drive) is SampledDrive

    @cached_property
    def _smooth(self) -> tuple[np.ndarray, np.ndarray]:
        """Frequencies (Hz), and the plant's response as of a continuous drive."""
        nyquist = 0.5 / self.dt
        f = np.geomspace(nyquist * 1e-4, BEYOND * nyquist, POINTS)
        G = continuous_response(
            self.drive, self.actual, 2 * math.pi * f, inject=self.output, opened=frozenset({self.output})
        )
        return f, self.turned * G

    def why_silent(self, titles: Mapping[str, str]) -> str:
        """Where on the way back the regulator's output is lost, in words; ``titles`` are the cards' names."""
        name, signal = self.loop.regulator, self.block.sources.get(self.loop.regulation.actual)
        blocks = {b.name: b for b in self.drive.deck.blocks}
        cut, seen = frozenset({self.output}), set[str]()
        while signal and signal.split(".")[0] in blocks.keys() - seen:  # blocks may feed each other in a ring
            name = signal.split(".")[0]
            seen.add(name)
            sources = [s for s in blocks[name].sources.values() if s]
            if any(responds(self.drive.model(s, inject=self.output, opened=cut)) for s in sources):
                break
            signal = sources[0] if sources else None
        return (
            f"{titles[name]} passes no small change on: what it gives moves in steps, or not at all, about "
            "the point where the drive can be made linear. Have this loop measured in runs."
        )

    @property
    def delay(self) -> float:
        """Sampling and computing delay (s): half a hold, and what the outputs wait."""
        return self.loop.period * 0.5 + self.drive.delay

    @property
    def gains_now(self) -> dict[str, float]:
        return {n: self.block.values[own] for n, own in self.loop.regulation.gains.items()}

    def with_gains(self, gains: Mapping[str, float]) -> LinearBlock:
        return self._regulator({self.loop.regulation.gains[n]: g for n, g in gains.items()})

    @cached_property
    def _regulator(self) -> Callable[[Mapping[str, float]], LinearBlock]:
        """The closed regulator's linear form by its gains."""
        closed = {"closed": 1.0} if "closed" in self.block.values else {}
        block = replace(self.block, values={**self.block.values, **closed})
        return self.drive.about_point_with(block, tuple(self.loop.regulation.gains.values()))

    def open_loop(self, gains: Mapping[str, float]) -> np.ndarray:
        """L with the sign of the negative feedback taken out."""
        return -self.regulator_at(gains, self.frequency) * self.G

    def open_loop_at(self, gains: Mapping[str, float], frequency: np.ndarray) -> np.ndarray:
        """The same at other frequencies (Hz)."""
        G = self.turned * self.plant_model.response(2 * math.pi * frequency)
        return -self.regulator_at(gains, frequency) * G

    def regulator_at(self, gains: Mapping[str, float], frequency: np.ndarray) -> np.ndarray:
        """Response of the regulator alone from its actual value to its output."""
        z = np.exp(2j * math.pi * frequency * self.loop.period)
        row = self.block.outputs.index(self.loop.regulation.out)
        column = self.block.inputs.index(self.loop.regulation.actual)
        return self.turned * self.with_gains(gains).response(z)[:, row, column]

    def measured_points(self, gains: Mapping[str, float]) -> tuple[np.ndarray, np.ndarray] | None:
        """Frequencies (Hz) and L where the plant was measured; None where it was not."""
        if not isinstance(self.drive, MeasuredDrive):
            return None
        measured = self.drive.measured
        return measured.frequency, -self.regulator_at(gains, measured.frequency) * self.turned * measured.response

    def analyse(self, gains: Mapping[str, float]) -> LoopAnalysis:
        self.drive.linear[self.loop.regulator] = self.with_gains(gains)
        setpoint = f"{self.loop.regulator}.{self.loop.regulation.setpoint}"
        watched = self.actual
        phi, gamma, seen = self.drive.period_map(setpoint=setpoint, watch=(watched,), looked=self.block.every)
        frequency, response = self.reaching_down(gains)
        loop_margins = margins(frequency, response, stable=True)
        if self.drive.point.calm:
            poles = relevant_poles(phi, gamma, seen[0][watched][:-1])
            stable = largest_pole(poles, self.drive.rounding) < 1.0 + self.drive.rounding
        else:  # poles of an instant tell nothing of what turns meanwhile; the margins at the crossover do
            stable = not (loop_margins.phase < 0 or loop_margins.gain < 1)
        loop_margins = replace(loop_margins, stable=stable)
        t, y = self.step(phi, gamma, seen, watched, loop_margins)
        return LoopAnalysis(gains, frequency, response, loop_margins, t, y, step_measures(t, y, 0.0, 1.0))

    def reaching_down(self, gains: Mapping[str, float]) -> tuple[np.ndarray, np.ndarray]:
        """Frequencies (Hz) and L over them; further down than usual where a slow loop crosses only there."""
        if self.continuous and self.can_be_continuous:
            frequency, G = self._smooth
        else:
            frequency, G = self.frequency, self.G
        response = -self.regulator_at(gains, frequency) * G
        if abs(response[0]) >= 1 or self.drive.range is not None:
            return frequency, response
        low, G = self._below  # so far down sampling makes no difference
        lower = -self.regulator_at(gains, low) * G
        above = np.flatnonzero(np.abs(lower) >= 1)
        if not len(above):
            return frequency, response
        begin = max(0, above[-1] - LEAD_IN)
        return np.concatenate([low[begin:], frequency]), np.concatenate([lower[begin:], response])

    @cached_property
    def _below(self) -> tuple[np.ndarray, np.ndarray]:
        """Frequencies (Hz) below the usual ones, and G there."""
        low = self.frequency[0] * np.geomspace(DEEPEST, 1, POINTS_BELOW, endpoint=False)
        return low, self.turned * self.plant_model.response(2 * math.pi * low)

    def step(
        self,
        phi: np.ndarray,
        gamma: np.ndarray,
        seen: list[dict[str, np.ndarray]],
        watched: str,
        margins: Margins,
    ) -> tuple[np.ndarray, np.ndarray]:
        """Response of the actual value, as the regulator sees it whenever it runs, to a unit step of the setpoint."""
        scale = 1.0 / (2 * math.pi * margins.crossover) if math.isfinite(margins.crossover) else 20 * self.dt
        count = int(min(MOST_STEPS, max(40, 14 * scale / self.dt)))
        rows = np.array([tick[watched] for tick in seen])
        period = self.drive.deck.tick * self.drive.period
        # With the held input as a state of its own.
        whole = np.block([[phi, gamma], [np.zeros((1, phi.shape[0])), np.ones((1, 1))]])
        if 14 * scale > MOST_STEPS * self.dt:  # a slow loop is looked at every so many periods
            stride = math.ceil(14 * scale / period / MOST_STEPS)
            whole = np.linalg.matrix_power(whole, stride)
            y = far_values(rows[:1], whole, MOST_STEPS)
            return np.arange(len(y)) * stride * period, y
        y = far_values(rows, whole, count)
        return np.arange(len(y)) * self.loop.period, y

    def picture(self, f_wish: float | None = None) -> LagPlant:
        """The plant as lag and small delays, fitted around the frequencies where the loop will cross."""
        if self.drive.range is not None:
            return self._picture_within(*self.drive.range, f_wish)
        top = f_wish or 0.08 / self.dt
        inside = (self.frequency > top * 0.05) & (self.frequency < min(top * 1.2, 0.2 / self.dt))
        frequency, G = self.frequency[inside], self.G[inside]
        if top * 0.05 < self.frequency[0]:
            frequency = np.geomspace(top * 0.05, top * 1.2, POINTS_BELOW)
            G = self.turned * self.plant_model.response(2 * math.pi * frequency)
        return fit_lag_model(2 * math.pi * frequency, G)

    def _picture_within(self, low: float, high: float, f_wish: float | None) -> LagPlant:
        """From what is known between two frequencies (Hz), whatever the wish."""
        top = min(max(f_wish or 0.5 * high, 4.0 * low), high / 1.2)
        frequency = np.geomspace(max(low, top * 0.05), top * 1.2, POINTS_BELOW)
        return fit_lag_model(2 * math.pi * frequency, self.plant_at(frequency))

    @property
    def has_integral(self) -> bool:
        return "T_i" in self.loop.regulation.gains

    def plant_at(self, frequency: np.ndarray) -> np.ndarray:
        """See `LoopSeen`."""
        return np.asarray(self.turned * self.plant_model.response(2 * math.pi * frequency))

    def propose(self, rule: str, *, crossover: float | None = None, phase_margin: float = 60.0) -> dict[str, float]:
        """Gains by a rule of `RULES`. Raises `DriveProblem` for an unreachable wish."""
        if rule not in RULES:
            known = ", ".join(each.id for each in RULES)
            raise DriveProblem(f"There is no rule “{rule}”. Choose one of {known}.")
        chosen = RULES[rule]
        if not self.loop.regulation.gains:
            raise DriveProblem(
                f"{self.block.title} has no gains: the loop is what the blocks behind it make of it. "
                "Change their values "
                "on the sheet."
            )
        if self.loop.regulation.scaled and not chosen.scales_only:
            raise DriveProblem(
                "The parts of this regulator follow from its tables; only its bandwidth is chosen. Take "
                "the rule by crossover."
            )
        return chosen.propose(self, Wishes(crossover, phase_margin))


@lru_cache(maxsize=32)
def spaced(low: float, high: float) -> np.ndarray:
    """Frequencies (Hz) evenly apart on a logarithmic axis, for whoever looks at the same range."""
    frequencies = np.geomspace(low, high, POINTS)
    frequencies.flags.writeable = False
    return frequencies


def silent_beside(deck: ControlDeck, loop: Loop) -> Silent:
    """What gives nothing while a loop is studied: the setpoints of its regulator, those of its other axes too, as loops
    further out act through all of them; and blocks that act through these alone, or only watch."""
    block = deck.block(loop.regulator)
    setpoints = {loop.regulation.setpoint, *(each.setpoint for each in block.regulates)}
    apart = replace(block, sources={**block.sources, **dict.fromkeys(setpoints)})
    without = replace(deck, blocks=tuple(apart if b is block else b for b in deck.blocks))
    idle = {b.name for b in deck.blocks} - acting_blocks(without) - {loop.regulator}
    return Silent(frozenset(idle), frozenset(f"{loop.regulator}.{each}" for each in setpoints))


def study_of(prepared: Prepared, loop: Loop, points: WorkingPoints | None = None) -> LoopStudy:
    """A loop studied about the first point at which it answers. Raises `DriveProblem` where it answers at
    none."""
    points = points or WorkingPoints(prepared)
    silent = silent_beside(prepared.deck, loop)
    study: LoopStudy | None = None
    if isinstance(points, MeasuredPoints):
        return LoopStudy(points.drive_of(loop), loop)
    if isinstance(points, TurningPoints):
        study = LoopStudy(TurningDrive(prepared.deck, points.rotation, silent=silent, known=points.around), loop)
        if responds(study.plant_model):
            return study
        raise DriveProblem(study.why_silent({key: card.name for key, card in prepared.drive.cards.items()}))
    held = feeds_without_phases(prepared, loop)
    for point in points.with_held(lambda: points.opened(loop.regulator, loop.setpoint, loop.source) if held else None):
        study = LoopStudy(sampled_drive(prepared, point, silent=silent, known=points.known), loop)
        if responds(study.plant_model):
            return study
    assert study is not None
    raise DriveProblem(study.why_silent({key: card.name for key, card in prepared.drive.cards.items()}))


def feeds_without_phases(prepared: Prepared, loop: Loop) -> bool:
    """Whether all that a regulator commands are parts without three phases, in which something could turn."""
    deck, output = prepared.deck, f"{loop.regulator}.{loop.regulation.out}"
    fed = {
        target.partition(".")[0]
        for target, signal in deck.commands.items()
        if signal == output or loop.regulator in upstream(deck, signal)
    }
    kinds = [kind_of(prepared.drive.cards[card]) for card in fed]
    return bool(kinds) and not any(port.link is Link.AC3 for kind in kinds for port in kind.ports)


@dataclass(frozen=True)
class LoopStatus:
    """A loop with its study and how it stands with its present gains, or a sentence why it has no linear
    model."""

    loop: Loop
    study: LoopStudy | None = None
    judged: LoopAnalysis | None = None
    problem: str = ""
    begin: float = math.nan
    """Hz; a crossover to begin with, at which the loop is well damped; none where no such one was found."""
    changed_inside: tuple[str, ...] = ()
    """Regulators further in whose gains are others than when those of this loop were taken."""


def loop_statuses(
    drive: Drive,
    prepared: Prepared | None = None,
    stopping: Callable[[], bool] = lambda: False,
    *,
    at: JudgedAt = JudgedAt.REST,
) -> list[LoopStatus]:
    """All loops of a drive, inside out: at rest; in the steady rotation in which a run of it ends, if it does not
    settle there; or measured where a run ends, with its converters at their level of detail.

    Raises
    ------
    DriveHasFindings
        as `prepare`.
    DriveProblem
        where it does not turn steadily.
    Stopped
        once ``stopping`` holds.
    """
    prepared = prepared or prepare(drive if at is JudgedAt.MEASURED else averaged(drive))
    points = working_points_at(prepared, at, stopping)
    statuses = []
    for loop in find_loops(drive, prepared.deck):
        if stopping():
            raise Stopped
        try:
            if at is JudgedAt.REST and (estimate := estimate_in(prepared.deck, loop.source)):
                raise DriveProblem(f"{estimate} finds nothing at rest. Judge this loop in steady rotation.")
            study = study_of(prepared, loop, points)
            statuses.append(LoopStatus(loop, study, study.analyse(study.gains_now)))
        except DriveProblem as problem:
            statuses.append(LoopStatus(loop, problem=str(problem)))
    statuses = [replace(s, changed_inside=changed_inside(drive, prepared.deck, s.loop.regulator)) for s in statuses]
    return [replace(s, begin=first_crossover(s.study, statuses)) if s.study else s for s in statuses]


def working_points_at(prepared: Prepared, at: JudgedAt, stopping: Callable[[], bool] = lambda: False) -> WorkingPoints:
    """Raises `DriveProblem` where there are none."""
    points = WorkingPoints(prepared)
    if at is JudgedAt.MEASURED:
        return MeasuredPoints(prepared, stopping)
    if at is JudgedAt.STEADY:
        refuse_strange_c(prepared.drive, "allow it")
        return points if points.end.calm else TurningPoints(prepared)
    return points


def default_crossover(study: LoopStudy, others: Sequence[LoopStatus]) -> float:
    """A crossover (Hz) to try: well below the sampling, and a sixth of the slowest loop further in."""
    inner = [s.judged.margins.crossover for s in others if s.judged and s.loop.depth < study.loop.depth]
    known = [study.drive.range[1] / 4.0] if study.drive.range is not None else []
    return min([0.04 / study.dt, *known, *(c / 6.0 for c in inner if math.isfinite(c))])


MOST_HALVINGS = 9
"""A first crossover is halved at most so often until the loop is damped well."""


def first_crossover(study: LoopStudy, others: Sequence[LoopStatus]) -> float:
    """A crossover (Hz) to begin with: from the sampling and the loops further in, slower until well damped;
    else NaN."""
    if not study.loop.closed or not study.gains_now.get("K_p"):
        return math.nan
    crossover = default_crossover(study, others)
    for _ in range(MOST_HALVINGS):
        try:
            gains = study.propose("crossover", crossover=crossover)
            damped = study.analyse({**study.gains_now, **gains}).margins.damped
        except (DriveProblem, ArithmeticError, ValueError):
            break  # a first proposal is an extra; without one the loop is judged all the same
        if damped:
            return crossover
        crossover /= 2.0
    return math.nan


def relevant_poles(phi: np.ndarray, gamma: np.ndarray, row: np.ndarray) -> np.ndarray:
    """Poles that the input moves and the output shows; a free integrating angle is neither. What no chain of states
    joins with both is taken apart first: many numbers that only remember are one pole that is there often, and would
    make the vectors of all others out of rounding."""
    joined = np.zeros(len(phi), bool)
    joined[on_the_way(phi, gamma[:, :1], row[None])] = True
    alone = np.linalg.eigvals(phi[np.ix_(~joined, ~joined)])
    growing = alone[np.abs(alone) > 1.0 + 1e-6]
    if not joined.any():
        return growing if len(growing) else np.zeros(1)
    return np.concatenate((moved_and_shown(phi[np.ix_(joined, joined)], gamma[joined], row[joined]), growing))


def largest_pole(poles: np.ndarray, rounding: float) -> float:
    """The largest magnitude of poles. Rounding moves a pole at 1 that is there twice, as a position behind a speed that
    nothing holds, by its root to either side, and leaves the mean of both where it is."""
    twice = np.abs(poles - 1.0) < 30.0 * rounding
    if np.count_nonzero(twice) > 1:
        poles = np.append(poles[~twice], np.mean(poles[twice]))
    return float(np.max(np.abs(poles)))


def moved_and_shown(phi: np.ndarray, gamma: np.ndarray, row: np.ndarray) -> np.ndarray:
    """Of states that are joined with input and output, the poles that are so by more than rounding."""
    values, right = np.linalg.eig(phi)
    try:
        left = np.linalg.inv(right)
    except np.linalg.LinAlgError:
        return values
    weight = np.abs(row @ right) * np.abs(left @ gamma[:, 0])
    kept = values[(weight > 1e-12 * max(1e-300, weight.max())) | (np.abs(values) > 1.0 + 1e-6)]
    return kept if len(kept) else np.zeros(1)


def propose(
    drive: Drive,
    regulator: str,
    rule: str = "crossover",
    *,
    at: JudgedAt = JudgedAt.REST,
    **wishes: float,
) -> dict[str, float]:
    """Proposed gains of a regulator of a drive."""
    prepared = prepare(drive if at is JudgedAt.MEASURED else averaged(drive))
    loop = next((each for each in find_loops(drive, prepared.deck) if regulator in (each.key, each.regulator)), None)
    if loop is None:
        raise DriveProblem(
            f"{regulator} closes no loop. Wire its output to the plant and a measured signal to its actual value."
        )
    return study_of(prepared, loop, working_points_at(prepared, at)).propose(rule, **wishes)


@dataclass(frozen=True)
class Proposal:
    """One command for gains of all loops, the keys of loops it serves, and why others are left out."""

    command: Command
    served: tuple[str, ...]
    left: Mapping[str, str]
    gains: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    """By the keys of loops, in the order in which they were found."""


def propose_all(
    drive: Drive, *, at: JudgedAt = JudgedAt.REST, stopping: Callable[[], bool] = lambda: False
) -> Proposal:
    """First gains of every closed loop, from the drive's values and the sampling, inside out.

    A loop is judged with the gains proposed for those further in. Loops that are open, whose gain is zero or
    that have no linear model are left as they are. Raises as `loop_statuses`.
    """
    scratch = drive.copy()
    command, served, left = Command("Propose gains of all loops", ()), [], {}
    taken: dict[str, Mapping[str, float]] = {}
    depths = sorted({loop.depth for loop in find_loops(drive)})
    for depth in depths:
        statuses = loop_statuses(scratch, stopping=stopping, at=at)
        for each in statuses:
            if each.loop.depth != depth:
                continue
            name = drive.cards[each.loop.regulator].name
            if each.study is None:
                left[name] = each.problem
            elif not each.loop.closed:
                left[name] = f"{name} is open."
            elif not each.loop.regulation.gains:
                left[name] = f"{name} has no gains of its own."
            elif not each.study.gains_now["K_p"]:
                left[name] = f"{name} has a gain of zero."
            elif math.isnan(each.begin):
                left[name] = f"No crossover gives {name} a well-damped loop by this rule."
            else:
                gains = each.study.propose("crossover", crossover=each.begin)
                step = take_gains(scratch, each.loop, gains)
                step.apply(scratch)
                command = command.then(step)
                served.append(each.loop.key)
                taken[each.loop.key] = gains
    return Proposal(command, tuple(served), left, taken)

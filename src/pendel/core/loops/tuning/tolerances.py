"""How a loop stands while values of the drive spread: the worst margins over corners and random samples, and
what costs most."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, PendelError, Stopped
from pendel.core.loops.models.margins import Margins
from pendel.core.loops.regulators.find import Loop, find_loops
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.tuning.forked import on_all_processes
from pendel.core.loops.tuning.tuning import LoopAnalysis, LoopStudy, study_of, working_points_at
from pendel.core.quantities.tokens import without_remark
from pendel.core.runs.preparing.simulate import averaged, prepare

MOST_CORNERS = 6
"""Values whose corners are all judged; of more, corners are drawn."""
SMALL, COARSE = 0.01, 0.1
"""Of a value: the steps by which its cost is measured."""
NEWTON = 3
"""Rounds by which a crossover between two points of a plot is found to the last digits."""


@dataclass(frozen=True)
class Spread:
    """A quantity, or a value as ``card.value``, that may be off by ± ``share`` of itself."""

    name: str
    share: float


@dataclass(frozen=True)
class Sample:
    """Factors by name, and what the loop is with them; ``problem`` where it has no model then."""

    factors: Mapping[str, float]
    analysis: LoopAnalysis | None
    problem: str = ""

    @property
    def margins(self) -> Margins | None:
        return self.analysis.margins if self.analysis is not None else None


@dataclass(frozen=True)
class Tolerated:
    """All samples, the first with every value as it is; ``costs`` are degrees of phase margin that each value
    loses when it is off by its whole share in the worse direction."""

    samples: tuple[Sample, ...]
    costs: Mapping[str, float]

    @property
    def holds(self) -> bool:
        """Whether the loop is stable throughout."""
        return all(s.margins is not None and s.margins.stable for s in self.samples)

    def worst(self, of: Callable[[Margins], float]) -> Sample:
        """The sample with the least of a figure; an unstable one, or one without a model, comes first."""
        return min(
            self.samples,
            key=lambda s: -math.inf if s.margins is None or not s.margins.stable else finite(of(s.margins)),
        )

    def band(self, frequency: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The least and the largest |L| over frequencies (Hz)."""
        sizes = [
            np.exp(
                np.interp(
                    np.log(frequency),
                    np.log(s.analysis.frequency),
                    np.log(np.maximum(np.abs(s.analysis.response), 1e-300)),
                )
            )
            for s in self.samples
            if s.analysis is not None
        ]
        return np.min(sizes, axis=0), np.max(sizes, axis=0)


def finite(value: float) -> float:
    return value if math.isfinite(value) else math.inf


def tolerate(
    drive: Drive,
    regulator: str,
    spreads: Sequence[Spread],
    samples: int = 100,
    *,
    at: JudgedAt = JudgedAt.REST,
    seed: int = 1,
    stopping: Callable[[], bool] = lambda: False,
    report: Callable[[float], None] = lambda share: None,
) -> Tolerated:
    """Judge a loop at all corners of the spreads and at random samples between them (uniform, of one seed alike);
    ``at`` as for `pendel.core.loops.tuning.tuning.loop_statuses`.

    Raises
    ------
    DriveProblem
        for a loop or a value that there is not, or a share that cannot be.
    Stopped
    """
    loops = {each.key: each for each in find_loops(drive)}
    key = next((k for k, each in loops.items() if regulator in (k, each.regulator)), None)
    if key is None:
        raise DriveProblem(f"“{regulator}” closes no loop. Choose one of {', '.join(loops) or 'none'}.")
    if not spreads:
        raise DriveProblem("Name at least one quantity or value that spreads, such as R_a by 20 %.")
    for spread in spreads:
        text_of(drive, spread.name)
        if not 0 < spread.share < 1:
            raise DriveProblem(
                f"{spread.name} cannot spread by {100 * spread.share:g} %. Choose a share above 0 and below 100 %."
            )
    names = [s.name for s in spreads]
    shares = np.array([s.share for s in spreads])
    rng = np.random.default_rng(seed)
    if len(names) <= MOST_CORNERS:
        corners = np.array(list(itertools.product((-1.0, 1.0), repeat=len(names))))
    else:
        corners = rng.choice((-1.0, 1.0), size=(2**MOST_CORNERS, len(names)))
    ways = np.vstack([np.zeros(len(names)), corners, rng.uniform(-1, 1, (max(0, samples), len(names)))])

    def judged_at_way(way: np.ndarray) -> Sample:
        return judged(drive, loops[key], dict(zip(names, (1 + way * shares).tolist())), at, stopping)

    def work(task: np.ndarray | Spread) -> Sample | float:
        if isinstance(task, Spread):
            return cost_of(drive, loops[key], task, plain, at, stopping)
        return judged_at_way(task)

    if stopping():
        raise Stopped
    plain = judged_at_way(ways[0])  # which the others begin from
    done = on_all_processes(work, [*spreads, *ways[1:]], stopping=stopping, report=report)
    costs = {s.name: cost for s, cost in zip(spreads, done) if isinstance(cost, float)}
    return Tolerated((plain, *(each for each in done if isinstance(each, Sample))), costs)


def cost_of(
    drive: Drive, loop: Loop, spread: Spread, plain: Sample, at: JudgedAt, stopping: Callable[[], bool]
) -> float:
    """Degrees of phase margin that a value loses over its share, by its slope where it is."""
    if plain.margins is None or not math.isfinite(plain.margins.phase):
        return math.nan
    try:
        slope = (measured_slope if at is JudgedAt.MEASURED else exact_slope)(
            drive, loop, spread.name, plain.margins, at, stopping
        )
    except Stopped:
        raise
    except PendelError:  # it has no model with a little more of the value, or a little less
        return math.nan
    return abs(slope) * spread.share


def measured_slope(
    drive: Drive, loop: Loop, name: str, plain: Margins, at: JudgedAt, stopping: Callable[[], bool]
) -> float:
    """Degrees by the value's whole size: what is measured is too coarse for small changes, and takes a tenth."""
    ahead, back = (judged(drive, loop, {name: 1 + sign * COARSE}, at, stopping).margins for sign in (1, -1))
    return math.nan if ahead is None or back is None else (ahead.phase - back.phase) / (2 * COARSE)


def exact_slope(
    drive: Drive, loop: Loop, name: str, plain: Margins, at: JudgedAt, stopping: Callable[[], bool]
) -> float:
    """Degrees by the value's whole size, from the logarithm of L where |L| = 1. With l the change of ln L by the
    value and m that by ln f, the crossover moves by -Re l / Re m, and the margin by Im l - Im m Re l / Re m. Both are
    central differences of two steps whose errors cancel out (Richardson); L is evaluated at those very
    frequencies, so that nothing hangs on the points of a plot."""
    here = study_at(drive, loop, {}, at, stopping)
    f = plain.crossover

    def along(log_f: float) -> complex:
        return log_of_loop(here, math.exp(log_f))

    for _ in range(NEWTON):
        f *= math.exp(-along(math.log(f)).real / richardson(along, math.log(f)).real)
    by_frequency = richardson(along, math.log(f))
    by_value = richardson(lambda change: log_of_loop(study_at(drive, loop, {name: 1 + change}, at, stopping), f), 0.0)
    return math.degrees(by_value.imag - by_frequency.imag * by_value.real / by_frequency.real)


def log_of_loop(study: LoopStudy, frequency: float) -> complex:
    """ln |L| + j arg L at a frequency (Hz)."""
    at = np.array([frequency])
    return complex(np.log(study.open_loop_at(study.gains_now, at)[0]))


def richardson(of: Callable[[float], complex], at: float) -> complex:
    """The derivative, from central differences over `SMALL` and half of it; of a logarithm, whose turns do not
    count."""

    def difference(step: float) -> complex:
        ahead, back = of(at + step), of(at - step)
        turns = round((ahead.imag - back.imag) / (2 * math.pi))
        return (ahead - back - 2j * math.pi * turns) / (2 * step)

    return (4 * difference(SMALL / 2) - difference(SMALL)) / 3


def judged(
    drive: Drive,
    loop: Loop,
    factors: Mapping[str, float],
    at: JudgedAt = JudgedAt.REST,
    stopping: Callable[[], bool] = lambda: False,
) -> Sample:
    """A loop of a drive some of whose values are multiplied; its wiring stays as it is."""
    try:
        study = study_at(drive, loop, factors, at, stopping)
        return Sample(dict(factors), study.analyse(study.gains_now))
    except Stopped:
        raise
    except PendelError as problem:
        return Sample(dict(factors), None, str(problem))


def study_at(
    drive: Drive, loop: Loop, factors: Mapping[str, float], at: JudgedAt, stopping: Callable[[], bool]
) -> LoopStudy:
    """Raises `PendelError` where the loop has no model with these values."""
    twin = multiplied(drive, factors)
    prepared = prepare(twin if at is JudgedAt.MEASURED else averaged(twin))
    block = prepared.deck.block(loop.regulator)
    same = replace(loop, period=prepared.deck.tick * block.every)
    return study_of(prepared, same, working_points_at(prepared, at, stopping))


def text_of(drive: Drive, name: str) -> str:
    """What was entered for a quantity or a value. Raises `DriveProblem` where nothing was."""
    if name in drive.quantities:
        return drive.quantities[name].text
    card, _, value = name.partition(".")
    text = drive.cards[card].values.get(value, "") if card in drive.cards else ""
    if not text.strip():
        raise DriveProblem(
            f"“{name}” is no quantity and no value that was entered. Name one as in K_p or in card.value."
        )
    return text


def multiplied(drive: Drive, factors: Mapping[str, float]) -> Drive:
    """A copy whose texts give other values; whatever follows from them follows."""
    twin = drive.copy()
    for name, factor in factors.items():
        text = f"({without_remark(text_of(drive, name)).strip()})*{factor!r}"
        if name in twin.quantities:
            twin.quantities[name] = replace(twin.quantities[name], text=text)
        else:
            card, _, value = name.partition(".")
            twin.cards[card] = twin.cards[card].with_value(value, text)
    return twin


__all__ = ["Sample", "Spread", "Tolerated", "tolerate"]

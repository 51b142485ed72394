"""Values for a goal: the smallest, the largest or a certain figure within limits, by what varies in a plan.

One unknown and a certain figure are bracketed (Brent's method by SciPy). All else is looked for by differential
evolution (Storn and Price, J. Global Optimization 11 (1997) 341, by SciPy), then around the best by a compass search
(Kolda, Lewis and Torczon, SIAM Review 45 (2003) 385). Neither asks for slopes, which steps of encoders and of sampling
turn round. What keeps its limits comes before what does not (Deb, Computer Methods in Applied Mechanics and Engineering
186 (2000) 311). What is found is the best that was tried, and no proof."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.catalogue.card_names import names_of
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import RANDOM, Plan
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.quantities.expressions import evaluate, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure
from pendel.core.series.gathered import Gathered
from pendel.core.series.points import Axis, Spread, in_unit, unit_for
from pendel.core.series.rows import DONE, Row

SMALLEST, LARGEST, EQUAL = "smallest", "largest", "equal to"
SENSES = (SMALLEST, LARGEST, EQUAL)
LEAST_BUDGET, MOST_BUDGET = 8, 100_000
PER_VALUE, LEAST_GROUP = 5, 8
"""Members of a generation for each thing that varies, and at least."""
SHARE_OF_EVOLUTION = 0.6
"""Of all trials; the rest goes round the best."""
FIRST_STEP, LAST_STEP = 0.08, 2e-4
"""Of a range, in the search round the best."""
NOTHING = 1e30
"""What a trial counts that could not run."""
BROKEN = 1e15
"""What one counts at least that breaks a limit, so that it comes behind all that keep them."""
BINDS = 0.01
"""Share of a limit within which it binds; of a range, within which its end does."""
CLOSE = 1e-4
"""Share of a wished figure within which it is met."""
LOOKS = 8
"""Stretches in which a bracket is looked for."""

RunTrials = Callable[[Sequence[int], Sequence[Sequence[str]]], Sequence[Row]]
"""Runs trials, by their numbers and texts. Raises `Stopped`."""


@dataclass(frozen=True)
class Goal:
    """``figure`` is one of the plan's, ``target`` what it is to be equal to, ``limits`` comparisons as a filter takes
    them, and ``budget`` how many trials there may be."""

    sense: str
    figure: str
    limits: str = ""
    target: str = ""
    budget: int = 200


@dataclass(frozen=True)
class Found:
    """The best trial, and what is said of it."""

    best: Row | None
    trials: int
    keeps_limits: bool
    words: str


class Search:
    """A search for a goal by what varies in a plan. Raises `DriveProblem` and `ExpressionProblem` where there is
    nothing to search."""

    def __init__(self, drive: Drive, plan: Plan, goal: Goal):
        self.goal = goal
        self.plan = replace(plan, combined=RANDOM, count=str(goal.budget), traces=())
        self.gathered = Gathered(drive, self.plan)
        names = names_of(drive)
        self.spreads = [spread_of(axis, names) for axis in self.gathered.points.axes]
        if goal.sense not in SENSES:
            raise DriveProblem(f"“{goal.sense}” is no goal. Choose one of {', '.join(SENSES)}.")
        if not LEAST_BUDGET <= goal.budget <= MOST_BUDGET:
            raise DriveProblem(f"{goal.budget} trials are none or too many. Give {LEAST_BUDGET} to {MOST_BUDGET}.")
        self.column = self.gathered.column(goal.figure)
        if self.column < self.gathered.axes:
            raise DriveProblem(f"{goal.figure} varies itself. Choose a figure that is report of each run.")
        if goal.sense == EQUAL and not goal.target.strip():
            raise DriveProblem(f"What is {goal.figure} to be equal to? Give a figure.")
        self.rows: list[Row] = []
        self.best: Row | None = None
        self.best_energy = math.inf
        self._report: Callable[[Row], None] = lambda row: None

    # what a trial counts ---------------------------------------------------------------

    @property
    def target_value(self) -> float:
        """In SI, which is known once a row tells the figure's unit."""
        return self.gathered.limit(self.column, self.goal.target)

    def beyond(self, row: Row) -> dict[str, float]:
        """By how much a row breaks each limit; see `Limit.beyond`."""
        cells = [*(self.gathered.value(k, text) for k, text in enumerate(row.texts)), *row.figures]
        return {limit.text: limit.beyond(cells[limit.column]) for limit in self.gathered.limits(self.goal.limits)}

    def energy(self, row: Row) -> float:
        """What is made small: the figure; behind all that keep the limits what breaks them; last what cannot run."""
        if row.outcome != DONE or math.isnan(row.figures[self.column - self.gathered.axes]):
            return NOTHING
        broken = sum(max(0.0, beyond) for beyond in self.beyond(row).values())
        if broken > 0:
            return BROKEN * (1.0 + min(broken, 1e12))
        size = row.figures[self.column - self.gathered.axes]
        if self.goal.sense == EQUAL:
            return abs(size - self.target_value)
        return size if self.goal.sense == SMALLEST else -size

    # trials ----------------------------------------------------------------------------

    def texts_at(self, place: Sequence[float]) -> tuple[str, ...]:
        return tuple(spread.at(float(share)) for spread, share in zip(self.spreads, place))

    def try_all(self, places: Sequence[Sequence[float]], run: RunTrials) -> list[float]:
        """Energies of trials at places, each between 0 and 1. Raises `Stopped` where no more may be tried."""
        room = self.goal.budget - len(self.rows)
        if room <= 0:
            raise Stopped
        texts = [self.texts_at(place) for place in places[:room]]
        numbers = range(len(self.rows), len(self.rows) + len(texts))
        rows = sorted(run(list(numbers), texts), key=lambda row: row.number)
        for row in rows:
            self.rows.append(row)
            self.gathered.add([row])
            energy = self.energy(row)
            if energy < self.best_energy:
                self.best, self.best_energy = row, energy
            self._report(row)
        if len(rows) < len(places):
            raise Stopped
        return [self.energy(row) for row in rows]

    def find(self, run: RunTrials, report: Callable[[Row], None] = lambda row: None) -> Found:
        """Search until the trials are used up, nothing better is near, or it is stopped."""
        self._report = report
        try:
            if self.goal.sense == EQUAL and len(self.spreads) == 1 and not self.goal.limits.strip():
                self._bracket(run)
            else:
                self._evolve(run)
                self._around(run)
        except Stopped:
            pass
        return self._found()

    def _figure_at(self, share: float, run: RunTrials) -> float:
        """The figure less what is wished."""
        self.try_all([(share,)], run)
        row = self.rows[-1]
        value = row.figures[self.column - self.gathered.axes]
        if row.outcome != DONE or math.isnan(value):
            return math.nan
        return value - self.target_value

    def _bracket(self, run: RunTrials) -> None:
        from scipy.optimize import brentq  # slow to load

        even = np.linspace(0.0, 1.0, LOOKS + 1)
        gaps = [self._figure_at(float(share), run) for share in even]
        for a, b, low, high in zip(even, even[1:], gaps, gaps[1:]):
            if low * high < 0:
                brentq(lambda share: self._figure_at(share, run), a, b, xtol=1e-9, rtol=1e-9, maxiter=60)
                return

    def _evolve(self, run: RunTrials) -> None:
        from scipy.optimize import differential_evolution  # slow to load

        n = len(self.spreads)
        group = min(max(LEAST_GROUP, PER_VALUE * n), self.goal.budget)
        rounds = max(1, int(SHARE_OF_EVOLUTION * self.goal.budget / group) - 1)
        differential_evolution(
            lambda place: NOTHING,  # never called: a generation goes as a whole
            [(0.0, 1.0)] * n,
            init=starting_places(n, group),
            maxiter=rounds,
            popsize=1,
            tol=0.0,
            polish=False,
            updating="deferred",
            rng=1,
            workers=lambda _, places: self.try_all([tuple(place) for place in places], run),
        )

    def _around(self, run: RunTrials) -> None:
        """Look in all directions from the best, and nearer where none is better."""
        if self.best is None:
            return
        n, step = len(self.spreads), FIRST_STEP
        place = np.array([self._share(k, text) for k, text in enumerate(self.best.texts)])
        known = self.best_energy
        while step > LAST_STEP:
            moves = np.vstack([np.eye(n), -np.eye(n)]) * step
            places = np.unique(np.clip(place + moves, 0.0, 1.0), axis=0)
            energies = self.try_all([tuple(each) for each in places], run)
            k = int(np.argmin(energies))
            if energies[k] < known:
                place, known = places[k], energies[k]
            else:
                step /= 2

    def _share(self, axis: int, text: str) -> float:
        """Where a text lies in its range, 0 to 1."""
        spread = self.spreads[axis]
        number = float(text.split()[0])
        if spread.ratio:
            return math.log(number / spread.low) / math.log(spread.high / spread.low)
        return (number - spread.low) / (spread.high - spread.low)

    def _found(self) -> Found:
        best, trials = self.best, len(self.rows)
        if best is None or self.best_energy >= NOTHING:
            return Found(None, trials, False, f"None of {trials} trials could run. Choose other ranges.")
        head = self.gathered.heads[self.column]
        value = figure(best.figures[self.column - self.gathered.axes], head.unit, 4)
        keeps = self.best_energy < BROKEN
        words = [f"{head.short} {value} at trial {best.number} of {trials}."]
        if not keeps:
            broken = [text for text, beyond in self.beyond(best).items() if beyond > 0]
            words.append(f"No trial keeps all limits; this one breaks least: {', '.join(broken)}.")
        if self.goal.sense == EQUAL and keeps and self.best_energy > CLOSE * max(abs(self.target_value), 1e-12):
            words.append(f"{self.goal.target} was met nowhere that was tried; this is nearest.")
        binding = [text for text, beyond in self.beyond(best).items() if -BINDS < beyond <= 0]
        ends = [
            head.name
            for k, (head, text) in enumerate(zip(self.gathered.heads, best.texts))
            if not BINDS < self._share(k, text) < 1 - BINDS
        ]
        if binding:
            words.append(f"{', '.join(binding)} binds.")
        if ends:
            words.append(f"{', '.join(ends)} stands at an end of its range.")
        words.append("The best that was tried; it is not proven that there is none better.")
        return Found(best, trials, keeps, " ".join(words))


def starting_places(n: int, count: int) -> np.ndarray:
    """Sobol points and the middle; shape (count, n)."""
    from scipy.stats import qmc  # slow to load

    points = qmc.Sobol(n, rng=1).random_base2(max(1, math.ceil(math.log2(count))))[:count]
    points[0] = 0.5
    return np.asarray(points)


def spread_of(axis: Axis, names: Names) -> Spread:
    """From where to where something may be searched. Raises `DriveProblem` for a word."""
    of = axis.target
    if axis.spread is not None:
        return replace(axis.spread, deviation=0.0)
    if of.options:
        raise DriveProblem(f"{of.title} is a word, which cannot be searched. Leave it out, or search for each.")
    values = [evaluate(read(text), names, text) for text in axis.texts]
    unit = unit_for(of, axis.texts[0], values[0])
    numbers = [in_unit(of, text, value, unit) for text, value in zip(axis.texts, values)]
    if not max(numbers) > min(numbers):
        raise DriveProblem(f"{of.name} takes one value only. Give a range to search, such as from and to.")
    return Spread(min(numbers), max(numbers), unit)


__all__ = ["EQUAL", "Found", "Goal", "LARGEST", "SENSES", "SMALLEST", "Search"]

"""Gains that are best by a goal among those that keep limits: searched, where rules only propose.

The goals, for a PI regulator: least T_i/K_p, which is the integral of the error after a unit step of disturbance at the
plant's input (Åström, Hägglund: Advanced PID Control, section 4.4); shortest settling; least peak of the
actuator."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from enum import Enum
from functools import partial

import numpy as np

from pendel.core.check.signal_units import signal_unit
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive, End
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.regulators.find import find_loops
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.tuning.gains import take_gains
from pendel.core.loops.tuning.rules import RULES
from pendel.core.loops.tuning.tuning import (
    LoopAnalysis,
    LoopStatus,
    LoopStudy,
    default_crossover,
    loop_statuses,
)

MOST_TRIES = 90
"""Gains that are judged from each start."""
ALONE = 50
"""Gains that are judged to see whether a limit can be kept at all."""
REFUSED = 1e3
"""Above every value of a goal: gains that break a limit are ranked behind all that keep them, by how much
they break."""
AT_LIMIT = 0.02
"""Share of a limit within which it is the one that stops."""
AS_WRITTEN = 2e-3
"""Share of a limit that four digits of a gain may cost."""
APART = 1e-3
"""Of the logarithm of gains: nearer than this nothing is searched."""


class Goal(Enum):
    """What is made best."""

    DISTURBANCE = "disturbance"
    SETTLING = "settling"
    EFFORT = "effort"

    @property
    def label(self) -> str:
        return {
            Goal.DISTURBANCE: "reject disturbances",
            Goal.SETTLING: "settle soon",
            Goal.EFFORT: "spare the actuator",
        }[self]


@dataclass(frozen=True)
class Limits:
    """``phase_margin`` at least, degrees; ``ms`` at most; ``overshoot`` at most, percent; ``effort`` at most:
    the peak of the regulator's output after a setpoint step of one, SI; ``crossover`` at least and
    ``fastest`` at most, Hz."""

    phase_margin: float = 45.0
    ms: float = 1.7
    overshoot: float = 20.0
    effort: float = math.inf
    crossover: float = 0.0
    fastest: float = math.inf

    def __post_init__(self) -> None:
        for each in fields(self):
            value = getattr(self, each.name)
            if not value >= 0 or (each.name == "ms" and value <= 1):
                floor = "above 1, as Ms is never less" if each.name == "ms" else "of 0 or more"
                raise DriveProblem(f"{WORDS[each.name]} cannot be {value:g}. Give one {floor}.")
        if self.crossover > self.fastest:
            raise DriveProblem(
                f"No crossover is at least {self.crossover:g} Hz and at most {self.fastest:g} Hz. Change one "
                f"of the two."
            )


WORDS = {
    "phase_margin": "The least phase margin",
    "ms": "The largest Ms",
    "overshoot": "The largest overshoot",
    "effort": "The largest peak of the actuator",
    "crossover": "The least crossover",
    "fastest": "The largest crossover",
    "stable": "A stable loop",
}
"""Limits as the subject of a sentence."""


@dataclass(frozen=True)
class Tried:
    """Gains with what they give: ``breaks`` is by how much each limit is broken, as a share of it; negative
    is room."""

    gains: Mapping[str, float]
    analysis: LoopAnalysis
    effort: float
    breaks: Mapping[str, float]
    value: float

    @property
    def keeps(self) -> bool:
        return all(b <= 1e-9 for b in self.breaks.values())

    @property
    def keeps_nearly(self) -> bool:
        """Whether no limit is broken by more than gains as written in a drive are exact to."""
        return all(b <= AS_WRITTEN for b in self.breaks.values())

    @property
    def rank(self) -> float:
        """The less, the better."""
        broken = sum(max(0.0, b) for b in self.breaks.values())
        return self.value if self.keeps else REFUSED * (1.0 + min(broken, 1e3))


@dataclass(frozen=True)
class Searched:
    """The best gains, and the limits that stop at better ones; empty where the goal has its best inside
    them."""

    best: Tried
    stopping: tuple[str, ...]
    tries: int


@dataclass
class Search:
    """The gains of one loop, searched within limits. It works on ``study``, whose gains it changes."""

    study: LoopStudy
    limits: Limits
    goal: Goal
    tried: list[Tried] = field(default_factory=list)

    def judge(self, gains: Mapping[str, float]) -> Tried:
        """What gains give."""
        analysis = self.study.analyse(gains)
        m, limits = analysis.margins, self.limits
        effort = self.peak(gains) if math.isfinite(limits.effort) or self.goal is Goal.EFFORT else 0.0
        phase = m.phase if math.isfinite(m.phase) else 0.0 if not m.stable else 90.0
        crossover = m.crossover if math.isfinite(m.crossover) else 0.0
        overshoot = analysis.measures.overshoot
        breaks = {
            "stable": 0.0 if m.stable else 1.0,
            "phase_margin": (limits.phase_margin - phase) / max(limits.phase_margin, 1.0),
            "ms": (m.ms - limits.ms) / limits.ms,
            "overshoot": ((overshoot if math.isfinite(overshoot) else 1e3) - limits.overshoot)
            / max(limits.overshoot, 1.0),
            "effort": share_over(effort, limits.effort),
            "crossover": (limits.crossover - crossover) / limits.crossover if limits.crossover else -1.0,
            "fastest": share_over(crossover, limits.fastest),
        }
        return Tried(dict(gains), analysis, effort, breaks, self.value(gains, analysis, effort))

    def value(self, gains: Mapping[str, float], analysis: LoopAnalysis, effort: float) -> float:
        """Of the goal, on a logarithmic scale; the less, the better."""
        if self.goal is Goal.DISTURBANCE:
            return math.log(gains.get("T_i", 1.0) / abs(gains["K_p"]))
        if self.goal is Goal.EFFORT:
            return math.log(max(effort, 1e-300))
        settling = analysis.measures.settling
        if math.isfinite(settling):
            return math.log(max(settling, 1e-12))
        # Not yet settled where the step's record ends: nearer is better.
        rest = abs(analysis.measures.remaining)
        return math.log(max(float(analysis.step_t[-1]), 1e-12)) + 1.0 + (min(rest, 1e3) if math.isfinite(rest) else 1e3)

    def peak(self, gains: Mapping[str, float]) -> float:
        """Of the regulator's output after a setpoint step of one, SI."""
        study = self.study
        study.drive.linear[study.loop.regulator] = study.with_gains(gains)
        setpoint = f"{study.loop.regulator}.{study.loop.regulation.setpoint}"
        phi, gamma, seen = study.drive.period_map(setpoint=setpoint, watch=(study.output,))
        rows = np.array([tick[study.output] for tick in seen])
        state, peak = np.zeros((phi.shape[0], 1)), 0.0
        for _ in range(400):
            peak = max(peak, float(np.max(np.abs(rows[:, :-1] @ state + rows[:, -1:]))))
            state = phi @ state + gamma
            if not np.all(np.abs(state) < 1e12):
                return math.inf
        return peak

    def run(
        self,
        *,
        stopping: Callable[[], bool] = lambda: False,
        come: Callable[[Tried], None] = lambda best: None,
    ) -> Searched:
        """Search from what the rules propose; the best so far comes whenever it is better.

        Raises
        ------
        DriveProblem
            where no gains keep the limits, naming those that contradict each other.
        Stopped
        """
        if not self.study.loop.regulation.gains:
            self.study.propose("crossover")  # which says why there is nothing to search
        if self.goal is Goal.EFFORT and not self.limits.crossover:
            raise DriveProblem("The least effort is none at all. Give a least crossover as well.")
        best: Tried | None = None

        def better(tried: Tried) -> float:
            nonlocal best
            if tried.keeps and (best is None or tried.rank < best.rank):
                best = tried
                come(tried)
            return tried.rank

        for start in self.starts():
            self.descend(start, better, MOST_TRIES, stopping)
        if best is None:
            raise DriveProblem(self.why_none(stopping))
        return Searched(best, self.stops(best), len(self.tried))

    def descend(
        self,
        start: Mapping[str, float],
        rank: Callable[[Tried], float],
        maximum: int,
        stopping: Callable[[], bool] = lambda: False,
    ) -> None:
        """Go from gains to others of lower rank, by the simplex of Nelder and Mead over their logarithms."""
        import scipy.optimize  # slow to load, and seldom needed

        names = [n for n in ("K_p", "T_i") if n in self.study.gains_now]
        sign = math.copysign(1.0, start["K_p"])

        def rank_at(logs: np.ndarray) -> float:
            if stopping():
                raise Stopped
            gains = {**self.study.gains_now, **dict(zip(names, np.exp(np.clip(logs, -60, 60)).tolist()))}
            gains["K_p"] *= sign
            try:
                tried = self.judge(gains)
            except (DriveProblem, ArithmeticError, ValueError, np.linalg.LinAlgError):
                return 2.0 * REFUSED * 1e3
            self.tried.append(tried)
            return rank(tried)

        x = np.log([abs(start[n]) for n in names])
        corners = np.vstack([x, *(x + 0.4 * row for row in np.eye(len(names)))])
        options = {"maxfev": maximum, "xatol": APART, "fatol": APART, "initial_simplex": corners}
        scipy.optimize.minimize(rank_at, x, method="Nelder-Mead", options=options)

    def starts(self) -> list[dict[str, float]]:
        """Gains of the rules, and a slow loop, from which the search begins."""
        study, starts = self.study, list[dict[str, float]]()
        slow = default_crossover(study, ())
        wishes: list[tuple[str, float | None]] = [("crossover", slow), ("crossover", slow / 8.0)]
        if not study.loop.regulation.scaled:
            wishes += [(rule.id, None) for rule in RULES if not rule.takes_crossover]
        for rule, crossover in wishes:
            try:
                gains = study.propose(rule, crossover=crossover)
            except (DriveProblem, ArithmeticError, ValueError):
                continue
            if all(math.isfinite(g) and g for g in gains.values()):
                starts.append({**study.gains_now, **gains})
        if not starts:
            raise DriveProblem(
                "No rule gives gains to begin with: this loop's plant is beyond them. Give it gains first."
            )
        return starts

    def stops(self, best: Tried) -> tuple[str, ...]:
        return tuple(name for name, b in best.breaks.items() if name != "stable" and b > -AT_LIMIT)

    def why_none(self, stopping: Callable[[], bool]) -> str:
        """Which limits contradict each other, as far as the gains that were tried tell; each is also tried
        alone."""
        for name in WORDS:
            if not any(t.breaks[name] <= 1e-9 for t in self.tried):
                self.descend(self.starts()[0], partial(broken_alone, name), ALONE, stopping)
        kept_by = {n: [t.breaks[n] <= 1e-9 for t in self.tried] for n in WORDS}
        alone = [n for n, kept in kept_by.items() if not any(kept)]
        if alone:
            one = alone[0]
            return (
                f"{WORDS[one]} is kept by no gains of the {len(self.tried)} that were tried. Loosen it, or "
                "look at the loop first."
            )
        for a in WORDS:
            for b in list(WORDS)[list(WORDS).index(a) + 1 :]:
                if not any(x and y for x, y in zip(kept_by[a], kept_by[b])):
                    second = WORDS[b][:1].lower() + WORDS[b][1:]
                    return (
                        f"{WORDS[a]} and {second} cannot both be kept: of {len(self.tried)} gains that "
                        "were tried, none does. Loosen one of the two."
                    )
        return f"The limits together are kept by none of {len(self.tried)} gains that were tried. Loosen one."


def broken_alone(name: str, tried: Tried) -> float:
    return tried.breaks[name] + tried.breaks["stable"]


def share_over(value: float, limit: float) -> float:
    return (value - limit) / limit if math.isfinite(limit) and limit > 0 else (-1.0 if limit > 0 else value)


@dataclass(frozen=True)
class TunedLoops:
    """One command for the gains of the loops that were tuned, what was found for each by its key, and why
    others are left."""

    command: Command
    searched: Mapping[str, Searched]
    left: Mapping[str, str]

    @property
    def found(self) -> Mapping[str, Searched]:
        """The name of ``searched`` before."""
        return self.searched


Judging = Callable[[Drive], Sequence[LoopStatus]]
"""How the loops of a drive stand. Raises as `loop_statuses`."""
ROUNDS = 3
"""In which loops of one depth, which may be coupled, are tuned one after the other."""


def tune(
    drive: Drive,
    limits: Limits,
    goal: Goal = Goal.DISTURBANCE,
    regulator: str = "",
    *,
    at: JudgedAt = JudgedAt.REST,
    judging: Judging | None = None,
    stopping: Callable[[], bool] = lambda: False,
    come: Callable[[str, Tried], None] = lambda key, best: None,
) -> TunedLoops:
    """Tune one loop by its regulator or key, or all closed loops inside out, each with those further in as tuned.
    Loops of one depth are judged again once all have their gains, as they may be coupled.

    Parameters
    ----------
    at
        as for `loop_statuses`.
    judging
        who judges, where that is another process.
    come
        gets the best gains of a loop whenever they are better.

    Raises
    ------
    DriveHasFindings, DriveProblem, Stopped
    """

    def judge_here(scratch: Drive) -> Sequence[LoopStatus]:
        return loop_statuses(scratch, stopping=stopping, at=at)

    judge = judging or judge_here
    loops = [each for each in find_loops(drive) if regulator in ("", each.key, each.regulator)]
    if not loops:
        raise DriveProblem(
            f"{regulator or 'This drive'} closes no loop. Wire a regulator's output to the plant and a "
            f"measured signal to its actual value."
        )
    units = {signal_unit(drive, End(each.regulator, each.regulation.out)) or "1" for each in loops}
    if math.isfinite(limits.effort) and len(units) > 1:
        raise DriveProblem(
            f"A limit of the actuator's peak is one loop's, but what these regulators give is in "
            f"{' and '.join(sorted(units))}. Tune the loops one by one, or leave that limit out."
        )
    cascade = Cascade(drive.copy(), limits, goal, judge, stopping, come)
    for depth in sorted({each.depth for each in loops}):
        cascade.tune([each.key for each in loops if each.depth == depth])
    return TunedLoops(cascade.command, cascade.searched, cascade.left)


def why_untuned(status: LoopStatus) -> str:
    """Why no gains are searched for a loop that has a model; empty where they can be."""
    if not status.loop.closed:
        return "It is open."
    if not status.loop.regulation.gains:
        return "It has no gains of its own."
    return "" if status.study is not None and status.study.gains_now["K_p"] else "Its gain is zero."


@dataclass
class Cascade:
    """Loops that are tuned one after the other in ``scratch``, whose gains it changes."""

    scratch: Drive
    limits: Limits
    goal: Goal
    judge: Judging
    stopping: Callable[[], bool]
    come: Callable[[str, Tried], None]
    command: Command = field(default_factory=lambda: Command("Tune within limits", ()))
    searched: dict[str, Searched] = field(default_factory=dict)
    left: dict[str, str] = field(default_factory=dict)

    def tune(self, keys: Sequence[str]) -> None:
        """Loops of one depth, each with the others as they are by then, until all keep the limits."""
        for round_ in range(ROUNDS):
            changed = False
            for key in keys:
                if key not in self.left:
                    changed |= self._tune(key, again=round_ > 0)
            if not changed or len(keys) == 1:
                return

    def _tune(self, key: str, *, again: bool) -> bool:
        """Whether the loop got other gains; ``again`` none where those it has keep the limits."""
        status = next((s for s in self.judge(self.scratch) if s.loop.key == key), None)
        if status is None or status.study is None:
            self.left[key] = status.problem if status else "It is no loop any more."
            return False
        if why := why_untuned(status):
            self.left[key] = why
            return False
        search = Search(status.study, self.limits, self.goal)
        if again:
            stands = search.judge(status.study.gains_now)
            if stands.keeps_nearly:
                self.searched[key] = replace(self.searched[key], best=stands)
                return False
        try:
            best = search.run(stopping=self.stopping, come=lambda tried: self.come(key, tried))
        except DriveProblem as problem:
            self.left[key] = str(problem)
            self.searched.pop(key, None)
            return False
        step = take_gains(self.scratch, status.loop, dict(best.best.gains))
        step.apply(self.scratch)
        self.command = self.command.then(step)
        self.searched[key] = best
        return True


__all__ = ["Goal", "Limits", "Search", "Searched", "Tried", "TunedLoops", "tune"]

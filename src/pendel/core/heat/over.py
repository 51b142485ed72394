"""Temperatures over a duty: the slow network by exponentials, driven by the heat of short runs.

Within a stretch the heat of an operating point is a straight line in the temperatures, so a linear network with it is
linear too: its step is a matrix exponential, whatever its length. Where ways are not linear (free convection) it is
made anew about the present state, and the step is shortened until two halves agree with the whole (exponential
Rosenbrock–Euler method: Hochbruck, Ostermann, Acta Numerica 19 (2010) 209, from memory). The cycle that repeats
itself is found by Newton's method on the map of one duty, whose slope is the product of these exponentials."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import scipy.linalg

from pendel.core.check.targets import target
from pendel.core.drive.document import Drive
from pendel.core.drive.user_text import known_name
from pendel.core.errors import DriveProblem
from pendel.core.files.writing import write_atomically
from pendel.core.heat.cut import Cut, cut
from pendel.core.heat.duty import Duty, Stretch
from pendel.core.heat.life import Endurance, Life, life
from pendel.core.heat.losses import PARTS, Line, OperatingPoints, Stopped
from pendel.core.heat.network import HeatNetwork
from pendel.core.quantities.units import figure

TOLERATED = 0.02
"""K, for a step of a network that is not linear."""
MOST_ROUNDS = 40
CLOSED = 1e-3
"""K between begin and end of a cycle that repeats itself."""
TOO_WARM = 1000.0
"""°C; what gets there runs away."""
SMALL, CUT_OFF = 5e-4, 0.01
"""Of the heat of a stretch: what a change adds is left out below it; and what may be missing of one that takes
longer."""
POINTS = 12
"""Of a curve within a stretch, at halves of its length, and as many evenly."""


@dataclass(frozen=True)
class Step:
    """A stretch's way through the duty: times (s) from the duty's begin, states, temperatures (°C), heat at the joints
    (W); shapes (n,), (n, states), (n, outputs), (n, joints). ``slope`` is that of the last state by the first."""

    times: np.ndarray
    states: np.ndarray
    temperatures: np.ndarray
    heat: np.ndarray
    slope: np.ndarray
    line: Line


@dataclass(frozen=True)
class Use:
    """How far a limit is used: the warmest (°C) and when (s); ``share`` of the rise that the limit allows over the
    coldest place."""

    what: str
    key: str
    limit: float
    warmest: float
    at: float
    share: float


@dataclass(frozen=True)
class HeatOver:
    """What a duty does to the temperatures.

    ``times`` (s), shape (n,), twice where one stretch follows another; ``temperatures`` by signal (°C), ``heat`` by
    joint (W), each of shape (n,); ``peaks`` are the temperatures with the ripple of the heat within an output
    period. Where it was asked by how much a load may grow, ``factor`` is that and ``scaled`` what was multiplied."""

    duty: Duty
    times: np.ndarray
    temperatures: dict[str, np.ndarray]
    titles: dict[str, str]
    heat: dict[str, np.ndarray]
    peaks: dict[str, np.ndarray]
    steady: bool
    uses: tuple[Use, ...]
    runs: int
    scaled: str = ""
    factor: float = 1.0

    def save(self, path: Path) -> None:
        """Write the curves as CSV: time (s), temperatures (°C), heat (W). Raises `FileProblem`."""
        heads = ["time (s)", *(f"{key} (°C)" for key in self.temperatures), *(f"{key} heat (W)" for key in self.heat)]
        columns = np.column_stack([self.times, *self.temperatures.values(), *self.heat.values()])
        lines = [",".join(heads), *(",".join(f"{x:.9g}" for x in row) for row in columns)]
        write_atomically(path, "\n".join(lines) + "\n")

    def life(self, key: str, endurance: Endurance) -> Life:
        """How long what has this temperature lasts under this duty. Raises `DriveProblem` for another key."""
        known_name("place", key, self.peaks, "the duty's result")
        return life(self.peaks[key], self.times[-1] - self.times[0], endurance)

    @property
    def means(self) -> dict[str, float]:
        """Mean heat (W) of each joint over the duty."""
        span = self.times[-1] - self.times[0]
        return {name: float(np.trapezoid(y, self.times) / span) for name, y in self.heat.items()}


def heat_over(
    drive: Drive,
    duty: Duty,
    *,
    steady: bool = False,
    rounds: int = 1,
    stopping: Callable[[], bool] = lambda: False,
    progress: Callable[[str], None] = lambda _: None,
    points: OperatingPoints | None = None,
) -> HeatOver:
    """Temperatures over a duty.

    Parameters
    ----------
    steady
        the cycle that repeats itself, else ``rounds`` times the duty from the starting temperatures of the bodies.
    points
        those of an earlier call with the same drive and targets, so that what is known is not run again.

    Raises
    ------
    DriveProblem, DriveHasFindings
        where the drive cannot run, a point does not settle, the duty sets what there is not, or the cycle never closes.
    Stopped
        where ``stopping`` said so.
    """
    for name in duty.targets:
        target(drive, name)
    parted = points.cut if points else cut(drive)
    _keep_to_electric(parted, duty)
    walk = Walk(HeatNetwork(parted), points or OperatingPoints(parted, duty.targets), duty)
    walk.points.stopping, walk.points.progress = stopping, progress
    if not 1 <= rounds <= MOST_TIMES:
        raise DriveProblem(f"{rounds} rounds are not possible. Enter 1 to {MOST_TIMES}.")
    if steady:
        return walk.result(walk.through(walk.closed(), again=True), steady=True)
    steps, x = list[Step](), walk.network.start
    for number in range(rounds):
        steps += walk.through(x, number * duty.duration, again=number > 0)
        x = steps[-1].states[-1]
    return walk.result(steps, steady=False)


MOST_TIMES, NO_LOAD = 1000, 1e-3
"""Rounds; and a factor of a load that is as good as none, for what may not be zero."""


def _keep_to_electric(parted: Cut, duty: Duty) -> None:
    for name in duty.targets:
        card = name.partition(".")[0]
        if "." in name and card in parted.bodies.cards:
            raise DriveProblem(
                f"“{name}” belongs to a body. A duty sets what the drive does, such as its torque or load; "
                "change a body's values on its card."
            )


class Walk:
    """Through a duty, stretch by stretch."""

    def __init__(self, network: HeatNetwork, points: OperatingPoints, duty: Duty):
        self.network, self.points, self.duty = network, points, duty
        self.joints = len(network.cut.joints)
        self._quiet: set[tuple[tuple[str, ...] | None, tuple[str, ...]]] = set()
        """Changes that add next to nothing."""
        self._most = 0.0
        """Largest heat of a joint at any point that was looked at (W)."""

    def through(self, x: np.ndarray, begin: float = 0.0, *, again: bool = False) -> list[Step]:
        """Once through, from the drive's start, or ``again`` after the last stretch."""
        steps: list[Step] = []
        before = self.duty.stretches[-1].texts if again else None
        for stretch in self.duty.stretches:
            for length, more in self.pieces(x, before, stretch):
                steps += self.stretch(x, stretch.texts, length, begin, more)
                begin, x = begin + length, steps[-1].states[-1]
            before = stretch.texts
        return steps

    def pieces(self, x: np.ndarray, before: tuple[str, ...] | None, stretch: Stretch) -> list[tuple[float, np.ndarray]]:
        """Lengths (s) of a stretch, and how much more heat (W) there is meanwhile than once its point has settled."""
        still = np.zeros(self.joints)
        lasts, ends = stretch.duration, (before, stretch.texts)
        if not self.duty.changes or before == stretch.texts or ends in self._quiet:
            return [(lasts, still)]
        _, heat = self._line(stretch.texts, x, still)
        temperatures = self.network.at(x, heat)[1][: self.joints]
        change = self.points.change(before, stretch.texts, temperatures, heat)
        self._most = max(self._most, float(np.max(np.abs(heat), initial=0.0)))
        if np.max(np.abs(change.energies(lasts)), initial=0.0) < SMALL * self._most * lasts:
            self._quiet.add(ends)
            return [(lasts, still)]
        cut_off = change.energies(float(change.times[-1])) - change.energies(lasts)
        if np.max(np.abs(cut_off), initial=0.0) > CUT_OFF * self._most * lasts and change.times[-1] > lasts:
            raise DriveProblem(
                f"A stretch of {figure(lasts, 's', 3)} is too short for what the drive does in it: coming to "
                f"{self.points.words(stretch.texts)} takes {figure(float(change.times[-1]), 's', 3)}. Make it longer, "
                "or leave changes out."
            )
        bounds = np.unique(np.append(np.minimum(change.times, lasts), lasts))
        return [(float(b - a), change.at((a + b) / 2)) for a, b in itertools.pairwise(bounds)]

    def stretch(
        self, x: np.ndarray, texts: tuple[str, ...], duration: float, begin: float, more: np.ndarray
    ) -> list[Step]:
        """Parts of a stretch, each short enough for its straight lines, with ``more`` heat (W) than those tell."""
        left, length, steps = duration, duration, list[Step]()
        heat = np.zeros(self.joints)
        while left > 1e-12 * duration:
            if self.points.stopping():
                raise Stopped
            length = min(length, left)
            line, heat = self._line(texts, x, heat, more)
            step = self._step(x, heat, line, length, begin + duration - left)
            joints = step.temperatures[:, : self.joints]
            short = length <= duration / 2**20
            if not short and (not line.reaches(joints[-1]) or self._errs(step, x, heat, line, length)):
                length = self._until_reach(joints, step, line, length)
                continue
            self._refuse_runaway(step, texts)
            steps.append(step)
            x, heat = step.states[-1], step.heat[-1]
            left -= length
            length *= 2
        return steps

    def _line(
        self, texts: tuple[str, ...], x: np.ndarray, heat: np.ndarray, more: np.ndarray | float = 0.0
    ) -> tuple[Line, np.ndarray]:
        """The line of a point about the present temperatures, and the heat then; where a joint has no capacity its
        temperature follows from the heat."""
        for _ in range(MOST_ROUNDS):
            temperatures = self.network.at(x, heat)[1]
            line = self.points.line(texts, temperatures[: self.joints]).plus(np.asarray(more))
            self.network = self.network.at_speeds(self._speeds(line))
            there = self._heat_at(x, heat, line)
            moved = float(np.max(np.abs(there - heat)))
            heat = there
            if moved <= 1e-6 * max(1.0, float(np.max(np.abs(heat)))) and line.reaches(
                self.network.at(x, heat)[1][: self.joints]
            ):
                return line, heat
        raise DriveProblem(
            f"At {self.points.words(texts)} heat and temperature of a joint without a heat capacity do not agree: "
            "its losses grow with its temperature faster than heat leaves. Put a heat capacity there, or cool it "
            "better."
        )

    def _speeds(self, line: Line) -> np.ndarray:
        """Of fans (rad/s), shape (fans,)."""
        return line.seen[len(line.seen) - len(self.network.cut.fans) :]

    def _heat_at(self, x: np.ndarray, heat: np.ndarray, line: Line) -> np.ndarray:
        """Heat that agrees with the temperature it makes, by the network about the present heat."""
        *_, by_x, level = self._closed_loop(x, heat, line)
        return np.asarray(by_x @ x + level)

    def _closed_loop(self, x: np.ndarray, heat: np.ndarray, line: Line) -> tuple[np.ndarray, ...]:
        """x' = F·x + e with heat P = G·x + g in force."""
        s, m = self.network.straight(x, heat), self.joints
        inverse = np.linalg.inv(np.eye(m) - line.slopes @ s.d[:m])
        by_x = inverse @ line.slopes @ s.c[:m]
        level = inverse @ (line.heat + line.slopes @ (s.level[:m] - line.about))
        return s.a + s.b @ by_x, s.rest + s.b @ level, by_x, level

    def _step(self, x: np.ndarray, heat: np.ndarray, line: Line, length: float, begin: float) -> Step:
        matrix, constant, by_x, level = self._closed_loop(x, heat, line)
        n = len(x)
        points = POINTS if line.steady is None else POINTS // 6  # a piece of a change is short
        times = np.unique(
            np.concatenate([length / 2.0 ** np.arange(points), length * np.arange(1, points + 1) / points])
        )
        augmented = np.zeros((n + 1, n + 1))
        augmented[:n, :n], augmented[:n, n] = matrix, constant
        with np.errstate(over="ignore", invalid="ignore"):  # heat that runs away; the step is made shorter then
            exponentials = scipy.linalg.expm(times[:, None, None] * augmented)
            states = np.concatenate([x[None, :], exponentials[:, :n, :n] @ x + exponentials[:, :n, n]])
        times = np.concatenate([[0.0], times])
        heats = states @ by_x.T + level
        temperatures = np.array([self.network.at(state, p)[1] for state, p in zip(states, heats)])
        return Step(begin + times, states, temperatures, heats, exponentials[-1][:n, :n], line)

    def _errs(self, step: Step, x: np.ndarray, heat: np.ndarray, line: Line, length: float) -> bool:
        """Whether two half steps of a network that is not linear end elsewhere."""
        if self.network.is_linear:
            return False
        middle = self._step(x, heat, line, length / 2, 0.0)
        end = self._step(middle.states[-1], middle.heat[-1], line, length / 2, 0.0)
        return float(np.max(np.abs(end.states[-1] - step.states[-1]))) > TOLERATED

    def _until_reach(self, joints: np.ndarray, step: Step, line: Line, length: float) -> float:
        """Where the line no longer reaches; half the length where that is not what is wrong."""
        beyond = np.any(line.distances(joints) > line.reach, axis=1)
        times = step.times - step.times[0]
        inside = times[: int(np.argmax(beyond))] if beyond.any() else times[:0]
        return float(inside[-1]) if len(inside) > 1 and inside[-1] < 0.9 * length else length / 2

    def _refuse_runaway(self, step: Step, texts: tuple[str, ...]) -> None:
        warmest = np.max(step.temperatures, axis=0)
        place = int(np.argmax(warmest))
        if warmest[place] < TOO_WARM:
            return
        at = float(step.times[int(np.argmax(step.temperatures[:, place] > TOO_WARM))])
        raise DriveProblem(
            f"It runs away: {self.title(place)} passes {figure(TOO_WARM, '°C', 4)} after {figure(at, 's', 3)} "
            f"at {self.points.words(texts)}. Its losses grow with its temperature faster than heat leaves. "
            "Cool it better or load it less."
        )

    def title(self, place: int) -> str:
        if place < self.joints:
            return self.network.cut.joints[place].title
        key = self.network.outputs[place]
        return self.points.cut.bodies.cards[key.partition(".")[0]].name

    def closed(self) -> np.ndarray:
        """States at the begin of the cycle that repeats itself. Raises `DriveProblem`."""
        x = self.network.start
        for _ in range(MOST_ROUNDS):
            steps = self.through(x, again=True)
            missing = steps[-1].states[-1] - x
            slope = np.eye(len(x))
            for step in steps:
                slope = step.slope @ slope
            if float(np.max(np.abs(missing))) < CLOSED:
                if np.max(np.abs(np.linalg.eigvals(slope))) < 1:
                    return x
                break  # it is left again, to one side or the other
            whole = np.eye(len(x)) - slope
            if np.linalg.cond(whole) > 1e12:
                break
            x = x + np.linalg.solve(whole, missing)
            if np.max(self.network.at(x, np.zeros(self.joints))[1]) > TOO_WARM:
                break
        raise DriveProblem(
            "The duty never settles into a cycle that repeats itself: heat that comes in each time does not leave. "
            "Wire an ambient behind every body, or see a number of rounds instead."
        )

    def result(self, steps: Sequence[Step], *, steady: bool) -> HeatOver:
        times = np.concatenate([s.times for s in steps])
        every, heat = (np.concatenate([getattr(s, n) for s in steps]) for n in ("temperatures", "heat"))
        ripples = self._ripples(steps)
        peaks = np.concatenate([s.temperatures + ripples[id(s.line.steady or s.line)] for s in steps])
        titles = {self.key(place): self.title(place) for place in range(len(self.network.outputs))}
        temperatures = {self.key(n): every[:, n] for n in range(every.shape[1])}
        warmest = {self.key(n): peaks[:, n] for n in range(every.shape[1])}
        giving = [n for n, joint in enumerate(self.network.cut.joints) if joint.ends]
        return HeatOver(
            self.duty,
            times,
            temperatures,
            titles,
            {self.key(n): heat[:, n] for n in giving},
            warmest,
            steady,
            self._uses(times, warmest, titles),
            self.points.runs,
        )

    def key(self, place: int) -> str:
        """Of a joint its port (``machine.heat``), of a body its signal."""
        if place < self.joints:
            return str(self.network.cut.joints[place].end)
        return self.network.outputs[place]

    def _ripples(self, steps: Sequence[Step]) -> dict[int, np.ndarray]:
        """By line: how far temperatures rise above their mean within a window of its heat (K), shape (outputs,). The
        network about the last state is driven by the heat's ripple, and looked at in the last window."""
        found: dict[int, np.ndarray] = {}
        for step in steps:
            line = step.line.steady or step.line
            if id(line) in found:
                continue
            s = self.network.at_speeds(self._speeds(line)).straight(step.states[-1], step.heat[-1])
            n, m = s.b.shape
            augmented = np.zeros((n + m, n + m))
            augmented[:n, :n], augmented[:n, n:] = s.a, s.b
            onwards = scipy.linalg.expm(line.window / PARTS * augmented)
            by_x, by_heat = onwards[:n, :n], onwards[:n, n:]
            x: np.ndarray = np.zeros(n)
            highest = np.zeros(len(self.network.outputs))
            for number, ripple in enumerate(line.ripple):
                x = by_x @ x + by_heat @ ripple
                if number >= PARTS:
                    highest = np.maximum(highest, s.c @ x + s.d @ ripple)
            found[id(line)] = highest
        return found

    def _uses(self, times: np.ndarray, peaks: dict[str, np.ndarray], titles: dict[str, str]) -> tuple[Use, ...]:
        cold = self.network.coldest
        limits = self.network.limits
        uses = []
        for key, y in peaks.items():
            limit = limits.get(key, math.nan)
            if math.isnan(limit):
                continue
            at = int(np.argmax(y))
            rise = limit - cold
            share = (float(y[at]) - cold) / rise if rise > 0 else math.inf
            uses.append(Use(titles[key], key, limit, float(y[at]), float(times[at]), share))
        return tuple(sorted(uses, key=lambda use: -use.share))


def highest(
    drive: Drive,
    duty: Duty,
    name: str,
    *,
    rounds: int | None = None,
    most: float = 4.0,
    stopping: Callable[[], bool] = lambda: False,
) -> tuple[float, HeatOver]:
    """By which factor all loads of a target may be multiplied before the first limit is reached in the cycle that
    repeats itself, or within so many ``rounds`` from the start, up to ``most``; and what that duty does.

    Raises
    ------
    DriveProblem
        as `heat_over`, where nothing has a limit, or where even no load passes one.
    """
    place = duty.targets.index(name) if name in duty.targets else -1
    if place < 0:
        raise DriveProblem(f"The duty does not set “{name}”. It sets {', '.join(duty.targets)}.")
    points = OperatingPoints(cut(drive), duty.targets)

    def at(factor: float) -> HeatOver:
        stretches = [
            Stretch(s.duration, tuple(f"({t})*{factor!r}" if n == place else t for n, t in enumerate(s.texts)))
            for s in duty.stretches
        ]
        scaled = replace(duty, stretches=tuple(stretches))
        steady = duty.repeated and rounds is None
        told = heat_over(drive, scaled, steady=steady, rounds=rounds or 1, points=points, stopping=stopping)
        return replace(told, scaled=name, factor=factor)

    def share(factor: float) -> float:
        try:
            result = at(factor)
        except Stopped:
            raise
        except DriveProblem as problem:
            if "runs away" in str(problem) or "never settles" in str(problem):
                return math.inf
            raise
        if not result.uses:
            raise DriveProblem("No body has a limit. Enter one, such as that of the winding's class, on its card.")
        return result.uses[0].share

    low, high = NO_LOAD, 1.0
    if share(low) >= 1:
        raise DriveProblem("A limit is passed without any load. Check limits and surroundings.")
    while share(high) < 1:
        low, high = high, 2 * high
        if high > most:
            return most, at(most)
    while high - low > 2e-3 * high:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if share(middle) < 1 else (low, middle)
    return low, at(low)

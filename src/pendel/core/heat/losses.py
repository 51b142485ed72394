"""Heat that an operating point gives to its joints, by short runs at given temperatures.

A run goes from its start as the drive says, and on until its means settle: three windows in a row must agree, and
longer ones are taken where they do not. What the heat is at other temperatures is a straight line from one more run for
each joint. Where a temperature leaves `REACH` it is made anew, and the old line goes on where it had given the same."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from pendel.core.catalogue.heat import stand_ins
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.heat.cut import Cut
from pendel.core.plant.program import Inputs, Outcome
from pendel.core.plant.recorded import Ring, Snapshot
from pendel.core.plant.simulator import Simulator
from pendel.core.quantities.units import figure
from pendel.core.runs.preparing.simulate import Prepared, endless_settings, prepare
from pendel.core.series.following import Following

AGREE, SAME = 3e-4, 2e-3
"""Of the largest heat: how far the means of windows in a row may differ; and two lines that are one."""
SETTLED = 5e-4
"""Of the largest heat: what a change of temperature by `REACH` must change to count."""
ENOUGH = 1e-4
"""W; heat below this need not settle."""
WINDOWS, LONGER_AFTER, MOST_WINDOWS = 3, 4, 60
CHANGED, PIECES = 3e-3, 24
"""Of the larger heat of two points: how near one is to have come from the other; and into how many pieces of time
a change is condensed."""
REACH = 25.0
"""K, from where a straight line was made."""
FINE = 5.0
"""Times as near, where a controller acts by a temperature: it may begin to at any."""
NEAR = 0.6
"""Of a line's reach: where a step may begin with it, so that it is some way to the end of its reach."""
STEP = 20.0
"""K, to the second point of a straight line."""
SEEN_EVERY = 4
"""Parts after which what is watched is looked at once."""
PARTS, RIPPLE_WINDOWS = 128, 2
"""Of a window, for the ripple of the heat within it; and how many windows of it."""
Texts = tuple[str, ...]
"""Of the targets at an operating point."""
HANN = (1 - np.cos(2 * np.pi * (np.arange(32) + 0.5) / 32)) / 32
RING = Ring(2_000, 2_000)


@dataclass(frozen=True, eq=False)
class Line:
    """Heat (W) at the joints near temperatures ``about`` (°C): ``heat`` + ``slopes`` @ (T − about); shapes (m,) and
    (m, m). ``ripple`` is what the heat does about its mean over the last windows, of
    ``window`` (s) each, shape (RIPPLE_WINDOWS * PARTS, m)."""

    about: np.ndarray
    heat: np.ndarray
    slopes: np.ndarray
    ripple: np.ndarray
    window: float
    reach: float = REACH
    """K, as far as it was found to hold."""
    seen: np.ndarray = field(default_factory=lambda: np.zeros(0))
    """Means of what is watched, where it was made."""
    steady: Line | None = None
    """Of a moment of a change that follows the one before: the line without that."""
    read: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=bool))
    """Of each joint, whether a controller acts by its temperature, shape (m,); empty where none does."""

    def plus(self, more: np.ndarray) -> Line:
        """The same while there is more heat (W), shape (m,)."""
        return replace(self, heat=self.heat + more, steady=self) if np.any(more) else self

    def at(self, temperatures: np.ndarray) -> np.ndarray:
        return np.asarray(self.heat + self.slopes @ (temperatures - self.about))

    def distance(self, temperatures: np.ndarray) -> float:
        """K from where it was made; a joint whose temperature changes nothing does not count, and one that a controller
        acts by counts `FINE` times."""
        return float(np.max(self.distances(temperatures)))

    def distances(self, temperatures: np.ndarray) -> np.ndarray:
        """The same of each joint, shape (…, m)."""
        return np.asarray(np.abs(temperatures - self.about) * self._counts)

    @cached_property
    def _counts(self) -> np.ndarray:
        return np.where(self.read, FINE, self.matters) if len(self.read) else self.matters.astype(float)

    def reaches(self, temperatures: np.ndarray) -> bool:
        return self.distance(temperatures) <= self.reach

    @cached_property
    def matters(self) -> np.ndarray:
        """Of each joint, whether heat follows its temperature, shape (m,)."""
        room = max(SETTLED * float(np.max(np.abs(self.heat))), ENOUGH)
        return np.asarray(np.max(np.abs(self.slopes), axis=0) * REACH > room)


@dataclass(frozen=True, eq=False)
class Settled:
    """Mean heat (W) and its ripple as in `Line`, the window (s), and where the run ended."""

    heat: np.ndarray
    ripple: np.ndarray
    window: float
    end: Snapshot
    seen: np.ndarray
    """Means of the signals that are watched, over the last windows."""


@dataclass(frozen=True, eq=False)
class Change:
    """What heat does after one operating point until the next has settled: means of ``more`` heat (W) than there then,
    shape (n, m), between ``times`` (s) from the change on, shape (n + 1,), at temperatures ``about`` (°C). ``rest``
    is how much more there is from then on, shape (m,): not all drives forget where they come from, such as one that
    sticks."""

    about: np.ndarray
    times: np.ndarray
    more: np.ndarray
    rest: np.ndarray

    def at(self, time: float) -> np.ndarray:
        """W at a time (s) from the change on, shape (m,)."""
        place = int(np.searchsorted(self.times, time)) - 1
        return self.more[place] if place < len(self.more) else self.rest

    def energies(self, lasts: float) -> np.ndarray:
        """J of each joint within a time (s), shape (m,)."""
        lengths = np.diff(np.minimum(self.times, lasts))
        return np.asarray(lengths @ self.more + max(0.0, lasts - self.times[-1]) * self.rest)


@dataclass
class OperatingPoints:
    """Lines of a duty's operating points, made when they are asked for.

    Parameters
    ----------
    cut
        the drive in two.
    targets
        names of what a point sets.
    progress
        is called with what is being done.

    Raises
    ------
    DriveHasFindings, DriveProblem
        where the electrical side cannot run.
    """

    cut: Cut
    targets: tuple[str, ...]
    stopping: Callable[[], bool] = lambda: False
    progress: Callable[[str], None] = lambda _: None
    watched: tuple[str, ...] = ()
    """Signals whose means are kept; behind them come the speeds of fans."""
    runs: int = 0
    _lines: dict[tuple[str, ...], list[Line]] = field(default_factory=dict)
    _ends: dict[tuple[str, ...], Settled] = field(default_factory=dict)
    _changes: dict[tuple[Texts | None, Texts], list[Change]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.meters = [joint.meter for joint in self.cut.joints]
        self.watched += tuple(fan.speed for fan in self.cut.fans)
        self.read = np.array([joint.is_read for joint in self.cut.joints])
        names = (*self.targets, *map(stand_ins.temperature, self.meters))
        self.following = Following(prepare(self.cut.electric), names)
        if self.following.as_a_whole:
            raise DriveProblem(
                "Over a duty only numbers can change, not choices or the level of detail. Choose values of cards or "
                "quantities."
            )
        states = self.following.prepared.structure.state_keys
        self._counters = [1 + states.index(stand_ins.counted(m)) for m in self.meters]
        self._lock = threading.Lock()
        self.length = self.following.prepared.examined.settings["until"]

    def line(self, texts: tuple[str, ...], temperatures: np.ndarray) -> Line:
        """Of an operating point near these temperatures (°C).

        Raises
        ------
        DriveProblem
            where it cannot run or does not settle.
        """
        known = self._lines.setdefault(texts, [])
        if known:
            nearest = min(known, key=lambda each: each.distance(temperatures) / each.reach)
            if nearest.distance(temperatures) <= NEAR * nearest.reach:
                return nearest
        self.progress(self.words(texts))
        here = self._settled(texts, temperatures, self._begin(texts, temperatures), self._window(texts))
        if known and not self.read.any():
            room = max(SAME * float(np.max(np.abs(here.heat))), ENOUGH)
            if (
                np.max(np.abs(nearest.at(temperatures) - here.heat)) <= room
            ):  # it was right that far, so it goes further
                far = 2 * nearest.distance(temperatures)
                wider = replace(nearest, reach=max(far, nearest.reach))
                known[next(n for n, each in enumerate(known) if each is nearest)] = wider
                return wider
        slopes = self._slopes(texts, temperatures, here)
        line = Line(temperatures.copy(), here.heat, slopes, here.ripple, here.window, seen=here.seen, read=self.read)
        known.append(line)
        self._ends[texts] = here
        return line

    def change(self, before: Texts | None, after: Texts, temperatures: np.ndarray, level: np.ndarray) -> Change:
        """From one operating point, or the drive's own start, to another near these temperatures (°C), at which that
        has a ``level`` of heat (W).

        Raises
        ------
        DriveProblem
            where the drive does not come from one to the other.
        """
        known = self._changes.setdefault((before, after), [])
        for found in known:
            if np.max(np.abs(found.about - temperatures)) <= REACH:
                return found
        for texts in (before, after):
            if texts and texts not in self._ends:
                begin, window = self._begin(texts, temperatures), self._window(texts)
                self._ends[texts] = self._settled(texts, temperatures, begin, window, with_ripple=False)
        self.progress(self._between(before, after))
        known.append(self._changed(before, after, temperatures, level))
        return known[-1]

    def _between(self, before: Texts | None, after: Texts) -> str:
        return f"From {self.words(before) if before else 'the start'} to {self.words(after)}"

    def _changed(self, before: Texts | None, after: Texts, temperatures: np.ndarray, level: np.ndarray) -> Change:
        window = self._ends[after].window
        room = CHANGED * float(np.max(np.abs(level))) + ENOUGH
        prepared, inputs = self._inputs(after, temperatures)
        begun = inputs
        if before:
            if prepared.program is not self._inputs(before, temperatures)[0].program:
                raise DriveProblem(
                    f"{self._between(before, after)} the equations of the drive are others, so what "
                    "happens at the change cannot be followed. Take a value near zero instead of zero, or leave "
                    "changes out."
                )
            room += CHANGED * float(np.max(np.abs(self._ends[before].heat)))
            begun = replace(inputs, parameters=self._ends[before].end.inputs.parameters)
        self.runs += 1
        with Simulator(prepared.program, begun, ring=RING) as simulator:
            if before:
                simulator.restore(self._ends[before].end)
                simulator.renew(inputs)
            times, heats, then = self._until_settled(simulator, window, room, (before, after))
        rest = then - level
        return condensed(temperatures.copy(), times, heats - level, np.where(np.abs(rest) > room, rest, 0.0))

    def _until_settled(
        self, simulator: Simulator, window: float, room: float, ends: tuple[Texts | None, Texts]
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Ends of parts (s) and their mean heats until windows agree within ``room`` (W), and the mean from there
        on."""
        times, heats, means = [0.0], list[np.ndarray](), list[np.ndarray]()
        for number in range(MOST_WINDOWS):
            parts = self._parts(simulator, window / len(HANN), len(HANN), ends[1])
            heats.append(parts)
            means.append(HANN @ parts)
            times += list(times[-1] + window / len(HANN) * np.arange(1, len(HANN) + 1))
            last = np.array(means[-WINDOWS:])
            if len(last) == WINDOWS and np.max(np.ptp(last, axis=0)) <= room:
                until = len(HANN) * (number + 1 - WINDOWS)
                return np.array(times[: until + 1]), np.concatenate(heats)[:until], last.mean(axis=0)
            if number % LONGER_AFTER == LONGER_AFTER - 1:
                window *= 2
        raise DriveProblem(
            f"{self._between(*ends)} the heat does not settle within {figure(times[-1], 's', 3)}. See in a run what "
            "the drive does, or leave changes out."
        )

    def words(self, texts: tuple[str, ...]) -> str:
        return ", ".join(f"{name} = {text}" for name, text in zip(self.targets, texts))

    def _begin(self, texts: tuple[str, ...], temperatures: np.ndarray) -> Snapshot:
        """Where a short run goes on: an earlier one of this point, or the drive's own run."""
        known = self._ends.get(texts)
        return known.end if known else self._end_of_own_run(texts, temperatures)

    def _window(self, texts: tuple[str, ...]) -> float:
        known = self._ends.get(texts)
        return known.window if known else self.length / 5

    def _slopes(self, texts: tuple[str, ...], temperatures: np.ndarray, here: Settled) -> np.ndarray:
        """What heat changes with each temperature (W/K), by one more run for each, a little warmer."""

        def warmer(joint: int) -> np.ndarray:
            there = temperatures + steps[joint] * np.eye(len(temperatures))[joint]
            return self._settled(texts, there, here.end, here.window, with_ripple=False).heat

        steps = np.where(self.read, STEP / FINE, STEP)
        with ThreadPoolExecutor(max_workers=4) as pool:
            others = list(pool.map(warmer, range(len(temperatures))))
        return np.array([(other - here.heat) / step for other, step in zip(others, steps)]).T

    def _inputs(self, texts: tuple[str, ...], temperatures: np.ndarray) -> tuple[Prepared, Inputs]:
        temperature_texts = [f"{float(t)!r}" for t in temperatures]
        prepared = self.following.row((*texts, *temperature_texts))
        return prepared, prepared.inputs(endless_settings(prepared))

    def _end_of_own_run(self, texts: tuple[str, ...], temperatures: np.ndarray) -> Snapshot:
        """The drive at the end of its own run in this point, from which its short runs go on."""
        prepared, inputs = self._inputs(texts, temperatures)
        with Simulator(prepared.program, inputs, ring=RING) as simulator:
            self._advance(simulator, self.length, texts)
            return simulator.state()

    def _settled(
        self,
        texts: tuple[str, ...],
        temperatures: np.ndarray,
        begin: Snapshot,
        window: float,
        *,
        with_ripple: bool = True,
    ) -> Settled:
        """Go on from a snapshot until the means of windows agree. Raises `DriveProblem`."""
        prepared, inputs = self._inputs(texts, temperatures)
        with self._lock:
            self.runs += 1
        with Simulator(prepared.program, replace(inputs, parameters=begin.inputs.parameters), ring=RING) as simulator:
            simulator.restore(begin)
            simulator.renew(inputs)
            means, since = list[np.ndarray](), 0
            for _ in range(MOST_WINDOWS):
                means.append(self._mean(simulator, window, texts))
                since += 1
                last = np.array(means[-WINDOWS:])
                if since >= WINDOWS:
                    room = max(AGREE * float(np.max(np.abs(last))), ENOUGH)
                    if np.max(np.ptp(last, axis=0)) <= room:
                        end = simulator.state()
                        ripple, seen = last[:0], np.zeros(0)
                        if with_ripple:
                            ripple, seen = self._ripple(simulator, window, texts)
                        return Settled(last.mean(axis=0), ripple, window, end, seen)
                if since >= LONGER_AFTER:
                    window, since = 2 * window, 0
            passed = simulator.time
        raise DriveProblem(
            f"The heat at {self.words(texts)} does not settle: its mean still changes after {figure(passed, 's', 3)}. "
            "See in a run what the drive does there; it may be on its way to another speed, or unsteady."
        )

    def _energies(self, simulator: Simulator) -> np.ndarray:
        return np.asarray(simulator.present()[0][self._counters])

    def _parts(
        self,
        simulator: Simulator,
        part: float,
        count: int,
        texts: tuple[str, ...],
        seen: list[list[float]] | None = None,
    ) -> np.ndarray:
        """Mean heat (W) of ``count`` parts in a row, each of ``part`` (s), shape (count, m); what is watched goes to
        ``seen`` after each."""
        begun, energies, times = simulator.time, [self._energies(simulator)], [simulator.time]
        for number in range(1, count + 1):
            self._advance(simulator, begun + number * part, texts)
            energies.append(self._energies(simulator))
            times.append(simulator.time)
            if seen is not None and number % SEEN_EVERY == 0:
                seen.append(list(simulator.read(self.watched).values()))
        return np.asarray(np.diff(energies, axis=0) / np.diff(times)[:, None])

    def _mean(self, simulator: Simulator, window: float, texts: tuple[str, ...]) -> np.ndarray:
        """Weighted by Hann's window, so that periods that a window cuts count little (Harris, Proc. IEEE 66 (1978)
        51)."""
        return np.asarray(HANN @ self._parts(simulator, window / len(HANN), len(HANN), texts))

    def _ripple(self, simulator: Simulator, window: float, texts: tuple[str, ...]) -> tuple[np.ndarray, np.ndarray]:
        """What the heat does about its mean, and the means of what is watched."""
        seen: list[list[float]] | None = [] if self.watched else None
        parts = self._parts(simulator, window / PARTS, RIPPLE_WINDOWS * PARTS, texts, seen)
        return np.asarray(parts - parts.mean(axis=0)), np.mean(seen, axis=0) if seen else np.zeros(0)

    def _advance(self, simulator: Simulator, until: float, texts: tuple[str, ...]) -> None:
        while True:
            step = min(until, simulator.time + 10 * self.length)
            outcome = simulator.advance(step)
            if self.stopping():
                raise Stopped
            if outcome is not Outcome.PAUSED:
                raise DriveProblem(
                    f"At {self.words(texts)} a run ends at {figure(simulator.time, 's', 4)}: "
                    f"{outcome.name.lower().replace('_', ' ')}. Run the drive with this value and see why."
                )
            if simulator.time >= until:
                return


def condensed(about: np.ndarray, times: np.ndarray, more: np.ndarray, rest: np.ndarray) -> Change:
    """The same in few pieces, each with its mean: half of them share the time, half the energy."""
    if len(more) <= PIECES:
        return Change(about, times, more, rest)
    energy = np.concatenate([[0.0], np.cumsum(np.diff(times) * np.max(np.abs(more), axis=1))])
    shares = np.linspace(0, 1, PIECES // 2 + 1)
    wanted = np.concatenate([shares * times[-1], np.interp(shares * energy[-1], energy, times)])
    places = np.unique(np.searchsorted(times, wanted).clip(0, len(times) - 1))
    sums = np.concatenate([np.zeros((1, more.shape[1])), np.cumsum(np.diff(times)[:, None] * more, axis=0)])
    bounds = times[places]
    return Change(about, bounds, np.diff(sums[places], axis=0) / np.diff(bounds)[:, None], rest)


class Stopped(RunProblem):
    """The user asked to stop."""

    def __init__(self) -> None:
        super().__init__("Stopped.")

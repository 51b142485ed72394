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
from pendel.core.runs.simulate import Prepared, endless_settings, prepare
from pendel.core.series.following import Following

AGREE, SAME = 3e-4, 2e-3
"""Of the largest heat: how far the means of windows in a row may differ; and two lines that are one."""
SETTLED = 5e-4
"""Of the largest heat: what a change of temperature by `REACH` must change to count."""
ENOUGH = 1e-4
"""W; heat below this need not settle."""
WINDOWS, LONGER_AFTER, MOST_WINDOWS = 3, 4, 60
REACH = 25.0
"""K, from where a straight line was made."""
NEAR = 0.6
"""Of a line's reach: where a step may begin with it, so that it is some way to the end of its reach."""
STEP = 20.0
"""K, to the second point of a straight line."""
SEEN_EVERY = 4
"""Parts after which what is watched is looked at once."""
PARTS, RIPPLE_WINDOWS = 128, 2
"""Of a window, for the ripple of the heat within it; and how many windows of it."""
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

    def at(self, temperatures: np.ndarray) -> np.ndarray:
        return np.asarray(self.heat + self.slopes @ (temperatures - self.about))

    def distance(self, temperatures: np.ndarray) -> float:
        """K from where it was made; a joint whose temperature changes nothing does not count."""
        return float(np.max(np.abs(temperatures - self.about) * self.matters))

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
    """Signals whose means are kept."""
    runs: int = 0
    _lines: dict[tuple[str, ...], list[Line]] = field(default_factory=dict)
    _ends: dict[tuple[str, ...], Settled] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.meters = [joint.meter for joint in self.cut.joints]
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
        if known:
            room = max(SAME * float(np.max(np.abs(here.heat))), ENOUGH)
            if (
                np.max(np.abs(nearest.at(temperatures) - here.heat)) <= room
            ):  # it was right that far, so it goes further
                far = 2 * nearest.distance(temperatures)
                wider = replace(nearest, reach=max(far, nearest.reach))
                known[next(n for n, each in enumerate(known) if each is nearest)] = wider
                return wider
        slopes = self._slopes(texts, temperatures, here)
        line = Line(temperatures.copy(), here.heat, slopes, here.ripple, here.window, seen=here.seen)
        known.append(line)
        self._ends[texts] = here
        return line

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
            there = temperatures + STEP * np.eye(len(temperatures))[joint]
            return self._settled(texts, there, here.end, here.window, with_ripple=False).heat

        with ThreadPoolExecutor(max_workers=4) as pool:
            others = list(pool.map(warmer, range(len(temperatures))))
        return np.array([(other - here.heat) / STEP for other in others]).T

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


class Stopped(RunProblem):
    """The user asked to stop."""

    def __init__(self) -> None:
        super().__init__("Stopped.")

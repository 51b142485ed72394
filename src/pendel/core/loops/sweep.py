"""The response of a running drive, frequency by frequency: what the linear model says, measured.

A small sine is added to a signal between what gives it and what reads it. All runs begin from one instant of one run
and differ by the sine alone; what they differ by, without the motion of the drive itself, is correlated with the sine
over whole periods after settling (Ljung: System Identification, 2nd ed., section 6.2)."""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.catalogue.control.swept import update_swept
from pendel.core.controllers.deck import BlockInstance, ControlDeck, in_running_order
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.points import held_source
from pendel.core.loops.transfer import BUILT_UP, END, REST, Ends, Transfer, held_model, ports_in
from pendel.core.plant.program import Inputs, Outcome, Program
from pendel.core.plant.recorded import Ring, Snapshot
from pendel.core.plant.rows import evaluate_signals
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.simulate import Prepared, endless_settings, program_of
from pendel.core.trust import refuse_strange_c

ADDED = "pd_swept"
"""Name of the block that is added; no card has such a one."""
PERIODS, LEAST_SETTLING = 4, 2
"""Whole periods that are looked at, and how many pass before at least."""
CHUNK = 2000
"""Ticks that are advanced at once, and looked at."""
ROWS_A_TICK = 200
"""Steps between two ticks that are kept, at most; the record takes no more room than there are."""
SHORTEST = 1000
"""Ticks that are looked at, at least: the steps of sensors even out."""
CLEAN = 1e-3
"""Harmonics below which no other amplitude is tried."""
UNLIKE = 0.03
"""Share of the second and third harmonic from which on an answer is not linear."""
LONGEST = 2_000_000
"""Ticks of one run."""


SHARES = (0.01, 0.03, 0.1, 0.3)
"""Of what a signal comes to: amplitudes that are tried."""
Window = tuple[float, int, int]
"""Frequency (Hz), ticks of settling, ticks that are looked at."""


NOTHING = 1e-15
"""A response beside its model that is none, in figures."""


@dataclass(frozen=True)
class SweptPoint:
    """``response`` (complex) at ``frequency`` (Hz), which is the one asked for but for whole ticks; ``model``
    is what the linear model gives there; ``harmonics`` the second and third over the first; ``amplitude``
    that of the sine (SI)."""

    frequency: float
    response: complex
    model: complex
    harmonics: float
    amplitude: float

    @property
    def linear(self) -> bool:
        return self.harmonics <= UNLIKE

    @property
    def off_db(self) -> float:
        return 20 * math.log10(max(abs(self.response / self.model), NOTHING))

    @property
    def off_degrees(self) -> float:
        return math.degrees(np.angle(self.response / self.model))


@dataclass(frozen=True)
class Swept:
    """A swept run: its points by frequency, and when the sine began (s)."""

    points: tuple[SweptPoint, ...]
    began: float
    level: str

    @property
    def worst(self) -> tuple[float, float]:
        """Largest deviations of the linear points: dB, degrees."""
        linear = [p for p in self.points if p.linear]
        return max((abs(p.off_db) for p in linear), default=0.0), max(
            (abs(p.off_degrees) for p in linear), default=0.0
        )


def with_sine(deck: ControlDeck, source: str, opened: Sequence[str]) -> ControlDeck:
    """A deck with a sine added to one of its signals, for all who read it; a signal that is opened gives
    nothing."""
    silent = frozenset(opened)
    fed = None if source in silent else deck.commands.get(source, source) or None
    values = {"amplitude": 0.0, "turn": 0.0}
    added = BlockInstance(
        ADDED, ADDED, ADDED, update_swept, ("x",), ("out", "added"), values, {"x": fed}, 1, False
    )
    swapped: dict[str, str | None] = dict.fromkeys(silent)
    if source not in deck.commands:
        swapped[source] = f"{ADDED}.out"
    blocks = [
        replace(b, sources={p: swapped.get(s, s) if s else s for p, s in b.sources.items()})
        for b in deck.blocks
    ]
    commands = {
        c: f"{ADDED}.out" if c == source else "" if c in silent else str(swapped.get(s, s) or "")
        for c, s in deck.commands.items()
    }
    return replace(deck, blocks=in_running_order([*blocks, added]), commands=commands)


class Sweep:
    """A drive prepared to be swept between the ends of a transfer.

    Parameters
    ----------
    prepared
        at the level of detail in which it is to run; ``transfer`` is of the same drive with its converters averaged.

    Raises
    ------
    DriveProblem
        where it cannot be swept.
    """

    def __init__(self, prepared: Prepared, transfer: Transfer):
        refuse_strange_c(prepared.drive, "allow it")
        self.prepared, self.transfer, self.ends = prepared, transfer, transfer.ends
        kind = ports_in(prepared).get(self.ends.source)
        if kind not in ("block", "measured", "command"):
            raise DriveProblem(
                f"{self.ends.source} cannot be swept: a sine goes in at a block's output, a measured signal "
                f"or a command. "
                "Start from one of these."
            )
        if prepared.shipped:
            raise DriveProblem("A controller as shipped has no place for a sine. Choose “as modelled”.")
        growing = [p for p in transfer.model.poles if outside(complex(p), transfer)]
        if growing:
            raise DriveProblem(
                "This way is not stable, so a run leaves the operating point whatever is added. Close its "
                "loops, or change "
                "their gains, and sweep again."
            )
        held = self.ends.at in (REST, BUILT_UP) or self.transfer.point.name.startswith("at rest")
        deck = prepared.deck
        if held:
            deck = replace(deck, blocks=tuple(held_source(b) for b in deck.blocks))
        self.deck = with_sine(deck, self.ends.source, self.ends.opened)
        self.program: Program = program_of(prepared.structure, self.deck)
        self.inputs: Inputs = prepared.inputs(endless_settings(prepared), self.deck)
        until = prepared.examined.settings["until"]
        self.begins = float(self.ends.at) if isinstance(self.ends.at, float | int) else until
        self.tick = deck.tick
        self.period = math.lcm(*(b.every for b in deck.blocks)) if deck.blocks else 1
        self.late = deck.delay if kind == "command" else 0
        """Ticks by which a sine that is added to a block's output reaches the plant after one that is added
        to the command."""

    def window(self, wish: float) -> Window:
        """The frequency next to one that fits (Hz), ticks of settling and ticks that are looked at."""
        highest = 0.4 / self.tick
        if not 0 < wish <= highest:
            raise DriveProblem(
                f"A sine of {wish:g} Hz cannot be told in ticks of {self.tick:g} s. Choose up to "
                f"{highest:.4g} Hz."
            )
        shortest = max(PERIODS / wish / self.tick, SHORTEST)
        count = math.ceil(shortest / self.period) * self.period
        periods = max(1, round(wish * count * self.tick))
        settling = max(self.transfer.usual_span(), LEAST_SETTLING / wish)
        before = math.ceil(settling / self.tick / self.period) * self.period
        if count + before > LONGEST:
            raise DriveProblem(
                f"A sine of {wish:g} Hz would take {count + before} ticks. Choose a higher frequency."
            )
        return periods / (count * self.tick), before, count

    def _size(self) -> float:
        """What the signal comes to until the sine begins (SI); of a command, its range."""
        source, signals = self.ends.source, self.program.control_signals
        if source in self.prepared.structure.commands:
            return 1.0
        with Simulator(self.program, self.inputs, ring=Ring(100_000, 100_000)) as simulator:
            simulator.advance(self.begins or self.tick)
            record = simulator.recorded()
        if source in signals:
            seen = record.ticks[:, signals.index(source)]
        else:
            parameters = self.inputs.parameters
            seen = evaluate_signals(self.prepared.structure, record.rows, parameters, (source,))[:, 0]
        largest = max(
            abs(self.transfer.point.signals.get(source, 0.0)), float(np.max(np.abs(seen), initial=0.0))
        )
        return largest if largest > 1e-12 else 1.0

    def run(
        self,
        frequencies: Sequence[float],
        amplitude: float | None = None,
        *,
        stopping: Callable[[], bool] = lambda: False,
        come: Callable[[SweptPoint], None] = lambda point: None,
    ) -> Swept:
        """Measure at frequencies (Hz), on all cores; points ``come`` as they are there, in any order.

        Raises
        ------
        DriveProblem
            where a frequency or the amplitude cannot be, or the run ends.
        Stopped
        """
        windows = list(dict.fromkeys(self.window(f) for f in sorted(frequencies)))
        if not windows:
            raise DriveProblem("There is no frequency to measure at. Give some.")
        if amplitude is not None and not (math.isfinite(amplitude) and amplitude > 0):
            raise DriveProblem(f"An amplitude of {amplitude:g} cannot be. Choose one above 0.")
        sizes = [amplitude] if amplitude is not None else [share * self._size() for share in SHARES]
        begin = self._begin()
        longest = max(before + count for _, before, count in windows)
        plain = self._watched(begin, 0.0, 0.0, longest, stopping)[0]

        def measure(window: Window) -> SweptPoint:
            point = self._best(begin, sizes, window, plain, stopping)
            come(point)
            return point

        with ThreadPoolExecutor(max(1, os.cpu_count() or 1)) as pool:
            points = tuple(pool.map(measure, windows))
        return Swept(points, self.begins, self.prepared.drive.settings["level"])

    def _best(
        self,
        begin: Snapshot,
        sizes: Sequence[float],
        window: Window,
        plain: np.ndarray,
        stopping: Callable[[], bool],
    ) -> SweptPoint:
        """With the amplitude at which the response is distorted least: a small one drowns in the steps of
        sensors and in dry friction, a large one meets limits."""
        f, before, count = window
        found, last = None, None
        for size in sizes:
            try:
                y, sine = self._watched(begin, size, f, before + count, stopping)
            except DriveProblem as problem:  # too large
                last = problem
                continue
            point = self._point(f, y[before:] - plain[before : before + count], sine[before:], size)
            if found is None or point.harmonics < found.harmonics:
                found = point
            if found.harmonics < CLEAN:
                break
        if found is None:
            assert last is not None
            raise last
        return found

    def _begin(self) -> Snapshot:
        with Simulator(self.program, self.inputs, ring=Ring(10_000, 10_000)) as simulator:
            whole = round(self.begins / self.tick / self.period) * self.period * self.tick
            outcome = simulator.advance(whole)
            if outcome is not Outcome.PAUSED:
                raise DriveProblem(
                    f"The run ends at {simulator.time:g} s, before the sine begins. Choose an earlier "
                    f"instant."
                )
            return simulator.state()

    def _watched(
        self, begin: Snapshot, amplitude: float, f: float, count: int, stopping: Callable[[], bool]
    ) -> tuple[np.ndarray, np.ndarray]:
        """Target and sine at so many ticks from the beginning on."""
        turn = 2 * math.pi * f * self.tick
        with Simulator(self.program, self.inputs, ring=Ring(2 * CHUNK * ROWS_A_TICK, 2 * CHUNK)) as simulator:
            simulator.restore(begin)
            for name, value in (("amplitude", amplitude), ("turn", turn)):
                if f:
                    simulator.write(f"{ADDED}.{name}", value)
            first, y, sine, row, ticked = (
                round(simulator.time / self.tick),
                list[np.ndarray](),
                list[np.ndarray](),
                0,
                0,
            )
            done = 0
            while done < count:
                if stopping():
                    raise Stopped
                now = min(CHUNK, count - done)
                # Half a tick further, so that the last tick has acted.
                outcome = simulator.advance((first + done + now - 0.5) * self.tick)
                if outcome is not Outcome.PAUSED:
                    raise DriveProblem(
                        f"The run ended at {simulator.time:g} s with the sine of {f:g} Hz: "
                        f"{outcome.name.lower().replace('_', ' ')}. "
                        "Choose a smaller amplitude."
                    )
                latest = simulator.since(row, ticked)
                y.append(
                    self._target(latest.rows, latest.ticks[:now], (first + done + np.arange(now)) * self.tick)
                )
                sine.append(latest.ticks[:now, self.program.control_signals.index(f"{ADDED}.added")])
                row, ticked = latest.first_row + len(latest.rows) - 1, latest.first_tick + now
                done += now
        return np.concatenate(y), np.concatenate(sine)

    def _target(self, rows: np.ndarray, ticks: np.ndarray, times: np.ndarray) -> np.ndarray:
        target, signals = self.ends.target, self.program.control_signals
        if target in self.prepared.structure.commands:
            target = self.prepared.deck.commands[target]
        if target in signals:
            return ticks[:, signals.index(target)]
        places = np.searchsorted(rows[:, 0], times + 1e-9 * self.tick, side="right") - 1
        if places[0] < 0:  # the ring has lost the first of them
            raise DriveProblem(
                f"The run takes more than {ROWS_A_TICK} steps a tick, too many to sweep it. Sweep it "
                f"averaged, or with a larger step."
            )
        return evaluate_signals(self.prepared.structure, rows[places], self.inputs.parameters, (target,))[
            :, 0
        ]

    def _point(self, f: float, y: np.ndarray, sine: np.ndarray, size: float) -> SweptPoint:
        angle = 2 * math.pi * f * self.tick * np.arange(len(y))
        parts = [2 * np.mean(y * np.exp(-1j * k * angle)) for k in (1, 2, 3)]
        into = 2 * np.mean(sine * np.exp(-1j * angle))
        turn = 2 * math.pi * f * self.tick
        response = complex(parts[0] / into * np.exp(1j * turn * self.late))
        if (
            self.transfer.lifted is None
        ):  # it is held and read from tick to tick, of which a continuous model knows nothing
            sampled = held_model(self.transfer.model, self.tick).response(np.array([2 * math.pi * f]))[0]
            response *= self.transfer.response(np.array([f]))[0] / sampled
        model = complex(self.transfer.response(np.array([f]))[0])
        first = abs(parts[0])
        # Where nothing answers, as behind a limit, there is no response that could be linear.
        distortion = float((abs(parts[1]) + abs(parts[2])) / first) if first else math.inf
        return SweptPoint(f, response, model, distortion, size)


def outside(pole: complex, transfer: Transfer) -> bool:
    """Whether what a pole stands for grows."""
    return (abs(pole) - 1 if transfer.model.dt else pole.real) > transfer.rounding


def usual_frequencies(transfer: Transfer, count: int = 40) -> np.ndarray:
    """Hz; from where the slowest of the model matters to a third of the sampling rate."""
    tick = transfer.lifted.tick if transfer.lifted is not None else 0.0
    highest = 1 / (3 * tick) if tick else float(transfer.frequencies()[-1])
    return np.geomspace(max(highest * 1e-3, 1.0), highest, count)


def sweep_between(
    drive: Drive, ends: Ends, frequencies: Sequence[float], amplitude: float | None = None
) -> Swept:
    """Sweep a drive at its level of detail. Raises as `transfer` and `Sweep`."""
    from pendel.core.loops.transfer import transfer
    from pendel.core.runs.simulate import averaged, prepare

    found = transfer(prepare(averaged(drive)), ends)
    wished = frequencies if len(frequencies) else usual_frequencies(found).tolist()
    return Sweep(prepare(drive), found).run(wished, amplitude)


__all__ = ["END", "Sweep", "Swept", "SweptPoint", "sweep_between", "usual_frequencies"]

"""The response of a running drive, frequency by frequency: what the linear model says, measured.

A small sine is added to a signal between what gives it and what reads it. All runs begin from one instant of one run
and differ by the sine alone; what they differ by, without the motion of the drive itself, is correlated with the sine
over whole periods after settling (Ljung: System Identification, 2nd ed., section 6.2)."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from pendel.core.catalogue.control.swept import update_swept
from pendel.core.controllers.deck import BlockInstance, ControlDeck, in_running_order
from pendel.core.cores import usable_cores
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.models.points import WorkingPoint, held_source, point_of_row
from pendel.core.loops.models.transfer import BUILT_UP, END, REST, Transfer, held_model, ports_in
from pendel.core.plant.program import Inputs, Outcome, Program
from pendel.core.plant.recorded import Ring, Snapshot
from pendel.core.plant.rows import evaluate_signals
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import Prepared, endless_settings, program_of
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
AMPLE = 20_000
"""Ticks in which a drive settles whatever its model says; only what takes longer waits for what can be told in the
response."""
AGREE, AGREE_DISTORTED = 1e-3, 0.1
"""Shares of an answer, and of its harmonics, by which the one right after it may differ where the drive has
settled."""
CLEAN = 1e-3
"""Harmonics below which no other amplitude is tried."""
UNLIKE = 0.03
"""Share of the second and third harmonic from which on an answer is not linear."""
LONGEST = 2_000_000
"""Ticks of one run."""


RESTS = 1e-12
"""SI; a signal that never comes to more rests."""
SHARES = (0.01, 0.03, 0.1, 0.3)
"""Of what a signal comes to: amplitudes that are tried."""
Given = TypeVar("Given")
Result = TypeVar("Result")
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
        return max((abs(p.off_db) for p in linear), default=0.0), max((abs(p.off_degrees) for p in linear), default=0.0)


def with_sine(deck: ControlDeck, source: str, opened: Sequence[str], every: int = 1, phase: int = 0) -> ControlDeck:
    """A deck with a sine added to one of its signals, for all who read it, at every so many ticks; a signal that is
    opened gives nothing."""
    silent = frozenset(opened)
    fed = None if source in silent else deck.commands.get(source, source) or None
    values = {"amplitude": 0.0, "turn": 0.0}
    added = BlockInstance(
        ADDED,
        ADDED,
        ADDED,
        update_swept,
        ("x",),
        ("out", "added"),
        values,
        {"x": fed},
        every,
        False,
        phase=phase,
    )
    swapped: dict[str, str | None] = dict.fromkeys(silent)
    if source and source not in deck.commands:
        swapped[source] = f"{ADDED}.out"
    blocks = [replace(b, sources={p: swapped.get(s, s) if s else s for p, s in b.sources.items()}) for b in deck.blocks]
    commands = {
        c: f"{ADDED}.out" if c == source else "" if c in silent else str(swapped.get(s, s) or "")
        for c, s in deck.commands.items()
    }
    return replace(deck, blocks=in_running_order([*blocks, added]), commands=commands)


class Injection:
    """A drive that runs with a sine added to one of its signals.

    Parameters
    ----------
    prepared
        at the level of detail in which it is to run.
    source, target
        where the sine goes in, and what is looked at.
    opened
        signals that give nothing meanwhile.
    held
        whether sources go on giving what they give at first.
    begins
        s of the run at which the sine begins.
    beside_what_goes_on
        whether what is looked at is compared with all that goes on behind the place where the sine goes in, in the
        place of the sine: then it is as if the way were opened there.
    every, phase
        ticks at which the sine goes on, and at which it is looked.

    Raises
    ------
    DriveProblem
        where nothing can go in there.
    """

    def __init__(
        self,
        prepared: Prepared,
        source: str,
        target: str,
        *,
        opened: Sequence[str] = (),
        held: bool = False,
        begins: float = 0.0,
        beside_what_goes_on: bool = False,
        every: int = 1,
        phase: int = 0,
    ):
        refuse_strange_c(prepared.drive, "allow it")
        self.prepared, self.source, self.target, self.begins = prepared, source, target, begins
        kind = ports_in(prepared).get(source)
        if kind is None:
            raise DriveProblem(
                f"{source} cannot be swept: a sine goes in at a block's output, a measured signal, a "
                "command or a load. "
                "Start from one of these."
            )
        if prepared.shipped:
            raise DriveProblem("A controller as shipped has no place for a sine. Choose “as modelled”.")
        deck = prepared.deck
        if held:
            deck = replace(deck, blocks=tuple(held_source(b) for b in deck.blocks))
        self.load = prepared.structure.profile_keys.index(source) if kind == "load" else None
        """Which profile of the plant the sine is added to, where it is one."""
        self.deck = with_sine(deck, "" if kind == "load" else source, opened, every, phase)
        self.program: Program = program_of(prepared.structure, self.deck)
        self.inputs: Inputs = prepared.inputs(endless_settings(prepared), self.deck)
        self.tick, self.every, self.phase = deck.tick, every, phase
        self.period = math.lcm(*(b.every for b in deck.blocks)) if deck.blocks else 1
        self.late = deck.delay if kind == "command" else 0
        """Ticks by which a sine that is added to a block's output reaches the plant after one that is added
        to the command."""
        self._beside = f"{ADDED}.out" if beside_what_goes_on else f"{ADDED}.added"

    def whole_periods(self, wish: float, at_least: float = 0.0) -> tuple[float, int]:
        """The frequency next to one that fits into whole periods of the blocks (Hz), and the ticks it is looked at: for
        ``at_least`` so many seconds."""
        highest = 0.4 / self.tick
        if not 0 < wish <= highest:
            raise DriveProblem(
                f"A sine of {wish:g} Hz cannot be sampled every {self.tick:g} s. "
                f"Choose one above 0 and up to {highest:.4g} Hz."
            )
        shortest = max(PERIODS / wish / self.tick, SHORTEST, at_least / self.tick)
        count = math.ceil(shortest / self.period) * self.period
        return max(1, round(wish * count * self.tick)) / (count * self.tick), count

    def window(self, wish: float, settling: float, at_least: float = 0.0) -> Window:
        """As `whole_periods`, with the ticks for so many seconds of settling between the two."""
        frequency, count = self.whole_periods(wish, at_least)
        before = math.ceil(max(settling, LEAST_SETTLING / wish) / self.tick / self.period) * self.period
        if count + before > LONGEST:
            raise DriveProblem(f"A sine of {wish:g} Hz would take {count + before} ticks. Choose a higher frequency.")
        return frequency, before, count

    def size(self, alike: Sequence[str] = ()) -> float:
        """What the signal comes to until the sine begins (SI), or the largest of those that are ``alike``; of a
        command, its range."""
        source, signals = self.source, self.program.control_signals
        if source in self.prepared.structure.commands:
            return 1.0
        if self.load is not None:
            return float(np.max(np.abs(self.inputs.profiles[self.load][1]), initial=0.0)) or 1.0
        with Simulator(self.program, self.inputs, ring=Ring(50_000, 50_000)) as simulator:
            simulator.advance(self.begins or self.tick)
            record = simulator.recorded()
        if source in signals:
            seen = record.ticks[:, [signals.index(name) for name in alike or (source,)]]
        else:
            parameters = self.inputs.parameters
            seen = evaluate_signals(self.prepared.structure, record.rows, parameters, (source,))[:, 0]
        return float(np.max(np.abs(seen), initial=0.0))

    def begin(self) -> tuple[Snapshot, WorkingPoint]:
        """The drive when the sine begins."""
        with Simulator(self.program, self.inputs, ring=Ring(5_000, 5_000)) as simulator:
            whole = round(self.begins / self.tick / self.period) * self.period * self.tick
            outcome = simulator.advance(whole)
            if outcome is not Outcome.PAUSED:
                raise DriveProblem(
                    f"The run ends at {simulator.time:g} s, before the sine begins. Choose an earlier instant."
                )
            row, given = simulator.present()
            remembered = simulator.recorded().remembered
            return simulator.state(), replace(point_of_row(self.prepared, row, given), remembered=remembered)

    def watched(
        self,
        begin: Snapshot,
        amplitude: float,
        f: float,
        count: int,
        stopping: Callable[[], bool],
        enough: Callable[[np.ndarray], bool] = lambda seen: False,
        chunk: int = CHUNK,
    ) -> np.ndarray:
        """Target, and what it is compared with, at so many ticks from the beginning on; shape (2, count), or fewer
        once those so far are ``enough``, which is asked after each ``chunk``."""
        turn = 2 * math.pi * f * self.tick * self.every
        with Simulator(self.program, self.inputs, ring=Ring(CHUNK * ROWS_A_TICK, CHUNK)) as simulator:
            simulator.restore(begin)
            first, columns, row, ticked = round(simulator.time / self.tick), list[np.ndarray](), 0, 0
            sine = amplitude * np.sin(turn * np.arange(count))
            if f and self.load is not None:
                simulator.renew(self._with_load(first, sine))
            for name, value in (("amplitude", amplitude), ("turn", turn)):
                if f and self.load is None:
                    simulator.write(f"{ADDED}.{name}", value)
            done, chunk = 0, max(1, min(chunk, CHUNK) // self.period) * self.period
            while done < count:
                if stopping():
                    raise Stopped
                now = min(chunk, count - done)
                # Half a tick further, so that the last tick has acted.
                outcome = simulator.advance((first + done + now - 0.5) * self.tick)
                if outcome is not Outcome.PAUSED:
                    raise DriveProblem(
                        f"The run ended at {simulator.time:g} s with the sine of {f:g} Hz: "
                        f"{outcome.name.lower().replace('_', ' ')}. Choose a smaller amplitude."
                    )
                latest = simulator.since(row, ticked)
                times = (first + done + np.arange(now)) * self.tick
                beside = latest.ticks[:now, self.program.control_signals.index(self._beside)]
                if self.load is not None:
                    beside = sine[done : done + now]
                columns.append(np.array([self._seen(latest.rows, latest.ticks[:now], times), beside]))
                row, ticked = latest.first_row + len(latest.rows) - 1, latest.first_tick + now
                done += now
                if enough(np.concatenate(columns, axis=1)):
                    break
        return np.concatenate(columns, axis=1)

    def _with_load(self, first: int, sine: np.ndarray) -> Inputs:
        """What the load is in any case with a sine from a tick on, kept from tick to tick."""
        assert self.load is not None
        ticks = (first + np.arange(len(sine))) * self.tick
        times, levels = self.inputs.profiles[self.load]
        along = np.interp(ticks + 1e-9 * self.tick, times, levels) if len(times) else np.zeros(len(sine))
        steps = tuple(np.repeat(ticks, 2)[1:].tolist()), tuple(np.repeat(along + sine, 2)[:-1].tolist())
        profiles = list(self.inputs.profiles)
        profiles[self.load] = steps
        return replace(self.inputs, profiles=tuple(profiles))

    def _seen(self, rows: np.ndarray, ticks: np.ndarray, times: np.ndarray) -> np.ndarray:
        target, signals = self.target, self.program.control_signals
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
        return evaluate_signals(self.prepared.structure, rows[places], self.inputs.parameters, (target,))[:, 0]

    def answer(self, f: float, seen: np.ndarray) -> Answer:
        """Of what was watched over whole periods, without what moves there anyway."""
        angle = 2 * math.pi * f * self.tick * np.arange(seen.shape[1])[self.phase :: self.every]
        seen = seen[:, self.phase :: self.every]
        parts = [2 * np.mean(seen[0] * np.exp(-1j * k * angle)) for k in (1, 2, 3)]
        into = 2 * np.mean(seen[1] * np.exp(-1j * angle))
        response = complex(parts[0] / into * np.exp(2j * math.pi * f * self.tick * self.late)) if into else 0j
        first = abs(parts[0])
        # Where nothing answers, as behind a limit, there is no response that could be linear.
        return Answer(response, float((abs(parts[1]) + abs(parts[2])) / first) if first else math.inf)

    def clearest(
        self,
        begin: Snapshot,
        sizes: Sequence[float],
        window: Window,
        plain: np.ndarray,
        stopping: Callable[[], bool],
        clean: float = CLEAN,
        earliest: int | None = None,
    ) -> tuple[Answer, float]:
        """With the amplitude at which the response is distorted least, which is given too: a small one drowns in the
        steps of sensors and in dry friction, a large one meets limits. From the ``earliest`` tick on, an answer that
        agrees with the one before it is taken, though the drive had more ticks to settle."""
        f, before, count = window

        def late(seen: np.ndarray, skipped: int) -> Answer:
            last = seen.shape[1] - skipped
            return self.answer(f, (seen - plain[:, : seen.shape[1]])[:, last - count : last])

        def settled(seen: np.ndarray) -> bool:
            if earliest is None or seen.shape[1] < earliest + 2 * count:
                return False
            now, then = late(seen, 0), late(seen, count)
            # What is distorted never repeats itself better than it is distorted.
            share = max(AGREE, AGREE_DISTORTED * min(now.harmonics, 1.0))
            return abs(now.response - then.response) <= share * abs(now.response)

        clear: tuple[Answer, float] | None = None
        last = None
        for size in sizes:
            try:
                seen = self.watched(begin, size, f, before + count, stopping, settled, max(SHORTEST, count) // 4)
            except DriveProblem as problem:  # too large
                last = problem
                continue
            answer = late(seen, 0)
            if clear is None or answer.harmonics < clear[0].harmonics:
                clear = answer, size
            if clear[0].harmonics < clean:
                break
        if clear is None:
            assert last is not None
            raise last
        return clear


@dataclass(frozen=True)
class Answer:
    """A complex ``response`` and its second and third harmonic over the first."""

    response: complex
    harmonics: float


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
        ends = transfer.ends
        self.prepared, self.transfer = prepared, transfer
        until = prepared.examined.settings["until"]
        begins = float(ends.at) if isinstance(ends.at, float | int) else until
        held = ends.at in (REST, BUILT_UP) or transfer.point.name.startswith("at rest")
        measured = transfer.range is not None  # with its loops closed, as it was
        self.injection = Injection(
            prepared,
            ends.source,
            ends.target,
            opened=() if measured else ends.opened,
            held=held,
            begins=begins,
            beside_what_goes_on=measured and bool(ends.opened),
        )
        if any(outside(complex(p), transfer) for p in transfer.model.poles):
            raise DriveProblem(
                "This way is not stable, so a run leaves the operating point whatever is added. Close its "
                "loops, or change their gains, and sweep again."
            )

    def window(self, wish: float) -> Window:
        """The frequency next to one that fits (Hz), ticks of settling and ticks that are looked at."""
        frequency, count = self.injection.whole_periods(wish)
        if self.transfer.range is not None:  # poles below what was measured tell nothing
            settling = min(self.transfer.usual_span(), self.prepared.examined.settings["until"])
        else:
            settling = min(self.transfer.usual_span(), max(self._told(frequency, count), AMPLE * self.injection.tick))
        return self.injection.window(wish, settling)

    def _told(self, frequency: float, count: int) -> float:
        """s after which what began tells no more, of so many ticks that are looked at."""
        return self.transfer.settling_at(frequency, count * self.injection.tick)

    def _earliest(self, window: Window) -> int | None:
        """The tick from which on the drive may have settled; none where it is short to wait, or not known."""
        f, before, count = window
        if self.transfer.range is not None or self.transfer.usual_span() <= AMPLE * self.injection.tick:
            return None
        period = self.injection.period
        wait = max(self._told(f, count), LEAST_SETTLING / f)
        return min(before, math.ceil(wait / self.injection.tick / period) * period)

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
        injection = self.injection
        sizes = [amplitude] if amplitude is not None else [share * self._size() for share in SHARES]
        begin, _ = injection.begin()
        longest = max(before + count for _, before, count in windows)
        plain = injection.watched(begin, 0.0, 0.0, longest, stopping)

        def measure(window: Window) -> SweptPoint:
            earliest = self._earliest(window)
            answer, size = injection.clearest(begin, sizes, window, plain, stopping, earliest=earliest)
            point = self._point(window[0], answer, size)
            come(point)
            return point

        points = tuple(on_all_cores(measure, windows))
        return Swept(points, injection.begins, self.prepared.drive.settings["level"])

    def _size(self) -> float:
        """What the source comes to about the point; in the drive's own run where it rests there."""
        source, begins = self.injection.source, self.injection.begins
        about = max(abs(self.transfer.point.signals.get(source, 0.0)), self.injection.size())
        if about > RESTS:
            return about
        size = Injection(self.prepared, source, self.injection.target, begins=begins).size()
        return size if size > RESTS else 1.0

    def _point(self, f: float, answer: Answer, size: float) -> SweptPoint:
        response = answer.response
        if (
            self.transfer.lifted is None
        ):  # it is held and read from tick to tick, of which a continuous model knows nothing
            sampled = held_model(self.transfer.model, self.injection.tick).response(np.array([2 * math.pi * f]))[0]
            response *= self.transfer.response(np.array([f]))[0] / sampled
        model = complex(self.transfer.response(np.array([f]))[0])
        return SweptPoint(f, response, model, answer.harmonics, size)


def on_all_cores(work: Callable[[Given], Result], given: Sequence[Given]) -> list[Result]:
    """In threads, as runs release the interpreter; in the order of what is given."""
    with ThreadPoolExecutor(usable_cores()) as pool:
        return list(pool.map(work, given))


def outside(pole: complex, transfer: Transfer) -> bool:
    """Whether what a pole stands for grows."""
    return (abs(pole) - 1 if transfer.model.dt else pole.real) > transfer.rounding


def usual_frequencies(transfer: Transfer, count: int = 40) -> np.ndarray:
    """Hz; from where the slowest of the model matters to a third of the sampling rate."""
    if transfer.range is not None:
        return np.geomspace(*transfer.range, count)
    tick = transfer.lifted.tick if transfer.lifted is not None else 0.0
    highest = 1 / (3 * tick) if tick else float(transfer.frequencies()[-1])
    return np.geomspace(max(highest * 1e-3, 1.0), highest, count)


__all__ = ["END", "Sweep", "Swept", "SweptPoint", "usual_frequencies"]

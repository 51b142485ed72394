"""Plants of loops, and ways between two points, by measuring them: a sine is added to a signal while the drive runs
with its loops closed, and what comes back is compared with the sine, or with all that goes on behind it as if it were
opened there (Söderström, Stoica: System Identification, section 10.3, joint input-output). A rational function
through the answers stands in for the linear model where none can be derived: block commutation, switching, what moves
in steps.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.controllers.deck import BlockInstance, ControlDeck
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.linear import LinearPlant, SampledDrive
from pendel.core.loops.models.linear_models import LiftedModel, LinearModel
from pendel.core.loops.models.points import WorkingPoint, WorkingPoints
from pendel.core.loops.models.rational import Fit, fitted
from pendel.core.loops.models.sweep import Answer, Injection, Window, on_all_cores
from pendel.core.loops.models.transfer import Ends, Transfer, must_be_points
from pendel.core.loops.regulators.find import Loop
from pendel.core.runs.preparing.simulate import Prepared
from pendel.core.trust import refuse_strange_c

HALVINGS = 8
"""Of the highest frequency, until its answer is a sine."""
A_DECADE, FEWEST_POINTS = 8, 12
"""Frequencies that are measured."""
DECADES = 3.0
"""Below the highest, that are measured at most."""
SHARES = (0.03, 0.1, 0.3, 0.6)
"""Of what the regulator comes to: amplitudes that are tried."""
LESS, ODD, MUCH_CLEARER = (0.2, 0.05), 2.0, 0.25
"""Of the amplitude, that are tried where an answer has so many times the harmonics of most."""
CLEAN = 0.01
"""Harmonics below which no other amplitude is tried."""
WORST, GOOD = 0.2, 0.05
"""Harmonics above which an answer is none, and up to which the highest frequency has them."""
SETTLING, LOOKED = 0.5, 0.2
"""Parts of a run of the drive for which a sine settles, and is looked at at least."""
FEWEST = 8
"""Answers that a model needs."""
ORDERS = range(1, 11)
MUCH, NOISE = 0.6, 0.6
"""What a larger order must bring, and what a model may be off by in the mean, beside the harmonics."""
POOR, NARROW = 3.0, 0.25
"""What a model is off by where narrow resonances are allowed in it, and how narrow they are beside the distance of
frequencies."""
EXACT = 0.01
"""What a model may be off by at any of its points, as a share, where harmonics are small."""
CLEARER = 5.0
"""An answer is better than its harmonics by about as much, seen from the models through many."""
NAME = "measured where a run ends"
INPUT, OUTPUT = "measured.input", "measured.output"


@dataclass
class MeasuredPlant(LinearPlant):
    """Sampled at the regulator's rate; its matrices are those from sample to sample."""

    def sampled(self, dt: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        return self.A, self.B, self.W


@dataclass(frozen=True)
class Answers:
    """What came back at ``frequency`` (Hz): ``response`` (complex) and ``harmonics`` (the second and third over the
    first), shape (n,) each; for sines of an ``amplitude`` (SI) about the ``point``."""

    frequency: np.ndarray
    response: np.ndarray
    harmonics: np.ndarray
    amplitude: float
    point: WorkingPoint

    @property
    def range(self) -> tuple[float, float]:
        """Hz; beyond it nothing is known."""
        return float(self.frequency[0]), float(self.frequency[-1])


@dataclass(frozen=True)
class Measured(Answers):
    """What was measured of a loop's plant, the ``plant`` through it, and what that is ``off`` by at most (share)."""

    plant: MeasuredPlant
    off: float


def measured_plant(prepared: Prepared, loop: Loop, stopping: Callable[[], bool] = lambda: False) -> Measured:
    """Measure the plant of a loop where a run of the drive ends. Raises as `answers_in_runs`."""
    block = prepared.deck.block(loop.regulator)
    injection = Injection(
        prepared,
        f"{loop.regulator}.{loop.regulation.out}",
        loop.source,
        begins=prepared.examined.settings["until"],
        beside_what_goes_on=True,
        every=block.every,
        phase=block.phase,
    )
    size = injection.size([f"{block.name}.{port}" for port in block.outputs])
    answers = answers_in_runs(injection, size, block.title, stopping)
    # Any plant is read before it is acted on.
    fit, off = model_through(answers, loop.period, behind=1)
    A, B, C, D = by_bilinear(fit, loop.period)
    none = np.zeros((fit.order, 0)), np.zeros((1, 0))
    plant = MeasuredPlant(A, B, C, D, state_names(fit.order), (INPUT,), (OUTPUT,), (), *none)
    return Measured(**answers.__dict__, plant=plant, off=off)


def measured_way(prepared: Prepared, ends: Ends, stopping: Callable[[], bool] = lambda: False) -> Transfer:
    """The way between two points as it is measured where a run ends, with converters as they are. Raises as
    `answers_in_runs`."""
    must_be_points(prepared, ends)
    if any(name != ends.source for name in ends.opened):
        raise DriveProblem(
            "A drive that is measured runs with its loops closed. Open nothing but where the sine "
            "goes in, or choose an "
            "operating point."
        )
    until, tick = prepared.examined.settings["until"], prepared.deck.tick
    injection = Injection(prepared, ends.source, ends.target, begins=until, beside_what_goes_on=bool(ends.opened))
    answers = answers_in_runs(injection, injection.size(), ends.source, stopping)
    at_once, behind = (model_through(answers, tick, behind=k) for k in (0, 1))
    late = behind[0].mean_off < at_once[0].mean_off
    fit, off = behind if late else at_once
    A, B, C, D = by_bilinear(fit, tick)
    if late:  # what goes in waits in a state of its own
        A, B = np.block([[A, B], [np.zeros((1, fit.order + 1))]]), np.eye(fit.order + 1)[:, [-1]]
        C, D = np.hstack([C, D]), np.zeros((1, 1))
    names = state_names(len(A))
    low, high = answers.range
    return Transfer(
        ends,
        LinearModel(A, B, C, D, tick, names, ends.source, ends.target),
        answers.point,
        LiftedModel(A, B, C, D, tick),
        (
            f"Measured with {len(answers.frequency)} sines from {low:.3g} to {high:.4g} Hz; the model is off by "
            f"{100 * off:.2g} % at most, and holds between these.",
        ),
        range=answers.range,
    )


def state_names(count: int) -> tuple[str, ...]:
    return tuple(f"measured {k + 1}" for k in range(count))


def answers_in_runs(
    injection: Injection, size: float, title: str, stopping: Callable[[], bool] = lambda: False
) -> Answers:
    """Sines all over the range in which they come back as sines, where the injection begins.

    Parameters
    ----------
    size
        what the signal comes to, SI, of which the sines are parts.
    title
        what gives it.

    Raises
    ------
    DriveProblem
        where the run ends early, or what comes back is no sine.
    Stopped
    """
    until, period = injection.prepared.examined.settings["until"], injection.tick * injection.every
    if not size:
        raise DriveProblem(f"{title} gives nothing in a run, so there is nothing to add a sine to. Give it a setpoint.")
    begin, point = injection.begin()
    sizes = [share * size for share in SHARES]

    def window(f: float) -> Window:
        return injection.window(f, SETTLING * until, LOOKED * until)

    def longest(of: Sequence[Window]) -> np.ndarray:
        return injection.watched(begin, 0.0, 0.0, max(before + n for _, before, n in of), stopping)

    tried = [0.4 / period / 2**k for k in range(HALVINGS)]
    plain = longest([window(tried[-1])])
    for highest in tried:
        answer, _ = injection.clearest(begin, sizes[1:], window(highest), plain, stopping, GOOD)
        if answer.harmonics <= GOOD:
            break
    lowest = max(1.0 / until, highest * 10.0**-DECADES)
    if lowest > highest / 10:
        raise DriveProblem(
            f"A run of {until:g} s is too short to measure in. Let it last {10 / highest:.2g} s at least."
        )
    count = max(FEWEST_POINTS, round(A_DECADE * math.log10(highest / lowest)))
    windows = list(dict.fromkeys(window(f) for f in np.geomspace(lowest, highest, count)))
    plain = longest(windows)
    # One amplitude for all, as what steps or rubs answers otherwise to another: the clearest in the middle.
    _, amplitude = injection.clearest(begin, sizes, windows[len(windows) // 2], plain, stopping, CLEAN)
    answers = on_all_cores(lambda each: injection.clearest(begin, (amplitude,), each, plain, stopping)[0], windows)
    usual = float(np.median([a.harmonics for a in answers]))

    def better(each: Window, answer: Answer) -> Answer:
        """With less where an answer is distorted more than most, as at a resonance that meets a limit."""
        if answer.harmonics <= max(ODD * usual, CLEAN):
            return answer
        less = [amplitude * share for share in LESS]
        other, _ = injection.clearest(begin, less, each, plain, stopping, CLEAN)
        # What sticks at less is another drive, and hardly clearer.
        return other if other.harmonics < MUCH_CLEARER * answer.harmonics else answer

    answers = on_all_cores(lambda k: better(windows[k], answers[k]), range(len(windows)))
    harmonics = np.array([a.harmonics for a in answers])
    clear = harmonics <= WORST
    if np.sum(clear) < FEWEST:
        raise DriveProblem(
            f"What comes back of sines behind {title} is none at {int(np.sum(~clear))} of {len(clear)} frequencies: "
            "the drive does not run steadily, or nothing answers. Look at its run."
        )
    frequency, response = np.array([f for f, _, _ in windows]), np.array([a.response for a in answers])
    about = replace(point, name=NAME, calm=False)
    return Answers(frequency[clear], response[clear], harmonics[clear], amplitude, about)


def model_through(answers: Answers, dt: float, *, behind: int) -> tuple[Fit, float]:
    """The model of the lowest order that meets the answers, in the frequency of the bilinear transform for ``dt``
    (s), ``behind`` a delay of so many samples; and what it is off by at most (share)."""
    omega = 2 * math.pi * answers.frequency
    ahead = answers.response * np.exp(1j * omega * dt * behind)
    warped = 2 / dt * np.tan(omega * dt / 2)
    weight = 1 / (np.abs(ahead) * np.maximum(answers.harmonics / CLEARER, EXACT))
    fits = [fitted(warped, ahead, weight, n) for n in ORDERS if 2 * n + 1 <= 2 * len(omega) - 4]
    best = smallest_that_serves([fit for fit in fits if not narrow(fit, warped)])
    if best is None or best.mean_off > POOR:
        other = smallest_that_serves(fits)
        assert other is not None
        best = other if best is None or other.mean_off < best.mean_off / POOR else best
    return best, float(np.max(best.off / weight / np.abs(ahead)))


def smallest_that_serves(fits: Sequence[Fit]) -> Fit | None:
    """Of two that are as good the smaller: more poles go through what is noise."""
    best: Fit | None = None
    for fit in fits:
        if best is None or fit.mean_off < MUCH * best.mean_off:
            best = fit
        if best.mean_off <= NOISE:
            break
    return best


def narrow(fit: Fit, omega: np.ndarray) -> bool:
    """Whether a resonance lies between two points, of which none tells."""
    poles = np.linalg.eigvals(fit.A)
    inside = poles[(np.abs(poles) > 0.7 * omega[0]) & (np.abs(poles) < 1.4 * omega[-1])]
    apart = math.log(omega[-1] / omega[0]) / (len(omega) - 1)
    return bool(np.any(-inside.real < NARROW * apart * np.abs(inside)))


def by_bilinear(fit: Fit, dt: float) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    from scipy.signal import cont2discrete

    A, B, C, D, _ = cont2discrete((fit.A, fit.B, fit.C, fit.D), dt, "bilinear")
    return A, B, C, D


class MeasuredPoints(WorkingPoints):
    """Runs in which loops are measured, in the place of points about which they are linear. Raises `DriveProblem` where
    the drive may not run."""

    def __init__(self, prepared: Prepared, stopping: Callable[[], bool] = lambda: False):
        super().__init__(prepared)
        refuse_strange_c(prepared.drive, "allow it")
        self.stopping = stopping

    def drive_of(self, loop: Loop) -> MeasuredDrive:
        return MeasuredDrive(self.prepared.deck, loop, measured_plant(self.prepared, loop, self.stopping))


class MeasuredDrive(SampledDrive):
    """A regulator with its measured plant, in the place of a whole drive. Whatever else is in the drive, such as loops
    further in and computing delay, is in the plant."""

    def __init__(self, deck: ControlDeck, loop: Loop, measured: Measured):
        block = deck.block(loop.regulator)
        sources: dict[str, str | None] = dict.fromkeys(block.sources)
        sources[loop.regulation.actual] = OUTPUT
        self.measured, self.whole, self.range = measured, deck, measured.range
        self._inputs = {
            port: measured.point.signals.get(source, 0.0) for port, source in block.sources.items() if source
        }
        alone = replace(block, sources=sources, every=1, phase=0)
        output = f"{loop.regulator}.{loop.regulation.out}"
        small = ControlDeck(deck.name, (alone,), loop.period, 1, (OUTPUT,), {INPUT: output})
        super().__init__(small, measured.point, measured.plant)

    @property
    def delay(self) -> float:
        return self.whole.tick * self.whole.delay

    def inputs_of(self, block: BlockInstance) -> dict[str, float]:
        return self._inputs


__all__ = ["Measured", "MeasuredDrive", "MeasuredPoints", "measured_plant", "measured_way"]

"""The linear model between any two points of a drive, about any of its operating points, with signals opened where
that is wanted. The drive stays as it is."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from pendel.core.catalogue.declare import Block, Part
from pendel.core.catalogue.index import kind_of
from pendel.core.controllers.own_c import holds_c
from pendel.core.drive.document import Drive
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.continuous import continuous_response
from pendel.core.loops.models.linear import linear_plant, sampled_drive, without_drops
from pendel.core.loops.models.linear_models import LiftedModel, LinearModel, responds
from pendel.core.loops.models.margins import Margins, margins
from pendel.core.loops.models.points import WorkingPoint, WorkingPoints, point_in_run
from pendel.core.loops.models.realisation import Pole, in_continuous_time, minimal
from pendel.core.loops.models.turning import TurningDrive, rotation_of
from pendel.core.runs.preparing.simulate import Prepared
from pendel.core.trust import refuse_strange_c
from pendel.core.vocabulary import Link, ValueRole

REST, STEADY, BUILT_UP, END, ANY = "rest", "steady", "built up", "end", "any"
PLACES = {
    ANY: "the first of these at which something answers",
    REST: "at rest",
    STEADY: "where a run settles, or turns steadily",
    BUILT_UP: "at rest, flux and voltages built up",
    END: "where a run ends, whether it rests there or not",
}
"""Operating points by name; any other is a time in a run (s)."""
MEASURED = "measured"
PLACES_OF_WAYS = {**PLACES, MEASURED: "where a run ends, by sines in runs"}
"""Where ways can be looked at."""
DECADES, PER_DECADE = 5, 100
BEYOND, SMOOTHLY = 8.0, 70
"""Times half the sampling rate up to which a continuous drive is looked at, and points a decade."""
STEPS, MOST_STEPS = 600, 200_000
FORGOTTEN = 1e-3
"""Of a response to a sine, what its beginning may still add."""
EXACT = 1e-6
"""By what poles are off where nothing but rounding is in them."""


@dataclass(frozen=True)
class Ends:
    """From a signal to another, about an operating point: one of `PLACES_OF_WAYS`, or the time in a run (s).

    A block's output, what blocks read of a measured signal and a command of a converter can be opened; what
    comes in at a point that is opened replaces it there, else it is added. Loads (profiles of the plant) can
    be where it comes in.
    """

    source: str
    target: str
    opened: tuple[str, ...] = ()
    at: str | float = ANY


@dataclass(frozen=True, repr=False)
class Transfer:
    """A model between two points, where it holds, and what is to be said of it."""

    ends: Ends
    model: LinearModel
    """Continuous, or from period to period of the blocks."""
    point: WorkingPoint
    lifted: LiftedModel | None = None
    """At every tick, where the model is sampled."""
    remarks: tuple[str, ...] = ()
    rounding: float = EXACT
    """By what a pole of what does not grow may lie outside the unit circle, or right of the imaginary
    axis."""
    range: tuple[float, float] | None = None
    """Hz over which it is known, where that is not all."""
    smooth: tuple[np.ndarray, np.ndarray] | None = None
    """Frequencies (Hz), further up than the samples tell, and the response as of a continuous drive, where that can be
    given: see `pendel.core.loops.models.continuous`."""
    units: Mapping[str, str] = field(default_factory=dict)
    """Of states, input and output by their names, in SI, as far as they are known."""

    def grows(self, pole: Pole) -> bool:
        """Whether what a pole stands for grows, by more than rounding."""
        return pole.s.real > self.rounding / (self.model.dt or 1.0)

    def frequencies(self) -> np.ndarray:
        """Hz, where it has something to show: up to half the sampling rate, or around its poles."""
        if self.range is not None:
            low, high = self.range
            return np.geomspace(low, high, round(PER_DECADE * math.log10(high / low)) + 2)
        if self.lifted is not None:
            highest = 0.5 / self.lifted.tick
            return np.geomspace(highest * 10.0**-DECADES, 0.999 * highest, DECADES * PER_DECADE)
        sizes = np.abs(self.model.poles) / (2 * math.pi)
        sizes = sizes[sizes > 1e-6]
        low, high = (min(sizes), max(sizes)) if len(sizes) else (1.0, 1.0)
        high = min(max(high, 1.0), 1e6)
        low = min(max(low, high * 1e-8), high)
        return np.geomspace(0.1 * low, 10 * high, round(PER_DECADE * (2 + math.log10(high / low))))

    def response(self, frequency: np.ndarray) -> np.ndarray:
        """Complex, at frequencies in Hz."""
        return (self.lifted or self.model).response(2 * math.pi * frequency)

    @property
    def margins(self) -> Margins:
        """As of an open loop L that negative feedback would close from the target to the source. Where both ends are
        one point that is opened, the sign of the feedback is in what comes back, so L is minus that.

        ``stable`` tells of that closed loop, by the poles of the model from period to period."""
        around = self.ends.source == self.ends.target
        sign = -1.0 if around else 1.0
        f = self.frequencies()
        kept = self._minimal
        closed = kept.A - sign * kept.B @ kept.C / (1 + sign * kept.D[0, 0])
        poles = np.linalg.eigvals(closed)
        stable = bool(np.all(np.abs(poles) < 1) if self.model.dt else np.all(poles.real < 0))
        return margins(f, sign * self.response(f), stable=stable)

    def to_scipy(self) -> Any:
        """`LinearModel.to_scipy` of the model from period to period."""
        return self.model.to_scipy()

    def to_control(self) -> Any:
        """`LinearModel.to_control` of the model from period to period."""
        return self.model.to_control()

    def __repr__(self) -> str:
        return f"{repr(self.model)[:-1]}, {self.point.name}>"

    def __str__(self) -> str:
        return "\n".join([repr(self)[1:-1], *str(self.model).splitlines()[1:], *self.remarks])

    def step(self, span: float | None = None) -> tuple[np.ndarray, np.ndarray]:
        """Times (s) and values after a step of one at the source; samples where the model is sampled."""
        span = span or self.usual_span()
        with np.errstate(over="ignore", invalid="ignore"):  # what grows without bounds is shown as far as numbers go
            return self._step(span)

    def _step(self, span: float) -> tuple[np.ndarray, np.ndarray]:
        if self.lifted is not None:
            count = max(2, min(MOST_STEPS, math.ceil(span / self.lifted.tick)))
            values = self.lifted.step(count)
            return self.lifted.tick * np.arange(len(values)), values
        dt = span / STEPS
        model = held_model(self.model, dt)
        A, B = model.A, model.B
        x, values = np.zeros((model.A.shape[0], 1)), np.empty(STEPS + 1)
        for n in range(STEPS + 1):
            values[n] = (model.C @ x + model.D)[0, 0]
            x = A @ x + B
        return dt * np.arange(STEPS + 1), values

    def settling_at(self, frequency: float, looked: float) -> float:
        """s after which a sine (Hz) that begins is seen by what it comes to alone, to `FORGOTTEN` of that, if it is
        looked at for ``looked`` s, whole periods; `usual_span` at most. A slow part that the sine hardly moves, such
        as that of a rope, costs no time so."""
        rates, residues = self._parts
        s = 2j * math.pi * frequency
        apart = abs(s - rates) if not self.model.dt else abs(np.exp(s * self.model.dt) - np.exp(rates * self.model.dt))
        # What decays as c exp(p t) over a window T of whole periods adds 2 c (exp(p T) - 1) / (T (p - j w)).
        with np.errstate(all="ignore"):
            begun = abs(residues) / apart
            tells = 2 * begun * abs(np.expm1(rates * looked)) / (looked * abs(rates - s))
            allowed = FORGOTTEN * abs(self.response(np.array([frequency]))[0]) / max(1, len(rates))
            needed = np.log(tells / allowed) / -rates.real
        decays = rates.real < 0
        longest = np.max(needed[decays], initial=0.0)
        return self.usual_span() if math.isnan(longest) else float(min(longest, self.usual_span()))

    @cached_property
    def _minimal(self) -> LinearModel:
        return minimal(self.model).model

    @cached_property
    def _parts(self) -> tuple[np.ndarray, np.ndarray]:
        """Of the model as a sum of residue / (s - p), or in z: the poles in continuous time and the residues; without
        what is gone within a sample."""
        kept = self._minimal
        values, right = np.linalg.eig(kept.A)
        residues = (kept.C @ right)[0] * (np.linalg.pinv(right) @ kept.B[:, 0])
        rates = np.array([in_continuous_time(complex(p), kept.dt) for p in values])
        lasts = np.isfinite(rates.real)
        return rates[lasts], residues[lasts]

    def usual_span(self) -> float:
        """s: five times the slowest that decays of what the response shows; ten times the fastest that
        grows."""
        return self._usual_span

    @cached_property
    def _usual_span(self) -> float:
        kept = self._minimal
        rates = [-in_continuous_time(complex(p), kept.dt).real for p in kept.poles]
        growing = [-r for r in rates if r < -1e-3]
        if growing:
            return 10.0 / max(growing)
        # A rate that is no larger than its error says nothing of how long something takes.
        still = max(1e-3, (self.rounding - EXACT) / (self.model.dt or 1.0))
        slow = [r for r in rates if math.isfinite(r) and r > still]
        shortest = 50 * self.model.dt if self.model.dt else 0.0
        return max(5.0 / min(slow), shortest) if slow else max(1.0, shortest)


def held_model(model: LinearModel, dt: float) -> LinearModel:
    """A continuous model with an input that is constant over ``dt``, from sample to sample."""
    from scipy.signal import cont2discrete

    A, B, C, D, _ = cont2discrete((model.A, model.B, model.C, model.D), dt)
    return replace(model, A=A, B=B, C=C, D=D, dt=dt)


def ports_in(prepared: Prepared) -> dict[str, str]:
    """Where something can come in, with what kind of place it is."""
    deck = prepared.deck
    return {
        **dict.fromkeys(deck.signals, "block"),
        **dict.fromkeys(deck.measured, "measured"),
        **dict.fromkeys(prepared.structure.commands, "command"),
        **dict.fromkeys(prepared.structure.profile_keys, "load"),
    }


def ports_out(prepared: Prepared) -> dict[str, str]:
    """What can be looked at."""
    return {
        **dict.fromkeys(prepared.structure.signals, "plant"),
        **dict.fromkeys(prepared.deck.signals, "block"),
        **dict.fromkeys(prepared.structure.commands, "command"),
    }


def offered(drive: Drive) -> tuple[list[str], list[str]]:
    """Where something can come in and what can be looked at, as far as a drive tells without its
    equations."""
    kinds = {key: kind_of(card) for key, card in drive.cards.items()}
    blocks = [
        f"{key}.{port.name}"
        for key, kind in kinds.items()
        if isinstance(kind, Block)
        for port in kind.ports
        if port.link is Link.SIGNAL_OUT
    ]
    signals = [f"{key}.{s.name}" for key, kind in kinds.items() if isinstance(kind, Part) for s in kind.signals]
    wires = drive.wires.values()
    measured = dict.fromkeys(str(w.a) for w in wires if str(w.a) in set(signals))
    into = dict.fromkeys(str(w.b) for w in wires if str(w.a) in set(blocks) and isinstance(kinds.get(w.b.card), Part))
    loads = [f"{key}.profile" for key, kind in kinds.items() if isinstance(kind, Part) and drive.cards[key].profile]
    return [*blocks, *into, *measured, *loads], [*blocks, *signals, *into]


def must_be_points(prepared: Prepared, ends: Ends) -> None:
    """Raise `DriveProblem` where there is no such way."""
    starts, stops = ports_in(prepared), ports_out(prepared)
    if ends.source not in starts:
        why = "is measured by no block, so nothing can come in there" if ends.source in stops else "is no signal"
        raise DriveProblem(
            f"“{ends.source}” {why}. Start from a block's output, a measured signal, a command of a "
            f"converter or a load."
            f"{near_words(ends.source, starts)}"
        )
    if ends.target not in stops:
        raise DriveProblem(f"“{ends.target}” is no signal to look at.{near_words(ends.target, stops)}")
    for name in ends.opened:
        if starts.get(name, "load") == "load":
            raise DriveProblem(
                f"“{name}” cannot be opened. Open a block's output, a measured signal or a command of a "
                f"converter."
                f"{near_words(name, starts)}"
            )
    if ends.source == ends.target and ends.source not in ends.opened:
        raise DriveProblem(
            f"{ends.source} is both ends. Open it there as well, to see what comes back to it, or choose another."
        )


def transfer(prepared: Prepared, ends: Ends) -> Transfer:
    """The linear model between two points of a drive whose converters are averaged.

    Raises
    ------
    DriveProblem
        where there is no such signal or operating point, or nothing answers there.
    """
    must_be_points(prepared, ends)
    transfer, silent = None, ""
    for point in points_for(prepared, ends):
        turns = ends.at == STEADY and not point.calm
        transfer = about_rotation(prepared, ends) if turns else about(prepared, ends, point)
        if responds(transfer.lifted or transfer.model):
            return replace(transfer, remarks=tuple(dict.fromkeys((*transfer.remarks, *remarks_on(prepared, transfer)))))
        silent = point.name
    where = "at any operating point that was tried" if ends.at == ANY else f"with the drive {silent}"
    raise DriveProblem(
        f"Nothing of {ends.source} arrives at {ends.target} {where}: no way leads there, or what lies on it "
        f"does not "
        "answer to small changes. Choose other points, open nothing between them, or another operating point."
    )


def points_for(prepared: Prepared, ends: Ends) -> Iterator[WorkingPoint]:
    """Operating points to try, in their order."""
    points = WorkingPoints(prepared)
    if ends.at == REST:
        yield points.rest
        return
    if ends.at == ANY:
        yield points.rest
        if not holds_c(prepared.deck.blocks):
            yield points.end
            yield points.built_up
        return
    refuse_strange_c(prepared.drive, "allow it")
    if isinstance(ends.at, float | int):
        yield point_in_run(prepared, float(ends.at))
    elif ends.at == BUILT_UP:
        yield points.built_up
    elif ends.at == END or ends.at == STEADY:
        yield points.end
    else:
        raise DriveProblem(f"“{ends.at}” is no operating point. Choose {', '.join(PLACES)}, or a time in a run.")


def about(prepared: Prepared, ends: Ends, point: WorkingPoint) -> Transfer:
    """Continuous where no block lies between, else sampled with all blocks at their rates."""
    deck, structure = prepared.deck, prepared.structure
    apart = not deck.signals or set(structure.commands) <= set(ends.opened)
    if apart and ends.target in structure.signals and ports_in(prepared)[ends.source] in ("command", "load"):
        plant = linear_plant(prepared, (ends.target,), point)
        inputs = (*plant.commands, *plant.loads)
        column = [inputs.index(ends.source)]
        B, D = np.hstack([plant.B, plant.W])[:, column], np.hstack([plant.D, plant.V])[:, column]
        model = LinearModel(plant.A, B, plant.C, D, 0.0, plant.states, ends.source, ends.target)
        return Transfer(ends, model, point)
    extra = (ends.target,) if ends.target in structure.signals else ()
    drive = sampled_drive(prepared, point, extra=extra)
    block = ends.source.partition(".")[0]
    drive.origin = deck.block(block).phase if ends.source in deck.signals else 0
    opened = frozenset(ends.opened)
    lifted = drive.lifted(ends.target, ends.source, opened)
    model = drive.model(ends.target, inject=ends.source, opened=opened)
    f = np.geomspace(0.5 / deck.tick * 10.0**-DECADES, BEYOND * 0.5 / deck.tick, (DECADES + 1) * SMOOTHLY)
    smooth = continuous_response(drive, ends.target, 2 * math.pi * f, inject=ends.source, opened=opened)
    remarks = limit_words(prepared, drive.limited())
    return Transfer(ends, model, point, lifted, remarks, smooth=(f, smooth))


def about_rotation(prepared: Prepared, ends: Ends) -> Transfer:
    """In the frame that turns with the drive. Raises `DriveProblem` where it does not turn steadily, or where
    the ends are none that stand still there."""
    extra = (ends.target,) if ends.target in prepared.structure.signals else ()
    rotation = rotation_of(prepared, extra)
    drive = TurningDrive(prepared.deck, rotation)
    block = ends.source.partition(".")[0]
    drive.origin = prepared.deck.block(block).phase if ends.source in prepared.deck.signals else 0
    opened = frozenset(ends.opened)
    model = drive.model(ends.target, inject=ends.source, opened=opened)
    lifted = drive.lifted(ends.target, ends.source, opened)
    remarks = (*rotation.remarks(), *limit_words(prepared, drive.limited()))
    return Transfer(ends, model, rotation.point, lifted, remarks, drive.rounding)


LIMITS = ("low", "high")
"""Values that bound what a block gives, beside those that say so by their role."""


def at_their_ends(prepared: Prepared, point: WorkingPoint) -> list[str]:
    """Blocks that give what bounds them."""
    blocks = []
    for block in prepared.deck.blocks:
        bounding = kind_of(prepared.drive.cards[block.name]).value_names(ValueRole.CURRENT_LIMIT)
        ends = {abs(block.values[n]) for n in (*LIMITS, *bounding) if n in block.values}
        given = [point.signals.get(f"{block.name}.{port}", 0.0) for port in block.outputs]
        if any(g and math.isclose(abs(g), end, rel_tol=1e-9) for g in given for end in ends):
            blocks.append(block.name)
    return blocks


def limit_words(prepared: Prepared, blocks: Iterable[str]) -> tuple[str, ...]:
    titles = (prepared.deck.block(name).title for name in blocks)
    return tuple(
        f"{title} is at its limit here: the loop through it is open, and the model is that between the limits."
        for title in titles
    )


def remarks_on(prepared: Prepared, transfer: Transfer) -> tuple[str, ...]:
    """What whoever reads the model should know."""
    remarks = []
    if not transfer.point.calm:
        remarks.append(
            "Something moves at this operating point, so the model holds for an instant: its poles tell "
            "nothing of what "
            "turns meanwhile."
        )
    sliding = any(key.endswith(".sliding") for key in prepared.structure.mode_keys)
    if sliding and transfer.point.name.startswith("at rest"):
        remarks.append("Dry frictions slide in it; in a run at rest they stick as long as little moves.")
    if np.any(without_drops(prepared) != prepared.parameters):
        remarks.append(
            "Dead times and drops of converters are not in it: what they take depends on a current's sign alone."
        )
    remarks += limit_words(prepared, at_their_ends(prepared, transfer.point))
    return tuple(dict.fromkeys(remarks))


__all__ = ["PLACES", "PLACES_OF_WAYS", "Ends", "Transfer", "offered", "ports_in", "ports_out", "transfer"]

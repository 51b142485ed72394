"""Points about which a drive is made linear: at rest, where a run ends, and at rest with everything built up.

A drive that responds at rest is judged there. A converter may respond to nothing until it is charged, and the
torque of an induction machine to no current until there is flux: then a run tells the point. Its end serves
where nothing moves any more; a machine that turns at the end has no such point in the frame of its phases,
and is judged at rest with its sources as they start, flux and voltages built up.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from scipy import optimize

from pendel.core.catalogue.control.ports import LIMITS
from pendel.core.catalogue.control.regulators import CLOSED, HELD, INTEGRATES
from pendel.core.controllers.deck import BlockInstance, ControlDeck
from pendel.core.controllers.own_c import holds_c
from pendel.core.errors import DriveProblem
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import Outcome, RunSettings, Structure
from pendel.core.plant.rows import evaluate_signals
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import Prepared

SHORTEST, LONGEST = 1.0, 5.0
"""A run with sources held lasts as long as the drive's own, but within these (s)."""
LASTS, SHORTEST_HELD = 4.0, 0.1
"""A run with a regulator's output held lasts so many times the drive's own, and at least so long (s)."""
CALM = 0.02
"""What moves less than this share of its range over the last twentieth of a run stands still."""


@dataclass(frozen=True)
class WorkingPoint:
    """Values by key; what is missing is zero, frictions move forward.

    ``states``, ``inputs``, ``modes`` and ``loads`` (what profiles give) are the plant's; ``signals`` what
    blocks read and give; ``remembered`` what they remember, by ``block.state``.
    """

    name: str
    states: dict[str, float] = field(default_factory=dict)
    inputs: dict[str, float] = field(default_factory=dict)
    modes: dict[str, float] = field(default_factory=dict)
    signals: dict[str, float] = field(default_factory=dict)
    remembered: dict[str, float] = field(default_factory=dict)
    loads: dict[str, float] = field(default_factory=dict)
    calm: bool = True
    """Whether nothing moves there. Fields and grids that turn make a model that holds for an instant only."""


def sliding(structure: Structure) -> dict[str, float]:
    """Frictions slide forward: the drive between its limits."""
    return {key: 1.0 if key.endswith(".sliding") else 0.0 for key in structure.mode_keys}


def in_contact(structure: Structure) -> dict[str, float]:
    """As `sliding`, with ropes taut and backlash used up in the forward direction."""
    return sliding(structure) | {k: 1.0 for k in structure.mode_keys if k.endswith(".contact")}


def at_rest(structure: Structure) -> WorkingPoint:
    """Everything at rest in value, but sliding and in contact in mode, and duties a hair inside their range: at
    its very end half the slope would be missing."""
    return WorkingPoint("at rest", inputs=dict.fromkeys(structure.commands, 1e-9), modes=in_contact(structure))


class WorkingPoints:
    """The points of a drive, each computed when first asked for."""

    def __init__(self, prepared: Prepared):
        self.prepared = prepared
        self.known: dict = {}
        """What is linear about these points, by the point's name, filled by who computes it."""

    def __iter__(self) -> Iterator[WorkingPoint]:
        """In the order in which they are tried."""
        return self.with_held(lambda: None)

    def with_held(self, held: Callable[[], WorkingPoint | None]) -> Iterator[WorkingPoint]:
        """The same, with one that is ``held`` before the last, where there is one."""
        yield self.rest
        if holds_c(self.prepared.deck.blocks):  # typed C runs when a run is asked for, not to judge a loop
            return
        if self.end.calm:
            yield self.end
        if (point := held()) is not None:
            yield point
        yield self.built_up

    @cached_property
    def rest(self) -> WorkingPoint:
        return replace(at_rest(self.prepared.structure), signals=self._measured_at_start())

    @cached_property
    def end(self) -> WorkingPoint:
        """Where a run of the drive ends."""
        return self._after_run("at the end of a run", self.prepared.deck, self._until)

    @cached_property
    def built_up(self) -> WorkingPoint:
        """At rest with flux and voltages built up: where a run ends whose sources stay as they start."""
        deck = self.prepared.deck
        held = replace(deck, blocks=tuple(held_source(b) for b in deck.blocks))
        until = min(max(self._until, SHORTEST), LONGEST)
        return self._after_run("at rest, flux and voltages built up", held, until)

    def opened(self, regulator: str, setpoint: str | None, actual: str) -> WorkingPoint | None:
        """Where the plant settles with a regulator's output held so that it measures what its setpoint is at the end of
        a run, whatever its gains do; None where it cannot be held, or no output within its limits does that."""
        block = self.prepared.deck.block(regulator)
        target = self.end.signals.get(setpoint or "", math.nan)
        low, high = (block.values.get(limit.name, math.nan) for limit in LIMITS)
        if not {CLOSED, HELD.name} <= block.values.keys() or not math.isfinite(target + low + high):
            return None
        until = min(max(LASTS * self._until, SHORTEST_HELD), LONGEST)
        name = f"at rest, the output of {regulator} held"

        def settled(output: float) -> WorkingPoint:
            held = replace(block, values={**block.values, CLOSED: 0.0, HELD.name: output})
            blocks = tuple(held if each is block else each for each in self.prepared.deck.blocks)
            return self._after_run(name, replace(self.prepared.deck, blocks=blocks), until)

        def missing(output: float) -> float:
            return settled(output).signals.get(actual, math.nan) - target

        at_low, at_high = missing(low), missing(high)
        if not at_low * at_high < 0:
            return None
        try:
            output = float(optimize.brentq(missing, low, high, xtol=1e-4 * (high - low), rtol=1e-6))
        except ValueError:  # between the ends the run gives no figure
            return None
        point, remembered = settled(output), f"{regulator}.{INTEGRATES}"
        if not point.calm:  # held there it moves on, as a position does
            return None
        known = {**point.remembered, **({remembered: output} if remembered in point.remembered else {})}
        return replace(point, remembered=known)

    @property
    def _until(self) -> float:
        return self.prepared.examined.settings["until"]

    def _after_run(self, name: str, deck: ControlDeck, until: float) -> WorkingPoint:
        structure, settings = self.prepared.structure, self.prepared.examined.settings
        method = self.prepared.drive.settings["method"]
        chosen = RunSettings(until, settings["tolerance"], method, int(settings["seed"]), h_max=until / 1000)
        recorded = integrate(self.prepared.program, self.prepared.inputs(chosen, deck))
        rows, n = recorded.rows, len(structure.state_keys)
        late = rows[rows[:, 0] >= 0.95 * until, 1 : 1 + n]
        whole = np.ptp(rows[:, 1 : 1 + n], axis=0)
        ended = recorded.outcome is Outcome.DONE and len(late) > 0
        calm = ended and bool(np.all(np.ptp(late, axis=0) <= CALM * whole))
        given = dict(zip(deck.signals, recorded.ticks[-1].tolist())) if len(recorded.ticks) else {}
        point = point_of_row(self.prepared, rows[-1], given)
        modes = point.modes | {key: 1.0 for key in sliding(structure) if key.endswith(".sliding")}
        return replace(point, name=name, modes=modes, remembered=recorded.remembered, calm=calm)

    def _measured_at_start(self) -> dict[str, float]:
        still = np.zeros(len(self.prepared.structure.commands))
        return measured_at(self.prepared, self.prepared.starting.values, still)


def measured_at(
    prepared: Prepared, states: np.ndarray, inputs: np.ndarray, loads: np.ndarray | None = None
) -> dict[str, float]:
    """What the blocks measure, with what profiles give; without it they give nothing. A source gives its
    voltage."""
    structure, signals = prepared.structure, prepared.deck.measured
    still = np.zeros(2 * len(structure.profile_keys))
    if loads is not None:
        still[: len(loads)] = loads
    row = np.concatenate([[0.0], states, inputs, still, np.array(structure.mode_starts, dtype=float)])
    values = evaluate_signals(structure, row[None, :], prepared.parameters, signals)[0]
    return dict(zip(signals, values.tolist()))


def point_of_row(prepared: Prepared, row: np.ndarray, given: Mapping[str, float]) -> WorkingPoint:
    """The plant as it is in a row of a run, without a name; ``given`` is what blocks give."""
    structure = prepared.structure
    n, m, k = len(structure.state_keys), len(structure.commands), len(structure.profile_keys)
    states, inputs, offsets, slopes, modes = np.split(row[1:], np.cumsum([n, m, k, k]))
    loads = offsets + slopes * row[0]
    measured = measured_at(prepared, states, inputs, loads)
    return WorkingPoint(
        "",
        dict(zip(structure.state_keys, states.tolist())),
        dict(zip(structure.commands, inputs.tolist())),
        dict(zip(structure.mode_keys, modes.tolist())),
        {**measured, **given},
        loads=dict(zip(structure.profile_keys, loads.tolist())),
    )


def held_source(block: BlockInstance) -> BlockInstance:
    """A source that goes on giving what it gives at first; any other block as it is."""
    if block.inputs:
        return block
    values = dict(block.values)
    if "before" in values:
        values["after"] = values["before"]
    if "amplitude" in values:
        values["amplitude"] = 0.0
    first = block.table[0][1] if block.table else 0.0
    return replace(block, values=values, table=tuple((t, first) for t, _ in block.table))


def point_in_run(prepared: Prepared, t: float) -> WorkingPoint:
    """Where a run of the drive is at ``t`` (s), with everything that it remembers and the modes it has there.

    Raises
    ------
    DriveProblem
        where a run does not get there.
    """
    settings = prepared.examined.settings
    if not 0 <= t <= settings["until"]:
        raise DriveProblem(
            f"A run of this drive goes from 0 to {settings['until']:g} s, so there is no instant {t:g} s. "
            f"Choose one in it, "
            "or a longer run."
        )
    chosen = RunSettings(
        settings["until"],
        settings["tolerance"],
        prepared.drive.settings["method"],
        int(settings["seed"]),
        h_max=settings["until"] / 1000,
        fixed_step=settings["step"],
    )
    with Simulator(prepared.program, prepared.inputs(chosen)) as simulator:
        outcome = simulator.advance(t)
        if outcome not in (Outcome.PAUSED, Outcome.DONE):
            raise DriveProblem(f"The run ends at {simulator.time:g} s, before {t:g} s. Choose an earlier instant.")
        row, signals = simulator.present()
        remembered = simulator.recorded().remembered
    point = point_of_row(prepared, row, signals)
    return replace(point, name=f"at {t:g} s of a run", remembered=remembered, calm=False)

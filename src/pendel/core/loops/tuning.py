"""One loop judged and tuned: open-loop response with given gains, margins, step response, proposed gains."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.controllers.deck import BlockInstance
from pendel.core.controllers.symbolic import linear_block
from pendel.core.drive import commands
from pendel.core.drive.commands import Command
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.loops.find import Loop, find_loops, upstream
from pendel.core.loops.linear import SampledDrive
from pendel.core.loops.margins import Margins, margins
from pendel.core.loops.rules import (
    Gains,
    LagPlant,
    for_crossover,
    lag_picture,
    magnitude_optimum,
    symmetrical_optimum,
)
from pendel.core.quantities.expressions import Number, evaluate, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import NONE, si_unit, unit
from pendel.core.runs.measures import StepMeasures, step_measures
from pendel.core.runs.simulate import Prepared, averaged, prepare

RULES = {
    "crossover": "crossover and pole cancelling",
    "magnitude": "magnitude optimum",
    "symmetrical": "symmetrical optimum",
}
POINTS = 500


@dataclass(frozen=True)
class Judged:
    """A loop with one set of gains."""

    gains: Mapping[str, float]
    frequency: np.ndarray
    response: np.ndarray
    margins: Margins
    step_t: np.ndarray
    step_y: np.ndarray
    measures: StepMeasures


class LoopStudy:
    """A loop with its plant response computed once, so that gains can be changed live.

    ``G`` is the response from the regulator's output to its actual value at the regulator's rate, inner loops closed
    and outer loops frozen; computing delay, hold and sensors are in it.
    """

    def __init__(self, prepared: Prepared, loop: Loop):
        self.prepared, self.loop = prepared, loop
        self.block: BlockInstance = prepared.deck.block(loop.regulator)
        block = replace(self.block, values={**self.block.values, "closed": 1.0})
        self.output = f"{loop.regulator}.{block.outputs[0]}"
        frozen = (
            upstream(prepared.deck, loop.setpoint)
            - upstream(prepared.deck, block.sources.get("actual"))
            - {loop.regulator}
        )
        self.drive = SampledDrive(prepared, frozen=frozenset(frozen), extra=(loop.actual,))
        self.drive.linear[loop.regulator] = linear_block(block, loop.period)
        plant = self.drive.model(
            f"{loop.regulator}.actual", inject=self.output, opened=frozenset({self.output})
        )
        self.dt = plant.dt
        nyquist = 0.5 / self.dt
        self.frequency = np.geomspace(nyquist * 1e-4, nyquist * 0.999, POINTS)
        self.G = plant.response(2 * math.pi * self.frequency)
        self.plant_model = plant

    @property
    def delay(self) -> float:
        """Sampling and computing delay (s): half a hold, and what the outputs wait."""
        return self.loop.period * 0.5 + self.prepared.deck.tick * self.prepared.deck.delay

    @property
    def gains_now(self) -> dict[str, float]:
        return {n: self.block.values[n] for n in ("K_p", "T_i", "T_d") if n in self.block.values}

    def with_gains(self, gains: Mapping[str, float]):
        block = replace(self.block, values={**self.block.values, "closed": 1.0, **gains})
        return linear_block(block, self.loop.period)

    def open_loop(self, gains: Mapping[str, float]) -> np.ndarray:
        """L with the sign of the negative feedback taken out."""
        column = self.block.inputs.index("actual")
        z = np.exp(2j * math.pi * self.frequency * self.loop.period)
        return -self.with_gains(gains).response(z)[:, 0, column] * self.G

    def judge(self, gains: Mapping[str, float]) -> Judged:
        self.drive.linear[self.loop.regulator] = self.with_gains(gains)
        setpoint = f"{self.loop.regulator}.setpoint"
        watched = f"{self.loop.regulator}.actual"
        phi, gamma, seen = self.drive.period_map(setpoint=setpoint, watch=(self.loop.actual, watched))
        stable = bool(np.max(np.abs(relevant_poles(phi, gamma, seen[0][watched][:-1]))) < 1.0 + 1e-9)
        response = self.open_loop(gains)
        found = margins(self.frequency, response, stable=stable)
        t, y = self.step(phi, gamma, seen, watched, found)
        return Judged(gains, self.frequency, response, found, t, y, step_measures(t, y, 0.0, 1.0))

    def step(self, phi, gamma, seen, watched: str, found: Margins) -> tuple[np.ndarray, np.ndarray]:
        """Response of the actual value, as the regulator sees it, to a unit step of the setpoint."""
        scale = 1.0 / (2 * math.pi * found.crossover) if math.isfinite(found.crossover) else 20 * self.dt
        count = int(min(4000, max(40, 14 * scale / self.dt)))
        rows = np.array([tick[watched] for tick in seen])
        every = self.block.every
        state = np.zeros((phi.shape[0], 1))
        values = []
        for _ in range(count):
            y = rows[:, :-1] @ state + rows[:, -1:]
            values.append(y[::every, 0])
            state = phi @ state + gamma
            if not np.all(np.abs(state) < 1e12):
                break
        y = np.concatenate(values)
        return np.arange(len(y)) * self.loop.period, y

    def picture(self, f_wish: float | None = None) -> LagPlant:
        """The plant as lag and small delays, fitted around the frequencies where the loop will cross."""
        top = f_wish or 0.08 / self.dt
        inside = (self.frequency > top * 0.05) & (self.frequency < min(top * 1.2, 0.2 / self.dt))
        return lag_picture(2 * math.pi * self.frequency[inside], self.G[inside], max(self.delay, 1e-6))

    def propose(
        self, rule: str, *, crossover: float | None = None, phase_margin: float = 60.0
    ) -> dict[str, float]:
        """Gains by a rule of `RULES`. Raises `DriveProblem` for an unreachable wish."""
        nyquist = 0.5 / self.dt
        if rule not in RULES:
            raise DriveProblem(f"There is no rule “{rule}”. Choose one of {', '.join(RULES)}.")
        if rule == "crossover":
            wish = crossover or 0.05 / self.dt
            if not 0 < wish < nyquist:
                raise DriveProblem(
                    f"A crossover of {wish:g} Hz is beyond half the sampling frequency, {nyquist:g} Hz. Choose a lower one."
                )
            at = complex(
                np.exp(
                    np.interp(np.log(wish), np.log(self.frequency), np.log(np.abs(self.G)))
                    + 1j * np.interp(np.log(wish), np.log(self.frequency), np.unwrap(np.angle(self.G)))
                )
            )
            gains = for_crossover(
                at,
                wish,
                self.picture(wish),
                phase_margin=phase_margin,
                has_integral="T_i" in self.block.values,
            )
            if "T_i" not in self.block.values:
                return {"K_p": gains.K_p}
            column = self.block.inputs.index("actual")
            z = np.exp(2j * math.pi * np.array([wish]) * self.loop.period)
            sized = abs(self.with_gains({"K_p": 1.0, "T_i": gains.T_i}).response(z)[0, 0, column])
            return {"K_p": 1.0 / (sized * abs(at)), "T_i": gains.T_i}
        picture = self.picture()
        best: Gains = magnitude_optimum(picture) if rule == "magnitude" else symmetrical_optimum(picture)
        return {"K_p": best.K_p, "T_i": best.T_i} if "T_i" in self.block.values else {"K_p": best.K_p}


def relevant_poles(phi: np.ndarray, gamma: np.ndarray, row: np.ndarray) -> np.ndarray:
    """Poles that the input moves and the output shows; a free integrating angle is neither."""
    values, right = np.linalg.eig(phi)
    try:
        left = np.linalg.inv(right)
    except np.linalg.LinAlgError:
        return values
    weight = np.abs(row @ right) * np.abs(left @ gamma[:, 0])
    kept = values[(weight > 1e-12 * max(1e-300, weight.max())) | (np.abs(values) > 1.0 + 1e-6)]
    return kept if len(kept) else np.zeros(1)


def propose(drive: Drive, regulator: str, rule: str = "crossover", **wishes: float) -> dict[str, float]:
    """Proposed gains of a regulator of a drive."""
    prepared = prepare(averaged(drive))
    loop = next((each for each in find_loops(drive, prepared) if each.regulator == regulator), None)
    if loop is None:
        raise DriveProblem(
            f"{regulator} closes no loop. Wire its output to the plant and a measured signal to its actual value."
        )
    return LoopStudy(prepared, loop).propose(rule, **wishes)


def take_gains(drive: Drive, regulator: str, gains: Mapping[str, float]) -> Command:
    """One undo step that writes gains where they are defined: in a quantity the field names, else in the field."""
    command = Command(f"Take gains of {drive.cards[regulator].name}", ())
    scratch = drive.copy()
    for name, value in gains.items():
        text = scratch.cards[regulator].values.get(name, "")
        if text.strip() in scratch.quantities:
            quantity = text.strip()
            step = commands.set_quantity(
                scratch, quantity, written(scratch, scratch.quantities[quantity].text, value)
            )
        else:
            step = commands.set_value(
                scratch,
                regulator,
                name,
                written(scratch, text or "1", value, "s" if name.startswith("T_") else ""),
            )
        step.apply(scratch)
        command = command.then(step)
    return command


def written(drive: Drive, old: str, value: float, plain_unit: str = "") -> str:
    """``value`` (SI) in the unit the old text was written in."""
    try:
        node = read(old)
        if isinstance(node, Number) and node.unit:
            return f"{value / unit(node.unit)[0]:.4g} {node.unit}"
        dim = evaluate(node, Names({n: q.text for n, q in drive.quantities.items()}), old).dim
    except ExpressionProblem:
        dim = NONE
    return f"{value:.4g} {si_unit(dim) or plain_unit}".strip()

"""Runs cut into slices: advanced by pieces, saved, led astray and brought back, and handed from one simulator to
another."""

from __future__ import annotations

import pickle

import numpy as np

from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import Inputs, Outcome, Program, RunSettings
from pendel.core.plant.simulator import Recorded, Simulator
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.truth.drives import Case
from tests.campaigns.truth.report import Tally

SLICES = 9


def in_slices(program: Program, inputs: Inputs, seed: int = 1) -> Recorded:
    """A run in slices of random lengths; it is to be the same to the bit as in one. After each slice it is saved, and
    then goes on, or goes astray and is restored, or goes on in another simulator, whose record is put behind the first
    one's. Explicit steps fill a record until it is thinned, and a new one is thinned later, so these are not handed
    over."""
    rng, pieces = np.random.default_rng(seed), []
    simulator = Simulator(program, inputs)

    def some_way_on() -> float:
        return simulator.time + rng.exponential(inputs.settings.until / SLICES)

    while simulator.advance(some_way_on()) is Outcome.PAUSED:
        snapshot = pickle.loads(pickle.dumps(simulator.state()))
        what = rng.integers(3)
        if what == 1:
            simulator.advance(some_way_on())
            simulator.restore(snapshot)
        elif what == 2 and inputs.settings.method != "explicit":
            pieces.append(simulator.finish())
            simulator = Simulator(program, inputs)
            simulator.restore(snapshot)
    last = simulator.finish()
    # A record that begins with a snapshot begins with the last row before it.
    last.rows = np.concatenate([*(p.rows[:-1] for p in pieces), last.rows])
    last.ticks = np.concatenate([*(p.ticks for p in pieces), last.ticks])
    return last


def however_it_is_cut(case: Case, method: str, tally: Tally) -> None:
    """Rows, ticks, counters and what blocks remember are the same to the bit in slices and in one."""
    prepared = prepare(case.drive.document)
    until = prepared.examined.settings["until"]
    settings = RunSettings(until, 1e-6, method, h_max=until / 100, fixed_step=max(1e-6, until / 2e5))
    inputs = prepared.inputs(settings)
    whole, cut = integrate(prepared.program, inputs), in_slices(prepared.program, inputs, case.seed)
    same = all(np.array_equal(a, b, equal_nan=True) for a, b in ((whole.rows, cut.rows), (whole.ticks, cut.ticks)))
    same &= (whole.counters, whole.outcome) == (cut.counters, cut.outcome)
    tally.note(0.0 if same else 2.0, f"{case.name} {method}", case.drive)

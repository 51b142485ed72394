"""Loops judged while values spread."""

import math
import os
from pathlib import Path

import numpy as np
import pytest
from scipy.interpolate import CubicSpline

import pendel
from pendel.core.drive.file import load
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.regulators.find import find_loops
from pendel.core.loops.tuning.forked import on_all_processes, one_by_one
from pendel.core.loops.tuning.tolerances import Spread, judged, multiplied, tolerate
from pendel.core.loops.tuning.tuning import loop_statuses

EXAMPLES = Path(pendel.__file__).parent / "examples"


@pytest.fixture(scope="module")
def door():
    return load(EXAMPLES / "car_door_drive.pendel")


def test_the_crossover_goes_with_one_over_the_inductance(door):
    """Well above the winding's corner L(s) = K_p U / (s L_a): ω_c ∝ 1/L_a, and the phase margin falls with it by the
    delay of 1.5 ticks, 360° · 1.5 T · f_c (Leonhard, chapter 14). Both ends of the range, and the drive left as it
    was."""
    before = door.copy()
    found = tolerate(door, "current_pi", [Spread("door_motor.L_a", 0.2)], 0)
    assert len(found.samples) == 3 and found.holds
    plain, low, high = (s.margins for s in found.samples)
    assert low.crossover / plain.crossover == pytest.approx(1 / 0.8, rel=0.08)
    assert high.crossover / plain.crossover == pytest.approx(1 / 1.2, rel=0.08)
    assert found.costs["door_motor.L_a"] == pytest.approx(abs(low.phase - high.phase) / 2, rel=0.15)
    assert door.cards == before.cards and door.quantities == before.quantities


@pytest.mark.parametrize("regulator, gain", [("current_pi", "K_i"), ("speed_pi", "K_p")])
def test_the_cost_of_a_factor_is_the_slope_of_the_phase_over_that_of_the_size(door, regulator, gain):
    """L is proportional to the gain, so the crossover moves by d ln f = -dK/K / (d ln|L| / d ln f) (textbook), and the
    phase along with it. Slopes are those of a spline through the points of the plot."""
    found = tolerate(door, regulator, [Spread(gain, 0.1)], 0)
    analysis = found.samples[0].analysis
    log_f, response = np.log(analysis.frequency), analysis.response
    size = CubicSpline(log_f, np.log(np.abs(response)))
    phase = CubicSpline(log_f, np.degrees(np.unwrap(np.angle(response))))
    crossover = min(size.roots(extrapolate=False), key=lambda at: abs(at - np.log(analysis.margins.crossover)))
    assert found.costs[gain] == pytest.approx(0.1 * abs(phase(crossover, 1) / size(crossover, 1)), rel=1e-4)


def test_each_sample_is_the_loop_of_a_drive_with_those_values(door):
    """Values by texts, quantities with all that uses them: judged alike by the usual way."""
    found = tolerate(
        door, "speed_pi", [Spread("m_leaf", 0.3), Spread("K_p", 0.2), Spread("door_motor.J_m", 0.5)], 4, seed=3
    )
    assert len(found.samples) == 1 + 8 + 4
    for sample in (found.samples[0], found.samples[3], found.samples[-1]):
        status = {s.loop.key: s for s in loop_statuses(multiplied(door, sample.factors))}["speed_pi"]
        assert sample.margins == status.judged.margins
    inside = [
        abs(f - 1) <= share + 1e-12 for s in found.samples for f, share in zip(s.factors.values(), (0.3, 0.2, 0.5))
    ]
    assert all(inside) and found.worst(lambda m: m.phase).margins.phase == min(s.margins.phase for s in found.samples)
    frequency = np.geomspace(2.0, 300.0, 20)
    low, high = found.band(frequency)
    own = np.interp(frequency, found.samples[0].analysis.frequency, np.abs(found.samples[0].analysis.response))
    assert np.all(low <= own * 1.001) and np.all(high >= own * 0.999)
    again = tolerate(
        door, "speed_pi", [Spread("m_leaf", 0.3), Spread("K_p", 0.2), Spread("door_motor.J_m", 0.5)], 4, seed=3
    )
    assert [s.factors for s in again.samples] == [s.factors for s in found.samples]


def test_a_spread_that_unsettles_the_loop_is_found_and_what_cannot_be_is_refused(door):
    hot = multiplied(door, {"K_i": 1.0}) if "K_i" in door.quantities else door
    hot.quantities["K_i"] = type(hot.quantities["K_i"])("9.5 V/A")
    assert not tolerate(hot, "current_pi", [Spread("door_motor.L_a", 0.5)], 0).holds
    for spreads, words in (
        ([], "at least one"),
        ([Spread("nothing", 0.1)], "no quantity and no value"),
        ([Spread("door_motor.nothing", 0.1)], "no quantity and no value"),
        ([Spread("m_leaf", 1.0)], "above 0 and below 100 %"),
        ([Spread("m_leaf", math.nan)], "above 0 and below 100 %"),
    ):
        with pytest.raises(DriveProblem, match=words):
            tolerate(door, "current_pi", spreads)
    with pytest.raises(DriveProblem, match="closes no loop"):
        tolerate(door, "rail", [Spread("m_leaf", 0.1)])
    with pytest.raises(Stopped):
        tolerate(door, "current_pi", [Spread("m_leaf", 0.1)], stopping=lambda: True)


def test_copies_of_the_process_find_what_one_finds():
    """Shared out among processes, in the order of the samples; stopped at once; a copy that dies costs nothing but
    time."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    spreads = [Spread("door_motor.L_a", 0.2), Spread("m_leaf", 0.2)]
    seen = []
    both = tolerate(drive, "current_pi", spreads, 130, report=seen.append)
    assert seen[-1] == 1.0 and len(both.samples) == 135
    alone = one_by_one(
        lambda s: judged(drive, loop_of(drive), s.factors).margins, both.samples[::9], lambda: False, lambda share: None
    )
    assert [s.margins for s in both.samples[::9]] == alone
    with pytest.raises(Stopped):
        tolerate(drive, "current_pi", spreads, 400, stopping=lambda: bool(seen))
    me = os.getpid()

    def dies(number):
        if os.getpid() != me and number == 70:
            os._exit(1)
        return number * number

    assert on_all_processes(dies, range(150)) == [n * n for n in range(150)]


def loop_of(drive):
    return next(each for each in find_loops(drive) if each.key == "current_pi")

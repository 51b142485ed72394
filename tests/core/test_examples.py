"""The shipped drives: each closes its energy, and the trolley goes as Newton has it."""

from pathlib import Path

import numpy as np
import pytest

import pendel
from tests.core.energy import energy_gap

EXAMPLES = Path(pendel.__file__).parent / "examples"
G = 9.80665


@pytest.mark.parametrize("level", ["averaged", "switching"])
@pytest.mark.parametrize("name", sorted(p.stem for p in EXAMPLES.glob("*.pendel")))
def test_each_example_closes_its_energy(name, level):
    d = pendel.open_drive(EXAMPLES / f"{name}.pendel")
    assert not d.check()
    d.set("level", level)
    if d.document.settings["method"] == "fixed":  # of order one
        d.set("method", "auto")
    run = d.run(with_energy=True)
    assert not run.kept.message and energy_gap(run) < 1e-5


@pytest.fixture(scope="module")
def trolley():
    return pendel.open_drive(EXAMPLES / "service_trolley.pendel")


def test_the_trolley_accelerates_as_its_masses_say(trolley):
    """((M − b·ω − P_fe/ω)·n·η/r − R)/(m + J·n²·η/r² + 2·J_w/r²), a gear's loss being a share of the torque that enters it; Gillespie,
    Fundamentals of Vehicle Dynamics, chapter 2 (from memory). On the slope m·g·sin α more holds it back."""
    run = trolley.run()
    v, t = run["trolley.speed"], np.linspace(0.4, 0.9, 200)
    x = {n: np.mean(run.at(n, t)) for n in ("haul_machine.torque", "haul_machine.speed", "haul_machine.iron_loss", "trolley.resistance")}  # fmt: skip
    dragged = 0.05 * x["haul_machine.speed"] + x["haul_machine.iron_loss"] / x["haul_machine.speed"]
    moved = 900 + 0.42 * 25 * 0.96 / 0.28**2 + 2 * 1.5 / 0.28**2
    pull = (x["haul_machine.torque"] - dragged) * 5 * 0.96 / 0.28
    seen = np.polyfit(t, np.interp(t, v.t, v.y), 1)[0]
    assert seen == pytest.approx((pull - x["trolley.resistance"]) / moved, rel=0.005)
    (hill,), (fast,) = run.at("trolley.resistance", [1.5]), run.at("trolley.speed", [1.5])
    slope = np.arctan(0.08)
    assert hill == pytest.approx(
        900 * G * (np.sin(slope) + 0.01 * np.cos(slope)) + 0.5 * 1.2 * 1.8 * fast**2, rel=1e-6
    )


def test_on_a_wet_rail_the_driven_wheels_run_away(trolley):
    """No more than μ·g times the rear axle's share of the load, with what the driving force adds, moves it. The field is weakened
    while they spin, and the observer, which hears the machine and not the road, follows 15 ms behind at most."""
    wet = pendel.Drive(document=trolley.document.copy())
    wet.set("mu_rail", "0.3")
    run = wet.run()
    t = np.linspace(0.5, 0.95, 300)
    slope = np.polyfit(t, run.at("trolley.speed", t), 1)[0]
    most = 0.3 * G * 0.5 / (1 - 0.3 * 0.6 / 1.6)
    assert 0.6 * most < slope < most
    rim = run.at("haul_machine.speed", t) / 5 * 0.28
    assert np.all(rim > 2 * run.at("trolley.speed", t))
    late = np.linspace(0.3, 1.55, 200)
    guess, true = run.at("emf_observer.speed", late), run.at("haul_machine.speed", late)
    lag = (true - guess) / np.gradient(true, late)
    assert np.all((lag > 0) & (lag < 0.015))
    assert np.min(run.at("haul_machine.i_d", late)) < -100


def test_the_feeder_waits_synchronises_and_feeds_in_fixed_steps():
    """Against the adaptive run: current within 0.2 % of its peak, rms, and no voltage that is not there: what is left of a current when
    its diode ends, through a blocked device, once read as a million volts. What is fed is in phase with the grid."""
    d = pendel.open_drive(EXAMPLES / "valley_feeder.pendel")
    fixed = d.run()
    assert fixed.kept.settings["load"] > 0 and not fixed.remarks
    mode = fixed["feeding.mode"]
    assert [m for m, before in zip(mode.y[1:], mode.y) if m != before] == [1] and 0.0599 < mode.t[
        np.argmax(mode.y)
    ] < 0.062
    d.set("method", "auto")
    exact = d.run()
    t = np.linspace(0.1, 0.16, 30_001)[:-1]
    gap = fixed.at("choke.current", t) - exact.at("choke.current", t)
    assert np.sqrt(np.mean(gap**2)) < 2e-3 * 20
    most = [np.max(np.abs(run["feeder_leg.output_voltage"].y)) for run in (fixed, exact)]
    assert most[0] < 1.001 * most[1] < 450
    waves = [
        np.angle(np.sum(fixed.at(k, t) * np.exp(-2j * np.pi * 50 * t)))
        for k in ("choke.current", "grid.voltage")
    ]
    assert abs(np.degrees(waves[0] - waves[1])) < 8

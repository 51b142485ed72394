"""Loops and ways measured in runs, against what is derived from the equations, against runs, and against rational
functions that are known."""

from pathlib import Path

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.drive.file import load, save
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.models.rational import fitted
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.tuning.tolerances import Spread, tolerate
from pendel.core.loops.tuning.tuning import loop_statuses
from pendel.core.loops.tuning.within_limits import Limits, tune

EXAMPLES = Path(pendel.__file__).parent / "examples"


def example(name):
    return load(EXAMPLES / f"{name}.pendel")


def measured(drive):
    return {s.loop.key: s for s in loop_statuses(drive, at=JudgedAt.MEASURED)}


@pytest.fixture(scope="module")
def fan():
    return example("cabin_fan")


@pytest.fixture(scope="module")
def fan_loop(fan):
    return measured(fan)["speed_regulator"]


def test_a_rational_function_is_found_from_its_response():
    """Poles of a lag with two resonances (damping 2 % and 10 %) and a share that goes straight through, all over four
    decades."""
    poles = 2 * np.pi * np.array([-1.5, -0.4 + 20j, -0.4 - 20j, -30 + 300j, -30 - 300j])
    residues = np.array([5.0, 2 - 1j, 2 + 1j, -40 + 10j, -40 - 10j])
    s = 2j * np.pi * np.geomspace(0.1, 1000, 60)
    exact = np.sum(residues / (s[:, None] - poles), axis=1) + 0.003
    fit = fitted(s.imag, exact, 1 / np.abs(exact), 5)
    assert np.max(fit.off) < 1e-9
    assert np.sort_complex(np.linalg.eigvals(fit.A)) == pytest.approx(np.sort_complex(poles), rel=1e-7)
    x = np.linalg.solve(s[:, None, None] * np.eye(5) - fit.A, np.broadcast_to(fit.B, (60, 5, 1)))
    assert (fit.C @ x + fit.D)[:, 0, 0] == pytest.approx(exact, rel=1e-9)


@pytest.mark.parametrize("level", ["averaged", "switching"])
def test_what_is_measured_is_what_follows_from_the_equations(level):
    """A step-up converter at its load: its small-signal model follows from the averaged equations (compared with
    Erickson, Maksimović elsewhere); sines in runs know none of that."""
    drive = example("wayside_supply")
    derived = loop_statuses(drive)[0]
    drive.settings["level"] = level
    found = measured(drive)["voltage_pi"]
    points = found.study.drive.measured
    omega = 2 * np.pi * points.frequency
    ratio = points.response / derived.study.plant_model.response(omega)
    late = 0.0 if level == "averaged" else 10e-6  # averages do not know where in its period of 20 µs a pulse ends
    slow = points.frequency < 5000
    assert np.max(np.abs(20 * np.log10(np.abs(ratio[slow])))) < 0.2
    assert np.all(np.abs(np.angle(ratio[slow])) < np.radians(2) + late * omega[slow])
    m, n = found.judged.margins, derived.judged.margins
    assert m.crossover == pytest.approx(n.crossover, rel=0.01) and m.phase == pytest.approx(n.phase, abs=1.0)
    assert m.ms == pytest.approx(n.ms, rel=0.03) and m.stable


def test_inner_loops_are_in_what_is_measured():
    """The current loops of a turning machine under field orientation, each with the other closed: by their linear
    models."""
    drive = example("haul_drive")
    derived = {s.loop.key: s for s in loop_statuses(drive)}
    for key, found in measured(drive).items():
        m, n = found.judged.margins, derived[key].judged.margins
        assert m.crossover == pytest.approx(n.crossover, rel=0.02) and m.phase == pytest.approx(n.phase, abs=3.0)


def test_block_commutation_is_measured_and_predicts_its_runs(fan, fan_loop):
    """A setpoint step in a run is as slow as the step that the measured loop predicts."""
    assert fan_loop.problem == "" and fan_loop.judged.margins.stable
    seen = fan_loop.study.drive.measured
    assert seen.range[0] < 1.5 and seen.range[1] > 30 and fan_loop.study.drive.limited() == []
    drive = pendel.open(EXAMPLES / "cabin_fan.pendel")
    t, y = fan_loop.judged.step_t, fan_loop.judged.step_y
    drive.set("speed_demand.before", "1700 rpm")
    drive.set("speed_demand.after", "1900 rpm")
    drive.set("speed_demand.t_0", "1.5 s")
    drive.set("speed_demand.duration", "1 us")
    run = drive.run("1.7 s")["hall_decoder.speed"]
    rpm = 60 / (2 * np.pi)
    for after in (0.04, 0.08, 0.12):
        around = (run.t > 1.5 + after - 0.008) & (run.t < 1.5 + after + 0.008)
        share = (np.mean(run.y[around]) * rpm - 1700) / 200
        assert share == pytest.approx(np.interp(after, t, y), abs=0.06)


def test_a_measured_loop_is_tuned_and_keeps_its_limit_as_it_then_runs():
    drive = example("wayside_supply")
    tuned = tune(drive, Limits(ms=1.5, overshoot=15.0), at=JudgedAt.MEASURED)
    assert tuned.left == {} and tuned.searched["voltage_pi"].best.analysis.margins.ms <= 1.501
    tuned.command.apply(drive)
    again = measured(drive)["voltage_pi"].judged.margins
    assert again.ms == pytest.approx(1.5, abs=0.03) and again.stable


def test_ways_are_measured_where_the_drive_runs(capsys, tmp_path):
    path = str(EXAMPLES / "wayside_supply.pendel")
    d = pendel.open(path)
    found = d.transfer("step_up.duty", "step_up.output_voltage", at="measured")
    derived = d.transfer("step_up.duty", "step_up.output_voltage", at="steady")
    f = np.geomspace(50, 2000, 9)
    assert 20 * np.log10(np.abs(found.response(f) / derived.response(f))) == pytest.approx(np.zeros(9), abs=0.3)
    assert "sines" in found.remarks[0] and found.frequencies()[0] == pytest.approx(found.range[0])
    assert (
        main(
            [
                "linear",
                path,
                "--from",
                "voltage_pi.out",
                "--to",
                "voltage_pi.out",
                "--open",
                "voltage_pi.out",
                "--at",
                "measured",
                "--json",
            ]
        )
        == 0
    )
    assert '"phase_margin": 10' in capsys.readouterr().out
    assert main(["loops", path, "--at", "measured"]) == 0
    assert "25.4 Hz" in capsys.readouterr().out


def test_what_cannot_be_measured_is_said(fan):
    def refused(words, drive, **given):
        with pytest.raises(DriveProblem, match=words):
            drive.transfer(
                **{"source": "speed_regulator.out", "target": "hall_decoder.speed", "at": "measured", **given}
            )

    d = pendel.open(EXAMPLES / "cabin_fan.pendel")
    refused("Open nothing but", d, opened=["speed_demand.out"])
    refused("is no signal to look at", d, target="fan_motor.sped")
    refused("is no operating point", d, at="measurd")
    with pytest.raises(DriveProblem, match="steady or measured"):
        d.judge("somewhere")
    d.set("speed_demand.after", "0")
    assert "gives nothing in a run" in d.judge("measured")[0].problem
    d = pendel.open(EXAMPLES / "wayside_supply.pendel")
    d.set("until", "0.2 ms")
    assert "too short" in d.judge("measured")[0].problem
    with pytest.raises(Stopped):
        loop_statuses(fan, at=JudgedAt.MEASURED, stopping=lambda: True)


def test_loops_that_are_coupled_keep_the_limits_together(tmp_path):
    """d and q of a saturated machine: the gains of one change the margins of the other."""
    for name in ("haul_drive_tables.pendel", "haul_flux.csv"):
        (tmp_path / name).write_bytes((EXAMPLES / name).read_bytes())
    drive = load(tmp_path / "haul_drive_tables.pendel")
    tuned = tune(drive, Limits(ms=1.6, overshoot=1e9, phase_margin=0.0))
    tuned.command.apply(drive)
    save(drive, tmp_path / "tuned.pendel")
    for each in loop_statuses(load(tmp_path / "tuned.pendel")):
        assert each.judged.margins.ms == pytest.approx(1.6, rel=0.01)


def test_tolerances_are_judged_where_the_loops_are():
    """At rest and measured, a step-up converter loses the same margin to a load that is off."""
    costs = []
    for at in (JudgedAt.STEADY, JudgedAt.MEASURED):
        found = tolerate(example("wayside_supply"), "voltage_pi", [Spread("R_load", 0.2)], 0, at=at)
        assert len(found.samples) == 3 and all(s.margins.stable for s in found.samples)
        costs.append(min(s.margins.gain for s in found.samples))
    assert costs[0] == pytest.approx(costs[1], rel=0.03)

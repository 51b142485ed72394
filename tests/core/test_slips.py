"""Slips that are told before anything runs, and sources and sensors beside published functions."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.signal

import pendel
from pendel.core.loops.tuning.tuning import relevant_poles
from pendel.core.runs.remarks.swings import swing_of


def test_friction_that_eats_the_speed_is_told_with_its_share():
    """At a voltage and without load, ω = U·k/(k² + b·R) (the straight line of the machine, Leonhard section 5.2)."""
    d = pendel.Drive("Friction")
    d.add("brushed_dc", "Motor", R_a="0.5 ohm", k_t="0.1 N*m/A")
    for b, share in (("0", 0.0), ("1e-4", 0.5e-2), ("5e-3", 0.2)):
        d.set("motor.b_m", f"{b} N*m*s")
        told = [str(f) for f in d.check() if "friction" in str(f)]
        assert told == [] if share < 0.1 else f"takes {100 * share:.0f} % off" in told[0]
    d.set("motor.b_m", "5e-3 N*m*s")
    d.add("dc_source", "Supply", U_0="10 V", R_i="0 ohm")
    d.connect("supply", "motor")
    d.set("until", "3 s")
    d.add("inertia", "Wheel", J="1e-5 kg*m^2")
    d.connect("motor", "wheel.a")
    assert d.run()["motor.speed"].y[-1] == pytest.approx(10.0 / 0.1 * (1.0 - 0.2), rel=1e-3)
    d.add("pmsm", "Other", R_s="1 ohm", psi_f="0.05 Wb", p="4", b_m="0.01 N*m*s")
    assert any(f.card == "other" and "14 %" in str(f) for f in d.check())


def test_a_dead_time_shorter_than_turning_off_is_told_at_the_level_of_devices_only():
    d = pendel.open_example("haul_drive")
    d.set("inverter.t_dead", "0")
    for level, count in (("averaged", 0), ("switching", 0), ("device", 1)):
        d.set("level", level)
        told = [f for f in d.check() if f.field == "t_dead"]
        assert len(told) == count
    assert "300 ns" in str(told[0])
    d.set("inverter.t_dead", "0.4 us")
    assert not [f for f in d.check() if f.field == "t_dead"]


def test_an_angle_that_is_held_while_the_field_turns_is_told_and_read_at_each_tick():
    d = pendel.open_example("haul_drive")
    (encoder,) = [key for key, card in d.document.cards.items() if card.kind == "position_sensor"]
    d.set(f"{encoder}.every", "20")
    (told,) = [f for f in d.check() if "lags behind the rotor" in str(f)]
    assert told.card == encoder and "every 20 ticks and held for 2 ms" in str(told)
    d.do(told.fix)
    assert not [f for f in d.check() if "lags" in str(f)]
    d.undo()
    assert [f for f in d.check() if "lags" in str(f)]


@pytest.mark.parametrize(("way", "method"), [("in equal ratios", "logarithmic"), ("in even steps", "linear")])
def test_a_swept_sine_is_that_of_scipy_and_begins_again(way, method):
    d = pendel.Drive("Sweep")
    d.set("tick", "100 us")
    d.set("until", "0.75 s")
    d.add("swept_sine", "Sweep", f_0="80", f_1="5", duration="0.5 s", amplitude="2 V", choices={"way": way})
    run = d.run()["sweep.out"]
    once = run.t < 0.5 - 1e-9
    wanted = 2.0 * scipy.signal.chirp(run.t[once], 80.0, 0.5, 5.0, method, phi=-90)
    np.testing.assert_allclose(run.y[once], wanted, atol=1e-5)
    crossings = np.flatnonzero(np.diff(np.sign(run.y[~once])))
    assert (crossings[1] - crossings[0]) * 1e-4 == pytest.approx(0.5 / 80.0, rel=0.1), "fast again"
    assert np.max(np.abs(np.diff(run.y))) < 2.0 * 2.0 * np.pi * 80.0 * 1e-4 * 1.01, "without a jump"


@pytest.mark.parametrize("number", ["float32", "fixed32", "fixed16"])
def test_a_swept_sine_is_shipped_within_what_its_words_hold(number):
    d = pendel.Drive("Sweep")
    d.set("until", "1 s")
    d.add("swept_sine", "Sweep", f_0="5", f_1="80", duration="0.5 s")
    exact = d.run()["sweep.out"].y
    d.set("number_format", number)
    d.find_ranges()
    d.set("controller", "as shipped")
    assert np.max(np.abs(d.run()["sweep.out"].y - exact)) < (2e-2 if number == "fixed16" else 1e-4)


def test_noise_is_normal_white_and_the_same_for_the_same_seed():
    d = pendel.Drive("Noise")
    d.set("until", "2 s")
    d.add("noise", "Noise", rms="3 A", mean="1 A")
    y = d.run()["noise.out"].y
    n = len(y)
    assert abs(y.mean() - 1.0) < 5.0 * 3.0 / np.sqrt(n) and abs(y.std() / 3.0 - 1.0) < 5.0 / np.sqrt(2.0 * n)
    assert abs(np.corrcoef(y[1:], y[:-1])[0, 1]) < 5.0 / np.sqrt(n)
    assert np.array_equal(d.run()["noise.out"].y, y)
    d.set("seed", "2")
    assert not np.array_equal(d.run()["noise.out"].y, y)


def test_a_bandwidth_of_a_sensor_is_a_lag_that_begins_with_what_is_measured():
    """Beside SciPy's filter; the current is followed from its first value on, not from zero."""
    d = pendel.open_example("car_door_drive")
    d.start("door_motor", i="5 A")
    d.set("current_sensor.bandwidth", "2 kHz")
    run = d.run(0.05)
    seen = run["current_sensor.value"]
    measured = run.at("door_motor.current", seen.t)
    a = 1.0 - np.exp(-2.0 * np.pi * 2e3 * 50e-6)
    wanted, _ = scipy.signal.lfilter([a], [1.0, a - 1.0], measured, zi=[(1.0 - a) * measured[0]])
    np.testing.assert_allclose(seen.y, wanted, atol=1e-9)
    assert seen.y[0] == pytest.approx(5.0)
    d.set("current_sensor.mode", "ideal")
    ideal = d.run(0.05)
    assert np.array_equal(ideal["current_sensor.value"].y, ideal.at("door_motor.current", seen.t))


def test_what_only_remembers_never_makes_a_loop_unstable():
    """A state that only keeps what it began with is a pole at 1; a hundred of them are no integrator's chain."""
    rng = np.random.default_rng(1)
    inside = np.diag([0.9, 0.8, 0.5]) + 0.05 * np.triu(rng.normal(size=(3, 3)), 1)
    count = 40
    phi = np.zeros((3 + count, 3 + count))
    phi[:3, :3] = inside
    phi[3:, 3:] = np.eye(count) + np.diag(np.ones(count - 1), -1)
    phi[3:, :3] = rng.normal(size=(count, 3))
    turned = np.eye(3 + count)[rng.permutation(3 + count)]
    gamma, row = np.zeros((3 + count, 1)), np.zeros(3 + count)
    gamma[:, 0], row[:3] = 1.0, 1.0
    poles = relevant_poles(turned @ phi @ turned.T, turned @ gamma, turned @ row)
    np.testing.assert_allclose(np.sort(np.abs(poles)), [0.5, 0.8, 0.9], rtol=1e-12)
    phi[5, 5] = 1.02
    assert np.max(np.abs(relevant_poles(phi, gamma, row))) == pytest.approx(1.02), "what grows elsewhere is told"


def test_a_regulator_that_may_give_more_than_a_duty_gets_a_pulse_stage_between_or_is_limited():
    d = pendel.open_example("car_door_drive")
    t = np.linspace(0, 0.2, 500)
    before = d.run("0.2 s")["door_motor.current"].at(t)
    d.remove("pulse_stage")
    d.connect("current_pi.out", "bridge.duty")
    (found,) = [each for each in d.check() if "cut off" in each.sentence]
    assert "−46.08 to 46.08" in found.sentence and found.fix_label == "Put a pulse stage between"
    d.do(found.fix)
    assert not d.check() and np.allclose(d.run("0.2 s")["door_motor.current"].at(t), before, atol=0.3), (
        "laid out for the nominal link"
    )
    d.undo()
    for low, high, left in (("-1.2", "0.9", ("-1", "0.9")), ("-1", "1.1", ("-1", "1"))):
        d.set("current_pi.low", low)
        d.set("current_pi.high", high)
        (found,) = [each for each in d.check() if "cut off" in each.sentence]
        assert found.fix_label == "Limit it to that"
        d.do(found.fix)
        assert (d.card("current_pi").texts["low"], d.card("current_pi").texts["high"]) == left
        assert not [each for each in d.check() if "cut off" in each.sentence]


@pytest.mark.parametrize("times", [1, 3, 6, 12, 30])
def test_a_run_says_of_a_loop_that_swings_at_its_rate_what_its_model_says(times):
    d = pendel.open_example("car_door_drive")
    d.set("K_i", f"{times}*({d.document.quantities['K_i'].text})")
    stable = next(loop.stable for loop in d.judge() if loop.regulator == "current_pi")
    swinging = [each for each in d.run(0.3).kept.remarks if "swings up and down" in each.sentence]
    assert bool(swinging) is not stable and all(each.card == "current_pi" for each in swinging)


def test_a_manager_too_slow_for_what_it_decides_is_remarked():
    d = pendel.open_example("day_of_trips")
    assert not any("swings up and down" in remark for remark in d.run().remarks)
    d.set("split.every", "20")
    assert any(remark.startswith("Driver swings up and down") for remark in d.run().remarks)


def test_the_last_digit_of_a_sensor_is_no_swing():
    rng = np.random.default_rng(3)
    assert swing_of(0.5 + 0.01 * (np.arange(400) % 2), reach=2.0) is None
    assert swing_of(rng.normal(size=4000), reach=0.0) is None, "noise has no even swings"
    assert swing_of(np.sin(2 * np.pi * np.arange(400) / 12), reach=0.0) is None, "twelve periods are no sign of it"
    assert swing_of(np.r_[np.zeros(50), np.sin(2 * np.pi * np.arange(400) / 6)], reach=0.0) in range(49, 56)
    assert swing_of(np.zeros(0), 1.0) is None and swing_of(np.full(9, np.nan), 1.0) is None

"""Margins, rules and measures against textbooks, python-control and SciPy."""

import math
from dataclasses import replace
from pathlib import Path

import control
import numpy as np
import pytest

import pendel
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations
from pendel.core.drive.file import from_text, load, to_text
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.margins import margins
from pendel.core.loops.models.transfer import Ends, transfer
from pendel.core.loops.regulators.find import find_loops
from pendel.core.loops.tuning import tuning
from pendel.core.loops.tuning.gains import in_formula, take_gains
from pendel.core.loops.tuning.rules.lag_plant import LagPlant
from pendel.core.loops.tuning.rules.magnitude_optimum import magnitude_optimum
from pendel.core.loops.tuning.rules.symmetrical_optimum import symmetrical_optimum
from pendel.core.loops.tuning.tuning import loop_statuses, propose_all, study_of
from pendel.core.runs.preparing.simulate import averaged, prepare
from pendel.core.runs.record.measures import dip_measures, mean, rms, step_measures


def test_margins_agree_with_python_control():
    plant = control.tf([40], [0.01, 1.0, 0]) * control.tf([1], [0.002, 1])
    frequency = np.geomspace(0.01, 1000, 4000)
    response = plant(2j * np.pi * frequency)
    gain, phase, _, crossover = control.margin(plant)
    found = margins(frequency, response, stable=True)
    assert found.gain == pytest.approx(gain, rel=1e-4)
    assert found.phase == pytest.approx(phase, abs=0.01)
    assert found.crossover == pytest.approx(crossover / 2 / math.pi, rel=1e-4)
    distance = np.min(np.abs(1 + plant(1j * np.geomspace(1, 1e4, 200000))))
    assert found.ms == pytest.approx(1 / distance, rel=1e-4)


@pytest.mark.parametrize(("rule", "overshoot"), [("magnitude", 4.3), ("symmetrical", 43.4)])
def test_optima_overshoot_as_the_textbook_says(rule, overshoot):
    # Leonhard, Control of Electrical Drives, 3rd ed., sections 7.1 and 14: 4.3 % and 43.4 % on their model plants.
    K, T1, Ts = 2.0, 0.1 if rule == "magnitude" else 1e4, 0.001
    gains = (magnitude_optimum if rule == "magnitude" else symmetrical_optimum)(LagPlant(K, T1, Ts))
    plant = control.tf([K], [T1, 1]) * control.tf([1], [Ts, 1])
    pi = control.tf([gains.K_p * gains.T_i, gains.K_p], [gains.T_i, 0])
    t, y = control.step_response(control.feedback(plant * pi), np.linspace(0, 0.05, 20000))
    assert step_measures(t, y, 0.0, 1.0).overshoot == pytest.approx(overshoot, abs=0.2)


def test_step_measures_agree_with_second_order_formulas():
    # Åström, Murray: Feedback Systems, 2nd ed., section 7.3: overshoot exp(−πζ/√(1−ζ²)).
    zeta, w = 0.4, 50.0
    t, y = control.step_response(control.tf([w * w], [1, 2 * zeta * w, w * w]), np.linspace(0, 0.6, 60000))
    found = step_measures(t, y, 0.0, 1.0)
    assert found.overshoot == pytest.approx(100 * math.exp(-math.pi * zeta / math.sqrt(1 - zeta**2)), rel=1e-3)
    info = control.step_info(control.tf([w * w], [1, 2 * zeta * w, w * w]), T=t, SettlingTimeThreshold=0.02)
    assert found.settling == pytest.approx(info["SettlingTime"], rel=1e-2)
    assert found.rise == pytest.approx(info["RiseTime"], rel=1e-2)
    assert math.isnan(step_measures(t[:500], y[:500], 0.0, 1.0).settling)


def test_dip_mean_and_rms():
    t = np.linspace(0, 1, 10001)
    y = 10 - 2 * np.exp(-t / 0.05) * (t / 0.05) * math.e
    dip = dip_measures(t, y, 10.0)
    assert dip.dip == pytest.approx(-2.0, rel=1e-6)
    assert dip.percent == pytest.approx(20.0, rel=1e-6)
    assert 0.2 < dip.recovery < 0.3
    assert mean(t, np.sin(2 * np.pi * t)) == pytest.approx(0.0, abs=1e-12)
    assert rms(t, np.sin(2 * np.pi * t)) == pytest.approx(math.sqrt(0.5), rel=1e-7)


def test_loops_of_the_door_drive_are_found_inside_out(door):
    loops = find_loops(door)
    assert [(x.label, x.regulator) for x in loops] == [("Current", "current_pi"), ("Speed", "speed_pi")]


def lag_drive(T=0.05, K_p="3", T_i="20"):
    """A PI regulator around an own-equations first-order lag, sampled every 1 ms with a tick of computing delay."""
    d = pendel.Drive("Lag")
    d.set("tick", "1 ms")
    d.add("dc_source", "Feed", U_0="1", R_i="0")
    d.add("four_quadrant_bridge", "Stage", R_on="0")
    d.add(
        "own",
        "Lag",
        own=OwnEquations(("el: dc, u, i",), (f"T = {T} s",), ("x = 0 V",), (), ("i = 0", "T*der(x) = u - x")),
    )
    d.add("voltage_sensor", "Sensor")
    d.add("pi", "Loop", K_p=K_p, T_i=T_i, low="-1", high="1")
    d.add("step", "Wish", before="0", after="0.2", t_0="0")
    for a, b in (
        ("feed.dc", "stage.dc"),
        ("stage.out", "lag.el"),
        ("lag.x", "sensor.measured"),
        ("sensor.value", "loop.actual"),
        ("wish.out", "loop.setpoint"),
        ("loop.out", "stage.duty"),
    ):
        d.connect(a, b)
    return d


def test_open_loop_with_sampling_and_delay_agrees_with_python_control():
    d = lag_drive()
    prepared = prepare(d.document)
    study = study_of(prepared, find_loops(d.document, prepared.deck)[0])
    plant = control.c2d(control.tf([1], [0.05, 1]), 1e-3, "zoh") * control.tf([1], [1, 0], 1e-3)
    pi = 3.0 * (1 + 1e-3 / 0.02 * control.tf([1, 0], [1, -1], 1e-3))
    reference = (plant * pi)(np.exp(2j * np.pi * study.frequency * 1e-3))
    np.testing.assert_allclose(study.open_loop(study.gains_now), reference, rtol=1e-8)
    assert study.delay == pytest.approx(1.5e-3)


def test_a_continuous_view_has_its_delays_as_such(door):
    """A lag with PI, in closed form, to eight times half the sampling rate: hold (1 − e^(−sT))/(sT), computing delay
    e^(−sT), PI as its sums are. Loops of several rates: the sampled model up to a thirtieth of their sampling rate
    (aliases are below)."""
    d = lag_drive()
    prepared = prepare(d.document)
    study = study_of(prepared, find_loops(d.document, prepared.deck)[0])
    study.continuous = True
    f, L = study.reaching_down(study.gains_now)
    s, T = 2j * np.pi * f, 1e-3
    hold, pi = (1 - np.exp(-s * T)) / (s * T), 3.0 * (1 + T / 0.02 / (1 - np.exp(-s * T)))
    np.testing.assert_allclose(L, pi * hold * np.exp(-s * T) / (1 + 0.05 * s), rtol=1e-8)
    assert f[-1] == pytest.approx(4000.0) and study.analyse(study.gains_now).margins.stable
    drives = [door, load(EXAMPLES / "haul_drive.pendel"), load(EXAMPLES / "old_haul_drive.pendel")]
    seen = 0
    for status in (each for drive in drives for each in loop_statuses(drive)):
        study, slow = status.study, status.judged.frequency < 1 / 30 / status.study.dt
        study.continuous = True
        f, L = study.reaching_down(study.gains_now)
        smooth = np.interp(status.judged.frequency, f, L.real) + 1j * np.interp(status.judged.frequency, f, L.imag)
        ratio = (smooth / status.judged.response)[slow]
        assert np.max(np.abs(np.abs(ratio) - 1)) < 0.02 and np.max(np.abs(np.angle(ratio))) < 0.02
        seen += 1
    assert seen == 8
    around = Ends("current_pi.out", "current_pi.out", ("current_pi.out",), "rest")
    f, way = transfer(prepare(averaged(door)), around).smooth
    lifted = transfer(prepare(averaged(door)), around).response(f[f < 600])
    np.testing.assert_allclose(way[f < 600], lifted, rtol=0.01)


def test_linear_step_matches_the_run_sample_by_sample():
    d = lag_drive()
    prepared = prepare(d.document)
    study = study_of(prepared, find_loops(d.document, prepared.deck)[0])
    judged = study.analyse(study.gains_now)
    run = d.run(0.05)
    n = min(len(judged.step_y), 50)
    np.testing.assert_allclose(run["sensor.value"].y[:n], 0.2 * judged.step_y[:n], atol=2e-7)


def test_multirate_speed_loop_matches_a_small_step_of_the_run(door):
    """The lifted model of the cascade against the nonlinear simulation, small enough to stay between limits."""
    d = pendel.Drive(document=door)
    d.set("supply.R_i", "0")
    d.set("sensors", "ideal")
    d.set("rail.F_c", "0")
    d.set("rail.F_s", "0")
    d.set("gear.eta", "100")
    d.add("step", "Wish", before="0 m/s", after="0.01 m/s", t_0="0", every="20")
    from pendel.core.drive import commands

    commands.remove_wires(door, ["travel_plan.speed -> speed_pi.setpoint"]).apply(door)
    d.connect("wish.out", "speed_pi.setpoint")
    prepared = prepare(door)
    study = study_of(prepared, find_loops(door, prepared.deck)[1])
    judged = study.analyse(study.gains_now)
    run = d.run(0.2)
    seen = run["travel_speed.out"].y[::20][:100]
    np.testing.assert_allclose(seen, 0.01 * judged.step_y[:100], atol=2e-5)


def test_proposed_crossover_is_reached_and_gains_are_taken_in_one_step(door):
    prepared = prepare(door)
    loop = find_loops(door, prepared.deck)[0]
    study = study_of(prepared, loop)
    gains = study.propose("crossover", crossover=900.0)
    judged = study.analyse(gains)
    assert judged.margins.crossover == pytest.approx(900, rel=2e-3)
    assert judged.margins.phase > 55
    motor = prepared.model.network.parameters
    assert gains["T_i"] == pytest.approx(motor["door_motor.L_a"][1] / motor["door_motor.R_a"][1], rel=0.15)
    command = take_gains(door, loop, gains)
    command.apply(door)
    assert door.quantities["K_i"].text.endswith("V/A")
    again = prepare(door)
    assert again.deck.block("current_pi").values["K_p"] == pytest.approx(gains["K_p"], rel=1e-3)
    command.revert(door)
    assert door.quantities["K_i"].text == "1.2 V/A"


def test_linear_model_between_taps_matches_the_machine_equations(door):
    d = pendel.Drive(document=door)
    model = d.linear("bridge.duty", "i_door")
    assert model.dt == 0
    static = abs(model.response(np.array([2 * math.pi * 2000.0]))[0])
    p = prepare(door).model.network.parameters
    r = p["door_motor.R_a"][1] + 2 * 0.006
    assert static == pytest.approx(48 / abs(r + 1j * 2 * math.pi * 2000 * p["door_motor.L_a"][1]), rel=1e-2)


def test_dead_time_is_no_resistance_in_the_loops():
    # t_d·f·u·sign(i) has no slope once current flows, so the loop's figures are those without dead time.
    d = pendel.open("src/pendel/examples/car_door_drive.pendel")
    omega = 2 * math.pi * np.geomspace(1, 1000, 30)
    clean = d.linear("bridge.duty", "i_door").response(omega)
    d.set("bridge.t_dead", "1 us")
    np.testing.assert_allclose(d.linear("bridge.duty", "i_door").response(omega), clean, rtol=1e-9)


EXAMPLES = Path(pendel.__file__).parent / "examples"


def test_current_loops_in_d_and_q_cross_where_the_textbook_puts_them():
    # Leonhard, Control of Electrical Drives, 3rd ed., chapter 14: a regulator that cancels the winding's pole with
    # K = ω_c·L crosses at ω_c; 1.5 ticks of hold and delay take 360°·1.5·f·T off the margin of 90°.
    d = pendel.open_drive(EXAMPLES / "haul_drive.pendel")
    found = {each.loop.key: each for each in loop_statuses(d.document)}
    for axis in "dq":
        m = found[f"current_regulator.u_{axis}"].judged.margins
        assert m.crossover == pytest.approx(400.0, rel=3e-3)
        assert m.phase == pytest.approx(90.0 - 360.0 * 1.5 * 400.0 * 100e-6, abs=0.3)


def test_regulator_by_tables_is_judged_by_its_tables():
    d = pendel.open_drive(EXAMPLES / "haul_drive_tables.pendel")
    for axis in "dq":
        d.document.cards["current_regulator"] = replace(
            d.document.cards["current_regulator"],
            kind="dq_regulator_tables",
            flux=d.document.cards["haul_machine"].flux,
        )
        d.set("current_regulator.f_c", "350 Hz")
        prepared = prepare(d.document)
        loop = next(each for each in find_loops(d.document, prepared.deck) if each.key.endswith(f"u_{axis}"))
        study = study_of(prepared, loop)
        # gains of 2π·f_c times the machine's own incremental inductance cross at f_c whatever the saturation
        assert study.analyse(study.gains_now).margins.crossover == pytest.approx(350.0, rel=0.02)
        assert study.propose("crossover", crossover=500.0)["K_p"] == pytest.approx(500.0, rel=0.03)
        with pytest.raises(pendel.core.errors.DriveProblem, match="only its bandwidth"):
            study.propose("magnitude")


def test_speed_loop_of_an_induction_drive_is_judged_with_its_flux_built_up():
    # At rest without flux no current makes torque. Built up, K_p·(1 + 1/(s·T_i)) acts on k_T/(J·s) within the current
    # loop's bandwidth, with k_T = 1.5·p·ψ·L_m/L_r (Leonhard, section 12.2): the crossover follows from these alone.
    d = pendel.open_drive(EXAMPLES / "old_haul_drive.pendel")
    found = {each.loop.key: each for each in loop_statuses(d.document)}
    speed, flux = found["speed_regulator"], found["flux_regulator"]
    assert not speed.study.drive.point.calm
    inertia = 1.0 / (2 * math.pi * 60.0 * abs(np.interp(60.0, speed.study.frequency, speed.study.G.imag)))
    K, T = speed.study.gains_now["K_p"], speed.study.gains_now["T_i"]
    w = K / inertia  # |K (1 + 1/(jωT)) / (jωJ)| = 1
    expected = math.sqrt((w * w + math.sqrt(w**4 + 4 * (w / T) ** 2)) / 2) / (2 * math.pi)
    assert speed.judged.margins.crossover == pytest.approx(expected, rel=0.04)
    assert flux.loop.label == "Flux" and flux.judged.margins.crossover == pytest.approx(4.0, rel=0.02)
    parts = prepare(d.document).examined.values
    m = parts["old_machine"]
    torque_constant = 1.5 * m["p"] * m["L_m"] / (m["L_m"] + m["L_r1"]) * 0.9  # at the demanded flux of 0.9 Wb
    assert inertia == pytest.approx((m["J_m"] + parts["drum"]["J"]) / torque_constant, rel=0.02)


def test_loop_over_hall_sensors_says_where_it_moves_in_steps():
    d = pendel.open_drive(EXAMPLES / "cabin_fan.pendel")
    (only,) = loop_statuses(d.document)
    assert only.study is None and only.problem.startswith("Hall sensors passes no small change on")


@pytest.mark.parametrize("example", ["old_haul_drive", "car_door_drive"])
def test_gains_of_all_loops_are_proposed_inside_out_in_one_step(example):
    document = pendel.open_drive(EXAMPLES / f"{example}.pendel").document
    before = to_text(document)
    proposal = propose_all(document)
    assert not proposal.left
    proposal.command.apply(document)
    after = loop_statuses(document)
    assert {each.loop.key for each in after} == set(proposal.served)
    assert all(each.judged.margins.damped for each in after)
    inner = min(each.judged.margins.crossover for each in after if each.loop.depth == 0)
    assert all(each.judged.margins.crossover < 0.2 * inner for each in after if each.loop.depth)
    marks = [n for c in document.cards.values() for n in c.proposed if c.is_proposed(n)]
    notes = [n for n, q in document.quantities.items() if q.note.startswith("proposed for")]
    assert len(marks) + len(notes) >= 4
    assert to_text(from_text(to_text(document))) == to_text(document)
    commands.set_quantity(document, notes[0], "1").apply(document)
    assert not document.quantities[notes[0]].note
    proposal.command.revert(document)
    assert to_text(document) == before


def test_loops_stand_the_same_however_often_they_are_judged(door):
    first, second = (loop_statuses(door) for _ in range(2))  # the second finds the ordered equations in the cache
    for a, b in zip(first, second):
        assert a.study.drive.point.name == b.study.drive.point.name == "at rest"
        np.testing.assert_allclose(a.study.drive.plant.A, b.study.drive.plant.A, rtol=1e-9, atol=1e-9)


def test_a_quantity_that_others_use_is_not_written_over_by_gains(door):
    loop = find_loops(door)[0]
    commands.set_quantity(door, "K_twice", "2 * K_i").apply(door)
    take_gains(door, loop, {"K_p": 2.5}).apply(door)
    assert door.quantities["K_i"].text == "1.2 V/A"
    assert door.cards["current_pi"].is_proposed("K_p")
    assert prepare(door).deck.block("current_pi").values["K_p"] == pytest.approx(2.5)


def test_a_loop_below_a_resonance_begins_slow_and_integrating():
    """The step-up converter's voltage loop: the usual first crossover lies beyond the resonance of choke and capacitor,
    turned by the duty, at (1 − D)/(2π√(LC)) (Erickson and Maksimović, Fundamentals of Power Electronics, 2nd ed.,
    section 8.2.2), where a PI cannot hold it. The proposal begins well below, and is what is proposed for all."""
    d = pendel.open_drive(EXAMPLES / "wayside_supply.pendel")
    resonance = 60 / 150 / (2 * np.pi * np.sqrt(220e-6 * 470e-6))
    (standing,) = tuning.loop_statuses(d.document)
    assert tuning.default_crossover(standing.study, [standing]) > resonance
    assert 5 < standing.begin < 0.35 * resonance
    gains = standing.study.propose("crossover", crossover=standing.begin)
    judged = standing.study.analyse({**standing.study.gains_now, **gains})
    assert judged.margins.damped and judged.margins.crossover == pytest.approx(standing.begin, rel=0.01)
    assert gains["T_i"] >= standing.study.dt * (1 - 1e-12)
    assert d.propose_all_gains() == {}
    d.set("until", "0.4 s")
    run = d.run()
    late = run.at("step_up.output_voltage", np.linspace(0.3, 0.4, 200))
    assert np.max(np.abs(late - 150)) < 2


def test_pulses_and_waves_are_no_response_to_a_step():
    t = np.linspace(0, 0.02, 4001)
    pulsed = np.where((t * 20e3) % 1 < 0.5, 560.0, -560.0)
    assert all(math.isnan(x) for x in vars(step_measures(t, pulsed, -560.0, -559.0)).values())
    ringing = 1 - np.exp(-20 * t) * np.cos(2 * np.pi * 300 * t)  # a response, however badly damped
    assert step_measures(t, ringing, 0.0, 1.0).overshoot > 90


def test_a_signal_that_parts_and_joins_many_times_changes_no_loop():
    """Halves of the current setpoint go by two ways and are added again, forty times in a row: a million million ways
    in all through blocks that together do nothing. Loops and their figures stay as they were."""
    example = Path(pendel.__file__).parent / "examples" / "car_door_drive.pendel"
    plain, ladder = pendel.open_drive(example), pendel.open_drive(example)
    wire = "speed_pi.out -> current_pi.setpoint"
    commands.remove_wires(ladder.document, [wire]).apply(ladder.document)
    now = "speed_pi.out"
    for k in range(40):
        for half in "AB":
            ladder.add("gain", f"{half}{k}", K="0.5")
            ladder.connect(now, f"{half.lower()}{k}.x")
        ladder.add("sum", f"C{k}")
        ladder.connect(f"a{k}.out", f"c{k}.a")
        ladder.connect(f"b{k}.out", f"c{k}.b")
        now = f"c{k}.out"
    ladder.connect(now, "current_pi.setpoint")
    told = [
        [
            (s.loop.key, s.loop.depth, s.judged.margins.crossover, s.judged.margins.phase)
            for s in loop_statuses(d.document)
        ]
        for d in (plain, ladder)
    ]
    assert [row[:2] for row in told[0]] == [row[:2] for row in told[1]] == [("current_pi", 0), ("speed_pi", 1)]
    np.testing.assert_allclose([r[2:] for r in told[0]], [r[2:] for r in told[1]], rtol=1e-6)


def test_a_loop_is_marked_once_the_one_inside_was_changed(tmp_path):
    d = pendel.open_example("car_door_drive")
    assert [r.changed_inside for r in d.judge()] == [(), ()]
    d.propose_all_gains()
    assert [r.changed_inside for r in d.judge()] == [(), ()]
    now = d.card("current_pi")["K_p"]
    d.set("K_i", f"{1.5 * now} V/A")
    assert [r.changed_inside for r in d.judge()] == [(), ("current_pi",)]
    d.rename("current_pi", "Inner PI")
    d.save(tmp_path / "door.pendel")
    d = pendel.open_drive(tmp_path / "door.pendel")
    assert [r.changed_inside for r in d.judge()] == [(), ("inner_pi",)]
    d.tune("speed_pi")
    assert [r.changed_inside for r in d.judge()] == [(), ()]
    d.undo()
    assert [r.changed_inside for r in d.judge()] == [(), ("inner_pi",)]
    d.set("K_i", f"{now} V/A")
    assert [r.changed_inside for r in d.judge()] == [(), ()], "it is as it was when the outer one was tuned"


def test_a_comparison_closes_a_loop_with_what_follows_it():
    """The valley filter's z-transfer function behind Compare: L by another tap of the same loop; it has no gains. What
    feeds a regulator's error is that regulator's loop."""
    drive = load(EXAMPLES / "valley_filter.pendel")
    found = {s.loop.key: s for s in loop_statuses(drive)}["current_error"]
    way = transfer(
        prepare(averaged(drive)),
        Ends("loop_gain.out", "loop_gain.out", ("loop_gain.out", "current_setpoint.out"), "built up"),
    )
    f = np.geomspace(5, 8000, 40)
    L = -found.study.regulator_at({}, f) * found.study.plant_at(f)
    assert np.abs(L + way.response(f)) == pytest.approx(np.zeros(40), abs=1e-3), np.abs(L / way.response(f))
    assert found.judged.margins.stable and found.study.gains_now == {} and math.isnan(found.begin)
    with pytest.raises(DriveProblem, match="has no gains"):
        found.study.propose("crossover")
    proposal = propose_all(drive)
    assert proposal.served == () and "no gains of its own" in proposal.left["Current error"]
    d = pendel.open(EXAMPLES / "car_door_drive.pendel")
    d.add("compare", "Error")
    for wire in list(d.document.wires.values()):
        if str(wire.b) == "current_pi.actual":
            source, setpoint = (
                str(wire.a),
                next(str(w.a) for w in d.document.wires.values() if str(w.b) == "current_pi.setpoint"),
            )
    for key, wire in list(d.document.wires.items()):
        if str(wire.b) in ("current_pi.actual", "current_pi.setpoint"):
            d.do(commands.remove_wires(d.document, [key]))
    d.add("constant", "Nothing", value="0 A")
    for a, b in (
        (setpoint, "error.setpoint"),
        (source, "error.actual"),
        ("error.out", "current_pi.setpoint"),
        ("nothing.out", "current_pi.actual"),
    ):
        d.connect(a, b)
    loops = {loop.key: loop for loop in d.loops()}
    assert "current_pi" in loops and "error" not in loops


@pytest.mark.parametrize("continuous", [False, True])
def test_a_slow_loop_crosses_where_its_factors_say(door, continuous):
    """At 0.76 mHz, where the loop as usual begins at 1 Hz: |L| is that of PI and plant, and so is its phase."""
    drive = pendel.Drive(document=door)
    K_p, T_i = 1e-3, 1.0
    drive.set("speed_pi.K_p", f"{K_p} A*s/m")
    drive.set("speed_pi.T_i", f"{T_i} s")
    loop = next(x for x in drive.judge(continuous=continuous) if x.regulator == "speed_pi")
    plant = drive.transfer("speed_pi.out", "travel_speed.out", opened=["speed_pi.out"], at="rest")
    L = K_p * (1 + 1 / (2j * np.pi * loop.crossover * T_i)) * plant.response(np.array([loop.crossover]))[0]
    assert loop.crossover == pytest.approx(7.59e-4, rel=1e-2)
    assert abs(L) == pytest.approx(1, rel=1e-3)
    assert np.degrees(np.angle(-L)) == pytest.approx(loop.phase_margin, abs=0.1)


def test_a_converter_that_is_unsteady_at_first_gets_gains_from_its_plant_alone():
    """V/(1 + s·L/R + s²·L·C) from duty to output (Erickson, Maksimović: Fundamentals of Power Electronics, 8.2, from
    memory), whatever the gains are at first."""
    d = pendel.Drive("Step-down")
    d.add("dc_source", "Supply", U_0="48 V", R_i="1 uohm")
    d.add("step_down", "Stage", R_L="0", R_C="0", R_on="1 uohm", V_d="0", R_d="1 uohm")
    d.add("pair_opener", "Ends")
    d.add("resistor", "Load", R="5 ohm")
    d.add("voltage_sensor", "Sensor")
    d.add("pi", "Regulator", K_p="1", T_i="10 ms", low="0", high="1")
    d.add("step", "Demand", before="12 V", after="24 V", t_0="5 ms")
    wires = ("supply.dc stage.dc", "stage.out ends.pair", "ends.plus load.a", "ends.minus load.b")
    wires += ("stage.output_voltage sensor.measured", "demand.out regulator.setpoint", "sensor.value regulator.actual")
    for pair in (*wires, "regulator.out stage.duty"):
        d.connect(*pair.split())
    d.set("until", "30 ms")
    prepared = prepare(averaged(d.document))
    study = study_of(prepared, find_loops(d.document, prepared.deck)[0])
    assert study.drive.point.name == "at rest, the output of regulator held"
    assert study.drive.point.signals["sensor.value"] == pytest.approx(24, abs=0.05)
    f = np.array([10.0, 100, 500, 1000])
    s = 2j * np.pi * f
    exact = 48 / (1 + s * 100e-6 / 5 + s * s * 100e-6 * 220e-6)
    assert np.abs(study.plant_model.response(2 * np.pi * f)) == pytest.approx(np.abs(exact), rel=5e-3)
    (before,) = d.judge()
    assert not before.stable and not before.problem
    d.do(propose_all(d.document).command)
    (after,) = d.judge()
    assert after.stable and after.phase_margin > 45
    reached = d.run(0.03)["stage.output_voltage"]
    assert reached.y[-1] == pytest.approx(24, rel=0.02) and reached.y.max() < 24 * 1.1


def test_gains_that_follow_a_formula_go_on_following_it():
    d = pendel.open_example("haul_drive")
    before = {loop.name: loop.crossover for loop in d.judge()}
    d.do(propose_all(d.document).command)
    texts = {name: d.document.quantities[name].text for name in ("K_d", "T_d", "K_q", "T_q")}
    assert all("*(" in text for text in texts.values()) and texts["T_q"].endswith("*(L_q/R_ph)")
    gain = d.card("current_regulator").K_q
    d.set("L_q", "2.8 mH")
    assert d.card("current_regulator").K_q == pytest.approx(2 * gain), "the design lives"
    d.set("L_q", "1.4 mH")
    d.do(propose_all(d.document).command)
    again = {name: d.document.quantities[name].text for name in texts}
    assert again == texts, "a factor takes the place of the one before"
    assert {loop.name: loop.crossover for loop in d.judge()} == pytest.approx(before, rel=0.02)
    assert in_formula("1.5*(a + b)", 2.0) == "3*(a + b)" and in_formula("0.5*(a)", 2.0) == "a"
    assert in_formula("2*(a) + 3*(b)", 1.5) == "1.5*(2*(a) + 3*(b))"

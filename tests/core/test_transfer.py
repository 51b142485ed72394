"""Linear models between any two points, what they are made of, and the same measured in runs."""

import json
import math
import os
import runpy
import warnings
from pathlib import Path

import control
import numpy as np
import pytest
import scipy.io
import scipy.linalg
import scipy.signal

import pendel
from pendel.cli.main import main
from pendel.core.drive import commands
from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.file import load
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.kept_sweeps import keep_sweep, kept_sweep
from pendel.core.loops.models.linear import linear_plant
from pendel.core.loops.models.linear_models import LinearModel
from pendel.core.loops.models.points import WorkingPoint, point_in_run
from pendel.core.loops.models.realisation import minimal, poles_of, zeros_of
from pendel.core.loops.models.resolvent import outputs_over
from pendel.core.loops.models.sweep import Sweep, SweptPoint
from pendel.core.loops.models.transfer import Ends, Transfer, ports_in, ports_out, transfer
from pendel.core.loops.tuning.tuning import loop_statuses
from pendel.core.plant.rows import evaluate_signals
from pendel.core.runs.preparing.simulate import averaged, prepare

EXAMPLES = Path(pendel.__file__).parent / "examples"


@pytest.fixture(scope="module")
def ready():
    return prepare(averaged(load(EXAMPLES / "car_door_drive.pendel")))


def test_the_plant_has_the_textbooks_matrices(ready):
    """Leonhard, Control of Electrical Drives, 3rd ed., section 5.1: di/dt = (u − R i − k ω)/L, dω/dt = (k i − b ω −
    m)/J, with an elastic belt behind; and central differences of the running equations."""
    structure, point = ready.structure, point_in_run(ready, 0.5)
    plant = linear_plant(ready, ("door_motor.current",), point)
    numbers = ready.numbers.values["door_motor"]
    i, omega = plant.states.index("door_motor.i"), plant.states.index("door_motor.omega")
    assert plant.A[i, omega] == pytest.approx(-numbers["k"] / numbers["L_a"], rel=1e-12)
    assert plant.A[omega, i] == pytest.approx(numbers["k"] / numbers["J_m"], rel=1e-12)
    rates = [f"d {k}" for k in structure.state_keys]
    assert len(rates) == plant.A.shape[0]
    x = np.array([point.states[k] for k in structure.state_keys])
    for k, key in enumerate(structure.state_keys):
        h = 1e-4 * max(1.0, abs(x[k]))
        sides = []
        for sign in (1, -1):
            moved = x.copy()
            moved[k] += sign * h
            row = np.concatenate(
                [
                    [0.5],
                    moved,
                    [point.inputs[c] for c in structure.commands],
                    np.zeros(2 * len(structure.profile_keys)),
                    [point.modes[m] for m in structure.mode_keys],
                ]
            )
            names = ("door_motor.voltage", "door_motor.emf", "belt.force")
            sides.append(evaluate_signals(structure, row[None, :], ready.parameters, names)[0])
        slope = (sides[0] - sides[1]) / (2 * h)
        exact = linear_plant(ready, ("door_motor.voltage", "door_motor.emf", "belt.force"), point).C[:, k]
        assert slope == pytest.approx(exact, rel=1e-6, abs=1e-6 * max(1.0, np.abs(exact).max())), key


def test_minimal_models_keep_what_counts_and_name_what_they_leave():
    """A known system beside parts that the input does not reach, or the output does not show, turned by a random
    similarity."""
    rng = np.random.default_rng(4)
    for dt in (0.0, 0.05):
        wanted = control.tf([1.0, 3.0], [1.0, 4.0, 30.0, 50.0])
        core = control.ss(wanted) if dt == 0 else control.ss(control.sample_system(wanted, dt))
        hidden = np.diag([-7.0, -0.3, 0.5]) if dt == 0 else np.diag([0.9, 0.4, 1.1])
        delay = np.diag(np.ones(3), -1)  # a chain without an output
        A = scipy.linalg.block_diag(core.A, hidden, delay)
        B = np.vstack([core.B, [[0.0], [1.0], [0.0]], [[1.0], [0.0], [0.0], [0.0]]])
        C = np.hstack([core.C, [[1.0, 0.0, 0.0]], np.zeros((1, 4))])
        T = rng.normal(size=A.shape)
        turned = LinearModel(
            T @ A @ np.linalg.inv(T),
            T @ B,
            C @ np.linalg.inv(T),
            core.D,
            dt,
            tuple(f"s{k}" for k in range(len(A))),
            "u",
            "y",
        )
        found = minimal(turned)
        assert len(found.model.states) == 3 and len(found.left_out) == len(A) - 3
        assert sorted(p.value.real for p in found.poles) == pytest.approx(sorted(core.poles().real), rel=1e-6)
        assert np.sort_complex(zeros_of(found.model)) == pytest.approx(
            np.sort_complex(core.zeros()), rel=1e-6, abs=1e-9
        )
        reasons = [each.reason for each in found.left_out]
        assert reasons.count("not controllable") >= 2 and reasons.count("not observable") >= 1


def test_poles_are_named_by_the_states_they_live_in():
    """A mass on a spring at 5 Hz with a tenth of the critical damping, and two lags apart from it."""
    A = np.zeros((4, 4))
    A[0, 1], A[1, 0], A[1, 1], A[2, 2], A[3, 3] = (
        1.0,
        -((2 * np.pi * 5.0) ** 2),
        -2 * 0.1 * 2 * np.pi * 5.0,
        -3.0,
        -40.0,
    )
    model = LinearModel(
        A, np.ones((4, 1)), np.ones((1, 4)), np.zeros((1, 1)), 0.0, ("x", "v", "heat", "flux"), "u", "y"
    )
    heat, *_ = poles_of(model)
    assert heat.states == (("heat", pytest.approx(1.0)),) and heat.natural == pytest.approx(3.0 / (2 * np.pi))
    swing = [p for p in poles_of(model) if abs(p.natural - 5.0) < 1e-6]
    assert len(swing) == 2 and all(
        p.damping == pytest.approx(0.1) and {n for n, _ in p.states} == {"x", "v"} for p in swing
    )


def test_a_loop_is_the_same_wherever_it_is_opened(ready):
    """What comes back around a single loop is one function of frequency: at the plant's input, at what is measured, at
    the regulator's output; and it is the L by which the loop is judged."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    judged = {each.loop.key: each for each in loop_statuses(drive)}["current_pi"].judged
    ready = prepare(averaged(drive))
    frequency = np.geomspace(20.0, 6000.0, 40)
    cuts = ("bridge.duty", "current_pi.out", "current_sensor.value")
    loops = []
    for cut in cuts:
        found = transfer(ready, Ends(cut, cut, (cut, "speed_pi.out") if cut != "speed_pi.out" else (cut,), "rest"))
        loops.append(-found.response(frequency))
    for other in loops[1:]:
        assert other == pytest.approx(loops[0], rel=1e-6)
    known = np.interp(frequency, judged.frequency, np.abs(judged.response))
    assert np.abs(loops[1]) == pytest.approx(known, rel=2e-3)


@pytest.mark.parametrize("gain", ["35 A*s/m", "900 A*s/m", "-35 A*s/m", "1500 A*s/m"])
def test_a_way_around_a_loop_has_its_margins_and_goes_to_other_packages(gain):
    """Of the outer loop, whose margins Loops tells with nothing closed around it."""
    d = pendel.open_example("car_door_drive")
    d.set("K_p", gain)
    around = d.transfer("speed_pi.out", "speed_pi.out", opened=("speed_pi.out",), at="rest")
    told, found = next(each for each in d.judge() if each.regulator == "speed_pi"), around.margins
    assert found.stable is told.stable
    names = ("crossover", "ms") if found.stable else ()
    for name in names:
        assert getattr(found, name) == pytest.approx(getattr(told, name), rel=0.02)
    if found.stable:
        assert found.phase == pytest.approx(told.phase_margin, abs=0.3)
        assert found.gain_db == pytest.approx(told.gain_margin, abs=0.1)
    poles = np.linalg.eigvals(around.to_scipy().A)
    assert np.sort(np.abs(poles)) == pytest.approx(np.sort(np.abs(around.model.poles)), abs=1e-9)
    assert around.to_control().dt == around.model.dt
    lines = str(around).splitlines()
    assert lines[0] == "speed_pi.out → speed_pi.out: 28 states, from 1 ms to 1 ms, at rest" and len(lines) <= 12
    assert repr(around) == f"<{lines[0]}>"


def test_a_models_words_are_its_poles():
    """A spring and a mass (12 N/m, 3 kg, 0.6 N·s/m: 2 rad/s, damping 0.05), sampled or not, beside an integrator."""
    from scipy.linalg import block_diag, expm

    from pendel.core.loops.models.linear_models import LinearModel

    A = block_diag([[0.0, 1.0], [-4.0, -0.2]], [[0.0]], [[-50.0]], [[3.0]])
    B, C, D = np.ones((5, 1)), np.ones((1, 5)), np.zeros((1, 1))
    for dt, matrix in ((0.0, A), (0.01, expm(0.01 * A))):
        lines = str(LinearModel(matrix, B, C, D, dt, tuple("abcde"), "u", "y")).splitlines()
        assert lines[0] == f"u → y: 5 states, {'from 10 ms to 10 ms' if dt else 'continuous'}"
        assert lines[1:3] == ["an integrator", "318.3 mHz, damping 0.05"]
        assert lines[3] == "grows with a time constant of 333.3 ms"
        assert lines[4] == "decays with a time constant of 20 ms"


@pytest.mark.parametrize("level", ["averaged", "switching"])
def test_a_swept_run_agrees_with_the_model(level):
    """0.2 dB and 2° to a third of the sampling rate averaged, to a fifth of the pulse frequency switching."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    drive.settings |= {"level": level}
    found = transfer(prepare(averaged(drive)), Ends("current_pi.out", "current_sensor.value", (), "rest"))
    highest = 20e3 / 3 if level == "averaged" else 20e3 / 5
    swept = Sweep(prepare(drive), found).run(np.geomspace(60.0, highest, 6).tolist())
    assert all(p.linear for p in swept.points)
    assert swept.worst[0] < 0.2 and swept.worst[1] < 2.0, [(p.frequency, p.off_db, p.off_degrees) for p in swept.points]


def test_a_swept_run_agrees_across_rates_and_through_commands_and_sensors():
    """The regulators of the door run at 20 to 1; and the way from a machine's current through all of them."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    drive.settings |= {"sensors": "ideal"}
    for ends in (
        Ends("speed_pi.out", "door_motor.current", (), "rest"),
        Ends("bridge.duty", "door_motor.current", (), "rest"),
        Ends("current_sensor.value", "pulse_stage.duty", (), "rest"),
        Ends("bridge.duty", "door_motor.current", ("bridge.duty",), "rest"),
    ):
        found = transfer(prepare(averaged(drive)), ends)
        swept = Sweep(prepare(drive), found).run([300.0, 1000.0, 2500.0])
        assert swept.worst[0] < 0.05 and swept.worst[1] < 0.5, (ends, [(p.off_db, p.off_degrees) for p in swept.points])


def test_a_distorted_response_is_marked(ready):
    """A sine so large that the current limit is met."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    found = transfer(ready, Ends("speed_pi.out", "current_sensor.value", (), "rest"))
    small, large = (Sweep(prepare(drive), found).run([400.0], size).points[0] for size in (0.5, 200.0))
    assert small.linear and not large.linear and abs(large.off_db) > 1.0


def test_a_step_of_the_model_is_that_of_a_run():
    """Of the setpoint of the current, in small, at rest: the run's own answer."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    drive.settings |= {"sensors": "ideal"}
    found = transfer(prepare(averaged(drive)), Ends("speed_pi.out", "current_sensor.value", ("speed_pi.out",), "rest"))
    t, y = found.step(5e-3)
    assert len(t) in (100, 101) and y[-1] == pytest.approx(1.0, abs=0.1) and y[0] == 0.0
    w = 2 * np.pi * 1000.0
    series = np.diff(y, append=y[-1])  # the step's differences are the answer to a unit sample
    direct = abs(np.sum(series * np.exp(-1j * w * t)))
    assert direct == pytest.approx(abs(found.response(np.array([1000.0]))[0]), rel=0.02)


@pytest.mark.parametrize("name", ["car_door_drive", "haul_drive", "old_haul_link", "haul_inverter"])
def test_any_points_give_a_model_or_a_sentence(name):
    rng, ready = np.random.default_rng(7), prepare(averaged(load(EXAMPLES / f"{name}.pendel")))
    starts, stops, models = list(ports_in(ready)), list(ports_out(ready)), 0
    for _ in range(12 if starts else 0):
        opened = tuple(rng.choice(starts, rng.integers(0, 3)))
        ends = Ends(str(rng.choice(starts)), str(rng.choice(stops)), opened, str(rng.choice(["any", "built up"])))
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                found = transfer(ready, ends)
                minimum = minimal(found.model)
                t, y = found.step()
                assert len(t) == len(y) and len(found.frequencies()) > 10
        except DriveProblem:
            continue
        models += 1
        assert len(minimum.model.states) <= len(found.model.states)
    assert models or name in ("old_haul_link",)


@pytest.mark.parametrize(
    ("ends", "words"),
    [
        (Ends("nothing.out", "door_motor.current"), "is no signal"),
        (Ends("door_leaf.speed", "door_motor.current"), "measured by no block"),
        (Ends("bridge.duty", "nothing"), "no signal to look at"),
        (Ends("bridge.duty", "bridge.duty"), "both ends"),
        (Ends("bridge.duty", "door_motor.current", ("rubbing.profile",)), "cannot be opened"),
        (Ends("bridge.duty", "travel_plan.speed"), "no way leads there"),
        (Ends("bridge.duty", "door_motor.current", (), 9.0), "from 0 to 1.2 s"),
        (Ends("bridge.duty", "door_motor.current", (), -1.0), "from 0 to 1.2 s"),
        (Ends("bridge.duty", "door_motor.current", (), "moon"), "no operating point"),
        (Ends("bridge.duty", "door_motor.current", (), "steady"), "does not settle"),
    ],
)
def test_what_has_no_model_gets_a_sentence(ready, ends, words):
    with pytest.raises(DriveProblem, match=words):
        transfer(ready, ends)


def test_a_load_is_swept_as_well(ready):
    """A sine of the rubbing force: while the leaf moves, within 0.02 dB of the model; at rest it sticks, which is no
    small answer."""
    drive = load(EXAMPLES / "car_door_drive.pendel")
    for at, moves in ((0.3, True), ("rest", False)):
        found = transfer(ready, Ends("rubbing.profile", "door_leaf.speed", (), at))
        point = Sweep(prepare(drive), found).run([100.0]).points[0]
        assert point.linear is moves
        assert not moves or (abs(point.off_db) < 0.02 and abs(point.off_degrees) < 0.5)


def test_what_cannot_be_swept_gets_a_sentence(ready):
    drive = load(EXAMPLES / "car_door_drive.pendel")
    plain = Sweep(prepare(drive), transfer(ready, Ends("current_pi.out", "current_sensor.value", (), "rest")))
    for frequencies, amplitude, words in (
        ([9e3], None, "cannot be sampled"),
        ([0.0], None, "above 0"),
        ([100.0], 0.0, "above 0"),
        ([], None, "no frequency"),
        ([1e-4], None, "would take"),
    ):
        with pytest.raises(DriveProblem, match=words):
            plain.run(frequencies, amplitude)
    with pytest.raises(DriveProblem, match="not stable"):
        cut = "door_motor.current"
        Sweep(prepare(drive), transfer(ready, Ends(cut, cut, (cut,), "rest")))
    limited = transfer(ready, Ends("speed_pi.out", "door_leaf.speed", (), 0.3))
    assert any("at its limit here" in words for words in limited.remarks)


def test_the_terminal_reports_a_model_and_writes_it(tmp_path, capsys):
    path = str(EXAMPLES / "car_door_drive.pendel")
    ends = ["linear", path, "--from", "bridge.duty", "--to", "i_door", "--open", "bridge.duty"]
    assert main([*ends, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["target"] == "door_motor.current" and told["order"] == 4 and told["dt"] == 0
    for ending in (".mat", ".json", ".csv", ".py"):
        assert main([*ends, "--out", str(tmp_path / f"m{ending}")]) == 0
    found = transfer(prepare(averaged(load(Path(path)))), Ends("bridge.duty", "door_motor.current", ("bridge.duty",)))
    mat = scipy.io.loadmat(tmp_path / "m.mat")
    assert np.array_equal(mat["A"], found.model.A) and mat["response"].shape == mat["frequency"].shape
    made = runpy.run_path(str(tmp_path / "m.py"))
    omega = np.array([10.0, 1000.0])
    assert made["model_for_control"](1j * omega) == pytest.approx(found.model.response(omega), rel=1e-9)
    assert np.array_equal(made["model"].A, found.model.A)
    assert json.loads((tmp_path / "m.json").read_text())["order"] == 4
    rows = (tmp_path / "m.csv").read_text().splitlines()
    assert rows[0].startswith("frequency Hz") and len(rows) == 1 + len(found.frequencies())
    capsys.readouterr()
    assert main([*ends, "--out", str(tmp_path / "m.xyz")]) == 2 and "ending must be one of" in capsys.readouterr().err
    assert main(["linear", path, "--from", "i_set", "--to", "i_door", "--sweep", "1 kHz"]) == 0
    assert "swept Hz" in capsys.readouterr().out
    assert main(["linear", path, "--from", "i_set"]) == 2 and "Name both" in capsys.readouterr().err


def test_a_step_up_converter_has_its_zero_in_the_right_half_plane():
    """Erickson, Maksimović: Fundamentals of Power Electronics, 2nd ed., section 8.2 (from memory), duty to output
    voltage in continuous conduction: zero at D'²R/L, ω_0 = D'/√(LC), static gain U/D'; a capacitor's resistance adds a
    zero at −1/(R_C C)."""
    drive = load(EXAMPLES / "wayside_supply.pendel")
    ready = prepare(averaged(drive))
    found = transfer(ready, Ends("step_up.duty", "step_up.output_voltage", ("step_up.duty",), "steady"))
    values = ready.numbers.values["step_up"]
    duty, voltage = found.point.inputs["step_up.duty"], found.point.states["step_up.u"]
    load_resistance = voltage / (found.point.states["step_up.i"] * (1 - duty))
    minimum = minimal(found.model)
    right, left = sorted(zeros_of(minimum.model).real, reverse=True)
    assert right == pytest.approx((1 - duty) ** 2 * load_resistance / values["L"], rel=0.02)
    assert left == pytest.approx(-1 / (values["R_C"] * values["C"]), rel=1e-6)
    assert abs(minimum.poles[0].s) == pytest.approx((1 - duty) / np.sqrt(values["L"] * values["C"]), rel=0.02)
    assert abs(found.response(np.array([0.01]))[0]) == pytest.approx(voltage / (1 - duty), rel=0.03)


def test_a_limit_that_is_reached_is_told_and_nothing_that_answers_is_no_response():
    d = pendel.open_example("car_door_drive")
    assert not any("limit" in words for words in d.transfer("i_set", "i_door", at="50 ms").remarks)
    assert (
        sum("Current PI is at its limit" in words for words in d.transfer("i_set", "i_door", at="0.4 s").remarks) == 1
    )
    (silent,) = (SweptPoint(100.0, 0j, 1 + 0j, float("inf"), 1.0),)
    assert silent.off_db == -300 and not silent.linear


def test_swept_points_are_kept_for_the_same_drive_and_way_whatever_stands_in_their_file(tmp_path):
    drive, way = load(EXAMPLES / "car_door_drive.pendel"), KeptTransfer("i_set", "i_door", (), "rest")
    folder, victim = tmp_path / "door.runs", tmp_path / "mine"
    points = [SweptPoint(100.0 * k, 1 + 1j, 1 - 1j, 0.01, 0.5) for k in (1, 2)]
    victim.write_text("kept")
    folder.mkdir()
    (folder / "sweeps.json").symlink_to(victim)
    keep_sweep(folder, drive, way, points)
    assert victim.read_text() == "kept" and list(kept_sweep(folder, drive, way)) == points
    commands.keep_transfer(drive, "mine", way).apply(drive)
    assert kept_sweep(folder, drive, KeptTransfer("speed_pi.out", "door_motor.current", (), "rest")), (
        "a tap is its signal"
    )
    assert not kept_sweep(folder, drive, KeptTransfer("i_set", "i_door", ("speed_pi.out",), "rest"))
    twin = drive.copy()
    commands.set_value(twin, "door_motor", "R_a", "0.5 ohm").apply(twin)
    assert not kept_sweep(folder, twin, way), "of another drive they tell nothing"
    text = (folder / "sweeps.json").read_text()
    for bad in (
        "",
        "[",
        "[1]",
        "{}",
        text.replace("100.0", "NaN"),
        text.replace("100.0", '"x"'),
        text.replace("0.5", "1e999"),
        "[" * 100000,
        text.replace("[[", "[[["),
    ):
        (folder / "sweeps.json").write_text(bad)
        assert kept_sweep(folder, drive, way) == ()
        keep_sweep(folder, drive, way, points)
        assert len(kept_sweep(folder, drive, way)) == 2
    (folder / "sweeps.json").unlink()
    os.mkfifo(folder / "sweeps.json")
    assert kept_sweep(folder, drive, way) == ()


@pytest.mark.parametrize("seed", range(8))
def test_responses_at_many_frequencies_are_those_of_single_ones_in_any_units(seed):
    """Delay lines (which no eigenvectors span), poles near the circle, and states in units 16 decades apart."""
    rng = np.random.default_rng(seed)
    line, lags = np.eye(4, k=-1), np.diag(1 - 10.0 ** -rng.uniform(1, 7, 5))
    A = scipy.linalg.block_diag(line, lags)
    A[4:, 3] = rng.normal(size=5)
    A[0, 4:] = rng.normal(size=5) * 1e-3
    b, C, d = np.eye(9, 1), rng.normal(size=(2, 9)), rng.normal(size=(2, 1))
    s = np.exp(1j * np.geomspace(1e-4, math.pi, 300))
    wanted = np.array([(C @ np.linalg.solve(z * np.eye(9) - A, b) + d)[:, 0] for z in s]).T
    units = 10.0 ** rng.uniform(-8, 8, 9)
    found = outputs_over(units[:, None] * A / units, units[:, None] * b, C / units, d, s)
    np.testing.assert_allclose(found, wanted, rtol=1e-8)
    inputs = rng.normal(size=(9, len(s)))
    alone = np.array([np.linalg.solve(z * np.eye(9) - A, v) for z, v in zip(s, inputs.T)]).T
    np.testing.assert_allclose(outputs_over(A, inputs, np.eye(9), np.zeros((9, 1)), s), alone, rtol=1e-7)


def test_a_sine_waits_for_what_tells_in_the_response_alone():
    """Against `scipy.signal.lsim` of a fast part and one of 100 s that hardly answers; a sine that begins is told from
    the one that lasts to a thousandth."""
    slow = scipy.signal.StateSpace(np.diag([-100.0, -0.01]), [[1.0], [1.0]], [[100.0, 1e-3]], [[0.0]])
    model = LinearModel(slow.A, slow.B, slow.C, slow.D, 0.0, ("fast", "slow"), "u", "y")
    way = Transfer(Ends("u", "y"), model, WorkingPoint("at rest"))
    assert way.usual_span() == pytest.approx(500)
    for f in (2.0, 50.0):
        looked = 4 / f
        wait = way.settling_at(f, looked)
        assert 0.02 < wait < 0.1
        t = np.arange(0, wait + looked, 1e-5)
        t = t[: round((wait + looked) / 1e-5)]
        y = scipy.signal.lsim(slow, np.sin(2 * np.pi * f * t), t)[1]
        late = slice(len(t) - round(looked / 1e-5), None)
        seen = 2 * np.mean(y[late] * np.exp(-2j * np.pi * f * t[late])) * 1j
        assert abs(seen / way.response(np.array([f]))[0] - 1) < 1.2e-3

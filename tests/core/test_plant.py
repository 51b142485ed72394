"""The equations and the time loop against closed forms, SciPy and energy balances."""

import math

import numpy as np
import pytest
import scipy.integrate
import scipy.linalg

import pendel
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations
from pendel.core.errors import DriveHasFindings, RunProblem
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import RunSettings
from pendel.core.plant.simulator import Watch
from pendel.core.runs.preparing.simulate import prepare
from tests.core.energy import energy_gap

R, L, K, J = 0.46, 0.61e-3, 0.108, 1.9e-4


def machine_on_supply(tolerance="1e-6", **values):
    d = pendel.Drive("Bench")
    d.set("tolerance", tolerance)
    d.add("dc_source", "Supply", U_0="48", R_i="0")
    d.add(
        "brushed_dc",
        "Motor",
        **({"R_a": str(R), "L_a": "0.61", "k_t": str(K), "J_m": str(J), "b_m": "0"} | values),
    )
    d.connect("supply.dc", "motor.winding")
    return d


def exact(t, x0=(0.0, 0.0)):
    """Current and speed of the linear machine at 48 V by the matrix exponential."""
    A = np.array([[-R / L, -K / L, 48 / L], [K / J, 0, 0], [0, 0, 0]])
    return np.array([(scipy.linalg.expm(A * s) @ [*x0, 1.0])[:2] for s in t])


@pytest.mark.parametrize("method", ["explicit", "stiff", "fast"])
def test_linear_machine_follows_the_matrix_exponential_and_error_scales_with_tolerance(method):
    errors = []
    for tolerance in ("1e-4", "1e-6", "1e-8"):
        d = machine_on_supply(tolerance)
        d.set("method", method)
        p = prepare(d.document)
        rows = integrate(p.program, p.inputs(RunSettings(0.08, float(tolerance), method))).rows[1:]
        keys = p.structure.state_keys
        t = rows[:, 0]
        computed = rows[:, [1 + keys.index("motor.i"), 1 + keys.index("motor.omega")]]
        reference = exact(t)
        errors.append(np.max(np.abs(computed - reference) / np.max(np.abs(reference), axis=0)))
    # SciPy's matrix exponential; 1e-6 is asked for at tolerance 1e-8 and below, with room.
    assert errors[2] < 1e-6
    assert errors[0] / errors[1] > 15
    assert errors[1] / errors[2] > 15


def test_closed_forms_of_the_dc_machine():
    # Leonhard, Control of Electrical Drives, 3rd ed., chapter 5: ω_0 = U/k, T_a = L/R, T_m = J·R/k².
    run = machine_on_supply("1e-9").run(1.0)
    assert run["motor.speed"].y[-1] == pytest.approx(48 / K, rel=1e-6)
    held = machine_on_supply("1e-9", J_m="1e6").run(0.02)
    assert held["motor.current"].y[-1] == pytest.approx(48 / R, rel=1e-5)
    assert held["motor.torque"].y[-1] == pytest.approx(K * 48 / R, rel=1e-5)
    assert held.at("motor.current", L / R) == pytest.approx(48 / R * (1 - math.exp(-1)), rel=1e-4)
    slow = machine_on_supply("1e-9", L_a="1e-3").run(0.05)
    assert slow.at("motor.speed", J * R / K**2) == pytest.approx(48 / K * (1 - math.exp(-1)), rel=2e-3)


def test_data_sheet_sets_agree_on_one_machine():
    circuit = machine_on_supply().run(0.05)["motor.speed"].y[-1]
    stall = machine_on_supply()
    stall.document.cards["motor"] = stall.document.cards["motor"].__class__(
        "brushed_dc",
        "Motor",
        values={
            "U_n": "48",
            "M_0": f"{K * 48 / R!r} N*m",
            "n_0": f"{48 / K!r} rad/s",
            "L_a": "0.61",
            "J_m": str(J),
            "b_m": "0",
        },
        choices={"entry": "stall"},
    )
    assert stall.run(0.05)["motor.speed"].y[-1] == pytest.approx(circuit, rel=1e-9)
    n_n = 0.9 * 48 / K
    power = (48 - K * n_n) / R * K * n_n
    rated = machine_on_supply()
    rated.document.cards["motor"] = stall.document.cards["motor"].__class__(
        "brushed_dc",
        "Motor",
        values={
            "U_n": "48",
            "P_n": f"{power!r} W",
            "n_n": f"{n_n!r} rad/s",
            "n_0": f"{48 / K!r} rad/s",
            "L_a": "0.61",
            "J_m": str(J),
            "b_m": "0",
        },
        choices={"entry": "rated"},
    )
    assert rated.run(0.05)["motor.speed"].y[-1] == pytest.approx(circuit, rel=1e-9)


def test_energy_balance_of_the_door_drive(door):
    d = pendel.Drive(document=door)
    assert energy_gap(d.run(1.2, with_energy=True)) < 1e-6


def ode(equations, states, **more):
    d = pendel.Drive("Ode")
    d.add("own", "X", own=OwnEquations(states=states, equations=equations, **more))
    return prepare(d.document)


@pytest.mark.parametrize(("method", "order"), [("explicit", 5), ("stiff", 4)])
def test_methods_have_their_order(method, order):
    # x' = −x + sin 3t with its exact solution; nonlinear y' = −y² has y = 1/(1+t).
    p = ode(("der(x) = (-x + sin(3*time/(1 s)))/(1 s)", "der(y) = -y*y/(1 s)"), ("x = 1", "y = 1"))
    errors = []
    for h in (0.1, 0.05, 0.025):
        rows = integrate(p.program, p.inputs(RunSettings(2.0, 0.09, method, h_max=h))).rows
        t, x, y = rows[-1, :3]
        exact_x = 1.3 * math.exp(-t) + 0.1 * (math.sin(3 * t) - 3 * math.cos(3 * t))
        errors.append(max(abs(x - exact_x), abs(y - 1 / (1 + t))))
    orders = [math.log2(a / b) for a, b in zip(errors, errors[1:])]
    assert min(orders) > order - 0.4


@pytest.mark.parametrize("tolerance", [1e-3, 1e-5, 1e-7])
def test_the_fast_option_errs_by_little_more_than_its_tolerance(tolerance):
    # x' = −x + sin 3t and y' = 3 cos 3t as above, over twenty swings: errors neither add up nor stand out.
    p = ode(("der(x) = (-x + sin(3*time/(1 s)))/(1 s)", "der(y) = 3*cos(3*time/(1 s))/(1 s)"), ("x = 1", "y = 0"))
    result = integrate(p.program, p.inputs(RunSettings(40.0, tolerance, "fast")))
    t, x, y = result.rows[:, :3].T
    assert np.max(np.abs(x - 1.3 * np.exp(-t) - 0.1 * (np.sin(3 * t) - 3 * np.cos(3 * t)))) < 10 * tolerance
    assert np.max(np.abs(y - np.sin(3 * t))) < 20 * tolerance


def test_stiff_problem_is_left_to_the_l_stable_method():
    # Curtiss and Hirschfelder (1952): y' = −λ(y − cos t), here λ = 1e5; reference SciPy Radau.
    p = ode(("der(y) = -1e5*(y - cos(time/(1 s)))/(1 s)",), ("y = 0",))
    result = integrate(p.program, p.inputs(RunSettings(3.0, 1e-6)))
    reference = scipy.integrate.solve_ivp(
        lambda t, y: -1e5 * (y - np.cos(t)), (0, 3), [0.0], method="Radau", rtol=1e-10, atol=1e-12
    )
    assert result.counters["stiff_steps"] > 0
    assert result.counters["steps"] < 1000
    assert result.rows[-1, 1] == pytest.approx(reference.y[0, -1], abs=1e-6)


def sliding_block(force, v0="0 m/s", profile=None, **friction):
    d = pendel.Drive("Block")
    d.set("tolerance", "1e-9")
    d.add("mass", "Block", m="2", starts={"v": v0})
    d.add("rail_friction", "Rail", **({"F_c": "10", "F_s": "14", "b": "0"} | friction))
    d.add(
        "load_force",
        "Push",
        choices={"acts": "pulls"},
        profile=profile or [("0", f"{-force}"), ("9", f"{-force}")],
    )
    d.connect("block.b", "rail.a")
    d.connect("rail.b", "push.a")
    return d


def test_a_sliding_block_stops_where_the_closed_form_says_and_stays():
    # Newton with constant friction: t = m·v/F, s = m·v²/(2F) (any mechanics textbook).
    run = sliding_block(0.0, "3 m/s").run(2.0)
    t_stop, way = 2 * 3 / 10, 2 * 9 / 20
    x, v = run["block.position"], run["block.speed"]
    assert x.y[-1] == pytest.approx(way, rel=1e-8)
    after = v.y[v.t > t_stop * (1 + 1e-9)]
    assert np.all(after == 0.0)
    assert np.ptp(x.y[x.t > t_stop * (1 + 1e-9)]) == 0.0


def test_stiction_holds_up_to_breakaway_and_then_slides():
    held = sliding_block(13.9).run(1.0)
    assert np.all(held["block.speed"].y == 0)
    assert held["rail.force"].y[-1] == pytest.approx(13.9)
    run = sliding_block(0, profile=[("0", "0"), ("2", "-20")]).run(2.0)
    speed = run["block.speed"]
    assert np.all(speed.y[speed.t <= 1.4] == 0)
    # After breakaway at 10 N/s · t = 14 N the net force is 10·t − 10.
    expected = ((10 * 2**2 / 2 - 10 * 2) - (10 * 1.4**2 / 2 - 10 * 1.4)) / 2
    assert speed.y[-1] == pytest.approx(expected, rel=1e-7)


def test_two_frictions_on_one_rigid_train_stick_together():
    d = sliding_block(0.0, "3 m/s")
    d.add("rail_friction", "Second", F_c="5", F_s="6", b="0")
    d.connect("rail.a", "second.a")
    run = d.run(2.0)
    assert run["block.position"].y[-1] == pytest.approx(2 * 9 / (2 * 15), rel=1e-8)
    assert run["block.speed"].y[-1] == 0.0


def geared(eta="100", starts=None, torque=None, slow_starts=None):
    d = pendel.Drive("Geared")
    d.set("tolerance", "1e-10")
    d.add("imposed_torque", "Push", profile=torque or [("0", "2"), ("9", "2")])
    d.add("inertia", "Fast", J="0.01", starts=starts)
    d.add("gear", "Gear", ratio="5", eta=eta)
    d.add("inertia", "Slow", J="0.5", starts=slow_starts)
    for a, b in (("push.a", "fast.a"), ("fast.b", "gear.a"), ("gear.b", "slow.a")):
        d.connect(a, b)
    return d


def test_a_gear_between_two_inertias_is_one_reduced_inertia():
    run = geared().run(1.0)
    assert run["fast.speed"].y[-1] == pytest.approx(2 / (0.01 + 0.5 / 25), rel=1e-9)
    np.testing.assert_allclose(run["fast.speed"].y, 5 * run["slow.speed"].y, rtol=1e-13)


def test_an_entered_starting_speed_holds_on_either_side_of_a_gear():
    for given in ({"starts": {"omega": "50"}}, {"slow_starts": {"omega": "10"}}):
        run = geared(torque=[("0", "0")], **given).run(0.1)
        assert run["fast.speed"].y[0] == 50.0
        assert run["slow.speed"].y[-1] == pytest.approx(10.0, rel=1e-12)
    agreed = geared(starts={"omega": "50"}, slow_starts={"omega": "10"})
    assert agreed.run(0.1)["slow.speed"].y[0] == 10.0
    with pytest.raises(
        DriveHasFindings, match=r"(Fast|Slow): its speed is to start at .* makes it start at .* Enter one"
    ):
        geared(starts={"omega": "50"}, slow_starts={"omega": "12"}).run(0.1)


def test_a_jump_of_an_imposed_speed_is_pointed_out():
    d = pendel.Drive("Bench")
    d.add("imposed_speed", "Dyno", profile=[("0", "0"), ("0.5", "0"), ("0.5", "100")])
    assert any("Dyno jumps at 0.5 s" in f.sentence for f in d.check())


def test_gear_losses_stay_on_the_driven_side_in_both_directions():
    driven = geared("80").run(1.0)
    assert driven["fast.speed"].y[-1] == pytest.approx(2 / (0.01 + 0.5 / 25 / 0.8), rel=1e-9)
    # Braking by the motor: now the slow side drives, and the loss helps to brake.
    braked = geared("80", torque=[("0", "2"), ("1", "2"), ("1", "-2"), ("9", "-2")]).run(1.1)
    rate = (braked["fast.speed"].y[-1] - braked.at("fast.speed", 1.0)) / 0.1
    assert rate == pytest.approx(-2 / (0.01 + 0.5 / 25 * 0.8), rel=1e-6)
    assert energy_gap(geared("80").run(1.0, with_energy=True)) < 1e-7


def test_imposed_speed_makes_inertia_irrelevant_and_torque_follows():
    d = machine_on_supply("1e-9")
    d.add("imposed_speed", "Dyno", profile=[("0", "0"), ("1", "200")])
    d.connect("motor.shaft", "dyno.a")
    run = d.run(1.0)
    current = (48 - K * 198) / R + L / R * (K * 200) / R  # on the ramp, lagging by L/R
    assert run.at("motor.current", 0.99) == pytest.approx(current, rel=1e-5)
    assert run.at("dyno.torque", 0.99) == pytest.approx(J * 200 - K * current, rel=1e-5)


def test_profile_corners_are_landed_on_exactly():
    d = geared(torque=[("0", "0"), ("0.123456", "0"), ("0.123456", "3"), ("9", "3")])
    run = d.run(1.0)
    t = run["fast.speed"].t
    assert 0.123456 in t
    assert run["fast.speed"].y[-1] == pytest.approx(3 * (1 - 0.123456) / 0.03, rel=1e-9)


def test_own_equations_give_the_same_traces_as_the_built_in_machine():
    built_in = machine_on_supply("1e-9").run(0.1)
    d = pendel.Drive("Own")
    d.set("tolerance", "1e-9")
    d.add("dc_source", "Supply", U_0="48", R_i="0")
    own = OwnEquations(
        ports=("winding: dc, u, i_w", "shaft: shaft, w_s, M"),
        values=("R = 0.46 ohm", "L = 0.61 mH", "k = 0.108 N*m/A", "J = 1.9e-4 kg*m^2"),
        states=("i = 0 A", "w = 0 rad/s"),
        equations=("i_w = i", "w_s = w", "L*der(i) = u - R*i - k*w", "J*der(w) = k*i + M"),
    )
    d.add("own", "Mine", own=own)
    d.connect("supply.dc", "mine.winding")
    run = d.run(0.1)
    # SciPy's matrix exponential; tolerance 1e-9 leaves 1e-6 of the peak with room.
    t = run["mine.i"].t[1::20]
    reference = exact(t)
    peak = np.max(np.abs(reference), axis=0)
    np.testing.assert_allclose(run["mine.i"].y[1::20], reference[:, 0], atol=1e-6 * peak[0])
    np.testing.assert_allclose(run["mine.w"].y[1::20], reference[:, 1], atol=1e-6 * peak[1])
    assert run["mine.w"].y[-1] == pytest.approx(built_in["motor.speed"].y[-1], rel=1e-8)


def test_a_battery_from_own_equations_discharges_as_the_closed_form_says():
    # Open-circuit voltage falling with charge, feeding a resistance: an exponential (RC circuit with C = Q/ΔU).
    d = pendel.Drive("Battery")
    battery = OwnEquations(
        ("el: dc, u, i",),
        ("U_full = 50 V", "slope = 0.5 V/C", "R = 0.1 ohm"),
        ("q = 0 C",),
        (),
        ("der(q) = -i", "u = U_full - slope*q + R*i"),
    )
    load = OwnEquations(("el: dc, u, i",), ("R = 4.9 ohm",), (), (), ("u = R*i",))
    d.set("tolerance", "1e-9")
    d.add("own", "Bank", own=battery)
    d.add("own", "Load", own=load)
    d.connect("bank.el", "load.el")
    run = d.run(10.0)
    assert run["load.u"].y[-1] == pytest.approx(49.0 * math.exp(-10 / (5.0 / 0.5)), rel=1e-7)


def test_a_cubic_between_unknowns_is_solved_in_the_step():
    # y³ + y = x with x' = y: dx = (3y² + 1) dy, so t = [1.5·y² + ln y] from y(0) to y.
    d = pendel.Drive("Ode")
    d.set("tolerance", "1e-9")
    lines = OwnEquations(states=("x = 2",), unknowns=("y: 1",), equations=("der(x) = y/(1 s)", "y*y*y + y = x"))
    d.add("own", "X", own=lines)
    run = d.run(1.0)
    x = run["x.x"].y[-1]
    y = float(np.real(next(r for r in np.roots([1, 0, 1, -x]) if abs(r.imag) < 1e-9)))
    assert 1.5 * (y * y - 1) + math.log(y) == pytest.approx(1.0, rel=1e-7)


@pytest.mark.parametrize(
    ("build", "words"),
    [
        (
            lambda d: (
                d.add("dc_source", "A"),
                d.add("dc_source", "B", R_i="0", U_0="12"),
                d.connect("a.dc", "b.dc"),
                d.set("a.R_i", "0"),
            ),
            "fix the same thing|contradict",
        ),
        (
            lambda d: (
                d.add("imposed_speed", "P", profile=[("0", "1")]),
                d.add("imposed_speed", "Q", profile=[("0", "2")]),
                d.connect("p.a", "q.a"),
            ),
            "contradict",
        ),
        (lambda d: d.add("own", "Short", own=OwnEquations(states=("x = 1 A",), equations=())), "1 more"),
        (
            lambda d: d.add(
                "own",
                "Term",
                own=OwnEquations(values=("R = 1 ohm",), states=("i = 1 A",), equations=("der(i) = R*i",)),
            ),
            "equations line 1",
        ),
    ],
)
def test_equations_without_a_solution_name_the_parts(build, words):
    d = pendel.Drive("Wrong")
    build(d)
    with pytest.raises(DriveHasFindings, match=words):
        d.run(0.1)


@pytest.mark.parametrize(
    ("equation", "start", "solution"),
    [
        ("y*y = x + 1", 3.0, lambda x: math.sqrt(x + 1)),  # at 0 its slope is zero
        ("y*y*y - 3*y = x", 3.0, lambda x: 2 * math.cosh(math.acosh(x / 2) / 3)),  # a valley lies on the way from 0
        ("1/y = x", 2.0, lambda x: 1 / x),  # at 0 it is no number
    ],
)
def test_a_loop_is_solved_where_newton_from_zero_ends_nowhere(equation, start, solution):
    """The cubic by its closed form for x > 2 (Cardano)."""
    d = pendel.Drive("Ode")
    d.set("tolerance", "1e-9")
    lines = OwnEquations(states=(f"x = {start}",), unknowns=("y: 1",), equations=("der(x) = -y/(10 s)", equation))
    d.add("own", "X", own=lines)
    run = d.run(1.0)
    x, y = run["x.x"].y, run["x.y"].y
    np.testing.assert_allclose(y, [solution(each) for each in x], rtol=1e-9)
    slope = scipy.integrate.solve_ivp(lambda t, x: [-solution(x[0]) / 10], (0, 1), [start], rtol=1e-11, atol=1e-12)
    assert x[-1] == pytest.approx(slope.y[0, -1], rel=1e-8)


def test_a_solution_that_runs_away_says_which_part_and_when():
    d = pendel.Drive("Away")
    d.add("own", "Avalanche", own=OwnEquations(states=("x = 1",), equations=("der(x) = x*x/(1 s)",)))
    with pytest.raises(RunProblem, match=r"1000 ms; Avalanche .state x"):
        d.run(2.0)
    d.document.cards["avalanche"] = d.document.cards["avalanche"].__class__(
        "own", "Avalanche", own=OwnEquations(states=("x = 1",), equations=("der(x) = 100*x/(1 s)",))
    )
    with pytest.raises(RunProblem, match=r"Avalanche ran away: its state x .* at 34\d"):
        d.run(2.0)


def test_stop_ends_a_run_at_once(door):
    p = prepare(door)
    watch = Watch.private()
    watch.stop[0] = 1
    result = integrate(p.program, p.inputs(RunSettings(1000.0)), watch)
    assert result.outcome.name == "STOPPED"
    assert result.ended_at < 1e-3


def test_a_changed_value_meets_the_same_build(door):
    first = prepare(door).structure
    commands.set_quantity(door, "m_leaf", "44 kg").apply(door)
    second = prepare(door)
    assert second.structure is first
    assert 44.0 in second.parameters


def two_masses(play="0", damping="0", until="0.2 s"):
    d = pendel.Drive("Two masses")
    d.set("until", until)
    d.set("tolerance", "1e-8")
    d.add("inertia", "Motor", J="0.02", starts={"omega": "10"})
    d.add("elastic_shaft", "Shaft", k="500", d=damping, play=play)
    d.add("inertia", "Load", J="0.05")
    d.connect("motor.b", "shaft.a")
    d.connect("shaft.b", "load.a")
    return d


def test_two_masses_swing_at_their_natural_frequency():
    # ω = √(k·(1/J_1 + 1/J_2)); Leonhard: Control of Electrical Drives, section 1.5 (from memory).
    run = two_masses().run()
    t = np.linspace(0, 0.2, 2001)
    w = np.sqrt(500 * (1 / 0.02 + 1 / 0.05))
    common = 10 * 0.02 / 0.07
    np.testing.assert_allclose(run.at("motor.speed", t), common + (10 - common) * np.cos(w * t), atol=2e-3)
    np.testing.assert_allclose(run.at("shaft.torque", t), 500 * 10 / w * np.sin(w * t), atol=0.02)


@pytest.mark.parametrize("damping", ["0", "0.5"])
def test_backlash_passes_no_torque_until_it_is_used_up(damping):
    play = np.radians(6.0)
    run = two_masses("6 deg", damping, "0.05 s").run()
    torque = run["shaft.torque"]
    # From the middle of the play the driving side needs half of it at 10 rad/s.
    first = np.argmax(torque.y > 1e-6)  # the contact itself, or the point behind it
    contact = torque.t[first - 1 : first + 1]
    assert contact[0] < play / 2 / 10 + 1e-9 and contact[1] > play / 2 / 10 - 1e-9
    assert np.min(np.abs(contact - play / 2 / 10)) < 2e-3 * play / 2 / 10
    twist = run["shaft.twist"].y
    wound = np.maximum(twist - play / 2, 0) + np.minimum(twist + play / 2, 0)
    rate = run["motor.speed"].y - run["load.speed"].y
    wanted = np.where(torque.y != 0, 500 * wound + float(damping) * rate, 0.0)
    np.testing.assert_allclose(torque.y, wanted, atol=1e-6 * 500)
    assert np.all(torque.y[twist > 0] >= -1e-5) and np.all(torque.y[twist < 0] <= 1e-5)
    momentum = 0.02 * run["motor.speed"].y + 0.05 * run["load.speed"].y
    np.testing.assert_allclose(momentum, 0.2, atol=1e-6)
    lost = (
        (0.01 * 100)
        - 0.01 * run["motor.speed"].y[-1] ** 2
        - 0.025 * run["load.speed"].y[-1] ** 2
        - 250 * wound[-1] ** 2
    )
    spent = np.trapezoid(run["shaft.loss"].y, run["shaft.loss"].t)
    assert lost == pytest.approx(spent, abs=2e-3)


def test_a_rope_goes_slack_instead_of_pushing():
    """A falling mass is caught by a rope on a drum that stands still, and thrown up again: flight and swing in closed
    form."""
    d = pendel.Drive("Rope")
    d.set("until", "1.2 s")
    d.set("tolerance", "1e-8")
    d.add("inertia", "Brake", J="1e9")
    d.add("drum", "Drum", r="500")
    d.add("rope", "Rope", k="4000", d="0")
    d.add("mass", "Car", m="40", starts={"v": "-2"})
    d.add("load_force", "Weight", choices={"acts": "pulls"}, profile=[("0", "392.4"), ("9", "392.4")])
    for a, b in (
        ("brake.b", "drum.shaft"),
        ("drum.rope", "rope.a"),
        ("rope.b", "car.a"),
        ("car.b", "weight.a"),
    ):
        d.connect(a, b)
    run = d.run()
    force, stretch = run["rope.force"], run["rope.stretch"]
    assert np.min(force.y) > -1e-3
    np.testing.assert_allclose(force.y, 4000 * np.maximum(stretch.y, 0), atol=0.05)
    # From v = 2 m/s on at w = √(k/m) = 10 rad/s the rope is taut for (2π − 2·arctan(v·w/g))/w, then slack for 2·v/g.
    w, g, v = 10.0, 9.81, 2.0
    taut, flight = (2 * np.pi - 2 * np.arctan(v * w / g)) / w, 2 * v / g
    slack, caught = np.flatnonzero(np.diff(force.y > 1e-6))[-2:]
    np.testing.assert_allclose(force.t[[slack + 1, caught]], [taut, taut + flight], atol=2e-4)
    assert np.max(force.y) == pytest.approx(40 * (g + np.hypot(g, v * w)), rel=1e-4)


def hoist(mu, torque):
    """A worm of 5° lead angle lifts a load of 100 N·m on its wheel."""
    d = pendel.Drive("Hoist")
    d.set("tolerance", "1e-10")
    d.add("imposed_torque", "Push", profile=[("0", str(torque)), ("9", str(torque))])
    d.add("inertia", "Rotor", J="0.02")
    d.add("worm_gear", "Worm", ratio="30", gamma="5 deg", mu=str(mu))
    d.add("inertia", "Wheel", J="0.4")
    d.add("imposed_torque", "Pull", profile=[("0", "-100"), ("9", "-100")])
    for a, b in (("push.a", "rotor.a"), ("rotor.b", "worm.a"), ("worm.b", "wheel.a"), ("wheel.b", "pull.a")):
        d.connect(a, b)
    return d


@pytest.mark.parametrize(
    ("mu", "torque", "moves"),
    [
        (0.1, 0.0, 0),  # ρ' = 6.07° is above γ = 5°: holds by itself
        (0.1, 7.0, 0),  # too little to lift, 100/30·tan(11.07°)/tan 5° = 7.46 N·m
        (0.1, 8.0, 1),
        (0.1, -0.5, 0),  # too little to drive down, 100/30·tan(1.07°)/tan 5° = 0.71 N·m
        (0.1, -1.0, -1),
        (0.05, 0.0, -1),  # ρ' = 3.05° is below γ: the load turns the worm
        (0.05, 1.5, 0),  # held: sinks below 100/30·tan(1.95°)/tan 5° = 1.30 N·m
    ],
)
def test_a_worm_gear_lifts_holds_and_lowers_as_the_wedge_says(mu, torque, moves):
    # Shigley: Mechanical Engineering Design, power screws and worm gearing (from memory): M = M'·tan(γ ± ρ')/tan γ.
    rho, gamma = math.atan(mu / math.cos(math.radians(20))), math.radians(5)
    run = hoist(mu, torque).run(0.5, with_energy=True)
    c = math.tan(gamma + (rho if moves > 0 else -rho)) / math.tan(gamma)
    rate = (torque - 100 / 30 * c) / (0.02 + 0.4 / 900 * c) if moves else 0.0
    assert run["rotor.speed"].y[-1] == pytest.approx(0.5 * rate, rel=1e-7, abs=1e-12)
    assert moves == np.sign(round(rate, 9))
    assert not moves or energy_gap(run) < 1e-7


def test_a_screw_is_the_same_wedge():
    d = pendel.Drive("Jack")
    d.set("tolerance", "1e-10")
    d.add("imposed_torque", "Push", profile=[("0", "5"), ("9", "5")])
    d.add("inertia", "Rotor", J="0.001")
    d.add("screw", "Screw", lead="5 mm", d_m="20 mm", mu="0.12")
    d.add("mass", "Nut", m="30")
    for a, b in (("push.a", "rotor.a"), ("rotor.b", "screw.shaft"), ("screw.nut", "nut.a")):
        d.connect(a, b)
    run = d.run(0.1)
    gamma, r = math.atan(5 / (20 * math.pi)), 0.005 / (2 * math.pi)
    c = math.tan(gamma + math.atan(0.12)) / math.tan(gamma)
    assert run["rotor.speed"].y[-1] == pytest.approx(0.1 * 5 / (0.001 + 30 * r * r * c), rel=1e-7)
    assert run["nut.speed"].y[-1] == pytest.approx(r * run["rotor.speed"].y[-1], rel=1e-12)

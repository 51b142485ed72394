"""Whole systems over a trip: storage, a machine by its limits and losses, a car on its road."""

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator

import pendel
from pendel.core.catalogue.mechanics.road import GRAVITY
from pendel.core.catalogue.systems.curves import monotone_slopes
from pendel.core.errors import DriveHasFindings

CURVE = ((0, 88), (0.1, 96), (0.5, 100), (0.9, 105), (1, 110))
"""Rows of a new battery: charge, V."""


def spline():
    x, y = np.array(CURVE).T
    return CubicHermiteSpline(x, y, monotone_slopes(x, y))


def test_curves_between_rows_are_those_of_scipy_and_never_overshoot():
    """Slopes inside are those of `scipy.interpolate.PchipInterpolator`, which has other ones at its two ends."""
    rng = np.random.default_rng(1)
    for _ in range(50):
        x = np.cumsum(rng.uniform(0.05, 1, 7))
        y = np.cumsum(rng.choice([0.0, 1.0, 3.0, -0.5], 7))
        slopes = monotone_slopes(x, y)
        assert np.allclose(slopes[1:-1], PchipInterpolator(x, y).derivative()(x[1:-1]))
        fine = CubicHermiteSpline(x, y, slopes)(np.linspace(x[0], x[-1], 2000))
        assert fine.min() >= y.min() - 1e-9 and fine.max() <= y.max() + 1e-9


def bench(**battery):
    """A battery that feeds a load of constant power."""
    d = pendel.Drive()
    d.set("tick", "1 s")
    d.add("battery", "Battery", **battery)
    d.add("power_load", "Load", P="1 kW")
    d.connect("battery.dc", "load.dc")
    return d


def test_a_battery_is_its_own_equations_in_scipy_and_its_charge_is_what_flowed():
    d = bench(Q="5 Ah", charge_0="90 %", R="40 mohm", R_1="25 mohm", T_1="40 s")
    d.set("until", "900 s")
    run = d.run()
    curve = spline()

    def voltage(q, u_1):  # U i = P in closed form, the upper root
        e = curve(q) - u_1
        return e / 2 + math.sqrt(e * e / 4 - 0.040 * 1000)

    def slopes(t, state):
        q, u_1 = state
        i = 1000 / voltage(q, u_1)
        return [-i / (5 * 3600), (0.025 * i - u_1) / 40]

    whole = solve_ivp(slopes, (0, 900), [0.9, 0], rtol=1e-10, atol=1e-12)
    assert run["battery.charge"].y[-1] == pytest.approx(whole.y[0, -1], abs=1e-6)
    assert run["battery.voltage"].y[-1] == pytest.approx(voltage(*whole.y[:, -1]), rel=1e-6)
    trace = run["battery.current"]
    assert 0.9 - run["battery.charge"].y[-1] == pytest.approx(np.trapezoid(trace.y, trace.t) / (5 * 3600), rel=1e-5)
    energy = run.balance(0, 900)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-5 * energy.supplied
    assert energy.delivered == pytest.approx(900e3, rel=1e-6)


@pytest.mark.parametrize("charge", ["0 %", "10 %", "50 %", "100 %", "73 %"])
def test_the_open_circuit_voltage_is_that_of_the_rows(charge):
    d = bench(charge_0=charge)
    d.set("load.P", "0")
    run = d.run(1.0)
    assert run["battery.voltage"].y[0] == pytest.approx(float(spline()(float(charge.split()[0]) / 100)), rel=1e-9)


def test_an_empty_battery_is_told_and_what_it_feeds_gives_way():
    d = bench(Q="1 Ah", charge_0="20 %")
    d.set("until", "400 s")
    run = d.run()
    first = 0.2 * 3600 / (1000 / 96)
    assert "Battery is empty at" in run.remarks[0] and f"{first:.0f}"[:1] in run.remarks[0]
    assert run["battery.voltage"].y[-1] < 12 and np.all(np.isfinite(run["battery.current"].y))
    d = bench(R="3 ohm")
    d.set("load.U_low", "20 V")
    run = d.run(20.0)  # 1 kW is more than U²/4R: the load is a resistance below its voltage, and it holds there
    assert np.all(run["battery.voltage"].y > 0)
    (remark,) = run.remarks  # the largest power is U²/(4 R) of the voltage inside, U_oc at first
    most = float(spline()(0.7)) ** 2 / 12 / 1000
    assert f"at a charge of 70 % it gives {most:.3g} kW at most" in remark and "cannot give" in remark
    d.set("load.P", f"{0.99 * most} kW")
    assert d.run(0.5).remarks == []


@pytest.mark.parametrize(
    ("card", "rows", "says"),
    [
        ("battery", [("0", "90")], "fewer than two rows"),
        ("battery", [("0", "90"), ("0", "95")], "not above"),
        ("battery", [("0 %", "90"), ("50 %", "90")], "not above"),
        ("car", [("0 m", "0"), ("0 m", "1 %")], "not behind"),
    ],
)
def test_rows_that_are_no_curve_get_a_sentence(card, rows, says):
    d = pendel.open_example("works_car")
    d.rows({"battery": "battery", "car": "works_car"}[card], rows)
    with pytest.raises(DriveHasFindings, match=says):
        d.run(0.1)


def car(speed=0.0, **values):
    d = pendel.Drive()
    d.set("tick", "0.1 s")
    d.add("car", "Car", starts={"v": f"{speed} m/s"}, **values)
    return d


def test_a_car_coasts_down_and_climbs_as_its_equation_says():
    values = {"m": 900.0, "f_0": 100.0, "f_1": 2.0, "f_2": 0.5, "turning": 0.04}
    d = car(20, m="900 kg", f_0="100 N", f_1="2 N*s/m", f_2="0.5", turning="4 %")
    d.rows("car", [("0 m", "0 %"), ("200 m", "5 %"), ("500 m", "-3 %")])
    d.add("imposed_torque", "Push", profile=[("0", "30"), ("100 s", "30")])
    d.connect("push.a", "car.axle")
    run = d.run(20.0)
    x, y = np.array([0, 200, 500.0]), np.array([0, 0.05, -0.03])
    slope = CubicHermiteSpline(x, y, monotone_slopes(x, y))

    def slopes(t, state):
        v, place = state
        climb = values["m"] * GRAVITY * math.sin(math.atan(float(slope(place))))
        drag = values["f_0"] * math.tanh(v / 0.1) + values["f_1"] * v + values["f_2"] * v * abs(v)
        return [(30 / 0.29 - drag - climb) / (values["m"] * 1.04), v]

    whole = solve_ivp(slopes, (0, 20), [20, 0], rtol=1e-10, atol=1e-10)
    assert run["car.speed"].y[-1] == pytest.approx(whole.y[0, -1], rel=1e-5)
    assert run["car.place"].y[-1] == pytest.approx(whole.y[1, -1], rel=1e-6)


def held(speed, torque_share=0.5, **values):
    """A machine by its envelope on a test bench, asked for a share of its largest torque."""
    d = pendel.Drive()
    d.set("tick", "10 ms")
    d.add("dc_source", "Link", U_0="96 V", R_i="1 mohm")
    d.add("machine_envelope", "Machine", **values)
    d.add("imposed_speed", "Bench", profile=[("0", f"{speed} rad/s"), ("100 s", f"{speed} rad/s")])
    d.add("constant", "Ask", value=f"{120 * torque_share} N*m")
    for a, b in (("link.dc", "machine.dc"), ("machine.shaft", "bench.a"), ("ask.out", "machine.torque")):
        d.connect(a, b)
    return d


@pytest.mark.parametrize(
    ("speed", "share"), [(0, 0), (0, 0.5), (100, 0.5), (100, -0.5), (-100, 0.5), (160, 1), (300, 1), (300, -1.5)]
)
def test_an_envelope_keeps_its_limits_and_its_losses_by_hand(speed, share):
    run = held(speed, share).run(1.0)
    most = min(120.0, 20e3 / max(abs(speed), 1e-9))
    torque = max(-most, min(most, 120.0 * share))
    loss = 60 + 0.4 * abs(speed) + 0.0012 * speed**2 + 1600 * (torque / 120) ** 2
    assert run["machine.torque"].y[-1] == pytest.approx(torque, abs=1e-6 * 120)
    assert run["machine.link_power"].y[-1] == pytest.approx(torque * speed + loss, rel=1e-6, abs=1e-6)
    assert run["machine.loss"].y[-1] == pytest.approx(loss, rel=1e-6)
    assert run["machine.power"].y[-1] == pytest.approx(torque * speed, rel=1e-6, abs=1e-6)


def test_an_envelope_derates_with_its_link_and_says_when_torque_is_missing():
    d = held(100, 1.0)
    d.set("link.U_0", "70 V")
    run = d.run(1.0)
    u = run["machine.link_power"].y[-1] / run["machine.current"].y[-1]
    assert run["machine.torque"].y[-1] == pytest.approx(120 * (u - 60) / 20, rel=1e-3)
    assert "less torque than is asked" in run.remarks[0]
    assert held(100, 0.9).run(1.0).remarks == []


def test_a_converter_by_losses_adds_up():
    d = pendel.Drive()
    d.set("tick", "10 ms")
    d.add("dc_source", "Link", U_0="96 V", R_i="1 mohm")
    d.add("converter_by_losses", "Converter")
    d.add("power_load", "Load", P="240 W")
    d.connect("link.dc", "converter.dc")
    d.connect("converter.out", "load.dc")
    run = d.run(0.1)
    i = run["converter.output_current"].y[-1]
    assert run["converter.output_voltage"].y[-1] == pytest.approx(24 - 5e-3 * i, rel=1e-9)
    assert run["converter.loss"].y[-1] == pytest.approx(6 + 0.4 * i + 15e-3 * i * i, rel=1e-6)
    energy = run.balance(0, 0.1)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-6 * energy.supplied


def test_the_works_car_makes_its_trip_and_its_energy_adds_up():
    d = pendel.open_example("works_car")
    assert d.check() == []
    run = d.run()
    assert run.remarks == []
    wanted = run.at("plan.out", run["works_car.speed"].t)
    assert np.abs(run["works_car.speed"].y - wanted).max() < 4.0, "m/s, at the corners of the plan"
    plan = run["plan.out"]
    assert run["works_car.place"].y[-1] == pytest.approx(np.trapezoid(plan.y, plan.t), rel=0.01)
    energy = run.balance(0, run.kept.end)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-5 * energy.supplied
    loops = d.judge()
    assert [loop.name for loop in loops] == ["Speed"] and loops[0].stable and loops[0].phase_margin > 45


def test_a_trip_is_that_of_scipy_from_tick_to_tick():
    """The same car, machine and driver by `solve_ivp` between two ticks, with a driver that sees each tick's speed and
    acts one tick later."""
    d = pendel.open_example("works_car")
    d.set("until", "60 s")
    run = d.run()
    curve_x, curve_y = np.array([[0, 300, 700, 1100, 1350, 1600, 2000, 2400, 3000], [0, 1, 6, 7, 0, -6, -7, -1, 0]])
    slope = CubicHermiteSpline(curve_x, curve_y / 100, monotone_slopes(list(curve_x), list(curve_y / 100)))
    ratio, r, m, tick = 7.2, 0.29, 1350 * 1.04, 0.1
    plan = run["plan.out"]

    def slopes(t, state, asked):
        v, x, torque = state
        speed = v / r * ratio
        most = min(130.0, 18e3 / max(abs(speed), 18e3 / 130))
        allowed = max(-most, min(most, asked))
        # The gear loses 3 % of what goes through it, in the direction of the power.
        handed = torque * ratio * (0.97 if torque * speed >= 0 else 1 / 0.97)
        climb = 1350 * GRAVITY * math.sin(math.atan(float(slope(x))))
        drag = 120 * math.tanh(v / 0.1) + 0.8 * v + 0.42 * v * abs(v)
        return [(handed / r - drag - climb) / m, v, (allowed - torque) / 0.02]

    state, integral, asked = np.zeros(3), 0.0, 0.0
    for k in range(600):
        wanted = float(plan.at(np.array([k * tick + 1e-9]))[0])
        error = wanted - state[0]
        out = 260 * error + integral
        given = max(-130.0, min(130.0, out))
        if given == out or (out > given) != (error > 0):
            integral += 260 * error * tick / 9
        state = solve_ivp(slopes, (0, tick), state, args=(asked,), rtol=1e-8, atol=1e-8).y[:, -1]
        asked = given
    assert run["works_car.place"].y[-1] == pytest.approx(state[1], rel=5e-3)
    assert run["works_car.speed"].y[-1] == pytest.approx(state[0], abs=0.05)


@pytest.mark.parametrize("resistance", ["2 ohm", "0.4 ohm"])
def test_a_link_that_has_two_voltages_for_one_power_stays_at_its_own_while_something_else_sticks_and_slides(resistance):
    """Behind a resistance a constant power has a high and a low voltage. Where a friction begins to slide, the loop of
    the link began at where it was when it slid last, and went on at the other one, back and forth for ever."""
    d = pendel.open_example("day_of_trips")
    d.set("battery.R", resistance)
    run = d.run()
    assert len(run.kept.rows) < 40_000 and run.kept.end == 195.0
    t, torque = run["traction.torque"].t, run["traction.torque"].y
    missing, most = run["traction.missing"].y, run["traction.most"].y
    # By definition T_lag dM/dt is what is allowed less M: while more is allowed it rises, whatever sticks.
    below = (missing > 0) & (torque < 0.98 * most)
    rises = below[:-1] & below[1:] & (np.diff(t) > 1e-9)
    assert rises.sum() > 100 and np.all(np.diff(torque)[rises] > 0)
    other = pendel.open_example("day_of_trips")
    other.set("battery.R", resistance)
    other.set("method", "stiff")
    for key in ("works_car.place", "battery.charge"):
        assert run[key].y[-1] == pytest.approx(other.run()[key].y[-1], rel=1e-5)
    # Points of traces and those half way belong together, whichever were asked for first.
    for key in ("battery.power", "traction.loss"):
        assert len(run.kept.fetch_between([key])[key]) == len(run[key].t) - 1
    energy = run.balance(0, 195)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-4 * energy.supplied, (
        "a breakdown is no row"
    )

"""Engine, gears with three shafts, brakes, clutches and a driver: by hand and by closed forms; a hybrid on its trip."""

import re

import numpy as np
import pytest

import pendel
from pendel.core.errors import DriveProblem
from pendel.core.runs.found.modes import by_mode, modes_of
from pendel.core.runs.preparing.simulate import reopen
from pendel.core.runs.record.kept import save

RPM = np.pi / 30


def wired(d, *pairs):
    for a, b in pairs:
        d.connect(a, b)
    return d


def drive(tick="10 ms"):
    d = pendel.Drive()
    d.set("tick", tick)
    return d


def torque(d, name, level, end):
    d.add("imposed_torque", name, profile=[("0", f"{level} N*m"), ("1000 s", f"{level} N*m")])
    d.connect(f"{name.lower()}.a", end)


def test_a_planetary_gear_is_willis_equation_with_torques_in_its_ratio():
    """Accelerations of three inertias against the linear system of Newton's laws and the constraint."""
    k, j, m = 2.6, np.array([0.01, 0.4, 0.2]), np.array([3.0, -5.0, 2.0])
    d = drive()
    d.add("planetary", "Gear", k=str(k))
    for name, inertia, push in zip(("sun", "ring", "carrier"), j, m):
        d.add("inertia", name.title(), J=f"{inertia} kg*m^2")
        d.connect(f"{name}.b", f"gear.{name}")
        torque(d, f"Push{name}", push, f"{name}.a")
    run = d.run(1.0)
    # j_i a_i = m_i − λ c_i with c = (1, k, −(1 + k)), and c·a = 0
    c = np.array([1, k, -(1 + k)])
    load = np.sum(c * m / j) / np.sum(c * c / j)
    wanted = (m - load * c) / j
    ends = np.array([run[f"gear.speed_{n}"].y[[0, -1]] for n in ("sun", "ring", "carrier")])
    assert (ends[:, 1] - ends[:, 0]) == pytest.approx(wanted, rel=1e-6)
    assert ends[:, 1] @ c == pytest.approx(0, abs=1e-9)
    assert run["gear.torque_sun"].y[-1] == pytest.approx(load, rel=1e-9)
    energy = run.balance(0, 1)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-6 * abs(energy.stored)


def test_a_differential_gives_each_side_half_whatever_their_speeds():
    d = drive()
    d.add("differential", "Axle", ratio="4")
    torque(d, "Push", 10, "axle.drive")
    for side, inertia in (("Left", 2.0), ("Right", 5.0)):
        d.add("inertia", side, J=f"{inertia} kg*m^2")
        d.connect(f"axle.{side.lower()}", f"{side.lower()}.a")
    run = d.run(1.0)
    assert run["axle.torque"].y[-1] == pytest.approx(20, rel=1e-9)
    assert run["axle.speed_left"].y[-1] == pytest.approx(10, rel=1e-6)
    assert run["axle.speed_right"].y[-1] == pytest.approx(4, rel=1e-6)


def engine(speed, asked, on=1, **values):
    """An engine on a test bench at an imposed speed (rpm)."""
    d = drive()
    d.add("engine", "Engine", **values)
    d.add("imposed_speed", "Bench", profile=[("0", f"{speed} rpm"), ("100 s", f"{speed} rpm")])
    d.add("constant", "Ask", value=f"{asked} N*m")
    d.add("constant", "On", value=str(on))
    return wired(d, ("engine.shaft", "bench.a"), ("ask.out", "engine.torque"), ("on.out", "engine.on"))


@pytest.mark.parametrize(
    ("speed", "asked", "on", "torque"),
    [
        (2500, 50, 1, 50),  # on the line
        (2500, 500, 1, 90),  # largest torque
        (4500, 500, 1, 30e3 / (4500 * RPM)),  # largest power
        (2500, -500, 1, -14),  # dragged: burns nothing
        (2500, 50, 0, -14),  # off
        (200, 50, 1, -14),  # too slow to fire
        (900, 0, 1, 45),  # below idle the governor asks: half of its reach
        (5200, 50, 1, -14),  # beyond its top speed
        (2500, -5, 1, -5),  # a little less than its friction is burnt
    ],
)
def test_an_engine_burns_by_willans_line(speed, asked, on, torque):
    run = engine(speed, asked, on).run(3.0)
    w = speed * RPM
    inside = torque + 14
    assert run["engine.torque"].y[-1] == pytest.approx(torque, rel=1e-5, abs=1e-4)
    assert run["engine.fuel_rate"].y[-1] == pytest.approx(inside * w / 0.39 / 42.5e6, rel=1e-5, abs=1e-12)
    assert run["engine.loss"].y[-1] == pytest.approx(inside * w / 0.39 - torque * w, rel=1e-5)
    rate = run["engine.fuel_rate"]
    assert run["engine.fuel"].y[-1] == pytest.approx(np.trapezoid(rate.y, rate.t), rel=1e-4, abs=1e-9)
    energy = run.balance(0, 3)
    most = max(energy.heat, energy.supplied)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-5 * most


def test_an_engine_that_stalls_or_is_not_started_is_told():
    assert "does not fire" in engine(200, 50).run(2.0).remarks[0]
    assert engine(200, 50, on=0).run(2.0).remarks == [] and engine(2000, 50).run(2.0).remarks == []
    d = engine(2000, 60)
    d.profile("bench", [("0", "2000 rpm"), ("1 s", "2000 rpm"), ("2 s", "100 rpm"), ("9 s", "100 rpm")])
    remark = d.run(6.0).remarks[0]
    assert "Engine stalls at 1." in remark and "fires from 500 rpm" in remark
    d = engine(2000, 60, n_idle="6000 rpm")
    assert any("idle speed is not below the top speed" in f.sentence for f in d.check())


def test_a_clutch_closes_with_the_loss_of_momentum_and_then_carries_without_slip():
    """Two inertias: M (1/J_1 + 1/J_2) t = Δω; the loss is J_1 J_2/(J_1 + J_2) Δω²/2, whatever the torque."""
    d = drive("1 ms")
    d.add("inertia", "First", J="0.2 kg*m^2", starts={"omega": "100 rad/s"})
    d.add("inertia", "Second", J="0.3 kg*m^2")
    d.add("clutch", "Clutch", M_max="40 N*m")
    d.add("constant", "Press", value="0.5")
    torque(d, "Push", 10, "first.a")
    wired(d, ("first.b", "clutch.a"), ("clutch.b", "second.a"), ("press.out", "clutch.press"))
    run = d.run(3.0)
    # slip' = (10 − 20)/0.2 − 20/0.3 from the first tick, which acts one tick later; then both by 10/(0.2 + 0.3)
    late, rises = 1e-3, 10 / 0.2
    slip = 100 + rises * late
    closed = late + slip / (50 + 20 / 0.3)
    assert run["clutch.slip"].at(np.array([closed - 0.01]))[0] > 0.5
    assert np.abs(run["clutch.slip"].at(np.linspace(closed + 1e-3, 3, 50))).max() < 1e-6
    assert run["second.speed"].y[-1] == pytest.approx(20 / 0.3 * (closed - late) + 20 * (3 - closed), rel=1e-5)
    assert run["clutch.torque"].y[-1] == pytest.approx(0.3 * 20, rel=1e-6)
    loss = run["clutch.loss"]
    assert np.trapezoid(loss.y, loss.t) == pytest.approx(20 * slip * (closed - late) / 2, rel=1e-3)
    d.set("press.value", "0.2")  # 8.8 N·m hold at most and 6 are needed
    assert np.abs(d.run(8.0)["clutch.slip"].y[-1]) < 1e-6
    d.set("press.value", "0.12")  # 4.8 slide: it never closes
    assert d.run(6.0)["clutch.slip"].y[-1] > 1


@pytest.mark.parametrize(("pressed", "holds"), [("1", True), ("0.6", True), ("0.1", False)])
def test_a_brake_holds_a_car_on_a_slope_up_to_what_it_can(pressed, holds):
    """1200 kg on 10 %: 1171 N at 0.29 m are 340 N·m, of which rolling resistance takes none at standstill."""
    d = drive("0.1 s")
    d.add("car", "Car")
    d.rows("car", [("-100 m", "10 %"), ("100 m", "10 %")])
    d.add("brake", "Brake")
    d.add("constant", "Press", value=pressed)
    wired(d, ("brake.a", "car.axle"), ("press.out", "brake.press"))
    run = d.run(5.0)
    assert (abs(run["car.speed"].y[-1]) < 1e-6) == holds
    if holds:
        assert abs(run["brake.torque"].y[-1]) == pytest.approx(1200 * 9.80665 * np.sin(np.arctan(0.1)) * 0.29, rel=1e-4)


def test_frictions_of_a_gear_with_three_shafts_do_not_push_each_other_loose():
    """Two of its shafts come to stand within one tick, with torques that both hold: a few events, not thousands."""
    d = drive("0.1 s")
    d.add("planetary", "Gear")
    for name, j, w in (("sun", 0.012, 5), ("ring", 20, 2), ("carrier", 0.12, 10.2 / 3.6)):
        d.add("inertia", name.title(), J=f"{j} kg*m^2", starts={"omega": f"{w} rad/s"})
        d.connect(f"{name}.a", f"gear.{name}")
    for name, m in (("ring", 600), ("carrier", 14)):
        d.add("friction", f"Hold {name}", M_c=f"{m} N*m", M_s=f"{m} N*m", b="0")
        d.connect(f"hold_{name}.a", f"{name}.b")
    d.add("imposed_torque", "Push", profile=[("0", "-2 N*m"), ("2 s", "2 N*m"), ("4 s", "-2 N*m")])
    d.connect("push.a", "sun.b")
    run = d.run(4.0)
    assert np.abs(run["gear.speed_carrier"].y[-1]) < 1e-6 and run.kept.counters["events"] < 60


def test_a_day_of_trips_keeps_its_plan_and_its_books():
    d = pendel.open_example("day_of_trips")
    assert d.check() == []
    run = d.run()
    assert run.remarks == [] and run.kept.counters["events"] < 300
    assert run["works_car.place"].y[-1] == pytest.approx(1014.6, rel=3e-3)
    energy = run.balance(0, run.kept.end)
    assert abs(energy.supplied - energy.delivered - energy.heat - energy.stored) < 1e-6 * energy.supplied
    current = run["battery.current"]
    used = np.trapezoid(current.y, current.t) / (20 * 3600)
    assert run["battery.charge"].y[0] - run["battery.charge"].y[-1] == pytest.approx(used, rel=2e-3, abs=1e-6)
    rate = run["engine.fuel_rate"]
    assert run["engine.fuel"].y[-1] == pytest.approx(np.trapezoid(rate.y, rate.t), rel=1e-3)
    speeds = [run[f"power_split.speed_{n}"].y for n in ("sun", "ring", "carrier")]
    assert np.abs(speeds[0] + 2.6 * speeds[1] - 3.6 * speeds[2]).max() < 1e-9 * np.abs(speeds[0]).max()
    body = run["converter_body.temperature"].y[-1]
    loss = run["on_board_supply.loss"].y[-1]
    assert body == pytest.approx(25 + loss * 1.1 * (1 - np.exp(-195 / (260 * 1.1))), rel=1e-2)
    books = run.flows(0, run.kept.end)
    scale = max(n.came + n.supplied for n in books.nodes)
    assert all(abs(n.came + n.supplied - n.went - n.delivered - n.lost - n.stored) < 1e-5 * scale for n in books.nodes)
    burnt = next(n for n in books.nodes if "engine" in n.cards)
    assert burnt.supplied == pytest.approx(42.5e6 * run["engine.fuel"].y[-1], rel=1e-4)


def test_modes_are_those_of_the_ticks_with_why_they_came_and_their_energies():
    d = pendel.open_example("day_of_trips")
    run = d.run()
    names = ["electric", "starting", "both", "charging"]
    changes = run.modes("strategy")
    mode = run["strategy.mode"]
    wanted = [int(mode.y[0]), *mode.y[1:][np.diff(mode.y) != 0].astype(int)]
    assert [name for _, name, _ in changes] == [names[n] for n in wanted] and len(changes) > 5
    assert changes[0][2] == "" and changes[1][2] == "power > P_on or speed > v_on or charge < q_low"
    figures = run.by_mode("strategy", "battery.power")
    assert [f.name for f in figures] == names and figures[3].time == figures[3].came == 0
    assert sum(f.time for f in figures) == pytest.approx(195)
    power = run["battery.power"]
    assert sum(f.energy for f in figures) == pytest.approx(np.trapezoid(power.y, power.t), rel=1e-9)
    rate = run["engine.fuel_power"]
    burnt = run.by_mode("strategy", "engine.fuel_power")
    assert burnt[2].energy > 0.9 * np.trapezoid(rate.y, rate.t) and burnt[0].energy >= 0
    begin, end = changes[2][0] + 0.5, changes[2][0] + 1.25  # within one mode
    part = run.by_mode("strategy", "battery.power", begin, end)
    t = np.linspace(begin, end, 20001)
    assert part[2].time == pytest.approx(0.75) and part[2].came == 0
    assert part[2].energy == pytest.approx(np.trapezoid(power.at(t), t), rel=1e-4)
    for wrong in (lambda: run.modes("engine"), lambda: run.by_mode("strategy", "engine.none")):
        with pytest.raises(DriveProblem):
            wrong()


def test_a_plan_that_cannot_be_followed_is_told_with_place_and_size():
    d = pendel.open_example("day_of_trips")
    d.profile(
        "plan", [("0 s", "0 km/h"), ("5 s", "0 km/h"), ("8 s", "60 km/h"), ("20 s", "60 km/h"), ("29 s", "0 km/h")]
    )
    run = d.run(40.0)
    (remark,) = [r for r in run.remarks if "leaves the plan" in r]
    says, at = re.search(r"by ([\d.]+) km/h below it at ([\d.]+) s", remark).groups()
    apart = run["plan.out"].at(np.array([float(at)])) - run["speed.value"].at(np.array([float(at)]))
    assert float(says) == pytest.approx(3.6 * apart[0], rel=0.01) and float(says) > 30
    d.profile(
        "plan", [("0 s", "0 km/h"), ("5 s", "0 km/h"), ("40 s", "60 km/h"), ("60 s", "60 km/h"), ("90 s", "0 km/h")]
    )
    assert d.run(100.0).remarks == []


def test_modes_of_a_run_from_its_file_and_of_no_time_are_those_of_the_run(tmp_path):
    run = pendel.open_example("day_of_trips").run(70.0)
    save(run.kept, tmp_path / "run.h5")
    again = reopen(tmp_path / "run.h5")
    modes = modes_of(again, "strategy")
    assert [modes.names[n] for n in modes.number] == [name for _, name, _ in run.modes("strategy")]
    whole = by_mode(again, modes, 0.0, again.end, "battery.power")
    assert [(f.time, f.came) for f in whole] == [(f.time, f.came) for f in run.by_mode("strategy")]
    nothing = by_mode(again, modes, 30.0, 30.0, "battery.power")
    assert all(f.time == f.came == f.energy == 0 for f in nothing)


@pytest.mark.parametrize("speed", [-800, -5000])
def test_an_engine_that_is_turned_backwards_burns_nothing_and_only_rubs(speed):
    run = engine(speed, 50).run(2.0)
    assert run["engine.torque"].y[-1] == pytest.approx(14, rel=1e-6)  # friction opposes the movement
    assert run["engine.fuel"].y[-1] == 0 and run["engine.loss"].y[-1] == pytest.approx(14 * abs(speed) * RPM, rel=1e-6)


@pytest.mark.parametrize("pressed", ["0", "-1", "2"])
def test_a_clutch_takes_no_more_than_all_and_no_less_than_nothing(pressed):
    d = drive()
    d.add("inertia", "First", J="0.2 kg*m^2", starts={"omega": "100 rad/s"})
    d.add("inertia", "Second", J="0.3 kg*m^2")
    d.add("clutch", "Clutch", M_max="10 N*m")
    d.add("constant", "Press", value=pressed)
    wired(d, ("first.b", "clutch.a"), ("clutch.b", "second.a"), ("press.out", "clutch.press"))
    run = d.run(1.0)
    assert np.abs(run["clutch.torque"].y).max() == pytest.approx(10 if pressed == "2" else 0, abs=1e-9)


def test_a_driver_follows_a_plan_backwards_and_stands_at_its_end():
    d = pendel.open_example("day_of_trips")
    d.profile(
        "plan", [("0 s", "0 km/h"), ("5 s", "0 km/h"), ("15 s", "-12 km/h"), ("25 s", "-12 km/h"), ("32 s", "0 km/h")]
    )
    run = d.run(45.0)
    assert run["works_car.speed"].at(np.array([22.0]))[0] == pytest.approx(-12 / 3.6, abs=0.1)
    assert abs(run["works_car.speed"].y[-1]) < 1e-3 and run["driver.brake"].y[-1] == 1


def test_figures_for_100_km_are_those_of_the_run_and_at_the_charge_it_began_with():
    """Distance, fuel and energy out of the cells against sums of the run's own signals by NumPy."""
    run = pendel.open_example("day_of_trips").run()
    trip = run.flows(0.0, 195.0).trip
    fuel, place = run["engine.fuel"].y[-1], run["works_car.place"].y[-1]
    assert trip.distance == pytest.approx(place) and trip.fuel == pytest.approx(fuel)
    assert trip.fuel_for_100_km == pytest.approx(fuel / place * 1e5)
    u, i = run["battery.open_voltage"], run["battery.current"]
    cells = np.trapezoid(u.y * i.y, u.t)
    assert trip.from_store == pytest.approx(abs(cells), rel=2e-3)
    shaft = run["engine.power"]
    work = np.trapezoid(shaft.y, shaft.t)
    into = -np.trapezoid(run["generator.power"].y, run["generator.power"].t)
    back = -np.trapezoid(run["generator.link_power"].y, run["generator.link_power"].t)
    burnt = np.trapezoid(run["engine.fuel_power"].y, run["engine.fuel_power"].t)
    wanted = fuel * (1 + trip.from_store / (work / burnt * back / into) / burnt)
    assert trip.fuel_corrected == pytest.approx(wanted, rel=5e-3) and trip.fuel_corrected > 2 * fuel
    assert run.flows(0.0, 10.0).trip is None, "it has not gone anywhere yet"
    assert "kg fuel for 100 km" in trip.words and "km/h on average" in trip.words
    electric = pendel.open_example("works_car").run(120.0).flows(0.0, 120.0).trip
    assert electric.fuel == 0.0 and "fuel" not in electric.words and "kWh for 100 km" in electric.words
    assert pendel.open_example("car_door_drive").run(0.1).flows(0.0, 0.1).trip is None, "a door is no trip"

"""Parts that are used everywhere and looked at nowhere: against closed forms, in both directions and at their ends."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.interpolate import PchipInterpolator

import pendel

from .energy import energy_gap


@pytest.mark.parametrize("start", [300.0, -300.0, 1e-3])
def test_a_fan_coasts_down_as_its_square_law_says(start):
    """J·dω/dt = −k·ω·|ω| gives ω = ω₀/(1 + k·|ω₀|·t/J)."""
    inertia, torque, speed = 2e-4, 0.1, 3000 * math.pi / 30
    drive = pendel.Drive("Fan")
    drive.set("tolerance", "1e-9")
    drive.add("inertia", "Rotor", J=repr(inertia), starts={"omega": f"{start!r} rad/s"})
    drive.add("air_load", "Fan", M_n=repr(torque), w_n="3000 rpm")
    drive.connect("rotor.b", "fan.a")
    run = drive.run(2.0, with_energy=True)
    omega = run["rotor.speed"]
    rate = torque / speed**2 * abs(start) / inertia
    np.testing.assert_allclose(omega.y, start / (1 + rate * omega.t), rtol=1e-6)
    np.testing.assert_allclose(run["fan.load"].y, torque * omega.y * np.abs(omega.y) / speed**2, rtol=1e-9)
    assert np.all(run["fan.power"].y >= 0) and energy_gap(run) < 1e-6


@pytest.mark.parametrize("start", [20.0, -20.0])
def test_a_bearing_stops_a_rotor_when_the_closed_form_says_and_holds_it(start):
    """J·dω/dt = −M_c − b·ω: t = J/b·ln(1 + b·ω₀/M_c) to standstill; then held up to M_s, and not beyond."""
    inertia, dry, breakaway, viscous = 1e-3, 0.02, 0.03, 1e-3
    after = math.copysign(1.0, start)
    stop = inertia / viscous * math.log(1 + viscous * abs(start) / dry)
    push = [("0", "0"), (repr(stop + 0.1), "0"), (repr(stop + 0.2), repr(0.029 * after)), ("9", repr(0.029 * after))]
    drive = pendel.Drive("Bearing")
    drive.set("tolerance", "1e-9")
    drive.add("inertia", "Rotor", J=repr(inertia), starts={"omega": f"{start!r} rad/s"})
    drive.add("friction", "Bearing", M_c=repr(dry), M_s=repr(breakaway), b=repr(viscous))
    drive.add("imposed_torque", "Push", profile=push)
    drive.connect("push.a", "rotor.a")
    drive.connect("rotor.b", "bearing.a")
    omega = drive.run(stop + 0.5)["rotor.speed"]
    early = omega.t < stop * (1 - 1e-9)
    size = (dry / viscous + abs(start)) * np.exp(-viscous * omega.t / inertia) - dry / viscous
    np.testing.assert_allclose(omega.y[early], after * size[early], rtol=1e-6, atol=1e-7)
    assert np.all(omega.y[omega.t > stop * (1 + 1e-6)] == 0.0)
    drive.profile("push", [("0", "0"), (repr(stop + 0.1), "0"), (repr(stop + 0.2), repr(0.031 * after)), ("9", "0.1")])
    moved = drive.run(stop + 0.3)["rotor.speed"].y[-1]
    assert moved * after > 0  # beyond the breakaway torque it goes, the way it is pushed


def test_meters_show_what_is_there_and_change_nothing():
    def circuit(with_meters: bool) -> pendel.Drive:
        d = pendel.Drive("Bench")
        d.set("tolerance", "1e-9")
        d.add("ac_source", "Feed", U="10", f="50", R_i="0", L_i="1 uH")
        d.add("ground", "Earth")
        d.add("resistor", "R", R="2")
        d.add("inductor", "L", L="5 mH", R_s="0")
        if with_meters:
            d.add("ammeter", "I")
            d.add("voltmeter", "V")
            wires = [("feed.a", "i.a"), ("i.b", "r.a"), ("v.a", "l.a"), ("v.b", "l.b")]
        else:
            wires = [("feed.a", "r.a")]
        for a, b in (*wires, ("r.b", "l.a"), ("l.b", "earth.line"), ("feed.b", "earth.line")):
            d.connect(a, b)
        return d

    plain, metered = circuit(False).run(0.1), circuit(True).run(0.1)
    np.testing.assert_allclose(metered["l.current"].y, plain["l.current"].y, rtol=1e-9, atol=1e-12)
    np.testing.assert_array_equal(metered["i.current"].y, metered["l.current"].y)
    np.testing.assert_allclose(metered["v.voltage"].y, metered["l.voltage"].y, rtol=1e-12, atol=1e-12)
    # The complex impedance, once what began with zero current has gone: peak of the source over |R + jωL|.
    t, y = metered["i.current"].t, metered["i.current"].y
    late = t > 0.06
    size = 10 * math.sqrt(2) / abs(2 + 1j * 100 * math.pi * 5.001e-3)
    assert np.max(np.abs(y[late])) == pytest.approx(size, rel=1e-4)


@pytest.mark.parametrize("f", [16.7, 50.0, 400.0])
def test_a_reactor_in_three_lines_turns_and_drops_as_its_impedance_says(f):
    """Phasors of one phase: U/√3 over R + jωL of source, reactor and load, all three alike."""
    drive = pendel.Drive("Line")
    drive.set("tolerance", "1e-9")
    drive.add("three_phase_source", "Grid", U="400", f=f"{f!r}", R_i="50 mΩ", L_i="0.1 mH")
    drive.add("line_reactor", "Reactor", R="20 mΩ", L="1.5 mH")
    drive.add("star_load", "Load", R="5", L="5 mH")
    drive.connect("grid.out", "reactor.in")
    drive.connect("reactor.out", "load.in")
    end = 0.05 + 3 / f
    run = drive.run(end)
    impedance = 5.07 + 2j * math.pi * f * 6.6e-3
    t = run["reactor.current_a"].t
    last = t >= end - 1 / f
    for key, factor in (("current_a", 1.0), ("voltage_out_a", 5 + 2j * math.pi * f * 5e-3)):
        peak = math.sqrt(2 / 3) * 400 * abs(factor / impedance)
        rms = math.sqrt(np.trapezoid(run[f"reactor.{key}"].y[last] ** 2, t[last]) * f)
        assert rms == pytest.approx(peak / math.sqrt(2), rel=2e-3)
    total = sum(run[f"reactor.current_{n}"].y for n in "abc")
    assert np.max(np.abs(total)) < 1e-6 * np.max(np.abs(run["reactor.current_a"].y))


def test_a_latch_is_set_and_reset_and_reset_wins():
    drive = pendel.Drive("Latch")
    drive.set("tick", "1 ms")
    events = {"set": "0010001001", "reset": "0000100010"}
    drive.add("latch", "Latch")
    for name, levels in events.items():
        corners = [(f"{k} ms", level) for k, level in enumerate(levels)]
        drive.connect(f"{drive.add('profile', f'Feed {name}', profile=corners)}.out", f"latch.{name}")
    out = drive.run(9e-3)["latch.out"].y
    state, expected = 0.0, []
    for s, r in zip(*events.values()):
        state = 0.0 if r == "1" else 1.0 if s == "1" else state
        expected.append(state)
    np.testing.assert_array_equal(out, expected)


def crank(inertia, rows, **choices) -> pendel.Drive:
    d = pendel.Drive("Crank")
    d.set("tolerance", "1e-9")
    d.add("inertia", "Wheel", J=repr(inertia), starts={"omega": "20 rad/s"})
    d.choose(d.add("load_over_angle", "Crank", rows=rows), **choices)
    d.connect("wheel.b", "crank.a")
    return d


def test_a_load_over_angle_repeats_each_turn_and_gives_back_what_it_took():
    """½·J·ω² changes by the integral of the torque over the angle, whatever the speed; through monotone cubics with the
    slopes of Fritsch and Carlson, as SciPy's PCHIP has them inside."""
    inertia = 1e-2
    rows = [("0", "0"), ("90 deg", "0.3 N*m"), ("180 deg", "0"), ("270 deg", "-0.3 N*m"), ("360 deg", "0")]
    d = crank(inertia, rows, beyond="repeats")
    run = d.run(2.0, with_energy=True)
    omega, place, load = (run[key] for key in ("wheel.speed", "crank.place", "crank.load"))
    assert place.y[-1] > 5 * 2 * math.pi and energy_gap(run) < 1e-6
    x, y = np.radians([0, 90, 180, 270, 360]), np.array([0, 0.3, 0, -0.3, 0])
    inner = PchipInterpolator(x, y)
    turned = np.mod(place.y, 2 * math.pi)
    middle = (turned > x[1]) & (turned < x[3])  # SciPy takes other slopes at both ends
    np.testing.assert_allclose(load.y[middle], inner(turned[middle]), atol=1e-7)
    whole = np.flatnonzero(np.diff(np.floor(place.y / (2 * math.pi))) > 0)
    at_turns = np.interp(2 * math.pi * np.arange(1, 6), place.y, omega.y)
    assert len(whole) >= 5 and at_turns == pytest.approx(20.0, rel=2e-4), "a turn takes nothing"
    back = crank(inertia, rows, beyond="repeats")
    back.start("wheel", omega="-20 rad/s")
    mirrored = back.run(1.0)
    times = np.linspace(0.05, 0.95, 40)
    turned = np.mod(mirrored.at("crank.place", times), 2 * math.pi)
    good = (turned > x[1]) & (turned < x[3])
    np.testing.assert_allclose(mirrored.at("crank.load", times)[good], inner(turned[good]), atol=1e-4)
    for rows, beyond, words in (
        ([("0", "0"), ("360 deg", "0.1")], "repeats", "ends as it begins"),
        ([("10 deg", "0"), ("360 deg", "0")], "repeats", "begins at 0"),
        ([("0", "0"), ("0", "1")], "holds", "not beyond"),
    ):
        (finding,) = [f for f in crank(inertia, rows, beyond=beyond).check() if f.card == "crank"]
        assert words in finding.sentence


@pytest.mark.parametrize("begin", [0.2, -0.2])
def test_a_load_over_place_is_a_spring_within_its_rows_and_holds_beyond(begin):
    """A straight line of 40 N/m swings as cos(sqrt(k/m)·t); at its ends the force stays."""
    d = pendel.Drive("Spring")
    d.set("tolerance", "1e-9")
    d.add("mass", "Block", m="0.4 kg", starts={"v": "0"})
    spring = d.add("load_over_place", "Spring", rows=[("-1 m", "-40 N"), ("0", "0"), ("1 m", "40 N")])
    d.start(spring, place=f"{begin} m")
    d.connect("block.b", "spring.a")
    run = d.run(1.0)
    place = run["spring.place"]
    np.testing.assert_allclose(place.y, begin * np.cos(10 * place.t), atol=1e-6)
    d.start(spring, place=f"{10 * begin} m")  # beyond the rows
    pushed = d.run(0.05)["spring.load"]
    np.testing.assert_allclose(pushed.y, math.copysign(40, begin), rtol=1e-12)


def test_a_sensor_of_three_phases_has_the_errors_that_are_entered():
    d = pendel.open_example("haul_drive")
    sensor = d.add("three_phase_current_sensor", "Currents", gain_error="2 %", bits="8", range="400 A")
    d.choose(sensor, mode="as it is")
    for n, offset in zip("abc", ("1 A", "-2 A", "0")):
        d.connect(f"haul_machine.current_{n}", f"currents.i_{n}")
        d.set(f"currents.offset_{n}", offset)
    step = 2 * 400 / 2**8
    run = d.run(0.05)
    for n, offset in zip("abc", (1, -2, 0)):
        read = run[f"currents.{n}"]
        exact = run.at(f"haul_machine.current_{n}", read.t - 1e-9)
        np.testing.assert_allclose(read.y[2:], step * np.floor((exact[2:] * 1.02 + offset) / step + 0.5), atol=step)
        assert np.median(np.abs(read.y - step * np.round(read.y / step))) < 1e-9
    d.set("currents.bits", "")
    d.set("currents.noise", "0.5 A")
    read = d.run(0.05)["currents.c"]
    scatter = read.y[50:] - 1.02 * run.at("haul_machine.current_c", read.t[50:] - 1e-9)
    assert np.std(scatter) == pytest.approx(0.5, rel=0.2)
    d.choose(sensor, mode="ideal")
    ideal = d.run(0.05)["currents.a"]
    np.testing.assert_allclose(ideal.y[2:], run.at("haul_machine.current_a", ideal.t[2:] - 1e-9), atol=0.2)


def test_a_resolver_lags_as_its_tracking_loop_says_and_steps_as_its_word():
    """Nothing at constant speed, a/w_0² under an acceleration a; steps of 360°/p/2^bits (see the module)."""
    bandwidth, a = 200.0, 3000.0
    d = pendel.Drive("Resolver")
    d.set("tick", "20 us")
    d.add("imposed_speed", "Bench", profile=[("0", "0"), ("0.1", f"{a * 0.1} rad/s"), ("0.2", f"{a * 0.1} rad/s")])
    d.add("inertia", "Wheel", J="1e-3")
    d.choose(d.add("resolver", "Resolver", p="2", bandwidth=f"{bandwidth} Hz", bits="20"), mode="as it is")
    d.connect("bench.a", "wheel.a")
    d.connect("wheel.angle", "resolver.angle")
    run = d.run(0.2)
    read = run["resolver.position"]
    lag = run.at("wheel.angle", read.t - 1e-9) - read.y
    step = 2 * math.pi / 2 / 2**20
    speeding, steady = (read.t > 0.05) & (read.t < 0.099), read.t > 0.15
    expected = a / (2 * math.pi * bandwidth) ** 2
    assert np.mean(lag[speeding]) == pytest.approx(expected, rel=0.03) and np.max(np.abs(lag[steady])) < 1.01 * step
    assert run["resolver.speed"].y[-1] == pytest.approx(a * 0.1, rel=1e-6)
    d.set("resolver.bits", "8")
    coarse = d.run(0.2)["resolver.position"].y
    assert np.allclose(coarse / (math.pi / 2**8), np.round(coarse / (math.pi / 2**8)), atol=1e-6)
    d.choose("resolver", mode="ideal")
    ideal = d.run(0.2)
    read = ideal["resolver.position"]
    np.testing.assert_allclose(read.y, ideal.at("wheel.angle", read.t - 1e-9), atol=1e-6)

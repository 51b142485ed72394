"""Heat over a duty against SciPy and closed forms, heat of converters against their losses, swings against ASTM."""

import json
import re

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import brentq

import pendel
from pendel.cli.main import main
from pendel.core.errors import DriveHasFindings, DriveProblem
from pendel.core.heat.life import Endurance, Swing, life, rainflow
from pendel.core.heat.over import heat_over, highest
from pendel.core.verbs.heating import duty_of

COPPER = 0.00393
R_A, C, R_TH, AIR = 1.2, 20.0, 3.0, 25.0


def stalled(volts: str = "6 V", *, limit: str = "", law: str = "constant") -> pendel.Drive:
    """A DC motor that stands still on a source, with one body: its heat is U²/R(T)."""
    d = pendel.Drive("Stalled")
    d.add("dc_source", "Source", U_0=volts, R_i="0")
    d.add("brushed_dc", "Motor", R_a=f"{R_A} ohm", L_a="0.2 mH")
    d.add("imposed_speed", "Clamp")
    d.add("heat_capacity", "Copper", C=f"{C} J/K", T_0=f"{AIR} °C", **({"T_max": limit} if limit else {}))
    if law == "free":
        d.choose(d.add("convection", "Way", h="10", A=f"{1 / R_TH / 10} m²", dT_h="50 K"), law="free")
    else:
        d.add("heat_resistance", "Way", R=f"{R_TH} K/W")
    d.add("ambient", "Air", T=f"{AIR} °C")
    for a, b in (("source.dc", "motor.winding"), ("motor.shaft", "clamp.a"), ("motor.heat", "copper.a")):
        d.connect(a, b)
    d.connect("copper.b", "way.a")
    d.connect("way.b", "air.a")
    d.set("until", "20 ms")
    return d


def integrated(volts, begin: float, t, law: str = "constant"):
    """The same by SciPy, from one stretch to the next; temperatures at the times ``t`` of the last."""

    def slope(u):
        def f(_, x):
            rise = x[0] - AIR
            away = rise / R_TH * ((abs(rise) / 50) ** 0.25 if law == "free" else 1.0)
            return [(u * u / (R_A * (1 + COPPER * (x[0] - 20))) - away) / C]

        return f

    x = [begin]
    for u, length in volts:
        found = solve_ivp(slope(u), (0, length), x, rtol=1e-9, atol=1e-9, dense_output=True)
        x = [found.y[0, -1]]
    return found.sol(np.asarray(t))[0]


@pytest.mark.parametrize("law", ["constant", "free"])
def test_temperatures_over_a_duty_are_those_of_the_whole_equations(law):
    d = stalled(law=law)
    duty = duty_of(d.document, {"time": ["60 s", "1 min"], "source.U_0": ["6 V", "2 V"]})
    result = heat_over(d.document, duty)
    y, t = result.temperatures["copper.temperature"], result.times
    rise = y.max() - AIR
    for at, stretches in ((20.0, [(6, 60)]), (60.0, [(6, 60)])):
        assert np.interp(at, t, y) == pytest.approx(integrated(stretches, AIR, at, law), abs=0.01 * rise)
    assert y[-1] == pytest.approx(integrated([(6, 60), (2, 60)], AIR, 60.0, law), abs=0.01 * rise)
    assert rise > 40  # far beyond what one straight line was made for
    steady = heat_over(d.document, duty, steady=True).temperatures["copper.temperature"]
    many = [(6, 60), (2, 60)] * 25
    assert steady[0] == pytest.approx(steady[-1], abs=2e-3)
    assert steady[-1] == pytest.approx(integrated(many, AIR, 60.0, law), abs=0.01 * rise)


def started(level: str | list[tuple[str, str]], *, blown: bool = False) -> pendel.Drive:
    """A brushed motor with a flywheel on a bridge, at a duty ratio or along a profile of it: a start loses as much in
    its winding as the flywheel takes up."""
    d = pendel.Drive("Starts")
    d.set("tick", "1 ms")
    if isinstance(level, str):
        d.add("constant", "Ratio", value=level)
    else:
        d.add("profile", "Ratio", profile=level)
    d.add("dc_source", "Source", U_0="24 V", R_i="0")
    d.add("four_quadrant_bridge", "Bridge", R_on="20 mohm")
    d.add("brushed_dc", "Motor", R_a="0.6 ohm", L_a="0.3 mH")
    d.add("inertia", "Wheel", J="0.002 kg*m^2")
    d.add("friction", "Bearing")
    d.add("heat_capacity", "Copper", C="15 J/K", T_0="25 °C")
    if blown:  # by a fan that stands between motor and wheel
        d.add("blown_convection", "Way", h_0="2", h_n="60", n_n="1500 rpm", A="0.02 m²")
        d.connect("motor.shaft", "way.shaft")
    else:
        d.add("heat_resistance", "Way", R="4 K/W")
    d.add("ambient", "Air", T="25 °C")
    for a, b in (
        ("source.dc", "bridge.dc"),
        ("bridge.out", "motor.winding"),
        ("ratio.out", "bridge.duty"),
        ("way.shaft" if blown else "motor.shaft", "wheel.a"),
        ("wheel.b", "bearing.a"),
        ("motor.heat", "copper.a"),
        ("copper.b", "way.a"),
        ("way.b", "air.a"),
    ):
        d.connect(a, b)
    d.set("until", "2 s")
    return d


@pytest.mark.parametrize(("kind", "other"), [("S4", "0.01"), ("S7", "-0.8"), ("", "0.5")])
def test_starts_brakes_and_reversals_warm_as_a_run_through_the_whole_duty_does(kind, other):
    columns = {"ratio.value": ["0.8", other]} if kind else {"time": ["5 s", "5 s"], "ratio.value": ["0.8", other]}
    d = started("0.8")
    typed = {"kind": kind, "time": "10 s", "share": 0.5} if kind else {}
    duty = duty_of(d.document, columns, **typed)
    told = heat_over(d.document, duty, rounds=3)
    corners = [("0 s", "0.8")]
    for begin in (0, 10, 20):
        corners += [(f"{begin} s", "0.8"), (f"{begin + 5} s", "0.8"), (f"{begin + 5} s", other)]
        corners += [(f"{begin + 10} s", other)]
    run = started(corners).run(30.0)["copper.temperature"]
    rise = run.y.max() - 25
    t = np.linspace(0.5, 29.9, 200)
    found = np.interp(t, told.times, told.temperatures["copper.temperature"])
    assert found == pytest.approx(run.at(t), abs=0.02 * rise) and rise > 2
    calm = heat_over(d.document, duty_of(d.document, columns, **typed, changes=False), rounds=3)
    assert calm.temperatures["copper.temperature"].max() - 25 < 0.1 * rise
    steady = heat_over(d.document, duty, steady=True)
    y = steady.temperatures["copper.temperature"]
    assert y[0] == pytest.approx(y[-1], abs=2e-3)
    mean = float(np.trapezoid(y, steady.times) / 10) - 25  # of a cycle: what comes in leaves through 4 K/W
    assert mean == pytest.approx(4 * steady.means["motor.heat"], rel=5e-3)
    if not kind:
        with pytest.raises(DriveProblem, match="A stretch of 200 ms is too short.*leave changes out"):
            heat_over(d.document, duty_of(d.document, {**columns, "time": ["0.2 s", "0.2 s"]}))


def test_what_a_fan_on_the_shaft_blows_away_is_that_of_a_run_through_the_duty():
    """A motor that cools itself gets warmer where it turns slowly with the same load."""
    d = started("0.8", blown=True)
    d.set("bearing.M_c", "0.4 N*m")
    d.set("bearing.M_s", "0.4 N*m")
    duty = duty_of(d.document, {"time": ["60 s", "60 s"], "ratio.value": ["0.8", "0.25"]})
    told = heat_over(d.document, duty)
    corners = [("0 s", "0.8"), ("60 s", "0.8"), ("60 s", "0.25"), ("120 s", "0.25")]
    through = started(corners, blown=True)
    through.set("bearing.M_c", "0.4 N*m")
    through.set("bearing.M_s", "0.4 N*m")
    run = through.run(120.0)
    y = run["copper.temperature"]
    t = np.linspace(1, 119, 200)
    rise = y.y.max() - 25
    found = np.interp(t, told.times, told.temperatures["copper.temperature"])
    assert found == pytest.approx(y.at(t), abs=0.02 * rise)
    assert rise > 4 and y.at([119])[0] > 25 + 1.5 * (y.at([59])[0] - 25), "slow is warmer"
    speed, heat = run["motor.speed"].at([58])[0], run["way.heat"].at([58])[0]
    by_hand = (2 + 60 * (speed / (1500 * np.pi / 30)) ** 0.8) * 0.02 * run["way.difference"].at([58])[0]
    assert heat == pytest.approx(by_hand, rel=1e-4)
    steady = heat_over(d.document, duty, steady=True).temperatures["copper.temperature"]
    assert steady[0] == pytest.approx(steady[-1], abs=2e-3)
    d.disconnect("motor.shaft", "way.shaft")
    d.disconnect("way.shaft", "wheel.a")
    d.set("way.n", "1500 rpm")  # now by a fan of its own
    own = d.run("1 s")
    assert own["way.heat"].y[-1] == pytest.approx(62 * 0.02 * own["way.difference"].y[-1], rel=1e-4)
    d.connect("way.shaft", "wheel.a")
    with pytest.raises(DriveProblem, match="no machine that says how fast it turns"):
        heat_over(d.document, duty)


def derated(reads: str, ratio: str | list[tuple[str, str]]) -> pendel.Drive:
    """A stalled motor on a bridge, whose controller takes duty back from 70 °C of one of two bodies on."""
    d = pendel.Drive("Derated")
    d.set("tick", "1 ms")
    if isinstance(ratio, str):
        d.add("constant", "Ratio", value=ratio)
    else:
        d.add("profile", "Ratio", profile=ratio)
    d.add("dc_source", "Source", U_0="24 V", R_i="0")
    d.add("four_quadrant_bridge", "Bridge", R_on="1 mohm")
    d.add("brushed_dc", "Motor", R_a="1.2 ohm", L_a="0.2 mH")
    d.add("imposed_speed", "Clamp")
    d.add("heat_capacity", "Copper", C="8 J/K", T_0="25 °C")
    d.add("heat_resistance", "Slots", R="0.5 K/W")
    d.add("heat_capacity", "Housing", C="12 J/K", T_0="25 °C")
    d.add("heat_resistance", "Way", R="2.5 K/W")
    d.add("ambient", "Air", T="25 °C")
    d.add("temperature_sensor", "Feeler")
    d.add("curve", "Derating")
    d.rows("derating", [("0", "1"), ("70", "1"), ("100", "0.4"), ("300", "0.4")])
    d.add("product", "Allowed")
    for a, b in (
        ("source.dc", "bridge.dc"),
        ("bridge.out", "motor.winding"),
        ("motor.shaft", "clamp.a"),
        ("motor.heat", "copper.a"),
        ("copper.b", "slots.a"),
        ("slots.b", "housing.a"),
        ("housing.b", "way.a"),
        ("way.b", "air.a"),
        (reads, "feeler.measured"),
        ("feeler.value", "derating.x"),
        ("derating.out", "allowed.a"),
        ("ratio.out", "allowed.b"),
        ("allowed.out", "bridge.duty"),
    ):
        d.connect(a, b)
    d.set("until", "20 ms")
    return d


@pytest.mark.parametrize("reads", ["copper.temperature", "housing.temperature"])
def test_what_a_controller_does_by_a_bodys_temperature_is_that_of_a_run_through_the_duty(reads):
    d = derated(reads, "0.5")
    told = heat_over(d.document, duty_of(d.document, {"time": ["90 s", "45 s"], "ratio.value": ["0.5", "0.2"]}))
    corners = [("0 s", "0.5"), ("90 s", "0.5"), ("90 s", "0.2"), ("135 s", "0.2")]
    run = derated(reads, corners).run(135.0)
    t = np.linspace(1, 134, 200)
    for key in ("copper.temperature", "housing.temperature"):
        rise = run[key].y.max() - 25
        found = np.interp(t, told.times, told.temperatures[key])
        assert found == pytest.approx(run[key].at(t), abs=0.005 * rise) and rise > 45
    assert [*told.heat] == ["motor.heat"], "a body that is read gives no heat"
    free = heat_over(*undisturbed(d))
    assert free.temperatures["copper.temperature"].max() > 20 + told.temperatures["copper.temperature"].max()


def undisturbed(d: pendel.Drive):
    """The same where nothing is taken back."""
    d.rows("derating", [("0", "1"), ("300", "1")])
    return d.document, duty_of(d.document, {"time": ["90 s", "45 s"], "ratio.value": ["0.5", "0.2"]})


def test_the_highest_load_meets_the_limit_of_the_closed_form():
    d = stalled(limit="120 °C")
    duty = duty_of(d.document, {"source.U_0": ["6 V"]}, kind="S1", time="1 h")
    factor, result = highest(d.document, duty, "source.U_0")
    volts = brentq(lambda u: u * u / (R_A * (1 + COPPER * 100)) * R_TH - (120 - AIR), 1, 50)
    assert factor * 6 == pytest.approx(volts, rel=3e-3)
    assert result.uses[0].share == pytest.approx(1.0, abs=0.01) and result.uses[0].what == "Copper"
    assert heat_over(d.document, duty, steady=True).uses[0].warmest < 120
    short = duty_of(d.document, {"time": ["30 s", "30 s"], "source.U_0": ["6 V", "6 V"]}, changes=False)
    for rounds in (1, 3):  # from the start it may be more, and the less the longer it goes
        factor, result = highest(d.document, short, "source.U_0", rounds=rounds)
        assert integrated([(6 * factor, 60 * rounds)], AIR, 60.0 * rounds) == pytest.approx(120, abs=1.0)
        assert result.times[-1] == pytest.approx(60 * rounds) and result.uses[0].share == pytest.approx(1, abs=0.01)


def test_what_cannot_be_told_is_said():
    drive = stalled()
    for values, kind, words in (
        ({"time": ["60 s"], "source.U_1": ["6 V"]}, "", "U_0"),
        ({"time": ["-3 s"], "source.U_0": ["6 V"]}, "", "no time above 0"),
        ({"time": ["1 V"], "source.U_0": ["6 V"]}, "", "Stretch 1"),
        ({"time": ["60 s", "1 s"], "source.U_0": ["6 V"]}, "", "one length"),
        ({"time": [], "source.U_0": []}, "", "no stretch"),
        ({"time": ["60 s"], "way.R": ["2 K/W"]}, "", "belongs to a body"),
        ({"time": ["60 s"], "level": ["switching"]}, "", "only numbers can change"),
        ({"source.U_0": ["6 V", "0 V"]}, "S8", "go as a table"),
    ):
        with pytest.raises(DriveProblem, match=re.escape(words)):
            duty = duty_of(drive.document, values, kind=kind, time="10 min")
            heat_over(drive.document, duty)
    watched = stalled()
    watched.add("gain", "Watch")
    watched.connect("way.heat", "watch.x")
    with pytest.raises(DriveProblem, match="Watch reads “heat” of Way"):
        heat_over(watched.document, duty_of(watched.document, {"time": ["1 s"], "source.U_0": ["6 V"]}))
    lonely = stalled()
    lonely.remove("way", "air")
    duty = duty_of(lonely.document, {"source.U_0": ["6 V"]}, kind="S1", time="60 s")
    with pytest.raises(DriveProblem, match="ambient behind every body"):
        heat_over(lonely.document, duty, steady=True)
    cold = stalled()
    cold.remove("copper")
    cold.add("friction", "Rubbing")
    cold.connect("rubbing.heat", "motor.heat")  # two that give, and nothing that takes
    with pytest.raises(DriveProblem, match="No part gives heat"):
        heat_over(cold.document, duty)


def test_losses_that_grow_faster_than_heat_leaves_run_away_and_it_is_told_when():
    d = resistor_with_current("4 A", alpha="0.6 %/K")
    duty = duty_of(d.document, {"amperes.value": ["4 A"]}, kind="S2", time="1 h")
    with pytest.raises(DriveProblem, match="runs away.*after") as told:
        heat_over(d.document, duty)
    found = solve_ivp(
        lambda t, x: [(16 * (1 + 0.006 * (x[0] - 20)) - (x[0] - AIR) / 20) / C],
        (0, 3600),
        [AIR],
        rtol=1e-9,
        dense_output=True,
    )
    when = brentq(lambda t: found.sol(t)[0] - 1000, 1, 3600)
    assert float(re.search(r"after ([\d.]+) ks|after ([\d.]+) s", str(told.value)).group(2) or 0) == pytest.approx(
        when, rel=0.02
    )
    d.set("tick", "1 ms")
    run_long = d.run("2000 s")
    assert any("grow with its temperature" in sentence for sentence in run_long.remarks)


def resistor_with_current(amperes: str, alpha: str) -> pendel.Drive:
    d = pendel.Drive("Resistor")
    d.add("constant", "Amperes", value=amperes)
    d.add("set_current", "Source")
    d.connect("amperes.out", "source.set")
    d.add("resistor", "Wire", R="1 ohm", alpha=alpha)
    d.add("ground", "Earth")
    d.add("heat_capacity", "Body", C=f"{C} J/K", T_0=f"{AIR} °C")
    d.add("heat_resistance", "Way", R="20 K/W")
    d.add("ambient", "Air", T=f"{AIR} °C")
    for a, b in (("source.a", "wire.b"), ("source.b", "wire.a"), ("wire.a", "earth.line"), ("wire.heat", "body.a")):
        d.connect(a, b)
    d.connect("body.b", "way.a")
    d.connect("way.b", "air.a")
    d.set("until", "1 s")
    return d


# Converters.


def haul(level: str, port: str = "heat") -> pendel.Drive:
    d = pendel.open_example("haul_drive")
    d.set("level", level)
    z = d.add("transient_impedance", "Z", T_0="60 °C")
    d.document.cards[z].choices["form"] = "cauer"
    d.add("ambient", "Sink", T="60 °C")
    d.connect(f"inverter.{port}", "z.a")
    d.connect("z.b", "sink.a")
    return d


def switched(run) -> float:
    """Energy (J) of all switchings of a run."""
    return sum(float(e.sum()) for _, e in (run.kept.switchings[device.key] for device in run.kept.devices))


@pytest.mark.parametrize("level", ["switching", "device"])
def test_switching_energies_go_to_the_heat_port_as_they_are_told_after_a_run(level):
    d = haul(level)
    d.set("until", "30 ms")
    run = d.run()
    kept, end = run.kept, run.kept.end
    into = kept.pieces("z.heat").integral(0, end)
    conducted = kept.pieces("inverter.loss").integral(0, end)
    waiting = kept.rows[-1, 1 + kept.structure.state_keys.index("inverter.switched_heat")]
    assert into + waiting == pytest.approx(conducted + switched(run), rel=1e-5)
    assert 0.2 < switched(run) / into < 0.8 and 0 < waiting < 0.01 * into


def test_averaged_and_switched_heat_agree_and_warm_devices_lose_more():
    means = {}
    for level in ("averaged", "switching"):
        d = haul(level)
        for name, text in (("R_on_warm", "12 mohm"), ("V_d_warm", "0.7 V"), ("e_warm", "1.3")):
            d.set(f"inverter.{name}", text)
        run = d.run()
        plain = run.kept.pieces("z.heat").integral(0.03, 0.05) / 0.02
        d.choose("inverter", over_temperature="two")
        run = d.run()
        means[level] = plain, run.kept.pieces("z.heat").integral(0.03, 0.05) / 0.02
        if level == "switching":
            waiting = run.kept.rows[-1, 1 + run.kept.structure.state_keys.index("inverter.switched_heat")]
            told = run.kept.pieces("inverter.loss").integral(0, run.kept.end) + switched(run)
            assert run.kept.pieces("z.heat").integral(0, run.kept.end) + waiting == pytest.approx(told, rel=1e-5)
    assert means["averaged"] == pytest.approx(means["switching"], rel=0.01)
    assert means["averaged"][1] > 1.1 * means["averaged"][0]


def test_the_peak_of_a_junction_within_an_output_period_is_that_of_a_run():
    d = haul("averaged", "heat_a")
    d.set("until", "0.8 s")
    run = d.run()
    y = run["z.temperature"]
    late = y.y[y.t > 0.7]
    d.set("until", "60 ms")
    duty = duty_of(d.document, {"torque_demand.after": ["400 N*m"]}, kind="S1", time="10 s")
    peaks = heat_over(d.document, duty, steady=True).peaks["z.temperature"]
    assert late.max() - late.min() > 2.0
    assert peaks.max() == pytest.approx(late.max(), abs=0.1 * (late.max() - late.min()))


def test_a_limit_that_is_passed_is_told_with_part_instant_and_by_what():
    d = stalled(limit="26 °C")
    d.set("until", "2 s")
    run = d.run()
    (sentence,) = [s for s in run.remarks if "limit" in s]
    y = run["copper.temperature"]
    first = float(np.interp(26.0, y.y, y.t))
    assert sentence.startswith("Copper: its limit of 26 °C is passed at") and "Cool it better" in sentence
    assert float(re.search(r"passed at ([\d.]+) ms", sentence)[1]) == pytest.approx(1e3 * first, abs=20)


def test_two_temperatures_that_are_one_are_a_fault():
    d = haul("averaged")
    d.choose("inverter", over_temperature="two")
    d.set("inverter.T_warm", "25 °C")
    with pytest.raises(DriveHasFindings, match="given twice for 25 °C"):
        d.run()


# Swings.


def test_swings_are_those_of_astm_e1049():
    """ASTM E1049-85, figure 6 (from memory): the history, and counts by range."""
    counts: dict[float, float] = {}
    for swing in rainflow([-2, 1, -3, 5, -1, 3, -4, 4, -2]):
        counts[swing.size] = counts.get(swing.size, 0) + swing.count
    assert counts == {3.0: 0.5, 4.0: 1.5, 6.0: 0.5, 8.0: 1.0, 9.0: 0.5}


def test_life_is_counted_by_the_swings_of_a_duty():
    wear = Endurance(cycles=1e5, size=80.0, exponent=5.0)
    t = np.linspace(0, 1, 1001)
    y = 80 + 40 * np.sin(2 * np.pi * t)
    found = life(y, 600.0, wear)
    assert [s.count for s in found.swings] in ([1.0], [0.5, 0.5])
    assert found.years == pytest.approx(600 * 1e5 / (365.25 * 86400), rel=1e-3)
    assert wear.bears(Swing(40.0, 80.0, 1.0)) == pytest.approx(1e5 * 2**5)
    assert life(np.full(5, 60.0), 600.0, wear).years == np.inf


# The terminal.


def test_the_terminal_tells_how_warm_a_duty_makes_it(tmp_path, capsys):
    d = stalled(limit="155 °C")
    d.save(tmp_path / "stalled.pendel")
    (tmp_path / "duty.csv").write_text("time;source.U_0\n60 s;6,0 V\n60 s;2 V\n")
    out = tmp_path / "curves.csv"
    call = ["heat", str(tmp_path / "stalled.pendel"), "--duty", str(tmp_path / "duty.csv"), "--steady"]
    assert main([*call, "--out", str(out), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    copper = next(p for p in told["places"] if p["signal"] == "copper.temperature")
    assert copper["limit"] == 155 and copper["begin"] == pytest.approx(copper["end"], abs=0.01)
    table = np.genfromtxt(out, delimiter=",", skip_header=1)
    assert table[:, 0].max() == pytest.approx(120) and table[:, 2].max() == pytest.approx(copper["warmest"], abs=0.01)
    assert main([*call, "--without-changes", "--json"]) == 0
    calm = json.loads(capsys.readouterr().out)["places"]
    again = next(p for p in calm if p["signal"] == "copper.temperature")
    assert again["warmest"] == pytest.approx(copper["warmest"], abs=0.05), "nothing starts here"
    (tmp_path / "duty.csv").write_text("hours,source.U_0\n1,2\n")
    assert main(call) == 2 and "begins with a head" in capsys.readouterr().err


def test_torque_that_heat_allows_is_that_of_the_closed_form():
    """A body behind a winding of R_20·(1 + α·(T − 20)): dT/dt = (R·I² − (T − T_a)/R_th)/C is linear in T."""
    limit, top_speed = 120.0, 300.0
    d = pendel.open_example("car_door_drive")
    d.add("heat_capacity", "Copper", C=f"{C} J/K", T_0=f"{AIR} °C", T_max=f"{limit} °C")
    d.add("heat_resistance", "Way", R=f"{R_TH} K/W")
    d.add("ambient", "Air", T=f"{AIR} °C")
    for a, b in (("door_motor.heat", "copper.a"), ("copper.b", "way.a"), ("way.b", "air.a")):
        d.connect(a, b)
    d.set("until", "0.1 s")
    run = d.run(until=0.08)
    i, lost, warm, torque = (
        run[key].y[-1]
        for key in ("door_motor.current", "door_motor.copper_loss", "copper.temperature", "door_motor.torque")
    )
    cold = lost / i**2 / (1 + COPPER * (warm - 20))

    def after(amps, seconds, begin=AIR):
        rate = 1 / R_TH - cold * COPPER * amps**2
        end = AIR + cold * amps**2 * (1 + COPPER * (AIR - 20)) / rate
        return end + (begin - end) * np.exp(-rate / C * seconds)

    for_ever = brentq(lambda amps: after(amps, 1e5) - limit, 0.1, 5.5)
    warmed = after(0.5 * for_ever, 1e5)
    where = ("door_motor", "speed_pi.out", "24 A", f"{top_speed} rad/s")
    cases = ((["for ever", "60 s"], 0, [for_ever, brentq(lambda a: after(a, 60) - limit, 0.1, 24)]),)
    cases += ((["10 s"], 0.5, [brentq(lambda a: after(a, 10, warmed) - limit, 0.1, 24)]),)
    for times, before, amps in cases:
        held = d.torque_held(*where, times=times, speeds=2, before=before)
        assert held.speeds.tolist() == [0, top_speed] and held.before == before
        for curve, expected in zip(held.curves, amps):
            assert curve.torque[0] == pytest.approx(expected * torque / i, rel=2e-3)
            assert curve.limits[0] == "Copper" and np.all(curve.torque <= held.largest * 1.0001)
    assert "for 10 s (N·m)" in held.rows()[0] and held.curves[0].limits[1] in ("Copper", "voltage at this speed")
    d.set("copper.T_max", "20 °C")
    beyond = d.torque_held(*where, times=["for ever"], speeds=2)
    assert np.isnan(beyond.curves[0].torque).all() and beyond.curves[0].limits == ("Copper", "Copper")
    d.set("copper.T_max", "800 °C")
    fast = d.torque_held(*where[:2], "24 A", "400 rad/s", times=["1 s"], speeds=2)
    assert fast.curves[0].limits == ("largest asked", "voltage at this speed") and fast.largest[1] < fast.largest[0]
    free = d.torque_held(*where[:2], "2 A", where[3], times=["for ever"], speeds=2)
    assert free.curves[0].limits == ("largest asked",) * 2 and free.curves[0].torque[0] == pytest.approx(
        free.largest[0]
    )
    for wrong, words in (
        ({"times": ["0 s"]}, "above 0"),
        ({"speeds": 1}, "2 to 60"),
        ({"before": "120 %"}, "0 to 100 %"),
        ({"times": ["soon"]}, "How long"),
    ):
        with pytest.raises(DriveProblem, match=words):
            d.torque_held(*where, **wrong)
    d.set("copper.T_max", "")
    with pytest.raises(DriveProblem, match="No body has a limit"):
        d.torque_held(*where)

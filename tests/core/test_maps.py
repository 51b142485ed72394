"""Machines, engines and converters by the points of a map: met between their points, and used where these lie."""

import re
from dataclasses import replace

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.interpolate import CubicHermiteSpline

import pendel
from pendel.core.catalogue.systems import converter_points, engine_map, machine_map
from pendel.core.catalogue.systems.curves import monotone_slopes
from pendel.core.catalogue.systems.envelope import TERMS, loss_terms
from pendel.core.catalogue.systems.scattered import fit_surface
from pendel.core.check.rules import examine
from pendel.core.errors import DriveHasFindings

from .energy import energy_gap

NAN = float("nan")


def rad(n):
    return n * 2 * np.pi / 60


def odd_losses(w, m):
    """Losses of no form that the fit knows: air by the cube, saturation, iron that comes with torque."""
    size = np.abs(m) / 120
    iron = 4e-4 * w * w * (1 + 0.5 * np.tanh((np.abs(m) - 60) / 25))
    return 80 + 0.25 * np.abs(w) + 2e-6 * np.abs(w) ** 3 + 900 * size**2 * (1 + 0.6 * size**4) + iron


def machine_points(w, m, loss):
    """Efficiency where there is power, else the loss."""
    return tuple(
        (a, b, a * b / (a * b + c) if a * b > 2000 else NAN, NAN if a * b > 2000 else c) for a, b, c in zip(w, m, loss)
    )


@pytest.mark.parametrize("scattered", [False, True])
def test_a_map_is_met_between_its_points(scattered):
    rng = np.random.default_rng(1)
    if scattered:
        w, m = rng.uniform(0, 420, 130), rng.uniform(0, 120, 130)
    else:
        w, m = (a.ravel() for a in np.meshgrid(np.linspace(0, 420, 9), np.linspace(0, 120, 7)))
    inside = w * m < 22e3
    w, m = w[inside], m[inside]
    fit = machine_map.fitted(machine_points(w, m, odd_losses(w, m)), 120.0)
    at = rng.uniform(w.min(), w.max(), 3000), rng.uniform(m.min(), m.max(), 3000)
    at = tuple(a[at[0] * at[1] < 22e3] for a in at)
    true = odd_losses(*at)
    off = np.abs(fit.loss(*at, 120.0) - true) / np.maximum(at[0] * at[1] + true, 0.02 * 22e3)
    assert np.sqrt(np.mean(off**2)) < 0.003 and off.max() < 0.03
    assert fit.missed.worst < 0.005 and fit.missed.left_out[0] < 0.01
    by_terms = loss_terms(*at, 120.0) @ fit.terms
    assert np.abs(by_terms / true - 1).max() > 0.05, "the terms alone do not give it"


def test_a_surface_is_level_beyond_its_points_and_nothing_is_made_of_noise():
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 1, (2, 200))
    surface, off = fit_surface(x, y, np.sin(3 * x) * y, np.ones(200))
    assert np.abs(surface.at(x, y) - np.sin(3 * x) * y).max() < 0.01 and np.sqrt(np.mean(off**2)) < 0.01
    far = surface.at(np.array([5.0, 9.0, 0.5]), np.array([0.5, 0.5, -7.0]))
    assert far[0] == pytest.approx(far[1]) and np.all(np.abs(far) < 1.5)
    noise = rng.normal(size=200)
    surface, off = fit_surface(x, y, noise, np.ones(200))
    assert np.std(surface.at(x, y)) < 0.5 and np.std(off) > 0.9, "what is left out is not foreseen, and that is told"
    nothing, _ = fit_surface(x, y, np.zeros(200), np.ones(200))
    assert nothing.spans == ((x.min(), x.max()), (y.min(), y.max())) and np.all(nothing.at(x, y) == 0)
    level, off = fit_surface(np.ones(9), y[:9], noise[:9], np.ones(9))
    assert np.all(level.at(x, y) == 0) and np.array_equal(off, noise[:9])


def with_map(example, card, kind, rows, drop):
    made = pendel.open_example(example)
    old = made.document.cards[card]
    values = {name: text for name, text in old.values.items() if name not in drop}
    made.document.cards[card] = replace(old, kind=kind, values=values, rows=tuple(rows))
    return made


def test_a_map_of_what_the_terms_say_gives_the_same_trip():
    d = pendel.open_example("works_car")
    v = d.card("traction").values
    losses = [v[name] for name in TERMS]
    rows = [
        (f"{n} rpm", f"{m} N*m", "", f"{float(loss_terms(rad(n), m, v['M_max']) @ losses)} W")
        for n in np.linspace(0, 6000, 9)
        for m in np.linspace(0, v["M_max"], 7)
    ]
    mapped = with_map("works_car", "traction", "machine_by_map", rows, TERMS)
    one, other = d.run("60 s"), mapped.run("60 s")
    for signal in ("traction.loss", "battery.charge"):
        assert np.allclose(one[signal].at(np.arange(60)), other[signal].at(np.arange(60)), rtol=1e-6, atol=1e-6)
    assert not [r for r in other.remarks if "map" in r]


def test_the_plant_finds_the_losses_that_the_fit_has_in_all_four_quadrants():
    """At constant speeds and torques, the loss of a run is that of the map, mirrored for the other way round."""
    w, m = (a.ravel() for a in np.meshgrid(np.linspace(0, 400, 9), np.linspace(-100, 100, 11)))
    loss = odd_losses(w, m) * np.where(w * m < 0, 0.8, 1.0)
    rows = [(f"{a} rad/s", f"{b} N*m", "", f"{c} W") for a, b, c in zip(w, m, loss)]
    d = pendel.Drive()
    d.set("tick", "10 ms")
    d.add("dc_source", "Source", U_0="100 V")
    d.add("machine_by_map", "Machine", rows=rows, M_max="100 N*m", P_max="50 kW", T_lag="1 ms")
    d.add("inertia", "Wheel", J="1e6 kg*m^2")
    d.add("constant", "Ask", value="0 N*m")
    d.connect("source", "machine")
    d.connect("machine.shaft", "wheel.a")
    d.connect("ask.out", "machine.torque")
    fit = machine_map.map_of(examine(d.document).values["machine"], d.document.cards["machine"])
    for speed, torque in ((250, 61), (250, -61), (-250, 61), (-250, -61), (33, 7)):
        d.start("wheel", omega=f"{speed} rad/s")
        d.card("ask")["value"] = f"{torque} N*m"
        run = d.run("50 ms")
        found = run["machine.loss"].y[-1]
        assert found == pytest.approx(float(fit.loss(np.array([speed]), np.array([torque]), 100.0)[0]), rel=1e-4)
        assert found == pytest.approx(odd_losses(speed, torque) * (0.8 if speed * torque < 0 else 1.0), rel=0.02)
    d.start("wheel", omega="450 rad/s")
    assert any("left its map for" in remark and "3820 rpm" in remark for remark in d.run("50 ms").remarks)


def test_an_engine_of_willans_points_burns_as_by_willans_line():
    d = pendel.open_example("day_of_trips")
    v = d.card("engine").values
    rows = []
    for n in np.linspace(500, 5000, 7):
        for m in np.linspace(0, 90, 7):
            fuel = (m + v["M_f"]) * rad(n) / v["eta_i"] / v["H_u"]  # kg/s
            both = (f"{3.6e9 * fuel / (m * rad(n))} g/kWh", "") if m > 0 else ("", f"{1e3 * fuel} g/s")
            rows.append((f"{n} rpm", f"{m} N*m", *both))
    mapped = with_map("day_of_trips", "engine", "engine_by_map", rows, ("eta_i",))
    one, other = d.run("100 s"), mapped.run("100 s")
    assert one["engine.fuel"].y[-1] > 1e-3
    assert other["engine.fuel"].y[-1] == pytest.approx(one["engine.fuel"].y[-1], rel=1e-4)


def test_a_map_of_consumption_is_met_between_its_points():
    def taken(w, m):
        return (2.5 + 0.3 * ((w - 260) / 200) ** 2 + 0.2 * ((m - 60) / 40) ** 2) * (m + 14) * w

    w, m = (a.ravel() for a in np.meshgrid(np.linspace(80, 500, 8), np.linspace(10, 90, 7)))
    points = tuple((a, b, taken(a, b) / 42.5e6 / a / b, NAN) for a, b in zip(w, m))
    fit = engine_map.fitted(points, 14.0, 42.5e6)
    rng = np.random.default_rng(3)
    at = rng.uniform(80, 500, 1000), rng.uniform(10, 90, 1000)
    found = fit.taken(at[0], at[1] + 14) * (at[1] + 14) * at[0]
    assert np.abs(found / taken(*at) - 1).max() < 0.01 and fit.missed.worst < 0.005 and fit.missed.left_out[0] < 0.02


def test_a_converter_of_points_has_the_losses_they_were_made_of():
    power = np.array([20.0, 50, 100, 250, 500, 600])
    current = power / 24
    lost = 6 + 0.4 * current + 0.015 * current**2
    points = tuple(zip(power, power / (power + lost)))
    fit = converter_points.fitted(points, 24.0)
    assert fit.coefficients == pytest.approx((6, 0.4, 0.015), rel=1e-6) and fit.worst < 1e-9


def test_a_batterys_resistance_is_that_of_its_charge_and_temperature():
    """Against the curve in SciPy and the exponential by hand; at once, before the lag comes."""
    rows = [("0 %", "88 V", "300 %"), ("50 %", "100 V", "100 %"), ("100 %", "110 V", "80 %")]
    curve = CubicHermiteSpline([0, 0.5, 1], [3, 1, 0.8], monotone_slopes([0, 0.5, 1], [3, 1, 0.8]))
    for charge, warmth in ((0.2, 25), (0.75, -5), (0.5, 45)):
        d = pendel.Drive()
        d.set("tick", "1 s")
        d.add("battery", "Battery", rows=rows, R="20 mohm", R_1="0 ohm", charge_0=f"{charge * 100} %", c_R="1.5 %/K")
        d.card("battery")["theta"] = f"{warmth} °C"
        d.add("power_load", "Load", P="1 kW")
        d.connect("battery.dc", "load.dc")
        run = d.run("1 s")
        u, i, e = (run[f"battery.{name}"].y[0] for name in ("voltage", "current", "open_voltage"))
        assert (e - u) / i == pytest.approx(0.02 * curve(charge) * np.exp(-0.015 * (warmth - 25)), rel=1e-3)
    warm = pendel.Drive()
    warm.add("battery", "Battery", rows=[*rows[:2], ("100 %", "110 V")])
    assert examine(warm.document).values["battery"]["r_2"] == 1.0, "rows of files that know of no third column"


def test_a_batterys_lags_follow_a_load_as_scipy_integrates_them():
    """T_k*u_k' = R_k*i - u_k and u = U_oc - sum u_k - R*i (Plett, chapter 2.6, from memory)."""
    lags = {"1": (0.01, 5.0), "2": (0.02, 60.0), "3": (0.005, 400.0)}
    d = pendel.Drive()
    d.set("tolerance", "1e-9")
    texts = {f"R_{n}": f"{r} ohm" for n, (r, _) in lags.items()} | {f"T_{n}": f"{t} s" for n, (_, t) in lags.items()}
    d.add("battery", "Battery", R="0.03 ohm", Q="1000 Ah", charge_0="50 %", **texts)
    d.add("power_load", "Load", P="4 kW")
    d.connect("battery.dc", "load.dc")
    t = np.array([1.0, 10.0, 100.0, 599.0])
    for count in (3, 1):
        if count == 1:
            d.set("battery.R_2", "0")
            d.set("battery.R_3", "0")
        run, pairs = d.run(600), list(lags.values())[:count]
        i = run["battery.current"]

        def slopes(at, x, i=i, pairs=pairs):
            return [(r * np.interp(at, i.t, i.y) - u) / tau for u, (r, tau) in zip(x, pairs)]

        over = solve_ivp(slopes, (0, 600), [0.0] * count, rtol=1e-8, atol=1e-10, max_step=1.0, t_eval=t).y.sum(axis=0)
        expected = run.at("battery.open_voltage", t) - over - 0.03 * run.at("battery.current", t)
        assert run.at("battery.voltage", t) == pytest.approx(expected, abs=2e-4)
        assert run.at("battery.voltage", t) * run.at("battery.current", t) == pytest.approx(4000, rel=1e-6)
        assert energy_gap(d.run(600, with_energy=True)) < 1e-6


@pytest.mark.parametrize(
    ("kind", "rows", "says"),
    [
        ("machine_by_map", [("1000 rpm", "50 N*m", "90 %", "10 W")] * 6, r"Row 1 .* both efficiency and loss"),
        ("machine_by_map", [("1000 rpm", "50 N*m", "", "")] * 6, "neither efficiency nor loss"),
        ("machine_by_map", [("0 rpm", "50 N*m", "90 %", "")] * 6, "no power, so no efficiency"),
        ("machine_by_map", [("1 rpm", "5 N*m", "90 %", "")] * 2, "has 2 points"),
        ("machine_by_map", [("1 rpm", "5 N*m", "109 %", "")] * 6, "Effic. eta"),
        ("machine_by_map", [("1 V", "5 N*m", "90 %", "")] * 6, "row 1"),
        ("engine_by_map", [("1000 rpm", "50 N*m", "", "")] * 6, "neither use .g/kWh. nor rate"),
        ("engine_by_map", [("1000 rpm", "50 N*m", "40 g/kWh", "")] * 6, "more than all of it"),
        ("engine_by_map", [("1000 rpm", "0 N*m", "250 g/kWh", "")] * 6, "no power, so no use"),
        ("engine_by_map", [("1000 rpm", "-20 N*m", "", "1 g/s")] * 6, "dragged"),
        ("converter_by_points", [("20 W", "90 %")], "has 1 points"),
        ("converter_by_points", [("20 W", "99 %"), ("100 W", "60 %"), ("200 W", "99 %")], "a point that is off"),
    ],
)
def test_points_that_cannot_be_get_a_sentence_that_names_the_row(kind, rows, says):
    d = pendel.Drive()
    d.add(kind, "Card", rows=rows)
    found = [finding for finding in d.card("card").findings if re.search(says, finding.sentence)]
    assert found and found[0].field.startswith("rows:")
    if "off" not in says:
        with pytest.raises(DriveHasFindings):
            d.run("1 ms")

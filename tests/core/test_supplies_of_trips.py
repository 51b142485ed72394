"""Fuel cell and charger, and wind against a car."""

import numpy as np
import pytest
from scipy.constants import physical_constants
from scipy.integrate import solve_ivp
from scipy.interpolate import CubicHermiteSpline

import pendel
from pendel.core.catalogue.systems import fuel_cell
from pendel.core.catalogue.systems.curves import monotone_slopes

CURVE = np.array([[0, 96], [5, 84], [30, 72], [80, 62], [110, 54], [125, 44]], float)


def loaded(power, until="10 s", **values):
    d = pendel.Drive()
    d.set("tick", "10 ms")
    d.set("until", until)
    d.add("fuel_cell", "Cell", **values)
    d.add("power_load", "Load", P=f"{power} W")
    d.connect("cell.dc", "load.dc")
    return d


def test_a_fuel_cell_rests_on_its_curve_and_takes_what_faraday_says():
    curve = CubicHermiteSpline(*CURVE.T, monotone_slopes(*CURVE.T))
    assert pytest.approx(physical_constants["Faraday constant"][0], rel=1e-7) == fuel_cell.FARADAY
    for power in (500, 2500, 5000):
        run = loaded(power).run()
        u, i = (run[f"cell.{name}"].y[-1] for name in ("voltage", "current"))
        assert u * i == pytest.approx(power, rel=1e-6) and u == pytest.approx(curve(i), rel=1e-4)
        rate = 100 * i * 2.016e-3 / (2 * 96485.33) / 0.98
        assert run["cell.fuel_rate"].y[-1] == pytest.approx(rate, rel=1e-9)
        assert run["cell.fuel_power"].y[-1] == pytest.approx(rate * 119.96e6, rel=1e-9)
        efficiency = u / (1.2443 * 100 / 0.98)
        assert u * i / run["cell.fuel_power"].y[-1] == pytest.approx(efficiency, rel=2e-2), (
            "1.25 V: lower heating value"
        )
    run = loaded(3000, until="20 s").run()
    t, y = run["cell.fuel_rate"].t, run["cell.fuel_rate"].y
    assert run["cell.fuel"].y[-1] == pytest.approx(np.trapezoid(y, t), rel=1e-4)


def test_a_fuel_cell_gives_way_at_once_by_its_resistance_and_then_with_its_lag():
    """Against `scipy.integrate.solve_ivp` from a start at its open voltage."""
    d = loaded(2000, until="3 s", R="100 mohm", T="0.5 s")
    run = d.run()
    curve = CubicHermiteSpline(*CURVE.T, monotone_slopes(*CURVE.T))

    def current(v):
        return (v - np.sqrt(v * v - 4 * 0.1 * 2000)) / 0.2

    def slope(t, y):
        i = current(y[0])
        return [(curve(i) + 0.1 * i - y[0]) / 0.5]

    known = solve_ivp(slope, (0, 3), [96.0], rtol=1e-9, atol=1e-9, dense_output=True)
    t = np.linspace(0.05, 3, 50)
    v = known.sol(t)[0]
    assert run["cell.voltage"].at(t) == pytest.approx(v - 0.1 * current(v), abs=0.01)


def test_a_fuel_cell_beyond_its_curve_and_curves_that_cannot_be_are_told():
    assert any("its curve ends at 125 A" in remark for remark in loaded(6500).run("4 s").remarks)
    for rows, says in (
        ([("0 A", "96 V")], "fewer than two rows"),
        ([("1 A", "96 V"), ("5 A", "80 V")], "does not begin at a current of 0"),
        ([("0 A", "96 V"), ("5 A", "97 V")], "voltage of row 2 is not below"),
        ([("0 A", "96 V"), ("5 A", "95 V"), ("4 A", "90 V")], "current of row 3 is not above"),
        ([("0 A", "96 V"), ("5 A", "95.9 V"), ("40 A", "90 V")], "R takes more than the curve falls"),
    ):
        d = pendel.Drive()
        d.add("fuel_cell", "Cell", rows=rows)
        assert any(says in finding.sentence for finding in d.check()), says


def test_a_charger_fills_a_battery_by_current_then_by_voltage_as_in_scipy():
    d = pendel.Drive()
    d.set("tick", "1 s")
    d.set("until", "5000 s")
    rows = [("0 %", "90 V"), ("100 %", "110 V")]
    d.add("battery", "Battery", rows=rows, Q="20 Ah", charge_0="40 %", R="50 mohm", R_1="0 ohm")
    d.add("charger", "Charger", I_max="15 A", U_end="108 V", P_max="10 kW", R_end="20 mohm", T="0.2 s")
    d.add("constant", "On", value="1")
    d.connect("battery.dc", "charger.dc")
    d.connect("on.out", "charger.on")
    run = d.run()

    def current(q):
        return min(15.0, (108 - (90 + 20 * q)) / (0.05 + 0.02))

    known = solve_ivp(lambda t, q: [current(q[0]) / (20 * 3600)], (0, 5000), [0.4], rtol=1e-9, dense_output=True)
    t = np.linspace(10, 4980, 60)
    q = known.sol(t)[0]
    # The charger hears of its input a tick late, and its current lags.
    assert run["battery.charge"].at(t + 1.2) == pytest.approx(q, abs=5e-5)
    assert run["charger.current"].at(t + 1.2) == pytest.approx([current(each) for each in q], abs=0.05)
    assert run["charger.voltage"].y[-1] == pytest.approx(108, abs=0.2) and run["charger.voltage"].y.max() < 108.01
    out, mains = (run[f"charger.{name}"].at(np.array([100.0]))[0] for name in ("power", "mains_power"))
    assert mains == pytest.approx(out / 0.93 + 25) and out == pytest.approx(
        15 * run["charger.voltage"].at(np.array([100.0]))[0]
    )
    balance = run.balance(0, 5000)
    assert abs(balance.supplied - balance.delivered - balance.heat - balance.stored) < 1e-3 * balance.supplied
    d.card("charger")["P_max"] = "1 kW"
    weak = d.run("60 s")
    assert weak["charger.power"].y[-1] == pytest.approx(1000, rel=1e-3)
    d.card("on")["value"] = "0"
    assert abs(d.run("60 s")["charger.current"].y[-1]) < 1e-9


def test_wind_pushes_a_car_as_its_air_does():
    """At rest without rolling resistance a head wind moves it back, to the speed of the wind itself."""
    d = pendel.Drive()
    d.set("tick", "1 s")
    d.add("car", "Car", m="100 kg", f_0="0 N", f_1="0 N*s/m", f_2="2 N*s^2/m^2", wind="10 m/s", turning="0 %")
    run = d.run("200 s")
    assert run["car.drag"].y[0] == pytest.approx(2 * 10**2)
    # dv/dt = −k (v + w)², so v + w = w/(1 + k w t)
    at = 1 / (1 / 10 + 2 / 100 * run["car.speed"].t)
    assert run["car.speed"].y == pytest.approx(at - 10, abs=1e-2)

"""DC machines with a field winding in steady state; Fitzgerald, Kingsley, Umans: Electric Machinery, section 7.5 (from
memory)."""

import numpy as np
import pytest
import scipy.integrate

import pendel
from pendel.core.check import examine
from pendel.core.errors import DriveHasFindings
from tests.core.energy import energy_gap


def bench(kind, load="20", **values):
    d = pendel.Drive("Bench")
    d.set("tick", "1 ms")
    d.set("until", "6 s")
    d.add("dc_source", "Supply", U_0="220", R_i="0")
    d.add(kind, "Machine", **values)
    d.add(
        "load_torque",
        "Load",
        choices={"acts": "pulls"},
        profile=[("0", "0"), ("1", "0"), ("1", load), ("9", load)],
    )
    d.connect("supply.dc", "machine.winding")
    d.connect("machine.shaft", "load.a")
    if kind == "separate_dc":
        d.add("dc_source", "Exciter", U_0="150", R_i="0")
        d.connect("exciter.dc", "machine.field")
    return d


@pytest.mark.parametrize("kind, field", [("separate_dc", 150 / 180), ("shunt_dc", 220 / 180)])
def test_speed_falls_with_torque_over_the_square_of_the_flux(kind, field):
    run = bench(kind, b_m="0").run()
    k = 1.1 * field
    assert run.at("machine.field_current", [5.9])[0] == pytest.approx(field, rel=1e-5)
    assert run.at("machine.speed", [5.9])[0] == pytest.approx(220 / k - 0.6 * 20 / k**2, rel=1e-5)


def test_a_series_machine_gives_torque_with_the_square_of_its_current():
    run = bench("series_dc", b_m="0.05").run()
    current, speed = (run.at(f"machine.{n}", [5.99])[0] for n in ("current", "speed"))
    assert 0.05 * current**2 == pytest.approx(20 + 0.05 * speed, rel=2e-3)
    assert speed == pytest.approx((220 - 1.0 * current) / (0.05 * current), rel=2e-3)


@pytest.mark.parametrize("kind", ["separate_dc", "shunt_dc", "series_dc"])
def test_a_nameplate_is_met_by_its_machine(kind):
    plate = {"U_n": "220", "I_n": "25", "n_n": "1500 rpm"} | ({"U_f": "150"} if kind == "separate_dc" else {})
    d = bench(kind, "0", b_m="0", **plate)
    card = d.document.cards["machine"]
    card.choices["entry"] = "plate"
    field = {"separate_dc": 150 / 180, "shunt_dc": 220 / 180, "series_dc": 25.0}[kind]
    armature = 25 - (field if kind == "shunt_dc" else 0)
    emf = 220 - 0.6 * armature - (0.4 * 25 if kind == "series_dc" else 0)
    torque = emf * armature / (1500 / 60 * 2 * np.pi)
    d.document.cards["load"] = bench(kind, repr(float(torque))).document.cards["load"]
    d.set("until", "8 s")
    run = d.run()
    assert run.at("machine.speed", [7.9])[0] == pytest.approx(1500 / 60 * 2 * np.pi, rel=5e-3)
    d.set("machine.R_a", "10 ohm")
    with pytest.raises(DriveHasFindings, match="take all of"):
        d.run()


@pytest.mark.parametrize("kind", ["separate_dc", "shunt_dc", "series_dc"])
def test_iron_brakes_with_the_square_of_field_and_speed(kind):
    """The eddy share of iron loss grows with the square of flux and of frequency; Fitzgerald, Kingsley, Umans, section
    1.5 (from memory)."""
    d = bench(kind, b_m="0.05", P_fe="150 W", n_fe="1500 rpm", I_fe="0.8", T_w="20")
    run = d.run(with_energy=True)
    at = {n: run.at(f"machine.{n}", [5.99])[0] for n in ("iron_loss", "field_current", "speed", "torque")}
    loss = 150 * (at["field_current"] / 0.8) ** 2 * (at["speed"] / (1500 / 60 * 2 * np.pi)) ** 2
    assert at["iron_loss"] == pytest.approx(loss, rel=1e-9)
    slope = np.diff(run.at("machine.speed", [5.98, 5.99]))[0] / 0.01
    braking = 20 + 0.05 * at["speed"] + loss / at["speed"] + 0.12 * slope
    assert at["torque"] == pytest.approx(braking, rel=1e-4) and energy_gap(run) < 1e-6


@pytest.mark.parametrize("kind", ["separate_dc", "shunt_dc", "series_dc"])
def test_starting_from_rest_agrees_with_solve_ivp(kind):
    """Inrush, run-up and a blow of the load, with an iron loss that follows the field; SciPy's DOP853 at 1e-10."""
    d = bench(kind, b_m="0.02", P_fe="150 W", n_fe="1500 rpm", I_fe="0.8")
    d.set("until", "1.6 s")
    d.set("tolerance", "1e-8")
    v, run = examine(d.document).values["machine"], d.run()
    drag = 150 / (1500 / 60 * 2 * np.pi * 0.8) ** 2

    def slope(t, x):
        i_a, i_f, speed = x if kind != "series_dc" else (x[0], x[0], x[2])
        load = 20.0 if t > 1.0 else 0.0
        moved = (v["M_af"] * i_f * i_a - (0.02 + drag * i_f**2) * speed - load) / v["J_m"]
        if kind == "series_dc":
            into = 220 - (v["R_a"] + v["R_f"] + v["M_af"] * speed) * i_a
            return [into / (v["L_a"] + v["L_f"]), 0.0, moved]
        field = (150 if kind == "separate_dc" else 220) - v["R_f"] * i_f
        return [(220 - v["R_a"] * i_a - v["M_af"] * i_f * speed) / v["L_a"], field / v["L_f"], moved]

    settings, x = {"rtol": 1e-10, "atol": 1e-10, "method": "DOP853"}, np.zeros(3)
    for start, end in ((0.0, 1.0), (1.0, 1.6)):
        t = np.linspace(start, end, 41)[1:]
        found = scipy.integrate.solve_ivp(slope, (start, end), x, t_eval=t, **settings).y
        x = found[:, -1]
        for row, name in ((0, "current"), (1, "field_current"), (2, "speed")):
            if kind == "series_dc" and row == 1:
                continue
            got = run.at(f"machine.{name}", t - 1e-9)
            np.testing.assert_allclose(got, found[row], atol=2e-4 * np.max(np.abs(found[row])))

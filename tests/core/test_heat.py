"""Heat: bodies and ways against closed forms, chains of a sheet's terms, and machines that get warm."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

import pendel
from pendel.core.catalogue.heat.impedance_curve import fitted
from pendel.core.catalogue.heat.transient_impedance import cauer
from pendel.core.catalogue.shelf import ready, take_from_shelf
from pendel.core.errors import DriveHasFindings, ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names

TERMS = [(0.02, 1e-3), (0.08, 0.02), (0.1, 0.1)]


def test_a_body_warms_as_its_time_constant_says():
    d = pendel.Drive("Plate")
    d.add("heat_source", "Source", P="10 W")
    d.add("heat_capacity", "Body", C="50 J/K", T_0="303.15 K")
    d.add("heat_resistance", "Pad", R="2 K/W")
    d.add("ambient", "Air", T="20 °C")
    for a, b in (("source.a", "body.a"), ("body.b", "pad.a"), ("pad.b", "air.a")):
        d.connect(a, b)
    d.set("until", "500 s")
    d.set("tolerance", "1e-9")
    run, t = d.run(), np.array([10.0, 50.0, 100.0, 450.0])
    assert run.at("body.temperature", t) == pytest.approx(40.0 - 10.0 * np.exp(-t / 100.0), abs=1e-3)
    end = run.kept.end
    into = run.kept.pieces("body.heat").integral(0, end)
    assert run["body.energy"].y[-1] == pytest.approx(into, rel=1e-6)
    assert into + run.kept.pieces("air.heat").integral(0, end) == pytest.approx(10.0 * end, rel=1e-6)


def test_free_convection_cools_as_scipy_integrates_it():
    d = pendel.Drive("Plate")
    d.add("heat_capacity", "Body", C="400 J/K", T_0="90 °C")
    d.choose(d.add("convection", "Film", h="8", A="0.2", dT_h="25 K"), law="free")
    d.add("ambient", "Air", T="20 °C")
    d.connect("body.a", "film.a")
    d.connect("film.b", "air.a")
    d.set("until", "2000 s")
    cooled = solve_ivp(
        lambda t, x: -8 * 0.2 * (x - 20) * ((x - 20) / 25) ** 0.25 / 400,
        (0, 2000),
        [90.0],
        rtol=1e-10,
        dense_output=True,
    )
    t = np.array([100.0, 700.0, 1900.0])
    assert d.run().at("body.temperature", t) == pytest.approx(cooled.sol(t)[0], abs=2e-3)


@pytest.mark.parametrize("form", ["cauer", "foster"])
def test_a_sheet_s_terms_give_the_sheet_s_curve(form):
    """Z(t) = Σ R_k (1 − exp(−t/τ_k)) (IEC 60747-9, from memory)."""
    d = pendel.Drive("Junction")
    d.add("heat_source", "Loss", P="30 W")
    d.add("ambient", "Sink", T="40 °C")
    z = d.add("transient_impedance", "Z", T_0="40 °C")
    d.choose(z, form=form)
    d.rows(z, [(str(r), f"{tau} s") for r, tau in TERMS])
    d.connect("loss.a", "z.a")
    d.connect("z.b", "sink.a")
    d.set("until", "1 s")
    d.set("tolerance", "1e-9")
    run, t = d.run(), np.array([1e-4, 1e-3, 0.01, 0.1, 0.9])
    curve = 40 + 30 * sum(r * (1 - np.exp(-t / tau)) for r, tau in TERMS)
    assert run.at("z.temperature", t) == pytest.approx(curve, abs=1e-4)
    first, last = run["sink.heat"].y[[0, -1]]
    assert last == pytest.approx(30, rel=1e-3) and first == pytest.approx(30 if form == "foster" else 0, abs=1e-9)


def test_both_chains_have_one_impedance():
    for terms in (TERMS, [*TERMS, (0.3, 0.1)], [(1.0, 1.0)], [(1e-4, 1e-5), (2.0, 300.0), (0.5, 1.0), (0.05, 0.08)]):
        chain = cauer(terms)
        assert len(chain) == len({tau for _, tau in terms}) and min(min(pair) for pair in chain) > 0
        for s in 2j * np.pi * np.array([1e-4, 1e-2, 1.0, 1e2, 1e4]):
            z = 0
            for r, c in reversed(chain):
                z = 1 / (s * c + 1 / (r + z))
            assert z == pytest.approx(sum(r / (1 + s * tau) for r, tau in terms), rel=1e-9)


def test_a_machine_gets_as_warm_as_its_own_resistance_makes_it():
    """Held at a current, the winding settles where P = I² R_20 (1 + α (T − 20)) = (T − T_a)/R_th."""
    d = pendel.Drive("Held")
    d.choose(d.add("brushed_dc", "Motor", R_a="0.5 ohm"), entry="circuit")
    d.add("dc_source", "Supply", U_0="100 V", R_i="49.5 ohm")
    d.add("heat_capacity", "Copper", C="2 J/K", T_0="20 °C")
    d.add("heat_resistance", "Slot", R="10 K/W")
    d.add("ambient", "Air", T="30 °C")
    d.connect("supply.dc", "motor.winding")
    d.connect("motor.heat", "copper.a")
    d.connect("copper.b", "slot.a")
    d.connect("slot.b", "air.a")
    d.set("motor.J_m", "1e6 kg*m^2")  # it hardly turns
    d.set("until", "400 s")
    run = d.run()
    current, warm = run["motor.current"].y[-1], run["copper.temperature"].y[-1]
    assert warm == pytest.approx(30 + 10 * current**2 * 0.5 * (1 + 0.00393 * (warm - 20)), abs=0.01)
    assert run["motor.winding_temperature"].y[-1] == warm > 40
    ends = (0.0, run.kept.end)
    lost = run.kept.pieces("motor.copper_loss").integral(*ends)
    assert lost == pytest.approx(run["copper.energy"].y[-1] + run.kept.pieces("air.heat").integral(*ends), rel=1e-6)


@pytest.mark.parametrize(
    "example", ["car_door_drive", "haul_drive", "haul_drive_tables", "cabin_fan", "old_haul_drive"]
)
def test_every_machine_heats_what_is_wired_to_it_and_nothing_else_changes(example):
    d = pendel.open_example(example)
    machine = next(key for key, card in d.cards.items() if card.kind.group == "machine")
    d.set("until", "20 ms")
    before = d.run()
    entered = next((v.default for v in d.card(machine).kind.values if v.name == "T_w"), "20")
    d.add("heat_capacity", "Large", C="1e9 J/K", T_0=f"{d.document.cards[machine].values.get('T_w', entered)} °C")
    d.connect(f"{machine}.heat", "large.a")
    after = d.run()
    assert after["large.energy"].y[-1] == pytest.approx(
        before.kept.pieces(f"{machine}.copper_loss").integral(0, 0.02), rel=1e-4, abs=1e-9
    )
    assert after[f"{machine}.speed"].y[-1] == pytest.approx(before[f"{machine}.speed"].y[-1], rel=1e-6, abs=1e-9)


def test_temperatures_and_differences_are_told_apart():
    """0 °C is 273.15 K (BIPM, The International System of Units, 9th ed., 2.3.1)."""
    names = Names({"T_hall": "80 °C", "T_abs": "300 K", "rise": "10 K"})
    for text, celsius in (
        ("80", 80),
        ("80 °C", 80),
        ("-10 °C", -10),
        ("250 K", -23.15),
        ("T_abs", 26.85),
        ("T_hall + rise", 90),
        ("T_hall + 10 K", 90),
        ("0.5*(T_hall + 20 °C)", 50),
        ("max(T_hall, 20 °C)", 80),
    ):
        assert value_in_field(text, "°C", names) == pytest.approx(celsius), text
    assert value_in_field("T_hall - 20 °C", "K", names) == 60 and value_in_field("80 K", "K", names) == 80
    for wrong in ("T_hall + T_hall", "2*T_hall", "5 V"):
        with pytest.raises(ExpressionProblem):
            value_in_field(wrong, "°C", names)


def test_heat_that_is_wired_wrong_gets_a_sentence():
    d = pendel.Drive("Two")
    d.add("ambient", "One", T="20 °C")
    d.add("ambient", "Other", T="30 °C")
    d.connect("one.a", "other.a")
    with pytest.raises(DriveHasFindings):
        d.run()
    d = pendel.Drive("None")
    d.add("heat_source", "Source")
    d.add("heat_resistance", "Pad")
    d.connect("source.a", "pad.a")
    with pytest.raises(DriveHasFindings, match="contradict"):
        d.run()
    d = pendel.Drive("Terms")
    z = d.add("transient_impedance", "Z")
    d.rows(z, [])
    assert any("no terms" in str(finding) for finding in d.check())


@pytest.mark.parametrize("form", ["cauer", "foster"])
def test_terms_are_found_again_from_points_of_their_curve(form):
    """Exact points of three terms give these terms; a run with them gives the curve."""
    t = np.geomspace(2e-4, 0.8, 15)
    z = sum(r * -np.expm1(-t / tau) for r, tau in TERMS)
    terms, worst = fitted(tuple(zip(t.tolist(), z.tolist())), 3)
    assert worst < 1e-6 and np.array(terms) == pytest.approx(np.array(TERMS), rel=1e-4)
    d = pendel.Drive("Junction")
    d.add("heat_source", "Loss", P="30 W")
    d.add("ambient", "Sink", T="40 °C")
    rows = [(f"{a!r} s", f"{b!r} K/W") for a, b in zip(t.tolist(), z.tolist())]
    d.choose(d.add("impedance_curve", "Z", T_0="40 °C", rows=rows[::-1]), form=form)
    d.connect("loss.a", "z.a")
    d.connect("z.b", "sink.a")
    d.set("until", "0.9 s")
    at = np.array([1e-3, 0.05, 0.7])
    expected = 40 + 30 * sum(r * -np.expm1(-at / tau) for r, tau in TERMS)
    assert d.run().at("z.temperature", at) == pytest.approx(expected, abs=2e-3)


def test_a_curve_that_is_none_gets_a_sentence():
    d = pendel.Drive("Junction")
    d.add("heat_source", "Loss", P="30 W")
    d.add("ambient", "Sink", T="40 °C")
    z = d.add("impedance_curve", "Z")
    d.connect("loss.a", "z.a")
    d.connect("z.b", "sink.a")
    d.run("1 ms")
    good = list(d.document.cards[z].rows)
    for rows, words in (
        (good[:5], "5 points do not tell 3 terms"),
        ([*good[:3], ("20 ms", "0.03"), *good[4:]], "falls or stands twice at 0.02 s"),
        ([*good, ("0.5 s", "0.25")], "falls or stands twice at 0.5 s"),
        ([], "0 points"),
    ):
        d.rows(z, rows)
        with pytest.raises(DriveHasFindings, match=words):
            d.run("1 ms")


def test_a_body_radiates_as_stefan_and_boltzmann_say():
    """ε·σ·A·(T⁴ − T_a⁴) out of a capacity, by SciPy."""
    d = pendel.Drive("Radiator")
    d.add("heat_source", "Heater", P="60 W")
    d.add("heat_capacity", "Plate", C="150 J/K", T_0="20 °C")
    d.add("heat_radiation", "Surface", eps="0.8", A="0.1")
    d.add("ambient", "Room", T="20 °C")
    for a, b in (("heater.a", "plate.a"), ("plate.b", "surface.a"), ("surface.b", "room.a")):
        d.connect(a, b)
    run = d.run(until=600)

    def slope(_, x):
        return [(60 - 0.8 * 5.670374419e-8 * 0.1 * (x[0] ** 4 - 293.15**4)) / 150]

    exact = solve_ivp(slope, (0, 600), [293.15], rtol=1e-10, atol=1e-10, t_eval=[60, 300, 600]).y[0] - 273.15
    warm = run["plate.temperature"]
    assert np.interp([60, 300, 600], warm.t, warm.y) == pytest.approx(exact, abs=5e-3)
    assert run["surface.heat"].y[-1] == pytest.approx(60 - 150 * slope(0, [exact[-1] + 273.15])[0], rel=1e-3)


@pytest.mark.parametrize("name", ["Machine body, 2 nodes", "Machine body, 3 nodes", "Machine body, 4 nodes"])
def test_ready_bodies_of_a_machine_settle_where_the_sums_of_their_resistances_say(name):
    """All losses leave by the housing; each way carries what comes in behind it (Kirchhoff's laws for heat)."""
    path = next(each for title, each in ready() if title == name)
    d = pendel.Drive("Body")
    command, body, _ = take_from_shelf(d.document, path)
    d.do(command)
    given = {"winding.a": 300.0, "iron.a": 120.0, "rotor.a": 80.0}
    given = {end: watts for end, watts in given.items() if end.partition(".")[0] in d.document.cards}
    for end, watts in given.items():
        source = d.add("heat_source", f"Into {end[:-2]}", P=f"{watts} W")
        d.connect(f"{source}.a", end)
    d.add("heat_resistance", "Ribs", R="0.03 K/W")
    d.add("ambient", "Hall", T="40 °C")
    d.connect("housing.b", "ribs.a")
    d.connect("ribs.b", "hall.a")
    values = {key: dict(d.cards[key].values) for key in d.cards}
    run = d.run(until=20_000)
    end = {key: run[f"{key}.temperature"].y[-1] for key in ("winding", "iron", "rotor", "housing") if key in d.cards}
    whole = sum(given.values())
    assert end["housing"] == pytest.approx(40 + 0.03 * whole, abs=0.02)
    middle = "iron" if "iron" in end else "housing"
    if middle == "iron":
        assert end["iron"] == pytest.approx(end["housing"] + values["fit_of_the_housing"]["R"] * whole, abs=0.02)
    assert end["winding"] == pytest.approx(end[middle] + values["slots"]["R"] * 300, abs=0.02)
    if "rotor" in end:
        assert end["rotor"] == pytest.approx(end["iron"] + values["air_gap"]["R"] * 80, abs=0.02)
    assert d.cards[body].values["R_slots"] == values["slots"]["R"]

"""The least fuel of a trip by any split: against a linear programme, all ways of a short trip, and what runs burn."""

import itertools
import json

import numpy as np
import pytest
from scipy.optimize import linprog

import pendel
from pendel.cli.main import main
from pendel.core.catalogue.index import kind_of
from pendel.core.check import examine
from pendel.core.errors import DriveProblem
from pendel.core.trips import best
from pendel.core.trips.shafts import shafts_of
from pendel.core.trips.splits import Wanted, Ways


class Cells:
    """A store whose charge goes in proportion to its power."""

    capacity = 3600.0

    def voltage(self, charge):
        return np.full(np.shape(charge), 100.0)

    def fall(self, charge, power):
        return (power + 0 * charge) / (100.0 * self.capacity)


def trip(seed, steps, ways, end=0.0):
    """Random demands that an engine with an efficiency that falls with its power and a store share; the last way is
    what was done: a charge that ends ``end`` higher."""
    rng = np.random.default_rng(seed)
    demand = rng.uniform(-4e3, 12e3, steps)
    given = np.concatenate([np.sort(rng.uniform(2e3, 16e3, (steps, ways - 1)), axis=1), np.zeros((steps, 1))], axis=1)
    fuel = np.where(given > 0, 3e3 + 2.2 * given + 4e-5 * given**2, 0.0)
    power = demand[:, None] - given
    split = Ways(fuel, power, given, given)
    wanted = Wanted(1.0, np.arange(steps + 1.0), *(demand,) * 5, np.full(steps + 1, 0.5), 0.0, 1.0)
    own = best.Driven(0.0, 0.5 + np.linspace(0, end, steps + 1), demand, demand)
    return split, wanted, own


def searched(monkeypatch, split, wanted, own):
    monkeypatch.setattr(best, "ways_of", lambda *_: split)
    return best.searched(wanted, None, Cells(), own)


@pytest.mark.parametrize("end", [0.0, 0.02, -0.05])
def test_where_a_step_may_be_shared_it_is_the_optimum_of_the_linear_programme(monkeypatch, end):
    """With shares of ways in each step the best is a linear programme (Guzzella, Sciarretta: Vehicle Propulsion
    Systems, on optimal control of hybrids; from memory), here by SciPy's HiGHS; whole steps take more, but not much."""
    split, wanted, own = trip(3, 120, 12, end)
    steps, ways = split.fuel.shape
    one_each = np.kron(np.eye(steps), np.ones(ways))
    room = -own.charge[-1] + 0.5
    solved = linprog(
        split.fuel.ravel(),
        A_ub=[split.power.ravel() / (100.0 * Cells.capacity)],
        b_ub=[room],
        A_eq=one_each,
        b_eq=np.ones(steps),
    )
    found, bound = searched(monkeypatch, split, wanted, own)
    assert bound == pytest.approx(solved.fun, rel=1e-3)
    assert solved.fun <= found.fuel * (1 + 1e-4) < 1.02 * solved.fun
    assert found.charge[-1] > own.charge[-1] - 1e-3


def test_of_a_short_trip_no_way_of_all_is_below_the_bound_and_hardly_one_below_what_is_found(monkeypatch):
    split, wanted, own = trip(5, 6, 5)
    found, bound = searched(monkeypatch, split, wanted, own)
    rows = np.arange(6)
    ends = []
    for choice in itertools.product(range(5), repeat=6):
        fall = split.power[rows, choice].sum() / (100.0 * Cells.capacity)
        if fall <= 1e-9:
            ends.append(split.fuel[rows, choice].sum())
    assert bound <= min(ends) and found.fuel <= 1.02 * min(ends)


@pytest.fixture(scope="module")
def hybrid():
    return pendel.open_example("day_of_trips")


def kinds_and_values(d):
    kinds = {key: kind_of(card) for key, card in d.document.cards.items()}
    return kinds, examine(d.document).values


def test_shafts_are_willis_equation_and_torques_are_in_its_ratio(hybrid):
    shafts = shafts_of(hybrid.document, *kinds_and_values(hybrid))
    k, z = 2.6, 4.1
    assert (shafts.engine, shafts.machines) == ("engine", ("traction", "generator"))
    assert shafts.ratios == pytest.approx(np.array([[0, 1], [z, 0], [-k * z, 1 + k]]), abs=1e-9)
    traction, generator = shafts.torques(np.array(500.0), np.array(60.0))
    assert generator == pytest.approx(-60 / (1 + k)) and traction == pytest.approx(500 / z - k * 60 / (1 + k))


def test_what_settled_parts_do_is_what_they_do_in_a_run():
    """Losses, voltage and resistance at every step of a run; fuel where the engine hardly accelerates."""
    from pendel.core.catalogue.settled import Burner, Store, Turner

    d = pendel.open_example("day_of_trips")
    d.rows("battery", [("0 %", "88 V", "160 %"), ("40 %", "99 V", "110 %"), ("100 %", "110 V", "95 %")])
    d.set("battery.theta", "5 °C")
    d.set("battery.c_R", "1.5 %/K")
    run = d.run(195.0)
    kinds, values = kinds_and_values(d)
    seen = set()
    for key, kind in kinds.items():
        settled, v, card = getattr(kind, "settled", None), values[key], d.document.cards[key]
        if isinstance(settled, Turner):
            speed, torque = run[f"{key}.speed"].y, run[f"{key}.torque"].y
            assert settled.loss(v, card, speed, torque) == pytest.approx(run[f"{key}.loss"].y, rel=1e-6, abs=1e-6)
        elif isinstance(settled, Store):
            charge = run[f"{key}.charge"].y
            assert settled.voltage(v, card, charge) == pytest.approx(run[f"{key}.open_voltage"].y, rel=1e-9)
            assert settled.at_once(v, card, charge) == pytest.approx(run[f"{key}.resistance"].y, rel=1e-9)
            whole = (v["R"] + v["R_1"]) / v["R"] * run[f"{key}.resistance"].y
            assert settled.resistance(v, card, charge) == pytest.approx(whole, rel=1e-9)
        elif isinstance(settled, Burner):
            t = np.linspace(0.0, 195.0, 4000)
            speed, torque, fuel, fires = (
                run[f"{key}.{name}"].at(t) for name in ("speed", "torque", "fuel_power", "fires")
            )
            calm = (np.abs(np.gradient(speed, t)) < 2.0) & (fires > 0.99) & (fuel > 1e4)
            assert calm.sum() > 20
            assert settled.fuel(v, card, speed[calm], torque[calm]) == pytest.approx(fuel[calm], rel=0.02)
            assert np.all(torque[calm] <= settled.most(v, card, speed[calm]) * 1.001)
        else:
            continue
        seen.add(type(settled))
    assert seen == {Turner, Store, Burner}


VARIED = (
    {},
    {"strategy.P_on": "6 kW", "strategy.P_least": "9 kW"},
    {"strategy.q_aim": "66 %", "strategy.q_low": "63 %"},
    {"split.M_best": "45 N*m", "strategy.v_on": "30 km/h"},
    {"battery.charge_0": "30 %", "strategy.K_q": "60 kW"},
)


@pytest.mark.parametrize("values", VARIED)
def test_no_strategy_burns_less_than_the_bound(values):
    d = pendel.open_example("day_of_trips")
    for name, text in values.items():
        d.set(name, text)
    run = d.run(195.0)
    told = run.best_split()
    assert told.fuel_bound <= told.fuel < told.fuel_own
    assert told.fuel_bound < told.fuel_run
    assert told.fuel_own == pytest.approx(told.fuel_run, rel=0.06)
    assert told.charge_own == pytest.approx(told.charge_run, abs=4e-3)
    assert told.charge[-1] == pytest.approx(told.charge_own[-1], abs=1e-3)
    assert f"{told.fuel_bound * 1e3:.4g} g" in told.words and "Run" not in told.words


def test_a_store_that_was_emptied_is_looked_at_as_far_as_it_was():
    d = pendel.open_example("day_of_trips")
    for name, text in {"battery.charge_0": "1 %", "strategy.q_low": "-20 %", "strategy.q_aim": "-10 %"}.items():
        d.set(name, text)
    d.set("strategy.P_on", "40 kW")
    d.set("strategy.v_on", "100 km/h")
    run = d.run(195.0)
    told = run.best_split()
    assert told.charge_run.min() < 0
    assert 0 <= told.fuel_bound <= told.fuel <= told.fuel_own + 1e-4 and np.all(np.isfinite(told.charge))


def parallel(*, clutch=False):
    """Engine and machine on one shaft, which the car turns; with a clutch between them or without."""
    d = pendel.Drive()
    d.set("tick", "0.1 s")
    d.set("until", "60 s")
    d.add("battery", "Battery", Q="10 Ah")
    d.add("machine_envelope", "Machine")
    d.add("engine", "Engine")
    d.add("gear", "Axle gear", ratio="5", eta="100")
    d.add("car", "Car")
    d.rows("car", [("0 m", "4 %"), ("2000 m", "4 %")])
    d.start("car", v="45 km/h")
    for name, value in (("Burn", "40"), ("On", "1"), ("Push", "20")):
        d.add("constant", name, value=value)
    wires = [
        ("battery.dc", "machine.dc"),
        ("machine.shaft", "axle_gear.a"),
        ("axle_gear.b", "car.axle"),
        ("burn.out", "engine.torque"),
        ("on.out", "engine.on"),
        ("push.out", "machine.torque"),
    ]
    if clutch:
        d.add("clutch", "K0")
        d.add("constant", "Closed", value="1")
        wires += [("engine.shaft", "k0.a"), ("k0.b", "axle_gear.a"), ("closed.out", "k0.press")]
    else:
        wires.append(("engine.shaft", "axle_gear.a"))
    for a, b in wires:
        d.connect(a, b)
    return d


def test_an_engine_on_the_machines_own_shaft_turns_with_it_and_holds_it_where_it_is_off():
    """A steady drive: fuel of any constant share by Willans' line, and the same charge at the end."""
    d = parallel()
    run = d.run()
    told = run.best_split(10.0)
    speed = np.interp(told.times, run["engine.speed"].t, run["engine.speed"].y)
    assert told.speed == pytest.approx((speed[1:] + speed[:-1]) / 2, rel=1e-3)
    assert told.fuel_own == pytest.approx(told.fuel_run, rel=0.01)
    # By Willans’ line fuel grows with the torque by 1/η_i alone, while losses of machine and battery grow with its
    # square: at one speed nothing is better than a constant share: what was driven.
    assert told.fuel_bound == pytest.approx(told.fuel_own, rel=2e-3) and told.fuel < 1.01 * told.fuel_own
    assert "of which 0.0 % can be saved" in told.words
    for name, text in (("engine.n_idle", "1600 rpm"), ("engine.n_fire", "1400 rpm"), ("push.value", "80")):
        d.set(name, text)
    d.start("car", v="20 km/h")
    slow = d.run().best_split()
    assert np.all(slow.speed[:4] < 0.9 * 1400 * np.pi / 30) and np.all(slow.power[:4] < 0), "there it cannot run"
    assert np.all(slow.power[5:] > 0) and slow.fuel_bound == pytest.approx(slow.fuel_own, rel=2e-3)


def series():
    """An engine that turns a generator and nothing else, and a machine on the axle, all by maps."""
    d = pendel.Drive()
    d.set("tick", "0.1 s")
    d.add("battery", "Battery", Q="10 Ah", charge_0="50 %")
    d.add("machine_by_map", "Machine")
    d.add("machine_by_map", "Generator")
    d.add("engine_by_map", "Engine")
    d.add("gear", "Axle gear", ratio="6", eta="97")
    d.add("brake", "Brakes")
    d.add("car", "Car")
    d.add("profile", "Plan", profile=[("0 s", "0 km/h"), ("1 s", "0 km/h")])
    d.profile("plan", "urban")
    d.add("speed_sensor", "Speed")
    d.add("driver", "Driver", high="700 N*m", low="-400 N*m")
    d.add("gain", "Share", K="1/6")
    for name, value in (("Burn", "30"), ("On", "1"), ("Back", "-30")):
        d.add("constant", name, value=value)
    d.start("engine", omega="2000 rpm")
    for a, b in (
        ("battery.dc", "machine.dc"),
        ("battery.dc", "generator.dc"),
        ("machine.shaft", "axle_gear.a"),
        ("axle_gear.b", "brakes.a"),
        ("brakes.b", "car.axle"),
        ("engine.shaft", "generator.shaft"),
        ("burn.out", "engine.torque"),
        ("on.out", "engine.on"),
        ("back.out", "generator.torque"),
        ("car.speed", "speed.measured"),
        ("plan.out", "driver.setpoint"),
        ("speed.value", "driver.actual"),
        ("driver.out", "share.x"),
        ("share.out", "machine.torque"),
        ("driver.brake", "brakes.press"),
    ):
        d.connect(a, b)
    return d


def test_a_series_hybrid_by_maps_that_ends_with_more_charge_is_seen_as_it_runs():
    run = series().run(195.0)
    told = run.best_split()
    assert told.charge_run[-1] > 0.6 and told.charge_own == pytest.approx(told.charge_run, abs=2e-3)
    assert told.fuel_own == pytest.approx(told.fuel_run, rel=5e-3)
    assert told.fuel_bound <= told.fuel < 1.02 * told.fuel_bound < 0.85 * told.fuel_own
    assert np.median(told.power[told.power > 1.0]) > 15e3, "where it is best it is far from its idle torque"


@pytest.mark.parametrize(
    ("made", "asked", "sentence"),
    [
        (lambda: parallel(clutch=True), {}, "K0 lets its shafts turn each as it likes"),
        (
            lambda: pendel.open_example("works_car"),
            {},
            "needs one combustion engine beside machines; this drive has none",
        ),
        (lambda: pendel.open_example("car_door_drive"), {}, "needs one combustion engine"),
        (parallel, {"step": "0 s"}, "A step of 0 s is none"),
        (parallel, {"step": "-1 s"}, "A step of −1 s is none"),
        (parallel, {"step": "3 V"}, "is in V, but s is needed"),
        (parallel, {"step": "40 s"}, "Take a shorter one"),
        (parallel, {"step": "1 ms"}, "make more than 10000"),
    ],
)
def test_what_has_no_best_split_is_told(made, asked, sentence):
    run = made().run("0.1 s" if "engine" in sentence else None)
    with pytest.raises(DriveProblem, match=sentence):
        run.best_split(**asked)


def test_the_terminal_runs_the_trip_and_tells_what_python_tells(tmp_path, capsys):
    trip = pendel.open_example("day_of_trips")
    trip.save(tmp_path / "day.pendel")
    order = ["split", str(tmp_path / "day.pendel"), "--until", "60 s", "--from", "5 s", "--step", "2 s"]
    assert main([*order, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    best = trip.run(60.0).best_split(5.0, 60.0, "2 s")
    assert told["fuel_bound"] == pytest.approx(best.fuel_bound, rel=1e-9) and told["store"] == "Battery"
    assert main([*order, "--out", str(tmp_path / "steps.csv")]) == 0
    assert "No split of the power" in capsys.readouterr().out
    assert len((tmp_path / "steps.csv").read_text().splitlines()) == len(best.times)
    assert main(["split", str(tmp_path / "day.pendel"), "--until", "60 s", "--from", "70 s"]) == 2
    assert "which goes from 0 s to 60 s" in capsys.readouterr().err

"""Envelopes: the part of a drive that a trip sees as one, cut out, run on a bench, fitted, and traced back."""

from dataclasses import replace

import numpy as np
import pandas
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.catalogue.systems.envelope import TERMS, loss_terms
from pendel.core.drive import commands
from pendel.core.drive.file import from_text, to_text
from pendel.core.envelope.bench import bench_of, held_at, machines, torque_ends
from pendel.core.envelope.fitted import made_of
from pendel.core.envelope.maps import efficiency, save_map
from pendel.core.envelope.origin import digest_of, origin_of, path_of, state_of
from pendel.core.envelope.points import Point, grid
from pendel.core.envelope.report import per_text
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.formats.cells import cells_of_arrays, cells_of_file, rows_of

MAP = ("door_motor", "speed_pi.out", "20 A", "3000 rpm")


def test_only_what_drives_the_machine_goes_on_the_bench():
    drive = pendel.open_example("car_door_drive")
    drive.start("door_motor", omega="30 rad/s", i="2 A")  # which the bench holds otherwise
    d = drive.document
    assert machines(d) == ["door_motor"] and "speed_pi.out" in map(str, torque_ends(d))
    bench = bench_of(d, "door_motor", "speed_pi.out")
    assert bench.unit == "A" and bench.machine == "door_motor"
    kept = set(bench.drive.cards)
    assert {"supply", "bridge", "door_motor", "current_pi", "current_sensor", bench.asked, bench.holder} <= kept
    assert not {"gear", "belt", "door_leaf", "speed_pi", "travel_plan", "encoder"} & kept
    assert len(d.cards) == len(pendel.open_example("car_door_drive").cards), "the drive itself stays as it is"
    run = pendel.Drive(document=bench.at(200.0, 5.0)).run(0.05)
    assert run["door_motor.speed"].y[[0, -1]] == pytest.approx(200, rel=1e-9)
    assert run["door_motor.current"].y[0] == 0
    assert run["door_motor.current"].y[-1] == pytest.approx(5, rel=0.02)


@pytest.mark.parametrize(
    ("machine", "torque", "says"),
    [
        ("door_moter", "speed_pi.out", "Is it door_motor"),
        ("gear", "speed_pi.out", "no machine with a shaft"),
        ("door_motor", "speed_pi.ou", "Nothing reads"),
        ("door_motor", "", "names no port"),
        ("door_motor", "speed_pi.out", "lies behind its shaft"),
    ],
)
def test_what_cannot_be_cut_out_gets_a_sentence(machine, torque, says):
    d = pendel.open_example("car_door_drive")
    if "behind" in says:  # the current loop then reads the leaf, which the bench replaces
        d.add("speed_sensor", "Leaf speed")
        d.connect("door_leaf.speed", "leaf_speed.measured")
        d.connect("leaf_speed.value", "current_pi.feedforward")
    with pytest.raises(DriveProblem, match=says):
        bench_of(d.document, machine, torque)


def test_the_fit_finds_the_terms_that_made_the_points_and_says_by_how_much_others_miss():
    true = np.array([40.0, 0.3, 2e-3, 900.0, 1.5, 0.01, 0.4])
    places = grid(300, 100, 6, 8)
    points = [Point(a, b, b, float(loss_terms(a, b, 100.0) @ true)) for a, b in places]
    made = made_of(points, points[:3], "machine", 0.02, 400.0)
    assert made.worst < 1e-6 and made.fit_worst < 1e-6
    found = [float(made.values[n].split()[0]) * (0.01 if n == "k_P" else 1) for n in TERMS]
    assert found == pytest.approx(list(true), rel=1e-3)
    card = pendel.Drive()
    card.add("machine_envelope", "M", **made.values)
    assert not [f for f in card.check() if "M" in f.sentence and "share" in f.sentence]
    off = Point(150.0, 50.0, 50.0, float(loss_terms(150.0, 50.0, 100.0) @ true) + 500.0)
    made = made_of(points, [*points[:3], off], "machine", 0.02, 400.0)
    assert made.at == off and made.worst == pytest.approx(500 / (off.loss + 7500), rel=1e-4)
    assert made.values["M_max"] == "100 N*m" and made.values["P_max"] == "30000 W"
    # asked torque that no longer comes at speed limits the power
    short = [p if p.speed <= 120 else Point(p.speed, p.asked, p.torque * 120 / p.speed, p.loss) for p in points]
    assert made_of(short, [off], "m", 0.02, 400.0).values["P_max"] == "12000 W"
    with pytest.raises(DriveProblem, match="No torque came"):
        made_of([Point(0, 1, 0, 0)], [off], "m", 0.1, 1.0)


def test_a_door_drives_envelope_is_the_door_drive_at_fifty_places_that_it_was_not_made_of():
    d = pendel.open_example("car_door_drive")
    made = d.envelope(*MAP, speeds=4, torques=6, checks=50)
    assert made.checks == 50 and made.worst < 0.03 and made.rms < 0.01
    trip = pendel.Drive()
    key = trip.add_envelope(made, "Door")
    trip.set("tick", "1 ms")
    trip.add("dc_source", "Link", U_0="48 V", R_i="1 mohm")
    trip.add("imposed_speed", "Bench", profile=[("0", "150 rad/s"), ("9 s", "150 rad/s")])
    trip.add("constant", "Ask", value="0.4 N*m")
    for a, b in (("link.dc", f"{key}.dc"), (f"{key}.shaft", "bench.a"), ("ask.out", f"{key}.torque")):
        trip.connect(a, b)
    power = trip.run(0.5)[f"{key}.link_power"].y[-1]
    bench = bench_of(d.document, "door_motor", "speed_pi.out")
    low, high = 0.0, 20.0  # the current that gives this torque, by halving
    for _ in range(12):
        asked = (low + high) / 2
        run = pendel.Drive(document=bench.at(150.0, asked)).run(0.06)
        low, high = (asked, high) if -run[f"{bench.holder}.torque"].y[-1] < 0.4 else (low, asked)
    source = next(iter(bench.sources))
    fed = run.averages(f"{source}.power", 0.03, 0.06).mean
    assert power == pytest.approx(fed, rel=0.03)


def test_a_map_says_when_its_drive_was_changed_since_and_trusts_no_path(tmp_path):
    d = pendel.open_example("car_door_drive")
    file = tmp_path / "door.pendel"
    d.save(file)
    made_from = origin_of(d.document, file, *MAP[:2])
    assert made_from["file"] == "door.pendel" and state_of(made_from, tmp_path) == (
        True,
        "Made from door.pendel, as that is now.",
    )
    d.set("until", "3 s")
    d.set("door_leaf.m", "80 kg")  # behind the shaft: nothing of the map
    commands.move_cards(d.document, {"bridge": (3, 90)}, "Move").apply(d.document)
    d.save(file)
    assert state_of(made_from, tmp_path)[0]
    d.set("door_motor.R_a", "0.9 ohm")
    d.save(file)
    assert "older than door.pendel" in state_of(made_from, tmp_path)[1]
    assert digest_of(d.document, *MAP[:2]) != made_from["digest"]
    assert "not beside" in state_of(made_from, tmp_path / "elsewhere")[1]
    assert "never saved" in state_of({**made_from, "file": ""}, tmp_path)[1]
    file.write_text("{}", encoding="utf-8")
    assert "Cannot be compared with" in state_of(made_from, tmp_path)[1]
    outside = tmp_path / "inner"
    outside.mkdir()
    for name in (f"{tmp_path}/door.pendel", "../door.pendel", "/dev/zero", "..", ".", "door\0.pendel", ""):
        assert path_of({"file": name}, outside) is None
    again = pendel.Drive()
    made = pendel.open_example("car_door_drive").envelope(*MAP, speeds=2, torques=4, checks=1, file=file)
    key = again.add_envelope(made, "Door")
    read = from_text(to_text(again.document)).cards[key]
    assert dict(read.made_from) == made.origin | {"per": per_text(made.made.per, "A")} and again.check() is not None
    again.undo()
    assert key not in again.cards


def test_an_envelope_is_made_from_the_terminal(tmp_path, capsys):
    file, out = tmp_path / "door.pendel", tmp_path / "out.pendel"
    pendel.open_example("car_door_drive").save(file)
    order = ["envelope", str(file), *MAP, "--speeds", "2", "--torques", "4", "--checks", "2"]
    assert main([*order, "--out", str(out)]) == 0
    capsys.readouterr()
    (card,) = pendel.open(out).document.cards.values()
    assert card.made_from["machine"] == "door_motor" and "N*m" in card.values["M_max"]
    for wrong in (
        ("door_motor", "speed_pi.out", "20 kg", "3000 rpm"),
        ("door_motor", "speed_pi.out", "0 A", "3000 rpm"),
    ):
        assert main(["envelope", str(file), *wrong]) != 0
        assert "Traceback" not in capsys.readouterr().err


@pytest.fixture(scope="module")
def detail():
    """A stretch of the works car's trip, in averaged and in its own words."""
    trip = pendel.open_example("works_car")
    run = trip.run("30 s")
    made = trip.in_detail(run, "traction", "14 s", "14.4 s")
    return run, made, made.run()


def test_a_stretch_of_a_trip_in_detail_has_its_speed_and_torque_and_the_losses_of_its_map(detail):
    """The detailed drive finds the torque that the trip had, and its mean loss is the map's within its error."""
    trip, made, run = detail
    assert made.document.settings["until"] == "0.9 s" and not made.check()
    t = np.linspace(14.05, 14.4, 30)
    there = t - 14 + 0.5
    for of_trip, of_drive, near in (
        ("traction.speed", "machine.speed", 1e-3),
        ("traction.torque", "machine.torque", 0.03),
    ):
        wanted = trip[of_trip].at(t)
        assert np.abs(run[of_drive].at(there) - wanted).max() < near * np.abs(wanted).max(), of_trip
    link = np.mean(run["inverter.link_voltage"].at(there))
    assert link == pytest.approx(np.mean(trip["battery.voltage"].at(t)), rel=0.01)
    taken = np.trapezoid(run["link.power"].at(there), there) / 0.35
    assert taken == pytest.approx(np.mean(trip["traction.link_power"].at(t)), rel=0.03)
    switching = pendel.Drive(document=made.document.copy())
    switching.set("level", "switching")
    ripple = switching.run()["machine.current_a"].at(np.linspace(0.6, 0.62, 4000))
    smooth = run["machine.current_a"].at(np.linspace(0.6, 0.62, 4000))
    assert np.std(np.diff(ripple)) > 2 * np.std(np.diff(smooth)), "pulses are seen at the level of switches"


def test_what_cannot_be_looked_at_in_detail_gets_a_sentence(tmp_path):
    trip = pendel.open_example("works_car")
    run = trip.run("2 s")
    for card, start, end, says in (
        ("battery", 0, 1, "Battery was made of no other drive"),
        ("nowhere", 0, 1, "no card “nowhere”. Those that can be looked at: traction"),
        ("traction", 1, 3, "which ends at 2 s"),
        ("traction", 1, 1, "no span"),
        ("traction", float("nan"), 1, "no span"),
    ):
        with pytest.raises(DriveProblem, match=says):
            trip.in_detail(run, card, start, end)
    trip.document.cards["traction"].made_from["file"] = "../../etc/passwd"
    with pytest.raises(DriveProblem, match="passwd is not beside"):
        trip.in_detail(run, "traction", 0, 1)
    pendel.open_example("car_door_drive").save(tmp_path / "door.pendel")
    trip.save(tmp_path / "trip.pendel")
    trip.document.cards["traction"].made_from.update(file="door.pendel", machine="door_motor", torque="speed_pi.out")
    for per in ("", "0 N*m/A", "lots", "K_p"):
        trip.document.cards["traction"].made_from["per"] = per
        with pytest.raises(DriveProblem, match="asked for in A, not in N·m"):
            trip.in_detail(run, "traction", 0, 1)


def test_a_machine_that_is_asked_for_a_current_gives_the_torque_of_the_trip_in_detail(tmp_path):
    door, trip = pendel.open_example("car_door_drive"), pendel.Drive("Trip")
    door.save(tmp_path / "door.pendel")
    trip.save(tmp_path / "trip.pendel")
    key = trip.add_envelope(door.envelope(*MAP, speeds=2, torques=4, checks=1), "Door")
    assert trip.document.cards[key].made_from["per"].endswith("N*m/A")
    trip.set("tick", "1 ms")
    trip.add("dc_source", "Link", U_0="48 V", R_i="1 mohm")
    trip.add("imposed_speed", "Bench", profile=[("0", "150 rad/s"), ("9 s", "150 rad/s")])
    trip.add("constant", "Ask", value="0.4 N*m")
    for a, b in (("link.dc", f"{key}.dc"), (f"{key}.shaft", "bench.a"), ("ask.out", f"{key}.torque")):
        trip.connect(a, b)
    made = trip.in_detail(trip.run(1.0), key, "0.5 s", "0.55 s")
    run = made.run()
    assert run["door_motor.torque"].y[-1] == pytest.approx(0.4, rel=0.01)
    assert run["door_motor.current"].y[-1] == pytest.approx(0.4 / 0.1077, rel=0.01)


def test_a_map_is_a_document_that_other_programs_and_a_machine_read(tmp_path):
    """The copper of the map grows by IEC 60028's 0.393 % a kelvin; what is read back is what was written."""
    d = pendel.open_example("haul_drive")
    ends = ("haul_machine", "torque_demand.out", "300 N*m", "600 rpm")
    made = d.envelope(*ends, speeds=2, torques=4, checks=2, temperatures=["20 °C", "120 °C"])
    made.save(tmp_path / "map.csv")
    table = pandas.read_csv(tmp_path / "map.csv")
    assert [*table.columns][:4] == ["speed [rpm]", "torque [N·m]", "loss [W]", "efficiency [%]"]
    assert len(table) == 2 * (10 + 2) and table["check"].sum() == 4
    still = table[(table["speed [rpm]"] == 0) & (table["check"] == 0)].groupby("temperature [°C]")["loss [W]"].max()
    copper = {t: p.loss for t, m in made.maps for p in m.points if p.speed == 0 and p.asked == 300}
    assert still.loc[20.0] == pytest.approx(copper[20.0]) and copper[120.0] > 1.15 * copper[20.0]
    row = table.iloc[int(table["torque [N·m]"].idxmax())]
    assert row["efficiency [%]"] != row["efficiency [%]"] or 0 < row["efficiency [%]"] < 100
    for at in (made.made.worst, -made.made.worst):
        if np.any(np.isclose(table["error [%]"] / 100, at)):
            break
    else:
        pytest.fail("the worst error is not in it")
    for ending in (".h5", ".mat"):
        made.save(tmp_path / f"map{ending}")
        cells = cells_of_file(tmp_path / f"map{ending}")
        places = [cells.names.index(name) for name in ("speed", "torque", "efficiency", "loss")]
        rows = rows_of(cells, places, ("rpm", "N*m", "%", "W"), needed=2)
        assert len(rows) == len(table) and float(rows[3][0].split()[0]) == pytest.approx(table["speed [rpm]"][3])
        assert rows[0][2] == "" or "%" in rows[0][2]
    machine = pendel.Drive()
    key = machine.add("machine_by_map", "Machine", M_max="310 N*m")
    cold = table[table["temperature [°C]"] == 20.0]
    machine.rows(key, [(f"{n} rpm", f"{m} N*m", "", f"{p} W") for n, m, p in cold.iloc[:, :3].itertuples(index=False)])
    assert not [f for f in machine.check() if f.card == key and "Map" in f.sentence]
    with pytest.raises(FileProblem, match="one of"):
        save_map(made.maps, tmp_path / "map.xyz")


def test_what_a_map_says_of_its_points_follows_by_hand():
    assert efficiency(900.0, 100.0) == 0.9 and efficiency(-1000.0, 100.0) == 0.9
    assert np.isnan(efficiency(0.0, 5.0)) and np.isnan(efficiency(-50.0, 100.0)), "nothing arrives"
    bench = bench_of(pendel.open_example("car_door_drive").document, *MAP[:2])
    bare = replace(bench, drive=pendel.Drive().document)
    bare.drive.cards["door_motor"] = replace(bench.drive.cards["door_motor"], kind="inertia", values={}, choices={})
    with pytest.raises(DriveProblem, match="same at any temperature"):
        held_at(bare, 20.0)
    held = held_at(bench, 80.0).drive
    assert {"door_motor.heat", "bridge.heat"} <= {str(w.a) for w in held.wires.values()}


def test_columns_of_files_of_arrays_are_tables():
    cells = cells_of_arrays({"a [mA]": np.array([1.0, np.nan]), "m": np.eye(2), "t": np.zeros(7)}, "x.mat")
    assert cells.names == ("a [mA]", "m 1", "m 2") and cells.units == ("mA", "", "")
    assert cells.rows == (("1.0", "1.0", "0.0"), ("", "0.0", "1.0"))
    with pytest.raises(FileProblem, match="rows and"):
        cells_of_arrays({"a": np.zeros(600_000)}, "x.mat")

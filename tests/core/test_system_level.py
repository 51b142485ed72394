"""The level *system*: what stands for a machine, its converter and inner loops in the drive that has them."""

import re

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.drive import commands
from pendel.core.drive.file import from_text, to_text
from pendel.core.envelope.fitted import drag_of, misfit_of, proportion
from pendel.core.envelope.points import Point
from pendel.core.envelope.report import per_text
from pendel.core.errors import DriveHasFindings, DriveProblem
from pendel.core.fmu.variables import What, prepared_for
from pendel.core.runs.preparing.simulate import reopen
from pendel.core.runs.record.kept import save
from pendel.core.system.fold import at_level, without_envelope

MADE = ("door_motor", "speed_pi.out", "24 A", "4200 rpm")


@pytest.fixture(scope="module")
def made():
    return pendel.open_example("car_door_drive").envelope(*MADE, speeds=7, torques=6, checks=2)


@pytest.fixture
def door(made):
    d = pendel.open_example("car_door_drive")
    d.carry_envelope(made)
    d.set("level", "system")
    return d


def says(d, pattern):
    return [f.sentence for f in d.check() if re.search(pattern, f.sentence)]


def test_the_envelope_moves_the_door_as_the_drive_does(door):
    system = door.run()
    assert system.kept.level == "system" and not {"bridge.duty", "current_pi.out"} & set(system.keys())
    door.set("level", "averaged")
    averaged = door.run()
    at = np.linspace(0, 0.9 * averaged["door_leaf.speed"].t[-1], 1500)
    for key, near in (("door_leaf.position", 0.01), ("door_leaf.speed", 0.03), ("door_motor.torque", 0.05)):
        here, there = averaged[key].at(at), system[key].at(at)
        assert np.sqrt(np.mean((here - there) ** 2)) < near * np.abs(here).max(), key
    drawn = [run.averages("supply.power", 0.05, 1.0).mean for run in (averaged, system)]
    assert drawn[1] == pytest.approx(drawn[0], rel=0.03)
    plain = pendel.open_example("car_door_drive").run()
    assert np.array_equal(plain.kept.rows, averaged.kept.rows), "elsewhere it changes no bit"


def test_at_one_speed_it_gives_torque_and_takes_power_by_hand(door, made):
    """M = per · asked, J ω' = M − b ω − the load's, and the link gives M_shaft ω and the loss of the terms."""
    d = door
    for card in ("gear", "belt", "door_leaf", "rail", "rubbing", "encoder", "travel_speed", "travel_plan"):
        d.remove(card)
    d.add("constant", "Asked", value="3 A")
    d.add("load_torque", "Brake", profile=[("0 s", "0.1 N*m"), ("9 s", "0.1 N*m")])
    d.connect("door_motor.shaft", "brake.a")
    d.connect("asked.out", "current_pi.setpoint")
    d.remove("speed_pi")
    held = d.document.cards["door_motor"].envelope
    d.document.cards["door_motor"] = commands.replace(
        d.document.cards["door_motor"], envelope={**held, "torque": "asked.out"}
    )
    run = d.run("0.2 s")
    w, t = run["door_motor.speed"], 0.15
    step = w.at([t])[0] - w.at([t - 0.01])[0]
    given = made.made.per * 3 - made.made.drag[0] * w.at([t])[0]
    assert step / 0.01 == pytest.approx((given - 0.1) / 1.9e-4, rel=2e-3)
    k = {name: float(text.split()[0]) for name, text in made.values.items()}
    speed = w.at([t])[0]
    loss = k["P_0"] + k["k_w"] * speed + k["k_ww"] * speed**2 + k["k_M"] * given + k["k_P"] / 100 * speed * given
    loss += (k["P_M"] + k["k_PM"] * speed) * (given / k["M_max"]) ** 2
    assert run["door_motor.all_losses"].at([t])[0] == pytest.approx(loss, rel=1e-3)
    assert run["door_motor.link_power"].at([t])[0] == pytest.approx(given * speed + loss, rel=1e-3)
    assert abs(run["door_motor.shaft_torque"].at([t])[0]) == pytest.approx(0.1, rel=1e-6)


def test_what_is_asked_in_proportion_and_what_drags_is_read_off_the_points():
    grid = [(w, m) for w in (0.0, 50.0, 100.0) for m in (-20.0, -5.0, 0.0, 5.0, 20.0)]
    points = [Point(w, m, min(max(0.4 * m, -6.0), 6.0) - 0.01 * w - 2e-4 * w * w, 1.0) for w, m in grid]
    assert proportion(points) == pytest.approx(0.4) and misfit_of(points, 0.4) < 1e-12
    assert drag_of(points) == pytest.approx((0.01, 2e-4))
    bent = [Point(0.0, m, 0.4 * m if abs(m) < 10 else 0.25 * m, 1.0) for m in (-20.0, -15.0, -5.0, 5.0, 15.0, 20.0)]
    assert misfit_of(bent, proportion(bent)) > 0.2
    fading = [Point(p.speed, p.asked, p.torque * (1 - p.speed / 400), 1.0) for p in points]
    assert misfit_of(fading, 0.4) == pytest.approx(0.5 / 6.75, rel=0.01), "at speed, too"
    assert drag_of([Point(0.0, 0.0, 0.0, 1.0)]) == (0.0, 0.0)
    assert per_text(0.1, "A") == "0.1 N*m/A" and per_text(1.0, "N·m") == "1" and per_text(0.5, "kN·m") == "0.5"


def test_everything_else_stays_and_what_acts_on_nothing_goes(door):
    folded = at_level(door.document)
    assert folded.settings["level"] == "averaged" and folded.cards["door_motor"].kind == "folded_machine"
    gone = {"bridge", "pulse_stage", "current_pi", "current_sensor"}
    assert set(folded.cards) == set(door.document.cards) - gone | {"door_motor_torque"}
    wires = {w.key for w in folded.wires.values()}
    assert {"supply.dc -> door_motor.dc", "door_motor.shaft -> gear.a", "door_motor.angle -> encoder.angle"} <= wires
    assert {"speed_pi.out -> door_motor_torque.x", "door_motor_torque.out -> door_motor.torque"} <= wires
    assert "i_set" in folded.taps and "i_door" not in folded.taps
    assert set(door.document.cards) > gone, "the drive itself stays"


def test_it_is_kept_renamed_undone_saved_and_removed(door, made, tmp_path):
    d = door
    d.rename("speed_pi", "Outer regulator")
    assert d.document.cards["door_motor"].envelope["torque"] == "outer_regulator.out"
    again = from_text(to_text(d.document))
    assert again.cards["door_motor"].envelope == d.document.cards["door_motor"].envelope
    d.rename("door_motor", "Motor")
    run = d.run("20 ms")
    save(run.kept, tmp_path / "run.h5")
    kept = reopen(tmp_path / "run.h5")
    assert kept.level == "system" and np.array_equal(kept.trace("motor.speed").y, run["motor.speed"].y)
    assert "speed_pi" not in to_text(d.document)
    without_envelope(d.document, "motor").apply(d.document)
    assert says(d, "no machine here carries one") and not d.document.cards["motor"].envelope
    with pytest.raises(DriveHasFindings, match="level system"):
        d.run("10 ms")
    with pytest.raises(DriveProblem, match="no card door_motor"):
        d.carry_envelope(made)


def test_a_change_of_what_it_was_made_of_is_a_finding_and_one_of_the_rest_is_none(door):
    assert not says(door, "envelope")
    door.set("m_leaf", "90 kg")
    door.set("K_p", "70 A*s/m")
    assert not says(door, "envelope")
    door.set("bridge.R_on", "60 mohm")
    assert says(door, "older than the drive")
    door.set("level", "averaged")
    assert not says(door, "envelope"), "only where it counts"


def test_what_it_cannot_stand_for_gets_a_sentence(door, made):
    text = to_text(door.document)

    def changed(change):
        d = pendel.Drive(document=from_text(text))
        change(d)
        return " ".join(f.sentence for f in d.check())

    def reads_current(d):
        d.add("gain", "Share")
        d.connect("door_motor.current", "share.x")
        d.connect("share.out", "speed_pi.feedforward")

    def held(**texts):
        def change(d):
            card = d.document.cards["door_motor"]
            d.document.cards["door_motor"] = commands.replace(card, envelope={**card.envelope, **texts})

        return change

    def elsewhere(d):
        d.document.cards["supply"] = commands.replace(
            d.document.cards["supply"], envelope=d.document.cards["door_motor"].envelope
        )

    assert "Share reads door_motor.current" in changed(reads_current)
    assert "not there any more" in changed(held(torque="speed_pi.ou"))
    assert "names no port" in changed(held(torque="<b>&"))
    assert "“a lot” cannot be read" in changed(held(M_max="a lot"))
    assert "DC link" in changed(lambda d: d.disconnect("supply.dc", "bridge.dc"))
    assert changed(elsewhere), "a supply carries none"
    assert "none any more" not in changed(lambda d: d.remove("speed_pi"))
    door.set("door_motor.J_m", "J_lost")
    with pytest.raises(DriveHasFindings):
        door.run("10 ms")
    from dataclasses import replace

    with pytest.raises(DriveProblem, match="in proportion"):
        pendel.open_example("car_door_drive").carry_envelope(replace(made, made=replace(made.made, torque_misfit=0.2)))


def test_other_ways_to_run_have_it_and_what_is_shipped_is_whole(door, tmp_path):
    d = door
    series = d.series({"K_p": ["60 A*s/m", "80 A*s/m"]}, ["max(door_leaf.speed)", "max(door_motor.link_current)"])
    rows = sorted(series, key=lambda row: row.number)
    assert len(rows) == 2 and all(np.isfinite([*row.figures.values()]).all() for row in rows)
    one = pendel.Drive(document=d.document.copy())
    one.set("K_p", "60 A*s/m")
    assert rows[0].figures["max(door_leaf.speed)"] == pytest.approx(one.run()["door_leaf.speed"].y.max(), rel=1e-6)
    with d.live() as live:
        live.advance("20 ms")
        assert live.time == pytest.approx(0.02)
    way = d.transfer("speed_pi.out", "door_motor.speed")
    states = " ".join(way.model.states)
    assert "door_motor.M" in states and "current_pi" not in states and "door_motor.i " not in states
    motor = next(node for node in d.run("0.3 s").flows(0.05, 0.3).nodes if node.key == "door_motor")
    assert motor.came == pytest.approx(motor.went + motor.lost + motor.stored, rel=1e-5) and motor.lost > 0
    shipped = pendel.Drive(document=d.document.copy())
    shipped.set("level", "averaged")
    for each in (d, shipped):
        each.write_c(tmp_path / each.document.settings["level"])
    texts = [
        "".join(re.sub("[0-9a-f]{8,}", "", p.read_text()) for p in sorted((tmp_path / level).glob("*.c")))
        for level in ("system", "averaged")
    ]
    assert "current_pi" in texts[0] and texts[0] == texts[1], "but for the drive's hash"


def test_the_terminal_keeps_it_in_the_drive(tmp_path, capsys):
    d = pendel.open_example("car_door_drive")
    d.save(tmp_path / "door.pendel")
    words = ["envelope", str(tmp_path / "door.pendel"), *MADE, "--speeds", "2", "--torques", "4", "--checks", "1"]
    assert main([*words, "--keep", "--out", str(tmp_path / "kept.pendel")]) == 0
    assert main(["set", str(tmp_path / "kept.pendel"), "level=system"]) == 0
    assert main(["run", str(tmp_path / "kept.pendel"), "--until", "20 ms", "--out", str(tmp_path / "t.csv")]) == 0
    assert "door_motor.link_current" in (tmp_path / "t.csv").read_text().splitlines()[0]


def with_envelope(example, machine, torque):
    """With figures by hand, which need no runs."""
    d = pendel.open_example(example)
    limits = {"n_0": "0 rpm", "M_0": "300 N*m", "B_0": "300 N*m"}
    limits |= {"n_1": "2000 rpm", "M_1": "90 N*m", "B_1": "200 N*m"}
    card = d.document.cards[machine]
    texts = {
        "torque": torque,
        "per": "1",
        "digest": "",
        "level": "averaged",
        "M_max": "300 N*m",
        "U_0": "560 V",
        **limits,
    }
    d.document.cards[machine] = commands.replace(card, envelope=texts)
    d.set("level", "system")
    return d


def test_what_reads_what_goes_goes_and_so_does_what_only_that_heats():
    trolley = at_level(with_envelope("service_trolley", "haul_machine", "torque_demand.out").document)
    assert set(trolley.cards) == {"link", "haul_machine", "torque_demand", "gear", "trolley"}
    warm = at_level(with_envelope("warm_haul_drive", "haul_machine", "torque_demand.out").document)
    assert set(warm.cards) == {"link", "haul_machine", "torque_demand", "test_bench"}
    heated = with_envelope("warm_haul_drive", "haul_machine", "torque_demand.out")
    heated.add("resistor", "Oven", R="20 ohm")
    for a, b in (("link.dc", "oven.a"), ("oven.heat", "housing.a")):
        heated.connect(a, b)
    assert {"housing", "ribs", "hall", "oven"} <= set(at_level(heated.document).cards), "that heats it still"


@pytest.mark.parametrize(
    ("asked", "speed", "link", "gives"),
    [
        ("90 N*m", "1000 rpm", "560 V", 90),
        ("200 N*m", "2000 rpm", "560 V", 90),
        ("200 N*m", "-2000 rpm", "560 V", 200),  # which brakes there
        ("-250 N*m", "2000 rpm", "560 V", -200),
        ("-250 N*m", "-2000 rpm", "560 V", -90),
        ("200 N*m", "1000 rpm", "280 V", 90),  # half of the voltage is used up at half of the speed
        ("200 N*m", "9000 rpm", "560 V", 0),
    ],
)
def test_torque_stays_within_the_limits_of_its_speed_and_link(asked, speed, link, gives):
    d = pendel.Drive()
    values = {"M_max": "300 N*m", "U_0": "560 V", "J_m": "0.1 kg*m^2", "T_lag": "1 ms"}
    rows = [("0 rpm", "300 N*m", "300 N*m"), ("2000 rpm", "90 N*m", "200 N*m")]
    d.add("folded_machine", "Machine", rows=rows, **values)
    d.add("dc_source", "Link", U_0=link, R_i="1 uohm")
    d.add("imposed_speed", "Bench", profile=[("0 s", speed), ("9 s", speed)])
    d.add("constant", "Asked", value=asked)
    for a, b in (("link.dc", "machine.dc"), ("machine.shaft", "bench.a"), ("asked.out", "machine.torque")):
        d.connect(a, b)
    assert d.run("50 ms")["machine.torque"].y[-1] == pytest.approx(gives, rel=1e-4, abs=1e-3)


def test_two_machines_on_one_link_stand_each_for_itself():
    """Their converters are wired one behind the other; a third has no envelope and stays as it is."""
    d = pendel.Drive()
    d.add("dc_source", "Link", U_0="48 V", R_i="10 mohm")
    before = "link.dc"
    for name in ("One", "Two", "Three"):
        key = name.lower()
        d.add("four_quadrant_bridge", f"Bridge {name}")
        d.add("brushed_dc", f"Motor {name}")
        d.add("inertia", f"Wheel {name}", J="0.01 kg*m^2")
        d.add("constant", f"Asked {name}", value="0.2")
        d.add("gain", f"Inner {name}")
        for a, b in (
            (before, f"bridge_{key}.dc"),
            (f"bridge_{key}.out", f"motor_{key}.winding"),
            (f"motor_{key}.shaft", f"wheel_{key}.a"),
            (f"asked_{key}.out", f"inner_{key}.x"),
            (f"inner_{key}.out", f"bridge_{key}.duty"),
        ):
            d.connect(a, b)
        before = f"bridge_{key}.dc"
    limits = {"n_0": "0 rpm", "M_0": "3 N*m", "B_0": "3 N*m", "n_1": "4000 rpm", "M_1": "1 N*m", "B_1": "3 N*m"}
    for key in ("one", "two"):
        texts = {
            "torque": f"asked_{key}.out",
            "per": "2 N*m/A",
            "M_max": "3 N*m",
            "U_0": "48 V",
            "T_lag": "1 ms",
            **limits,
        }
        card = d.document.cards[f"motor_{key}"]
        d.document.cards[f"motor_{key}"] = commands.replace(card, envelope=texts)
    d.set("level", "system")
    folded = at_level(d.document)
    wires = {w.key for w in folded.wires.values()}
    assert {"link.dc -> motor_one.dc", "motor_one.dc -> motor_two.dc", "motor_two.dc -> bridge_three.dc"} <= wires
    assert {"inner_three", "bridge_three", "motor_one_torque", "motor_two_torque"} <= set(folded.cards)
    assert not {"inner_one", "bridge_one", "inner_two", "bridge_two"} & set(folded.cards)
    run = d.run("50 ms")
    for key in ("one", "two"):
        assert run[f"motor_{key}.torque"].y[-1] == pytest.approx(0.4, rel=0.05)
    assert run["motor_three.current"].y[-1] > 1 and run["motor_one.link_power"].y[-1] > 0


def test_a_unit_of_the_plant_has_the_envelope_and_one_of_the_controller_all_blocks(door):
    folded, whole = prepared_for(door.document, What.PLANT), prepared_for(door.document, What.CONTROLLER)
    assert "door_motor.link_current" in folded.structure.signals and "bridge.duty" not in folded.structure.commands
    assert "current_pi.out" not in folded.deck.signals and "speed_pi.out" in folded.deck.signals
    door.set("level", "averaged")
    averaged = prepared_for(door.document, What.CONTROLLER)
    assert {"current_pi.out", "speed_pi.out"} <= set(whole.deck.signals) == set(averaged.deck.signals)
    assert whole.structure.commands == averaged.structure.commands


@pytest.mark.parametrize(
    ("envelope", "says"),
    [
        ({"n_1": "0 rpm"}, "not above that of the row before"),
        ({"n_1": None}, "fewer than two rows"),
        ({"T_lag": "0 s"}, "above 0"),
        ({"U_0": "-5 V"}, "above 0"),
        ({"M_1": "<b>1</b>"}, "cannot be read"),
        ({"M_max": "1e400 N*m"}, "Haul machine"),
        ({"B_0": "3 kg"}, "N·m"),
    ],
)
def test_an_envelope_of_a_hostile_file_gets_a_sentence(envelope, says):
    d = with_envelope("haul_drive", "haul_machine", "torque_demand.out")
    card = d.document.cards["haul_machine"]
    texts = {name: text for name, text in {**card.envelope, **envelope}.items() if text is not None}
    d.document.cards["haul_machine"] = commands.replace(card, envelope=texts)
    again = pendel.Drive(document=from_text(to_text(d.document)))
    assert [f for f in again.check() if f.stops and f.card == "haul_machine" and says in f.sentence], again.check()
    with pytest.raises(DriveHasFindings):
        again.run("5 ms")


def test_where_no_torque_or_no_time_is_asked_the_level_says_what_it_can(door):
    """Zero, and long: a machine that nobody asks anything of slows down by its drag alone, and stays within limits."""
    d = with_envelope("haul_drive", "haul_machine", "torque_demand.out")
    card = d.document.cards["haul_machine"]
    d.document.cards["haul_machine"] = commands.replace(card, envelope={**card.envelope, "b": "0.5 N*m*s"})
    d.remove("test_bench")
    d.set("torque_demand.before", "0 N*m")
    d.set("torque_demand.after", "0 N*m")
    d.start("haul_machine", omega="50 rad/s")
    d.set("until", "4 s")
    w = d.run()["haul_machine.speed"]
    assert w.at([0.0, 0.84, 4.0]) == pytest.approx(50 * np.exp(-np.array([0.0, 0.84, 4.0]) * 0.5 / 0.42), rel=1e-4)

"""What scripts and notebooks get: cards by name, wires by what fits, runs as mappings, models for other libraries."""

import doctest
import math
import time
from pathlib import Path
from xml.etree import ElementTree

import control
import numpy as np
import pytest
import scipy.signal

import pendel
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.runs.preparing.simulate import reopen
from pendel.interface import (
    api,
    board_view,
    card_view,
    drive_edits,
    drive_firmware,
    drive_loops,
    live_view,
    run_view,
    sheet_view,
)


def bench():
    d = pendel.Drive("<b>Bench</b>")
    d.add("dc_source", "Supply", U_0="48 V")
    d.add("brushed_dc", "Motor")
    d.add("inertia", "Flywheel")
    return d


def test_examples_in_docstrings_hold():
    """All that a script is offered has one."""
    run, without, failed = pendel.open_example("car_door_drive").run(0.1), [], []
    scripted = {c.__module__ + "." + c.__name__ for c in (*pendel.Drive.__mro__[:-1], pendel.Run)}
    modules = (api, board_view, card_view, drive_edits, drive_firmware, drive_loops, live_view, run_view, sheet_view)
    for module in modules:
        for each in doctest.DocTestFinder(exclude_empty=False).find(module):
            each.globs |= {"pendel": pendel, "np": np, "d": pendel.open_example("car_door_drive"), "run": run}
            failed += [each.name] if doctest.DocTestRunner().run(each).failed else []
            owner, _, name = each.name.rpartition(".")
            if owner in scripted and not name.startswith("_") and not each.examples:
                without.append(each.name)
    assert not failed and not without


def test_cards_are_read_and_set_in_si_and_each_change_is_undone():
    d = bench()
    motor = d.card("motor")
    motor["R_a"] = "500 mohm"
    assert motor.R_a == motor["R_a"] == 0.5 and motor.texts["R_a"] == "500 mohm"
    motor.R_a = 0.25  # a number is in the value's own unit
    assert motor.values["R_a"] == 0.25 and "R_a" in dir(motor)
    assert [d.undo(), d.card("motor").R_a] == ["Set R_a of Motor", 0.5]
    door = pendel.open_example("car_door_drive")
    run, R_a = door.run(until=0.1), door.card("door_motor").R_a  # follows from the rated point
    lost, current = (run[f"door_motor.{key}"].y[-1] for key in ("copper_loss", "current"))
    assert pytest.approx(lost / current**2) == R_a and math.isnan(door.card("door_motor").M_0)
    haul = pendel.open_example("haul_drive")
    face, inner = haul.card("field_orientation"), haul.card("current_regulator")
    assert face.K_d == inner.K_d > 0 and face.texts["K_d"] == inner.texts["K_d"]
    d.set("supply.U_0", "?")
    assert math.isnan(d.card("supply").U_0) and d.card("supply").findings[0].field == "U_0"
    d.undo()
    assert d.rename("motor", "Fan motor") == "fan_motor"
    d.remove("flywheel")
    assert list(d.cards) == ["supply", "fan_motor"]
    d.undo()
    assert list(d.cards) == ["supply", "fan_motor", "flywheel"]
    for wrong, words in (
        (lambda: d.card("fan"), "Is it fan_motor"),
        (lambda: d.card("fan_motor")["R_b"], "has no value “R_b”. It has"),
        (lambda: d.set("fan_motor.R_b", 1), "Is it R_a"),
        (lambda: d.add("brushed", "M"), "Is it brushed_dc"),
        (lambda: pendel.Drive().undo(), "nothing to undo"),
        (lambda: d.group(["fan_motor", "wheel"], "Fan"), "no card “wheel”"),
        (lambda: pendel.open_example("car_door"), "has no example “car_door”"),
    ):
        with pytest.raises(DriveProblem, match=words):
            wrong()
    with pytest.raises(AttributeError, match="has no value"):
        d.card("fan_motor").R_b = 1
    assert "&lt;b&gt;Bench" in d._repr_html_() and "<b>" not in d._repr_html_()
    assert {"Drive", "Run", "open", "open_example"} <= set(dir(pendel)) and "Iterable" not in dir(pendel)


def test_cards_are_wired_where_only_one_way_fits():
    d = bench()
    d.connect("supply", "motor")
    d.connect("motor", "flywheel.a")
    wired = {(str(w.a), str(w.b)) for w in d.document.wires.values()}
    assert wired == {("supply.dc", "motor.winding"), ("motor.shaft", "flywheel.a")}
    assert not [f for f in d.check() if f.stops]
    d.add("inductor", "Coil")
    d.add("capacitor", "Bank")
    for ends, words in (
        (("coil", "bank"), "several ways: coil.a – bank.a"),
        (("coil", "flywheel"), "No port of coil fits one of flywheel"),
        (("coil.c", "bank"), "no port or signal coil.c. Is it coil"),
    ):
        with pytest.raises(DriveProblem, match=words):
            d.connect(*ends)


def test_of_several_ways_the_usual_one_is_taken_and_shafts_run_on():
    d = pendel.Drive("Row")
    row = ("dc_source", "four_quadrant_bridge", "brushed_dc", "inertia", "gear", "load_torque")
    keys = [d.add(kind, kind) for kind in row]
    for a, b in zip(keys, keys[1:]):
        d.connect(a, b)
    wired = {(str(w.a), str(w.b)) for w in d.document.wires.values()}
    assert wired == {
        ("dc_source.dc", "four_quadrant_bridge.dc"),
        ("four_quadrant_bridge.out", "brushed_dc.winding"),
        ("brushed_dc.shaft", "inertia.a"),
        ("inertia.b", "gear.a"),
        ("gear.b", "load_torque.a"),
    }
    d.disconnect("inertia.b", "gear.a")
    assert len(d.document.wires) == 4
    d.disconnect("gear")
    d.disconnect("inertia")
    d.connect("gear", "inertia")
    pi, stage = d.add("pi", "PI"), d.add("pulse_stage", "Stage")
    with pytest.raises(DriveProblem, match="several ways"):
        d.connect(stage, pi)
    d.connect(pi, stage)
    assert ("pi.out", "stage.u") in {(str(w.a), str(w.b)) for w in d.document.wires.values()}
    with pytest.raises(DriveProblem, match="No wire joins gear and brushed_dc"):
        d.disconnect("gear", "brushed_dc")
    assert ("gear.b", "inertia.a") in {(str(w.a), str(w.b)) for w in d.document.wires.values()}


def test_two_shafts_are_never_joined_to_a_ring_by_themselves():
    d = pendel.Drive("Ring")
    d.add("gear", "Gear")
    d.add("inertia", "Wheel")
    d.connect_obvious()
    assert len(d.document.wires) == 1


def test_a_run_is_a_mapping_of_traces_and_goes_to_other_libraries():
    run = pendel.open_example("car_door_drive").run(0.1)
    speed = run["door_motor.speed"]
    assert "door_motor.speed" in run and len(run) == len(list(run)) == len(run.keys())
    with pytest.raises(KeyError, match="Is it door_motor.speed"):
        run["door_motor.sped"]
    np.testing.assert_allclose(speed.y_in("rpm"), speed.y * 30 / math.pi)
    table = run.to_pandas(["door_motor.speed", "speed_pi.out"])
    np.testing.assert_array_equal(table.index, speed.t)
    np.testing.assert_array_equal(table["speed_pi.out"], run.at("speed_pi.out", speed.t))
    data = run.to_xarray(["door_motor.speed", "speed_pi.out"])
    assert data["door_motor.speed"].attrs["units"] == "rad/s"
    np.testing.assert_array_equal(data["door_motor.speed"], speed.y)
    run.kept.units.choose("door_motor.speed", "rad/s", "rpm")
    assert run.to_xarray(["door_motor.speed"])["door_motor.speed"].attrs["units"] == "rad/s", "values are in SI"
    figure = run.plot("door_motor.speed", "speed_pi.out")
    first, second = figure.axes
    assert first.get_ylabel().endswith("rpm") and second.lines[0].get_drawstyle() == "steps-post"
    np.testing.assert_allclose(first.lines[0].get_ydata(), speed.y * 30 / math.pi)


def test_runs_are_kept_beside_the_drive_and_drawn_over_each_other(tmp_path):
    d = pendel.open_example("car_door_drive")
    first = d.run(0.02)
    with pytest.raises(DriveProblem, match="Save it first"):
        d.keep(first, "R = 5 ohm")
    d.save(tmp_path / "door.pendel")
    assert d.keep(first, "R = 5 ohm") == "run1"
    d.set("K_p", "30 A*s/m")
    second = d.run(0.02)
    assert d.keep(second, "K_p = 30") == "run2" and first.kept.differs != "R = 5 ohm"
    again = reopen(tmp_path / "door.runs" / "run1.h5")
    assert again.differs == "R = 5 ohm"
    np.testing.assert_array_equal(again.trace("door_motor.speed").y, first["door_motor.speed"].y)
    figure = first.plot("door_motor.speed", beside=[second])
    drawn = [line.get_ydata() for line in figure.axes[0].lines]
    np.testing.assert_allclose(drawn[1], second["door_motor.speed"].y_in(first["door_motor.speed"].unit))
    assert len(figure.axes[0].get_legend().get_texts()) == 2
    assert pendel.open(tmp_path / "door.pendel").keep(first) == "run3"


@pytest.mark.parametrize("ends", [("bridge.duty", "i_door"), ("current_pi.out", "door_motor.current")])
def test_linear_models_answer_alike_in_scipy_and_in_python_control(ends):
    model = pendel.open_example("car_door_drive").linear(*ends)
    omega = 2 * np.pi * np.array([1.0, 30.0, 400.0])
    ours = model.response(omega)
    theirs = model.to_scipy()
    assert isinstance(theirs, scipy.signal.StateSpace) and (theirs.dt or 0.0) == model.dt
    points = np.exp(1j * omega * model.dt) if model.dt else 1j * omega
    whole = [theirs.C @ np.linalg.solve(z * np.eye(len(theirs.A)) - theirs.A, theirs.B) + theirs.D for z in points]
    np.testing.assert_allclose(np.ravel(whole), ours, rtol=1e-6)
    system = model.to_control()
    assert isinstance(system, control.StateSpace) and system.input_labels == [ends[0].replace(".", "_")]
    np.testing.assert_allclose(system(points), ours, rtol=1e-6)


def test_a_run_lasts_as_long_as_it_is_told_or_says_why_not():
    d = pendel.open_example("car_door_drive")
    assert d.run("20 ms")["door_motor.current"].t[-1] == pytest.approx(0.02)
    for until in ("soon", "3 V", "0 s", 0, -1.0, float("nan"), float("inf")):
        with pytest.raises(DriveProblem):
            d.run(until)


def children():
    """Numbers of the processes that this one has started."""
    return {number for task in Path("/proc/self/task").iterdir() for number in (task / "children").read_text().split()}


def test_a_live_run_goes_on_as_a_run_does_is_changed_and_leaves_nothing_behind():
    before, drive = children(), pendel.open_example("car_door_drive")
    with drive.live() as live:
        assert (live.state, live.time, live.value("door_leaf.speed")) == ("paused", 0.0, 0.0)
        with pytest.raises(PendelError, match="Nothing was recorded"):
            live.keep("1 s")
        for span in (0.1, "150 ms", 0.05):
            live.advance(span)
        assert live.time == pytest.approx(0.3, abs=1e-12)
        kept, ran = live.keep("1 s"), drive.run("300 ms")
        for signal in ("door_leaf.speed", "current_pi.out", "door_motor.current"):
            some = min(len(kept[signal].y), len(ran[signal].y))
            assert some > 5000 and np.array_equal(kept[signal].y[:some], ran[signal].y[:some]), "to the bit"
        assert live.value("door_leaf.speed") == ran["door_leaf.speed"].y[-1]
        live.set("m_leaf", "500 kg")
        live.advance(0.1)
        assert live.drive.document.quantities["m_leaf"].text == "500 kg" != drive.document.quantities["m_leaf"].text
        later = live.keep("1 s")["door_leaf.speed"]
        assert later.t[0] == pytest.approx(0.3) and later.y[0] == pytest.approx(ran["door_leaf.speed"].y[-1])
        assert abs(later.y[-1] - drive.run(0.4)["door_leaf.speed"].y[-1]) > 0.01, "a heavy leaf brakes later"
        for wrong, words in (
            (lambda: live.advance(1e-9), "a tick of 5e-05 s or more"),
            (lambda: live.advance(float("nan")), "a tick of"),
            (lambda: live.go(0), "above 0"),
            (lambda: live.keep(float("nan")), "more than 0"),
            (lambda: live.set("nothing", 1), "no quantity or setting nothing"),
            (lambda: live.set("bridge.level", "switching"), "other parts or wires now"),
            (lambda: live.value("door_leaf.sped"), "no signal"),
        ):
            with pytest.raises(PendelError, match=words):
                wrong()
        assert not live.drive.document.cards["bridge"].choices, "what was refused is taken back"
        live.go(5.0)
        end = time.monotonic() + 20
        while live.time <= 0.4 and time.monotonic() < end:
            time.sleep(0.01)
        live.pause()
        assert live.time > 0.4 and live.state == "paused"
        processes = children() - before
    with pytest.raises(PendelError, match="closed"):
        live.advance(1)
    assert processes and not processes & children()
    drive.set("until", "1 parsec")
    with pytest.raises(PendelError):
        drive.live()


def test_a_board_is_loaded_enabled_written_and_recorded_by_a_script():
    drive = pendel.open_example("car_door_drive")
    drive.set_live("speed_pi.K_p")
    drive.add("constant", "Nothing")  # the script's own drive may change meanwhile
    with drive.board() as board:
        for early in (board.enable, board.values, lambda: board.record(["current_pi.out"])):
            with pytest.raises(PendelError, match="board is empty"):
                early()
        board.load()
        assert board.state == "idle" and board.values() == {"speed_pi.K_p": 35.0}
        board.enable()
        for wrong, words in (
            (board.load, "enabled"),
            (lambda: board.set("speed_pi.K_p", 1e9), "8.75 to 140"),
            (lambda: board.set("speed_pi.K_p", "many"), "Gain"),
            (lambda: board.set("speed_pi.Kp", 1), "Is it speed_pi.K_p"),
            (lambda: board.read("nonsense"), "no place on the board"),
            (lambda: board.read("i_door"), "signal of the plant.*input:current_sensor.value"),
            (lambda: board.sample(["i_set"], "0.1 m"), "0.1 m"),
            (lambda: board.sample(["current_pi.out"], -1), "more than 0"),
            (lambda: board.sample(["current_pi.out"], 0.1, every=1000), "1 to 255"),
            (lambda: board.record(["current_pi.out"], 10**8), "Choose fewer"),
            (lambda: board.record(["current_pi.out"], 0), "2 samples"),
            (lambda: board.record(["current_pi.out"], rises=1.0, changes=True), "one event"),
            (lambda: board.record([]), "at least one channel"),
            (lambda: board.sample([], 0.1), "at least one channel"),
            (lambda: board.record(["current_pi.out"], 50, rises=1e9, longest=0.1), "Nothing that current_pi.out did"),
        ):
            with pytest.raises(PendelError, match=words):
                wrong()
        assert board.set("speed_pi.K_p", "40 A*s/m") == board.read("speed_pi.K_p") == 40.0
        seen = board.record(["travel_plan.speed", "speed_pi.out"], 400, every=3)
        assert np.allclose(np.diff(seen.t), 3 * 50e-6) and len(seen["speed_pi.out"]) == 400
        by_name = board.sample(["i_set", "speed_pi.out", "encoder.speed", "input:encoder.speed"], "20 ms")
        assert len(by_name.t) == 400 and np.array_equal(by_name["i_set"], by_name["speed_pi.out"])
        assert np.array_equal(by_name["encoder.speed"], by_name["input:encoder.speed"])
        line = board.sample(["board:ticks", "current_pi.out"], 0.1, every=2)
        assert line.lost == 0 and np.all(np.diff(line["board:ticks"]) == 2) and np.allclose(np.diff(line.t), 100e-6)
        event = board.record(["board:ticks"], 100, rises=line["board:ticks"][-1] + 20000, before=0.4)
        assert event["board:ticks"][40] - line["board:ticks"][-1] == pytest.approx(20001) and event.t[40] == 0
        board.idle()
        assert board.state == "idle"
    empty = pendel.Drive("Coil")
    empty.add("inductor", "Coil")
    with pytest.raises(PendelError, match="control deck is empty"):
        empty.board()


def test_the_sheet_is_a_picture_and_names_in_it_are_text_alone(tmp_path):
    d = bench()
    d.rename("motor", "</text><script>alert(1)</script>")
    picture = d.sheet()
    root = ElementTree.fromstring(picture._repr_svg_())
    kinds = {each.tag.rpartition("}")[2] for each in root.iter()}
    words = "".join(each.get("aria-label", "") for each in root.iter())
    assert kinds == {"svg", "title", "rect", "path", "clipPath"} - ({"clipPath"} - kinds)
    assert "Supply" in words and "</text><scrip" in words
    assert float(root.get("width", "0")) > 300
    picture.save(tmp_path / "sheet.svg")
    assert (tmp_path / "sheet.svg").read_text("utf-8") == picture.svg
    with pytest.raises(PendelError, match="cannot be written"):
        picture.save(tmp_path / "no folder" / "sheet.svg")


def test_spans_and_names_that_a_run_has_not_get_a_sentence():
    run, nan, inf = pendel.open_example("car_door_drive").run(0.02, with_energy=True), math.nan, math.inf
    asked = (
        lambda a, b: run.spectrum("door_motor.current", a, b),
        lambda a, b: run.averages("door_motor.current", a, b),
        lambda a, b: run.measure("rms", "door_motor.current", a, b),
        run.losses,
        run.balance,
    )
    for ask in asked:
        for start, end in (
            (0.01, 0.01),
            (0.01, 0.005),
            (-0.01, 0.01),
            (nan, 0.01),
            (0.0, nan),
            (0.0, inf),
            (0.02, 1.0),
        ):
            with pytest.raises(PendelError, match="no span of the run, which lasts from 0 s to 0.02 s"):
                ask(start, end)
    assert run.averages("door_motor.current", 0.01, 1.0) == run.averages("door_motor.current", 0.01, 0.02)
    assert run.spectrum("door_motor.current", 0.01, 1.0).end == 0.02
    for wrong in (lambda: run.averages("motor.current", 0, 0.01), lambda: run.spectrum("", 0, 0.01)):
        with pytest.raises(PendelError, match="has no signal"):
            wrong()
    for fundamental in (-50.0, nan, inf):
        with pytest.raises(PendelError, match="fundamental"):
            run.spectrum("door_motor.current", 0, 0.02, fundamental=fundamental)


@pytest.mark.parametrize("name", ["car_door_drive", "day_of_trips", "cabin_fan", "wayside_supply"])
def test_what_is_set_is_read_again_by_the_same_name(name):
    d = pendel.open_example(name)
    for key, card in d.cards.items():
        for value, number in card.values.items():
            read = d.get(f"{key}.{value}")
            assert read == number or (math.isnan(read) and math.isnan(number))
        for choice, word in card.choices.items():
            assert d.get(f"{key}.{choice}") == word
    for quantity in list(d.document.quantities):
        before = d.get(quantity)  # others that it rests on have changed
        d.set(quantity, f"2*({d.document.quantities[quantity].text})")
        assert d.get(quantity) == pytest.approx(2 * before)
    for setting, text in d.document.settings.items():
        read = d.get(setting)
        assert read == text if isinstance(read, str) else math.isfinite(read)
    d.set("until", "40 ms")
    assert d.get("until") == 0.04 and d.get("level") == d.document.settings["level"]


def test_a_name_that_is_none_is_refused_alike_where_it_is_read_and_set():
    d = pendel.open_example("car_door_drive")
    for name in ("K_pp", "door_moto.R_a", "door_motor.R_b", "bridge.leve", "", ".", "door_motor.", "a.b.c", "\ud800.x"):
        told = []
        for ask in (d.get, lambda name: d.set(name, "1")):
            with pytest.raises(DriveProblem) as refused:
                ask(name)
            told.append(str(refused.value).removesuffix(" define() makes a new quantity."))
        assert told[0] == told[1] and told[0].strip()
    d.define("odd", "1/0")
    assert math.isnan(d.get("odd")), "a text without a value"
    assert d.get("speed_pi.outside") == "no"
    d.set("speed_pi.outside", "yes")
    assert d.get("speed_pi.outside") == "yes"


@pytest.mark.parametrize("ask", ["balance", "losses", "averages", "measure", "spectrum", "flows"])
def test_times_are_seconds_or_texts_and_what_is_none_gets_a_sentence(ask):
    run = pendel.open_example("car_door_drive").run(0.1)
    first = {"averages": ("door_motor.current",), "spectrum": ("door_motor.current",)}.get(ask, ())
    first = ("mean", "door_motor.current") if ask == "measure" else first
    if ask == "measure":
        assert run.measure(*first, "20 ms", "0,05 s") == run.measure(*first, 0.02, np.float64(0.05))
    for bad, words in (
        ("5 V", "in V"),
        ("", "no span"),
        (None, "no time"),
        ([1], "no time"),
        (float("nan"), "no span"),
    ):
        with pytest.raises(DriveProblem, match=words):
            getattr(run, ask)(*first, bad, 0.05)

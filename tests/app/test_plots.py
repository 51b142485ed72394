"""The strips by wheel and keys, kept runs by name, exports read back, and the sliders of the Loops page."""

import json
import os
from dataclasses import replace
from pathlib import Path

import h5py
import numpy as np
import pytest
import scipy.io
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QColor, QDragEnterEvent, QDropEvent, QImage, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QInputDialog, QLabel, QWidget

from pendel.app.plots.reading import TimeCurve
from pendel.app.runs.arrangement import read
from pendel.app.runs.strips import Strips, StripSpec, heights
from pendel.app.session.card_text import figure_of
from pendel.app.session.preferences import Preferences
from pendel.app.session.session import Session
from pendel.app.widgets.drawing import drawing_of
from pendel.app.widgets.signal_drag import signals_mime
from pendel.app.widgets.sizes import DECIBELS, RATIOS, use_sizes
from pendel.app.window.unit_choices import UnitChoices
from pendel.core.bench.described import described
from pendel.core.drive import commands
from pendel.core.drive.document import PanelControl
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import load, to_text
from pendel.core.firmware.written import write_c
from pendel.core.processes.requests import DescribeRequest, RunRequest, WriteRequest
from pendel.core.quantities.units import number_text
from pendel.core.runs.record.measures import mean, rms, window

from .conftest import finish, judged, settle, until
from .test_window import type_into


@pytest.fixture
def runs_page(window):
    window.start_run()
    finish(window)
    window.show_page("Runs")
    settle()
    return window.page("Runs")


def run_again(window):
    window.start_run()
    finish(window)
    settle()


def wheel(strips, at, modifiers=Qt.KeyboardModifier.NoModifier):
    place = strips.mapFromScene(at)
    global_at = QPointF(strips.mapToGlobal(place))
    event = QWheelEvent(
        QPointF(place),
        global_at,
        QPoint(),
        QPoint(0, 120),
        Qt.MouseButton.NoButton,
        modifiers,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    strips.wheelEvent(event)


def test_wheel_zooms_time_for_all_strips_and_height_with_shift(runs_page):
    strips = runs_page.strips
    plot = strips.plots[1]
    centre = plot.vb.sceneBoundingRect().center()
    (x0, x1), (y0, y1) = plot.vb.viewRange()
    wheel(strips, centre)
    (a0, a1), heights = plot.vb.viewRange()
    assert a1 - a0 < x1 - x0
    assert (a0 + a1) / 2 == pytest.approx((x0 + x1) / 2, rel=0.02)
    assert heights == pytest.approx([y0, y1])
    assert strips.plots[0].vb.viewRange()[0] == pytest.approx([a0, a1])
    wheel(strips, centre, Qt.KeyboardModifier.ShiftModifier)
    times, (b0, b1) = plot.vb.viewRange()
    assert times == pytest.approx([a0, a1])
    assert b1 - b0 < y1 - y0


def test_cursors_and_view_by_keys(runs_page):
    strips = runs_page.strips
    strips.set_cursors(0.2, 0.4)
    strips.setFocus()
    low, high = strips.plots[0].vb.viewRange()[0]
    QTest.keyClick(strips, Qt.Key.Key_Right)
    QTest.keyClick(strips, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    step = (high - low) / 200
    assert strips.times == pytest.approx([0.2 - step, 0.4 + step])
    assert [pair[1].value() for pair in strips.cursors] == pytest.approx([0.4 + step] * len(strips.plots))
    QTest.keyClick(strips, Qt.Key.Key_Plus)
    near = strips.plots[0].vb.viewRange()[0]
    assert near[1] - near[0] == pytest.approx((high - low) / 2)
    assert sum(near) / 2 == pytest.approx(0.4 + step)
    QTest.keyClick(strips, Qt.Key.Key_F)
    assert strips.plots[0].vb.viewRange()[0] == pytest.approx([low, high], abs=0.03)


def test_the_table_between_the_cursors_is_that_of_the_trace(window, runs_page):
    runs_page.strips.set_cursors(0.65, 0.85)
    settle()
    words = [runs_page.between.itemAt(k).widget() for k in range(runs_page.between.count())]
    texts = [getattr(w, "whole", "") or w.text() for w in words]
    at = texts.index("current")
    trace = window.session.last_run.trace("door_motor.current")
    t, y = window_of(trace)
    for text, value in zip(texts[at + 1 : at + 4], (mean(t, y), rms(t, y), float(np.ptp(y)))):
        number, unit = text.split(" ")
        scale = {"A": 1.0, "mA": 1e-3}[unit]
        assert float(number.replace("−", "-")) * scale == pytest.approx(value, rel=6e-3)


def window_of(trace):
    return window(trace.t, trace.y, 0.65, 0.85)


def from_runs_menu(runs_page, words):
    """Choose an entry of the menu of the chosen run."""

    def choose():
        menu = QApplication.activePopupWidget()
        menu.setActiveAction(next(a for a in menu.actions() if a.text() == words))
        QTest.keyClick(menu, Qt.Key.Key_Return)

    kept = runs_page.kept.list
    QTimer.singleShot(100, choose)
    kept.customContextMenuRequested.emit(kept.visualItemRect(kept.currentItem() or kept.item(0)).center())
    settle()


def test_a_kept_run_is_renamed_and_deleted_by_keys(window, runs_page, monkeypatch):
    window.start_run()
    finish(window)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("heavy leaf", True))
    runs_page.kept.list.setCurrentRow(0)
    runs_page.kept.list.setFocus()
    window.actions_by_name["rename"].trigger()
    assert window.session.runs[-1].differs == "heavy leaf"
    kept = [r.name for r in window.session.runs]
    QTest.keyClick(runs_page.kept.list, Qt.Key.Key_Delete)
    assert [r.name for r in window.session.runs] == kept[:-1]
    assert runs_page.kept.list.count() == 1
    from_runs_menu(runs_page, f"Bring {kept[-1]} back")
    assert [r.name for r in window.session.runs] == kept and runs_page.kept.list.count() == 2


def test_the_drive_is_taken_as_it_was_in_a_run(window, runs_page):
    """In one step, whatever was changed since; what is only looked at, and where cards lie, stays. A run is named by
    what a card was called before."""
    session = window.session
    before = session.drive.copy()
    session.do(commands.move_cards(session.drive, {"gear": (77, 88)}))
    session.do(commands.set_quantity(session.drive, "U_link", "36 V"))
    session.do(commands.rename_card(session.drive, "door_motor", "Main motor"))
    run_again(window)
    assert "Door motor is called Main motor" in session.runs[-1].differs and "wired" not in session.runs[-1].differs
    session.do(commands.set_setting(session.drive, "level", "switching"))
    session.do(commands.remove_cards(session.drive, ["encoder"]))
    session.do(commands.add_card(session.drive, "step", "Other", 0, 90))
    session.do(commands.set_control(session.drive, "", PanelControl("figure", "gear.speed")))
    changed, steps = to_text(session.drive), session.undo.count()
    runs_page.kept.list.setCurrentRow(1)
    from_runs_menu(runs_page, "Take the drive as it was in this run")
    assert session.undo.count() == steps + 1 and session.drive.panel
    for table in ("settings", "quantities", "wires", "taps"):
        assert list(session.drive.table(table).items()) == list(before.table(table).items())
    gear, was = session.drive.cards["gear"], before.cards["gear"]
    assert list(session.drive.cards) == list(before.cards) and (gear.x, gear.y) == (77, 88)
    assert replace(gear, x=was.x, y=was.y) == was
    session.undo.undo()
    assert to_text(session.drive) == changed


def test_saved_traces_read_back_as_shown(window, runs_page, tmp_path):
    trace = window.session.last_run.trace("door_motor.current")
    window.exports.save_traces(str(tmp_path / "t.h5"))
    settle()
    with h5py.File(tmp_path / "t.h5") as file:
        name = next(n for n in file if "door_motor.current" in n)
        np.testing.assert_array_equal(file[name][()], trace.y)
        assert file[name].attrs["unit"] == "A"
    window.exports.save_traces(str(tmp_path / "t.mat"))
    settle()
    loaded = scipy.io.loadmat(tmp_path / "t.mat")
    assert any(np.array_equal(v.ravel(), trace.y) for k, v in loaded.items() if not k.startswith("__"))
    window.exports.save_traces(str(tmp_path / "t.xyz"))
    settle()
    assert not (tmp_path / "t.xyz").exists()


def test_a_slider_moves_the_proposed_loop_and_taking_it_is_one_step(window):
    window.show_page("Loops")
    page = window.page("Loops")
    judged(window)
    assert until(lambda: page.proposed is not None)
    steps = window.session.undo.count()
    seen = []
    for wanted in ("300", "900"):
        type_into(page.wishes.crossover, wanted)
        settle()
        margins = page.proposed.margins
        assert margins.crossover == pytest.approx(float(wanted), rel=0.02)
        seen.append(margins.phase)
    # The delay of sampling, computing and hold takes more phase the faster the loop.
    assert seen[0] > seen[1] > 40
    slider = page.wishes.crossover_slider
    before = page.proposed.margins.crossover
    slider.setFocus()
    for _ in range(5):
        QTest.keyClick(slider, Qt.Key.Key_Right)
    settle()
    assert page.proposed.margins.crossover > before
    type_into(page.wishes.crossover, "quick")
    assert page.wishes.crossover.property("wrong")
    QTest.mouseClick(page.take_button, Qt.MouseButton.LeftButton)
    settle()
    assert window.session.undo.count() == steps + 1


def dropped(strips, keys, at):
    """Signals let go over the strips, as the tree of signals hands them over."""
    mime = signals_mime(keys)
    place = QPointF(strips.mapFromScene(at))
    buttons, no_keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    entering = QDragEnterEvent(place.toPoint(), Qt.DropAction.CopyAction, mime, buttons, no_keys)
    strips.dragEnterEvent(entering)
    strips.dropEvent(QDropEvent(place, Qt.DropAction.CopyAction, mime, buttons, no_keys))
    settle()
    return entering.isAccepted()


def chosen_from_menu(strips, n, words):
    def choose():
        menu = QApplication.activePopupWidget()
        action = next(a for a in menu.actions() if a.text() == words)
        menu.setActiveAction(action)
        QTest.keyClick(menu, Qt.Key.Key_Return)

    QTimer.singleShot(100, choose)
    view = strips.plots[n].vb
    strips.plots[n].vb.menu_wanted.emit(view.mapToScene(view.boundingRect().center()))
    settle()


def test_signals_are_dropped_on_strips_and_taken_off_again(runs_page):
    """On a strip they join what is there, twice the same is once; beside the strips they get one of their own. A strip
    whose last signal is taken off goes; with none left, a dropped signal begins anew."""
    strips = runs_page.strips
    count, before = len(strips.specs), list(strips.specs[0].signals)
    middle = strips.plots[0].vb.mapToScene(strips.plots[0].vb.boundingRect().center())
    assert dropped(strips, ["door_motor.torque", "door_motor.torque"], middle)
    dropped(strips, ["door_motor.torque"], middle)
    assert strips.specs[0].signals == [*before, "door_motor.torque"] and len(strips.specs) == count
    assert any(trace.name == "door_motor.torque" for trace in strips.traces[0])
    dropped(strips, ["gear.loss"], QPointF(-50, -50))
    assert strips.specs[-1].signals == ["gear.loss"] and len(strips.plots) == count + 1
    chosen_from_menu(strips, count, "Take off Gear: loss")
    assert len(strips.specs) == len(strips.plots) == count
    chosen_from_menu(strips, 0, "Take off Door motor: torque")
    assert strips.specs[0].signals == before
    for _ in range(count):
        chosen_from_menu(strips, 0, "Remove this strip")
    assert not strips.plots
    dropped(strips, ["belt.force"], QPointF(20, 20))
    assert [s.signals for s in strips.specs] == [["belt.force"]] and len(strips.plots) == 1


def test_chosen_strips_outlast_edits_renames_and_a_new_start(window, runs_page):
    """Strips that nobody chose follow the drive's cards; those that somebody chose stay, and a signal whose card is
    called otherwise is found under both names."""
    session, strips = window.session, runs_page.strips
    usual = [list(s.signals) for s in strips.specs]
    session.do(commands.add_card(session.drive, "step", "Other", 0, 90))
    run_again(window)
    assert [s.signals for s in strips.specs] == usual
    dropped(strips, ["door_motor.speed"], QPointF(-50, -50))
    chosen = [*usual, ["door_motor.speed"]]
    session.choose_unit("door_motor.speed", "rpm")
    session.do(commands.add_card(session.drive, "step", "Another", 0, 96))
    run_again(window)
    assert [s.signals for s in strips.specs] == chosen and len(strips.plots) == len(chosen)
    session.do(commands.rename_card(session.drive, "door_motor", "Main motor"))
    run_again(window)
    assert strips.specs[-1].signals == ["door_motor.speed", "main_motor.speed"]
    assert [(t.name, t.unit) for t in strips.traces[-1]] == [("main_motor.speed", "rpm")]
    heading = runs_page.heading.text()
    session.do(commands.rename_card(session.drive, "travel_speed", "Other sensor"))
    run_again(window)
    assert strips.specs[0].signals[:2] == ["travel_speed.out", "other_sensor.out"]
    assert until(lambda: runs_page.heading.text() != heading) and runs_page.heading.text() == "Other sensor"
    assert runs_page.grid.count() > 5 and "the step at 51 ms" in runs_page.subheading.whole
    for _ in range(2):
        session.undo.undo()
    assert strips.specs[-1].signals == ["door_motor.speed", "main_motor.speed"]
    session.undo.redo()
    window.actions_by_name["save"].trigger()
    kept, path = [list(s.signals) for s in strips.specs], session.path
    window.files.open_path(EXAMPLES / "haul_drive.pendel")
    settle()
    run_again(window)
    assert not {s for spec in strips.specs for s in spec.signals} & {s for signals in kept for s in signals}
    window.files.open_path(Path(os.path.relpath(path)))  # as from a terminal
    settle()
    assert [s.signals for s in strips.specs] == kept
    runs_page.usual_strips()
    settle()
    judged(window)
    assert not json.loads(window.settings.value("strips/chosen"))
    for spoiled in ("", "{", "[[[1], [2]], 3]", '[[["a"], ["b", 3]]]', "[" * 9999):
        assert read(spoiled) == [], "settings may be anybody's"


def test_runs_are_shown_alone_and_ticked_by_their_menu_and_boxes(window, runs_page, monkeypatch):
    window.start_run()
    finish(window)
    boxes = [runs_page.kept.list.item(k) for k in range(2)]
    boxes[1].setCheckState(Qt.CheckState.Checked)
    settle()
    assert {r.name for r, _ in runs_page.drawn} == {"Run 1", "Run 2"}
    runs_page.kept.list.item(0).setCheckState(Qt.CheckState.Unchecked)
    settle()
    assert [r.name for r, _ in runs_page.drawn] == ["Run 1"]

    runs_page.kept.list.setCurrentRow(0)
    from_runs_menu(runs_page, "Only this one")
    assert [r.name for r, _ in runs_page.drawn] == ["Run 2"] and "Run 2" in runs_page.span.text()


def test_a_speed_is_read_in_rpm_everywhere(window, runs_page, tmp_path):
    """One signal by the menu of its strip, all by the menu View: on the strip, in the figures beside it, in the tree,
    on the card and in a file; and again after a new start."""
    strips, run = runs_page.strips, window.session.runs[-1]
    dropped(strips, ["door_motor.speed"], QPointF(-50, -50))
    place = len(strips.specs) - 1
    trace = run.trace("door_motor.speed")
    (shown,) = (t for t in strips.traces[place] if t.name == "door_motor.speed")
    assert np.max(shown.y) == pytest.approx(np.max(trace.y))
    chosen_from_menu(strips, place, "Show Door motor: speed in rpm")
    settle()
    (shown,) = (t for t in strips.traces[place] if t.name == "door_motor.speed")
    assert np.max(shown.y) == pytest.approx(np.max(trace.y) * 60 / (2 * np.pi)) and strips.plots[place].vb.viewRange()[
        1
    ][1] > np.max(shown.y)
    assert run.trace("door_motor.speed").unit == "rpm" and run.trace("gear.speed").unit == "rad/s"
    window.actions_by_name["speeds"].trigger()
    assert run.trace("gear.speed").unit == "rpm" and window.actions_by_name["speeds"].isChecked()
    assert figure_of(run, "door_motor.speed", 0.3).endswith("rpm")
    window.exports.save_traces(str(tmp_path / "traces.csv"))
    settle()
    assert "door_motor.speed [rpm]" in (tmp_path / "traces.csv").read_text().splitlines()[0]
    again = Session()
    UnitChoices(again, window.settings, Preferences(window.settings), again)
    assert again.shelf.units.preferred["rad/s"] == "rpm"
    again.open(window.session.drive, None)
    assert again.shelf.units.chosen == {"door_motor.speed": "rpm"}
    chosen_from_menu(strips, place, "Show Door motor: speed in rad/s")
    window.actions_by_name["speeds"].trigger()
    assert run.trace("door_motor.speed").unit == "rad/s" == run.trace("gear.speed").unit
    again.close()


def test_a_strip_shows_zero_unless_its_traces_keep_far_from_it():
    assert heights(0.0, 10.0)[1] == 10.0 and heights(0.0, 10.0)[0] < 0.0
    assert heights(3.0, 10.0)[0] < 0.0, "zero is near"
    low, high = heights(640.0, 700.0)
    assert 600 < low < 640 and high == 700.0
    low, high = heights(-800.0, -800.0)
    assert low < -800 < high and high - low == pytest.approx(0.05 * 800 * 1.06), "no finer than that"
    assert heights(0.0, 0.0) == (-1.0, 0.0)


def test_what_a_curve_is_at_the_pointer_is_read_on_every_plot(window):
    """Magnitude of the loop at the pointer: frequency and dB of the nearest point of the curve; nothing away from
    it."""
    judged(window)
    window.show_page("Loops")
    judged(window)
    plot = window.page("Loops").plots.size_plot
    view = plot.vb
    curve = max((i for i in plot.frame.items if hasattr(i, "xData")), key=lambda i: len(i.xData))
    k = int(np.argmin(np.abs(curve.xData - np.mean(view.viewRange()[0]))))
    at = view.mapViewToScene(QPointF(curve.xData[k], curve.yData[k]))
    QTest.mouseMove(plot.viewport(), plot.mapFromScene(at))
    assert until(lambda: plot.reading.words)
    frequency, level = plot.reading.words.split("   ")
    assert frequency.endswith(" Hz") and level.endswith(" dB")
    assert float(frequency[:-3].replace("\u2009", "")) == pytest.approx(10 ** curve.xData[k], rel=0.05)
    assert float(level[:-3].replace("\u2212", "-")) == pytest.approx(curve.yData[k], abs=0.5)
    assert plot.nearest(view.mapViewToScene(QPointF(curve.xData[k], view.viewRange()[1][1] + 1))) is None
    QApplication.sendEvent(plot, QEvent(QEvent.Type.Leave))
    assert plot.reading.words == ""


@pytest.mark.parametrize("names", [("haul_drive_rope", "wayside_supply", "car_door_drive")])
def test_strips_that_were_others_before_look_like_new_ones(window, runs_page, names):
    """More strips, fewer, and as many again with other units: pixel by pixel."""
    for name in names:
        window.files.open_path(EXAMPLES / f"{name}.pendel")
        window.session.do(commands.set_setting(window.session.drive, "until", "0.1 s"))
        window.start_run()
        finish(window)
        window.show_page("Runs")
        settle()
        used = runs_page.strips
        new = Strips()
        new.resize(used.size())
        new.build(list(used.specs), list(runs_page.drawn), keep_view=False)
        new.show()
        settle()
        assert len(used.plots) == len(used.specs) == len(new.plots) > 1
        pictures = [pixels(drawing_of(strips).image(1.0, QColor("white"))) for strips in (used, new)]
        new.close()
        assert pictures[0].shape == pictures[1].shape
        assert np.mean(np.any(pictures[0] != pictures[1], axis=-1)) < 1e-4, name
        window.session.undo.setClean()


def pixels(image):
    image = image.convertToFormat(QImage.Format.Format_RGB32)
    data = image.constBits().asarray(image.sizeInBytes())
    return (
        np.frombuffer(data, np.uint8)
        .reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width(), :3]
        .copy()
    )


@pytest.mark.parametrize("name", sorted(p.stem for p in EXAMPLES.glob("*.pendel")))
def test_c_that_is_lowered_beside_is_that_of_this_process(lowering, name):
    drive = load(EXAMPLES / f"{name}.pendel")
    beside, here = lowering.ask(WriteRequest, drive), write_c(drive)
    assert beside.files == here.files and beside.words == here.words
    for part in ("facts", "values", "findings", "problem"):  # as texts, since what was not found is no number
        assert repr(getattr(beside, part)) == repr(getattr(here, part)), part
    described_beside, described_here = lowering.ask(DescribeRequest, drive), described(drive)
    assert repr(described_beside.description) == repr(described_here.description)
    assert described_beside.plant == described_here.plant


def test_what_lowers_is_asked_for_nothing_that_runs_c_of_a_drive(lowering, example_path):
    with pytest.raises(TypeError, match="RunRequest may run C"):
        lowering.worker.ask(RunRequest(example_path.read_text("utf-8"), "Run 1", "", "/tmp/run.h5"), 5.0)


def test_strips_show_what_the_nearest_trace_is_at_the_pointer(window, runs_page):
    window.session.choose_unit("door_motor.speed", "rpm")
    window.start_run()
    finish(window)
    strips = runs_page.strips
    run = window.session.runs[-1]
    strips.build([StripSpec(["door_motor.speed", "speed_pi.out"]), StripSpec(["supply.current"])], [(run, "#0072b2")])
    settle()
    view = strips.plots[0].vb
    low, high = view.viewRange()[1]
    for key, unit in (("door_motor.speed", "rpm"), ("speed_pi.out", "A")):
        trace = run.trace(key)
        time = 0.3 + 0.4 * run.tick
        expected = trace.at(np.array([time]))[0] / (np.pi / 30 if unit == "rpm" else 1)
        assert low < expected < high
        at = view.mapViewToScene(QPointF(time, expected))
        QTest.mouseMove(strips.viewport(), strips.mapFromScene(at))
        reading = strips.readings[0]
        assert until(lambda reading=reading, unit=unit: reading.words.endswith(unit)), reading.words
        shown_time, value = reading.words.split("   ")
        assert float(shown_time.removesuffix(" ms")) == pytest.approx(1e3 * time, abs=2.0)
        assert float(value.removesuffix(f" {unit}").replace("\u2212", "-").replace("\u2009", "")) == pytest.approx(
            expected, abs=0.02 * (high - low)
        )
        assert not strips.readings[1].words
    QApplication.sendEvent(strips, QEvent(QEvent.Type.Leave))
    assert not any(reading.words for reading in strips.readings)


def test_a_reading_is_on_the_line_between_points_and_nothing_beyond_them():
    t, y = np.array([0.0, 1.0, 1.0, 2.0, 3.0]), np.array([0.0, 2.0, 5.0, np.nan, 1.0])
    curve = TimeCurve(t, y, "#000000", str)
    assert [curve.at(x) for x in (0.0, 0.5, 1.0)] == [0.0, 1.0, 5.0]
    assert all(np.isnan(curve.at(x)) for x in (-1e-9, 1.5, 3.0 + 1e-9)) and curve.at(3.0) == 1.0


@pytest.fixture
def ratios():
    use_sizes(RATIOS)
    yield
    use_sizes(DECIBELS)


def test_sizes_of_responses_are_written_as_ratios(window, ratios):
    judged(window)
    window.show_page("Loops")
    judged(window)
    page = window.page("Loops")
    plot = page.plots.size_plot
    axis = plot.frame.left
    low, high = axis.range
    # By definition 20 dB are a factor of ten, at whatever places the axis has its figures.
    for ends in ((low, high), (-1.0, 1.0), (-120.0, 60.0)):
        levels = axis.tickValues(*ends, 200)
        places = [v for spacing, values in levels if spacing for v in values if ends[0] <= v <= ends[1]]
        assert len(places) > 2
        for place, text in zip(places, axis.tickStrings(places, 1.0, 1.0)):
            figure_there = float(text.replace("\u2009", "").replace("\u2212", "-"))
            assert figure_there == pytest.approx(10 ** (place / 20), rel=6e-3)
    assert "ratio" in plot.caption.toPlainText() and low < 0 < high
    told = [shown.text() for shown in page.figures.findChildren(QLabel)]
    assert number_text(10 ** (page.now.margins.gain_db / 20), 3) in told and not any(" dB" in text for text in told)


def test_a_table_of_figures_says_where_energy_between_the_cursors_stays_open(application):
    """The feeder without a load beside the same under load, as `tests/core/test_measures.py` has them."""
    import pendel
    from pendel.app.runs.span_table import SpanTable

    d = pendel.open_example("valley_feeder")
    d.set("method", "auto")
    run = d.run().kept
    for times, says in (((0.02, 0.04), True), ((0.1, 0.16), False)):
        whole = QWidget()
        table = SpanTable(lambda: True)
        whole.setLayout(table)
        table.show(run, ["link.power"], *times)
        assert until(lambda: any(label.text().endswith("J") for label in whole.findChildren(QLabel)))
        assert any("not accounted for" in label.text() for label in whole.findChildren(QLabel)) == says

"""What is done every day in the real window: files, the clipboard, going to what a finding tells, numbers that are
none."""

import threading
import time

import numpy as np
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QLineEdit, QMenu, QMessageBox, QScrollArea, QWidget

import pendel
from pendel.app.drive.editors.text_table import TextTable
from pendel.app.runs import spectrum_panel
from pendel.app.runs.page import LEAST_STRIPS
from pendel.app.runs.spectra_shown import spectra_for
from pendel.app.session import run_jobs as jobs
from pendel.app.session import signal_evaluator
from pendel.app.session.page import Page
from pendel.app.session.run_figures import measured
from pendel.app.session.usual_strips import default_strips
from pendel.app.window import pages
from pendel.app.window.main_window import MainWindow
from pendel.core.check import examine
from pendel.core.drive import commands, file, view_edits
from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.examples import EXAMPLES
from pendel.core.errors import FileProblem
from pendel.core.runs.found.spectra import spectrum_of
from pendel.core.runs.record.kept import KeptRun

from .conftest import finish, judged, new_drive, settle, until
from .test_machine_ways import press
from .test_power_drives import add, wire
from .test_power_ways import captions, opened, run, runs_page
from .test_window import click_card, type_into

CTRL = Qt.KeyboardModifier.ControlModifier


def filled(fill):
    menu = QMenu()
    fill(menu)
    return {a.text(): a for a in menu.actions()}, menu


def test_from_a_new_drive_to_its_file_and_back_by_the_recent_list(window, questions, tmp_path, monkeypatch):
    """New, three cards from the search line, saved under a name typed without its ending, left, found among the
    recent."""
    window.session.do(commands.set_quantity(window.session.drive, "m_leaf", "41 kg"))
    questions.answers = [QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Save]
    new_drive(window)
    assert window.session.drive.quantities["m_leaf"].text == "41 kg", "a cancelled question changes nothing"
    door = window.session.path
    new_drive(window)
    assert not window.session.drive.cards and file.load(door).quantities["m_leaf"].text == "41 kg"
    source, load = add(window, "dc source"), add(window, "resistor")
    opener = add(window, "pair opener")
    for a, b in ((f"{source}.dc", f"{opener}.pair"), (f"{opener}.plus", f"{load}.a"), (f"{opener}.minus", f"{load}.b")):
        wire(window, a, b)
    asked = []
    monkeypatch.setattr(
        QFileDialog,
        "getSaveFileName",
        lambda parent, title, suggestion, kinds: asked.append(suggestion) or (str(tmp_path / "lamp"), ""),
    )
    window.actions_by_name["save"].trigger()
    saved = tmp_path / "lamp.pendel"
    assert asked == ["drive.pendel"] and set(file.load(saved).cards) == {source, load, opener}
    assert not window.session.dirty and "lamp.pendel" in window.windowTitle()
    assert window.session.drive.title == file.load(saved).title == "Lamp", "a drive that nobody named is called so"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(door), ""))
    window.actions_by_name["open"].trigger()
    assert "door_leaf" in window.session.drive.cards
    recent, _menu = filled(window.files.fill_recent)
    assert list(recent)[:2] == [str(door), str(saved)]
    recent[str(saved)].trigger()
    assert window.session.path == saved and len(questions) == 2


def test_a_window_without_a_file_is_ready_for_work(application, questions, tmp_path):
    """Started without a drive: run, tidy, the pages and a new drive answer, and the first card is added at once."""
    made = MainWindow(QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat))
    made.show()
    QGuiApplication.clipboard().clear()
    try:
        for name in ("run", "tidy", "select_all", "copy", "paste", "fit", "new"):
            made.actions_by_name[name].trigger()
        for page in ("Runs", "Loops", "Firmware", "Drive"):
            made.show_page(page)
        finish(made)
        assert not made.session.runs and made.foot.status_message.whole
        vehicle = add(made, "vehicle")
        made.session.select([vehicle])
        settle()
        type_into(made.drive_page.inspector.fields["mu"], "0.6")
        assert made.session.drive.cards[vehicle].values["mu"] == "0.6" and not made.session.findings
        made.editing.undo()
        made.editing.undo()
        assert not made.session.drive.cards and not made.session.dirty
    finally:
        made.session.undo.setClean()
        made.close()
        made.deleteLater()
        settle()


def test_an_example_is_opened_from_the_menu_and_never_written_over(window, questions, monkeypatch, tmp_path):
    examples, _menu = filled(window.files.fill_examples)
    assert len(examples) == len(list(EXAMPLES.glob("*.pendel"))) and list(examples)[0] == "Car door drive"
    examples["Wayside supply"].trigger()
    before = window.session.path.read_bytes()
    window.session.do(commands.set_quantity(window.session.drive, "R_load", "99 ohm"))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "mine.pendel"), ""))
    window.actions_by_name["save"].trigger()
    assert (EXAMPLES / "wayside_supply.pendel").read_bytes() == before
    assert file.load(tmp_path / "mine.pendel").quantities["R_load"].text == "99 ohm"
    # A folder that cannot be written to: a sentence, and the changes are still there to be saved elsewhere.
    window.session.do(commands.set_quantity(window.session.drive, "R_load", "98 ohm"))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "none" / "x.pendel"), ""))
    window.actions_by_name["save_as"].trigger()
    assert "x.pendel" in questions[-1] and window.session.dirty
    assert window.session.path == tmp_path / "mine.pendel"
    window.session.undo.setClean()


def test_a_name_without_an_ending_replaces_no_file_unasked(window, questions, monkeypatch, tmp_path):
    """The dialog has asked about the name as it was typed; the file is one of another name."""
    other = tmp_path / "mine.pendel"
    other.write_text("not ours")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "mine"), ""))
    questions.answers = [QMessageBox.StandardButton.No]
    window.actions_by_name["save_as"].trigger()
    assert "mine.pendel already. Replace it?" in questions[-1] and other.read_text() == "not ours"
    questions.answers = [QMessageBox.StandardButton.Yes]
    window.actions_by_name["save_as"].trigger()
    assert set(file.load(other).cards) == set(window.session.drive.cards) and window.session.path == other
    run(window)
    for typed, kind, written in (("traces", "MAT (*.mat)", "traces.mat"), ("of v1.2", "", "of v1.2.csv")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, t=typed, k=kind: (str(tmp_path / t), k))
        window.actions_by_name["save_traces"].trigger()
        settle()
        assert (tmp_path / written).stat().st_size > 1000


def test_cards_travel_by_clipboard_with_their_wires(window):
    """Select all and copy; in another drive they arrive wired, in one step; cut takes them, while in a field it takes
    text."""
    session = window.session
    cards, wires = len(session.drive.cards), len(session.drive.wires)
    session.do(view_edits.set_named(session.drive, ["encoder.speed -> travel_speed.x"], True))
    window.drive_page.sheet.setFocus()
    window.actions_by_name["select_all"].trigger()
    window.actions_by_name["copy"].trigger()
    new_drive(window)
    window.actions_by_name["paste"].trigger()
    assert (len(session.drive.cards), len(session.drive.wires)) == (cards, wires)
    assert len(session.selection) == cards
    assert [key for key, wire in session.drive.wires.items() if wire.named] == ["encoder.speed -> travel_speed.x"]
    assert "U_link" in session.drive.quantities and not session.examined.faults, "what they name has come too"
    window.editing.undo()
    assert not session.drive.cards and not session.drive.wires and not session.drive.quantities
    window.editing.redo()
    settle()
    click_card(window, "door_leaf")
    field = window.drive_page.inspector.fields["m"]
    field.setFocus()
    field.selectAll()
    window.editing.cut()
    assert QGuiApplication.clipboard().text() == "m_leaf" and field.text() == "" and "door_leaf" in session.drive.cards
    window.editing.paste()
    assert field.text() == "m_leaf"
    window.drive_page.sheet.setFocus()
    click_card(window, "door_leaf")
    window.drive_page.sheet.setFocus()
    window.editing.cut()
    assert "door_leaf" not in session.drive.cards
    window.editing.paste()
    assert "door_leaf" in session.drive.cards
    session.undo.setClean()


def test_a_finding_leads_to_the_field_it_is_about(window, application):
    """A quantity, a card's value, a setting and a profile's corner; the run waits and says why."""
    session, inspector = window.session, window.drive_page.inspector
    told = {}
    for what, spoil in (
        ("quantity", commands.set_quantity(session.drive, "m_leaf", "38 parsec")),
        ("setting", commands.set_setting(session.drive, "until", "-3 s")),
        ("value", commands.set_value(session.drive, "belt", "k_b", "0")),
    ):
        session.do(spoil)
        settle()
        told[what] = next(f for f in session.findings if f.severity.name == "FAULT")
        window.go_to(told[what])
        application.processEvents()
        wanted = {
            "quantity": lambda: window.drive_page.spine.fields["m_leaf"],
            "setting": lambda: inspector.fields["until"],
            "value": lambda: inspector.fields["k_b"],
        }[what]()
        assert application.focusWidget() is wanted or not window.isActiveWindow()
        assert wanted.toolTip(), "the field itself tells what is wrong with it"
        QTest.keyClick(window, Qt.Key.Key_R, CTRL)
        assert not window.jobs.running and "cannot run before" in window.foot.status_message.whole
        window.editing.undo()
        settle()
    assert "parsec" in told["quantity"].sentence and "k_b" in told["value"].field
    assert not [f for f in session.findings if f.severity.name == "FAULT"]
    session.undo.setClean()


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("banana", "Write a frequency between"),
        ("1e9", "Write a frequency between"),
        ("-5", "Write a frequency between"),
    ],
)
def test_a_crossover_that_cannot_be_is_told_and_the_last_one_stays(window, text, words):
    window.show_page("Loops")
    page = window.page("Loops")
    judged(window)
    before = page.wishes.wish
    type_into(page.wishes.crossover, text)
    assert words in page.wishes.crossover.toolTip() and page.wishes.wish == before
    for margin in ("lots", "inf", "10"):
        type_into(page.wishes.margin, margin)
        assert "margin in degrees" in page.wishes.margin.toolTip() and page.wishes.phase_margin == 60
    type_into(page.wishes.margin, "70°")
    assert not page.wishes.margin.toolTip() and page.wishes.phase_margin == 70
    type_into(page.wishes.crossover, "700 Hz")
    assert not page.wishes.crossover.toolTip() and page.wishes.of_loops[page.current] == pytest.approx(700)


def test_what_the_catalogue_gives_looks_lighter_than_what_was_typed(window):
    click_card(window, "pulse_stage")
    drive = window.session.drive

    def field(name="d_max"):
        return window.page("Drive").inspector.fields[name]

    def ink(of):
        return of.palette().color(of.foregroundRole()).name()

    usual = ink(field())
    assert field().text() == "98" and "usual" in field().accessibleDescription() and usual != ink(field("U_dc"))
    type_into(field(), "97")
    assert drive.cards["pulse_stage"].values["d_max"] == "97" and ink(field()) == ink(field("U_dc"))
    field().more["Take the usual value"]()
    assert "d_max" not in drive.cards["pulse_stage"].values and ink(field()) == usual and field().text() == "98"
    window.session.undo.undo()
    settle()
    assert field().text() == "97" and ink(field()) != usual
    type_into(field(), " ")
    assert "d_max" not in drive.cards["pulse_stage"].values and field().text() == "98"


def test_what_was_asked_of_a_loop_follows_its_name_and_ends_with_its_drive(window, example_path):
    """Of a loop that nobody asked anything of, the usual crossover follows the drive."""
    window.show_page("Loops")
    page, session = window.page("Loops"), window.session
    judged(window)
    page.choose("speed_pi")
    usual = page.wishes.wish
    type_into(page.wishes.crossover, f"{usual / 2:.4f}")
    offered = [page.tolerances.name.itemData(n) for n in range(page.tolerances.name.count())]
    value = next(name for name in offered if name.startswith("door_motor.")).partition(".")[2]
    page.tolerances.name.setCurrentIndex(offered.index(f"door_motor.{value}"))
    page.tolerances.add()
    assert page.tolerances.spreads() == ((f"door_motor.{value}", pytest.approx(0.2)),)
    page.draw_way("", KeptTransfer("speed_pi.out", "door_motor.speed"))
    session.do(commands.rename_card(session.drive, "speed_pi", "Outer"))
    session.do(commands.rename_card(session.drive, "door_motor", "Main motor"))
    assert page.way.fields.way() == KeptTransfer("outer.out", "main_motor.speed")
    page.choose("outer")
    judged(window)
    assert page.current == "outer" and page.wishes.wish == pytest.approx(usual / 2, rel=1e-3)
    assert page.tolerances.spreads() == ((f"main_motor.{value}", pytest.approx(0.2)),)
    session.undo.undo()
    session.undo.undo()
    judged(window)
    assert page.current == "speed_pi" and page.wishes.wish == pytest.approx(usual / 2, rel=1e-3)
    page.draw_way("", KeptTransfer("speed_pi.out", "door_motor.speed"))
    session.undo.setClean()
    window.files.open_path(example_path)
    judged(window)
    assert page.stack.currentIndex() == 0, "that way was another drive's"
    page.choose("speed_pi")
    assert page.wishes.wish == pytest.approx(usual) and not page.tolerances.spreads()
    session.do(commands.set_value(session.drive, "speed_pi", "K_p", "2*10"))
    judged(window)
    begin = page.statuses["speed_pi"].begin
    assert page.wishes.wish == pytest.approx(begin)


def test_a_run_is_made_ready_beside_the_window(window, monkeypatch):
    """Reading a long record takes a while: clicks are answered meanwhile, and what is shown is there when the run
    joins. A record that cannot be read ends the run with a sentence, and the next one runs."""
    threads, real = [], jobs.ready_to_show

    reading = []

    def slowly(*what):
        reading.append(what)
        time.sleep(0.4)
        run = real(*what)
        threads.append((threading.current_thread() is threading.main_thread(), not run.missing(["door_motor.current"])))
        return run

    monkeypatch.setattr(jobs, "ready_to_show", slowly)
    ended = []
    window.jobs.ended.connect(lambda *how: ended.append(how))
    window.start_run()
    assert until(lambda: reading)
    click_card(window, "belt")
    assert window.drive_page.inspector.card == "belt" and window.jobs.running and not ended
    finish(window)
    (in_main, known), *_ = threads
    assert not in_main and known
    assert ended == [("", False)] and len(window.session.runs) == 1

    def unreadable(answer, *_):
        raise FileProblem(str(answer.keep()), "it is damaged")

    monkeypatch.setattr(jobs, "ready_to_show", unreadable)
    window.start_run()
    finish(window)
    assert ended[1][1] and "damaged" in ended[1][0] and len(window.session.runs) == 1
    monkeypatch.setattr(jobs, "ready_to_show", real)
    window.start_run()
    finish(window)
    assert ended[2] == ("", False) and len(window.session.runs) == 2
    door = window.session.path
    window.start_run()
    window.session.undo.setClean()
    opened(window, "wayside_supply")
    finish(window)
    assert "It is kept with that drive." in ended[3][0] and not ended[3][1]
    assert not any(r.infos.get("door_motor.current") for r in window.session.runs)
    window.files.open_path(door)
    assert until(lambda: not window.session.shelf.reading)
    assert len(window.session.runs) == 4, "with the one that could not be shown then"


def test_loops_of_a_drive_that_has_none_or_is_broken(window):
    window.session.open(type(window.session.drive)(), None)
    window.show_page("Loops")
    page = window.page("Loops")
    settle()
    assert page.problem.text() == "The sheet is empty."
    window.show_page("Drive")
    resistor = add(window, "resistor")
    for value, words in (
        ("5 ohm", "No regulator acts on what it measures yet."),
        ("5 parsec", "The loops show once this is fixed: Resistor"),
    ):
        window.session.do(commands.set_value(window.session.drive, resistor, "R", value))
        window.show_page("Drive")
        window.show_page("Loops")
        judged(window)
        assert page.problem.text().startswith(words)
    assert not page.take_button.isEnabled()
    window.session.undo.setClean()


def loops_shown(window):
    window.drive_page.spine.refresh()
    rows = (
        window.drive_page.spine.loop_box.itemAt(n).widget() for n in range(window.drive_page.spine.loop_box.count())
    )
    return [r.text() if isinstance(r, QLabel) else r.name for r in rows]


def test_loops_of_the_drive_before_are_not_those_of_this_one(window):
    """Neither those shown nor those still being judged when another drive is opened."""
    session = opened(window, "haul_drive")
    judged(window)
    before = session.judged
    assert {each.loop.regulator for each in before} == {"current_regulator"}
    assert "Current along d" in loops_shown(window)
    session.check_deeply()
    opened(window, "old_haul_drive")  # its regulator is of the same name
    taken = []
    session.studied.connect(lambda: taken.append(list(session.judged)))
    assert not session.judged and "Looking for loops …" in loops_shown(window)
    judged(window)
    assert [len(each) for each in taken] == [4], "what was judged of the drive before was given up"


def test_a_row_of_the_spine_that_is_of_a_moment_before_selects_nothing(window):
    """Rows follow a change a little later; one that is clicked meanwhile may be of a card that is gone."""
    session = opened(window, "haul_drive")
    judged(window)
    window.show_page("Drive")
    spine = window.drive_page.spine
    spine.refresh()
    rows = [spine.loop_box.itemAt(n).widget() for n in range(spine.loop_box.count())]
    station = spine.stations["haul_machine"]
    session.do(commands.remove_cards(session.drive, ["current_regulator", "haul_machine"]))
    for clicked in (station, rows[0]):
        QTest.mouseClick(clicked, Qt.MouseButton.LeftButton)
        assert session.selection == []
    settle()
    window.session.undo.setClean()


def test_an_induction_machine_stands_within_its_curve(window):
    """Torque over speed of the old haul drive: a machine on an inverter stays below the pull-out torque of its rated
    supply."""
    session = opened(window, "old_haul_drive")
    found = run(window)
    page = runs_page(window)
    press(page, "Torque over speed")
    settle()
    assert page.torque.isVisible() and page.torque.machine.currentData() == "old_machine"
    curve = examine(session.drive)
    kind = session.kinds()["old_machine"]
    maximum = max(kind.curve(curve.values["old_machine"], session.drive.cards["old_machine"]).y)
    assert max(abs(found.trace("old_machine.torque").y)) < maximum
    caption = page.torque.plot.caption.toPlainText()
    assert "dashed: on its rated supply" in " ".join(caption.split()) and page.torque.plot.unit == "N·m"


def test_all_panels_at_once_leave_the_window_its_size_and_the_strips_their_room(window):
    window.resize(1280, 800)
    opened(window, "haul_drive")
    run(window)
    page = runs_page(window)
    begun = page.strips.height()
    area = next(a for a in page.findChildren(QScrollArea) if a.isAncestorOf(page.strips))
    for name, panel in (
        ("Spectrum", page.spectrum),
        ("Rotor diagram", page.rotor),
        ("Torque over speed", page.torque),
    ):
        press(page, name)
        settle()
        below = panel.mapTo(area, panel.rect().bottomLeft()).y()
        assert 0 < below <= area.height(), f"{name} is in sight once it is opened"
    assert (window.width(), window.height()) == (1280, 800)
    assert LEAST_STRIPS <= page.strips.height() < begun
    for name in ("Spectrum", "Rotor diagram", "Torque over speed"):
        press(page, name)
    settle()
    assert page.strips.height() == begun
    window.session.undo.setClean()


def ticked(page, *names):
    for n in range(page.kept.list.count()):
        name = page.kept.list.item(n).data(Qt.ItemDataRole.UserRole)
        page.kept.list.item(n).setCheckState(Qt.CheckState.Checked if name in names else Qt.CheckState.Unchecked)


def test_long_runs_of_a_reopened_drive_are_evaluated_beside_the_window(window, monkeypatch):
    """They join the strips when their signals are there; until then what is shown stays, and the foot line says so.
    Signals that cannot be evaluated take the tick away again."""
    monkeypatch.setattr(signal_evaluator, "LONG", 100)
    for _ in range(2):
        run(window)
    path = window.session.path
    window.session.undo.setClean()
    window.files.open_path(EXAMPLES / "wayside_supply.pendel")
    for _ in range(2):
        run(window)  # runs of the same names
    threads, real = [], KeptRun.fetch

    def watched(self, keys):
        keys = list(keys)
        threads.append((threading.current_thread() is threading.main_thread(), self.missing(keys)))
        time.sleep(0.2 if threads[-1][1] else 0.0)
        real(self, keys)

    window.show_page("Runs")
    page = window.page("Runs")
    monkeypatch.setattr(KeptRun, "fetch", watched)
    window.files.open_path(path)
    assert until(lambda: not window.session.shelf.reading)
    assert page.session.evaluator.busy and page.drawn == [], "the strips of the drive before are gone"
    settle()
    assert [r.name for r, _ in page.drawn] == ["Run 2"] and page.strips.traces[0]
    ticked(page, "Run 1", "Run 2")
    assert [r.name for r, _ in page.drawn] == ["Run 2"]
    assert until(lambda: "Evaluating the signals of Run 1 …" in window.foot.status_message.whole)
    settle()
    assert {r.name for r, _ in page.drawn} == {"Run 1", "Run 2"} and not window.foot.status_message.whole
    assert not [missing for main, missing in threads if main and missing], (
        "nothing was evaluated in the window's thread"
    )

    def fails(self, keys):
        raise MemoryError("no room")

    monkeypatch.setattr(KeptRun, "fetch", fails)
    page.strips.put(["gear.loss", "belt.stretch"], None)
    settle()
    settle()
    assert "no room" in window.foot.status_message.whole


def test_cursors_that_stand_close_keep_their_numbers_apart(window):
    """The earlier cursor's number is left of its line and the later one's right, whichever of the two it is, and at an
    edge a number turns inwards."""
    run(window)
    page = runs_page(window)
    strips = page.strips

    def boxes():
        return [tag.sceneBoundingRect() for tag in strips.tags]

    for times in ((0.5, 0.505), (0.505, 0.5)):
        strips.set_cursors(*times)
        first, second = boxes()
        assert not first.intersects(second)
        assert (first.center().x() < second.center().x()) == (times[0] < times[1])
    strips.set_cursors(0.0, strips.run_end)
    frame = strips.plots[0].vb.sceneBoundingRect()
    assert all(frame.contains(box) for box in boxes())
    for until_text, begun, wanted in (
        ("0.5 s", None, [0, 0.5]),
        ("0.9 s", None, [0, 0.9]),
        ("1 s", [0.2, 0.4], [0.2, 0.4]),
    ):
        if begun:
            strips.set_cursors(*begun)
        window.session.do(commands.set_setting(window.session.drive, "until", until_text))
        run(window)
        assert strips.times == pytest.approx(wanted), "cursors at both ends stay there, others where they are"
        assert [line.value() for line in strips.cursors[0]] == pytest.approx(wanted)


def test_the_spectrum_marks_the_pulse_frequency_and_begins_with_the_current(window):
    """Two legs a half period apart pulse the load at twice the carrier (Mohan, Undeland and Robbins, Power Electronics,
    3rd ed., section 8-3-2-2): its lines stand at even multiples. A level trace beside it does not stretch the axis."""
    run(window)
    QTest.mouseClick(window.level.buttons["switching"], Qt.MouseButton.LeftButton)
    found = run(window)
    assert found.pulse_frequencies == (20e3,)
    page = runs_page(window)
    page.strips.set_cursors(0.3049, 0.3051)
    press(page, "Spectrum")
    settle()
    panel = page.spectrum
    assert panel.signal.currentData() == "door_motor.current"
    lines = next(each.lines for each in panel.shown.found if each.run is found)
    assert [lines.line(k * 20e3) > 5 * lines.line((k + 1) * 20e3) for k in (2, 4)] == [True, True]
    marks = [i.value() for i in panel.plot.frame.items if isinstance(i, pg.InfiniteLine)]
    assert marks and all((m / 20) % 1 == pytest.approx(0, abs=1e-9) for m in marks)
    panel.signal.setCurrentIndex(panel.signal.findData("rubbing.load"))
    settle()
    assert panel.plot.vb.viewRange()[0][1] < 2, "a level load has no lines to show"


def test_a_figure_that_means_nothing_says_why(window):
    run(window)
    page = runs_page(window)
    page.strips.set_cursors(0.0, 0.3)  # the leaf is still on its way
    settle()
    cells = {(w.text(), w.toolTip()) for n in range(page.grid.count()) if (w := page.grid.itemAt(n).widget())}
    assert any(text == "–" and "does not stay within 2 %" in why for text, why in cells), cells


def test_lines_are_found_beside_the_window_and_only_the_newest_are_shown(window, monkeypatch):
    run(window)
    page = runs_page(window)
    panel, go_on, asked = page.spectrum, threading.Event(), []

    def slowly(wish):
        asked.append((wish.signal, threading.current_thread() is threading.main_thread()))
        assert go_on.wait(30)
        return spectra_for(wish)

    monkeypatch.setattr(spectrum_panel, "spectra_for", slowly)
    page.spectrum_button.click()
    assert until(lambda: asked)
    other = next(key for k in range(panel.signal.count()) if (key := panel.signal.itemData(k)) != asked[0][0])
    panel.signal.setCurrentIndex(panel.signal.findData(other))
    assert not panel.shown.found
    go_on.set()
    settle()
    assert [signal for signal, _ in asked] == [asked[0][0], other] and not any(in_window for _, in_window in asked)
    lines = panel.shown.found[0].lines
    due = spectrum_of(window.session.last_run, other, *page.strips.times, fundamental=lines.fundamental)
    np.testing.assert_array_equal(lines.amplitude, due.amplitude)


def test_a_run_is_named_by_what_its_fields_showed(window):
    """A value that was the catalogue's own is told as the field showed it, a choice in the words of its list."""
    click_card(window, "bridge")
    run(window)
    window.show_page("Drive")
    type_into(window.drive_page.inspector.fields["t_least"], "300 ns")
    assert run(window).differs == "Bridge t_least 300 ns"
    window.session.do(commands.set_choice(window.session.drive, "bridge", "device", "igbt"))
    assert run(window).differs == "Bridge: IGBTs"
    window.show_page("Drive")
    window.session.do(commands.set_choice(window.session.drive, "current_pi", "loop", "closed"))
    assert run(window).differs == "as before", "closed by default already"


def test_the_foot_line_gives_a_finding_what_room_there_is(window):
    window.session.do(commands.set_value(window.session.drive, "belt", "r", "-3"))
    settle()
    (sentence,) = (f.sentence for f in window.session.findings)
    window.resize(1600, 800)
    settle()
    assert sentence in window.foot.words.text()
    window.resize(1000, 800)
    window.foot.say("Something said that wants its place beside the finding, " * 3)
    settle()
    assert window.foot.words.text().endswith("…")
    assert not window.foot.words.geometry().intersects(window.foot.status_message.geometry())


def test_usual_strips_show_what_belongs_together(window):
    """Of a load in three phases all three, with the supply, whose voltage is known, last; of a vehicle its travel and
    its slip."""
    opened(window, "haul_inverter")
    run(window)
    page = runs_page(window)
    page.usual_strips()  # instead of those that the example came with
    settle()
    shown = [spec.signals for spec in page.strips.specs]
    assert shown[0] == ["inverter.line_voltage"] and shown[1] == [f"test_load.current_{n}" for n in "abc"]
    assert shown[-1] == ["link.voltage"]
    assert "current of phase a b c A" in " ".join(" ".join(c.split()) for c in captions(page))
    assert {
        measured(page.drawn[0][0], "inverter.line_voltage", None, 0.0, 0.06, [])[n] for n in ("rise", "overshoot")
    } == {"–"}
    opened(window, "service_trolley")
    settle()
    assert page.heading.text() == "Measures" and not page.span.text(), (
        "nothing of the drive before is left beside the strips"
    )
    assert [s.signals for s in default_strips(window.session)][:2] == [
        ["trolley.speed"],
        ["trolley.slip_front", "trolley.slip_rear"],
    ]


def test_gains_by_hand_follow_a_regulator_that_becomes_another(window):
    """A PI regulator whose gains are under one's hand becomes a P regulator: its slider is that of what it has."""
    window.show_page("Loops")
    judged(window)
    page = window.page("Loops")
    page.show_loop("speed_pi")
    page.rule_box.setCurrentIndex(page.rule_box.findText("by hand"))
    page.rule_box.activated.emit(page.rule_box.currentIndex())
    settle()
    assert set(page.hand.gains) == {"K_p", "T_i"} and page.proposed is not None
    window.session.do(commands.set_kind(window.session.drive, "speed_pi", "p", "P regulator"))
    judged(window)
    assert set(page.hand.gains) == set(page.proposed.gains) == {"K_p"} == set(page.hand.sliders)
    window.editing.undo()
    judged(window)
    assert set(page.hand.gains) == {"K_p", "T_i"} == set(page.proposed.gains)


def test_what_a_page_still_shows_of_a_card_that_is_gone_is_refused_with_a_sentence(window):
    """A format chosen in the instant after its block was taken off, before the table was filled again."""
    window.show_page("Firmware")
    settle()
    page, said = window.page("Firmware"), []
    window.session.refused.connect(said.append)
    window.session.do(commands.remove_cards(window.session.drive, ["travel_speed"]))
    text = file.to_text(window.session.drive)
    page.table.format_chosen.emit("travel_speed", "fixed16")
    page.table.range_typed.emit("travel_speed.out", "-1 m/s to 1 m/s")
    assert said == ["There is no card travel_speed in this drive."] * 2
    assert file.to_text(window.session.drive) == text
    settle()


def test_a_page_that_is_not_loaded_yet_keeps_nobody_waiting(window, monkeypatch):
    """Loading takes seconds just after the start: meanwhile words stand for the page, others can be shown, and it comes
    when it is there."""
    go, loading = threading.Event(), []
    spec = next(s for s in pages.PAGES if s.title == "Loops")

    def load(self):
        if self.title == "Loops":
            loading.append(threading.current_thread() is threading.main_thread())
            assert go.wait(30)
        pages.LOADED.add(self.module)

    assert isinstance(window.pages["Loops"], QWidget) and not isinstance(window.pages["Loops"], Page)
    pages.LOADED.discard(spec.module)
    monkeypatch.setattr(pages.PageSpec, "load", load)
    window.show_page("Loops")
    assert (
        window.page_now == "Loops" and "Loops is being loaded" in window.stack.currentWidget().findChild(QLabel).text()
    )
    window.show_page("Runs")
    assert window.stack.currentWidget() is window.page("Runs")
    window.show_page("Loops")
    go.set()
    assert until(lambda: isinstance(window.stack.currentWidget(), Page) and window.page_now == "Loops")
    assert window.stack.currentWidget() is window.page("Loops") and not loading[0]


def test_enter_leads_to_a_profile_and_f2_edits_the_cell_of_a_table(window):
    """As it leads to the first value of other cards; F2 elsewhere renames."""
    d = pendel.Drive(document=window.session.drive)
    d.add("load_torque", "Gust", profile=[("0 s", "1 N*m"), ("1 s", "2 N*m")])
    window.session.select(["gust"])
    settle()
    window.drive_page.sheet.setFocus()
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_Return)
    settle()
    table = QApplication.focusWidget()
    assert isinstance(table, TextTable) and (table.currentRow(), table.currentColumn()) == (0, 1)
    window.actions_by_name["rename"].trigger()
    settle()
    editor = QApplication.focusWidget()
    assert isinstance(editor, QLineEdit) and editor is not window.drive_page.inspector.name_field
    editor.setText("3 N*m")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    settle()
    assert window.session.drive.cards["gust"].profile[0][1] == "3 N*m"
    window.session.undo.setClean()

"""The linear model between two points on the Loops page: chosen, kept, laid under another, measured in runs, saved."""

import json
import re

import numpy as np
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog

from pendel.app.loops.matrices import Matrices
from pendel.app.session.jobs import LAY_UNDER
from pendel.app.widgets.figure_table import FigureTable
from pendel.app.widgets.signal_drag import signals_mime
from pendel.core.catalogue.own_block import EXAMPLES, C
from pendel.core.drive import commands
from pendel.core.drive.document import KeptTransfer
from pendel.core.drive.file import from_text, to_text
from pendel.core.loops.judging.looked_at import ends_of
from pendel.core.loops.regulators.between import model_between

from .conftest import judged, lay_out, settle, until
from .test_window import LEFT, type_into


@pytest.fixture
def page(window):
    window.show_page("Loops")
    page = window.page("Loops")
    assert until(lambda: page.statuses)
    return page


def typed(box, text):
    line = box.lineEdit()
    line.setFocus()
    line.selectAll()
    QTest.keyClicks(line, text)
    QTest.keyClick(line, Qt.Key.Key_Return)


def kept_way(page):
    return page.ways.list.findItems("current by setpoint", Qt.MatchFlag.MatchExactly)[0]


def test_a_way_is_chosen_kept_laid_under_another_and_forgotten(window, page):
    QTest.mouseClick(page.ways.new_button, LEFT)
    view = page.way
    assert view.isVisible() and not view.sweep_button.isEnabled()
    typed(view.fields.source, "i_set")
    typed(view.fields.target, "i_door")
    assert until(lambda: view.looked_at is not None)
    assert "8 of 28 states" in view.facts.text() and view.poles.rowCount() == 6
    closed = abs(view.looked_at.response[len(view.looked_at.response) // 2])
    QTest.keyClicks(view.name, "current by setpoint")
    QTest.keyClick(view.name, Qt.Key.Key_Return)
    assert window.session.drive.transfers["current by setpoint"] == KeptTransfer("i_set", "i_door")
    typed(view.fields.opening, "current_pi.out")
    assert view.fields.opened.keys() == ("current_pi.out",)
    assert until(lambda: "Nothing of speed_pi.out arrives" in view.problem.text())
    view.fields.opened.setCurrentRow(0)
    QTest.keyClick(view.fields.opened, Qt.Key.Key_Delete)
    typed(view.fields.source, "current_pi.out")
    assert until(lambda: view.looked_at is not None and view.looked_at.transfer.ends.source == "current_pi.out")
    kept_way(page).setCheckState(Qt.CheckState.Checked)
    assert until(lambda: "current by setpoint" in view.beside)
    page.ways.list.itemClicked.emit(kept_way(page))
    assert until(
        lambda: view.looked_at is not None and abs(view.looked_at.response[len(view.looked_at.response) // 2]) == closed
    )
    window.session.do(commands.rename_card(window.session.drive, "speed_pi", "Velocity PI"))
    assert until(lambda: view.looked_at is not None and view.looked_at.transfer.ends.source == "velocity_pi.out")
    window.session.do(commands.rename_tap(window.session.drive, "i_door", "door_current"))
    assert window.session.drive.transfers["current by setpoint"].target == "door_current"
    twin = from_text(to_text(window.session.drive))
    assert twin.transfers == window.session.drive.transfers
    QTest.mouseClick(view.forget_button, LEFT)
    assert "current by setpoint" not in window.session.drive.transfers
    window.session.undo.undo()
    assert "current by setpoint" in window.session.drive.transfers


def test_one_process_judges_and_looks_at_a_drive_without_c_of_its_own(window, page):
    """It keeps what it has ordered and built. Only C of a user gets a process that shares nothing."""
    beside = window.session.beside_worker
    process = beside.pid
    QTest.mouseClick(page.modes_button, LEFT)
    assert until(lambda: page.modes.table.rowCount())
    QTest.mouseClick(page.ways.new_button, LEFT)
    typed(page.way.fields.source, "i_set")
    typed(page.way.fields.target, "i_door")
    assert until(lambda: page.way.looked_at is not None)
    window.session.do(commands.set_value(window.session.drive, "door_motor", "L_a", "0.8"))
    judged(window)
    assert beside.pid == process != 0
    window.session.do(commands.add_card(window.session.drive, "own_c", "Mine", 40, 90, own=EXAMPLES[C]))
    typed(page.way.fields.source, "current_pi.out")
    assert until(lambda: beside.pid != process, 30)


def kept_model(drive, name="current by setpoint"):
    return model_between(drive, ends_of(drive, drive.transfers[name]))


def test_a_way_laid_under_is_of_the_drive_as_it_is_and_goes_when_it_is_unticked(window, page):
    """Edits and ticks that come before it was looked at: they are all in one turn of the event loop here."""
    drive = window.session.drive
    window.session.do(commands.keep_transfer(drive, "current by setpoint", KeptTransfer("i_set", "i_door")))
    QTest.mouseClick(page.ways.new_button, LEFT)
    view = page.way
    typed(view.fields.source, "current_pi.out")
    typed(view.fields.target, "i_door")
    assert until(lambda: view.looked_at is not None)
    kept_way(page).setCheckState(Qt.CheckState.Checked)
    kept_way(page).setCheckState(Qt.CheckState.Unchecked)
    assert until(lambda: not window.session.jobs.busy(LAY_UNDER)) and not view.beside
    kept_way(page).setCheckState(Qt.CheckState.Checked)
    window.session.do(commands.set_value(drive, "door_motor", "L_a", "2"))
    assert until(lambda: "current by setpoint" in view.beside and not window.session.jobs.busy(LAY_UNDER))
    frequency, response = view.beside["current by setpoint"].frequency, view.beside["current by setpoint"].response
    now = kept_model(window.session.drive)
    np.testing.assert_allclose(response, now.response(frequency), rtol=1e-9)
    window.session.undo.undo()
    before = kept_model(window.session.drive).response(frequency)

    def is_before():
        under = view.beside.get("current by setpoint")
        return under is not None and np.allclose(
            np.interp(frequency, under.frequency, np.abs(under.response)), np.abs(before), rtol=1e-3
        )

    assert not np.allclose(before, response, rtol=0.1) and until(is_before, 60)
    QTest.mouseClick(page.modes_button, LEFT)
    window.session.do(commands.set_value(drive, "door_motor", "L_a", "2"))
    judged(window)
    page.ways.list.itemClicked.emit(kept_way(page))  # the view was not to be seen when the drive became another
    assert until(lambda: not window.session.jobs.busy(LAY_UNDER) and view.beside and not is_before())
    np.testing.assert_allclose(view.beside["current by setpoint"].response, response, rtol=1e-9)


def test_what_is_kept_or_swept_is_of_the_drive_that_is_shown(window, page):
    """Both done in the turn of the event loop in which the drive changes, before it was judged."""
    drive = window.session.drive
    QTest.mouseClick(page.ways.new_button, LEFT)
    view = page.way
    typed(view.fields.source, "current_pi.out")
    typed(view.fields.target, "i_door")
    assert until(lambda: view.looked_at is not None)
    found = view.looked_at
    QTest.keyClicks(view.name, "forward")
    window.session.do(commands.set_value(drive, "door_motor", "L_a", "2"))
    QTest.keyClick(view.name, Qt.Key.Key_Return)
    assert "forward" in window.session.drive.transfers
    assert until(lambda: view.looked_at is not None and view.looked_at is not found)
    now = kept_model(window.session.drive, "forward")
    np.testing.assert_allclose(view.looked_at.response, now.response(view.looked_at.frequency), rtol=1e-9)
    window.session.do(commands.set_value(drive, "door_motor", "L_a", "1"))
    QTest.mouseClick(view.sweep_button, LEFT)
    assert view._sweeping is None and "was changed" in window.foot.status_message.whole


def test_a_loop_is_opened_where_it_is_looked_at_and_measured_in_runs(window, page, tmp_path, monkeypatch):
    page.choose("current_pi")
    judged, view = page.statuses["current_pi"].judged.margins, page.way
    usual = {action.text(): action for action in page.ways.menu.actions()}
    assert len(usual) == 6
    for name in ("L at the plant's input", "L at the plant's output", "L at the regulator"):
        view.looked_at = None
        usual[name].trigger()
        assert until(lambda: view.looked_at is not None), view.problem.text()
        assert view.looked_at.loop.crossover == pytest.approx(judged.crossover, rel=2e-3)
        assert view.looked_at.loop.phase == pytest.approx(judged.phase, abs=0.5) and "phase margin" in view.facts.text()
        assert view.circle_plot.isVisible() and view.sensitivity_plot.isVisible() and not view.pole_plot.isVisible()
        curve = next(i for i in view.phase_plot.frame.items if isinstance(i, pg.PlotCurveItem))
        at = np.interp(np.log10(view.looked_at.loop.crossover), curve.xData, curve.yData)
        assert at == pytest.approx(view.looked_at.loop.phase - 180, abs=1.0), "negative feedback is taken out"
    usual["noise of the sensor → actuator"].trigger()
    assert until(lambda: view.looked_at is not None and view.looked_at.transfer.ends.target == "current_pi.out")
    assert until(lambda: view.pole_plot.isVisible() and not view.circle_plot.isVisible())
    view.show_way("", KeptTransfer("current_pi.out", "current_sensor.value", (), "rest"))
    assert until(lambda: view.looked_at is not None and view.looked_at.transfer.ends.target == "current_sensor.value")
    monkeypatch.setattr(
        "pendel.app.loops.way_view.usual_frequencies", lambda _: __import__("numpy").geomspace(200.0, 5e3, 6)
    )
    QTest.mouseClick(view.sweep_button, LEFT)
    assert view.sweep_button.text() == "Stop"
    assert until(lambda: view.sweep_button.text() != "Stop", 60)
    assert len(view.points) == 6 and view.swept.rowCount() == 6 and "6 frequencies, averaged" in view.swept_words.text()
    assert max(abs(p.off_db) for p in view.points) < 0.1
    points = list(view.points)
    page.choose("current_pi")
    page.draw_way("", KeptTransfer("current_pi.out", "current_sensor.value", (), "rest"))
    assert until(lambda: view.points), "they are kept with the runs of the drive"
    assert view.points == points and view.swept_words.text().startswith("Kept: 6 frequencies")
    view.swept.selectAll()
    QTest.keyClick(view.swept, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert len(QGuiApplication.clipboard().text().splitlines()) == 6
    QTest.mouseClick(view.sweep_button, LEFT)
    QTest.mouseClick(view.sweep_button, LEFT)  # stopped
    assert until(lambda: view.sweep_button.text() != "Stop", 60)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "m.json"), ""))
    QTest.mouseClick(view.save_button, LEFT)
    written = json.loads((tmp_path / "m.json").read_text())
    assert written["to"] == "current_sensor.value" and written["units"]["door_motor.omega"] == "rad/s"
    QTest.mouseClick(view.matrices_button, LEFT)
    settle()
    shown = view.findChild(Matrices)
    assert shown is not None and shown.isVisible()
    table = next(t for t in shown.findChildren(FigureTable) if t.accessibleName() == "All states")
    heads = {table.horizontalHeaderItem(n).text() for n in range(table.columnCount())}
    assert {"door_motor.i, A", "door_motor.omega, rad/s", "current_pi.out, V"} <= heads
    shown.close()
    page.choose("speed_pi")
    assert page.stack.currentIndex() == 0 and page.now is not None


def test_gains_are_searched_within_limits_shown_as_they_come_and_taken(window, page):
    page.choose("current_pi")
    page.rule_box.setCurrentIndex(page.rule_box.findText("search within limits"))
    page.rule_box.activated.emit(page.rule_box.currentIndex())
    box = page.limits
    assert box.isVisible() and not page.wishes.isVisible() and page.proposed is None
    for text, words in (("0.9", "above 1"), ("x", "Ms at most"), ("1.4", "")):
        field = box.fields["ms"]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        QTest.keyClick(field, Qt.Key.Key_Return)
        if words:
            QTest.mouseClick(box.button, LEFT)
            assert words in box.words.text() and box.button.text() == "Search"
    QTest.mouseClick(box.button, LEFT)
    assert until(lambda: page.proposed is not None)
    assert until(lambda: box.button.text() == "Search", 60)
    assert "stopped by: Ms at most" in box.words.text()
    assert page.proposed.margins.ms == pytest.approx(1.4, abs=0.03) and page.proposed.margins.ms <= 1.4
    QTest.mouseClick(page.take_button, LEFT)
    assert until(lambda: not window.session.judging and "current_pi" in page.statuses)
    assert until(lambda: page.statuses["current_pi"].judged.margins.ms == pytest.approx(1.4, abs=0.03))
    window.session.undo.undo()
    QTest.mouseClick(box.button, LEFT)
    QTest.mouseClick(box.button, LEFT)  # stopped
    assert until(lambda: box.button.text() == "Search", 60)


def test_all_loops_are_tuned_in_one_step_and_every_gain_can_be_slid(window, page):
    page.choose("speed_pi")
    before = to_text(window.session.drive)
    page.rule_box.setCurrentIndex(page.rule_box.findText("search within limits"))
    page.rule_box.activated.emit(page.rule_box.currentIndex())
    box = page.limits
    QTest.mouseClick(box.whole, LEFT, pos=QPoint(8, box.whole.height() // 2))
    assert box.whole.isChecked()
    steps = window.session.undo.count()
    QTest.mouseClick(box.button, LEFT)
    assert until(lambda: "Taken in one step" in box.words.text(), 90)
    assert "Current:" in box.words.text() and "Speed:" in box.words.text()
    assert window.session.undo.count() == steps + 1
    assert until(lambda: not window.session.judging and "speed_pi" in page.statuses)
    settle()
    assert "Speed:" in box.words.text()
    assert all(s.judged.margins.ms < 1.75 and not s.changed_inside for s in page.statuses.values())
    window.session.undo.undo()
    assert to_text(window.session.drive) == before
    assert until(lambda: not window.session.judging and "speed_pi" in page.statuses)
    page.rule_box.setCurrentIndex(page.rule_box.findText("by hand"))
    page.rule_box.activated.emit(page.rule_box.currentIndex())
    hand = page.hand
    assert hand.isVisible() and set(hand.sliders) == {"K_p", "T_i"} and page.proposed.gains == page.now.gains
    crossover = page.proposed.margins.crossover
    hand.sliders["K_p"].setFocus()
    for _ in range(4):
        QTest.keyClick(hand.sliders["K_p"], Qt.Key.Key_PageUp)
    assert until(lambda: page.proposed.margins.crossover > 2 * crossover)
    assert page.proposed.gains["T_i"] == page.now.gains["T_i"]
    for text, words in (("0", "same sign"), ("quick", "")):
        type_into(hand.fields["T_i"], text)
        assert hand.fields["T_i"].property("wrong") and words in hand.fields["T_i"].toolTip()
    type_into(hand.fields["T_i"], "45 ms")
    assert until(lambda: page.proposed.gains["T_i"] == pytest.approx(0.045))
    page.choose("current_pi")
    assert page.proposed.gains == page.now.gains, "another loop begins with its own gains"


def test_a_loop_that_is_cut_before_it_is_drawn_is_not_drawn(window, page):
    page.choose("current_pi")
    assert until(lambda: page.title.text() == "Current PI")
    window.session.select(["current_pi"])
    page.choose("speed_pi")
    page.choose("current_pi")  # which is drawn in the next turn
    window.session.do(commands.remove_cards(window.session.drive, ["current_pi"]))
    lay_out()
    assert "current_pi" not in window.session.drive.cards and page.chosen is not None
    assert until(lambda: "current_pi" not in page.statuses, 60)
    assert page.title.text() != "Current PI" or not page.statuses
    window.session.undo.undo()
    assert until(lambda: "current_pi" in page.statuses, 60)


def test_a_loop_is_judged_over_the_spread_of_values(window, page):
    page.choose("current_pi")
    box = page.tolerances
    assert not box.button.isEnabled()
    for name, share in (("door_motor.L_a", "20 %"), ("m_leaf", "x")):
        typed(box.name, name)
        box.share.setFocus()
        box.share.selectAll()
        QTest.keyClicks(box.share, share)
        QTest.mouseClick(box.add_button, LEFT)
    assert box.spreads() == (("door_motor.L_a", 0.2),) and box.share.property("wrong")
    QTest.mouseClick(box.button, LEFT)
    assert until(lambda: "Holds for door_motor.L_a ± 20 %" in box.words.text(), 60)
    assert "costs most" in box.words.text()
    band = "FillBetweenItem"
    assert until(lambda: any(type(i).__name__ == band for i in page.plots.size_plot.frame.items))
    # It belongs to that loop, and to the drive as it is.
    shown = box.words.text()
    page.choose("speed_pi")
    assert until(lambda: page.title.text() == "Speed PI" and not box.words.text())
    page.choose("current_pi")
    assert until(lambda: box.words.text() == shown)
    QTest.mouseClick(box.button, LEFT)
    page.choose("speed_pi")  # while it is judged
    assert until(lambda: not page.spreading.judging, 60) and until(lambda: not box.words.text())
    assert box.button.text() == "Judge over the spread"
    page.choose("current_pi")
    assert until(lambda: box.words.text() == shown)
    QTest.mouseClick(box.button, LEFT)
    window.session.do(commands.set_value(window.session.drive, "door_motor", "L_a", "0.7"))
    assert until(lambda: "changed meanwhile" in box.words.text() or not box.words.text(), 60)
    judged(window)
    assert until(lambda: page.statuses and page.chosen is not page.spreading.study and not box.words.text())
    QTest.mouseClick(box.button, LEFT)
    QTest.mouseClick(box.button, LEFT)  # stopped
    assert until(lambda: box.words.text() == "Stopped.", 60)
    box.list.setCurrentRow(0)
    QTest.keyClick(box.list, Qt.Key.Key_Delete)
    assert not box.spreads() and not box.button.isEnabled()


AROUND = KeptTransfer("current_pi.out", "current_pi.out", ("current_pi.out",))


def numbers_in(text):
    plain = text.replace("\u2009", "").replace("\u2212", "-").replace("- ", "-").replace("+ ", "+")
    return [float(n) for n in re.findall(r"[-+]?\d+\.?\d*(?:e[-+]?\d+)?", plain)]


@pytest.mark.parametrize("way", [KeptTransfer("current_pi.out", "door_motor.current"), AROUND], ids=["open", "around"])
def test_a_frequency_that_is_pointed_at_is_read_on_every_plot_of_a_way(window, page, way):
    """What stands above the plots is the way's own response there; around a loop L, S and T, too."""
    page.ways.wished.emit(way)
    view = page.way
    assert until(lambda: view.looked_at is not None and view.looked_at.transfer.ends.target == way.target)
    settle()
    looked_at, plot = view.looked_at, view.size_plot
    low, high = plot.vb.viewRange()[0]
    for share in (0.3, 0.5, 0.7):
        at = plot.vb.mapViewToScene(QPointF(low + share * (high - low), np.mean(plot.vb.viewRange()[1])))
        QTest.mouseMove(plot.viewport(), plot.mapFromScene(at))  # soon after the one before
        pointed = pytest.approx(10 ** plot.vb.mapSceneToView(at).x(), rel=0.02)
        reading = view.phase_plot.reading
        assert until(lambda: view.phase_plot.reading.words and numbers_in(reading.words)[0] == pointed)
        told, degrees = numbers_in(reading.words)
        response = complex(looked_at.transfer.response(np.array([told]))[0])
        L = -response if way is AROUND else response
        assert (degrees - np.degrees(np.angle(L)) + 180) % 360 - 180 == pytest.approx(0, abs=0.6)
        if way is AROUND:
            _, s, t = numbers_in(view.sensitivity_plot.reading.words)
            assert s == pytest.approx(20 * np.log10(abs(1 / (1 + L))), abs=0.06 + 0.01 * abs(s))
            assert t == pytest.approx(20 * np.log10(abs(L / (1 + L))), abs=0.06 + 0.01 * abs(t))
            _, real, imaginary = numbers_in(view.circle_plot.reading.words)
            assert complex(real, imaginary) == pytest.approx(L, rel=0.02, abs=0.01)
    plots = (view.size_plot, view.phase_plot, *view.of_loop)
    # What is drawn anew has no reading of what was drawn before.
    page.ways.wished.emit(KeptTransfer("speed_pi.out", "door_motor.current"))
    assert until(lambda: view.looked_at is not None and view.looked_at.transfer.ends.source == "speed_pi.out")
    assert until(lambda: not any(p.reading.words for p in plots))
    QApplication.sendEvent(plot, QEvent(QEvent.Type.Leave))
    assert not any(p.reading.words for p in plots)


def let_go(widget, keys):
    """Signals let go above a widget, as the list of signals hands them over."""
    mime, place = signals_mime(keys), QPointF(widget.rect().center())
    buttons, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    entering = QDragEnterEvent(place.toPoint(), Qt.DropAction.CopyAction, mime, buttons, none)
    QApplication.sendEvent(widget, entering)
    dropping = QDropEvent(place, Qt.DropAction.CopyAction, mime, buttons, none)
    if entering.isAccepted():
        QApplication.sendEvent(widget, dropping)
    return entering.isAccepted()


def test_signals_are_dragged_from_runs_to_the_ends_of_a_way(window):
    """Held above the tab of Loops they open that page; there they are let go on the list of ways, then on a field."""
    tab = window.tabs.button(list(window.pages).index("Loops"))
    mime = signals_mime(["current_pi.out"])
    entering = QDragEnterEvent(QPoint(5, 5), Qt.DropAction.CopyAction, mime, LEFT, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(tab, entering)
    assert until(lambda: window.page("Loops").isVisible())
    page = window.page("Loops")
    assert until(lambda: page.statuses)
    assert let_go(page.ways, ["current_pi.out", "door_motor.current"])
    assert until(lambda: page.way.looked_at is not None)
    assert page.way.looked_at.transfer.ends.target == "door_motor.current"
    assert let_go(page.way.fields.target, ["door_motor.torque"])
    assert until(
        lambda: page.way.looked_at is not None and page.way.looked_at.transfer.ends.target == "door_motor.torque"
    )
    text = QMimeData()
    text.setText("current_pi.out")
    other = QDragEnterEvent(QPoint(5, 5), Qt.DropAction.CopyAction, text, LEFT, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(page.ways, other)
    assert not other.isAccepted(), "what is no signal is not taken"


def test_loops_are_measured_in_runs(window, page):
    """The choice is there for every drive; points lie on the curve, the model's figures beside it."""
    page.choose("current_pi")
    derived = page.now.margins
    place = page.where.findText("measured in runs")
    page.where.setCurrentIndex(place)
    page.where.activated.emit(place)
    assert "Measuring" in page.facts.text()
    assert until(lambda: not window.session.judging and page.chosen is not None and page.chosen.drive.range, 60)
    settle()
    assert page.now.margins.crossover == pytest.approx(derived.crossover, rel=0.01)
    rows = [page.model_grid.itemAt(n).widget().text() for n in range(page.model_grid.count())]
    assert {"measured from", "sines", "harmonics"} <= set(rows) and any(r.endswith(" V") for r in rows)
    dots = [i for i in page.plots.size_plot.items() if isinstance(i, pg.ScatterPlotItem) and len(i.data) == 24]
    x, y = dots[0].getData()
    best = page.proposed or page.now
    on_curve = np.interp(x, np.log10(best.frequency), 20 * np.log10(np.abs(best.response)))
    assert y == pytest.approx(on_curve, abs=0.2)
    page.where.setCurrentIndex(0)
    page.where.activated.emit(0)
    assert until(lambda: not window.session.judging and page.chosen is not None and not page.chosen.drive.range, 60)


def test_what_was_just_taken_off_is_looked_for_by_no_page(window):
    """Loops that were judged, and code that was written, are of the drive as it was until new ones come."""
    page = window.page("Loops")
    window.show_page("Loops")
    judged(window)
    assert until(lambda: page.proposed is not None)
    window.show_page("Firmware")
    settle()
    window.session.do(commands.remove_cards(window.session.drive, ["door_motor", "speed_pi"]))
    window.show_page("Loops")
    page.study()
    page.show_modes()
    window.show_page("Firmware")
    settle()
    window.show_page("Loops")
    judged(window)
    assert not page.statuses
    window.session.undo.undo()
    window.show_page("Loops")
    judged(window)
    assert until(lambda: len(page.statuses) == 2)


def test_renaming_several_cards_at_once_is_told_to_be_none(window):
    window.show_page("Drive")
    said = []
    window.page("Drive").inspector.status_message.connect(said.append)
    window.session.select(["door_motor", "gear"])
    settle()
    window.page("Drive").rename()
    assert said == ["Select one card to rename it."]
    window.session.select(["gear"])
    settle()
    window.page("Drive").rename()
    assert window.page("Drive").inspector.name_field.selectedText() == "Gear"

"""The operator panel in the real window: laid out, operated on a live run and on a board, kept with the drive."""

from dataclasses import replace

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog

from pendel.app.bench.board import LinkState
from pendel.app.bench.control_dialog import ControlDialog
from pendel.app.bench.controls import ButtonControl, SwitchControl
from pendel.core.bench.facts import BoardState
from pendel.core.catalogue.own_block import LANGUAGE
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations, PanelControl
from pendel.core.drive.file import from_text, to_text
from pendel.core.quantities.named import Names

from .conftest import lay_out, settle, until
from .test_window import LEFT, choose

CONTROLS = (
    PanelControl("slider", "speed_pi.K_p", "Gain", 0, 0, 4, 1, "10", "110"),
    PanelControl("figure", "door_motor.speed", "Speed", 4, 0),
    PanelControl("bar", "speed_pi.out", "Current setpoint", 6, 0, 4, 1, "-24 A", "24 A"),
    PanelControl("strip", "door_motor.current", "Current", 0, 1, 4, 2),
    PanelControl("button", "order.enable", "Enable", 4, 1),
    PanelControl(
        "switch", "current_sensor.offset", "Offset", 6, 1, 2, 1, "0 A", "1 A", (("0 A", "none"), ("1 A", "1 A"))
    ),
    PanelControl("selector", "supply.U_0", "Supply", 8, 1, 2, 1, "", "", (("48 V", "full"), ("36 V", "sags"))),
    PanelControl("lamp", "travel_speed.out", "Moves", 10, 1, 2, 1, "", "0.05"),
    PanelControl("name", "speed_pi.out", "State", 4, 2, 2, 1, "", "", (("0", "rests"),)),
    PanelControl("events", "", "Events", 6, 2, 6, 2),
)


@pytest.fixture
def panel(window):
    for control in CONTROLS:
        window.session.do(commands.set_control(window.session.drive, "", control))
    window.show_page("Bench")
    page = window.page("Bench")
    QTest.mouseClick(page.panel_button, LEFT)
    settle()
    assert not [f for f in window.session.findings if "Panel" in str(f)]
    return page.panel


def inner(panel, title):
    return next(f.inner for f in panel.canvas.frames.values() if f.control.title == title)


def test_titles_out_of_a_file_make_no_keys(application):
    """Of a button, & would be a key by which a drive is operated that nobody chose."""
    control = PanelControl("button", "supply.U_0", "&Run", 0, 0, 2, 1, "0", "1", (("1", "&on"), ("0", "o&ff")))
    made = ButtonControl(control, "V", Names({})), SwitchControl(control, "V", Names({}))
    made[1].show_value(1.0)
    assert made[0].button.text() == "&&Run" and made[1].button.text() == "&&on"
    assert all(each.button.shortcut().isEmpty() for each in made)
    for each in made:
        each.deleteLater()


def test_controls_act_on_a_live_run_and_show_it(panel, window):
    session = window.session
    QTest.mouseClick(window.live_button, LEFT)
    assert until(lambda: window.live.status.get("state") == "runs", 60)
    assert until(lambda: inner(panel, "Speed").label.text() not in ("–", "0 rad/s"))
    assert until(lambda: inner(panel, "Moves").on) and "live run" in panel.words.whole
    assert until(lambda: inner(panel, "Current").course is not None)
    # A slider that is dragged is one step of undo; a choice, a switch and a typed number are one each.
    steps, slider = session.undo.count(), inner(panel, "Gain").slider
    slider.setSliderDown(True)
    for at in (100, 300, 500):
        slider.setValue(at)
    slider.setSliderDown(False)
    assert session.drive.cards["speed_pi"].values["K_p"] == "60" and session.undo.count() == steps + 1
    choose(inner(panel, "Supply").box, "36 V")
    assert until(lambda: session.live is not None and abs(session.live.trace("supply.voltage").y[-1] - 36) < 1)
    QTest.mouseClick(inner(panel, "Offset").button, LEFT)
    assert session.drive.cards["current_sensor"].values["offset"] == "1 A"
    assert until(lambda: inner(panel, "Offset").button.text() == "1 A")
    QTest.mouseClick(inner(panel, "Enable").button, LEFT)  # there is no board
    assert session.undo.count() == steps + 3
    for _ in range(3):
        session.undo.undo()
    assert until(lambda: inner(panel, "Offset").button.text() == "none")
    QTest.mouseClick(window.live_button, LEFT)
    assert until(lambda: inner(panel, "Speed").label.text() == "–")


def test_a_panel_follows_units_and_quantities(panel, window):
    """A speed in rpm by the menu; another unit of an own block's output, and a quantity by which an end is named, after
    the control was made."""
    session = window.session
    own = OwnEquations(("n: out, rad/s",), (), (), (), ("n = 10",))
    session.do(commands.set_quantity(session.drive, "top", "20 A"))
    session.do(commands.add_card(session.drive, LANGUAGE, "Own", 0, 60, own=own))
    key = list(session.drive.cards)[-1]
    session.do(commands.set_control(session.drive, "", PanelControl("figure", f"{key}.n", "Own", 0, 4)))
    session.do(
        commands.set_control(session.drive, "", PanelControl("bar", "speed_pi.out", "Part", 4, 4, 2, 1, "", "top"))
    )
    settle()
    speed, figure = inner(panel, "Speed"), inner(panel, "Own")
    for control in (speed, figure):
        control.show_value(10.0)
    assert (speed.label.text(), figure.label.text()) == ("10 rad/s", "10 rad/s") and inner(panel, "Part").high == 20
    window.actions_by_name["speeds"].trigger()
    for control in (speed, figure):
        control.show_value(10.0)
    assert (speed.label.text(), figure.label.text()) == ("95.49 rpm", "95.49 rpm")
    session.do(commands.set_own(session.drive, key, replace(own, ports=("n: out, A",))))
    session.do(commands.set_quantity(session.drive, "top", "30 A"))
    assert not [f for f in session.findings if "Panel" in f.sentence]
    session.do(commands.set_quantity(session.drive, "top", "30 V"))
    assert [f.sentence for f in session.findings if f.sentence.startswith("Panel, Part: ")]
    session.undo.undo()
    figure.show_value(10.0)
    assert figure.label.text() == "10 A" and inner(panel, "Part").high == 30
    window.actions_by_name["speeds"].trigger()


def test_the_same_panel_acts_on_a_board(panel, window):
    page, board = window.page("Bench"), window.page("Bench").board
    window.session.do(commands.set_live(window.session.drive, "speed_pi", {"K_p": ("10", "110")}))
    assert until(lambda: board.description is not None and "speed_pi.K_p" in board.description.values, 60)
    QTest.mouseClick(page.link.connect_button, LEFT)
    assert until(lambda: board.link is LinkState.OPEN and not board.busy, 60)
    QTest.mouseClick(page.link.load_button, LEFT)
    assert until(lambda: board.matches and not board.busy, 60)
    assert "board" in panel.words.whole
    button = inner(panel, "Enable").button
    QTest.mousePress(button, LEFT)
    QTest.mouseRelease(button, LEFT)
    assert until(lambda: board.facts.state is BoardState.ENABLED)
    inner(panel, "Gain").slider.setValue(700)
    assert until(lambda: board.on_board.get("speed_pi.K_p") == 80.0), page.log.lines
    assert until(lambda: board.figures.get("speed_pi.out") is not None)
    assert until(lambda: inner(panel, "Current setpoint").value == board.figures["speed_pi.out"])
    window.session.do(commands.set_value(window.session.drive, "speed_pi", "low", "-20 A"))  # a constant of its code
    assert until(lambda: not board.matches and panel.words.whole.startswith("The board's code is not that"), 60)
    assert any(
        "Enabled" in inner(panel, "Events").list.item(k).text() for k in range(inner(panel, "Events").list.count())
    )


def test_a_panel_is_edited_kept_and_says_what_is_gone(panel, window, monkeypatch):
    session, drive = window.session, window.session.drive
    assert from_text(to_text(drive)).panel == drive.panel
    QTest.mouseClick(panel.edit_button, LEFT)
    lay_out()
    key = next(k for k, c in drive.panel.items() if c.title == "Speed")
    cover = panel.canvas.frames[key].cover
    cell = int(panel.canvas.column)
    steps = session.undo.count()
    QTest.mousePress(cover, LEFT, pos=QPoint(20, 20))
    QTest.mouseMove(cover, QPoint(20 + cell, 20))
    QTest.mouseMove(cover, QPoint(20 + cell // 8, 20 + 4 * 62))
    QTest.mouseRelease(cover, LEFT, pos=QPoint(20, 20))
    assert (drive.panel[key].x, drive.panel[key].y) in ((4, 4), (5, 4)) and session.undo.count() == steps + 1
    before = drive.panel[key]
    QTest.keyClick(cover, Qt.Key.Key_Right)
    QTest.keyClick(cover, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert (drive.panel[key].x, drive.panel[key].w) == (before.x + 1, before.w + 1)

    # A new control through its dialogue.
    def fill(dialog):
        dialog.form.setCurrentIndex(dialog.form.findData("selector"))
        dialog.form.activated.emit(0)
        dialog.target.setCurrentIndex(dialog.target.findData("supply.U_0"))
        dialog.title.setText("Link")
        dialog.names.setPlainText("48 V = full\n40 V=low\nnonsense")
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr(ControlDialog, "exec", fill)
    QTest.mouseClick(panel.add_button, LEFT)
    made = list(drive.panel.values())[-1]
    assert (made.form, made.target, made.names) == ("selector", "supply.U_0", (("48 V", "full"), ("40 V", "low")))

    # Renamed, a control follows its card; deleted, it is found, and can be taken off.
    session.do(commands.rename_card(drive, "speed_pi", "Door regulator"))
    assert drive.panel["control_1"].target == "door_regulator.K_p"
    session.do(commands.remove_cards(drive, ["supply"]))
    found = [f for f in session.findings if "Panel, Link" in f.sentence]
    assert found and "no value supply.U_0" in found[0].sentence
    session.do(found[0].fix)
    assert not [f for f in session.findings if "Panel, Link" in f.sentence]
    QTest.keyClick(panel.canvas.frames[key].cover, Qt.Key.Key_Delete)
    assert key not in drive.panel
    with pytest.raises(Exception, match="beyond the panel"):
        commands.set_control(drive, "", PanelControl("lamp", "a.b", "x", 11, 0, 2, 1)).apply(drive)

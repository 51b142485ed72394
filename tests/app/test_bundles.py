"""Signals that travel together are one line that opens; the drive knows nothing of it."""

import json

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest

from pendel.app.drive.sheet.named_links import NamedLinkItem
from pendel.core.drive import clips, commands
from pendel.core.drive.document import End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import as_far_as_it_goes, from_text, to_text
from tests.app.conftest import settle, until

LEFT = Qt.MouseButton.LeftButton
VOLTAGES = [f"voltage_demand.{n} -> space_vector.u_{n}" for n in "abc"]


@pytest.fixture
def sheet(window):
    window.files.open_path(EXAMPLES / "haul_drive.pendel")
    window.show_page("Drive")
    window.session.enter("field_orientation")
    window.fit()
    settle()
    sheet = window.drive_page.sheet
    assert until(lambda: all(len(item.path) > 1 for item in sheet.wires.values()))
    return sheet


def at_middle(sheet, key):
    line = sheet.wires[key]
    (ax, ay), (bx, by) = line._longest()
    return sheet.mapFromScene(QPointF((ax + bx) / 2, (ay + by) / 2))


def lines(sheet):
    return [key for key in VOLTAGES if key in sheet.wires]


def test_a_bundle_opens_and_closes_by_double_click_key_and_menu(window, sheet):
    text = to_text(window.session.drive)
    first = VOLTAGES[0]
    assert lines(sheet) == [first] and len(sheet.wires[first].bundle) == 3
    assert sheet.wires[first].bundle[2] == "Voltage demand.c → Space vector.u_c"
    assert "Double click" in sheet.wires[first].toolTip()
    QTest.mouseDClick(sheet.viewport(), LEFT, pos=at_middle(sheet, first))
    assert until(lambda: lines(sheet) == VOLTAGES and all(sheet.wires[key].path for key in VOLTAGES))
    assert not any(sheet.wires[key].bundle for key in VOLTAGES)
    QTest.mouseClick(sheet.viewport(), LEFT, pos=at_middle(sheet, VOLTAGES[1]))
    assert window.session.selected_wire == VOLTAGES[1]
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_B)
    assert until(lambda: lines(sheet) == [first])
    assert sheet.wires[first].selected, "what is chosen lies in it"
    window.actions_by_name["bundles"].trigger()
    assert lines(sheet) == VOLTAGES and not window.actions_by_name["bundles"].isChecked()
    assert window.settings.value("view/bundles") == "no"
    window.actions_by_name["bundles"].trigger()
    assert lines(sheet) == [first] and window.actions_by_name["bundles"].isChecked()
    assert to_text(window.session.drive) == text and not window.session.dirty


def test_a_bundle_is_deleted_as_a_whole_and_comes_back(window, sheet):
    session = window.session
    QTest.mouseClick(sheet.viewport(), LEFT, pos=at_middle(sheet, VOLTAGES[0]))
    assert window.actions_by_name["open_bundle"].isEnabled() and not window.actions_by_name["tap"].isEnabled()
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_Delete)
    assert not set(VOLTAGES) & set(session.drive.wires)
    session.undo.undo()
    assert set(VOLTAGES) <= set(session.drive.wires)


def test_a_signal_with_a_name_goes_by_itself(window, sheet):
    session = window.session
    session.do(commands.add_tap(session.drive, "u_demand", End("voltage_demand", "b")))
    assert until(lambda: lines(sheet) == VOLTAGES[:2])
    assert sheet.wires[VOLTAGES[1]].tap == "u_demand" and len(sheet.wires[VOLTAGES[0]].bundle) == 2
    session.do(commands.remove_wires(session.drive, [VOLTAGES[2]]))
    assert until(lambda: not sheet.wires[VOLTAGES[0]].bundle), "one signal is no bundle"


def test_a_wire_becomes_a_named_link_and_a_line_again(window):
    window.files.open_path(EXAMPLES / "car_door_drive.pendel")
    window.show_page("Drive")
    window.fit()
    settle()
    sheet, session = window.drive_page.sheet, window.session
    key = "door_motor.angle -> encoder.angle"
    assert until(lambda: all(item.path for item in sheet.wires.values()))
    QTest.mouseClick(sheet.viewport(), LEFT, pos=at_middle(sheet, key))
    assert session.selected_wire == key
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_N)
    assert until(lambda: isinstance(sheet.wires[key], NamedLinkItem) and len(list(sheet.wires[key].boxes())) == 2)
    link = sheet.wires[key]
    assert link.name == link.toolTip() == "Door motor · angle" and len(link.lines) == 2
    for item in sheet.cards.values():
        assert not any(item.box().overlaps(box) for box in link.boxes()), "a name lies on a card"
    session.select([])
    name = list(link.boxes())[1]
    QTest.mouseClick(sheet.viewport(), LEFT, pos=sheet.mapFromScene(QPointF(name.centre[0], name.centre[1])))
    assert session.selected_wire == key and link.selected
    assert '"encoder.angle",\n      "named"' in to_text(session.drive)
    session.do(commands.rename_card(session.drive, "encoder", "Wheel"))
    moved = "door_motor.angle -> wheel.angle"
    assert until(lambda: isinstance(sheet.wires.get(moved), NamedLinkItem)), "a link goes with its card"
    session.do(commands.add_tap(session.drive, "turned", End("door_motor", "angle")))
    assert until(lambda: sheet.wires[moved].name == "turned")
    session.select([], moved)
    window.actions_by_name["named_link"].trigger()
    assert until(lambda: not isinstance(sheet.wires[moved], NamedLinkItem) and len(sheet.wires[moved].path) > 1)
    session.undo.undo()
    assert session.drive.wires[moved].named


def test_a_bundle_becomes_one_named_link(window, sheet):
    QTest.mouseClick(sheet.viewport(), LEFT, pos=at_middle(sheet, VOLTAGES[0]))
    window.actions_by_name["named_link"].trigger()
    assert until(lambda: isinstance(sheet.wires[VOLTAGES[0]], NamedLinkItem))
    assert sheet.wires[VOLTAGES[0]].name == "Voltage demand · 3 signals" and lines(sheet) == VOLTAGES[:1]
    assert all(window.session.drive.wires[key].named for key in VOLTAGES)
    again = from_text(to_text(window.session.drive), "The text")
    assert again.wires == window.session.drive.wires
    twin, (new, *_) = clips.copy_cards(again, ["field_orientation"])
    twin.apply(again)
    named = [wire for wire in again.wires.values() if wire.named]
    assert len(named) == 6, "and so is a copy"
    inside = {key for key, card in again.cards.items() if card.inside == new}
    assert sum(wire.a.card in inside for wire in named) == 3
    raw = json.loads(to_text(again))
    raw["wires"] = [[*wire[:2], "curved"] for wire in raw["wires"]]
    readable, notes = as_far_as_it_goes(json.dumps(raw))
    assert set(readable.wires) == set(again.wires) and not any(wire.named for wire in readable.wires.values())
    assert len(notes) == len(again.wires)

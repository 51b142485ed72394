"""Signals that travel together are one line that opens; the drive knows nothing of it."""

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest

from pendel.core.drive import commands
from pendel.core.drive.document import End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import to_text
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

"""Wiring by keyboard in the real dialog: words find ends, the usual comes first, Enter makes the wire."""

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

import pendel
from pendel.app.drive.wire_dialog import WireDialog
from pendel.core.drive import commands
from tests.app.conftest import settle


def in_dialog(window, work):
    """Open it, and do something in it."""
    told = []

    def at_work():
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, WireDialog)
        try:
            told.append(work(dialog))
        finally:
            if dialog.isVisible():
                dialog.reject()

    QTimer.singleShot(50, at_work)
    window.actions_by_name["wire"].trigger()
    settle()
    assert told
    return told[0]


def shown(end_list):
    return [end_list.list.item(k).text() for k in range(end_list.list.count())]


def test_words_find_both_ends_and_enter_makes_the_wire(window):
    d = pendel.Drive(document=window.session.drive)
    d.add("current_sensor", "Second sensor")
    window.session.select(["second_sensor"])
    settle()

    def work(dialog):
        assert shown(dialog.start)[0] == "Second sensor: Measured current", "the selected card's open port comes first"
        dialog.start.line.setFocus()
        QTest.keyClicks(dialog.start.line, "second measured")
        assert shown(dialog.start) == ["Second sensor: Measured current"]
        QTest.keyClick(dialog.start.line, Qt.Key.Key_Return)
        assert dialog.focusWidget() is dialog.target.line and not any(
            text.startswith("Second") for text in shown(dialog.target)
        )
        QTest.keyClicks(dialog.target.line, "motor curr")
        assert shown(dialog.target)[0] == "Door motor: current"
        QTest.keyClick(dialog.target.line, Qt.Key.Key_Return)
        return dialog.pair()

    a, b = in_dialog(window, work)
    assert (str(a), str(b)) == ("door_motor.current", "second_sensor.measured")
    settle()
    assert "door_motor.current" in [
        str(w.a) for w in window.session.drive.wires.values() if w.b.card == "second_sensor"
    ]
    window.session.undo.setClean()


def test_what_is_usually_joined_comes_first_and_arrows_choose(window):
    drive = window.session.drive
    fed = [key for key, w in drive.wires.items() if w.b.card == "pulse_stage"]
    window.session.do(commands.remove_wires(drive, fed))
    settle()

    def work(dialog):
        QTest.keyClicks(dialog.start.line, "current pi output")
        first = shown(dialog.target)[0]
        QTest.keyClick(dialog.target.line, Qt.Key.Key_Down)
        row = dialog.target.list.currentRow()
        QTest.keyClicks(dialog.start.line, " nothing of the kind")
        return first, row, dialog.pair(), dialog.box.buttons()[0].isEnabled()

    first, row, pair, can = in_dialog(window, work)
    assert first == "Pulse stage: Voltage demand" and row == 1 and pair is None and not can
    window.session.undo.setClean()

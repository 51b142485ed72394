"""Make envelope in the real window: made from the drive on the sheet, pasted into another, and traced back."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

import pendel
from pendel.app.drive.card_notes import OriginLine
from pendel.app.window import envelope_window
from pendel.app.window.envelope_window import EnvelopeWindow
from pendel.core.drive.file import load
from tests.app.conftest import settle, until

LEFT = Qt.MouseButton.LeftButton


def line_of(window) -> OriginLine:
    settle()
    (line,) = [each for each in window.drive_page.inspector.findChildren(OriginLine) if each.isVisible()]
    return line


def words_of(line) -> str:
    return " ".join(each.text() for each in line.findChildren(envelope_window.wrapped("").__class__))


def test_an_envelope_is_made_copied_into_a_trip_and_leads_back(window, tmp_path, monkeypatch, questions):
    door = tmp_path / "door.pendel"
    pendel.open_example("car_door_drive").save(door)
    window.files.open_path(door)
    settle()
    window.actions_by_name["envelope"].trigger()
    settle()
    made = window.findChild(EnvelopeWindow)
    assert made.choice.machine.currentText() == "Door motor" and not made.plot.isVisible()
    made.choice.torque.setCurrentIndex(made.choice.torque.findData("speed_pi.out"))
    assert made.choice.fields["top"].placeholderText().endswith(" A")
    QTest.mouseClick(made.start_button, LEFT)
    assert made.state.text() == "Largest torque is empty. Fill it in."
    for name, text in {"top": "20 kg", "top_speed": "3000 rpm", "speeds": "3", "torques": "4", "checks": "3"}.items():
        made.choice.fields[name].setText(text)
    QTest.mouseClick(made.start_button, LEFT)
    assert until(lambda: not made.working, 60) and "The largest torque" in made.state.text()
    made.choice.fields["top"].setText("20 A")
    QTest.mouseClick(made.start_button, LEFT)
    assert made.start_button.text() == "Stop"
    assert until(lambda: not made.working, 120) and made.report is not None, made.state.text()
    settle()
    assert made.plot.isVisible() and made.table.rowCount() == 12 and "15 points; at 3 others" in made.words.text()
    monkeypatch.setattr(envelope_window, "asked_path", lambda *_: str(tmp_path / "envelope.pendel"))
    QTest.mouseClick(made.save_button, LEFT)
    (card,) = load(tmp_path / "envelope.pendel").cards.values()
    assert card.name == "Door motor" and card.values == made.report.values

    QTest.mouseClick(made.copy_button, LEFT)
    trip = tmp_path / "trip.pendel"
    pendel.open_example("works_car").save(trip)
    window.files.open_path(trip)
    settle()
    window.drive_page.sheet.setFocus()
    window.editing.paste()
    settle()
    (key,) = window.session.selection
    assert dict(window.session.drive.cards[key].values) == made.report.values
    window.drive_page.inspector.show_tab("Values")
    assert "Made from door.pendel, as that is now." in words_of(line_of(window))
    changed = pendel.open(door)
    changed.set("door_motor.R_a", "1 ohm")
    changed.save(door)
    window.session.select([])
    settle()
    window.session.select([key])
    line = line_of(window)
    assert "older than door.pendel" in words_of(line)
    (back,) = line.findChildren(QPushButton)
    QTest.mouseClick(back, LEFT)
    assert until(lambda: window.session.path == door, 5)
    window.session.undo.setClean()

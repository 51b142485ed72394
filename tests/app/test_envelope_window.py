"""Make envelope in the real window: made from the drive on the sheet, pasted into another, and traced back."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

import pendel
from pendel.app.drive.card_notes import EnvelopeLine, OriginLine
from pendel.app.window import envelope_window
from pendel.app.window.envelope_window import EnvelopeWindow
from pendel.app.window.run_bar import LevelChoice
from pendel.core.drive.file import load
from pendel.core.envelope.report import adding
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
    window.session.check_deeply()
    assert until(lambda: [f for f in window.session.findings if f.card == key and "older than" in f.sentence], 30)
    (back,) = line.findChildren(QPushButton)
    QTest.mouseClick(back, LEFT)
    assert until(lambda: window.session.path == door, 5)
    window.session.undo.setClean()
    window.files.open_path(trip)
    assert until(lambda: window.session.path == trip, 5)
    settle()
    drive = pendel.Drive(document=window.session.drive)
    assert not drive.document.cards.get(key), "it was not saved"
    window.session.attempt(lambda: adding(window.session.drive, made.report, "Door"))
    settle()
    sheet = window.drive_page.sheet
    sheet.fit()
    settle()
    place = sheet.mapFromScene(sheet.cards["door"].sceneBoundingRect().center())
    QTest.mouseDClick(sheet.viewport(), LEFT, pos=place)
    assert until(lambda: window.session.path == door, 5)
    window.session.undo.setClean()


def test_an_envelope_is_kept_for_the_level_system_run_with_undone_and_removed(window, tmp_path, questions):
    pendel.open_example("car_door_drive").save(tmp_path / "door.pendel")
    window.files.open_path(tmp_path / "door.pendel")
    settle()
    levels = window.findChild(LevelChoice)
    assert "system" not in levels.buttons
    window.actions_by_name["envelope"].trigger()
    settle()
    made = window.findChild(EnvelopeWindow)
    made.choice.torque.setCurrentIndex(made.choice.torque.findData("speed_pi.out"))
    for name, text in {"top": "20 A", "top_speed": "4000 rpm", "speeds": "4", "torques": "4", "checks": "1"}.items():
        made.choice.fields[name].setText(text)
    QTest.mouseClick(made.start_button, LEFT)
    assert until(lambda: not made.working, 120) and made.report is not None, made.state.text()
    QTest.mouseClick(made.keep_button, LEFT)
    settle()
    assert "Choose System" in made.state.text() and list(levels.buttons)[:2] == ["system", "averaged"]
    made.close()
    QTest.mouseClick(levels.buttons["system"], LEFT)
    assert window.session.drive.settings["level"] == "system" and not window.session.examined.findings
    window.actions_by_name["run"].trigger()
    assert until(lambda: window.session.last_run is not None and not window.jobs.running, 60)
    run = window.session.last_run
    assert run.level == "system" and not run.message and "door_motor.link_current" in run.keys
    window.show_page("Drive")
    window.session.select(["door_motor"])
    window.drive_page.inspector.show_tab("Values")
    settle()
    (line,) = [each for each in window.drive_page.inspector.findChildren(EnvelopeLine) if each.isVisible()]
    assert "speed_pi.out" in words_of(line)
    cards = window.drive_page.sheet.cards
    assert cards["bridge"].opacity() < 0.6 and "envelope stands for it" in cards["current_pi"].toolTip()
    assert cards["speed_pi"].opacity() == cards["door_motor"].opacity() == 1.0
    QTest.mouseClick(line.findChild(QPushButton), LEFT)
    settle()
    assert [f.sentence for f in window.session.examined.faults if "no machine here carries one" in f.sentence]
    window.session.undo.undo()
    settle()
    assert window.session.drive.cards["door_motor"].envelope and not window.session.examined.faults
    window.session.undo.setClean()

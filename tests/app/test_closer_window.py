"""In detail, in the real window: from the cursors of a trip into the drive that its machine was made of."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

import pendel
from pendel.app.window.closer_window import CloserDialog
from tests.app.conftest import finish, settle, until

LEFT = Qt.MouseButton.LeftButton


def dialog_of(window) -> CloserDialog:
    window.actions_by_name["closer"].trigger()
    settle()
    return next(each for each in window.findChildren(CloserDialog) if each.isVisible())


def test_between_the_cursors_of_a_trip_opens_the_machines_drive_and_runs_it(window, tmp_path):
    trip = tmp_path / "trip.pendel"
    example = pendel.open_example("works_car")
    example.set("until", "30 s")
    example.save(trip)
    window.files.open_path(trip)
    settle()
    dialog = dialog_of(window)
    QTest.mouseClick(dialog.open_button, LEFT)
    assert "There is no run yet" in dialog.said.text() and dialog.isVisible()
    dialog.reject()
    window.actions_by_name["run"].trigger()
    finish(window)
    window.show_page("Runs")
    settle()
    strips = window.pages["Runs"].strips
    strips.set_cursors(14.0, 14.2)
    dialog = dialog_of(window)
    assert [dialog.card.itemText(k) for k in range(dialog.card.count())] == ["Traction"]
    assert (dialog.begin.text(), dialog.end.text()) == ("14 s", "14.2 s")
    dialog.end.setText("14 kg")
    QTest.mouseClick(dialog.open_button, LEFT)
    assert dialog.isVisible() and "kg" in dialog.said.text()
    dialog.end.setText("14.2 s")
    QTest.mouseClick(dialog.open_button, LEFT)
    settle()
    assert window.session.path is None and "machine" in window.session.drive.cards
    assert window.session.drive.settings["level"] == "switching"
    assert until(lambda: window.session.last_run is not None and not window.jobs.running, 60)
    assert abs(window.session.last_run.end - 0.7) < 1e-9
    window.session.undo.setClean()


def test_a_drive_without_such_a_card_is_told_how_to_get_one(window):
    dialog = dialog_of(window)
    assert "Make envelope" in dialog.words.text() and not dialog.open_button.isEnabled()
    dialog.reject()

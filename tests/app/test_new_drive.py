"""A new drive from a goal, in the window: from nothing to the first run."""

import time

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from pendel.app.window.new_drive import NewDriveDialog
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.catalogue.index import kinds
from pendel.core.drive import file

from .conftest import finish, settle, until
from .test_window import LEFT


def asked(window):
    QTest.keyClick(window, Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    settle()
    return next(w for w in QApplication.topLevelWidgets() if isinstance(w, NewDriveDialog) and w.isVisible())


def goal_called(dialog, title):
    return next(push for push in dialog.goals.buttons() if push.accessibleName().startswith(title))


def write(dialog, name, text):
    field = dialog.fields[name]
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def test_from_new_drive_to_the_first_run_in_three_clicks(window, tmp_path):
    dialog = asked(window)
    QTest.mouseClick(goal_called(dialog, "Synchronous machine"), LEFT)
    write(dialog, "L_ll", "2.6")
    write(dialog, "U_link", "600 V")
    assert until(lambda: "Speed" in dialog.loops.text(), 60)
    said = {dialog.facts.itemAtPosition(n, 0).widget().text(): n for n in range(dialog.facts.rowCount())}
    value = dialog.facts.itemAtPosition(said["electrical time constant"], 1).widget().text()
    assert value == "3.095 ms", "half of the inductance over half of the resistance"
    margins = [line.partition(", ")[2] for line in dialog.loops.text().splitlines()]
    assert len(margins) == 3 and all(float(m.split("°")[0]) > 45 for m in margins)
    begun = time.monotonic()
    QTest.mouseClick(dialog.make_button, LEFT)
    settle()
    assert time.monotonic() - begun < 30 and not dialog.isVisible()
    session = window.session
    assert session.drive.quantities["L_ll"].text == "2.6 mH" and session.drive.quantities["U_link"].text == "600 V"
    assert session.undo.count() == 1 and session.dirty and not session.findings
    window.actions_by_name["run"].trigger()
    finish(window)
    assert len(session.runs) == 1 and window.page_now == "Runs"
    session.save(tmp_path / "mine.pendel")
    assert file.load(tmp_path / "mine.pendel").cards == session.drive.cards
    session.undo.undo()
    assert not session.drive.cards and not session.drive.quantities, "one step of undo brings the empty sheet back"


def test_what_cannot_work_is_said_while_typing_and_what_is_no_value_makes_nothing(window):
    before = window.session.drive
    dialog = asked(window)
    QTest.mouseClick(goal_called(dialog, "Brushed DC"), LEFT)
    write(dialog, "n_set", "4600")
    dialog.look()
    assert "needed at 4600 rpm" in dialog.said.text() and dialog.make_button.isEnabled()
    write(dialog, "R_a", "-1")
    dialog.look()
    assert "must be above 0" in dialog.said.text() and not dialog.make_button.isEnabled()
    dialog.make()
    assert dialog.isVisible() and window.session.drive is before
    position = next(b for b in dialog.findChildren(QPushButton) if b.accessibleName() == "Regulate: position")
    QTest.mouseClick(position, LEFT)
    assert "phi_set" in dialog.fields and dialog.fields["n_set"].text() == "4600", "what was typed stays"
    QTest.keyClick(dialog, Qt.Key.Key_Escape)
    settle()
    assert not dialog.isVisible() and window.session.drive is before


def test_a_goal_whose_part_is_gone_says_so_and_makes_nothing(window, monkeypatch):
    for kind in ("pi", "induction"):
        monkeypatch.delitem(kinds(), kind)
    dialog = asked(window)
    gone = []
    for goal in GOALS.values():
        QTest.mouseClick(goal_called(dialog, goal.title), LEFT)
        if "is not installed here" in dialog.said.text():
            gone.append(goal.id)
            assert not dialog.make_button.isEnabled() and dialog.drive is None
    assert {"brushed_dc", "fan", "induction_grid"} <= set(gone) and "analogue_loop" not in gone
    dialog.reject()


def test_every_goal_can_be_looked_at_by_keyboard_and_each_shows_its_drive(window):
    dialog = asked(window)
    for goal in GOALS.values():
        push = goal_called(dialog, goal.title)
        push.setFocus()
        QTest.keyClick(push, Qt.Key.Key_Space)
        assert dialog.goal is goal and dialog.title.text() == goal.title
        if not dialog.said.text():
            assert dialog.sheet.drive is not None
        picture = dialog.sheet.grab().toImage()
        assert (
            len({picture.pixel(x, y) for x in range(0, picture.width(), 3) for y in range(0, picture.height(), 3)}) > 2
        )
        names = [field.accessibleName() for field in dialog.fields.values()]
        assert len(set(names)) == len(names) and all(names)
    dialog.reject()

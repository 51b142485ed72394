"""Where one begins: recent drives, examples and what was left unsaved, found by the words of the job."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.app.session.autosaves import free_slot
from pendel.app.window.begin import BeginDialog
from pendel.core.drive import commands, file
from pendel.core.drive.examples import EXAMPLES
from tests.app.conftest import settle, until


@pytest.fixture
def begin(window):
    def opened() -> BeginDialog:
        window.actions_by_name["begin"].trigger()
        dialog = window.findChildren(BeginDialog)[-1]
        assert until(lambda: dialog.all)
        settle()
        return dialog

    return opened


def shown(dialog) -> list[str]:
    items = (dialog.list.item(k) for k in range(dialog.list.count()))
    return [item.data(Qt.ItemDataRole.UserRole + 1).title for item in items if dialog._listed(item) is not None]


def test_an_example_is_found_by_its_words_and_opened_by_the_keyboard(window, begin):
    dialog = begin()
    assert len([each for each in dialog.all if each.group == "Examples"]) == len(list(EXAMPLES.glob("*.pendel")))
    assert all(each.sentence for each in dialog.all)
    QTest.keyClicks(dialog.line, "planetary")
    assert shown(dialog) == ["A day of trips"]
    assert "planetary gear" in dialog.text.toPlainText() and dialog.sheet.drive is not None
    dialog.line.clear()
    QTest.keyClicks(dialog.line, "synchronous slip")
    assert "Service trolley" in shown(dialog)
    dialog.line.clear()
    QTest.keyClicks(dialog.line, "hall sensors fan")
    assert shown(dialog)[0] == "Cabin fan", "what says the words of itself comes first"
    dialog.line.clear()
    QTest.keyClicks(dialog.line, "zebra")
    assert shown(dialog) == [] and not dialog.open_button.isEnabled()
    assert dialog.sentence.text() == "Nothing has all these words."
    dialog.line.clear()
    QTest.keyClicks(dialog.line, "op-amp")
    QTest.keyClick(dialog.line, Qt.Key.Key_Return)
    settle()
    assert "analogue" in window.session.drive.title and not dialog.isVisible()


def test_files_that_are_gone_damaged_or_hostile_are_listed_as_such(window, begin, tmp_path):
    bad, gone, odd = tmp_path / "bad.pendel", tmp_path / "gone.pendel", tmp_path / "odd.pendel"
    bad.write_text("{")
    drive = file.load(EXAMPLES / "cabin_fan.pendel")
    drive.settings["title"] = "<b>Fan</b> & more"
    card = next(iter(drive.cards))
    drive.cards["strange"] = commands.replace(drive.cards[card], kind="of_a_newer_file", name="<i>New</i>")
    odd.write_text(file.to_text(drive))
    window.settings.setValue("recent", [str(bad), str(gone), str(odd)])
    dialog = begin()
    by_title = {each.title: each for each in dialog.all if each.group == "Recent"}
    assert "no such file" in by_title["gone.pendel"].sentence
    assert by_title["bad.pendel"].drive is None and by_title["bad.pendel"].sentence
    assert by_title["<b>Fan</b> & more"].drive is not None
    dialog.list.setCurrentRow(3)
    dialog.grab()
    assert dialog.title.whole == "<b>Fan</b> & more"


def test_what_was_left_unsaved_is_taken_up_there(window, begin, example_path):
    """Of the open drive's file, and of one that was never saved; what lives in a window is not offered."""
    drive = file.load(example_path)
    drive.settings["title"] = "Left by a window that is gone"
    for path in (None, example_path):
        slot = free_slot(path)
        slot.path.write_text(file.to_text(drive))
        slot.lock.release()
    held = free_slot(None)
    held.path.write_text(file.to_text(drive))
    window.settings.setValue("recent", [str(example_path)])
    dialog = begin()
    left = [each for each in dialog.all if each.group == "Left unsaved"]
    assert [each.path for each in left] == [None, example_path]
    assert dialog.current is left[0] and dialog.open_button.text() == "Take it up"
    QTest.mouseClick(dialog.open_button, Qt.MouseButton.LeftButton)
    settle()
    assert window.session.drive.title == "Left by a window that is gone"
    assert window.session.dirty and window.session.path is None
    held.lock.release()
    window.session.undo.setClean()


def test_it_is_shown_at_the_start_unless_somebody_minds(window, begin):
    assert window.files.begins
    dialog = begin()
    QTest.mouseClick(dialog.start_box, Qt.MouseButton.LeftButton, pos=dialog.start_box.rect().center())
    if dialog.start_box.isChecked():
        dialog.start_box.click()
    assert not window.files.begins
    dialog.reject()
    assert not begin().start_box.isChecked()

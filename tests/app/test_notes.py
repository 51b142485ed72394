"""Notes on the sheet: typed, moved, edited, deleted and kept; they go with the assembly they lie in."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog

from pendel.app.drive.sheet.notes import NoteEditor
from pendel.core.drive import assemblies, commands, file
from tests.app.conftest import settle

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def words(monkeypatch):
    """What is typed into the editor of a note next."""
    typed = ["The leaf **swings** <b>here</b>."]

    def answer(dialog: NoteEditor) -> int:
        dialog.editor.setPlainText(typed[0])
        QTest.keyClick(dialog, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        return dialog.result()

    monkeypatch.setattr(NoteEditor, "exec", answer)
    return typed


def on_view(sheet, item) -> QPoint:
    return sheet.mapFromScene(item.pos() + QPointF(20, 10))


def test_a_note_is_written_moved_edited_and_deleted(window, words, tmp_path):
    session, sheet = window.session, window.drive_page.sheet
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_N, Qt.KeyboardModifier.ShiftModifier)
    settle()
    (item,) = sheet.notes.items.values()
    assert "swings <b>here</b>." in item.document.toPlainText()
    boxes = list(sheet.boxes().values())
    room = item.room.translated(item.pos())
    assert not any(room.intersects(type(room)(b.x, b.y, b.w, b.h)) for b in boxes), "on no card"
    window.grab()

    view = sheet.viewport()
    start, before = on_view(sheet, item), session.drive.notes["note_1"]
    QTest.mousePress(view, LEFT, pos=start)
    QTest.mouseMove(view, start + QPoint(40, 24))
    QTest.mouseRelease(view, LEFT, pos=start + QPoint(40, 24))
    settle()
    moved = session.drive.notes["note_1"]
    wanted = (40 / sheet.zoom / 4, 24 / sheet.zoom / 4)
    assert (moved.x - before.x, moved.y - before.y) == pytest.approx(wanted, abs=1.1)
    assert session.undo.undoText() == "Move a note" and session.selection == []
    QTest.keyClick(sheet, Qt.Key.Key_Right)
    QTest.keyClick(sheet, Qt.Key.Key_Right)
    settle()
    assert session.drive.notes["note_1"].x == moved.x + 2
    window.editing.undo()
    settle()
    assert session.drive.notes["note_1"] == moved, "two nudges are one step"

    words[0] = "Other words"
    QTest.mouseDClick(view, LEFT, pos=on_view(sheet, sheet.notes.items["note_1"]))
    settle()
    assert session.drive.notes["note_1"].text == "Other words" and session.undo.undoText() == "Edit a note"
    path = tmp_path / "with note.pendel"
    session.save(path)
    assert file.load(path).notes == session.drive.notes
    QTest.mouseClick(view, LEFT, pos=on_view(sheet, sheet.notes.items["note_1"]))
    QTest.keyClick(sheet, Qt.Key.Key_Delete)
    settle()
    assert session.drive.notes == {} and sheet.notes.items == {} and "door_motor" in session.drive.cards
    window.editing.undo()
    settle()
    assert list(sheet.notes.items) == ["note_1"]


def test_a_card_over_a_note_is_what_is_clicked(window, words):
    session, sheet = window.session, window.drive_page.sheet
    sheet.notes.add()
    note = session.drive.notes["note_1"]
    session.do(commands.move_cards(session.drive, {"gear": (note.x, note.y)}))
    settle()
    QTest.mouseClick(sheet.viewport(), LEFT, pos=on_view(sheet, sheet.notes.items["note_1"]))
    assert session.selection == ["gear"] and sheet.notes.selected == ""
    words[0] = "   "
    sheet.notes.edit("note_1")
    assert session.drive.notes == {}, "without words it is none"


def test_notes_go_with_their_assembly(window, words):
    session, sheet = window.session, window.drive_page.sheet
    session.do(assemblies.group(session.drive, ["gear", "belt"], "Mechanics", []))
    session.enter("mechanics")
    settle()
    sheet.notes.add()
    settle()
    assert session.drive.notes["note_1"].inside == "mechanics"
    session.enter("")
    settle()
    assert sheet.notes.items == {}
    session.do(commands.rename_card(session.drive, "mechanics", "Way"))
    assert session.drive.notes["note_1"].inside == "way"
    session.do(commands.remove_cards(session.drive, ["way"]))
    assert session.drive.notes == {}
    window.editing.undo()
    session.do(assemblies.dissolve(session.drive, "way"))
    settle()
    assert session.drive.notes["note_1"].inside == "" and list(sheet.notes.items) == ["note_1"]


def test_a_note_that_is_cancelled_is_none(window, monkeypatch):
    monkeypatch.setattr(NoteEditor, "exec", lambda dialog: QDialog.DialogCode.Rejected)
    window.actions_by_name["note"].trigger()
    assert window.session.drive.notes == {} and not window.session.dirty


def test_cards_are_put_in_line_and_evenly_apart(window):
    session = window.session
    chosen = ["supply", "door_motor", "rail", "gear"]

    def places(axis: str) -> list[int]:
        return [getattr(session.drive.cards[key], axis) for key in chosen]

    xs = places("x")
    session.do(commands.move_cards(session.drive, {"door_motor": (90, 30), "rail": (150, 70)}))
    session.select(chosen)
    window.actions_by_name["in_row"].trigger()
    assert set(places("y")) == {session.drive.cards["supply"].y} and session.undo.undoText() == "Align in a row"
    window.actions_by_name["row_apart"].trigger()
    steps = sorted(places("x"))
    gaps = [b - a for a, b in zip(steps, steps[1:])]
    assert max(gaps) - min(gaps) <= 1 and steps[0] == min(xs)
    window.actions_by_name["in_column"].trigger()
    assert len(set(places("x"))) == 1
    session.select(["gear"])
    said = []
    window.editing.status_message.connect(said.append)
    window.actions_by_name["in_column"].trigger()
    assert said == ["Align in a column: select two or more cards first."]

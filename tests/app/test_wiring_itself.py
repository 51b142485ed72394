"""Cards wire themselves where only one way makes sense: by Shift+W, as they are added, and into a wire."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog

from pendel.app.drive.wire_obvious import AskDialog
from pendel.core.drive import commands
from tests.app.conftest import settle


@pytest.fixture
def sheet(window):
    window.files.new_drive()
    settle()
    window.drive_page.sheet.setFocus()
    return window.drive_page.sheet


def typed(window, text: str) -> str:
    """What `A` offers first for a text, added; returns what is said beside it."""
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_A)
    line = window.drive_page.search
    QTest.keyClicks(line.line, text)
    chosen = line.list.currentItem()
    words = " ".join(str(part) for part in (chosen.data(Qt.ItemDataRole.UserRole + 1) or ())[:3])
    QTest.keyClick(line.line, Qt.Key.Key_Return)
    settle()
    return words


def wires(window) -> set[str]:
    return set(window.session.drive.wires)


def test_a_drive_grows_by_what_completes_it(window, sheet):
    """By A, a word at most, and Enter."""
    session = window.session
    assert "Synchronous machine" in typed(window, "synchronous machine magnet")
    machine = session.selection[0]
    words = typed(window, "")
    assert "inverter" in words.lower() and "completes it" in words
    inverter = session.selection[0]
    assert wires(window) & {f"{inverter}.out -> {machine}.phases", f"{machine}.phases -> {inverter}.out"}
    assert session.undo.undoText() == "Add Three-phase inverter"
    typed(window, "modulator")
    assert {f"three_phase_modulator.d_{p} -> {inverter}.d_{p}" for p in "abc"} <= wires(window), "all three at once"
    before = len(session.drive.cards), len(session.drive.wires)
    window.editing.undo()
    settle()
    assert len(session.drive.cards) == before[0] - 1 and len(session.drive.wires) <= before[1] - 3, "one step of undo"


def test_a_card_goes_into_the_selected_wire(window):
    session = window.session
    session.select([], "speed_pi.out -> current_pi.setpoint")
    settle()
    assert "completes it" in typed(window, "limiter")
    assert {"speed_pi.out -> limiter.x", "limiter.out -> current_pi.setpoint"} <= wires(window)
    assert "speed_pi.out -> current_pi.setpoint" not in wires(window)
    window.editing.undo()
    settle()
    assert "speed_pi.out -> current_pi.setpoint" in wires(window) and "limiter" not in session.drive.cards


def test_what_is_obvious_is_wired_by_a_key_and_the_rest_is_asked(window, monkeypatch):
    session = window.session
    whole = wires(window)
    gone = [key for key in whole if not key.startswith(("supply", "bridge.out"))]
    session.do(commands.remove_wires(session.drive, gone))
    settle()
    window.drive_page.sheet.setFocus()
    shown = []

    def answer(dialog: AskDialog) -> int:
        dialog.grab()
        for question, box in dialog.boxes:
            wanted = [k for k in whole if k.endswith(f"-> {question.target}") or k.startswith(f"{question.target} ->")]
            ends = {str(end) for key in wanted for end in key.split(" -> ")} - {str(question.target)}
            place = next((k for k in range(1, box.count()) if str(box.itemData(k)) in ends), 0)
            box.setCurrentIndex(place)
            shown.append((str(question.target), box.currentText()))
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr(AskDialog, "exec", answer)
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    settle()
    signals = {key for key in whole if "pi" in key or "sensor" in key or "encoder" in key}
    assert signals <= wires(window)
    assert shown and session.undo.undoText() == "Wire what is obvious"
    window.editing.undo()
    settle()
    assert wires(window) == whole - set(gone)

    monkeypatch.setattr(AskDialog, "exec", lambda dialog: QDialog.DialogCode.Rejected)
    before = wires(window)
    window.actions_by_name["wire_obvious"].trigger()
    assert wires(window) == before, "cancelled, nothing is wired"


def test_nothing_obvious_is_said(window, sheet):
    said = []
    window.editing.status_message.connect(said.append)
    window.session.do(commands.add_card(window.session.drive, "resistor", "R"))
    window.actions_by_name["wire_obvious"].trigger()
    assert said and "Nothing here is obvious" in said[-1]

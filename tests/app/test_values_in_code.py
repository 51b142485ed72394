"""Values in the code, through the window: made live, stepped by keys and wheel, typed as words, kept between their
ends."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QPushButton

from pendel.app.drive.new_block import NewBlock
from pendel.app.firmware.values_table import DIGITS, HIGHEST, IS, LIVE, LOWEST, NUMBER, STEP, WORD
from pendel.core.drive import commands
from pendel.core.drive.document import End, OwnEquations
from pendel.core.runs.preparing.simulate import prepare

from .conftest import finish, settle, until
from .test_window import LEFT, choose, inspect, run_with, type_into


def turn_wheel(widget, turns, modifiers=Qt.KeyboardModifier.NoModifier):
    middle = QPointF(widget.rect().center())
    for _ in range(abs(turns)):
        event = QWheelEvent(
            middle,
            QPointF(widget.mapToGlobal(widget.rect().center())),
            QPoint(),
            QPoint(0, 120 if turns > 0 else -120),
            Qt.MouseButton.NoButton,
            modifiers,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(widget, event)
    settle()


@pytest.fixture
def values(window):
    """The Firmware page with the table of values, in 16 bits."""
    page = window.page("Firmware")
    window.show_page("Firmware")
    assert until(lambda: page.written and page.written.files)
    choose(page.all_formats, "fixed16")
    QTest.mouseClick(page.values_button, LEFT)
    written(page)
    return page


def written(page):
    settle()
    assert until(lambda: page.written is not None)
    settle()


def cell(page, key, column):
    return page.values.item(page.values.row_of(key), column)


def set_cell(page, key, column, text):
    """Typed into a cell as a user does: chosen, Enter, keys, Enter."""
    table = page.values
    table.setFocus()
    table.setCurrentCell(table.row_of(key), column)
    QTest.keyClick(table, Qt.Key.Key_Return)
    (editor,) = (e for e in table.viewport().findChildren(QLineEdit) if e.isVisible())
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    written(page)


def test_a_value_is_made_live_stepped_typed_as_a_word_and_kept_within_its_ends(window, values):
    page, drive, key = values, window.session.drive, "speed_pi.K_p"
    card = lambda: drive.cards["speed_pi"]  # noqa: E731
    assert cell(page, key, NUMBER).text() == "a constant" and "values_take" not in page.written.files.source
    page.values.setFocus()
    page.values.selectRow(page.values.row_of(key))
    QTest.keyClick(page.values, Qt.Key.Key_Space)
    written(page)
    assert list(card().live) == ["K_p"] and cell(page, key, LIVE).checkState() == Qt.CheckState.Checked
    assert (
        "speed_pi_values_take" in page.written.files.source and "speed_pi_values_take" in page.code.text.toPlainText()
    )
    # A plain figure in the place of the expression, and its ends.
    set_cell(page, key, IS, "35")
    set_cell(page, key, LOWEST, "10")
    set_cell(page, key, HIGHEST, "80")
    assert card().values["K_p"] == "35" and card().live["K_p"] == ("10", "80")
    word = page.values.facts(key).alone
    assert cell(page, key, WORD).text() == f"{round(35 * 2**word.rep.fraction)}"
    # Typed as a word, here and beside.
    set_cell(page, key, WORD, str(40 * 2**word.rep.fraction))
    assert card().values["K_p"] == "40"
    page.values.selectRow(page.values.row_of(key))
    assert page.conversion.value.text() == "40"
    type_into(page.conversion.word, hex(20 * 2**word.rep.fraction))
    written(page)
    assert card().values["K_p"] == "20" and cell(page, key, IS).text() == "20"
    page.conversion.value.setFocus()
    QTest.keyClick(page.conversion.value, Qt.Key.Key_Up)
    written(page)
    assert card().values["K_p"] == "21"
    QTest.keyClick(page.conversion.value, Qt.Key.Key_Down)
    written(page)
    assert card().values["K_p"] == "20" and page.conversion.value.text() == "20"
    # What is being typed when the value stops being live goes nowhere.
    page.conversion.value.setFocus()
    QTest.keyClick(page.conversion.value, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(page.conversion.value, "33")
    window.session.do(commands.set_live(window.session.drive, "speed_pi", {"K_p": None}))
    written(page)
    assert not page.conversion.value.isEnabled() and card().values["K_p"] == "20"
    window.session.do(commands.set_live(window.session.drive, "speed_pi", {"K_p": ("10", "80")}))
    written(page)
    set_cell(page, key, WORD, "many")
    assert "no word" in page.problem.text() and card().values["K_p"] == "20"
    # Steps: keys and the wheel; what is done in one go is undone in one.
    before = window.session.undo.count()
    page.values.setFocus()
    page.values.selectRow(page.values.row_of(key))
    for _ in range(3):
        QTest.keyClick(page.values, Qt.Key.Key_Plus)
    turn_wheel(page.values.viewport(), -1, Qt.KeyboardModifier.ControlModifier)
    written(page)
    assert card().values["K_p"] == "22" and window.session.undo.count() == before + 1
    window.editing.undo()
    assert card().values["K_p"] == "20"
    set_cell(page, key, STEP, "×2")
    page.values.setFocus()
    page.values.selectRow(page.values.row_of(key))
    QTest.keyClick(page.values, Qt.Key.Key_Plus)
    written(page)
    assert card().values["K_p"] == "40"
    QTest.keyClick(page.values, Qt.Key.Key_Plus)
    QTest.keyClick(page.values, Qt.Key.Key_Plus)
    written(page)
    # Beyond its ends there is no C, but a sentence; the row stays and can be mended.
    assert card().values["K_p"] == "160" and "from 10 to 80" in page.problem.text()
    assert not page.save_button.isEnabled() and "from 10 to 80" in cell(page, key, IS).toolTip()
    set_cell(page, key, HIGHEST, "200")
    assert page.problem.text() == "" and page.save_button.isEnabled()
    # The word in another base, and digits to which steps round.
    for base, figures in (("hexadecimal", "0x{:0{bits}X}"), ("binary", "0b{:0{bits}b}"), ("decimal", "{}")):
        entries = {a.text(): a for a in page.values.menu_of("speed_pi", page.values.facts(key)).actions()}
        entries[f"Word in {base} digits"].trigger()
        written(page)
        alone = page.values.facts(key).alone
        text = figures.format(alone.word, bits=alone.rep.bits // (4 if base == "hexadecimal" else 1))
        assert cell(page, key, WORD).text() == text
        set_cell(page, key, WORD, text)
        assert card().values["K_p"] == "160"
    set_cell(page, key, DIGITS, "many")
    assert "no number of digits" in page.problem.text()
    set_cell(page, key, DIGITS, "2")
    set_cell(page, key, STEP, "×1.1")
    set_cell(page, key, IS, "144")
    page.values.setFocus()
    page.values.selectRow(page.values.row_of(key))
    QTest.keyClick(page.values, Qt.Key.Key_Plus)
    written(page)
    assert card().values["K_p"] == "160" and card().digits == {"K_p": "2"} and card().bases == {}
    # All values of a block at once, and back.
    menu = page.values.menu_of("current_pi")
    menu.actions()[0].trigger()
    written(page)
    assert set(drive.cards["current_pi"].live) == {"K_p", "T_i", "low", "high"}
    formulas = [page.values.item(r, NUMBER).text() for r, v in enumerate(page.values.rows) if v is not None]
    assert any(text.endswith("·K_p/T_i") for text in formulas)
    page.values.menu_of("current_pi").actions()[1].trigger()
    written(page)
    assert not drive.cards["current_pi"].live


def test_live_values_are_built_checked_and_run_as_shipped(window, values):
    page = values
    run_with(window)
    window.show_page("Firmware")
    page.values.menu_of("current_pi").actions()[0].trigger()
    page.values.menu_of("travel_plan").actions()[0].trigger()
    written(page)
    page.shipped.click()
    run_with(window)
    runs = window.page("Runs")
    window.show_page("Runs")
    settle()
    assert "from float 64" in runs.kept.list.item(0).toolTip() and "%" in runs.kept.list.item(0).toolTip()
    folders = runs.tree.findItems("differences from float 64", Qt.MatchFlag.MatchRecursive)
    assert folders and all(f.childCount() for f in folders)
    window.show_page("Firmware")
    written(page)
    page.build_button.click()
    assert until(lambda: page.checked or page.problem.text(), 60)
    assert page.problem.text() == "" and not page.checked.unlike
    page.signals_button.click()
    assert page.table.isVisible() and page.comparison.both.isVisible()


def test_an_own_block_in_c_compiles_from_the_first_moment_and_is_written_in_words(window):
    session = window.session
    session.do(commands.add_card(session.drive, "own_c", "Mine", 40, 90, own=OwnEquations()))
    settle()
    window.session.select(["mine"])
    settle()
    editor = window.drive_page.inspector.own_editor
    button = next(b for b in editor.findChildren(QPushButton) if b.text() == "Write what is missing")
    QTest.mouseClick(button, LEFT)
    assert "no output" in editor.problems.text()
    editor.edits["ports"].setPlainText("x: in\ny: out")
    QTest.mouseClick(button, LEFT)
    settle()
    own = session.drive.cards["mine"].own
    assert own.equations == ("y = 0;  /* what it gives */",) == own.words and not editor.problems.text()
    editor.edits["words"].setPlainText("y = moved(3 * x, 1 + x_q - y_q);")
    editor.edits["ports"].setPlainText("x: in\ny: out\nz: out")
    QTest.mouseClick(button, LEFT)
    settle()
    own = session.drive.cards["mine"].own
    assert own.words == ("y = moved(3 * x, 1 + x_q - y_q);", "z = 0;  /* what it gives */")
    session.do(commands.add_wire(session.drive, End("travel_speed", "out"), End("mine", "x")))
    for port in ("y", "z"):
        session.do(commands.set_range(session.drive, "mine", port, ("-4", "4")))
    session.do(commands.set_number_format(session.drive, "mine", "fixed16"))
    run_with(window)
    window.show_page("Firmware")
    page = window.page("Firmware")
    assert until(lambda: page.written and page.written.files), page.problem.text()
    page.build_button.click()
    assert until(lambda: page.checked or page.problem.text(), 60)
    assert page.problem.text() == "" and not page.checked.unlike
    assert "y = pd_moved32(3 * x, 1 + x_q - y_q);" in page.written.files.source


def put(table, n, column, text):
    """Typed into a cell that is opened by F2."""
    table.setFocus()
    table.setCurrentCell(n, column)
    QTest.keyClick(table, Qt.Key.Key_F2)
    (editor,) = (e for e in table.viewport().findChildren(QLineEdit) if e.isVisible())
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    settle()


@pytest.mark.parametrize("kind", ["own_block", "own_modes", "own_c"])
def test_a_new_own_block_is_asked_for_and_builds_from_the_first_moment(window, kind):
    session = window.session
    window.actions_by_name["new_block"].trigger()
    settle()
    dialog = window.findChild(NewBlock)
    dialog.radios[kind].click()
    type_into(dialog.name, "Belt watch")
    put(dialog.ports, 0, 0, "current")
    put(dialog.ports, 0, 2, "Amp")
    assert "Amp" in dialog.problem.text() and not dialog.make.isEnabled()
    put(dialog.ports, 0, 2, "A")
    put(dialog.ports, 2, 0, "warns")  # the empty row, below which there is another now
    dialog.ports.cellWidget(2, 1).setCurrentText("out")
    assert dialog.ports.rowCount() == 4
    put(dialog.values, 0, 0, "most")
    put(dialog.values, 0, 1, "30 furlong")
    assert "furlong" in dialog.problem.text()
    put(dialog.values, 0, 1, "30 A")
    put(dialog.states, 0, 0, "current")
    put(dialog.states, 0, 1, "0")
    assert "twice" in dialog.problem.text()
    put(dialog.states, 0, 0, "count")
    type_into(dialog.every, "1.5")
    assert "whole number" in dialog.problem.text()
    type_into(dialog.every, "20")
    choose(dialog.format, "fixed32")
    if kind == "own_c":
        assert "y needs a lowest and a highest value" in dialog.problem.text()
        for n in (1, 2):
            put(dialog.ports, n, 3, "-10")
            assert "one end" in dialog.problem.text()
            put(dialog.ports, n, 4, "10")
    steps = session.undo.count()
    QTest.mouseClick(dialog.make, LEFT)
    settle()
    card = session.drive.cards["belt_watch"]
    assert session.undo.count() == steps + 1 and session.selection == ["belt_watch"]
    assert (card.kind, card.values, card.number_format) == (kind, {"every": "20"}, "fixed32")
    assert card.own.ports == ("current: in, A", "y: out", "warns: out") and card.own.states == ("count = 0",)
    assert not [f for f in session.examined.findings if f.stops], session.examined.findings
    for port in ("y", "warns"):
        assert any(f"{port} = 0" in line for line in card.own.equations)
    assert prepare(session.drive).lowered.block("belt_watch").number.fixed  # it has C of its format
    window.editing.undo()
    assert "belt_watch" not in session.drive.cards


def test_matrices_are_asked_for_typed_marked_where_wrong_and_run(window):
    """y' = −50·y + 50·x for both of two inputs, from the menu to its step response, 1 − e^(−50 t)."""
    session = window.session
    window.actions_by_name["new_block"].trigger()
    settle()
    dialog = window.findChild(NewBlock)
    dialog.radios["own_matrices"].click()
    type_into(dialog.name, "Both")
    assert not dialog.values.isVisible() and not dialog.states.isVisible()
    put(dialog.ports, 2, 0, "u")
    QTest.mouseClick(dialog.make, LEFT)
    settle()
    card = session.drive.cards["both"]
    assert card.own.ports == ("x: in", "y: out", "u: in") and card.own.equations == ("D = 1, 0",)
    assert not [f for f in session.examined.findings if f.stops]
    inspector = window.drive_page.inspector
    inspector.own_editor.edits["equations"].setPlainText("A = -50\nB = 50, 50, 50\nC = 1")
    settle(typing=True)
    editor = inspector.own_editor
    assert "matrices, line 2: B is 1 by 3; it has a row for each state" in editor.problems.text()
    assert len(editor.edits["equations"].extraSelections()) == 1
    editor.edits["equations"].setPlainText("A = -50\nB = 50, 50*m_leaf/(90 kg)\nC = 1")
    settle(typing=True)
    assert not inspector.own_editor.problems.text()
    drive = session.drive
    session.do(commands.add_card(drive, "step", "Up", 0, 0, values={"before": "0", "after": "2", "t_0": "0 s"}))
    for port in ("x", "u"):
        session.do(commands.add_wire(drive, End("up", "out"), End("both", port)))
    window.start_run()
    finish(window)
    trace = session.runs[-1].trace("both.y")
    m = float(drive.quantities["m_leaf"].text.split()[0]) / 90
    assert trace.at(np.array(0.06)) == pytest.approx(2 * (1 + m) * (1 - np.exp(-50 * 0.06)), rel=2e-3)
    window.editing.undo()


def test_the_inspector_shows_how_a_block_is_shipped(window):
    inspector = inspect(window, "current_pi")
    drive = window.session.drive
    # The arrow keys and the wheel change a value; an expression stays, with a word.
    field = inspector.fields["T_i"]
    assert field.text() == "T_a"
    field.setFocus()
    QTest.keyClick(field, Qt.Key.Key_Up)
    assert field.text() == "T_a" and "is an expression" in field.toolTip()
    type_into(field, "0.7 ms")
    field.setFocus()
    before = window.session.undo.count()
    QTest.keyClick(field, Qt.Key.Key_Up)
    turn_wheel(field, 2)
    assert drive.cards["current_pi"].values["T_i"] == "0.73 ms" and window.session.undo.count() == before + 1
    QTest.keyClick(field, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    settle()
    assert drive.cards["current_pi"].values["T_i"] == "0.63 ms"
    inspector.show_tab("Code")
    settle()
    editor = inspector.code_editor
    assert set(editor.live) >= {"K_p", "T_i", "low", "high"} and "every" not in editor.live
    choose(editor.format, "fixed32")
    QTest.mouseClick(editor.live["T_i"], LEFT)
    settle()
    assert drive.cards["current_pi"].number_format == "fixed32"
    assert drive.cards["current_pi"].live == {"T_i": ("0.1575 ms", "2.52 ms")}
    type_into(editor.ends["T_i"][0], "0.65 ms")
    assert "goes from 0.65 ms to 2.52 ms" in editor.notes["T_i"].text() and editor.notes["T_i"].isVisible()
    window.editing.undo()
    settle()
    assert editor.ends["T_i"][0].text() == "0.1575 ms" and not editor.notes["T_i"].isVisible()
    type_into(editor.steps["T_i"], "0.1 ms")
    assert drive.cards["current_pi"].steps == {"T_i": "0.1 ms"}
    type_into(editor.steps["T_i"], "0")
    assert "changes nothing" in editor.notes["T_i"].text()
    window.session.do(commands.set_step(drive, "current_pi", "T_i", ""))
    inspect(window, "encoder")
    assert "Code" not in inspector.tabs()


def test_a_setpoint_comes_from_outside_by_a_tick_on_its_page(window):
    inspect(window, "travel_plan").show_tab("Code")
    settle()
    box = window.drive_page.inspector.code_editor.outside
    assert not box.isChecked()
    QTest.mouseClick(box, LEFT, pos=QPoint(8, box.height() // 2))
    settle()
    assert window.session.drive.cards["travel_plan"].outside == "yes"
    assert window.drive_page.sheet.cards["travel_plan"].face.lines[0] == "from outside"
    window.show_page("Firmware")
    page = window.page("Firmware")
    assert until(lambda: page.written and "travel_plan_speed;" in page.written.files.header, 20)
    window.editing.undo()
    settle()
    assert window.session.drive.cards["travel_plan"].outside == ""
    assert not window.drive_page.inspector.code_editor.outside.isChecked()

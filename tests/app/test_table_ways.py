"""Tables that somebody brings: pasted into a card's rows or a profile, or taken from a file, in the real window."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QInputDialog, QMessageBox

import pendel
from pendel.app.widgets import table_dialog
from pendel.app.widgets.table_dialog import TableDialog
from pendel.core.formats.traces import save_table
from tests.app.conftest import settle

CTRL = Qt.KeyboardModifier.ControlModifier


def trip(window, tmp_path):
    file = tmp_path / "trip.pendel"
    pendel.open_example("works_car").save(file)
    window.files.open_path(file)
    settle()


def put(text):
    QApplication.clipboard().setText(text)


def answering(monkeypatch, change=lambda dialog: None, take=True):
    """The table's dialog, answered by the test; what it showed."""
    seen = []

    def shown(dialog):
        change(dialog)
        seen.append((dialog.shown.text(), dialog.note.text(), bool(dialog.rows)))
        return TableDialog.DialogCode.Accepted if take else TableDialog.DialogCode.Rejected

    monkeypatch.setattr(table_dialog.TableDialog, "exec", shown)
    return seen


def test_a_battery_takes_its_curve_from_a_spreadsheet_and_a_file(window, monkeypatch, tmp_path):
    trip(window, tmp_path)
    page = window.drive_page
    window.session.select(["battery"])
    settle()
    page.inspector.show_tab("Curve")
    editor = page.inspector.rows_editor
    before = window.session.drive.cards["battery"].rows
    put("charge\tU\n%\tV\n0\t80,5\n100\t111\n")
    editor.table.setCurrentCell(-1, -1)
    QTest.keyClick(editor.table, Qt.Key.Key_V, CTRL)
    settle()
    assert window.session.drive.cards["battery"].rows == (*before, ("0 %", "80.5 V"), ("100 %", "111 V"))
    assert "not above" in page.inspector.rows_editor.note.text()
    window.editing.undo()
    settle()
    editor.table.setCurrentCell(len(before) - 2, 0)
    put("85\t104.9\n100\t110")
    QTest.keyClick(editor.table, Qt.Key.Key_V, CTRL)
    settle()
    rows = window.session.drive.cards["battery"].rows
    assert len(rows) == len(before) and rows[-2:] == (("85", "104.9"), ("100", "110"))
    editor.table.selectAll()
    QTest.keyClick(editor.table, Qt.Key.Key_C, CTRL)
    copied = QApplication.clipboard().text().splitlines()
    assert len(copied) == 1 + len(rows) and copied[0].startswith("Charge, %\t") and copied[-1] == "100\t110\t100"
    put("hello")
    QTest.keyClick(editor.table, Qt.Key.Key_V, CTRL)
    settle()
    assert "no row of numbers" in editor.note.text() and window.session.drive.cards["battery"].rows == rows

    file = tmp_path / "cell <b>&.csv"
    file.write_text(
        "t;U (mV);q (%)\n" + "".join(f"{k};{90000 + 1000 * k};{5 * k}\n" for k in range(21)), encoding="utf-8"
    )
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))

    def choose(dialog):
        dialog.columns[0].setCurrentIndex(2)
        dialog.columns[1].setCurrentIndex(1)
        assert dialog.columns[2].itemText(3) == "– not there"
        dialog.columns[2].setCurrentIndex(3)

    seen = answering(monkeypatch, choose)
    editor.take()
    settle()
    assert seen[0] == ("0 %   90000 mV\n5 %   91000 mV\n10 %   92000 mV\n…", "", True)
    assert len(window.session.drive.cards["battery"].rows) == 21
    assert window.session.examined.findings == []
    seen = answering(monkeypatch, lambda dialog: dialog.units[0].setText("parsec <i>"))
    editor.take()
    settle()
    assert "“parsec <i>” is no unit" in seen[0][1] and not seen[0][2]


def test_a_plan_takes_cycles_and_files_is_repeated_and_turned_round(window, questions, monkeypatch, tmp_path):
    trip(window, tmp_path)
    window.session.select(["plan"])
    settle()
    editor = window.drive_page.inspector.profile_editor
    actions = {a.text(): a for a in editor.menu_button.menu().actions()}
    questions.answers += [QMessageBox.StandardButton.No, QMessageBox.StandardButton.Yes]
    first = next(action for words, action in actions.items() if "Urban part of" in words)
    first.trigger()
    settle()
    assert len(window.session.drive.cards["plan"].profile) == 26 and "1.015 km, at most 50 km/h" in editor.more.text()
    next(action for words, action in actions.items() if "Extra-urban" in words).trigger()
    settle()
    assert "595 s, 7.969 km, at most 120 km/h" in editor.more.text()
    window.editing.undo()
    settle()
    monkeypatch.setattr(QInputDialog, "getInt", lambda *_: (4, True))
    actions["Repeat …"].trigger()
    settle()
    assert "780 s, 4.058 km" in editor.more.text()
    window.editing.undo()
    settle()
    once = window.session.drive.cards["plan"].profile
    actions["Turn round in time"].trigger()
    settle()
    assert (
        window.session.drive.cards["plan"].profile[1] == ("7 s", "0 km/h") and "195 s, 1.015 km" in editor.more.text()
    )
    window.editing.undo()
    settle()
    assert window.session.drive.cards["plan"].profile == once

    file = tmp_path / "way.csv"
    file.write_text(
        "t (s),v (km/h)\n" + "".join(f"{k},{min(k, 9) * 4}\n" for k in range(20) if k != 12), encoding="utf-8"
    )
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    answering(monkeypatch, lambda dialog: dialog.where.setCurrentIndex(1))
    actions["From a file …"].trigger()
    settle()
    assert "Rows are missing after 11 s" in editor.note.text()
    profile = window.session.drive.cards["plan"].profile
    assert len(profile) == 26 + 18 and profile[-1] == ("214 s", "36 km/h")
    answering(monkeypatch, take=False)
    actions["From a file …"].trigger()
    settle()
    assert window.session.drive.cards["plan"].profile == profile


def test_a_map_is_pasted_with_and_without_its_last_column_and_with_gaps(window, monkeypatch, tmp_path):
    """Speed, torque and efficiency, as sheets have them; or with losses where there is no efficiency."""
    d = pendel.Drive(document=window.session.drive)
    d.add("machine_by_map", "Map")
    window.session.select(["map"])
    settle()
    window.drive_page.inspector.show_tab("Map")
    editor = window.drive_page.inspector.rows_editor
    editor.table.selectAll()
    editor.table.setCurrentCell(0, 0)
    put("n\tM\teta\nrpm\tN*m\t%\n1000\t50\t91\n2000\t50\t93\n")
    QTest.keyClick(editor.table, Qt.Key.Key_V, CTRL)
    settle()
    rows = window.session.drive.cards["map"].rows
    assert rows[:2] == (("1000 rpm", "50 N*m", "91 %"), ("2000 rpm", "50 N*m", "93 %"))
    put("0\t10\t\t40\n1000\t20\t88\t\n")
    window.drive_page.inspector.rows_editor.table.setCurrentCell(0, 0)
    QTest.keyClick(window.drive_page.inspector.rows_editor.table, Qt.Key.Key_V, CTRL)
    settle()
    assert window.session.drive.cards["map"].rows[:2] == (("0", "10", "", "40"), ("1000", "20", "88"))
    file = tmp_path / "map.csv"
    file.write_text("n,M,eta,P\n1000,50,0.9,\n2000,50,,300\n", encoding="utf-8")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))
    seen = answering(monkeypatch, lambda dialog: dialog.columns[3].setCurrentIndex(3))
    window.drive_page.inspector.rows_editor.take()
    settle()
    assert seen[0][2] and window.session.drive.cards["map"].rows == (
        ("1000 rpm", "50 N·m", "0.9 %"),
        ("2000 rpm", "50 N·m", "", "300 W"),
    )
    window.session.undo.setClean()


@pytest.mark.parametrize("ending", [".h5", ".mat", ".csv"])
def test_a_machine_takes_the_map_that_a_detailed_drive_saved(ending, window, monkeypatch, tmp_path):
    """Units of its fields are those of the file, so that nothing has to be chosen but the columns."""
    names = (("speed", "rpm"), ("torque", "N·m"), ("efficiency", "%"), ("loss", "W"))
    numbers = ([0.0, 1000.0, 2000.0], [20.0, 50.0, 50.0], [np.nan, 91.0, 93.0], [40.0, np.nan, np.nan])
    file = tmp_path / f"map{ending}"
    save_table([(name, unit, np.array(column)) for (name, unit), column in zip(names, numbers)], file)
    trip(window, tmp_path)
    pendel.Drive(document=window.session.drive).add("machine_by_map", "Map")
    window.session.select(["map"])
    settle()
    window.drive_page.inspector.show_tab("Map")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(file), ""))

    def choose(dialog):
        for box, (name, _) in zip(dialog.columns, names):
            box.setCurrentIndex(next(k for k in range(box.count()) if box.itemText(k).startswith(name)))

    seen = answering(monkeypatch, choose)
    window.drive_page.inspector.rows_editor.take()
    settle()
    taken = window.session.drive.cards["map"].rows
    assert seen[0][2] and [[cell.split() for cell in row] for row in taken] == [
        [["0.0", "rpm"], ["20.0", "N·m"], [], ["40.0", "W"]],
        [["1000.0", "rpm"], ["50.0", "N·m"], ["91.0", "%"]],
        [["2000.0", "rpm"], ["50.0", "N·m"], ["93.0", "%"]],
    ]
    window.editing.undo()
    settle()
    assert window.session.drive.cards["map"].rows != taken
    window.session.undo.setClean()

"""A unit for other simulators, from the menu to the file."""

import io
import zipfile
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialogButtonBox, QFileDialog

from pendel.app.window.unit_export import UnitExport

from .conftest import settle, until
from .test_window import LEFT


def opened(window):
    window.actions_by_name["export_unit"].trigger()
    settle()
    dialog = window.findChildren(UnitExport)[-1]
    assert until(dialog.export.isEnabled)
    return dialog


def test_a_plant_is_chosen_given_a_step_and_an_input_and_written(window, tmp_path, monkeypatch):
    path = tmp_path / "plant"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    dialog = opened(window)
    assert "0 inputs" in dialog.summary.text() and not dialog.step.isEnabled()
    QTest.mouseClick(dialog.radios["plant"], LEFT)
    assert until(dialog.step.isEnabled)
    for text, words in (("20 V", "V"), ("0 s", "1 ns to 1000 s"), ("20 µs", "")):
        dialog.step.setFocus()
        dialog.step.selectAll()
        QTest.keyClicks(dialog.step, text)
        QTest.keyClick(dialog.step, Qt.Key.Key_Tab)
        assert until(lambda: words in dialog.problem.text() and dialog.export.isEnabled() == (not words)), text
    QTest.keyClicks(dialog.search, "leaf mass")
    shown = [i for i in dialog.items() if not i.isHidden()]
    assert [i.data(Qt.ItemDataRole.UserRole) for i in shown] == ["door_leaf.m"]
    shown[0].setCheckState(Qt.CheckState.Checked)
    assert until(lambda: "2 inputs" in dialog.summary.text() and "20 µs" in dialog.summary.text())
    QTest.mouseClick(dialog.export, LEFT)
    assert until(lambda: bool(dialog.written), 60)
    with zipfile.ZipFile(io.BytesIO(Path(dialog.written).read_bytes())) as archive:
        assert b'name="door_leaf.m"' in archive.read("modelDescription.xml")
    assert path.with_suffix(".fmu").is_file() and "Exported" in window.foot.status_message.whole


def test_a_place_that_cannot_be_written_is_told_and_the_dialog_stays(window, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: ("/proc/nowhere/x.fmu", ""))
    dialog = opened(window)
    QTest.mouseClick(dialog.radios["controller"], LEFT)
    assert until(lambda: "2 inputs" in dialog.summary.text() and dialog.export.isEnabled())
    QTest.mouseClick(dialog.export, LEFT)
    assert until(lambda: "cannot be saved" in dialog.problem.text(), 60) and dialog.isVisible()
    QTest.mouseClick(dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Cancel), LEFT)
    assert not dialog.isVisible()

"""What somebody prefers is taken at once, kept, and never ends the window, whatever its file holds."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QPushButton

from pendel.app.session.preferences import (
    AUTOSAVE,
    COMPILER,
    CORES,
    DIGITS,
    MEMORY,
    PREFERENCES,
    SETTLED,
    SIZES,
    SPEEDS,
    TEMPERATURES,
    THEME,
    PreferenceProblem,
    Preferences,
    sound_settings,
)
from pendel.app.session.trust import of_scripts
from pendel.app.window.preferences_window import KEYS, PreferencesDialog, programs
from pendel.core import trust
from pendel.core.cores import VARIABLE, all_cores, usable_cores
from pendel.core.errors import DriveProblem
from tests.app.conftest import finish, settle, until


@pytest.fixture
def dialog(window, monkeypatch):
    monkeypatch.setenv(VARIABLE, "")
    window.actions_by_name["preferences"].trigger()
    shown = window.findChild(PreferencesDialog)
    settle()
    yield shown
    shown.accept()


def group(dialog, title: str) -> None:
    line = next(k for k in range(dialog.groups.count()) if dialog.groups.item(k).text() == title)
    dialog.groups.setCurrentRow(line)
    settle()


def test_figures_settle_within_the_band_that_is_preferred(window, dialog):
    """The window's figure is that of Python, and later in a narrower band."""
    from pendel.core.quantities.units import figure
    from pendel.interface.run_view import Run

    window.start_run()
    finish(window)
    page, run = window.page("Runs"), window.session.runs[-1]
    window.show_page("Runs")
    settle()
    group(dialog, "Figures")
    found = {}
    for band in ("0.5", "2", "10"):
        dialog.fields[SETTLED].setText(band)
        QTest.keyClick(dialog.fields[SETTLED], Qt.Key.Key_Return)
        page.measure()
        texts = [page.grid.itemAt(n).widget().text() for n in range(page.grid.count())]
        told = texts[texts.index(f"settles {band} %") + 1]
        actual, setpoint = page.measured_signal(run)
        times = sorted(page.strips.times)
        value = Run(run).measure("settling", actual, *times, setpoint=setpoint, band=float(band) / 100)
        assert told == ("–" if value != value else figure(value, "s", 3))
        found[band] = value
    assert found["10"] < found["2"] and not found["0.5"] < found["2"]
    with pytest.raises(DriveProblem, match="A band of 2 is none"):
        Run(run).measure("settling", actual, *times, setpoint=setpoint, band=2)


def test_what_is_chosen_holds_at_once_and_in_the_next_start(window, dialog):
    window.start_run()
    finish(window)
    run = window.session.runs[-1]
    group(dialog, "Units shown")
    box = dialog.fields[SPEEDS]
    QTest.keyClick(box, Qt.Key.Key_Down)
    settle()
    assert window.preferring.preferences[SPEEDS] == "rpm"
    assert run.trace("door_motor.speed").unit == "rpm" and window.actions_by_name["speeds"].isChecked()
    window.actions_by_name["speeds"].trigger()
    assert Preferences(window.settings)[SPEEDS] == "rad/s"

    group(dialog, "Work")
    for name, typed, kept in ((CORES, "1", "1"), (MEMORY, "100 MB", "100"), (AUTOSAVE, "3 s", "3")):
        field = dialog.fields[name]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, typed)
        QTest.keyClick(field, Qt.Key.Key_Return)
        assert Preferences(window.settings)[name] == kept and field.text() == kept
    assert usable_cores() == 1 and os.environ[VARIABLE] == "1"
    assert window.session.shelf.hidden_bytes == 100 * 2**20
    assert (window.session.autosave_soon.interval(), window.session.autosave_at_last.interval()) == (3000, 9000)

    for typed in ("-1", "many", "1e9", "nan", "", "inf"):
        field = dialog.fields[MEMORY]
        field.setText(typed)
        field.editingFinished.emit()
        assert "Take 1 to 65536 MB" in dialog.said[MEMORY].text() and dialog.said[MEMORY].isVisible(), typed
        assert Preferences(window.settings)[MEMORY] == "100"


def test_temperatures_are_read_from_absolute_zero(window, dialog, tmp_path):
    """A body of 100 J/K at 1 W from 20 °C on: strip, reading, card, tables, axis and CSV in K; differences, SI values,
    remarks and columns of series as they were."""
    import pendel
    from pendel.app.runs.span_table import measure_text
    from pendel.core.formats.traces import columns
    from pendel.core.measures import Place, Span, measures_at
    from pendel.core.series.columns import evaluate_columns, read_column

    d = pendel.Drive()
    key = d.add("heat_capacity", "Copper", C="100 J/K", T_0="20 °C")
    path = tmp_path / "copper.pendel"
    d.add("heat_source", "Oven", P="1 W")
    d.connect("oven.a", f"{key}.a")
    d.set("until", "100 s")
    d.save(path)
    window.files.open_path(path)
    window.start_run()
    finish(window)
    run, signal = window.session.runs[-1], "copper.temperature"
    page = window.page("Runs")
    strips = page.strips
    window.show_page("Runs")
    page.put_on_strips([signal])
    settle()
    before = run.trace(signal)
    assert before.y_in()[[0, -1]] == pytest.approx([20, 21]) and before.y_in("K")[0] == pytest.approx(293.15)
    group(dialog, "Units shown")
    QTest.keyClick(dialog.fields[TEMPERATURES], Qt.Key.Key_Down)
    settle()
    assert window.preferring.preferences[TEMPERATURES] == "K"
    trace = run.trace(signal)
    assert trace.y is before.y and trace.at(100.0) == pytest.approx(21) and trace.y_in("°C")[0] == pytest.approx(20)
    curve = strips.traces[0][0]
    assert curve.unit == "K" and curve.y[-1] == pytest.approx(294.15)
    assert curve.as_read().words(294.0) == "294 K"
    strips.plots[0].vb.setYRange(293.0, 295.0, padding=0)
    assert strips.axis_by_hand(0) == pytest.approx((19.85, 21.85))
    span = Span(run, signal, 0.0, 100.0)
    texts = {m.id: measure_text(m, span) for m in measures_at(Place.SIGNAL)}
    assert (texts["mean"], texts["rms"], texts["ripple"]) == ("294 K", "294 K", "1 K")
    name, unit, values = columns([run], [signal])[1]
    assert unit == "K" and values[-1] == pytest.approx(294.15)
    found = evaluate_columns([read_column("mean(copper.temperature)")], run, {}.__getitem__)[0]
    assert (found.value, found.unit) == (pytest.approx(20.5), "°C")


def test_scripts_are_given_a_folder_of_the_users_and_programs_are_let_in(window, dialog, tmp_path, monkeypatch):
    field = dialog.fields["scripts_folder"]
    field.setText("/")
    field.editingFinished.emit()
    assert "files of Pendel" in dialog.said["scripts_folder"].text() or "another user" in (
        dialog.said["scripts_folder"].text()
    )
    assert window.session.scripts_folder is None
    results = tmp_path / "results"
    results.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(results))
    [b for b in dialog.findChildren(QPushButton) if b.text() == "Choose …"][-1].click()
    assert field.text() == str(results)
    assert dialog.said["scripts_folder"].isHidden() and window.session.scripts_folder == results
    assert str(results) in of_scripts(window.session.scripts_folder)
    opened = []
    monkeypatch.setattr("pendel.app.window.other_programs.OtherProgramsDialog.open", lambda self: opened.append(self))
    next(b for b in dialog.findChildren(QPushButton) if b.text() == "Let other programs in …").click()
    assert len(opened) == 1


def test_cores_are_what_is_wanted_and_no_more_than_there_are(monkeypatch):
    for text, count in (("", all_cores()), ("1", 1), ("100000", all_cores()), ("0", all_cores()), ("x", all_cores())):
        monkeypatch.setenv(VARIABLE, text)
        assert usable_cores() == count


def test_keys_are_changed_and_clashes_are_told(window, dialog):
    group(dialog, KEYS)
    keys, actions = dialog.keys, window.actions_by_name
    line = next(k for k, spec in enumerate(keys.specs) if spec.name == "flows")
    keys.table.selectRow(line)
    keys.edit.setKeySequence(QKeySequence("Ctrl+Shift+F"))
    keys.edit.editingFinished.emit()
    assert actions["flows"].shortcut().toString() == "Ctrl+Shift+F"
    assert keys.table.item(line, 2).text() == "Ctrl+Shift+F"

    keys.edit.setKeySequence(QKeySequence("Ctrl+R"))
    keys.edit.editingFinished.emit()
    assert "the key of “Run or stop”" in keys.said.text() and actions["flows"].shortcut().toString() == "Ctrl+Shift+F"
    QTest.mouseClick(keys.take, Qt.MouseButton.LeftButton)
    assert actions["flows"].shortcut().toString() == "Ctrl+R" and actions["run"].shortcut().isEmpty()
    for key, what in (("Alt+2", "a page"), ("Alt+F", "a menu")):
        keys.edit.setKeySequence(QKeySequence(key))
        keys.edit.editingFinished.emit()
        assert f"{key} opens {what}" in keys.said.text()

    again = Preferences(window.settings)
    assert (again.key("flows", ""), again.key("run", "Ctrl+R")) == ("Ctrl+R", "")
    keys.table.selectRow(next(k for k, spec in enumerate(keys.specs) if spec.name == "run"))
    QTest.mouseClick(keys.usual, Qt.MouseButton.LeftButton)
    assert "Energy flow" in keys.said.text(), "its usual key is another's now"
    QTest.mouseClick(keys.take, Qt.MouseButton.LeftButton)
    assert actions["run"].shortcut().toString() == "Ctrl+R" and actions["flows"].shortcut().isEmpty()
    dialog.accept()
    window.activateWindow()
    settle()
    QTest.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    assert until(lambda: window.jobs.running or window.session.runs)
    finish(window)


def test_two_actions_with_one_key_in_the_file_are_both_still_there(window):
    window.settings.setValue("keys/flows", "Ctrl+S")
    window.settings.setValue("keys/heat", "no key at all")
    window.preferring.give_keys()
    assert window.actions_by_name["save"].shortcut().toString() == "Ctrl+S"
    assert window.actions_by_name["flows"].shortcut().isEmpty()


@pytest.mark.parametrize("content", (b"\0\1\2\3", b"[pref\nspeeds==\n\n]]]", b"no list of anything", b""))
def test_a_file_that_cannot_be_read_is_put_aside(tmp_path, content):
    path = tmp_path / "pendel.conf"
    path.write_bytes(content)
    settings, said = sound_settings(QSettings(str(path), QSettings.Format.IniFormat))
    preferences = Preferences(settings)
    assert [preferences[each.name] for each in PREFERENCES] == [each.default for each in PREFERENCES]
    if said:
        assert [p.read_bytes() for p in tmp_path.glob("*.unreadable")] == [content] and "put aside" in said
    preferences.set(THEME, "dark")
    settings.sync()
    assert Preferences(QSettings(str(path), QSettings.Format.IniFormat))[THEME] == "dark"


def test_values_that_cannot_be_are_the_usual_ones_and_said(tmp_path):
    settings = QSettings(str(tmp_path / "p.ini"), QSettings.Format.IniFormat)
    settings.setValue("preferences/theme", "<b>pink</b>" * 100)
    settings.setValue("preferences/cores", [1, 2])
    settings.setValue("preferences/folder", "/no/such/folder")
    settings.setValue("preferences/version", 99)
    preferences = Preferences(settings)
    assert preferences[THEME] == "system" and preferences[CORES] == "0" and preferences["folder"] == ""
    assert len(preferences.problems) == 3 and "/no/such/folder" in preferences.problems[2]
    assert settings.value("preferences/version") == 99, "that of a later Pendel stays"
    with pytest.raises(PreferenceProblem, match="Make it first"):
        preferences.set("folder", "/no/such/folder")


def test_strips_and_units_of_an_earlier_pendel_are_brought_along(tmp_path):
    settings = QSettings(str(tmp_path / "p.ini"), QSettings.Format.IniFormat)
    settings.setValue("units/preferred", json.dumps({"rad/s": "rpm"}))
    settings.setValue("strips/chosen", json.dumps({"/a.pendel": '[[["x.y"], []]]', "/b": 7}))
    preferences = Preferences(settings)
    assert preferences[SPEEDS] == "rpm"
    from pendel.app.runs.arrangement import read_kept

    table = json.loads(settings.value("strips/chosen"))
    assert list(table) == ["/a.pendel"] and read_kept(table["/a.pendel"])[0][0].signals == ["x.y"]
    Preferences(settings)
    assert json.loads(settings.value("strips/chosen")) == table, "once"


def test_what_was_allowed_is_asked_again(window, dialog, monkeypatch, tmp_path):
    monkeypatch.setattr(trust, "remembered_at", lambda: tmp_path / "allowed.txt")
    monkeypatch.setattr(trust, "ALLOWED_HERE", set())
    trust.allow_script("print(1)")
    page = dialog.stack.widget(dialog.stack.count() - 1)
    page.fill()
    group(dialog, "What may run")
    button = next(b for b in page.findChildren(QPushButton) if b.text().startswith("Ask again") and b.isVisible())
    assert button.isEnabled() and trust.is_script_allowed("print(1)")
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    assert not trust.is_script_allowed("print(1)") and not (tmp_path / "allowed.txt").exists()
    assert Path(dict(programs())["C compiler"].split()[0]).exists()


BEGUN = """
import os
import pendel.app.window.main_window as module
from pendel.app.widgets.sizes import size_text
from pendel.core.quantities.units import figure, number_text

def begun(settings):
    print(os.environ.get("PENDEL_COMPILER"), number_text(3.14159265), figure(1234.5678, "V"), number_text(2.71828, 3),
        size_text(-20.0))
    raise SystemExit(0)

module.MainWindow = begun
from pendel.app.main import main
main([])
"""


def test_compiler_digits_and_sizes_hold_from_the_next_start(window, dialog, tmp_path):
    """As the window begins, in a process of its own, by what this dialog left in the file."""
    group(dialog, "Work")
    for _ in range(2):
        QTest.keyClick(dialog.fields[COMPILER], Qt.Key.Key_Down)
    group(dialog, "Figures")
    for _ in range(2):
        QTest.keyClick(dialog.fields[DIGITS], Qt.Key.Key_Down)
    group(dialog, "Units shown")
    QTest.keyClick(dialog.fields[SIZES], Qt.Key.Key_Down)
    window.settings.sync()
    (tmp_path / "pendel").mkdir()
    (tmp_path / "pendel" / "pendel.conf").write_bytes(Path(window.settings.fileName()).read_bytes())
    environment = {k: v for k, v in os.environ.items() if k != "PENDEL_COMPILER"} | {"XDG_CONFIG_HOME": str(tmp_path)}
    told = subprocess.run([sys.executable, "-c", BEGUN], env=environment, capture_output=True, text=True, timeout=60)
    assert told.stdout.strip() == "clang 3.14159 1.23457 kV 2.72 0.1", told.stderr

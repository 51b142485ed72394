"""The best possible split in the real window: of the latest run of a trip, whole and between the cursors."""

import csv

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.app.window import split_window
from pendel.app.window.split_window import SplitWindow
from pendel.core.drive.examples import EXAMPLES
from tests.app.conftest import settle, until


def test_the_best_split_of_a_trip_is_shown_beside_what_was_driven(window, tmp_path, monkeypatch):
    window.actions_by_name["best_split"].trigger()
    best = window.findChild(SplitWindow)
    assert "no run yet" in best.state.text() and best.charge.isHidden()
    window.actions_by_name["run"].trigger()
    assert until(lambda: window.session.last_run is not None, 60)
    settle()
    window.actions_by_name["best_split"].trigger()
    assert until(lambda: not best.work.working, 60)
    assert "needs one combustion engine beside machines; this drive has none" in best.state.text()
    window.files.open_path(EXAMPLES / "day_of_trips.pendel")
    settle()
    assert best.state.text() == ""
    window.actions_by_name["run"].trigger()
    assert until(lambda: window.session.last_run is not None and window.session.last_run.end > 100, 60)
    settle()
    QTest.mouseClick(best.start_button, Qt.MouseButton.LeftButton)
    assert until(lambda: best.best is not None and not best.work.working, 60), best.state.text()
    settle()
    assert best.words.text() == best.best.words and best.best.fuel_bound < 0.95 * best.best.fuel_own
    curves = [item for item in best.power.frame.items if hasattr(item, "xData")]
    assert np.max(curves[1].yData) == pytest.approx(np.max(best.best.power) / 1e3)
    image = best.charge.grab().toImage()
    assert len({image.pixelColor(x, y).name() for x in range(60, 900, 2) for y in range(20, 180, 2)}) > 8
    path = tmp_path / "best.csv"
    monkeypatch.setattr(split_window, "asked_path", lambda *_: str(path))
    QTest.mouseClick(best.save_button, Qt.MouseButton.LeftButton)
    rows = list(csv.reader(path.read_text(encoding="utf-8").splitlines()))
    assert len(rows) == 196 and float(rows[-1][2]) == pytest.approx(100 * best.best.charge[-1])
    window.page("Runs").strips.set_cursors(50.0, 90.0)
    best.step.setText("0.5 s")
    QTest.mouseClick(best.span_button, Qt.MouseButton.LeftButton)
    assert until(lambda: best.best is not None and len(best.best.times) == 81 and not best.work.working, 60)
    assert best.best.times[[0, -1]] == pytest.approx([50, 90]) and "50 s to 90 s" in best.title.text()
    best.step.setText("5 kg")
    QTest.keyClick(best.step, Qt.Key.Key_Return)
    assert until(lambda: not best.work.working, 60)
    assert "“5 kg” is in kg, but s is needed" in best.state.text() and best.best is None

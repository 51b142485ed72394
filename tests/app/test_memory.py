"""What a window holds does not grow with the runs it has made, nor with the drives it has opened."""

import gc
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.app.session.run_shelf import HIDDEN_BYTES
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES
from pendel.core.freed import give_back_large_arrays, give_back_now

from .conftest import finish, settle

RUNS = 14
"""Each holds some 20 MB of what is computed for it."""


@pytest.fixture(autouse=True)
def as_in_the_window():
    give_back_large_arrays()


def resident() -> float:
    """MB of this process: proc_pid_status(5)."""
    gc.collect()
    give_back_now()
    (line,) = [li for li in Path("/proc/self/status").read_text().splitlines() if li.startswith("VmRSS")]
    return int(line.split()[1]) / 1024


def run(window, text):
    window.session.do(commands.set_value(window.session.drive, "speed_pi", "K_p", text))
    QTest.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    finish(window)


def test_runs_that_no_view_shows_hold_next_to_nothing_and_show_again_as_they_were(window):
    QTest.keyClick(window, Qt.Key.Key_2, Qt.KeyboardModifier.AltModifier)
    assert window.page_now == "Runs"
    for text in ("20", "21", "22"):
        run(window, text)
    first = window.session.runs[0]
    before, traced = resident(), first.trace("door_motor.current").y.copy()
    rows, ticks = first.rows.copy(), first.ticks.copy()
    for _ in range(RUNS - 3):
        run(window, "20")
    assert len(window.session.runs) == RUNS
    hidden = [each for each in window.session.runs if not each.shown]
    assert hidden and sum(each.held_bytes for each in hidden) <= HIDDEN_BYTES
    assert not first.shown and first.held_bytes == 0 and first.end == pytest.approx(1.2)
    assert resident() < before + 100
    assert np.array_equal(first.rows, rows) and np.array_equal(first.ticks, ticks)
    assert np.array_equal(first.trace("door_motor.current").y, traced)


def test_another_drive_leaves_nothing_of_the_runs_of_the_one_before(window):
    QTest.keyClick(window, Qt.Key.Key_2, Qt.KeyboardModifier.AltModifier)
    window.files.open_path(EXAMPLES / "cabin_fan.pendel")
    settle()
    start = resident()
    window.files.open_path(EXAMPLES / "car_door_drive.pendel")
    settle()
    page = window.page("Runs")
    for panel in (page.rotor, page.sectors, page.torque, page.spectrum):
        panel.setVisible(True)
    for _ in range(5):
        run(window, "20")
    window.files.open_path(EXAMPLES / "cabin_fan.pendel")
    settle()
    assert resident() < start + 40

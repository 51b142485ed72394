"""What torque heat allows, in the real window: worked out, drawn, saved, and shown beside runs."""

import csv

import numpy as np
from PyQt6.QtTest import QTest

from pendel.app.window import held_window
from pendel.app.window.held_window import HeldWindow
from pendel.core.drive import commands
from tests.app.conftest import finish, settle, until
from tests.app.test_heat_window import LEFT, cool


def test_a_user_sees_which_torque_is_held_and_what_limits_it(window, tmp_path, monkeypatch):
    cool(window)
    window.session.do(commands.set_setting(window.session.drive, "until", "0.15 s"))
    window.actions_by_name["held"].trigger()
    settle()
    held = window.findChild(HeldWindow)
    choice = held.choice
    assert choice.machine.currentText() == "Door motor" and not held.plot.isVisible()
    choice.torque.setCurrentIndex(choice.torque.findData("speed_pi.out"))
    QTest.mouseClick(held.start_button, LEFT)
    assert held.state.text() == "Largest torque is empty. Fill it in."
    entered = {"top": "20 A", "top_speed": "300 rad/s", "speeds": "2", "times": "for ever, soon"}
    for name, text in entered.items():
        choice.fields[name].setText(text)
    QTest.mouseClick(held.start_button, LEFT)
    assert until(lambda: not held.work.working, 60) and "soon" in held.state.text()
    choice.fields["times"].setText("for ever, 20 s")
    QTest.mouseClick(held.start_button, LEFT)
    assert held.start_button.text() == "Stop"
    assert until(lambda: not held.work.working, 120) and held.held is not None, held.state.text()
    settle()
    assert held.table.rowCount() == 2 and held.table.item(0, 3).text() == "Copper"
    for_ever, short = held.held.curves
    assert np.all(for_ever.torque < short.torque) and "short runs" in held.state.text()
    monkeypatch.setattr(held_window, "asked_path", lambda *_: str(tmp_path / "held.csv"))
    QTest.mouseClick(held.save_button, LEFT)
    with (tmp_path / "held.csv").open() as file:
        rows = list(csv.reader(file))
    assert rows[0][2] == "for ever (N·m)" and float(rows[1][2]) == float(f"{for_ever.torque[0]:.6g}")
    window.run_or_stop()
    finish(window)
    runs = window.page("Runs")
    before = runs.torque.plot
    QTest.mouseClick(runs.torque_button, LEFT)
    settle()
    drawn = [curve.getData() for curve in before.vb.addedItems if hasattr(curve, "getData")]
    assert any(np.array_equal(y, for_ever.torque) for _, y in drawn if y is not None)
    window.session.take_held(None)
    settle()
    drawn = [curve.getData() for curve in before.vb.addedItems if hasattr(curve, "getData")]
    assert not any(np.array_equal(y, for_ever.torque) for _, y in drawn if y is not None)

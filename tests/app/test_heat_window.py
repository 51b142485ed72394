"""Heat over a duty in the real window: a duty is made, kept with the drive, worked out, and saved."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.app.window import heat_window
from pendel.app.window.heat_window import HeatWindow
from pendel.core.drive.duties import DutyPlan
from pendel.core.drive.file import from_text, to_text
from tests.app.conftest import settle, until

LEFT = Qt.MouseButton.LeftButton


def opened(window) -> HeatWindow:
    window.actions_by_name["heat"].trigger()
    settle()
    return window.findChild(HeatWindow)


def cool(window) -> None:
    """A motor with one body, in the drive of the test."""
    from pendel.api import Drive

    d = Drive(document=window.session.drive.copy())
    d.add("heat_capacity", "Copper", C="12 J/K", T_0="30 °C", T_max="60 °C")
    d.add("heat_resistance", "Way", R="4 K/W")
    d.add("ambient", "Air", T="30 °C")
    for a, b in (("door_motor.heat", "copper.a"), ("copper.b", "way.a"), ("way.b", "air.a")):
        d.connect(a, b)
    from pendel.core.drive import commands

    window.session.do(commands.as_in(window.session.drive, d.document, "Bodies"))
    settle()


def test_a_user_makes_a_duty_sees_how_warm_it_gets_and_keeps_it(window, tmp_path, monkeypatch):
    cool(window)
    heat = opened(window)
    assert not heat.start_button.isEnabled() and "A duty is a table" in heat.words.text()
    heat.target.setEditText("door_motor.R_a is none")
    heat.add_target()
    assert "nothing that can be set" in heat.state.text() and heat.name.currentText() == "Duty 1"
    heat.target.setEditText("m_leaf")
    heat.add_target()
    for place, text in (((0, 0), "1 min"), ((0, 1), "120 kg"), ((1, 0), "2 min"), ((1, 1), "60 kg")):
        heat.stretches.item(*place).setText(text)
    duty = window.session.drive.duties["Duty 1"]
    assert duty == DutyPlan(("m_leaf",), (("1 min", "120 kg"), ("2 min", "60 kg")))
    assert from_text(to_text(window.session.drive)).duties == {"Duty 1": duty}
    QTest.mouseClick(heat.start_button, LEFT)
    assert heat.start_button.text() == "Stop"
    assert until(lambda: not heat.working, 120) and heat.result_ is not None, heat.state.text()
    settle()
    assert heat.table.rowCount() == 1 and heat.table.item(0, 0).text() == "Copper"
    warmest = float(heat.table.item(0, 1).text())
    y = heat.result_.temperatures["copper.temperature"]
    assert 30 < warmest < 200 and abs(y[0] - y[-1]) < 0.01 and "short runs" in heat.state.text()
    monkeypatch.setattr(heat_window, "asked_path", lambda *_: str(tmp_path / "curves.csv"))
    QTest.mouseClick(heat.save_button, LEFT)
    table = np.genfromtxt(tmp_path / "curves.csv", delimiter=",", skip_header=1)
    assert table[-1, 0] == 180.0 and "Saved curves.csv" in heat.state.text()
    heat.stretches.setCurrentCell(1, 0)
    heat.remove_stretch()
    assert len(window.session.drive.duties["Duty 1"].rows) == 1
    window.editing.undo()
    settle()
    assert window.session.drive.duties["Duty 1"] == duty and heat.stretches.rowCount() == 2


def test_what_cannot_be_worked_out_is_said_and_a_long_one_is_stopped(window):
    cool(window)
    heat = opened(window)
    heat.new()
    heat.target.setEditText("m_leaf")
    heat.add_target()
    heat.stretches.item(0, 0).setText("soon")
    QTest.mouseClick(heat.start_button, LEFT)
    assert "Stretch 1" in heat.state.text() and not heat.working
    heat.stretches.item(0, 0).setText("1 min")
    QTest.mouseClick(heat.start_button, LEFT)
    QTest.mouseClick(heat.start_button, LEFT)
    assert until(lambda: not heat.working, 60) and heat.state.text() == "Stopped."
    heat.delete()
    assert not window.session.drive.duties and heat.stretches.rowCount() == 0


def test_a_duty_follows_names_and_what_is_gone_is_a_finding(window):
    from pendel.core.drive import commands
    from pendel.core.drive.duty_edits import set_duty

    session = window.session
    session.do(set_duty(session.drive, "Day", DutyPlan(("door_motor.R_a", "m_leaf"), (("1 s", "2*R_x", "m_leaf"),))))
    session.do(commands.rename_quantity(session.drive, "m_leaf", "m_wing"))
    session.do(commands.rename_card(session.drive, "door_motor", "Wing motor"))
    assert session.drive.duties["Day"] == DutyPlan(("wing_motor.R_a", "m_wing"), (("1 s", "2*R_x", "m_wing"),))
    session.do(commands.remove_cards(session.drive, ["wing_motor"]))
    assert until(lambda: any("Duty Day" in str(f) for f in session.examined.findings), 20)

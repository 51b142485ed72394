"""Heat over a duty in the real window: a duty is made, kept with the drive, worked out, and saved."""

from dataclasses import replace

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
    from pendel.interface.api import Drive

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
    QTest.mouseClick(heat.changes, LEFT)
    QTest.mouseClick(heat.highest_button, LEFT)
    assert window.session.drive.duties["Duty 1"] == replace(duty, changes=False)
    assert until(lambda: not heat.working, 240) and heat.result_.scaled == "m_leaf", heat.state.text()
    assert f"m_leaf may be {heat.result_.factor:g} times as large" in heat.state.text()
    assert not from_text(to_text(window.session.drive)).duties["Duty 1"].changes
    QTest.mouseClick(heat.changes, LEFT)
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


def test_life_follows_from_the_swings_and_the_sheet(window):
    """A swing of 80 K about 100 °C once in 10 min, and 1e5 of those: 1e6 min; by hand for what else a sheet says."""
    from pendel.core.heat.duty import Duty, Stretch
    from pendel.core.heat.over import HeatOver

    heat = opened(window)
    t = np.linspace(0, 600, 601)
    y = {"a.heat": 100 + 40 * np.sin(2 * np.pi * t / 600), "b.heat": np.full(601, 70.0)}
    duty = Duty(("m_leaf",), (Stretch(600.0, ("60 kg",)),))
    heat._show(HeatOver(duty, t, y, {"a.heat": "A", "b.heat": "B"}, {}, y, True, (), 1))
    life = heat.life
    assert life.place.currentText() == "A" and life.words.text().startswith("1.9 years of this duty: 1 swing")
    life.fields["size"].setText("40 K")
    assert life.words.text().startswith(f"{1.901 / 2**5:.3g} years")
    life.fields["activation"].setText("0.1")
    life.fields["mean"].setText("373.15 K")
    assert life.words.text().startswith(f"{1.901 / 2**5:.3g} years")
    life.fields["mean"].setText("60 °C")
    warm = np.exp(0.1 / 8.617333e-5 * (1 / 373.15 - 1 / 333.15))
    assert life.words.text().startswith(f"{1.901 / 2**5 * warm:.3g}")
    life.fields["cycles"].setText("0")
    assert "needs cycles, a swing and an exponent above 0" in life.words.text()
    life.fields["cycles"].setText("5 V")
    assert "is in V" in life.words.text()
    life.fields["cycles"].setText("1e5")
    life.place.setCurrentIndex(life.place.findText("B"))
    assert "does not swing" in life.words.text()

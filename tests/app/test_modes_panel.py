"""Modes of a state machine under the strips of a run, in the real window."""

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

import pendel
from tests.app.conftest import settle, until

LEFT = Qt.MouseButton.LeftButton


def test_a_user_sees_which_mode_held_when_why_and_what_it_took(window, tmp_path):
    file = tmp_path / "trips.pendel"
    pendel.open_example("day_of_trips").save(file)
    window.files.open_path(file)
    window.show_page("Runs")
    window.actions_by_name["run"].trigger()
    assert until(lambda: bool(window.session.runs), 60)
    settle()
    page = window.page("Runs")
    shown = [spec.signals for spec in page.strips.specs]
    assert shown[0] == ["speed.value", "plan.out"] and "engine.power" in shown[1] and "battery.power" in shown[1]
    assert ["battery.charge"] in shown and ["engine.fuel"] in shown and ["converter_body.temperature"] in shown
    QTest.mouseClick(page.modes_button, LEFT)
    assert until(lambda: page.modes.modes is not None and page.modes.table.rowCount() == 4, 10)
    settle()
    run, bar, table = page.modes.run, page.modes.bar, page.modes.table
    left, right, begin, end = bar.place()
    view = page.strips.plots[0].vb
    edge = page.strips.mapToGlobal(page.strips.mapFromScene(view.sceneBoundingRect()).boundingRect().topLeft())
    assert abs(bar.mapToGlobal(QPoint(round(left), 0)).x() - edge.x()) <= 1 and right - left > 400
    changes = [(t, name, why) for t, name, why in pendel.interface.api.Run(run).modes("strategy")]
    time, name, why = changes[2]
    x = left + (time + 1 - begin) / (end - begin) * (right - left)
    assert bar.words_at(x).startswith(f"{name} from {time:.4g} s on") and bar.words_at(x).endswith(f"by {why}")
    picture = bar.grab().toImage()
    first, other = (
        picture.pixelColor(round(left + (t - begin) / (end - begin) * (right - left)), 5) for t in (10, time + 1)
    )
    assert first != other and bar.words_at(left - 5) == ""
    whole = [table.item(n, 1).text() for n in range(4)]
    page.strips.times = [changes[2][0], changes[2][0] + 2.0]
    page.measure()
    assert [table.item(n, 1).text() for n in range(4)] != whole and table.item(2, 1).text() == "2 s"
    assert table.item(2, 2).text() == "100 %" and table.item(2, 3).text() == "once"
    page.modes.power.setCurrentIndex(page.modes.power.findData("engine.fuel_power"))
    page.modes.power.activated.emit(page.modes.power.currentIndex())
    assert table.item(2, 4).text().endswith("J") and table.item(0, 4).text() == "0 J"
    table.selectRow(2)
    QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QApplication.clipboard().text().startswith("both\t2 s\t100 %\tonce\t")
    view.setXRange(time, time + 1, padding=0)
    settle()
    assert name in bar.words_at((left + right) / 2)
    QTest.mouseClick(page.modes_button, LEFT)
    assert not page.modes.isVisible()


def test_a_run_without_a_state_machine_says_so(window):
    window.show_page("Runs")
    window.actions_by_name["run"].trigger()
    assert until(lambda: bool(window.session.runs), 60)
    page = window.page("Runs")
    page.panels.toggle("modes")
    settle()
    assert "No state machine" in page.modes.title.text() and not page.modes.table.isVisible()

"""The energy flow picture in the real window: of the latest run, whole and between the cursors."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from pendel.app.window.flow_window import FlowWindow
from pendel.core.quantities.units import figure
from tests.app.conftest import settle, until


def test_the_flow_of_a_run_is_shown_from_supply_to_load(window):
    window.actions_by_name["flows"].trigger()
    flow = window.findChild(FlowWindow)
    assert "no run yet" in flow.words.text() and flow.flows is None
    window.actions_by_name["run"].trigger()
    assert until(lambda: window.session.last_run is not None, 60)
    settle()
    window.actions_by_name["flows"].trigger()
    assert until(lambda: flow.flows is not None and not flow.working, 60), flow.words.text()
    settle()
    groups = flow.tree.groups()
    assert [group.text(0) for group in groups[:3]] == ["Supply", "Bridge", "Door motor"]
    assert "J" in groups[2].text(1) and not groups[2].text(8)
    lines = {groups[2].child(n).text(0): groups[2].child(n) for n in range(groups[2].childCount())}
    current = window.session.last_run.trace("door_motor.current").drawn[1]
    assert lines["current"].text(10) == figure(float(current.max()), "A", 4)
    groups[2].setExpanded(True)
    flow.tree.setCurrentItem(lines["current"])
    QTest.keyClick(flow.tree, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QApplication.clipboard().text().startswith("current\t") and "\t" + lines["current"].text(9) in (
        QApplication.clipboard().text()
    )
    image = flow.picture.grab().toImage()
    tints = {image.pixelColor(x, image.height() // 2).name() for x in range(0, image.width(), 3)}
    assert len(tints) >= 3  # bars, bands and paper
    page = window.pages["Runs"]
    begin, end = sorted(page.strips.times)
    QTest.mouseClick(flow.span_button, Qt.MouseButton.LeftButton)
    assert until(lambda: not flow.working and flow.flows.begin == pytest.approx(max(0, begin), abs=1e-9), 60)
    assert flow.tree.groups()[2].isExpanded(), "what was open stays so"
    assert flow.flows.end == pytest.approx(min(end, window.session.last_run.end), abs=1e-9)

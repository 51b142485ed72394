"""The energy flow picture in the real window: of the latest run, whole and between the cursors."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.app.window.flow_window import FlowWindow
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
    titles = [flow.table.item(r, 0).text() for r in range(flow.table.rowCount())]
    assert titles[:3] == ["Supply", "Bridge", "Door motor"]
    image = flow.picture.grab().toImage()
    tints = {image.pixelColor(x, image.height() // 2).name() for x in range(0, image.width(), 3)}
    assert len(tints) >= 3  # bars, bands and paper
    page = window.pages["Runs"]
    begin, end = sorted(page.strips.times)
    QTest.mouseClick(flow.span_button, Qt.MouseButton.LeftButton)
    assert until(lambda: not flow.working and flow.flows.begin == pytest.approx(max(0, begin), abs=1e-9), 60)
    assert flow.flows.end == pytest.approx(min(end, window.session.last_run.end), abs=1e-9)

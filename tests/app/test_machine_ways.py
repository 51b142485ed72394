"""Ways through the drives with three-phase machines in the real window: what a saturated machine does to its current loop, what
sensors that differ do to the torque, how a rope is calmed, what an estimator believes."""

import numpy as np
import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton

from .test_power_ways import captions, choose, opened, run, runs_page
from .test_window import LEFT, card_point, click_card, on_sheet, type_into


def press(parent, words):
    QTest.qWait(80)
    (found,) = (b for b in parent.findChildren(QAbstractButton) if b.text() == words and b.isVisible())
    QTest.mouseClick(found, LEFT)
    QTest.qWait(50)


def enter(window, assembly):
    QTest.mouseDClick(window.drive_page.sheet.viewport(), LEFT, pos=on_sheet(window, card_point(window, assembly)))  # fmt: skip
    QTest.qWait(60)
    assert window.session.inside == assembly


def covered(strips):
    """Captions below whose lower edge some trace of their strip would go."""
    found = []
    for plot, traces in zip(strips.plots, strips.traces):
        (text,) = (c for c in plot.vb.childItems() if type(c).__name__ == "TextItem")
        low, high = plot.viewRange()[1]
        edge = high - (high - low) * text.boundingRect().bottom() / plot.vb.height()
        found += [text for t in traces if np.max(t.y) > edge]
    return found


def test_three_cures_for_a_saturated_machine_are_overlaid(window):
    """The step of the torque disturbs i_d; slower, by tables, then both: each a few clicks, all runs on the same strips."""
    session = opened(window, "haul_drive_tables")
    inspector, swings, made = window.drive_page.inspector, [], []

    def again():
        made.append(run(window))
        t = np.linspace(0.0203, 0.03, 300)
        wish, actual = (made[-1].trace(k) for k in ("torque_to_currents.i_d", "haul_machine.i_d"))
        swings.append(np.ptp(np.interp(t, actual.t, actual.y) - np.interp(t, wish.t, wish.y)))
        window.show_page("Drive")

    again()
    click_card(window, "torque_demand")
    choose(window, "Kind", "ramp")
    type_into(inspector.fields["duration"], "4 ms")
    again()
    enter(window, "field_orientation")
    click_card(window, "current_regulator")
    choose(window, "Kind", "dq_regulator_tables")
    assert any("no flux tables yet" in f.sentence for f in session.findings)
    press(inspector, "Tables")
    press(inspector, "Take those of Haul machine")
    assert not session.findings
    again()
    session.enter("")
    click_card(window, "torque_demand")
    choose(window, "Kind", "step")
    again()
    plain, slower, both, tables = swings
    assert tables < 0.95 * plain and slower < 0.6 * plain and both < 0.85 * min(slower, tables)
    assert "Torque demand: Step → Ramp" in made[1].differs and "flux tables changed" in made[2].differs
    page = runs_page(window)
    assert len(page.shown_runs()) == 4
    assert "current along q current along d (dotted)" in " ".join(captions(page)[2].split())
    assert not covered(page.strips), "no caption stands on a trace"
    low, high = page.strips.plots[0].viewRange()[0]
    assert low < 0 < 0.06 < high < 0.062, "a strip that joins keeps the time that was shown"
    page.strips.set_cursors(0.02, 7.0)
    assert page.strips.times == [0.02, pytest.approx(0.06)]

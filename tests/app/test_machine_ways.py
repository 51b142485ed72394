"""Ways through the drives with three-phase machines in the real window: what a saturated machine does to its current
loop, what sensors that differ do to the torque, how a rope is calmed, what an estimator believes."""

import numpy as np
import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton

from pendel.core.check import examine
from pendel.core.runs.found.spectra import spectrum

from .conftest import settle
from .test_power_drives import wire
from .test_power_ways import captions, choose, opened, run, runs_page
from .test_window import LEFT, card_point, click_card, on_sheet, type_into


def press(parent, words):
    settle()
    (found,) = (b for b in parent.findChildren(QAbstractButton) if b.text() == words and b.isVisible())
    QTest.mouseClick(found, LEFT)
    settle()


def enter(window, assembly):
    QTest.mouseDClick(window.drive_page.sheet.viewport(), LEFT, pos=on_sheet(window, card_point(window, assembly)))
    settle()
    assert window.session.inside == assembly


def covered(strips):
    """Captions below whose lower edge some trace of their strip would go."""
    found = []
    for plot, traces in zip(strips.plots, strips.traces):
        (text,) = (c for c in plot.vb.childItems() if type(c).__name__ == "TextItem")
        low, high = plot.vb.viewRange()[1]
        edge = high - (high - low) * text.boundingRect().bottom() / plot.vb.height()
        found += [text for t in traces if np.max(t.y) > edge]
    return found


def test_three_cures_for_a_saturated_machine_are_overlaid(window):
    """The step of the torque disturbs i_d; slower, by tables, then both: each a few clicks, all runs on the same
    strips."""
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
    assert "Torque demand: Ramp" in made[1].differs and "flux tables changed" in made[2].differs
    page = runs_page(window)
    assert {r.name for r in made} <= {r.name for r, _ in page.shown_runs()}
    assert "current along q current along d (dotted)" in " ".join(captions(page)[2].split())
    assert not covered(page.strips), "no caption stands on a trace"
    settle()
    heads = [page.grid.itemAtPosition(0, c).widget().text() for c in (1, 2, 3)]
    assert set(heads) == {r.name for r in made[1:]} and made[-1].name in page.span.text(), "the newest three"
    low, high = page.strips.plots[0].vb.viewRange()[0]
    assert low < 0 < 0.06 < high < 0.062, "a strip that joins keeps the time that was shown"
    page.strips.set_cursors(0.02, 7.0)
    assert page.strips.times == [0.02, pytest.approx(0.06)]


def cut(window, a, b):
    (key,) = (k for k, w in window.session.drive.wires.items() if (str(w.a), str(w.b)) == (a, b))
    window.session.select([], key)
    window.actions_by_name["delete"].trigger()


def mean(run, key, start, end):
    trace, t = run.trace(key), np.linspace(start, end, 2000)
    return float(np.mean(np.interp(t, trace.t, trace.y)))


def test_the_old_haul_drive_without_its_shaft_sensor(window):
    """The estimate in its place, without a delay of one's own in between, as the voltages it reads act later only. Then
    so slow that they tell nothing."""
    session = opened(window, "old_haul_drive")
    inspector = window.drive_page.inspector
    for reader in ("speed_regulator.actual", "flux_model.speed"):
        cut(window, "tachometer.value", reader)
        wire(window, "speed_estimate.speed", reader)
    alone = run(window)
    assert not session.findings
    t = np.linspace(1.3, 1.55, 1000)
    guess, true = (
        np.interp(t, alone.trace(k).t, alone.trace(k).y) for k in ("speed_estimate.speed", "old_machine.speed")
    )
    assert np.max(np.abs(guess - true)) < 1.0
    window.show_page("Drive")
    click_card(window, "speed_demand")
    type_into(inspector.fields["after"], "20 rpm")
    run(window)
    assert any(f.card == "speed_estimate" and "lost the machine" in f.sentence for f in session.findings)


def test_a_brake_run_feeds_the_grid(window):
    """The front end's drive shows by itself what tells: link voltage and the grid's power, which turns round while the
    rope pulls. What comes back is what the rope gives less all losses on the way."""
    session = opened(window, "old_haul_feedback")
    found = run(window)
    page = runs_page(window)
    assert [t.split() for t in captions(page)[-2:]] == [["link", "voltage", "V"], ["Grid:", "power", "W"]]
    grid, torque, speed = (mean(found, k, 1.4, 1.58) for k in ("grid.power", "rope_pull.load", "old_machine.speed"))
    lost = sum(mean(found, k, 1.4, 1.58) for k in found.keys if k.endswith(".loss"))
    first, last = (
        np.interp(x, found.trace("old_machine.speed").t, found.trace("old_machine.speed").y) for x in (1.4, 1.58)
    )
    slowed = 0.5 * examine(session.drive).quantities["J_all"] * (last**2 - first**2) / 0.18
    assert grid < -4e3
    assert grid == pytest.approx(torque * speed + lost + slowed, abs=60)
    assert mean(found, "inverter.link_voltage", 1.4, 1.58) == pytest.approx(650, abs=1)


def test_the_rope_is_calmed_at_low_and_at_high_speed(window):
    """The torque step rings in the rope; sensors that differ ripple the torque at twice the electrical frequency
    (common practice, no source), and where that meets the rope's own frequency, at w_rope/(2p), it swings up. The
    damping loop, one quantity on the spine, calms both; the spectrum at high speed tells the order."""
    session = opened(window, "haul_drive_rope")
    session.select([])
    settle()
    type_into(window.drive_page.inspector.fields["until"], "6 s")
    runs = [run(window)]
    window.show_page("Drive")
    type_into(window.drive_page.spine.fields["damping"], "1")
    runs.append(run(window))
    assert runs[1].differs == "damping 1"
    meets = examine(session.drive).quantities["w_rope"] / (2 * 4)

    def swing(found, start, end):
        """Of the rope's force about its slow course, N peak to peak."""
        trace, t = found.trace("rope.force"), np.linspace(start, end, 3000)
        y = np.interp(t, trace.t, trace.y)
        return float(np.ptp(y - np.polyval(np.polyfit(t, y, 3), t)))

    speeds = [found.trace("haul_machine.speed") for found in runs]
    crossing = [float(s.t[np.argmax(s.y > meets)]) for s in speeds]
    assert 1.0 < crossing[0] < 2.5
    ringing, met = (
        [swing(found, *span) for found, span in zip(runs, spans)]
        for spans in ([(0.5, 1.0)] * 2, [(at - 0.15, at + 0.25) for at in crossing])
    )
    assert ringing[1] < 0.3 * ringing[0] and met[1] < 0.4 * met[0]
    page = runs_page(window)
    page.strips.set_cursors(5.0, 6.0)
    press(page, "Spectrum")
    panel = page.spectrum
    panel.signal.setCurrentIndex(panel.signal.findData("haul_machine.torque"))
    f = 4 * mean(runs[0], "haul_machine.speed", 5, 6) / (2 * np.pi)
    type_into(panel.fundamental, f"{f:.3f} Hz")
    found = runs[0].trace("haul_machine.torque")
    lines = spectrum(found.t, found.y, 5.0, 6.0, fundamental=f)
    assert lines.line(2 * f) > 3 * max(lines.line(f), lines.line(3 * f))

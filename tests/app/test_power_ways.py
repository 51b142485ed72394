"""Ways through the power stage and the three-phase drives in the real window, from an example to what is to be seen on
it."""

import numpy as np
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox

from pendel.app.drive.editors.profile_editor import ProfileEditor
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES

from .conftest import finish, settle
from .test_power_drives import add, wire
from .test_window import LEFT, click_card, type_into

CTRL = Qt.KeyboardModifier.ControlModifier


def opened(window, name):
    window.session.undo.setClean()
    window.files.open_path(EXAMPLES / f"{name}.pendel")
    settle()
    return window.session


def run(window):
    QTest.keyClick(window, Qt.Key.Key_R, CTRL)
    finish(window, 60)
    assert window.session.last_run is not None and not window.session.last_run.message
    return window.session.last_run


def runs_page(window):
    window.show_page("Runs")
    settle()
    page = window.page("Runs")
    for n in range(page.kept.list.count()):
        page.kept.list.item(n).setCheckState(Qt.CheckState.Checked)
    settle()
    return page


def choose(window, accessible_name, option):
    box = next(b for b in window.drive_page.inspector.findChildren(QComboBox) if b.accessibleName() == accessible_name)
    box.setCurrentIndex(box.findData(option))
    box.activated.emit(box.currentIndex())
    settle()


def captions(page):
    """What is written on each strip, without its markup."""
    found = []
    for plot in page.strips.plots:
        (text,) = (c for c in plot.vb.childItems() if isinstance(c, pg.TextItem))
        found.append(text.textItem.toPlainText().replace("\xa0", " "))
    return found


def test_three_loads_of_the_wayside_supply_stand_side_by_side(window):
    """A quantity typed three times on the spine, a run each: the runs tell what differs, the choke runs empty at the
    light load only (Erickson and Maksimović, Fundamentals of Power Electronics, 2nd ed., section 5.1: K = 2L/(R T)
    below D(1−D)²)."""
    session = opened(window, "wayside_supply")
    QTest.mouseClick(window.level.buttons["switching"], LEFT)
    window.session.do(commands.set_setting(session.drive, "until", "60 ms"))
    runs = []
    for load in ("45 ohm", "90 ohm", "4 kohm"):
        type_into(window.drive_page.spine.fields["R_load"], load)
        assert session.drive.quantities["R_load"].text == load
        runs.append(run(window))
    assert [r.differs for r in runs[1:]] == ["R_load 90 ohm", "R_load 4 kohm"]
    page = runs_page(window)
    assert {r.name for r in runs} <= {r.name for r, _ in page.shown_runs()}
    lowest = []
    for each in runs:
        trace = each.trace("step_up.choke_current")
        late = trace.y[trace.t > 0.055]
        lowest.append(float(np.min(late)) / float(np.max(late)))
    assert lowest[0] > 0.2 and lowest[1] > 0.05 and abs(lowest[2]) < 1e-5
    page.strips.look_at(0.058, 60e-6)
    settle()
    low, high = page.strips.plots[0].vb.viewRange()[0]
    assert high - low < 130e-6


def test_an_analogue_controller_is_compared_with_the_sampled_one(window):
    """Ideal, then limited: the taps of both outputs share a strip; both follow −(R_2/R_1 + t/(R_1·C))·e, and the
    sampled one stands as stairs of a tick."""
    session = opened(window, "analogue_controller")
    for model in ("ideal", "limited"):
        session.do(commands.set_choice(session.drive, "amplifier", "model", model))
        found = run(window)
        t = np.linspace(1e-3, 4.9e-3, 50)
        ramp = -(3.3 + (t - 0.5e-3) / (10e3 * 22e-9)) * 0.4
        analogue = found.trace("amplifier.output")
        assert np.max(np.abs(np.interp(t, analogue.t, analogue.y) - ramp)) < (1e-6 if model == "ideal" else 0.02)
        sampled = found.trace("sampled_pi.out")
        held = sampled.y[np.searchsorted(sampled.t, t + 1e-12, side="right") - 1]
        assert np.max(np.abs(held - ramp)) < 0.4 * 20e-6 / (10e3 * 22e-9) * 2.1
    page = runs_page(window)
    assert ["amplifier.output", "sampled_pi.out"] in [s.signals for s in page.strips.specs]
    titles = captions(page)
    assert len(set(titles)) == len(titles), "two strips of one name say whose they are"


def test_modulations_at_the_limit_and_a_phase_that_is_open(window):
    """The inverter's demand at 1.1 of the linear limit of sine modulation: the schemes by the inspector, then one line
    of the load left open. Linear up to U/2 with sine, U/√3 with space vector (Holmes and Lipo, Pulse Width Modulation,
    ch. 5)."""
    session = opened(window, "haul_inverter")
    session.do(commands.set_value(session.drive, "inverter", "t_dead", "0"))
    type_into(window.drive_page.spine.fields["U_ph"], "0.55*U_dc")
    amplitudes = {}
    for scheme in ("space vector", "sine"):
        window.show_page("Drive")
        click_card(window, "modulator")
        choose(window, "Scheme", scheme)
        found = run(window)
        line = found.trace("inverter.line_voltage")
        whole = line.t >= 0.02
        t, y = line.t[whole], line.y[whole]
        wave = np.exp(-2j * np.pi * 50 * t) * y
        amplitudes[scheme] = abs(np.trapezoid(wave, t)) * 2 / (t[-1] - t[0]) / np.sqrt(3)
    assert abs(amplitudes["space vector"] / (0.55 * 560) - 1) < 0.01
    # A sine cut off at 1 (from memory, any textbook's describing function of saturation): 2/π (m asin 1/m + √(1 −
    # 1/m²)).
    cut = 2 / np.pi * (1.1 * np.arcsin(1 / 1.1) + np.sqrt(1 - 1 / 1.1**2)) / 1.1
    assert amplitudes["sine"] / amplitudes["space vector"] == pytest.approx(cut, abs=0.005)
    # The three-phase wire is taken apart into lines and put together again without phase a.
    window.show_page("Drive")
    (key,) = (k for k, w in session.drive.wires.items() if str(w.b) == "test_load.in")
    session.select([], key)
    window.actions_by_name["delete"].trigger()
    apart, together = add(window, "phase opener"), add(window, "phase opener")
    for a, b in (
        ("inverter.out", f"{apart}.phases"),
        (f"{together}.phases", "test_load.in"),
        (f"{apart}.b", f"{together}.b"),
        (f"{apart}.c", f"{together}.c"),
    ):
        wire(window, a, b)
    faulty = run(window)
    late = np.linspace(0.03, 0.059, 400)
    a, b, c = (np.interp(late, faulty.trace(k).t, faulty.trace(k).y) for k in (f"test_load.current_{n}" for n in "abc"))
    assert np.max(np.abs(a)) < 1e-4 < 20 < np.max(np.abs(b))
    np.testing.assert_allclose(b, -c, atol=1e-3)
    while session.undo.canUndo():
        window.editing.undo()
    assert set(session.drive.cards) == {"link", "inverter", "test_load", "modulator", "demand"}


def test_a_look_at_a_short_span_shows_no_rounding_and_marks_stand_clear(window):
    """At a look the strips go no finer than a millionth of their traces; orders above the spectrum's lines do not
    overlap."""
    run(window)
    page = runs_page(window)
    page.strips.look_at(0.4, 1e-3)
    settle()
    for plot, traces in zip(page.strips.plots, page.strips.traces):
        low, high = plot.vb.viewRange()[1]
        peak = max(float(np.nanmax(np.abs(t.y))) for t in traces)
        assert high - low >= 0.99e-6 * peak
    page.strips.set_cursors(0.1, 0.9)
    QTest.mouseClick(page.spectrum_button, LEFT)
    page.spectrum.signal.setCurrentIndex(page.spectrum.signal.findData("door_motor.current"))
    type_into(page.spectrum.fundamental, "2.5 Hz")
    settle()
    tags = [
        i for i in page.spectrum.plot.frame.items if isinstance(i, pg.TextItem) and i is not page.spectrum.plot.caption
    ]
    boxes = [tag.mapRectToScene(tag.boundingRect()) for tag in tags]
    assert len(boxes) >= 3
    for n, box in enumerate(boxes):
        narrow = box.adjusted(2, 2, -2, -2)  # a text's box is wider than its figures
        assert not any(narrow.intersects(other.adjusted(2, 2, -2, -2)) for other in boxes[n + 1 :])


def test_sectors_are_not_shown_for_a_drive_without_them(window):
    opened(window, "cabin_fan")
    window.session.do(commands.set_setting(window.session.drive, "until", "50 ms"))
    run(window)
    page = runs_page(window)
    QTest.mouseClick(page.sector_button, LEFT)
    settle()
    tall = page.sectors.height()
    assert page.sectors.parts.isVisible()
    opened(window, "haul_inverter")
    run(window)
    runs_page(window)
    assert not page.sectors.parts.isVisible() and "No Hall decoder" in page.sectors.title.text()
    assert page.sectors.height() < tall / 3


def test_a_measured_profile_is_shown_without_its_million_handles(window):
    """Twenty thousand corners: the curve is whole, the table shows the first, an edit and its undo keep all."""
    session = window.session
    key = next(k for k, c in session.drive.cards.items() if c.profile)
    corners = [(f"{n * 1e-4:.4f}", f"{10 + (n % 50) * 0.1:.1f}") for n in range(20_000)]
    session.do(commands.set_profile(session.drive, key, corners))
    click_card(window, key)
    (editor,) = window.drive_page.inspector.findChildren(ProfileEditor)
    assert (
        editor.table.rowCount() == 1000
        and editor.more.text() == "and 19 000 more corners, in the curve only".replace(" 000", "\u2009000")
    )
    assert editor.curve.limits() == pytest.approx((0.0, 14.9 * 1.15))
    picture = editor.curve.grab().toImage()
    petrol = sum(picture.pixelColor(x, picture.height() // 3).name() == "#0f6b6b" for x in range(picture.width()))
    assert petrol > picture.width() / 3, "a band of swings, not a line of dots"
    editor.table.item(3, 1).setText("77")
    settle()
    assert session.drive.cards[key].profile[3] == ("0.0003", "77") and len(session.drive.cards[key].profile) == 20_000
    window.editing.undo()
    assert session.drive.cards[key].profile == tuple(corners)
    session.undo.setClean()

"""Modes of the mechanics on the Loops page: looked at, marked, and blocks put against them."""

from pathlib import Path

import numpy as np
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest

import pendel
from pendel.app.session.page import Page
from pendel.core.drive import commands
from pendel.core.drive.file import to_text

from .conftest import finish, judged, settle, until
from .test_window import LEFT

ROPE = Path(pendel.__file__).parent / "examples" / "haul_drive_rope.pendel"


@pytest.fixture
def rope(window, tmp_path):
    path = tmp_path / "rope.pendel"
    path.write_bytes(ROPE.read_bytes())
    window.files.open_path(path)
    window.show_page("Loops")
    assert until(lambda: window.page("Loops").statuses and window.session.mechanics.modes)
    settle()
    return window


def marked(plot) -> list[float]:
    return [i.value() for i in plot.frame.items if isinstance(i, pg.InfiniteLine) and i.angle == 90]


def test_a_mode_is_seen_swings_and_is_damped_by_one_step(rope):
    page = rope.page("Loops")
    assert page.modes_button.text() == "1 mode, 8.44 Hz"
    assert any(abs(10**x - 8.44) < 0.01 for x in marked(page.plots.size_plot))
    QTest.mouseClick(page.modes_button, LEFT)
    view = page.modes
    assert view.isVisible() and view.table.item(0, 0).text() == "8.44" and view.table.item(0, 3).text() == "Rope 100 %"
    assert "8.858 kg·m² seen from Haul machine" in view.facts.text() and "1.838 Hz" in view.facts.text()
    pictures = [view.shape.grab().toImage()]
    QTest.qWait(400)
    pictures.append(view.shape.grab().toImage())
    assert pictures[0] != pictures[1], "the bars swing"
    QTest.mouseClick(view.swing, LEFT)
    still = view.shape.grab().toImage()
    QTest.qWait(120)
    assert view.shape.grab().toImage() == still
    before = to_text(rope.session.drive)
    view.damping.setText("two")
    QTest.mouseClick(view.loop, LEFT)
    assert view.damping.property("wrong") and to_text(rope.session.drive) == before
    view.damping.setText("0.25")
    QTest.mouseClick(view.loop, LEFT)
    assert until(lambda: view.done.text())
    assert "4.2 % → 25 %" in view.done.text() and "within 90°" in view.report.text()
    assert {"with_damping", "mean_speed", "swing", "damping_2"} <= set(rope.session.drive.cards)
    assert not rope.session.examined.faults
    assert until(lambda: not rope.session.judging)
    QTest.keyClick(rope, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert to_text(rope.session.drive) == before
    rope.show_page("Drive")
    assert not view.shape.swings, "nothing swings where nobody looks"


def test_what_a_block_is_put_behind_follows_its_name_and_ends_with_its_drive(rope, example_path):
    page, session = rope.page("Loops"), rope.session
    QTest.mouseClick(page.modes_button, LEFT)
    view, first = page.modes, next(key for key, card in session.drive.cards.items() if card.name == "Torque demand")
    view.behind.show_key(f"{first}.out")
    view.done.setText("Done.")
    session.do(commands.rename_card(session.drive, first, "Wish"))
    assert view.behind.key() == "wish.out"
    session.undo.undo()
    assert view.behind.key() == f"{first}.out"
    rope.files.open_path(example_path)
    assert not view.behind.key() and not view.done.text() and page.stack.currentIndex() == 0


def test_pointing_reads_all_plots_what_is_slack_does_not_swing_and_spectra_mark_modes(rope):
    page = rope.page("Loops")
    pointing_reads_all(page)
    QTest.mouseClick(page.modes_button, LEFT)
    view = page.modes
    view.at.setEditText("20 ms")
    view.at.typed()
    assert until(lambda: "Nothing swings" in view.facts.text()) and not view.loop.isEnabled()
    view.at.setEditText("2000 s")
    view.at.typed()
    assert until(lambda: "no instant 2000 s" in view.problem.text())
    view.at.show_key("")
    view.look()
    assert view.table.rowCount() == 1 and view.loop.isEnabled() and view.problem.text() == ""
    view.behind.setEditText("nonsense")
    QTest.mouseClick(view.notch, LEFT)
    assert until(lambda: "“nonsense” is no output of a block" in view.report.text())
    rope.session.do(pendel.core.drive.commands.set_setting(rope.session.drive, "until", "600 ms"))
    QTest.keyClick(rope, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    finish(rope)
    rope.show_page("Runs")
    runs = rope.page("Runs")
    QTest.mouseClick(runs.spectrum_button, LEFT)
    settle()
    panel = runs.spectrum
    assert [round(f, 2) for f, _ in panel.modes] == [8.44]
    assert np.any(np.isclose(np.array(marked(panel.plot)) * panel.unit, 8.4396, rtol=1e-3))


def test_loops_are_judged_where_the_drive_turns(window, tmp_path):
    path = tmp_path / "tables.pendel"
    path.write_bytes((ROPE.parent / "haul_drive_tables.pendel").read_bytes())
    window.files.open_path(path)
    window.session.do(pendel.core.drive.commands.set_setting(window.session.drive, "until", "300 ms"))
    window.show_page("Loops")
    page = window.page("Loops")
    assert until(lambda: page.statuses and not window.session.judging)
    page.show_loop("current_regulator.u_q")
    settle()
    assert page.now.margins.phase > 65 and "at rest" in page.facts.text()
    page.where.setFocus()
    QTest.keyClick(page.where, Qt.Key.Key_Down)
    page.where.activated.emit(page.where.currentIndex())
    assert until(lambda: "in steady rotation, 38 Hz" in page.facts.text())
    assert page.now.margins.phase < 45
    page.wishes.crossover_slider.setValue(page.wishes.crossover_slider.value() - 40)
    assert until(lambda: page.proposed is not None and page.proposed.margins.phase > 50)
    window.session.do(pendel.core.drive.commands.set_setting(window.session.drive, "until", "20 ms"))
    assert until(lambda: "turns twice" in page.problem.text())
    # Without the machine nothing turns: the choice stays, as undo brings the machine back.
    drive = window.session.drive
    machine = next(key for key, card in drive.cards.items() if card.kind == "pmsm_tables")
    window.session.do(pendel.core.drive.commands.remove_cards(drive, [machine]))
    assert until(lambda: not window.session.judging and page.problem.text())
    assert page.where.currentText() == "judged in steady rotation" and not page.now
    window.session.undo.undo()
    assert until(lambda: "turns twice" in page.problem.text())
    page.where.setCurrentIndex(0)
    page.where.activated.emit(0)
    assert until(lambda: page.statuses and "at rest" in page.facts.text())


def pointing_reads_all(page):
    """At a frequency, in every plot of a loop."""
    page.show_loop("current_regulator.u_q")
    settle()
    plots, best = page.plots, page.proposed
    view = plots.phase_plot.vb
    frequency = 200.0
    at = view.mapViewToScene(pg.Point(np.log10(frequency), -100.0))
    QTest.mouseMove(plots.phase_plot.viewport(), plots.phase_plot.mapFromScene(at))
    assert until(lambda: "Hz" in plots.size_plot.reading.words)
    L = complex(
        np.interp(frequency, best.frequency, best.response.real),
        np.interp(frequency, best.frequency, best.response.imag),
    )
    texts = [p.reading.words for p in (*plots.over_frequency, plots.circle_plot)]
    size = float(texts[0].split("   ")[1].split()[0].replace("−", "-"))
    assert size == pytest.approx(20 * np.log10(abs(L)), abs=0.4) and texts[1].endswith(("°", "degrees"))
    s = abs(1 / (1 + L))
    assert f"S {20 * np.log10(s):.1f}".replace("-", "−")[:5] in texts[2] and " j" in texts[3]
    spot = plots.circle_plot.reading.spot.getData()
    assert complex(spot[0][0], spot[1][0]) == pytest.approx(L, rel=0.03)
    QTest.mouseMove(plots.phase_plot.viewport(), plots.phase_plot.viewport().rect().topLeft() + QPoint(3, 3))
    assert until(lambda: not any(p.reading.words for p in (*plots.over_frequency, plots.circle_plot)))


def test_no_line_runs_through_the_name_of_a_mode_on_a_page_that_is_shown_for_the_first_time(window):
    """The name is placed by the size of its plot, so the plots have theirs before anything is drawn."""
    judged(window)
    assert not isinstance(window.pages["Loops"], Page)  # it is not built yet
    page = window.page("Loops")
    page.current = next(each.loop.key for each in window.session.judged if each.loop.label == "Speed")
    window.show_page("Loops")
    judged(window)
    plot = page.plots.size_plot
    (name,) = (item for item in plot.scene().items() if isinstance(item, pg.InfLineLabel) and "mode" in item.format)
    best = page.proposed or page.now
    crossing = plot.vb.mapViewToScene(QPointF(np.log10(best.margins.crossover), 0.0)).x()
    written = name.textItem.sceneBoundingRect()
    assert written.width() > 40 and not written.left() <= crossing <= written.right()

"""The page Series: from nothing to rows, figures and values taken into the drive."""

import os
import signal
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QFileDialog, QPushButton

from pendel.app.series.views import MATRIX, PARALLEL, TRACES
from pendel.app.widgets.basic import Field
from pendel.app.widgets.table_dialog import TableDialog
from pendel.app.widgets.theme import trace_colour
from pendel.core.drive import commands
from pendel.core.drive.plans import Plan, Varied
from pendel.core.series.rows import DONE

from .conftest import finish, settle, until
from .test_window import LEFT

PEAK = "peak(door_motor.current)"
MANY = 600
"""Rows that are not done before somebody can press Pause."""


def page_of(window):
    QTest.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    settle()
    assert window.page_now == "Series"
    return window.page("Series")


def named(page, kind, name):
    return next(w for w in page.findChildren(kind) if w.accessibleName() == name and w.isVisible())


def write(field, text):
    field.setFocus()
    field.clear()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)
    settle()


def planned(window, texts=("60 kg", "90 kg", "120 kg"), measures=(PEAK, "max(door_leaf.speed)")):
    drive = window.session.drive
    window.session.do(commands.set_setting(drive, "until", "0.12 s"))
    window.session.do(commands.remove_plan(drive, *drive.plans))
    plan = Plan((Varied("m_leaf", "list", texts),), measures=measures)
    window.session.do(commands.set_plan(drive, "Leaves", plan))
    settle()
    return page_of(window)


def drag(widget, a, b):
    QTest.mousePress(widget, LEFT, pos=a)
    QTest.mouseMove(widget, b)
    QTest.mouseRelease(widget, LEFT, pos=b)
    settle()


def ran(page):
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: not page.runner.running and page.gathered is not None and page.state.is_whole, 60)
    settle()


def test_a_user_who_read_nothing_varies_two_values_and_takes_the_best(window, tmp_path, monkeypatch):
    import pandas

    drive = window.session.drive
    window.session.do(commands.set_setting(drive, "until", "0.12 s"))
    window.session.do(commands.remove_plan(drive, *drive.plans))
    page = page_of(window)
    panel = page.panel
    assert panel.start_button.isHidden() and "What if?" in page.hint.text()
    QTest.mouseClick(panel.new_button, LEFT)
    settle()
    QTest.keyClicks(panel.vary, "m_leaf")
    QTest.keyClick(panel.vary, Qt.Key.Key_Return)
    settle()
    box = named(page, QComboBox, "How m_leaf varies")
    box.setCurrentIndex(box.findData("even"))
    box.activated.emit(box.currentIndex())
    settle()
    assert "from, to, count" in named(page, Field, "Values of m_leaf").placeholderText()
    write(named(page, Field, "Values of m_leaf"), "60 kg, 120 kg, 3")
    QTest.keyClicks(panel.vary, "door_motor.L_a")
    QTest.keyClick(panel.vary, Qt.Key.Key_Return)
    settle()
    QTest.keyClicks(panel.figure, PEAK)
    QTest.keyClick(panel.figure, Qt.Key.Key_Return)
    settle()
    now = window.session.drive.plans[page.name].varied[1].texts[0]  # what it is now
    write(named(page, Field, "Values of door_motor.L_a"), f"{now}, 1.1*({now})")
    assert panel.state.text().startswith("6 runs"), panel.problem.text()
    ran(page)
    assert page.model.rowCount() == 6 and page.views.stack.currentWidget() is page.views.map_plot
    page.sort_by(3)
    peaks = page.gathered.cells[page.model.places, 2]
    assert list(peaks) == sorted(peaks) and page.model.index(0, 3).data(Qt.ItemDataRole.ToolTipRole) == "minimum"
    write(page.filter, "m_leaf < 100 kg and peak > 0")
    assert until(lambda: page.model.rowCount() == 4)
    page.filter.setText("m_leaf <")
    assert until(lambda: page.found.text() == "?") and page.found.toolTip()
    page.filter.clear()
    assert until(lambda: page.model.rowCount() == 6)
    page.table.selectRow(0)
    settle()
    assert page.side.title.text() == f"Row {page.chosen.number}" and page.chosen.outcome == DONE
    before = dict(window.session.drive.quantities)
    QTest.mouseClick(page.side.take_button, LEFT)
    settle()
    assert window.session.drive.quantities["m_leaf"].text == "60.0 kg"
    window.session.undo.undo()
    assert window.session.drive.quantities == before
    settle()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "rows.csv"), ""))
    QTest.mouseClick(page.save_button, LEFT)
    settle()
    frame = pandas.read_csv(tmp_path / "rows.csv")
    assert np.allclose(frame[f"{PEAK} [A]"], peaks) and list(frame["outcome"]) == [DONE] * 6
    QTest.mouseClick(page.copy_button, LEFT)
    assert QApplication.clipboard().text().count("\n") == 6


def test_a_row_opens_as_an_ordinary_run(window):
    page = planned(window)
    ran(page)
    page.table.selectRow(0)
    page.table.setSelectionMode(page.table.SelectionMode.MultiSelection)
    page.table.selectRow(2)
    settle()
    page._show_rows()  # as when another row comes, or rows are sorted
    assert page.table.chosen_rows() == [0, 2]
    QTest.mouseClick(page.side.run_button, LEFT)
    assert until(lambda: len(window.session.runs) == 2 and window.page_now == "Runs", 60)
    finish(window)
    for run, number, words in zip(window.session.runs, (0, 2), ("60 kg", "120 kg")):
        assert run.differs == f"Leaves, row {number}: m_leaf {words}"
        place = int(np.flatnonzero(page.gathered.numbers == number)[0])
        assert np.abs(run.trace("door_motor.current").drawn[1]).max() == page.gathered.cells[place, 1]
    assert window.session.drive.quantities["m_leaf"].text != "120 kg"  # the drive stays as it is
    runs = window.page("Runs")
    assert set(runs.kept.ticked) == {run.name for run in window.session.runs} and not runs.colours.isVisible()


def test_colours_of_runs_tell_what_varied(window):
    page = planned(window)
    ran(page)
    page.table.selectRow(0)
    page.table.selectAll()
    settle()
    QTest.mouseClick(page.side.run_button, LEFT)
    assert until(lambda: len(window.session.runs) == 3 and not window.jobs.running, 60)
    runs = window.page("Runs")
    assert until(lambda: len(runs.drawn) == 3, 30) and runs.colours.isVisible()
    (told,) = runs.colours.differing
    assert told.name == "m_leaf" and told.values == (60.0, 90.0, 120.0)
    lightness = [QColor(tint).lightness() for _, tint in runs.drawn]
    assert lightness == sorted(lightness, reverse=True) and len(set(lightness)) == 3
    image = runs.colours.scale.grab().toImage()
    assert image.pixelColor(70, 10).lightness() > image.pixelColor(image.width() - 70, 10).lightness()
    box = runs.colours.box
    box.setCurrentIndex(0)
    box.activated.emit(0)
    assert until(lambda: [tint for _, tint in runs.drawn] == [trace_colour(k) for k in range(3)])
    runs.kept.tick_only(runs.kept.ticked[:2])
    assert until(lambda: not runs.colours.isVisible())


def test_all_columns_are_seen_at_once_and_narrowed_with_the_mouse(window):
    page = planned(window, texts=("60 kg", "70 kg", "80 kg", "90 kg", "120 kg"))
    ran(page)
    views = page.views
    for looks, many in ((PARALLEL, views.parallel), (MATRIX, views.matrix)):
        views.looks.setCurrentText(looks)
        views.looks.activated.emit(views.looks.currentIndex())
        settle()
        assert views.stack.currentWidget() is many and not views.histogram.isVisible()
        assert [page.gathered.heads[k].name for k in many.columns] == ["m_leaf", PEAK, "max(door_leaf.speed)"]
    parallel, matrix = views.parallel, views.matrix
    assert window.minimumSizeHint().width() <= 1280
    low, high = (matrix.dot(1, 0, at).toPoint() for at in (1, 3))
    drag(matrix, low + QPoint(-4, 4), high + QPoint(4, -4))
    assert until(lambda: page.model.rowCount() == 3) and page.filter.text().startswith("m_leaf >= ")
    QTest.mouseClick(matrix, LEFT, pos=matrix.dot(1, 0, 2).toPoint())
    assert page.chosen.number == 2 and matrix.chosen == 2
    QTest.mouseDClick(matrix, LEFT, pos=matrix.field(1, 0).center().toPoint())
    assert until(lambda: page.model.rowCount() == 5) and not page.filter.text()
    views.looks.setCurrentText(PARALLEL)
    views.looks.activated.emit(views.looks.currentIndex())
    settle()
    x = round(parallel.x(0))
    drag(parallel, QPoint(x, round(parallel.y(0.4))), QPoint(x, round(parallel.y(0.6))))
    assert until(lambda: page.model.rowCount() == 1) and page.gathered.numbers[page.model.places[0]] == 3
    assert parallel.shown.kept.tolist() == [False, False, False, True, False]
    at = parallel.line(3)[1].toPoint()
    QTest.mouseClick(parallel, LEFT, pos=at)
    assert page.chosen.number == 3
    assert parallel.grab().toImage().pixelColor(at).red() > 130, "the chosen row is drawn in its colour"


def test_a_value_varies_as_a_column_of_a_file(window, tmp_path, monkeypatch):
    page = planned(window, measures=("max(door_leaf.speed)",))
    (tmp_path / "leaves.csv").write_text("day, leaf mass [kg]\n1, 60.5\n2, 71\n3, 82.25\n")

    def take(dialog):
        pick = dialog.columns[0]
        pick.setCurrentIndex(1)
        assert dialog.units[0].text() == "kg"
        dialog.accept()
        return True

    monkeypatch.setattr(TableDialog, "exec", take)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "leaves.csv"), ""))
    way = named(page, QComboBox, "How m_leaf varies")
    way.setCurrentIndex(way.findText("from a file …"))
    way.activated.emit(way.currentIndex())
    settle()
    assert window.session.drive.plans["Leaves"].varied[0].texts == ("60.5 kg", "71 kg", "82.25 kg")
    many = tuple(f"{60 + 0.1 * k:.1f} kg" for k in range(5000))
    plan = window.session.drive.plans["Leaves"]
    window.session.do(
        commands.set_plan(window.session.drive, "Leaves", replace(plan, varied=(replace(plan.varied[0], texts=many),)))
    )
    settle()
    field = named(page, Field, "Values of m_leaf")
    field.setFocus()
    QTest.keyClicks(field, "x")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.text() == "5000 values" and window.session.drive.plans["Leaves"].varied[0].texts == many
    (tmp_path / "leaves.csv").write_text("nothing\n")
    page.panel.take_from_file(0, plan.varied[0], str(tmp_path / "leaves.csv"))
    assert "no row of numbers" in page.panel.problem.text()


def test_a_figure_is_added_to_rows_that_are_there(window):
    page = planned(window, measures=(PEAK,))
    ran(page)
    before = page.gathered.cells[:, 1].copy()
    page.panel.add_figure("max(door_leaf.speed)")
    assert until(lambda: page.panel.start_button.text() == "Run again for 1 new figure")
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: not page.runner.running and page.state.is_whole and len(page.gathered.heads) == 3, 60)
    settle()
    assert page.gathered.count == 3 and list(page.gathered.cells[:, 1]) == list(before)
    assert np.isfinite(page.gathered.cells[:, 2]).all() and page.panel.start_button.text() == "All rows are there"
    page.panel.change_figure(0, "")
    assert until(lambda: page.panel.start_button.text() == "Take these figures")
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: not page.runner.running and len(page.gathered.heads) == 2, 60)
    assert np.isfinite(page.gathered.cells[:, 1]).all() and page.gathered.heads[1].name == "max(door_leaf.speed)"


def test_a_series_is_paused_and_goes_on_and_keeps_the_drive_it_was_begun_with(window):
    page = planned(window, tuple(f"{50 + 0.05 * k:.2f} kg" for k in range(MANY)), (PEAK,))
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: page.gathered is not None and page.gathered.count > 3, 60)
    assert page.panel.start_button.text() == "Pause"
    window.session.do(
        commands.set_quantity(window.session.drive, "K_p", "1 A*s/m")
    )  # the drive can be edited meanwhile
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: not page.runner.running, 20)
    settle()
    done = page.gathered.count
    assert 3 < done < MANY and page.panel.start_button.text() == "Go on"
    assert "The drive was changed since" in page.panel.state.text()
    before = dict(zip(page.gathered.numbers.tolist(), page.gathered.cells[:, 1].tolist()))
    ran(page)
    after = dict(zip(page.gathered.numbers.tolist(), page.gathered.cells[:, 1].tolist()))
    assert len(after) == MANY and all(after[n] == figure for n, figure in before.items())
    peaks = [after[n] for n in range(MANY)]
    assert np.all(np.abs(np.diff(peaks)) < 0.05 * max(peaks))  # none of the drive that was edited


def test_another_drive_another_name_and_a_failed_row(window, tmp_path):
    page = planned(window, ("60 kg", "-1 kg"), (PEAK,))
    ran(page)
    assert "1 failed" in page.panel.state.text()
    page.filter.setText("failed")
    assert until(lambda: page.model.rowCount() == 1)
    page.table.selectRow(0)
    settle()
    assert "must be" in page.side.reason.text() and "–" not in page.side.title.text()
    page.panel.list.item(0).setText("Doors")
    settle()
    assert list(window.session.drive.plans) == ["Doors"] and page.name == "Doors"
    assert page.gathered.count == 2  # its rows go along
    window.session.undo.undo()
    settle()
    assert page.name == "Leaves" and page.gathered.count == 2
    window.session.save(tmp_path / "elsewhere.pendel")
    settle()
    assert until(lambda: (tmp_path / "elsewhere.series").is_dir() and page.gathered.count == 2)
    QTest.mouseClick(page.panel.remove_button, LEFT)
    settle()
    assert not window.session.drive.plans and page.gathered is None and page.panel.start_button.isHidden()
    window.session.undo.undo()
    settle()
    assert until(lambda: page.gathered is not None and page.gathered.count == 2)


def test_the_process_of_a_series_is_killed_and_the_window_lives(window, beside):
    page = planned(window, tuple(f"{50 + 0.5 * k} kg" for k in range(60)), (PEAK,))
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: page.gathered is not None and page.gathered.count > 3, 60)
    os.kill(beside.pid, signal.SIGKILL)
    assert until(lambda: not page.runner.running, 60)
    settle()
    numbers = page.gathered.numbers.tolist()
    assert len(numbers) == len(set(numbers)) == 60 and page.gathered.failed.sum() <= 1


def test_values_are_searched_for_a_goal_and_taken(window):
    page = planned(window, ("60 kg", "120 kg"))
    goals = page.side.goals
    write(goals.limits, "nothing < 3")
    QTest.mouseClick(goals.button, LEFT)
    assert until(lambda: not page.runner.running, 60)
    assert "No column is called “nothing”" in goals.words.text()
    goals.sense.setCurrentText("largest")
    write(goals.limits, "max < 1 m/s")
    write(goals.trials, "16")
    QTest.mouseClick(goals.button, LEFT)
    assert goals.button.text() == "Stop the search"
    assert until(lambda: not page.runner.running and "not proven" in goals.words.text(), 60)
    settle()
    assert page.gathered.count <= 16 and page.chosen.figures[0] == np.nanmax(page.gathered.cells[:, 1])
    assert page.chosen.texts[0].endswith(" kg")
    QTest.mouseClick(page.side.take_button, LEFT)
    settle()
    assert window.session.drive.quantities["m_leaf"].text == page.chosen.texts[0]
    QTest.mouseClick(page.back_button, LEFT)
    settle()
    assert page.rows_of == "Leaves" and page.gathered is None and page.back_button.isHidden()


@pytest.mark.parametrize("text", ["1e99, 2", "", "60 kg, 90 V", "((", "60 kg" * 100])
def test_values_that_are_none_get_a_sentence_and_nothing_starts(window, text):
    page = planned(window)
    write(named(page, Field, "Values of m_leaf"), text)
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: not page.runner.running, 30)
    settle()
    plan = window.session.drive.plans["Leaves"]
    said = page.panel.problem.text() or (page.gathered is not None and page.gathered.failed.any())
    assert said, plan


def test_rows_run_on_workers_that_are_named_and_nobody_there_is_said(window):
    pytest.importorskip("distributed")
    page = planned(window)
    write(page.panel.workers, "nowhere")
    QTest.mouseClick(page.panel.start_button, LEFT)
    assert until(lambda: not page.runner.running, 60)
    settle()
    assert "no address" in page.panel.problem.text() or "no address" in window.foot.transient
    write(page.panel.workers, "local:1")
    ran(page)
    assert page.state.done == 3 and page.state.failed == 0


def test_traces_of_all_rows_lie_on_each_other_and_choose_their_row(window, tmp_path, monkeypatch):
    """Kept by a name typed on the left, drawn beside what the run shows, clicked, left out again, saved."""
    import h5py

    page = planned(window, measures=(PEAK,))
    views = page.views
    ran(page)
    views.looks.setCurrentText(TRACES)
    views.looks.activated.emit(views.looks.currentIndex())
    assert "name signals on the left" in views.traces.caption.toPlainText()
    write(page.panel.trace, "door_motor.curent")
    assert "Is it door_motor.current?" in page.panel.problem.text()
    write(page.panel.trace, "door_motor.current")
    assert until(lambda: page.panel.start_button.text() == "Run again for what is new")
    assert "trace of door_motor.current" in page.state.fresh
    ran(page)
    assert until(lambda: len(views.traces.traces) == 3)
    caption = views.traces.caption.toPlainText()
    assert "Door motor: current" in caption and "3 of 3 rows" in caption and "m_leaf, 60 to 120 kg" in caption
    peaks = [abs(trace.y).max() for _, trace in views.traces.traces]
    assert peaks == pytest.approx(page.gathered.cells[:, 1], rel=1e-3)
    page.filter.setText("m_leaf > 100 kg")
    assert until(lambda: [trace.number for _, trace in views.traces.traces] == [2])
    page.filter.clear()
    assert until(lambda: len(views.traces.traces) == 3)
    trace = views.traces.traces[1][1]
    k = int(np.argmax(trace.y))
    at = views.traces.vb.mapViewToDevice(QPointF(trace.t[k], trace.y[k])).toPoint()
    QTest.mouseClick(views.traces.viewport(), LEFT, pos=at)
    assert until(lambda: page.chosen is not None and page.chosen.number == 1)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "rows.h5"), ""))
    QTest.mouseClick(page.save_button, LEFT)
    with h5py.File(tmp_path / "rows.h5") as file:
        assert sorted(file["traces/door_motor.current"]) == ["0", "1", "2"]
    QTest.mouseClick(named(page, QPushButton, "Keep no trace of door_motor.current"), LEFT)
    settle()
    assert not window.session.drive.plans[page.name].traces
    window.session.undo.undo()
    settle()
    assert window.session.drive.plans[page.name].traces == ("door_motor.current",)

"""Many runs: held, told apart, measured, deleted, and bounded on disk."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMessageBox, QPushButton

from pendel.app.runs.measure_table import MeasureTable
from pendel.app.runs.run_list import MOST_TICKED
from pendel.app.widgets.theme import DARK, LIGHT, trace_colour
from tests.app.conftest import finish, settle, until


@pytest.fixture
def page(window):
    window.session.set_setting("until", "50 ms") if hasattr(window.session, "set_setting") else None
    window.show_page("Runs")
    settle()
    return window.pages["Runs"]


def run(window, gain):
    from pendel.core.drive import commands

    window.session.do(commands.set_quantity(window.session.drive, "K_p", f"{gain} A*s/m"))
    window.start_run()
    finish(window)


def shown(page):
    return [name for _, name in sorted((k, n) for k, n in enumerate(page.kept.ticked))]


def test_a_held_run_stays_beside_new_ones_and_goes_when_it_is_let_go(window, page):
    for gain in (30, 31):
        run(window, gain)
    names = [each.name for each in window.session.runs]
    assert shown(page) == names[-1:], "one gives way to the next"
    window.actions_by_name["hold"].trigger()
    run(window, 32)
    run(window, 33)
    names = [each.name for each in window.session.runs]
    assert shown(page) == [names[-3], names[-1]] and "held" in page.kept.list.item(2).text()
    page.kept.list.setCurrentRow(2)
    window.actions_by_name["hold"].trigger()
    page.kept.tick_only([names[-1]])
    run(window, 34)
    assert shown(page) == [window.session.runs[-1].name]
    window.session.undo.setClean()


def test_twelve_runs_are_told_apart_and_measured_in_one_table(window, page):
    for gain in range(20, 33):
        run(window, gain)
    names = [each.name for each in window.session.runs]
    for k in range(page.kept.list.count()):
        page.kept.list.item(k).setCheckState(Qt.CheckState.Checked)
    settle()
    assert len(page.kept.ticked) == MOST_TICKED == 12 and names[-1] not in page.kept.ticked[:1]
    for theme in (LIGHT, DARK):
        own = (*theme.traces, theme.ink, *theme.further)
        assert len({QColor(each).rgb() for each in own}) == MOST_TICKED
    assert len({trace_colour(k) for k in range(MOST_TICKED)}) == MOST_TICKED
    assert until(lambda: page.all_button.isVisible() and "12 runs" in page.all_button.text(), 10)
    QTest.mouseClick(page.all_button, Qt.MouseButton.LeftButton)
    table = page.findChild(MeasureTable)
    assert table.table.rowCount() == 12 and table.table.item(0, 0).text() in names
    rise = next(c for c in range(table.table.columnCount()) if "rise" in table.table.horizontalHeaderItem(c).text())
    assert len({table.table.item(r, rise).text() for r in range(12)}) > 3
    next(b for b in table.findChildren(QPushButton) if b.text() == "Copy all").click()
    lines = QGuiApplication.clipboard().text().split("\n")
    assert len(lines) == 13 and lines[0].startswith("run\twhat differs\t")
    table.close()
    window.session.undo.setClean()


def test_sizes_are_told_and_all_but_the_ticked_are_deleted_and_the_last_ones_come_back(window, page, questions):
    for gain in (30, 31, 32):
        run(window, gain)
    names = [each.name for each in window.session.runs]
    assert f"{len(names)} runs, " in page.kept.total.text() and "B" in page.kept.total.text()
    questions.answers = [QMessageBox.StandardButton.No, QMessageBox.StandardButton.Yes]
    page.kept.delete_unticked()
    assert [each.name for each in window.session.runs] == names
    page.kept.delete_unticked()
    assert [each.name for each in window.session.runs] == page.kept.ticked and "Delete 2 of 3 runs" in questions[-1]
    window.session.shelf.bring_back()
    assert [each.name for each in window.session.runs] == names[1:]
    window.session.undo.setClean()


def test_a_bound_on_disk_takes_the_oldest_that_nobody_looks_at(window, page):
    shelf = window.session.shelf
    for gain in (30, 31, 32):
        run(window, gain)
    first, second, third = window.session.runs
    assert until(lambda: all(each.file.is_file() for each in window.session.runs), 10)
    page.kept.tick_only([first.name])
    shelf.show([first])
    size = sum(each.file.stat().st_size for each in (first, third))
    window.preferring.preferences.set("kept_runs", f"{1.5 * size / 1e6:.6f}")
    run(window, 33)
    assert second not in window.session.runs and first in window.session.runs, "what is shown stays"
    assert until(lambda: not second.file.exists(), 10)
    window.preferring.preferences.set("kept_runs", "0.001")
    run(window, 34)
    assert window.session.runs[-1].differs and len(window.session.runs) == 2, "the latest stays, whatever it takes"
    window.session.undo.setClean()

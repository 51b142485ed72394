"""Words on the sheet can be read, whatever its size: fitted, zoomed and moved, with an overview."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest

from pendel.app.drive.sheet.zooming import READABLE, SMALLEST_WORDS
from pendel.app.widgets import theme
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES
from tests.app.conftest import settle

LEFT = Qt.MouseButton.LeftButton


def test_no_words_of_any_example_are_below_ten_px(window, monkeypatch):
    sizes = []
    plain = theme.font

    def noted(size=12, **how):
        sizes.append(size)
        return plain(size, **how)

    for module in ("items", "terminals"):
        monkeypatch.setattr(f"pendel.app.drive.sheet.{module}.font", noted)
    sheet = window.drive_page.sheet
    seen = set()
    for path in sorted(EXAMPLES.glob("*.pendel")):
        sizes.clear()
        window.session.undo.setClean()
        window.files.open_path(path)
        settle()
        sheet.fit()
        window.grab()
        assert sizes and min(sizes) >= SMALLEST_WORDS, path.stem
        assert sheet.zoom * min(sizes) >= READABLE - 1e-9, path.stem
        rect, room = sheet.sceneRect(), sheet.viewport().size()
        whole = rect.width() * sheet.zoom <= room.width() + 8 and rect.height() * sheet.zoom <= room.height() + 8
        assert sheet.overview.isVisible() != whole, "the overview is there where something is out of view"
        seen.add(whole)
    assert seen == {True, False}


@pytest.fixture
def large(window):
    """A sheet of 60 cards in a row and below."""
    session = window.session
    for k in range(60):
        session.do(commands.add_card(session.drive, "gain", f"Gain {k}", 5 + 40 * (k % 12), 120 + 30 * (k // 12)))
    settle()
    window.drive_page.sheet.setFocus()
    window.drive_page.fit()
    return window.drive_page.sheet


def test_the_overview_goes_where_it_is_pressed(window, large):
    assert large.overview.isVisible()
    seen = large.mapToScene(large.viewport().rect()).boundingRect()
    at = large.overview.rect().bottomRight() - QPoint(12, 30)
    QTest.mouseClick(large.overview, LEFT, pos=at)
    there = large.mapToScene(large.viewport().rect()).boundingRect()
    assert there.center().x() > seen.center().x() + 200
    large.overview.grab()
    large.show_whole()
    settle()
    assert not large.overview.isVisible()


def test_keys_and_the_space_bar_zoom_and_move(window, large):
    before = large.zoom
    QTest.keyClick(large, Qt.Key.Key_Plus)
    assert large.zoom == pytest.approx(1.15 * before)
    QTest.keyClick(large, Qt.Key.Key_Minus)
    QTest.keyClick(large, Qt.Key.Key_Minus)
    assert large.zoom == pytest.approx(before / 1.15)
    QTest.keyClick(large, Qt.Key.Key_0)
    assert large.zoom == pytest.approx(1.0)
    for key, end in ((Qt.Key.Key_Plus, 3.0), (Qt.Key.Key_Minus, 0.15)):
        for _ in range(60):
            QTest.keyClick(large, key)
        assert large.zoom == pytest.approx(end)
    QTest.keyClick(large, Qt.Key.Key_F)
    assert large.zoom == pytest.approx(before), "F fits again"

    places = {key: (card.x, card.y) for key, card in window.session.drive.cards.items()}
    large.centerOn(QPointF(600, 400))
    start = large.mapToScene(QPoint(0, 0))
    view = large.viewport()
    QTest.keyPress(large, Qt.Key.Key_Space)
    QTest.mousePress(view, LEFT, pos=QPoint(300, 300))
    QTest.mouseMove(view, QPoint(200, 260))
    QTest.mouseRelease(view, LEFT, pos=QPoint(200, 260))
    QTest.keyRelease(large, Qt.Key.Key_Space)
    moved = large.mapToScene(QPoint(0, 0)) - start
    assert (moved.x() * large.zoom, moved.y() * large.zoom) == pytest.approx((100, 40), abs=2)
    assert {key: (card.x, card.y) for key, card in window.session.drive.cards.items()} == places, "no card moved"
    assert not large._band and large.session.selection == []


def test_tidied_sheets_go_on_below_instead_of_beside(window, large):
    session = window.session
    for k in range(59):
        session.do(commands.add_wire(session.drive, *ends(f"gain_{k}.out", f"gain_{k + 1}.in")))
    large.tidy_all()
    settle()
    rect = large.sceneRect()
    assert rect.width() * READABLE / SMALLEST_WORDS <= 760 and rect.height() > 1000
    assert not large.horizontalScrollBar().isVisible()


def ends(a: str, b: str):
    from pendel.core.drive.document import End

    return End.parse(a), End.parse(b)

"""What a hand does on the Bench page, and with a wheel."""

from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from pendel.app.bench.board import LinkState

from .conftest import lay_out, until
from .test_window import LEFT


def press(widget):
    assert until(lambda: widget.isEnabled() and widget.isVisible()), widget.text()
    QTest.mouseClick(widget, LEFT)


def calm(page):
    assert until(lambda: not page.board.busy, 60)
    lay_out()


def connect(page):
    press(page.link.connect_button)
    assert until(lambda: page.board.link is LinkState.OPEN, 60), page.log.lines
    calm(page)


def load(page):
    press(page.link.load_button)
    assert until(lambda: page.board.matches, 60), page.log.lines
    calm(page)


def turn(view, by, modifiers=Qt.KeyboardModifier.NoModifier):
    at = QPointF(view.rect().center())
    pixels, angle = QPoint(), QPoint(0, by)
    event = QWheelEvent(
        at,
        QPointF(view.mapToGlobal(at.toPoint())),
        pixels,
        angle,
        Qt.MouseButton.NoButton,
        modifiers,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(view.viewport(), event)
    lay_out()

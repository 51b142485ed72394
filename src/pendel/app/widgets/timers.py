"""When things are done: a moment later, and only where they can be seen."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QWidget


def single_shot(parent: QObject, milliseconds: int, action: Callable[[], object]) -> QTimer:
    """A timer that acts once after each start; started again before, it waits the whole time again."""
    timer = QTimer(parent)
    timer.setSingleShot(True)
    timer.setInterval(milliseconds)
    timer.timeout.connect(action)
    return timer


class RefreshWhenShown:
    """Acts when its widget can be seen, else as soon as it is shown; hidden pages cost a new run nothing."""

    def __init__(self, widget: QWidget, action: Callable[[], object]):
        self.widget, self.action, self.waiting = widget, action, False

    def __call__(self) -> None:
        if self.widget.isVisible():
            self.action()
        else:
            self.waiting = True

    def shown(self) -> None:
        if self.waiting:
            self.waiting = False
            self.action()

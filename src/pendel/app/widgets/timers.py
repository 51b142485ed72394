"""When things are done: a moment later, and only where they can be seen."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QWidget


class Turns:
    """What is to be done in the window, one thing after another; between two of them it answers and is painted."""

    def __init__(self) -> None:
        self.waiting: list[Later] = []
        self._timers: list[QTimer] = []
        """Those that will go off; nothing else keeps them."""

    def ask(self, later: Later) -> None:
        if later not in self.waiting:
            self.waiting.append(later)
            if len(self.waiting) == 1:
                self._have_next()

    def leave(self, later: Later) -> None:
        if later in self.waiting:
            self.waiting.remove(later)

    def _have_next(self) -> None:
        # A timer of its own, as one that acts cannot go off in a question that its action asks. (`QTimer.singleShot`
        # of no time would go before what is to be painted.)
        timer = QTimer()
        timer.setSingleShot(True)
        timer.timeout.connect(self._act)
        timer.start(0)
        self._timers.append(timer)

    def _act(self) -> None:
        self._timers.pop(0).deleteLater()  # all of no time, so they go off in their order
        self.waiting = [later for later in self.waiting if not sip.isdeleted(later)]
        first = min(self.waiting, key=lambda later: later.at_last, default=None)
        if first is None:
            return
        self.waiting.remove(first)
        if self.waiting:  # before the action, which may fail, or ask a question and wait for its answer
            self._have_next()
        first.action()


@cache
def turns() -> Turns:
    """Those of the one window's thread; made when first asked for, as timers belong to an application."""
    return Turns()


class Later(QTimer):
    """A timer that acts once after each start, when it is its turn; started again before, it waits the whole time
    again. ``at_last``: after whatever else waits for its turn."""

    def __init__(self, parent: QObject, milliseconds: int, action: Callable[[], object], *, at_last: bool = False):
        super().__init__(parent)
        self.action, self.at_last = action, at_last
        self.setSingleShot(True)
        self.setInterval(milliseconds)
        self.timeout.connect(lambda: turns().ask(self))

    def start(self, milliseconds: int | None = None) -> None:  # type: ignore[override]
        if milliseconds is not None:
            self.setInterval(milliseconds)
        if self.interval():
            self.stop()
            super().start()
        else:
            turns().ask(self)

    def stop(self) -> None:
        super().stop()
        turns().leave(self)

    def isActive(self) -> bool:  # noqa: N802
        return super().isActive() or self in turns().waiting


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

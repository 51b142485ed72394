"""What hands do to a window: clicks, drags, keys and texts anywhere, in any order; nothing is known of what they
mean."""

from __future__ import annotations

import gc
from collections.abc import Callable
from random import Random

from PyQt6 import sip
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QApplication,
    QComboBox,
    QDialog,
    QGraphicsView,
    QLineEdit,
    QMainWindow,
    QMenu,
    QWidget,
)

from tests.campaigns.faults import texts

KEYS = ("Delete", "Tab", "Return", "Escape", "F2", "Space", "A", "T", "F", "Left",
        "Right", "Up", "Down", "Home", "End", "Backspace", "Plus")  # fmt: skip
NEVER = ("quit", "close", "new_window")
"""Actions after which there is no window left, or another."""
AT_ONCE = 0.3
"""Of the moves, after which the next comes at once."""
MOST_TYPED = 40
"""Letters of a text that are typed; what is longer is pasted."""
HELD = (
    *[Qt.KeyboardModifier.NoModifier] * 4,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
)
LEFT = Qt.MouseButton.LeftButton


class Hands:
    """``pages`` are the titles of those that are turned to."""

    def __init__(self, window: QMainWindow, rng: Random, pages: tuple[str, ...]):
        self.window, self.rng, self.pages = window, rng, pages
        self.done = 0
        self.ways: dict[str, Callable[[], None]] = {
            "clicking": self.click, "dragging": self.drag, "pressing a key": self.press, "typing": self.type_into,
            "typing into a card": self.type_into_card, "choosing": self.choose, "an action": self.act,
            "turning to a page": self.turn,
        }  # fmt: skip

    def move(self) -> str:
        """One of them; what it was. Some come before the window has heard of the one before, as when it is busy.
        Now and then Python's garbage is collected, on which nothing may hang."""
        self.done += 1
        if self.done % 10 == 0:
            gc.collect()
        what = self.rng.choice(list(self.ways))
        self.ways[what]()
        if self.rng.random() < AT_ONCE:
            return what
        QApplication.processEvents()
        self.leave_what_is_open()
        return what

    def leave_what_is_open(self) -> None:
        """A menu or a dialog is left by one of its ways, or closed."""
        top = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        if isinstance(top, QMenu) and self.rng.random() < 0.5:
            offered = [a for a in top.actions() if a.isEnabled() and not a.isSeparator() and a.menu() is None]
            chosen = self.rng.choice(offered) if offered else None
            top.close()
            if chosen is not None and not any(word in chosen.text() for word in ("Quit", "Close", "New window")):
                chosen.trigger()
        elif isinstance(top, QDialog):
            top.reject()
        elif top is not None:
            top.close()

    def widgets(self, kind: type[QWidget] = QWidget) -> list[QWidget]:
        return [
            w
            for w in self.window.findChildren(kind)
            if w.isVisible() and w.isEnabled() and min(w.width(), w.height()) > 3
        ]

    def somewhere(self, on: QWidget) -> QPoint:
        return QPoint(self.rng.randrange(on.width()), self.rng.randrange(on.height()))

    def click(self) -> None:
        on = self.rng.choice(self.widgets())
        button = self.rng.choice((LEFT, LEFT, LEFT, Qt.MouseButton.RightButton))
        at, held = self.somewhere(on), self.rng.choice(HELD)
        QTest.mouseClick(on, button, held, at)
        if self.rng.random() < 0.2 and not sip.isdeleted(on):
            QTest.mouseDClick(on, LEFT, held, at)

    def drag(self) -> None:
        views = [w.viewport() for w in self.widgets(QGraphicsView) if isinstance(w, QGraphicsView)]
        on = self.rng.choice([v for v in views if v is not None] or self.widgets())
        begin, end = self.somewhere(on), self.somewhere(on)
        QTest.mousePress(on, LEFT, Qt.KeyboardModifier.NoModifier, begin)
        for at in (QPoint((begin.x() + end.x()) // 2, (begin.y() + end.y()) // 2), end):
            if not sip.isdeleted(on):
                QTest.mouseMove(on, at)
        if self.rng.random() < 0.1 and not sip.isdeleted(on):
            QTest.keyPress(on, Qt.Key.Key_Escape)
        if not sip.isdeleted(on):
            QTest.mouseRelease(on, LEFT, Qt.KeyboardModifier.NoModifier, end)

    def press(self) -> None:
        on = QApplication.focusWidget() or self.window
        key, held = getattr(Qt.Key, f"Key_{self.rng.choice(KEYS)}"), self.rng.choice(HELD)
        QTest.keyPress(on, key, held)
        if not sip.isdeleted(on):
            QTest.keyRelease(on, key, held)

    def type_into(self) -> None:
        fields = [w for w in self.widgets(QLineEdit) if isinstance(w, QLineEdit) and not w.isReadOnly()]
        if not fields:
            return
        field = self.rng.choice(fields)
        field.setFocus()
        field.selectAll()
        text = texts.number(self.rng) if self.rng.random() < 0.6 else texts.text(self.rng, 12)
        field.insert(text[MOST_TYPED:])  # pasted: thousands of keys in one turn of the event loop are no hand's
        for letter in text[:MOST_TYPED]:
            for kind in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
                if not sip.isdeleted(field):
                    QApplication.sendEvent(field, QKeyEvent(kind, 0, Qt.KeyboardModifier.NoModifier, letter))
        if not sip.isdeleted(field):
            QTest.keyPress(
                field,
                self.rng.choice((Qt.Key.Key_Return, Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape)),
            )

    def type_into_card(self) -> None:
        """Into what the inspector shows of a card."""
        session = self.window.session  # type: ignore[attr-defined]
        if session.drive.cards:
            self.window.show_page(self.pages[0])  # type: ignore[attr-defined]
            session.select([self.rng.choice(list(session.drive.cards))])
            QApplication.processEvents()
            self.type_into()

    def choose(self) -> None:
        boxes = [w for w in self.widgets(QComboBox) if isinstance(w, QComboBox) and w.count()]
        if boxes:
            box = self.rng.choice(boxes)
            place = self.rng.randrange(box.count())
            box.setCurrentIndex(place)
            box.activated.emit(place)

    def act(self) -> None:
        actions = self.window.actions_by_name  # type: ignore[attr-defined]
        ready = [name for name, action in actions.items() if action.isEnabled() and name not in NEVER]
        actions[self.rng.choice(ready)].trigger()

    def turn(self) -> None:
        self.window.show_page(self.rng.choice(self.pages))  # type: ignore[attr-defined]

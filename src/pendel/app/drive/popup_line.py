"""A line above a list of what fits it: typed, chosen by arrows, taken by Enter, closed by Escape."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QWidget

from pendel.app.drive.match_delegate import ROLE, MatchDelegate
from pendel.app.widgets.basic import column, label
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import Kind


class Entry(NamedTuple):
    """What fits: how it is shown, and what is given when it is chosen."""

    title: str
    sentence: str
    aside: str
    """Words at the right."""
    kind: Kind | None
    """Whose symbol it has."""
    held: Any


class PopupWords(NamedTuple):
    """What the line asks for, its name for a screen reader, what keys do, and what is shown where nothing fits."""

    hint: str
    name: str
    keys: str
    none: str


class PopupLine(QFrame):
    """``chosen`` gives what the chosen entry holds. ``entries`` gives what fits the text typed, best first."""

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget, entries: Callable[[str], Iterable[Entry]], words: PopupWords):
        super().__init__(parent)
        self.entries, self.words = entries, words
        self.setObjectName("search")
        self.setStyleSheet(
            f"QFrame#search {{ background: {colour('card').name()}; border: 1px solid "
            f"{colour('petrol').name()}; border-radius: 4px; }}"
        )
        body = column(self, (8, 8, 8, 8), 4)
        self.line = QLineEdit()
        self.line.setPlaceholderText(words.hint)
        self.line.setAccessibleName(words.name)
        self.line.setFixedHeight(28)
        self.line.textChanged.connect(self.refresh)
        self.line.installEventFilter(self)
        self.list = QListWidget()
        self.list.setItemDelegate(MatchDelegate(self.list))
        self.list.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(lambda _: self._take())
        body.addWidget(self.line)
        body.addWidget(self.list)
        body.addWidget(label(words.keys, "muted"))
        self.setFixedSize(460, 380)
        self.hide()

    def show_at(self, where: QPoint) -> None:
        """Open, with nothing typed."""
        parent = self.parentWidget()
        assert parent is not None
        at = parent.mapFromGlobal(where)
        self.move(
            max(4, min(at.x(), parent.width() - self.width() - 4)),
            max(4, min(at.y(), parent.height() - self.height() - 4)),
        )
        self.line.clear()
        self.refresh()
        self.show()
        self.raise_()
        self.line.setFocus()

    def refresh(self) -> None:
        """List what fits; the first is chosen."""
        self.list.clear()
        for entry in self.entries(self.line.text()):
            item = QListWidgetItem(entry.title)
            item.setData(ROLE, (entry.title, entry.sentence, entry.aside, entry.kind))
            item.setToolTip(entry.sentence)
            item.setData(Qt.ItemDataRole.UserRole, entry.held)
            self.list.addItem(item)
        if not self.list.count():
            item = QListWidgetItem(self.words.none)
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _take(self) -> None:
        item = self.list.currentItem()
        held = item.data(Qt.ItemDataRole.UserRole) if item else None
        if held is not None:
            self.hide()
            self.chosen.emit(held)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                parent = self.parentWidget()
                if parent is not None:
                    parent.setFocus()
                return True
        if (
            event is not None
            and event.type() == QEvent.Type.FocusOut
            and watched is self.line
            and not self.underMouse()
        ):
            self.hide()
        return super().eventFilter(watched, event)

"""Signals that are dragged from one place of the window to another."""

from __future__ import annotations

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QDragEnterEvent, QDragLeaveEvent, QDragMoveEvent, QDropEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from pendel.app.widgets.timers import Later

SIGNAL_MIME = "application/x-pendel-signals"
STAYS = 400
"""ms above a page's tab, after which that page is shown."""


def signals_mime(keys: list[str]) -> QMimeData:
    mime = QMimeData()
    mime.setData(SIGNAL_MIME, "\n".join(keys).encode())
    mime.setText("\n".join(keys))
    return mime


def signals_in(mime: QMimeData | None) -> list[str]:
    """None where something else is dragged."""
    if mime is None or not mime.hasFormat(SIGNAL_MIME):
        return []
    return [key for key in bytes(mime.data(SIGNAL_MIME).data()).decode(errors="replace").split("\n") if key]


def accept_signals(event: QDragEnterEvent | QDragMoveEvent | QDropEvent | None) -> list[str]:
    """Signals above a widget, which takes them."""
    if event is None:
        return []
    keys = signals_in(event.mimeData())
    if keys:
        event.setDropAction(Qt.DropAction.CopyAction)
        event.accept()
    else:
        event.ignore()
    return keys


class SpringTab(QPushButton):
    """The tab of a page, which opens while signals are held above it, so that they can be dropped there."""

    def __init__(self, text: str, parent: QWidget | None = None):
        super().__init__(text, parent)
        self.setAcceptDrops(True)
        self._stays = Later(self, STAYS, self.click)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if accept_signals(event):
            self._stays.start()

    def dragLeaveEvent(self, event: QDragLeaveEvent | None) -> None:
        self._stays.stop()

    def dropEvent(self, event: QDropEvent | None) -> None:
        self._stays.stop()
        if event is not None:
            event.ignore()


__all__ = ["SIGNAL_MIME", "SpringTab", "accept_signals", "signals_in", "signals_mime"]

"""What F1 explains: widgets carry the id of their page of help, and what is pointed at or has the focus is asked."""

from __future__ import annotations

from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QApplication, QWidget

PAGE = "explained_by"


def explained_by(widget: QWidget, page: str) -> None:
    """Have F1 on a widget, or on what is in it, open a page of help: the id of a topic, or of a kind."""
    widget.setProperty(PAGE, page)


def page_of(widget: QWidget | None) -> str:
    """The id of the page of a widget, or of the nearest around it; empty where none has one."""
    while widget is not None:
        if page := widget.property(PAGE):
            return str(page)
        widget = None if widget.isWindow() else widget.parentWidget()
    return ""


def page_wanted(window: QWidget) -> str:
    """The page of what the pointer is on in a window, else of what has the focus there; empty where neither has one."""
    pointed = QApplication.widgetAt(QCursor.pos())
    found = page_of(pointed) if pointed is not None and pointed.window() is window else ""
    return found or page_of(window.focusWidget())

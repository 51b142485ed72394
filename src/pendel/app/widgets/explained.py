"""What F1 explains: widgets carry the id of their page of help, and what is pointed at or has the focus is asked."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QApplication, QHeaderView, QWidget

PAGE = "explained_by"
PAGE_ROLE = Qt.ItemDataRole.UserRole + 40
"""Under which a model gives the page of a column's head."""


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


def page_at(at: QPoint, window: QWidget) -> str:
    """The page of what a place on the screen shows of a window, such as a column under its head."""
    widget = QApplication.widgetAt(at)
    if widget is None or widget.window() is not window:
        return ""
    header = widget.parent()
    if isinstance(header, QHeaderView) and (model := header.model()) is not None:
        section = header.logicalIndexAt(widget.mapFromGlobal(at))
        if page := model.headerData(section, header.orientation(), PAGE_ROLE):
            return str(page)
    return page_of(widget)


def page_wanted(window: QWidget) -> str:
    """The page of what the pointer is on in a window, else of what has the focus there; empty where neither has one."""
    return page_at(QCursor.pos(), window) or page_of(window.focusWidget())

"""Pictures that somebody wants of what is shown: from a menu of any plot, panel or page to the window, which takes
them."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtWidgets import QApplication, QMenu, QWidget

from pendel.app.widgets.drawing import Drawing, drawing_of

Draw = Callable[[], Drawing]


class PictureWanted(QEvent):
    """Goes to the window of what is to be drawn."""

    KIND = QEvent.Type(QEvent.registerEventType())

    def __init__(self, draw: Draw, *, to_file: bool):
        super().__init__(self.KIND)
        self.draw, self.to_file = draw, to_file


def offer_pictures(menu: QMenu, widget: QWidget, draw: Draw | None = None, what: str = "picture") -> None:
    """Put into a menu what copies and saves a picture of a widget, or what ``draw`` gives."""
    draw = draw or (lambda: drawing_of(widget))

    def want(to_file: bool) -> None:
        window = widget.window()
        while window is not None and window.parentWidget() is not None:  # from a dialog to the window it is of
            window = window.parentWidget().window()
        QApplication.sendEvent(window, PictureWanted(draw, to_file=to_file))

    menu.addAction(f"Copy {what}", lambda: want(False))
    menu.addAction(f"Save {what} …", lambda: want(True))


def with_picture_menu(widget: QWidget) -> None:
    """Give a widget a menu for its pictures."""
    widget.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
    widget.customContextMenuRequested.connect(lambda at: picture_menu(widget, widget.mapToGlobal(at)))


def picture_menu(widget: QWidget, at: QPoint, fit: Callable[[], object] | None = None) -> None:
    """The menu, at a place on the screen; with ``fit`` also what shows all there is."""
    menu = QMenu(widget)
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    if fit is not None:
        menu.addAction("Fit", fit)
    offer_pictures(menu, widget)
    menu.popup(at)

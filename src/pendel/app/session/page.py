"""What the window asks of a page, and how a page speaks to the window."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.drawing import Drawing, drawing_of


class Page(QWidget):
    """One page of the window. It is built, part by part, before it is first shown."""

    status_message = pyqtSignal(str)
    """A passing remark for the foot line."""
    wanted = pyqtSignal(str)
    """The name of one of the window's actions."""
    run_wanted = pyqtSignal()
    """Start a run and show it."""
    drive_run_wanted = pyqtSignal(object, str)
    """Run another drive than the open one, such as that of a row, with words about it, and show it."""
    tap_wanted = pyqtSignal(str)
    """Name a signal, or take its name off."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.setObjectName("page")

    def building(self) -> Iterator[None]:
        """Build the page; between its parts, each a few hundredths of a second, the window can do all else."""
        return iter(())

    def fit(self) -> None:
        """Show all there is."""

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """F fits, wherever no text is typed."""
        if event is not None and event.key() == Qt.Key.Key_F and not event.modifiers():
            self.fit()
        else:
            super().keyPressEvent(event)

    def may_close(self) -> bool:
        """Ask about what would be lost with the window; true when it is all right to close it."""
        return True

    def vary(self, name: str) -> None:
        """Let something vary, on the page that can."""

    def rename(self) -> None:
        """Rename what is chosen."""

    def look_for(self) -> bool:
        """Ask what is looked for on this page; false where there is nothing to look through."""
        return False

    def drawing(self) -> Drawing:
        """What a picture of the page shows."""
        return drawing_of(self)

"""What the window asks of a page, and how a page speaks to the window."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from pendel.app.session.session import Session


class Page(QWidget):
    """One page of the window. It is built when it is first shown."""

    status_message = pyqtSignal(str)
    """A passing remark for the foot line."""
    wanted = pyqtSignal(str)
    """The name of one of the window's actions."""
    run_wanted = pyqtSignal()
    """Start a run and show it."""
    tap_wanted = pyqtSignal(str)
    """Name a signal, or take its name off."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.setObjectName("page")

    def build_rest(self) -> None:
        """Build what the page leaves for later, at the latest when it is first needed."""

    def fit(self) -> None:
        """Show all there is."""

    def rename(self) -> None:
        """Rename what is chosen."""

    def picture_of(self) -> QWidget:
        """What a picture of the page shows."""
        return self

"""The line that finds: cards, quantities, taps and what is written in values and equations, on all sheets."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidgetItem, QWidget

from pendel.app.drive.match_delegate import ROLE
from pendel.app.drive.popup_line import PopupLine
from pendel.app.session.session import Session
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.where import places
from pendel.core.errors import DriveProblem


class FindLine(PopupLine):
    def __init__(self, session: Session, parent: QWidget):
        super().__init__(
            parent,
            "Find a card, a quantity, or what is written in a value",
            "Find in the drive",
            "↑ ↓ choose · Enter goes there · Esc closes",
        )
        self.session = session

    def refresh(self) -> None:
        self.list.clear()
        drive = self.session.drive
        for place in places(drive, self.line.text()):
            item = QListWidgetItem(place.title)
            try:
                kind = kind_in(drive, place.card) if place.card else None
            except DriveProblem:
                kind = None
            item.setData(ROLE, (place.title, place.sentence, "", kind))
            item.setToolTip(place.sentence)
            item.setData(Qt.ItemDataRole.UserRole, place)
            self.list.addItem(item)
        self.end_list("Nothing in this drive is called so, or has that written in it.")


__all__ = ["FindLine"]

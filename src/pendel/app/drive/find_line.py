"""The line that finds: cards, quantities, taps and what is written in values and equations, on all sheets."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtWidgets import QWidget

from pendel.app.drive.popup_line import Entry, PopupLine, PopupWords
from pendel.app.session.session import Session
from pendel.core.catalogue.where import places

WORDS = PopupWords(
    "Find a card, a quantity, or what is written in a value",
    "Find in the drive",
    "↑ ↓ choose · Enter goes there · Esc closes",
    "Nothing in this drive has that name, or has it written in it.",
)


class FindLine(PopupLine):
    def __init__(self, session: Session, parent: QWidget):
        self.session = session
        super().__init__(parent, self._found, WORDS)

    def _found(self, text: str) -> Iterator[Entry]:
        for place in places(self.session.drive, text):
            yield Entry(place.title, place.sentence, "", place.kind, place)


__all__ = ["FindLine"]

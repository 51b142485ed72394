"""The taps of the drive: named points on signals. A click selects the signal, Delete takes the tap off."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent
from PyQt6.QtWidgets import QInputDialog, QMenu, QPushButton, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import Elided, clear, column, label, row
from pendel.core.drive import commands
from pendel.core.drive.document import End


class TapRow(QPushButton):
    delete_wanted = pyqtSignal()
    rename_wanted = pyqtSignal()

    def __init__(self, name: str):
        super().__init__(name)
        self.setObjectName("link")
        self.setAccessibleName(f"Tap {name}")
        self.setToolTip(f"{name}: click to select its signal, F2 to rename, Delete to take it off")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.delete_wanted.emit()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        assert event is not None
        menu = QMenu(self)
        menu.addAction("Rename …", self.rename_wanted.emit)
        menu.addAction("Delete", self.delete_wanted.emit)
        menu.exec(event.globalPos())


class TapList(QWidget):
    status_message = pyqtSignal(str)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.shown: dict[str, End] | None = None
        self.rows: dict[str, TapRow] = {}
        body = column(self, (0, 6, 0, 0), 0)
        heading = label("Taps", "heading")
        heading.setContentsMargins(8, 4, 0, 4)
        self.count = label("", "muted")
        body.addLayout(row(heading, 1, self.count))
        holder = QWidget()
        self.lines = column(holder, (8, 0, 0, 0), 0)
        body.addWidget(holder)

    def refresh(self) -> None:
        taps = dict(self.session.drive.taps)
        if taps == self.shown:
            return
        self.shown, self.rows = taps, {}
        self.setVisible(bool(taps))
        self.count.setText(str(len(taps)))
        clear(self.lines)
        for name, end in taps.items():
            tap_row = TapRow(name)
            tap_row.clicked.connect(lambda _=False, e=end: self.select(e))
            tap_row.delete_wanted.connect(
                lambda n=name: self.session.attempt(lambda: commands.remove_tap(self.session.drive, n))
            )
            tap_row.rename_wanted.connect(lambda n=name: self.rename(n))
            self.rows[name] = tap_row
            where = Elided(self.place(end), "muted", right=True)
            line = row(tap_row, where)
            line.setStretch(1, 1)
            self.lines.addLayout(line)

    def place(self, end: End) -> str:
        card = self.session.drive.cards.get(end.card)
        return f"{card.name if card else end.card}, {end.port.replace('_', ' ')}"

    def select(self, end: End) -> None:
        """The wire that carries the signal, or its card when no wire does."""
        wire = next((w.key for w in self.session.drive.wires.values() if w.a == end), "")
        self.session.select([] if wire else [end.card], wire)

    def rename(self, name: str, new: str | None = None) -> None:
        if new is None:
            new, good = QInputDialog.getText(self, "Rename a tap", f"New name of {name}", text=name)
            if not good or new.strip() == name:
                return
        self.session.attempt(lambda: commands.rename_tap(self.session.drive, name, new.strip()))

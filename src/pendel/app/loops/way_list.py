"""The ways between two points that a drive keeps: one is shown, those that are ticked lie under it."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QMenu, QWidget

from pendel.app.widgets.basic import button, column, label
from pendel.app.widgets.signal_drag import accept_signals
from pendel.core.drive.document import Drive, KeptTransfer


class WayList(QWidget):
    """``chosen`` gives the name of a way, empty for a new one; ``ticked`` tells that others are laid
    under."""

    chosen = pyqtSignal(str)
    ticked = pyqtSignal()
    wished = pyqtSignal(object)
    """A way that is not kept yet."""

    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 0, 0, 0), 4)
        inside.addWidget(label("Between two points", "heading"))
        self.list = QListWidget()
        self.list.setAccessibleName("Kept ways between two points")
        self.list.setToolTip("Tick to lay a way under the one that is shown")
        self.list.itemClicked.connect(lambda item: self.chosen.emit(item.text()))
        self.list.itemActivated.connect(lambda item: self.chosen.emit(item.text()))
        self.list.itemChanged.connect(lambda _: self.ticked.emit())
        inside.addWidget(self.list)
        self.new_button = button("New …", lambda: self.chosen.emit(""), "small")
        self.new_button.setToolTip(
            "The linear model from any signal to any other; signals can be dragged here from the list on Runs"
        )
        self.around_button = button("Around the loop …", self._show_usual, "small")
        self.around_button.setToolTip(
            "L at the plant's input and output; setpoint, disturbance and noise to what they move"
        )
        inside.addWidget(self.new_button)
        inside.addWidget(self.around_button)
        self.menu = QMenu(self)
        self.setAcceptDrops(True)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        accept_signals(event)

    def dropEvent(self, event: QDropEvent | None) -> None:
        """From the first signal that is let go here to the second; of one alone, from it."""
        if keys := accept_signals(event):
            self.wished.emit(KeptTransfer(keys[0], keys[1] if len(keys) > 1 else ""))

    def _show_usual(self) -> None:
        self.menu.popup(self.around_button.mapToGlobal(self.around_button.rect().bottomLeft()))

    def offer(self, usual: Mapping[str, KeptTransfer]) -> None:
        """The usual ways around the chosen loop."""
        self.menu.clear()
        for words, way in usual.items():
            action = self.menu.addAction(words)
            assert action is not None
            action.triggered.connect(lambda _, w=way: self.wished.emit(w))
        self.around_button.setEnabled(bool(usual))

    def follow(self, drive: Drive) -> None:
        ticked = self.ticked_names()
        with QSignalBlocker(self.list):
            now = self.list.currentItem()
            known = now.text() if now is not None else ""
            self.list.clear()
            for name, way in drive.transfers.items():
                item = QListWidgetItem(name)
                item.setToolTip(f"{way.source} → {way.target}")
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if name in ticked else Qt.CheckState.Unchecked)
                self.list.addItem(item)
                if name == known:
                    self.list.setCurrentItem(item)
        self.list.setVisible(bool(drive.transfers))
        self.list.setFixedHeight(min(6, max(1, self.list.count())) * 22 + 6)

    def ticked_names(self) -> list[str]:
        items = [item for n in range(self.list.count()) if (item := self.list.item(n)) is not None]
        return [item.text() for item in items if item.checkState() is Qt.CheckState.Checked]

    def show_none(self) -> None:
        self.list.setCurrentRow(-1)
        self.list.clearSelection()


__all__ = ["WayList"]

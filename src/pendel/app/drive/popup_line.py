"""A line above a list of what fits it: typed, chosen by arrows, taken by Enter, closed by Escape."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QWidget

from pendel.app.drive.match_delegate import MatchDelegate
from pendel.app.widgets.basic import column, label
from pendel.app.widgets.theme import colour


class PopupLine(QFrame):
    """``chosen`` gives what its item holds."""

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget, hint: str, name: str, keys: str):
        super().__init__(parent)
        self.setObjectName("search")
        self.setStyleSheet(
            f"QFrame#search {{ background: {colour('card').name()}; border: 1px solid "
            f"{colour('petrol').name()}; border-radius: 4px; }}"
        )
        body = column(self, (8, 8, 8, 8), 4)
        self.line = QLineEdit()
        self.line.setPlaceholderText(hint)
        self.line.setAccessibleName(name)
        self.line.setFixedHeight(28)
        self.line.textChanged.connect(self.refresh)
        self.line.installEventFilter(self)
        self.list = QListWidget()
        self.list.setItemDelegate(MatchDelegate(self.list))
        self.list.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.itemClicked.connect(lambda _: self._take())
        body.addWidget(self.line)
        body.addWidget(self.list)
        body.addWidget(label(keys, "muted"))
        self.setFixedSize(460, 380)
        self.hide()

    def show_at(self, where: QPoint) -> None:
        """Open, with nothing typed."""
        parent = self.parentWidget()
        assert parent is not None
        at = parent.mapFromGlobal(where)
        self.move(
            max(4, min(at.x(), parent.width() - self.width() - 4)),
            max(4, min(at.y(), parent.height() - self.height() - 4)),
        )
        self.line.clear()
        self.refresh()
        self.show()
        self.raise_()
        self.line.setFocus()

    def refresh(self) -> None:
        """List what fits."""
        raise NotImplementedError

    def end_list(self, none: str) -> None:
        """The first is chosen; a sentence where there is none."""
        if not self.list.count():
            item = QListWidgetItem(none)
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _take(self) -> None:
        item = self.list.currentItem()
        held = item.data(Qt.ItemDataRole.UserRole) if item else None
        if held is not None:
            self.hide()
            self.chosen.emit(held)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                parent = self.parentWidget()
                if parent is not None:
                    parent.setFocus()
                return True
        if (
            event is not None
            and event.type() == QEvent.Type.FocusOut
            and watched is self.line
            and not self.underMouse()
        ):
            self.hide()
        return super().eventFilter(watched, event)

"""The fields that say from where to where a drive is looked at: signals by words or key, those that are opened, and the
operating point."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import QComboBox, QCompleter, QFormLayout, QListWidget, QWidget

from pendel.app.widgets.basic import column, label
from pendel.app.widgets.signal_drag import accept_signals
from pendel.core.drive.document import Drive, KeptTransfer, renamed_signal
from pendel.core.loops.models.transfer import ANY, PLACES_OF_WAYS, offered
from pendel.core.runs.preparing.simulate import signal_infos


class SignalBox(QComboBox):
    """A signal, chosen from a list that is searched by any part of it, or typed."""

    chosen = pyqtSignal()

    def __init__(self, name: str):
        super().__init__()
        self.setEditable(True)
        self.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.setAccessibleName(name)
        self.setAcceptDrops(True)
        self.setMinimumContentsLength(10)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        completer = self.completer()
        if completer is not None:
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.activated.connect(lambda _: self.chosen.emit())
        line = self.lineEdit()
        assert line is not None
        line.setAcceptDrops(False)  # or it would add the signal's key to the text
        line.editingFinished.connect(self.typed)
        self._before = ""

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        accept_signals(event)

    def dropEvent(self, event: QDropEvent | None) -> None:
        """A signal that is let go here is chosen."""
        if keys := accept_signals(event):
            self.show_key(keys[0])
            self.chosen.emit()

    def typed(self) -> None:
        if self.currentText() != self._before:
            self._before = self.currentText()
            self.chosen.emit()

    def offer(self, keys: Sequence[str], words: dict[str, str], first: str = "") -> None:
        """List signals, keeping what is chosen."""
        known = self.key()
        with QSignalBlocker(self):
            self.clear()
            if first:
                self.addItem(first, "")
            for key in keys:
                self.addItem(f"{words[key]} · {key}" if key in words else key, key)
        self.show_key(known)

    def key(self) -> str:
        at = self.findText(self.currentText())
        return str(self.itemData(at)) if at >= 0 else self.currentText().strip()

    def follow_card(self, old: str, new: str) -> None:
        """A card is called otherwise."""
        self.show_key(renamed_signal(self.key(), old, new))

    def show_key(self, key: str) -> None:
        at = self.findData(key)
        with QSignalBlocker(self):
            self.setCurrentIndex(at)
            if at < 0:
                self.setEditText(key)
        line = self.lineEdit()
        assert line is not None
        line.setCursorPosition(0)
        self.setToolTip(self.currentText())
        self._before = self.currentText()


class OpenedList(QListWidget):
    """Signals that are opened; Delete closes one again."""

    closed_one = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Opened signals")
        self.setToolTip("Delete closes a signal again")
        self.setFixedHeight(44)

    def keys(self) -> tuple[str, ...]:
        return tuple(item.text() for n in range(self.count()) if (item := self.item(n)) is not None)

    def show_keys(self, keys: Sequence[str]) -> None:
        self.clear()
        self.addItems(list(keys))
        self.setVisible(bool(keys))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            if self.currentRow() >= 0:
                self.takeItem(self.currentRow())
                self.setVisible(self.count() > 0)
                self.closed_one.emit()
            return
        super().keyPressEvent(event)


class WayFields(QWidget):
    """``changed`` tells that another way is meant."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        form = QFormLayout(self)
        form.setContentsMargins(0, 0, 0, 0)
        form.setVerticalSpacing(6)
        self.source, self.target, self.opening = SignalBox("From"), SignalBox("To"), SignalBox("Open at")
        self.opened = OpenedList()
        self.at = SignalBox("About")
        around = QWidget()
        inside = column(around, (0, 0, 0, 0), 4)
        inside.addWidget(self.opening)
        inside.addWidget(self.opened)
        for title, widget in (
            ("From", self.source),
            ("To", self.target),
            ("Open at", around),
            ("About", self.at),
        ):
            form.addRow(label(title, "muted"), widget)
        for box in (self.source, self.target, self.at):
            box.chosen.connect(self.changed)
        self.opening.chosen.connect(self._open)
        self.opened.closed_one.connect(self.changed)
        self.opened.setVisible(False)

    def follow(self, drive: Drive, cursor: float | None) -> None:
        """Offer what a drive has, and the time at the cursor of the runs."""
        starts, stops = offered(drive)
        words = {key: f"{info.card} {info.label}" for key, info in signal_infos(drive).items()}
        taps = list(drive.taps)
        tapped = {name: f"tap of {words.get(str(end), str(end))}" for name, end in drive.taps.items()}
        words |= tapped
        self.source.offer([*taps, *starts], words)
        self.target.offer([*taps, *stops], words)
        self.opening.offer([*taps, *(s for s in starts if not s.endswith(".profile"))], words, "choose …")
        places = [name for name in PLACES_OF_WAYS if name != ANY]
        if cursor is not None:
            places.append(f"{cursor:.6g} s")
        about = {**PLACES_OF_WAYS, f"{cursor:.6g} s" if cursor is not None else "": "at the cursor"}
        self.at.offer(places, {k: v for k, v in about.items() if k}, "where something answers")

    def _open(self) -> None:
        key = self.opening.key()
        if key and key not in self.opened.keys():
            self.opened.show_keys((*self.opened.keys(), key))
            self.changed.emit()
        self.opening.show_key("")

    def way(self) -> KeptTransfer:
        return KeptTransfer(self.source.key(), self.target.key(), self.opened.keys(), self.at.key())

    def follow_card(self, old: str, new: str) -> None:
        """A card is called otherwise."""
        way = self.way()
        source, target, *opened = (renamed_signal(s, old, new) for s in (way.source, way.target, *way.opened))
        self.show_way(KeptTransfer(source, target, tuple(opened), way.at))

    def show_way(self, way: KeptTransfer) -> None:
        self.source.show_key(way.source)
        self.target.show_key(way.target)
        self.opened.show_keys(way.opened)
        self.at.show_key(way.at)
        self.opening.show_key("")

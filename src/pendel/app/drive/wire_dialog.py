"""Wiring by keyboard: where a wire begins and ends, found by words in lists of what fits, the usual first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QLineEdit, QListWidget, QListWidgetItem, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import column, label, row
from pendel.core.catalogue.declare import Link, Part
from pendel.core.catalogue.where import holds
from pendel.core.check import end_exists, fits
from pendel.core.drive.document import End
from pendel.core.drive.nesting import resolved
from pendel.core.wiring.habits import habits, place_of

SELECTED, REQUIRED, OPEN, USUAL = 8.0, 4.0, 2.0, 10.0
"""What brings an end forward: its card is selected, it must be joined, it is open, such cards are usually joined."""


@dataclass(frozen=True)
class Offered:
    """An end with its words; ``wanting`` is how much it asks for a wire by itself."""

    words: str
    end: End
    link: Link
    wanting: float


def all_ends(session: Session) -> list[Offered]:
    """Every port and signal, the likeliest first: of the selected card, then what is open."""
    joined = {str(end) for wire in session.drive.wires.values() for end in (wire.a, wire.b)}
    offered = []
    for key, kind in session.kinds().items():
        card = session.drive.cards[key]
        chosen = SELECTED if key in session.selection else 0.0
        for port in kind.ports:
            end = End(key, port.name)
            is_open = str(resolved(session.drive, end)) not in joined
            wanting = chosen + is_open * (OPEN + REQUIRED * (port.required and port.link is not Link.HEAT))
            offered.append(Offered(f"{card.name}: {port.label}", end, port.link, wanting))
        if isinstance(kind, Part):
            offered += [
                Offered(f"{card.name}: {s.label}", End(key, s.name), Link.SIGNAL_OUT, chosen)
                for s in kind.signals
                if kind.port(s.name) is None
            ]
    return sorted(offered, key=lambda each: -each.wanting)


def targets_of(session: Session, start: Offered, ends: Sequence[Offered]) -> list[Offered]:
    """What a wire from an end can lead to, what it usually leads to first."""
    fed = {w.b for w in session.drive.wires.values()}
    kinds = session.kinds()
    own = kinds[start.end.card]
    known = habits().partners
    usual = known.get((own.id, start.end.port)) or known.get(place_of(own, start.end.port)) or {}
    whole = sum(usual.values()) or 1
    found = [
        (each, each.wanting + USUAL * usual.get(kinds[each.end.card].id, 0) / whole)
        for each in ends
        if each.end.card != start.end.card
        and fits(start.link, each.link)
        and not (each.link is Link.SIGNAL_IN and resolved(session.drive, each.end) in fed)
    ]
    return [each for each, _ in sorted(found, key=lambda pair: -pair[1])]


class EndList(QWidget):
    """A line for words above the ends that hold them all. Arrows choose while one types."""

    def __init__(self, title: str, chosen: Callable[[], None], done: Callable[[], None]):
        super().__init__()
        self.offered: list[Offered] = []
        self._changed = chosen
        inside = column(self, (0, 0, 0, 0), 4)
        inside.addWidget(label(title, "muted"))
        self.line = QLineEdit()
        self.line.setPlaceholderText("words, such as motor current")
        self.line.setAccessibleName(f"{title}: words")
        self.list = QListWidget()
        self.list.setAccessibleName(title)
        self.list.setMinimumSize(300, 260)
        inside.addWidget(self.line)
        inside.addWidget(self.list)
        self.line.textChanged.connect(lambda _: self._fill())
        self.line.installEventFilter(self)
        self.list.currentRowChanged.connect(lambda _: self._changed())
        self.line.returnPressed.connect(done)
        self.list.itemActivated.connect(lambda _: done())

    def offer(self, offered: Sequence[Offered]) -> None:
        self.offered = list(offered)
        self._fill()

    def _fill(self) -> None:
        words = self.line.text().lower().split()
        self.list.blockSignals(True)
        self.list.clear()
        for each in self.offered:
            if holds(words, each.words):
                item = QListWidgetItem(each.words)
                item.setData(Qt.ItemDataRole.UserRole, str(each.end))
                self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.blockSignals(False)
        self._changed()

    @property
    def chosen(self) -> Offered | None:
        item = self.list.currentItem()
        key = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        return next((each for each in self.offered if str(each.end) == key), None)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            steps = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}
            step = steps.get(Qt.Key(event.key())) if event.key() in {k.value for k in steps} else None
            if step is not None and self.list.count():
                self.list.setCurrentRow(min(max(0, self.list.currentRow() + step), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)


class WireDialog(QDialog):
    """Both ends side by side; Enter goes from the first to the second, and makes the wire."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Wire")
        body = column(self, (16, 14, 16, 14), 10)
        self.ends = all_ends(session)
        self.start = EndList("From", self._offer_targets, self._to_second)
        self.target = EndList("To", self._can, self._finish)
        body.addLayout(row(self.start, self.target, spacing=12))
        self.box = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        for each in self.box.buttons():
            each.setAutoDefault(False)  # type: ignore[attr-defined]
        self.box.accepted.connect(self.accept)
        self.box.rejected.connect(self.reject)
        body.addWidget(self.box)
        self.start.offer(self.ends)
        self._offer_targets()
        self.start.line.setFocus()

    def _offer_targets(self) -> None:
        start = self.start.chosen
        self.target.offer(targets_of(self.session, start, self.ends) if start is not None else [])
        self._can()

    def _can(self) -> None:
        ok = self.box.button(QDialogButtonBox.StandardButton.Ok)
        assert ok is not None
        ok.setEnabled(self.start.chosen is not None and self.target.chosen is not None)

    def _to_second(self) -> None:
        if self.start.chosen is not None:
            self.target.line.setFocus()

    def _finish(self) -> None:
        if self.start.chosen is not None and self.target.chosen is not None:
            self.accept()

    def pair(self) -> tuple[End, End] | None:
        """What was chosen; signals from source to reader."""
        start, target = self.start.chosen, self.target.chosen
        if start is None or target is None:
            return None
        a, b = start.end, target.end
        link = end_exists(self.session.drive, self.session.kinds(), a)
        return (b, a) if link is Link.SIGNAL_IN else (a, b)


def choose_wire(parent: QWidget, session: Session) -> tuple[End, End] | None:
    """Ask for both ends; signals come back from source to reader."""
    dialog = WireDialog(session, parent)
    return dialog.pair() if dialog.exec() == QDialog.DialogCode.Accepted else None

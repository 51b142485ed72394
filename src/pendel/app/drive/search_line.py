"""The line that adds parts and blocks: type a few letters, Enter adds the best match."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from PyQt6.QtCore import QEvent, QObject, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QWidget

from pendel.app.drive.match_delegate import ROLE, MatchDelegate
from pendel.app.widgets.basic import column, label
from pendel.app.widgets.theme import colour
from pendel.core.catalogue.declare import Kind, Link, Part
from pendel.core.catalogue.index import ASSEMBLY, kinds
from pendel.core.check import fits
from pendel.core.drive.shelf import READY, on_shelf, ready, sentence_of
from pendel.core.vocabulary import ValueRole, task_of


@dataclass(frozen=True)
class Match:
    kind: Kind
    score: float
    port: str
    """Port that fits what is to be connected, if any."""
    shelved: Path | None = None
    """File of an assembly from the user's own shelf."""


def matches(text: str, link: Link | None) -> list[Match]:
    """Kinds that fit the words typed, best first; kinds that connect to ``link`` before others."""
    words = text.lower().split()
    entries = []
    for place, kind in enumerate(kinds().values()):
        haystack = f"{kind.title} {kind.id.replace('_', ' ')} {kind.keywords} {task_of(kind.group)}".lower()
        if not all(
            any(piece.startswith(w) for piece in haystack.split()) or (len(w) > 2 and w in haystack) for w in words
        ):
            continue
        score = named(kind.title, words) + 3.0 * sum(w in kind.keywords.lower().split() for w in words)
        port = next((p.name for p in kind.ports if link is not None and fits(link, p.link)), "")
        if not port and link is Link.SIGNAL_IN and isinstance(kind, Part) and kind.signals:
            port = "signals"
        score += 12.0 if port else 0.0
        score += WHOLE if kind.title.lower() == text.strip().lower() and (port or link is None) else 0.0
        entries.append(Match(kind, score - place * 0.01, port))
    return sorted(entries, key=lambda m: -m.score)


def named(title: str, words: list[str]) -> float:
    """How much a title answers what was typed."""
    title = title.lower()
    return 10.0 * sum(title.startswith(w) for w in words) + 4.0 * sum(w in title for w in words)


WHOLE = 11.0
"""For a title that is just what was typed."""


def shelf_matches(text: str, shelf: Sequence[tuple[str, Path]]) -> list[Match]:
    """Assemblies, the user's own and those that come along, whose names fit the words typed. One that is
    named as well as a kind stands before it."""
    words = text.lower().split()
    entries = []
    for name, path in shelf:
        origin = "Ready assembly." if path.parent == READY else "From your shelf."
        sentence = f"{origin} {sentence_of(path)}".strip()
        if all(w in f"{name} {sentence} assembly shelf".lower() for w in words):
            score = named(name, words) + (WHOLE if name.lower() == text.strip().lower() else 0.0) + 4.0
            entries.append(Match(replace(ASSEMBLY, title=name, sentence=sentence), score, "", path))
    return entries


class SearchLine(QFrame):
    """Opens at the pointer; Escape closes it."""

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setObjectName("search")
        self.setStyleSheet(
            f"QFrame#search {{ background: {colour('card').name()}; border: 1px solid "
            f"{colour('petrol').name()}; border-radius: 4px; }}"
        )
        self.link: Link | None = None
        self.shelf: list[tuple[str, Path]] = []
        body = column(self, (8, 8, 8, 8), 4)
        self.line = QLineEdit()
        self.line.setPlaceholderText("Add a part or block: type what you need")
        self.line.setAccessibleName("Search for a part or block")
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
        body.addWidget(label("↑ ↓ choose · Enter adds · Esc closes", "muted"))
        self.setFixedSize(460, 380)
        self.hide()

    def open_at(self, where: QPoint, link: Link | None) -> None:
        parent = self.parentWidget()
        assert parent is not None
        self.link = link
        at = parent.mapFromGlobal(where)
        self.move(
            max(4, min(at.x(), parent.width() - self.width() - 4)),
            max(4, min(at.y(), parent.height() - self.height() - 4)),
        )
        self.shelf = [*on_shelf(), *ready()]
        self.line.clear()
        self.refresh()
        self.show()
        self.raise_()
        self.line.setFocus()

    def refresh(self) -> None:
        self.list.clear()
        entries, text = matches(self.line.text(), self.link), self.line.text()
        entries += shelf_matches(text, self.shelf)
        for match in sorted(entries, key=lambda m: -m.score) if text else entries:
            needs = ", ".join(v.label.lower() for v in match.kind.values[:3] if v.role is not ValueRole.PERIODS)
            sentence = f"{match.kind.sentence}{'  Needs ' + needs + '.' if needs else ''}"
            item = QListWidgetItem(match.kind.title)
            item.setData(
                ROLE,
                (match.kind.title, sentence, "fits here" if match.port and self.link else "", match.kind),
            )
            item.setToolTip(match.kind.sentence)
            item.setData(Qt.ItemDataRole.UserRole, match)
            self.list.addItem(item)
        if not self.list.count():
            item = QListWidgetItem("Nothing fits. Try fewer letters, or build it with “own equations”.")
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _take(self) -> None:
        item = self.list.currentItem()
        match = item.data(Qt.ItemDataRole.UserRole) if item else None
        if match is not None:
            self.hide()
            self.chosen.emit(match)

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

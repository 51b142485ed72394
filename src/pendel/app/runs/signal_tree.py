"""The signals of a run as a tree by part; they are dragged to strips."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QBrush
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTreeWidget, QTreeWidgetItem

from pendel.app.widgets.signal_drag import signals_mime
from pendel.app.widgets.theme import colour, font
from pendel.core.runs.record.kept import KeptRun

USED_LAST = "Used last"
MANY = 4
"""Signals of one part that differ by their designation alone, from which on they are folded."""
DIFFERENCES = "difference of "
"""Begins the labels of how far signals as shipped are from those in float 64."""
DESIGNATION = re.compile(r"(,? (?:[a-d]|q|upper|lower|\d+|\+|−))+$")
"""Phase, axis, side or number at the end of a label."""


class SignalTree(QTreeWidget):
    """All signals by part; drag one onto a strip, or double-click for a strip of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.setHeaderHidden(True)
        self.setColumnCount(2)
        self.setIndentation(14)
        self.setDragEnabled(True)
        self.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setAccessibleName("Signals")
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header = self.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)

    def mimeData(self, items) -> QMimeData:
        return signals_mime([i.data(0, Qt.ItemDataRole.UserRole) for i in items if i.data(0, Qt.ItemDataRole.UserRole)])

    def fill(self, run: KeptRun | None, text: str, used: Sequence[str] = ()) -> None:
        """Show the signals of a run that ``text`` finds, by part; those ``used`` last are on top once
        more."""
        open_before = {path for path, item in self._folders() if item.isExpanded()}
        closed_before = {path for path, item in self._folders() if not item.isExpanded()}
        first = not self.topLevelItemCount()
        self.clear()
        if run is None:
            return
        wanted: dict[str, list[tuple[str, str]]] = {}
        for key in run.keys:
            info = run.infos.get(key)
            if info is not None and (not text or text.lower() in f"{info.card} {info.label} {key}".lower()):
                wanted.setdefault(info.card, []).append((key, info.label))
        known = {key for signals in wanted.values() for key, _ in signals}
        if recent := [k for k in used if k in known]:
            folder = self._folder(self, USED_LAST, (USED_LAST,) not in closed_before)
            for key in recent:
                self._add(folder, run, key, f"{run.infos[key].card}: {run.infos[key].label}")
        for card, signals in wanted.items():
            top = self._folder(self, card, bool(text) or first or (card,) in open_before)
            folders: dict[str, QTreeWidgetItem] = {}
            for alike, key, words in folded(signals):
                if alike and alike not in folders:
                    folders[alike] = self._folder(top, alike, bool(text) or (card, alike) in open_before, bold=False)
                self._add(folders.get(alike, top), run, key, words)
            for folder in folders.values():
                folder.setText(1, f"{folder.childCount()} ×")
                folder.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
                folder.setForeground(1, QBrush(colour("muted")))

    def _folders(self) -> Iterator[tuple[tuple[str, ...], QTreeWidgetItem]]:
        """Items that fold others, by their titles and those above."""
        for n in range(self.topLevelItemCount()):
            top = self.topLevelItem(n)
            assert top is not None
            yield (top.text(0),), top
            for k in range(top.childCount()):
                if (child := top.child(k)) is not None and child.childCount():
                    yield (top.text(0), child.text(0)), child

    def _folder(
        self, parent: SignalTree | QTreeWidgetItem, title: str, opened: bool, *, bold: bool = True
    ) -> QTreeWidgetItem:
        folder = QTreeWidgetItem(parent, [title])
        if bold:
            folder.setFont(0, font(12, bold=True))
        folder.setExpanded(opened)
        return folder

    def _add(self, parent: QTreeWidgetItem, run: KeptRun, key: str, words: str) -> None:
        item = QTreeWidgetItem(parent, [words, run.units.of(key, run.infos[key].unit)])
        item.setData(0, Qt.ItemDataRole.UserRole, key)
        item.setToolTip(0, key)
        item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
        item.setForeground(1, QBrush(colour("muted")))


def folded(signals: Sequence[tuple[str, str]]) -> Iterator[tuple[str, str, str]]:
    """Signals of one part, by key and label, as folder (or none), key and words: what differs only by a
    phase, a side or a
    number is folded where it is much."""
    apart = [(key, label) for key, label in signals if label.startswith(DIFFERENCES)]
    signals = [each for each in signals if each not in apart]
    stems = {key: DESIGNATION.sub("", label) for key, label in signals}
    count = Counter(stems.values())
    for key, label in signals:
        stem = stems[key]
        if stem and count[stem] >= MANY:
            yield stem.removesuffix(" of"), key, label[len(stem) :].strip(" ,") or label
        else:
            yield "", key, label
    for key, label in apart:
        yield "differences from float 64", key, label.removeprefix(DIFFERENCES)

"""A tree of figures that are read, marked and copied: groups that open, with lines in them."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from pendel.app.widgets.basic import taken_over

Line = Sequence[str]


class FigureTree(QTreeWidget):
    """Ctrl+C copies the marked lines, with tabs; what was open stays so when other figures come."""

    def __init__(self, name: str, titles: Sequence[str]):
        super().__init__()
        self.setAccessibleName(name)
        self.setHeaderLabels(list(titles))
        self.setSelectionMode(QTreeWidget.SelectionMode.ExtendedSelection)
        self.setUniformRowHeights(True)
        self.setIndentation(14)
        header = self.header()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)

    def show_groups(self, groups: Sequence[tuple[Line, Sequence[Line]]]) -> None:
        """Groups by their first texts."""
        opened = {item.text(0) for item in self.groups() if item.isExpanded()}
        self.clear()
        for head, lines in groups:
            group = QTreeWidgetItem([*head])
            group.addChildren([QTreeWidgetItem([*line]) for line in lines])
            self.addTopLevelItem(group)
            group.setExpanded(head[0] in opened)
            for item in lines_of(group):
                for column in range(1, self.columnCount()):
                    item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

    def groups(self) -> list[QTreeWidgetItem]:
        items = (self.topLevelItem(n) for n in range(self.topLevelItemCount()))
        return [item for item in items if item is not None]

    def event(self, event: QEvent | None) -> bool:
        """Copying figures goes before copying cards."""
        return taken_over(event, QKeySequence.StandardKey.Copy) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not event.matches(QKeySequence.StandardKey.Copy):
            super().keyPressEvent(event)
            return
        marked = {id(item) for item in self.selectedItems()}
        every = [
            each for group in self.groups() for each in (group, *(group.child(n) for n in range(group.childCount())))
        ]
        lines = ["\t".join(item.text(c) for c in range(self.columnCount())) for item in every if id(item) in marked]
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText("\n".join(lines))


def lines_of(group: QTreeWidgetItem) -> list[QTreeWidgetItem]:
    """A group's own line, and those in it."""
    children = (group.child(n) for n in range(group.childCount()))
    return [group, *(child for child in children if child is not None)]


__all__ = ["FigureTree"]

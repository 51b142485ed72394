"""The face of an assembly: which values and ports of the cards inside it shows, and under what names."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTreeWidget, QTreeWidgetItem, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import column, wrapped
from pendel.core.catalogue.assembly import kind_in
from pendel.core.catalogue.index import known_kind
from pendel.core.drive import assemblies
from pendel.core.drive.document import End
from pendel.core.errors import DriveProblem

VALUE, PORT = "value", "port"
WHAT, NAME = 0, 1
"""Columns."""
ROLE = Qt.ItemDataRole.UserRole


class FaceEditor(QWidget):
    """A list of what is inside, each value and port with a tick; a ticked one's name can be changed."""

    status_message = pyqtSignal(str)

    def __init__(self, session: Session, assembly: str):
        super().__init__()
        self.session, self.assembly = session, assembly
        body = column(self, (0, 4, 0, 0), 6)
        body.addWidget(
            wrapped(
                "Tick what the card shows. A value on the face is each assembly's own; all else follows the design.",
                "muted",
            )
        )
        self.tree = QTreeWidget()
        self.tree.setAccessibleName("Values and ports on the face")
        self.tree.setHeaderLabels(["Inside", "On the face as"])
        self.tree.setMinimumHeight(340)
        self.tree.setIndentation(12)
        self.tree.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed)
        head = self.tree.header()
        assert head is not None
        head.setStretchLastSection(False)
        head.setSectionResizeMode(WHAT, QHeaderView.ResizeMode.Stretch)
        head.resizeSection(NAME, 104)
        self.tree.itemChanged.connect(self._edited)
        self.tree.itemDoubleClicked.connect(self._rename)
        body.addWidget(self.tree)
        self.shown: list[tuple] = []
        self.refresh()

    def facts(self) -> list[tuple]:
        """Rows to show: card, what, item, words, name on the face or empty."""
        drive = self.session.drive
        face = assemblies.face_of(drive, self.assembly)
        names = {
            (kind, i.path, i.item): i.name for kind, items in ((VALUE, face.values), (PORT, face.ports)) for i in items
        }
        lines = []
        for key, card in drive.cards.items():
            if card.inside != self.assembly:
                continue
            kind = kind_in(drive, key) if card.face is not None else known_kind(card)
            if kind is None:
                continue
            lines += [
                (
                    key,
                    card.name,
                    VALUE,
                    v.name,
                    f"{v.label} {v.name}",
                    names.get((VALUE, card.role, v.name), ""),
                )
                for v in kind.values_in_force(card)
            ]
            lines += [
                (key, card.name, PORT, p.name, f"Port: {p.label}", names.get((PORT, card.role, p.name), ""))
                for p in kind.ports
            ]
        return lines

    def refresh(self) -> None:
        if self.assembly not in self.session.drive.cards:
            return
        facts = self.facts()
        if facts == self.shown:
            return
        self.shown = facts
        bar = self.tree.verticalScrollBar()
        place = bar.value() if bar else 0
        self.tree.blockSignals(True)
        self.tree.clear()
        groups: dict[str, QTreeWidgetItem] = {}
        for key, card, what, item, words, name in facts:
            if key not in groups:
                groups[key] = QTreeWidgetItem(self.tree, [card])
                groups[key].setExpanded(True)
                groups[key].setFirstColumnSpanned(True)
            row = QTreeWidgetItem(groups[key], [words, name])
            row.setFlags(row.flags() | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEditable)
            row.setCheckState(WHAT, Qt.CheckState.Checked if name else Qt.CheckState.Unchecked)
            row.setData(WHAT, ROLE, (key, what, item, name))
            row.setToolTip(WHAT, words)
            row.setToolTip(NAME, f"{name}: double-click to rename" if name else "")
        self.tree.blockSignals(False)
        if bar:
            bar.setValue(place)

    def _rename(self, item: QTreeWidgetItem, column_: int) -> None:
        data = item.data(WHAT, ROLE)
        if column_ == NAME and data and data[3]:
            self.tree.editItem(item, NAME)

    def _edited(self, item: QTreeWidgetItem, column_: int) -> None:
        data = item.data(WHAT, ROLE)
        if data is None:
            return
        key, what, name_inside, name = data
        drive, end = self.session.drive, End(key, name_inside)
        self.shown = []
        try:
            if column_ == NAME and name and item.text(NAME).strip() != name:
                self.session.do(assemblies.rename_item(drive, self.assembly, name, item.text(NAME)))
            ticked = item.checkState(WHAT) is Qt.CheckState.Checked
            if column_ == WHAT and ticked != bool(name):  # else only its words were typed over; they come back
                change = assemblies.show_value if what == VALUE else assemblies.show_port
                self.session.do(change(drive, self.assembly, end, ticked))
        except DriveProblem as problem:
            self.status_message.emit(str(problem))
        self.refresh()

"""Notes on the sheet: shown, moved, edited and deleted."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QAbstractTextDocumentLayout, QKeyEvent, QPainter, QPalette, QPen
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QGraphicsItem,
    QPlainTextEdit,
    QStyleOptionGraphicsItem,
    QWidget,
)

from pendel.app.drive.sheet.geometry import GRID
from pendel.app.widgets.basic import column, wrapped
from pendel.app.widgets.marked_text import SafeDocument, set_marked
from pendel.app.widgets.theme import colour, font
from pendel.core.drive import commands, view_edits
from pendel.core.drive.limits import within_sheet
from pendel.core.drive.views import Note

if TYPE_CHECKING:
    from pendel.app.drive.sheet.view import SheetView

WIDTH, EDGE = 232.0, 8.0
"""px"""
HINT = "Markdown: # heading, **bold**, - list, `name`. Ctrl+Enter is done; a note without words is taken off."


class NoteItem(QGraphicsItem):
    """One note."""

    def __init__(self) -> None:
        super().__init__()
        self.note = Note()
        self.selected = False
        self.document = SafeDocument()
        self.document.setDefaultFont(font(12))
        self.document.setDocumentMargin(0)
        self.setZValue(-1)

    def show_note(self, note: Note) -> None:
        if note.text != self.note.text:
            self.prepareGeometryChange()
            set_marked(self.document, note.text)
            self.document.setTextWidth(WIDTH - 2 * EDGE)
        self.note = note
        self.setPos(note.x * GRID, note.y * GRID)
        self.update()

    @property
    def room(self) -> QRectF:
        return QRectF(0, 0, WIDTH, self.document.size().height() + 2 * EDGE)

    def boundingRect(self) -> QRectF:  # noqa: N802
        return self.room.adjusted(-2, -2, 2, 2)

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        painter.setPen(QPen(colour("petrol" if self.selected else "hairline"), 1.6 if self.selected else 1))
        painter.setBrush(colour("brass_tint"))
        painter.drawRoundedRect(self.room, 3, 3)
        painter.translate(EDGE, EDGE)
        how = QAbstractTextDocumentLayout.PaintContext()
        how.palette.setColor(QPalette.ColorRole.Text, colour("ink"))
        layout = self.document.documentLayout()
        assert layout is not None
        layout.draw(painter, how)


class NoteEditor(QDialog):
    """Asks for the words of a note."""

    def __init__(self, text: str, parent: QWidget):
        super().__init__(parent)
        self.setWindowTitle("Note")
        self.resize(420, 260)
        body = column(self, (14, 12, 14, 10), 8)
        self.editor = QPlainTextEdit(text)
        self.editor.setAccessibleName("Words of the note")
        self.editor.setTabChangesFocus(True)
        body.addWidget(self.editor, 1)
        body.addWidget(wrapped(HINT, "muted"))
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802
        assert event is not None
        enter = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if enter and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.accept()
        else:
            super().keyPressEvent(event)


class SheetNotes:
    """The notes of the open sheet."""

    def __init__(self, view: SheetView):
        self.view = view
        self.items: dict[str, NoteItem] = {}
        self.selected = ""
        self._grasp: QPointF | None = None
        self._moved = False

    def sync(self) -> None:
        session = self.view.session
        shown = {name: note for name, note in session.drive.notes.items() if note.inside == session.inside}
        for name in [name for name in self.items if name not in shown]:
            self.view.sheet.removeItem(self.items.pop(name))
        for name, note in shown.items():
            if name not in self.items:
                self.items[name] = NoteItem()
                self.view.sheet.addItem(self.items[name])
            if self._grasp is None:
                self.items[name].show_note(note)
        if self.selected not in self.items:
            self.selected = ""

    def rooms(self) -> list[QRectF]:
        """Where they are on the sheet."""
        return [item.room.translated(item.pos()) for item in self.items.values()]

    def at(self, point: QPointF) -> str:
        found = (name for name, item in reversed(self.items.items()) if item.room.contains(point - item.pos()))
        return next(found, "")

    def select(self, name: str) -> None:
        self.selected = name
        for each, item in self.items.items():
            item.selected = each == name
            item.update()

    def press(self, point: QPointF) -> bool:
        """Whether a note is grasped; cards and wires come before."""
        name = "" if self.view.card_at(point) else self.at(point)
        self.select(name)
        if not name:
            return False
        self.view.session.select([])
        self._grasp, self._moved = point - self.items[name].pos(), False
        return True

    def move(self, point: QPointF) -> bool:
        if self._grasp is None:
            return False
        corner = point - self._grasp
        self.items[self.selected].setPos(round(corner.x() / GRID) * GRID, round(corner.y() / GRID) * GRID)
        self._moved = True
        return True

    def release(self) -> bool:
        if self._grasp is None:
            return False
        self._grasp = None
        item = self.items[self.selected]
        if self._moved:
            x, y = (within_sheet(each / GRID) for each in (item.x(), item.y()))
            self._set(self.selected, replace(item.note, x=x, y=y))
        return True

    def open(self, point: QPointF) -> bool:
        """Edit the note at a point, if there is one."""
        name = "" if self.view.card_at(point) else self.at(point)
        if name:
            self._grasp = None
            self.edit(name)
        return bool(name)

    def edit(self, name: str) -> None:
        known = self.items[name].note
        dialog = NoteEditor(known.text, self.view)
        if dialog.exec() == QDialog.DialogCode.Accepted:
            self._set(name, replace(known, text=dialog.editor.toPlainText().rstrip()))

    def add(self) -> None:
        """Ask for words, and put them where the view is."""
        session = self.view.session
        dialog = NoteEditor("", self.view)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        corner = self.view.mapToScene(self.view.viewport().rect().topLeft()) + QPointF(24, 48)
        rooms = [QRectF(i.pos().x(), i.pos().y(), *i.size) for i in self.view.cards.values()] + self.rooms()
        while any(QRectF(corner, corner + QPointF(WIDTH, 60)).intersects(room) for room in rooms):
            corner += QPointF(0, 24)
        x, y = (within_sheet(each / GRID) for each in (corner.x(), corner.y()))
        note = Note(dialog.editor.toPlainText().rstrip(), x, y, session.inside)
        name = view_edits.free_note(session.drive)
        self._set(name, note)
        self.view.sync()
        self.select(name)

    def delete(self) -> bool:
        """Whether a note was selected, which is gone now."""
        if not self.selected:
            return False
        self._set(self.selected, Note())
        return True

    def nudge(self, dx: int, dy: int) -> bool:
        """Whether a note was selected, which lies elsewhere now."""
        if not self.selected:
            return False
        name = self.selected
        note = self.view.session.drive.notes[name]  # what is shown follows a moment later
        command = view_edits.set_note(
            self.view.session.drive, name, replace(note, x=within_sheet(note.x + dx), y=within_sheet(note.y + dy))
        )
        self.view.session.do(commands.Command(command.title, command.changes, f"nudge {name}"))
        return True

    def _set(self, name: str, note: Note) -> None:
        self.view.session.attempt(lambda: view_edits.set_note(self.view.session.drive, name, note))

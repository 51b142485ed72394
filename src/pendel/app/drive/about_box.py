"""What the drive says of itself: shown, and typed."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import QPlainTextEdit, QWidget

from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.marked_text import MarkedText
from pendel.core.drive import view_edits

EMPTY = "Say what this drive is for and what to try with it. It travels in the drive's file."
LINES = 12
"""Of the editor, before it scrolls."""


class AboutEditor(QPlainTextEdit):
    """Commits when it is left; Ctrl+Enter is done with it, Escape takes back what was typed."""

    left = pyqtSignal()

    def __init__(self, text: str):
        super().__init__(text)
        self.before = text
        self.setAccessibleName("Text of the drive")
        self.setTabChangesFocus(True)
        self.setPlaceholderText("Markdown: # heading, **bold**, - list, `name`")
        self.setFixedHeight(LINES * self.fontMetrics().lineSpacing() + 12)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # noqa: N802
        assert event is not None
        done = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and (
            event.modifiers() & Qt.KeyboardModifier.ControlModifier
        )
        if event.key() == Qt.Key.Key_Escape:
            self.setPlainText(self.before)
        if done or event.key() == Qt.Key.Key_Escape:
            self.clearFocus()
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:  # noqa: N802
        super().focusOutEvent(event)
        if event is None or event.reason() not in (
            Qt.FocusReason.PopupFocusReason,
            Qt.FocusReason.ActiveWindowFocusReason,
        ):
            self.left.emit()


class AboutBox(QWidget):
    """The drive's text with the way to change it."""

    def __init__(self, session: Session):
        super().__init__()
        self.session, self._drive = session, session.which
        self.editor: AboutEditor | None = None
        self.body = column(self, (0, 0, 0, 0), 4)
        self.text = MarkedText("Text of the drive")
        self.hint = wrapped(EMPTY, "muted")
        self.change = button("Edit", self.edit, "link")
        self.change.setToolTip("What the drive says of itself, in Markdown")
        self.body.addLayout(row(label("About this drive", "heading"), 1, self.change))
        self.body.addWidget(self.hint)
        self.body.addWidget(self.text)
        self.follow()

    def follow(self) -> None:
        """Show what the drive has now, unless it is being typed."""
        if self.editor is not None:
            return
        text = view_edits.about(self.session.drive)
        self.hint.setVisible(not text)
        self.text.setVisible(bool(text))
        self.change.setText("Edit" if text else "Write")
        self.text.show_text(text)

    def edit(self) -> None:
        if self.editor is not None:
            self.commit()
            return
        self.editor = AboutEditor(view_edits.about(self.session.drive))
        self.editor.left.connect(self.commit)
        self.hint.hide()
        self.text.hide()
        self.change.setText("Done")
        self.body.addWidget(self.editor)
        self.editor.setFocus()

    def commit(self) -> None:
        """Take over what is being typed, as one step of undo."""
        editor, self.editor = self.editor, None
        if editor is None or self._drive != self.session.which:
            return
        typed = editor.toPlainText()
        editor.hide()
        editor.deleteLater()
        self.session.attempt(lambda: view_edits.set_about(self.session.drive, typed))
        self.follow()

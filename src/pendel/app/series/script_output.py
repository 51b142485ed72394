"""What a script prints, and finding and replacing in one."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QMouseEvent, QShortcut, QTextCursor
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPlainTextEdit, QWidget

from pendel.app.series.script_editor import ScriptEditor
from pendel.app.widgets.basic import button, label
from pendel.app.widgets.theme import code_font
from pendel.core.wording import ACTING

MOST_PRINTED = 5000
"""Lines that are shown."""


class SearchLine(QWidget):
    """Find and replace in a script. Enter finds the next, Escape closes."""

    def __init__(self, editor: ScriptEditor):
        super().__init__()
        self.editor = editor
        self.find, self.replace = QLineEdit(), QLineEdit()
        for field, name in ((self.find, "Find"), (self.replace, "Replace by")):
            field.setAccessibleName(name)
            field.setPlaceholderText(f"{name.lower()} …")
        self.found = label("", "muted")
        inside = QHBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        for widget in (
            self.find,
            button("Next", self.next, "small"),
            self.replace,
            button("Replace", self.replace_one, "small"),
            button("Replace all", self.replace_all, "small"),
            self.found,
        ):
            inside.addWidget(widget)
        self.find.returnPressed.connect(self.next)
        self.replace.returnPressed.connect(self.replace_one)
        close = QShortcut(QKeySequence("Escape"), self, self.end)
        close.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)

    def begin(self, text: str) -> None:
        self.show()
        if text and "\n" not in text:
            self.find.setText(text)
        self.find.selectAll()
        self.find.setFocus()

    def end(self) -> None:
        self.hide()
        self.editor.setFocus()

    def next(self) -> bool:
        """The next place, from the top again after the last."""
        there = bool(self.find.text()) and self.editor.findFirst(self.find.text(), False, False, False, True)
        self.found.setText("" if there or not self.find.text() else "not found")
        return there

    def replace_one(self) -> None:
        """The place that is found, then on to the next."""
        if self.editor.selectedText().lower() == self.find.text().lower() != "":
            self.editor.replace(self.replace.text())
        self.next()

    def replace_all(self) -> None:
        text = self.find.text()
        count = self.editor.text().lower().count(text.lower()) if text else 0
        if count:
            self.editor.beginUndoAction()
            self.editor.setCursorPosition(0, 0)
            for _ in range(count):
                if self.editor.findFirst(text, False, False, False, False):
                    self.editor.replace(self.replace.text())
            self.editor.endUndoAction()
        self.found.setText(f"{count} replaced" if count else "not found")


class Output(QPlainTextEdit):
    """What a script prints. A click on a line of a traceback goes to that line of the script."""

    line_wanted = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setReadOnly(True)
        self.setAccessibleName("What the script printed")
        self.setFont(code_font(11))
        self.setStyleSheet('font-family: "JetBrains Mono"; font-size: 11px;')
        self.setMaximumBlockCount(MOST_PRINTED)

    def add(self, words: str) -> None:
        """At the end, with nothing in it that acts on the direction of writing or hides."""
        plain = ACTING.sub(lambda found: found[0] if found[0] in "\n\t" else "\N{REPLACEMENT CHARACTER}", words)
        bar = self.verticalScrollBar()
        assert bar is not None
        at_end = bar.value() >= bar.maximum() - 4
        cursor = QTextCursor(self.document())
        cursor.movePosition(QTextCursor.MoveOperation.End)
        cursor.insertText(plain)
        if at_end:
            bar.setValue(bar.maximum())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        super().mouseReleaseEvent(event)
        assert event is not None
        words = self.cursorForPosition(event.pos()).block().text()
        head, _, rest = words.partition(", line ")
        number = rest.split(",")[0].strip()
        if head.lstrip().startswith('File "<') and number.isdecimal() and not self.textCursor().hasSelection():
            self.line_wanted.emit(int(number[:7]))

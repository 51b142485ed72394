"""The shipped files, one at a time, in colour."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtGui import QColor, QFont, QSyntaxHighlighter, QTextCharFormat, QTextCursor, QTextDocument
from PyQt6.QtWidgets import QHBoxLayout, QPlainTextEdit, QWidget

from pendel.app.widgets.basic import button, clear, column
from pendel.app.widgets.theme import code_font, tokens
from pendel.core.firmware.c_words import TINTED, Line, Token, Words, words_in


class CodeColours(QSyntaxHighlighter):
    """Colours the words of C."""

    def __init__(self, document: QTextDocument | None):
        super().__init__(document)
        self.words: Mapping[Line, Words] = {}
        """Words that are known ahead."""

    def highlightBlock(self, text: str | None) -> None:
        t = tokens()
        tints = (t.moss, t.petrol, t.brass_text, t.muted, t.strong)
        line = text or "", self.previousBlockState() == 1
        words, inside = self.words.get(line) or words_in(*line)
        for start, length, number in words:
            style = QTextCharFormat()
            style.setForeground(QColor(tints[number]))
            if TINTED[number] is Token.Keyword:
                style.setFontWeight(QFont.Weight.Bold)
            self.setFormat(start, length, style)
        self.setCurrentBlockState(1 if inside else 0)


class CodeView(QWidget):
    """Files by name, with one to choose."""

    def __init__(self) -> None:
        super().__init__()
        inside = column(self, (0, 0, 0, 0), 4)
        self.tabs = QHBoxLayout()
        self.tabs.setSpacing(0)
        inside.addLayout(self.tabs)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setAccessibleName("C source")
        self.text.setFont(code_font(11))
        self.text.setStyleSheet('font-family: "JetBrains Mono"; font-size: 11px; border: none;')
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.colours = CodeColours(self.text.document())
        inside.addWidget(self.text, 1)
        self.files: dict[str, str] = {}
        self.titles: dict[str, str] = {}
        self.shown = ""

    def show_files(
        self, files: dict[str, str], titles: dict[str, str], words: Mapping[Line, Words] | None = None
    ) -> None:
        """Other files, with short titles and the words that are known of them; the place shown stays where it
        can."""
        self.titles, self.colours.words = titles, words or {}
        names, place = list(files), list(self.files).index(self.shown) if self.shown in self.files else 0
        self.files = files
        self.show_file(names[min(place, len(names) - 1)] if names else "")

    def show_file(self, name: str) -> None:
        self.shown = name
        clear(self.tabs)
        for each in self.files:
            tab = button(self.titles.get(each, each), lambda n=each: self.show_file(n), "small")
            tab.setToolTip(each)
            tab.setCheckable(True)
            tab.setChecked(each == name)
            self.tabs.addWidget(tab)
        self.tabs.addStretch(1)
        text = self.files.get(name, "")
        if self.text.toPlainText() != text:
            self.text.setPlainText(text)

    def go_to(self, words: str) -> None:
        """Scroll to the first line with some words in what is shown, and mark it."""
        document, bar = self.text.document(), self.text.verticalScrollBar()
        assert document is not None and bar is not None
        cursor = document.find(words)
        if not cursor.isNull():
            # Backwards, as the view is scrolled to where the marking ends.
            cursor.movePosition(QTextCursor.MoveOperation.EndOfBlock)
            cursor.movePosition(QTextCursor.MoveOperation.StartOfBlock, QTextCursor.MoveMode.KeepAnchor)
            self.text.setTextCursor(cursor)
            bar.setValue(max(0, cursor.blockNumber() - 2))

"""The shipped files, one at a time, in colour."""

from __future__ import annotations

from pygments import lex
from pygments.lexers import CLexer
from pygments.token import Token
from PyQt6.QtGui import QColor, QFont, QSyntaxHighlighter, QTextCharFormat
from PyQt6.QtWidgets import QHBoxLayout, QPlainTextEdit, QWidget

from pendel.app.widgets.basic import button, clear, column
from pendel.app.widgets.theme import code_font, tokens

LEXER = CLexer(stripnl=False, ensurenl=False)
"""Building one takes much longer than a line."""


class CodeColours(QSyntaxHighlighter):
    """C highlighting by Pygments."""

    def highlightBlock(self, text: str | None) -> None:
        t = tokens()
        tints = {
            Token.Comment: t.moss,
            Token.Keyword: t.petrol,
            Token.Literal: t.brass_text,
            Token.Comment.Preproc: t.muted,
            Token.Name.Function: t.strong,
        }
        starts_inside = self.previousBlockState() == 1
        whole = (text or "") if not starts_inside else "/*" + (text or "")
        shift = 2 if starts_inside else 0
        at = 0
        inside = "/*" in whole and whole.rfind("/*") > whole.rfind("*/")
        for kind, piece in lex(whole + ("*/" if inside else ""), LEXER):
            tint = next((tints[k] for k in tints if kind in k), None)
            if tint:
                made = QTextCharFormat()
                made.setForeground(QColor(tint))
                if kind in Token.Keyword:
                    made.setFontWeight(QFont.Weight.Bold)
                start = max(0, at - shift)
                self.setFormat(start, at - shift + len(piece) - start, made)
            at += len(piece)
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

    def show_files(self, files: dict[str, str], titles: dict[str, str]) -> None:
        """Other files, with short titles; the place shown stays where it can."""
        self.titles = titles
        names, place = list(files), list(self.files).index(self.shown) if self.shown in self.files else 0
        self.files = files
        self.show_file(names[min(place, len(names) - 1)] if names else "")

    def show_file(self, name: str) -> None:
        self.shown = name
        clear(self.tabs)
        for each in self.files:
            made = button(self.titles.get(each, each), lambda n=each: self.show_file(n), "small")
            made.setToolTip(each)
            made.setCheckable(True)
            made.setChecked(each == name)
            self.tabs.addWidget(made)
        self.tabs.addStretch(1)
        text = self.files.get(name, "")
        if self.text.toPlainText() != text:
            self.text.setPlainText(text)

    def go_to(self, words: str) -> None:
        """Scroll to the first place of some words in what is shown."""
        document, bar = self.text.document(), self.text.verticalScrollBar()
        assert document is not None and bar is not None
        cursor = document.find(words)
        if not cursor.isNull():
            self.text.setTextCursor(cursor)
            bar.setValue(max(0, cursor.blockNumber() - 2))

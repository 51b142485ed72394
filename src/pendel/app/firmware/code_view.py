"""The shipped files, one at a time, in colour."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from pygments import lex
from pygments.lexers import CLexer
from pygments.token import Token
from PyQt6.QtGui import QColor, QFont, QSyntaxHighlighter, QTextCharFormat
from PyQt6.QtWidgets import QHBoxLayout, QPlainTextEdit, QWidget

from pendel.app.widgets.basic import button, clear, column
from pendel.app.widgets.theme import code_font, tokens

LEXER = CLexer(stripnl=False, ensurenl=False)
"""Building one takes much longer than a line."""


TINTED = (Token.Comment, Token.Keyword, Token.Literal, Token.Comment.Preproc, Token.Name.Function)
"""Kinds of words that have a colour; the first that fits."""


@lru_cache(maxsize=20_000)
def pieces_of(line: str, starts_inside: bool) -> tuple[tuple[tuple[int, int, int], ...], bool]:
    """Where words of a line begin, how long they are and which of `TINTED` they are; and whether it ends inside a
    comment. An edit leaves most lines of the C as they were."""
    whole = f"/*{line}" if starts_inside else line
    shift = 2 if starts_inside else 0
    inside = "/*" in whole and whole.rfind("/*") > whole.rfind("*/")
    at, found = 0, []
    for kind, piece in lex(whole + ("*/" if inside else ""), LEXER):
        number = next((n for n, tinted in enumerate(TINTED) if kind in tinted), None)
        if number is not None:
            start = max(0, at - shift)
            found.append((start, at - shift + len(piece) - start, number))
        at += len(piece)
    return tuple(found), inside


def learn(texts: Iterable[str]) -> None:
    """Have the words of texts known before they are shown, in a thread beside the window."""
    for text in texts:
        inside = False
        for line in text.split("\n"):
            _, inside = pieces_of(line, inside)


class CodeColours(QSyntaxHighlighter):
    """C highlighting by Pygments."""

    def highlightBlock(self, text: str | None) -> None:
        t = tokens()
        tints = (t.moss, t.petrol, t.brass_text, t.muted, t.strong)
        found, inside = pieces_of(text or "", self.previousBlockState() == 1)
        for start, length, number in found:
            made = QTextCharFormat()
            made.setForeground(QColor(tints[number]))
            if TINTED[number] is Token.Keyword:
                made.setFontWeight(QFont.Weight.Bold)
            self.setFormat(start, length, made)
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

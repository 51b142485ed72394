"""Text in Markdown out of a drive, shown. This is the one place where it becomes rich text."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QSize, Qt, QUrl
from PyQt6.QtGui import QResizeEvent, QTextBlockFormat, QTextCursor, QTextDocument, QTextFormat
from PyQt6.QtWidgets import QFrame, QSizePolicy, QTextBrowser, QWidget

from pendel.app.widgets.theme import colour, font
from pendel.core.errors import shorten

MOST_SHOWN = 20_000
"""Letters that are set; what follows is left out."""
INDENT = 16.0
"""Of a list, px."""
HEADINGS = {1: 14.0, 2: 13.0}
"""Sizes in px; deeper headings are as large as the text."""


class SafeDocument(QTextDocument):
    """Loads nothing, neither pictures nor style sheets, from wherever a text names it."""

    def loadResource(self, kind: int, name: QUrl) -> Any:  # noqa: N802
        return None


def as_plain_links(document: QTextDocument) -> None:
    """Write the target of each link behind its words instead of making it one, since whoever wrote the text chose
    both, and name pictures, which are not loaded."""
    block = document.begin()
    found: list[tuple[int, int, str]] = []
    while block.isValid():
        places = block.begin()
        while not places.atEnd():
            piece = places.fragment()
            form = piece.charFormat()
            if form.isImageFormat():
                found.append((piece.position(), piece.length(), f"[picture {form.toImageFormat().name()}]"))
            elif form.isAnchor() and form.anchorHref():
                here = form.anchorHref()
                words = piece.text()
                found.append((piece.position(), piece.length(), words if words == here else f"{words} ({here})"))
            places += 1
        block = block.next()
    for position, length, words in reversed(found):
        cursor = QTextCursor(document)
        cursor.setPosition(position)
        cursor.setPosition(position + length, QTextCursor.MoveMode.KeepAnchor)
        plain = cursor.blockCharFormat()
        cursor.insertText(shorten(words, 400), plain)


def set_marked(document: QTextDocument, text: str) -> None:
    """Set Markdown. HTML in it stays the letters that it is, links cannot be followed, nothing is loaded."""
    features = QTextDocument.MarkdownFeature.MarkdownDialectGitHub | QTextDocument.MarkdownFeature.MarkdownNoHTML
    document.setIndentWidth(INDENT)
    document.setMarkdown(text[:MOST_SHOWN], features)
    as_plain_links(document)
    block = document.begin()
    while block.isValid():
        cursor = QTextCursor(block)
        form_of_block = block.blockFormat()
        form_of_block.setBottomMargin(1.0 if block.textList() is not None else 5.0)
        form_of_block.setTopMargin(0.0)
        form_of_block.setLineHeight(115, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
        cursor.setBlockFormat(form_of_block)
        if level := form_of_block.headingLevel():
            cursor.select(QTextCursor.SelectionType.BlockUnderCursor)
            form = cursor.charFormat()
            form.clearProperty(QTextFormat.Property.FontSizeAdjustment)
            form.setFont(font(HEADINGS.get(level, 12.0), bold=True))
            cursor.setCharFormat(form)
        block = block.next()


class MarkedText(QTextBrowser):
    """A text in Markdown, as high as it needs."""

    def __init__(self, name: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(name)
        self.setDocument(SafeDocument(self))
        self.setOpenLinks(False)
        self.setOpenExternalLinks(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setStyleSheet(f"QTextBrowser {{ background: transparent; color: {colour('ink').name()}; border: 0; }}")
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        document = self.document()
        assert document is not None
        document.setDocumentMargin(0)
        document.setDefaultFont(font(12))

    def show_text(self, text: str) -> None:
        document = self.document()
        assert document is not None
        set_marked(document, text)
        self._fit()

    def _fit(self) -> None:
        document = self.document()
        assert document is not None
        document.setTextWidth(max(40, self.viewport().width() if self.viewport() else self.width()))
        self.setFixedHeight(int(document.size().height()) + 4)

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # noqa: N802
        super().resizeEvent(event)
        self._fit()

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(200, self.height())

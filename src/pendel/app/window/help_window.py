"""Help: what a part or block is, beside the sheet, from its own declaration."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from pendel.app.drive.editors.typeset import Typeset
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, row, wrapped
from pendel.app.widgets.theme import code_font
from pendel.app.widgets.timers import Later
from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.help import (
    EQUATIONS,
    EXAMPLES_WITH,
    HelpPage,
    Section,
    as_text,
    examples_with,
    help_of,
    matching,
    sections_of,
)
from pendel.core.topics import Topic, matching_topics

OPENS = "Opens this example in the window"
CODE = "What it does at each of its ticks"


def whole_page(kind: Kind | Topic) -> HelpPage:
    """The whole page of a kind, or of another topic."""
    return kind.page if isinstance(kind, Topic) else help_of(kind)


class HelpWindow(QDialog):
    """A list of all parts, blocks, settings, measures and more, searched by any words, and the page of the chosen one.
    It stays beside the window while one goes on there."""

    example_wanted = pyqtSignal(object)
    """The file of an example that is to be opened."""

    def __init__(self, session: Session, parent: QWidget):
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Help")
        self.setModal(False)
        self.resize(760, 640)
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        side = QWidget()
        side.setObjectName("side")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(230)
        inside = column(side, (10, 12, 10, 12), 6)
        self.line = QLineEdit()
        self.line.setAccessibleName("Search in help")
        self.line.setPlaceholderText("search …")
        self.line.setClearButtonEnabled(True)
        self.line.textChanged.connect(self.search)
        self.list = QListWidget()
        self.list.setAccessibleName("Parts, blocks and other topics")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.currentItemChanged.connect(lambda item, _: self._chosen(item))
        inside.addWidget(self.line)
        inside.addWidget(self.list, 1)
        body.addWidget(side)
        self.page = QScrollArea()
        self.page.setWidgetResizable(True)
        self.page.setFrameShape(QScrollArea.Shape.NoFrame)
        body.addWidget(self.page, 1)
        self.kind: Kind | Topic | None = None
        self._sections: Iterator[Section] = iter(())
        """Those of the page that are not shown yet."""
        self._next = Later(self, 0, self._show_next)
        self.search("")

    def search(self, text: str) -> None:
        self.list.clear()
        for each in (*matching(text), *matching_topics(text)):
            item = QListWidgetItem(each.title)
            item.setData(Qt.ItemDataRole.UserRole, each)
            item.setToolTip(each.sentence)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def show_for(self, pages: Sequence[Kind | Topic]) -> None:
        """Beside the window, with the page of the first of these where there is one."""
        if pages:
            self.show_kind(pages[0])
        self.show()
        self.raise_()

    def show_kind(self, kind: Kind | Topic) -> None:
        """The page of a kind, or of another topic, which the list shows too."""
        self.line.clear()
        for place in range(self.list.count()):
            item = self.list.item(place)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) is kind:
                self.list.setCurrentRow(place)
                return
        self._show(kind)

    def _chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._show(item.data(Qt.ItemDataRole.UserRole))

    def _show(self, kind: Kind | Topic) -> None:
        self.kind = kind
        self._sections = iter(kind.page.sections if isinstance(kind, Topic) else sections_of(kind))
        inner = QWidget()
        self._inside = column(inner, (18, 14, 18, 14), 6)
        copy = button("Copy", lambda: self._copy(as_text(whole_page(kind))), "link")
        self._inside.addLayout(row(label(kind.title, "title"), 1, copy))
        self._inside.addWidget(wrapped(kind.sentence, "muted"))
        self._inside.addStretch(1)
        self.page.setWidget(inner)
        self._show_next()

    def _show_next(self) -> None:
        """The next section of the page, and the ones after it once the window was painted: equations, and long pages,
        take longer than one waits for a first word."""
        section = next(self._sections, None)
        if section is None:
            return
        part = QWidget()
        self._fill(column(part, (0, 4, 0, 0), 6), section)
        self._inside.insertWidget(self._inside.count() - 1, part)
        self._next.start()

    def _fill(self, inside: QVBoxLayout, section: Section) -> None:
        if section.title:
            inside.addWidget(label(section.title, "heading"))
        if section.title == EQUATIONS and section.text:
            equations = Typeset(self.session)
            equations.setAccessibleName(section.text)
            equations.show_lines(tuple(section.text.split("\n")))
            inside.addWidget(equations)
        elif section.text:
            text = wrapped(section.text)
            text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            if section.title == CODE:
                text.setFont(code_font(11))
                text.setStyleSheet('font-family: "JetBrains Mono"; font-size: 11px;')
            inside.addWidget(text)
        if section.title == EXAMPLES_WITH and isinstance(self.kind, Kind):
            for title, path in examples_with()[self.kind.id].items():
                link = button(title, lambda p=path: self.example_wanted.emit(p), "link")
                link.setToolTip(OPENS)
                inside.addLayout(row(link, 1))
            return
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(2)
        for line, (name, words, figures) in enumerate(section.rows):
            grid.addWidget(label(name), line, 0, Qt.AlignmentFlag.AlignTop)
            for place, text in enumerate((wrapped(words), wrapped(figures, "muted")), 1):
                text.setAlignment(Qt.AlignmentFlag.AlignTop)  # beside the name, where one of them has several lines
                grid.addWidget(text, line, place)
            grid.setColumnMinimumWidth(2, 150 if figures else 0)
        inside.addLayout(grid)

    def _copy(self, text: str) -> None:
        clipboard = QGuiApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(text)

"""The line that does anything by its words, and the list of all keys."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QGridLayout, QWidget

from pendel.app.drive.popup_line import Entry, PopupLine, PopupWords
from pendel.app.widgets.basic import column, label, scrolled
from pendel.app.window.actions import ACTIONS
from pendel.app.window.pages import PAGES

WORDS = PopupWords(
    "Do … (such as run, save, tidy, new drive)",
    "Do something",
    "↑ ↓ choose · Enter does it · Esc closes",
    "Nothing is called so.",
)
ALSO = {
    "run": "simulate start",
    "find": "search look",
    "propose": "tune gains",
    "save_c": "export code firmware",
    "export_unit": "fmi fmu",
    "new": "goal wizard start example",
    "closer": "look closer zoom detailed drive from here trip stretch",
    "other_programs": "script remote connect json",
    "findings": "errors faults problems",
    "tidy": "arrange layout",
    "save_traces": "csv mat hdf5 export",
}
"""Other words for what is done."""
ON_PAGES = (
    ("Drive", "Tab", "to the next card"),
    ("Drive", "arrows", "move the chosen cards"),
    ("Drive", "Enter", "to the values of the chosen card"),
    ("Drive", "wheel, +, −, 0, F", "zoom, to its own size, fit"),
    ("Drive", "space and drag, Shift+wheel", "move the sheet"),
    ("Drive", "Esc", "out of an assembly, or leave off"),
    ("Runs", "wheel, Shift+wheel", "zoom over time, over values"),
    ("Runs", "double-click an axis", "fit it"),
    ("Series", "Ctrl+Enter", "run the script, or stop it"),
    ("Series", "Ctrl+Space", "how the line may go on"),
    ("Series", "Ctrl+/", "make lines comments, and back"),
)
"""Keys that are no actions of a menu: of which page, the key, and what it does."""


class DoLine(PopupLine):
    """Finds any action by its words and does it."""

    def __init__(self, actions: Mapping[str, QAction], pages: Mapping[str, QAction], parent: QWidget):
        self._actions, self._pages = actions, pages
        super().__init__(parent, self._found, WORDS)
        self.chosen.connect(lambda action: action.trigger())

    def ask(self) -> None:
        parent = self.parentWidget()
        assert parent is not None
        self.show_at(parent.mapToGlobal(QPoint((parent.width() - self.width()) // 2, 90)))

    def _found(self, text: str) -> Iterator[Entry]:
        words = text.lower().split()
        for spec in ACTIONS:
            action = self._actions.get(spec.name)
            if action is None or not action.isEnabled() or spec.name == "do":
                continue
            title = action.text().replace("&", "")
            if all(word in f"{title} {spec.menu} {ALSO.get(spec.name, '')}".lower() for word in words):
                yield Entry(title, f"in the menu {spec.menu}", action.shortcut().toString(), None, action)
        for title, action in self._pages.items():
            if all(word in f"{title} page go to".lower() for word in words):
                yield Entry(title, "go to this page", action.shortcut().toString(), None, action)


def all_keys(actions: Mapping[str, QAction]) -> list[tuple[str, str, str]]:
    """Menu or page, key, and what it does."""
    keys = [
        (spec.menu, actions[spec.name].shortcut().toString(), spec.title)
        for spec in ACTIONS
        if spec.name in actions and not actions[spec.name].shortcut().isEmpty()
    ]
    keys += [("View", f"Alt+{page.key}", f"Page {page.title}") for page in PAGES]
    return [*keys, *ON_PAGES]


class KeysDialog(QDialog):
    """All keys, those of the present page first."""

    def __init__(self, page: str, actions: Mapping[str, QAction], parent: QWidget):
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self.resize(460, 560)
        body = column(self, (16, 14, 16, 14), 8)
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setColumnStretch(1, 1)
        rows = sorted(all_keys(actions), key=lambda row: row[0] != page)
        before = ""
        line = 0
        for where, key, words in rows:
            if where != before:
                before = where
                grid.addWidget(label(where, "heading"), line, 0, 1, 2)
                line += 1
            grid.addWidget(label(key), line, 0)
            grid.addWidget(label(words.rstrip(" …"), "muted"), line, 1)
            line += 1
        body.addWidget(scrolled(inner), 1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        body.addWidget(buttons)

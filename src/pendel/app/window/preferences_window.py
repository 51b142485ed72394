"""Preferences: what somebody wants otherwise, keys, programs that are used, and what may run here."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QAction, QDesktopServices, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QHeaderView,
    QKeySequenceEdit,
    QLabel,
    QLineEdit,
    QListWidget,
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from pendel.app.session.preferences import PREFERENCES, Preference, PreferenceProblem, Preferences
from pendel.app.widgets.basic import Field, button, clear, column, label, row, scrolled, wrapped
from pendel.app.window.actions import ACTIONS, ActionSpec
from pendel.app.window.pages import PAGES
from pendel.core import trust
from pendel.core.firmware.processors import COMPILER, EMULATOR
from pendel.core.plant.compiler import BuildProblem, cache_folder, compiler, other_compiler

GROUPS = tuple(dict.fromkeys(each.group for each in PREFERENCES))
KEYS, PROGRAMS, TRUST = "Keys", "Programs", "What may run"


class PreferencesDialog(QDialog):
    """A list of groups, and the chosen one. What is changed holds at once, or from the next start where it says so."""

    def __init__(self, preferences: Preferences, actions: Mapping[str, QAction], parent: QWidget):
        super().__init__(parent)
        self.preferences = preferences
        self.setWindowTitle("Preferences")
        self.resize(760, 560)
        body = column(self, (0, 0, 0, 12), 8)
        self.groups = QListWidget()
        self.groups.setObjectName("side")
        self.groups.setFixedWidth(170)
        self.groups.setStyleSheet(
            "QListWidget { border: none; padding: 10px 0; } QListWidget::item { padding: 6px 12px; }"
        )
        self.groups.setAccessibleName("Groups of preferences")
        self.stack = QStackedWidget()
        self.fields: dict[str, QWidget] = {}
        self.said: dict[str, QLabel] = {}
        self.keys = KeyTable(preferences, actions)
        pages = {group: self._group_page(group) for group in GROUPS}
        pages |= {KEYS: self.keys, PROGRAMS: programs_page(actions.get("other_programs")), TRUST: TrustPage()}
        for title, page in pages.items():
            self.groups.addItem(title)
            self.stack.addWidget(page)
        self.groups.currentRowChanged.connect(self.stack.setCurrentIndex)
        self.groups.setCurrentRow(0)
        top = row(self.groups, self.stack, spacing=0)
        top.setStretch(1, 1)
        body.addLayout(top, 1)
        close = button("Close", self.accept)
        close.setAutoDefault(False)
        bottom = row(1, close)
        bottom.setContentsMargins(12, 0, 12, 0)
        body.addLayout(bottom)

    def _group_page(self, group: str) -> QWidget:
        inner = QWidget()
        inside = column(inner, (20, 16, 20, 16), 4)
        inside.addWidget(label(group, "title"))
        grid = QGridLayout()
        grid.setColumnStretch(0, 1)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(4)
        for line, each in enumerate(one for one in PREFERENCES if one.group == group):
            words = each.sentence + (" Holds from the next start." if each.at_start else "")
            field = self._field(each)
            said = wrapped("", "wrong")
            self.fields[each.name], self.said[each.name] = field, said
            grid.addWidget(label(each.title), 4 * line, 0)
            unit = label(each.unit, "muted")
            beside = [unit] if each.unit else [self._chooser(each)] if each.folder else []
            grid.addLayout(row(field, *beside), 4 * line, 1)
            grid.addWidget(wrapped(words, "muted"), 4 * line + 1, 0, 1, 2)
            grid.addWidget(said, 4 * line + 2, 0, 1, 2)
            grid.setRowMinimumHeight(4 * line + 3, 4)
            said.hide()
        inside.addLayout(grid)
        inside.addStretch(1)
        return scrolled(inner)

    def _field(self, each: Preference) -> QWidget:
        if each.options:
            box = QComboBox()
            box.setAccessibleName(each.title)
            box.setMinimumWidth(150)
            for value, words in each.options:
                box.addItem(words, value)
            box.setCurrentIndex(box.findData(self.preferences[each.name]))
            box.activated.connect(lambda _: self._set(each, str(box.currentData())))
            return box
        field = Field(self.preferences[each.name], each.title, 260 if each.folder else 80)
        if each.folder:
            field.setAlignment(Qt.AlignmentFlag.AlignLeft)
        field.committed.connect(lambda text: self._set(each, text))
        return field

    def _chooser(self, each: Preference) -> QWidget:
        def choose() -> None:
            found = QFileDialog.getExistingDirectory(self, each.title, self.preferences[each.name])
            if found:
                self._set(each, found)

        return button("Choose …", choose)

    def _set(self, each: Preference, text: str) -> None:
        field, said = self.fields[each.name], self.said[each.name]
        try:
            self.preferences.set(each.name, text)
        except PreferenceProblem as problem:
            said.setText(str(problem))
            said.show()
            return
        said.hide()
        if isinstance(field, Field):
            field.show_text(self.preferences[each.name])


class KeyTable(QWidget):
    """All actions with their keys. A key that another action has is told, and can be taken from it."""

    def __init__(self, preferences: Preferences, actions: Mapping[str, QAction]):
        super().__init__()
        self.preferences, self.actions_by_name = preferences, actions
        self.specs = [spec for spec in ACTIONS if spec.name in actions]
        inside = column(self, (20, 16, 20, 4), 6)
        inside.addWidget(label("Keys", "title"))
        self.line = QLineEdit()
        self.line.setPlaceholderText("search …")
        self.line.setAccessibleName("Search keys")
        self.line.textChanged.connect(self._filter)
        inside.addWidget(self.line)
        self.table = QTableWidget(len(self.specs), 3)
        self.table.setAccessibleName("Actions and keys")
        self.table.verticalHeader().setDefaultSectionSize(24)
        self.table.setHorizontalHeaderLabels(["menu", "does", "key"])
        self.table.verticalHeader().hide()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.currentCellChanged.connect(lambda *_: self._chosen())
        inside.addWidget(self.table, 1)
        self.edit = QKeySequenceEdit()
        self.edit.setMaximumSequenceLength(1)
        self.edit.setAccessibleName("Key of the chosen action")
        self.edit.editingFinished.connect(self._typed)
        self.usual = button("Usual key", self._take_usual)
        self.none = button("No key", lambda: self._give(""))
        inside.addLayout(row(label("Press a key:"), self.edit, self.usual, self.none, 1))
        self.said = wrapped("", "wrong")
        self.take = button("Take it from there", self._take_over, "link")
        inside.addWidget(self.said)
        inside.addWidget(self.take)
        self._wanted = ""
        self.fill()
        self.table.selectRow(0)
        self._chosen()

    def fill(self) -> None:
        for line, spec in enumerate(self.specs):
            shown = self.actions_by_name[spec.name].shortcut().toString(QKeySequence.SequenceFormat.NativeText)
            for place, words in enumerate((spec.menu, spec.title.rstrip(" …"), shown)):
                self.table.setItem(line, place, QTableWidgetItem(words))

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        for line, spec in enumerate(self.specs):
            shown = f"{spec.menu} {spec.title} {self.actions_by_name[spec.name].shortcut().toString()}".lower()
            self.table.setRowHidden(line, not all(word in shown for word in words))

    @property
    def spec(self) -> ActionSpec:
        return self.specs[max(0, self.table.currentRow())]

    def _chosen(self) -> None:
        self.edit.setKeySequence(self.actions_by_name[self.spec.name].shortcut())
        self._say("")

    def _say(self, words: str, *, taken: bool = False) -> None:
        self.said.setText(words)
        self.take.setVisible(taken)

    def owner(self, key: str) -> str:
        """The name of another action that has a key, or words in brackets for what cannot give it away."""
        if key in {f"Alt+{spec.key}" for spec in PAGES}:
            return "[a page]"
        letters = {f"Alt+{spec.menu[0]}" for spec in self.specs}
        if key in letters:
            return "[a menu]"
        for spec in self.specs:
            if spec is not self.spec and self.actions_by_name[spec.name].shortcut().toString() == key:
                return spec.name
        return ""

    def _typed(self) -> None:
        key = self.edit.keySequence().toString()
        owner = self.owner(key) if key else ""
        self._wanted = key
        if not owner:
            self._give(key)
        elif owner.startswith("["):
            self._say(f"{key} opens {owner[1:-1]}. Press another one.")
        else:
            title = next(spec.title for spec in self.specs if spec.name == owner).rstrip(" …")
            self._say(f"{key} is the key of “{title}”.", taken=True)

    def _take_over(self) -> None:
        owner = self.owner(self._wanted)
        if owner:
            spec = next(spec for spec in self.specs if spec.name == owner)
            self.preferences.set_key(owner, "", spec.key)
        self._give(self._wanted)

    def _take_usual(self) -> None:
        self._wanted = self.spec.key
        owner = self.owner(self.spec.key) if self.spec.key else ""
        if owner:
            self.edit.setKeySequence(QKeySequence(self.spec.key))
            self._typed()
        else:
            self._give(self.spec.key)

    def _give(self, key: str) -> None:
        self.preferences.set_key(self.spec.name, key, self.spec.key)
        self.fill()
        self._chosen()


def programs_page(others: QAction | None) -> QWidget:
    """What compiles, emulates and draws here, and where builds lie."""
    inner = QWidget()
    inside = column(inner, (20, 16, 20, 16), 6)
    inside.addWidget(label("Programs", "title"))
    inside.addWidget(wrapped("Pendel takes what it finds in the path.", "muted"))
    grid = QGridLayout()
    grid.setColumnStretch(1, 1)
    grid.setHorizontalSpacing(14)
    for line, (name, words) in enumerate(programs()):
        grid.addWidget(label(name, "muted"), line, 0, Qt.AlignmentFlag.AlignTop)
        found = wrapped(words)
        found.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        grid.addWidget(found, line, 1)
    inside.addLayout(grid)
    if others is not None:
        inside.addSpacing(10)
        inside.addWidget(label("Other programs", "title"))
        words = "A program of yours can work on the drive of this window, by Python or JSON-RPC."
        inside.addWidget(wrapped(words, "muted"))
        inside.addLayout(row(button("Let other programs in …", others.trigger), 1))
    inside.addStretch(1)
    return scrolled(inner)


def programs() -> list[tuple[str, str]]:
    """What each is for, and where it is or how it is installed."""
    from shutil import which

    def place(name: str, package: str) -> str:
        return which(name) or f"not installed: sudo apt install {package}"

    try:
        own = " ".join(compiler())
        other = " ".join(other_compiler()) or "none: sudo apt install clang"
        builds = str(cache_folder())
    except BuildProblem as problem:
        own = other = builds = str(problem)
    return [
        ("C compiler", own),
        ("Second compiler, that checks the first", other),
        ("Compiler for processors", place(COMPILER, "gcc-arm-none-eabi libnewlib-arm-none-eabi")),
        ("Emulated processors", place(EMULATOR, "qemu-system-arm")),
        ("Builds lie in", builds),
    ]


class TrustPage(QWidget):
    """How much was allowed to run, and the way back."""

    def __init__(self) -> None:
        super().__init__()
        self.inside = column(self, (20, 16, 20, 16), 6)
        self.fill()

    def fill(self) -> None:
        clear(self.inside)
        count = trust.remembered_count()
        self.inside.addWidget(label("What may run", "title"))
        self.inside.addWidget(
            wrapped(
                "C and scripts that come with a drive run only after you have read and allowed them. What is allowed "
                "is remembered by its letters: a changed letter asks again.",
                "muted",
            )
        )
        things = "Nothing was" if count == 0 else "One piece of C or script was" if count == 1 else f"{count} were"
        self.inside.addWidget(wrapped(f"{things} allowed until now."))
        forget = button("Ask again for all of it", self._forget)
        forget.setEnabled(count > 0)
        folder = button("Show the file", lambda: self._show_folder())
        self.inside.addLayout(row(forget, folder, 1))
        self.said = wrapped("", "wrong")
        self.inside.addWidget(self.said)
        self.inside.addStretch(1)

    def _forget(self) -> None:
        try:
            trust.forget_allowed()
        except OSError as problem:
            self.said.setText(f"{trust.remembered_at()} cannot be removed: {problem.strerror}.")
            return
        self.fill()

    def _show_folder(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(trust.remembered_at().parent)))

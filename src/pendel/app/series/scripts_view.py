"""Scripts of the drive: a list, an editor, what one prints; each runs in a process of its own."""

from __future__ import annotations

import contextlib
import threading
from pathlib import Path

from PyQt6.QtCore import QByteArray, QModelIndex, QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QPixmap, QShortcut, QShowEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pendel.app.series.script_editor import ScriptEditor
from pendel.app.series.script_output import Output, SearchLine
from pendel.app.session.owning import WindowOwner
from pendel.app.session.run_shelf import writable
from pendel.app.session.session import Session, UndoStep
from pendel.app.session.trust import may_run, script_may_run
from pendel.app.widgets.basic import Elided, button, clear, column, label, row, scrolled, wrapped
from pendel.app.widgets.timers import Later
from pendel.core.drive import script_edits
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.merging import RecordChange
from pendel.core.errors import PendelError
from pendel.core.runs.preparing.simulate import signal_infos
from pendel.core.trust import allow_script, is_script_allowed
from pendel.remote.as_python import script_of
from pendel.remote.beginnings import beginnings
from pendel.remote.owner import answer_of, files_folder
from pendel.remote.script_run import Ended, Host, ScriptRun

KEEP_AFTER_MS = 700
"""From the last letter typed until it is a step of the drive."""
SHOW_MS = 40
"""Between two looks at what a script has printed."""
MOST_WAITING = 1 << 20
"""Letters that wait to be shown."""
MOST_OVERLAID = 6
MOST_PICTURES, PICTURE_WIDTH = 20, 380
LAST_STEPS = 20
"""Edits from which a script is begun."""
NO_SCRIPT = (
    "A script is Python that does what you do by hand: set values, run, compare, plot. It belongs to this drive and is "
    "saved with it.\n\nBegin with New, with an example, or with what you did last."
)


class ScriptsView(QWidget):
    """``said`` is a remark for the foot line."""

    said = pyqtSignal(str)
    _printed = pyqtSignal()
    _ended = pyqtSignal(object, object)

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.owner = WindowOwner(session, self)
        self.owner.pictured.connect(self._show_picture)
        self.name = ""
        """The script that is shown."""
        self.run: ScriptRun | None = None
        self.running_name = ""
        self.last_end: Ended | None = None
        self._host: Host | None = None
        self._own: set[str] = set()
        """Scripts that were begun here, or were allowed before they were changed here."""
        self._waiting, self._lost, self._lock = "", 0, threading.Lock()
        self._left: list[RecordChange] = []
        self._which = 0
        body = QHBoxLayout(self)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(0)
        body.addWidget(self._build_left())
        self.middle = QStackedWidget()
        hint = wrapped(NO_SCRIPT, "muted")
        hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        hint.setContentsMargins(160, 0, 160, 0)
        self.middle.addWidget(hint)
        self.middle.addWidget(self._build_right())
        body.addWidget(self.middle, 1)
        self._keep = Later(self, KEEP_AFTER_MS, self.keep)
        self._show_soon = Later(self, SHOW_MS, self._show_printed)
        self._printed.connect(self._show_soon.start)
        self._ended.connect(self._take_end)
        session.changed.connect(lambda touched: self._follow() if any(t == "scripts" for t, _ in touched) else None)
        session.opened.connect(self._opened)
        session.at_close.append(self.close_processes)
        self._opened()

    def _build_left(self) -> QWidget:
        side = QWidget()
        side.setObjectName("side")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(268)
        inside = column(side, (10, 12, 10, 12), 4)
        inside.addWidget(label("Scripts of this drive", "heading"))
        self.list = QListWidget()
        self.list.setAccessibleName("Scripts of this drive")
        self.list.setToolTip("F2 renames, Delete removes; drag to reorder")
        self.list.setEditTriggers(QListWidget.EditTrigger.EditKeyPressed)
        self.list.setDragDropMode(QAbstractItemView.DragDropMode.InternalMove)
        self.list.currentItemChanged.connect(lambda item, _: self.choose(item.text() if item else ""))
        self.list.itemChanged.connect(self._renamed)
        model = self.list.model()
        assert model is not None
        model.rowsMoved.connect(self._moved)
        delete = QShortcut(QKeySequence("Delete"), self.list, self.remove)
        delete.setContext(Qt.ShortcutContext.WidgetShortcut)
        inside.addWidget(self.list, 1)
        self.new_button = button("New", self.add, "small")
        self.copy_button = button("Duplicate", self.duplicate, "small")
        self.remove_button = button("Delete", self.remove, "small")
        inside.addLayout(row(self.new_button, self.copy_button, self.remove_button, 1, spacing=4))
        self.example_button = button("New from an example …", self._offer_examples, "link")
        self.did_button = button("New from what I did last", self.from_what_was_done, "link")
        self.did_button.setToolTip("The last edits of the drive, as lines of Python")
        inside.addLayout(row(self.example_button, 1))
        inside.addLayout(row(self.did_button, 1))
        inside.addSpacing(6)
        self.place = Elided("", "muted")
        inside.addWidget(label("Files that scripts write", "heading"))
        inside.addWidget(self.place)
        return side

    def _build_right(self) -> QWidget:
        right = QWidget()
        inside = column(right, (14, 10, 14, 10), 6)
        self.title = Elided("", "heading")
        self.state = label("", "muted")
        self.run_button = button("Run script", self.run_or_stop, "primary")
        self.run_button.setToolTip("Ctrl+Enter")
        top = row(self.title, self.state, self.run_button, spacing=10)
        top.setStretch(0, 1)
        inside.addLayout(top)
        parts = QSplitter(Qt.Orientation.Vertical)
        self.editor = ScriptEditor(self.session, self.names)
        self.editor.edited.connect(self._typed)
        self.editor.run_wanted.connect(self.run_or_stop)
        self.search = SearchLine(self.editor)
        self.search.hide()
        above = QWidget()
        over = column(above, (0, 0, 0, 0), 4)
        over.addWidget(self.search)
        over.addWidget(self.editor, 1)
        parts.addWidget(above)
        below = QWidget()
        beneath = column(below, (0, 6, 0, 0), 4)
        self.clear_button = button("Clear", self.clear_output, "link")
        beneath.addLayout(row(label("Output", "heading"), 1, self.clear_button))
        self.decide = QWidget()
        self.decide_words = label("", "")
        decide = QHBoxLayout(self.decide)
        decide.setContentsMargins(0, 0, 0, 0)
        decide.addWidget(self.decide_words)
        decide.addWidget(button("Take them", self.take_left, "small"))
        decide.addWidget(button("Leave the drive as it is", self.drop_left, "small"))
        decide.addStretch(1)
        self.decide.hide()
        beneath.addWidget(self.decide)
        self.output = Output()
        self.output.line_wanted.connect(self.editor.go_to_line)
        self.pictures = QVBoxLayout()
        self.pictures.setContentsMargins(0, 0, 0, 0)
        self.pictures.setAlignment(Qt.AlignmentFlag.AlignTop)
        inner = QWidget()
        inner.setLayout(self.pictures)
        self.picture_area = scrolled(inner)
        self.picture_area.setFixedWidth(PICTURE_WIDTH + 24)
        self.picture_area.hide()
        line = row(self.output, self.picture_area, spacing=8)
        line.setStretch(0, 1)
        beneath.addLayout(line, 1)
        parts.addWidget(below)
        parts.setStretchFactor(0, 3)
        parts.setStretchFactor(1, 2)
        inside.addWidget(parts, 1)
        return right

    # following the drive ---------------------------------------------------------

    def _opened(self) -> None:
        """Another drive is open: what runs belongs to the one before."""
        if self.run is not None:
            self.run.stop()
        self._own.clear()
        self.drop_left()
        self.clear_output()
        self.name = ""
        self._drop_host()
        self._follow()

    def _follow(self) -> None:
        scripts = self.session.drive.scripts
        if self.name not in scripts:
            self.name = next(iter(scripts), "")
        with QSignalBlocker(self.list):
            self.list.clear()
            for name in scripts:
                item = QListWidgetItem(name)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
                self.list.addItem(item)
                if name == self.name:
                    self.list.setCurrentItem(item)
        self._show()

    def _show(self) -> None:
        scripts = self.session.drive.scripts
        there = self.name in scripts
        self.middle.setCurrentIndex(int(there))
        for each in (self.copy_button, self.remove_button):
            each.setEnabled(there)
        if there:
            with QSignalBlocker(self.list):
                self.list.setCurrentRow(list(scripts).index(self.name))
            self.title.set_text(self.name)
            if not self._keep.isActive():
                self.editor.show_text(scripts[self.name].text)
        self._tell()

    def _tell(self) -> None:
        running = self.run is not None
        self.run_button.setText("Stop" if running else "Run script")
        elsewhere = running and self.running_name != self.name
        self.state.setText(f"{self.running_name} runs …" if elsewhere else "runs …" if running else "")
        folder = self.files_place()
        self.place.set_text(folder.name if self.session.path is not None else "kept with unsaved drives")
        self.place.setToolTip(str(folder))

    def choose(self, name: str) -> None:
        if name and name != self.name:
            self.keep()
            self.name = name
            self.editor.mark_failed(0)
            self._show()

    def names(self) -> list[str]:
        """Names of the drive that stand in texts of a script."""
        drive = self.session.drive
        values = [f"{key}.{name}" for key, card in drive.cards.items() for name in card.values]
        return [*drive.quantities, *drive.cards, *drive.settings, *self.signals(), *values]

    def signals(self) -> dict[str, str]:
        """Keys of what a run shows, with their units."""
        with contextlib.suppress(PendelError):
            return {key: info.unit for key, info in signal_infos(self.session.drive).items()}
        return {}

    # edits -------------------------------------------------------------------------

    def _typed(self) -> None:
        script = self.session.drive.scripts.get(self.name)
        if script is not None and is_script_allowed(script.text):
            self._own.add(self.name)
        self._keep.start()

    def keep(self) -> None:
        """What was typed becomes a step of the drive; steps of one script merge."""
        self._keep.stop()
        script = self.session.drive.scripts.get(self.name)
        text = self.editor.text()
        if script is None or self.middle.currentIndex() == 0 or script.text == text:
            return
        if self.name in self._own:
            allow_script(text, for_good=False)
        command = script_edits.set_script(self.session.drive, self.name, text, gesture=f"script {self.name}")
        self.session.do(command)

    def add(self, text: str = "import pendel\n\nd = pendel.here()\n", name: str = "Script") -> None:
        """A new script, which is shown."""
        self.keep()
        self.name = script_edits.free_script_name(self.session.drive, name)
        self._own.add(self.name)
        allow_script(text, for_good=False)
        self.session.do(script_edits.set_script(self.session.drive, self.name, text))
        self.editor.setFocus()

    def duplicate(self) -> None:
        self.keep()
        script = self.session.drive.scripts.get(self.name)
        if script is None:
            return
        known = is_script_allowed(script.text)
        new = script_edits.free_script_name(self.session.drive, self.name)
        command = script_edits.set_script(self.session.drive, new, script.text)
        self.name = new
        if known:
            self._own.add(new)
        self.session.do(command)

    def remove(self) -> None:
        self._keep.stop()
        if self.name in self.session.drive.scripts:
            self.session.do(script_edits.remove_script(self.session.drive, self.name))

    def _renamed(self, item: QListWidgetItem) -> None:
        old = list(self.session.drive.scripts)[self.list.row(item)]
        if item.text() == old:
            return
        self.keep()
        try:
            command = script_edits.rename_script(self.session.drive, old, item.text())
        except PendelError as problem:
            self.said.emit(str(problem))
            self._follow()
            return
        if old in self._own:
            self._own.add(item.text().strip())
        if self.name == old:
            self.name = item.text().strip()
        self.session.do(command)
        self._follow()

    def _moved(self, _: QModelIndex, first: int, last: int, __: QModelIndex, place: int) -> None:
        name = list(self.session.drive.scripts)[first]
        self.session.do(script_edits.move_script(self.session.drive, name, place - 1 if place > first else place))

    def _offer_examples(self) -> None:
        menu = QMenu(self)
        for name, text in beginnings(self.session.drive, self.signals()).items():
            menu.addAction(name, lambda n=name, t=text: self.add(t, n))
        menu.popup(self.example_button.mapToGlobal(self.example_button.rect().bottomLeft()))

    def from_what_was_done(self) -> None:
        """The last edits as a script."""
        undo = self.session.undo
        steps = [undo.command(k) for k in range(max(0, undo.index() - LAST_STEPS), undo.index())]
        commands = [each.command for each in steps if isinstance(each, UndoStep)]
        commands = [c for c in commands if any(change.table != "scripts" for change in c.changes)]
        if not commands:
            self.said.emit("Nothing was changed since the drive was opened.")
            return
        self.add(script_of(commands), "What I did")

    # running -------------------------------------------------------------------------

    def look_for(self) -> bool:
        if self.middle.currentIndex() == 0:
            return False
        self.search.begin(self.editor.selectedText())
        return True

    def files_place(self) -> Path:
        """Where scripts of the open drive write files."""
        path = self.session.path
        if path is not None and path.parent != EXAMPLES and writable(path.parent):
            return path.with_suffix(".files")
        return self.session.shelf.folder.with_suffix(".files")

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._begin_host()

    def _begin_host(self) -> None:
        """Have a process ready; where scripts may write may have moved."""
        if self.session.closing or not self.isVisible():
            return
        place = self.files_place()
        if self._host is not None and (
            (self._host.files, self._host.given) != (place, self.session.scripts_folder)
            or self._host.process.poll() is not None
        ):
            self._drop_host()
        if self._host is None:
            with contextlib.suppress(PendelError):  # it is said when a script is to run
                self._host = Host(files_folder(place), self.session.scripts_folder)

    def _drop_host(self) -> None:
        if self._host is not None:
            self._host.close()
            self._host = None

    def close_processes(self) -> None:
        if self.run is not None:
            self.run.stop()
            self.run.wait(2.0)
        self._drop_host()

    def run_or_stop(self) -> None:
        if self.run is not None:
            self.run.stop()
            self.state.setText("stopping …")
            return
        self.keep()
        script = self.session.drive.scripts.get(self.name)
        if script is None:
            return
        if self.name in self._own:
            allow_script(script.text)
        if not script_may_run(self.name, script.text, self, self.session.scripts_folder):
            self.said.emit(f"{self.name} did not run: it was not allowed.")
            return
        if not may_run(self.session, self):
            self.said.emit("The script did not run: the drive's own C was not allowed.")
            return
        self._begin_host()
        try:
            host = self._host or Host(files_folder(self.files_place()), self.session.scripts_folder)
        except PendelError as problem:
            self.said.emit(str(problem))
            return
        self._host = None
        self.drop_left()
        self.clear_output()
        self.editor.mark_failed(0)
        self.owner.kept.clear()
        self.running_name, self._which = self.name, self.session.which
        self.run = ScriptRun(
            host,
            self.name,
            script.text,
            answer_of(self.owner),
            self._say,
            lambda end: self._ended.emit(self.run, end),
        )
        self._tell()

    def _say(self, words: str) -> None:
        """In a thread of its own: what is printed faster than it can be shown is counted, not kept."""
        with self._lock:
            room = MOST_WAITING - len(self._waiting)
            self._waiting += words[:room]
            self._lost += max(0, len(words) - room)
        self._printed.emit()

    def _show_printed(self) -> None:
        with self._lock:
            words, lost, self._waiting, self._lost = self._waiting, self._lost, "", 0
        if words:
            self.output.add(words)
        if lost:
            self.output.add(f"\n… {lost} letters were printed too fast to be shown …\n")

    def _take_end(self, run: ScriptRun, end: Ended) -> None:
        if run is not self.run:
            return
        self._show_printed()
        self.run, self.last_end = None, end
        if self.session.which == self._which:
            if len(self.owner.kept) > 1:
                self.session.overlay_wanted.emit(self.owner.kept[-MOST_OVERLAID:], "")
            if end.line and self.name == self.running_name:
                self.editor.mark_failed(end.line)
            if end.left:
                self._left = end.left
                count = len(end.left)
                self.decide_words.setText(f"It had changed {count} thing{'' if count == 1 else 's'} in the drive.")
                self.decide.show()
        self.said.emit(f"{self.running_name}: {end.sentence}" if end.sentence else f"{self.running_name} has ended.")
        self._tell()
        self._begin_host()

    def take_left(self) -> None:
        """Take what a script had changed that did not end well."""
        changes, self._left = self._left, []
        self.decide.hide()
        try:
            _, conflicts = self.owner.merge(self._which, changes, self.running_name)
        except PendelError as problem:
            self.said.emit(str(problem))
            return
        for sentence in conflicts:
            self.output.add(f"{sentence}\n")

    def drop_left(self) -> None:
        self._left = []
        if hasattr(self, "decide"):
            self.decide.hide()

    # output --------------------------------------------------------------------------

    def clear_output(self) -> None:
        self.output.clear()
        clear(self.pictures)
        self.picture_area.hide()

    def _show_picture(self, png: bytes, name: str) -> None:
        picture = QPixmap()
        if self.pictures.count() >= MOST_PICTURES or not picture.loadFromData(QByteArray(png), "PNG"):
            return
        shown = QLabel()
        shown.setAccessibleName(name or "Picture")
        shown.setToolTip(f"{name}\nRight click copies" if name else "Right click copies")
        shown.setPixmap(picture.scaledToWidth(PICTURE_WIDTH, Qt.TransformationMode.SmoothTransformation))
        shown.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        shown.customContextMenuRequested.connect(lambda _: copy_picture(picture))
        self.pictures.addWidget(shown)
        self.picture_area.show()


def copy_picture(picture: QPixmap) -> None:
    from PyQt6.QtGui import QGuiApplication

    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    clipboard.setPixmap(picture)

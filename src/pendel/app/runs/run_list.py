"""The list of kept runs: ticked to be shown, named, deleted and brought back; and the drive as it was in one."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QInputDialog, QListWidget, QListWidgetItem, QMenu, QMessageBox, QWidget

from pendel.app.session.run_shelf import MOST_DELETED
from pendel.app.session.session import Session
from pendel.app.widgets.basic import button, column, label, literal
from pendel.app.widgets.swatch import swatch
from pendel.app.widgets.theme import trace_colour
from pendel.core.drive import commands, file
from pendel.core.errors import FileProblem, PendelError
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.remarks.rounding import listed
from pendel.core.wording import megabytes

MOST_TICKED = 12
MOST_DIFFERENCES = 5
"""Signals of a run as shipped whose differences are listed beside it."""


class RunList(QWidget):
    changed = pyqtSignal()
    """Other runs are ticked."""
    status_message = pyqtSignal(str)

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.ticked: list[str] = []
        self.tints: dict[str, str] = {}
        """Colours of runs where they tell something else than which run it is."""
        self.held: set[str] = set()
        """Runs that stay ticked while new ones come."""
        self._known: list[str] = []
        inside = column(self, (0, 0, 0, 0), 2)
        self.list = QListWidget()
        self.list.setAccessibleName("Kept runs")
        self.list.setMaximumHeight(230)
        self.list.itemChanged.connect(self._ticked)
        self.list.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.list.customContextMenuRequested.connect(self._menu)
        QShortcut(
            QKeySequence.StandardKey.Delete,
            self.list,
            self._delete_current,
            context=Qt.ShortcutContext.WidgetShortcut,
        )
        inside.addWidget(self.list)
        self.total = label("", "muted")
        inside.addWidget(self.total)
        self.older_button = button("", session.shelf.read_older, "small")
        self.older_button.setToolTip("Runs that were kept before those in the list")
        inside.addWidget(self.older_button)

    def forget(self) -> None:
        """Another drive's runs may have the same names."""
        self.ticked, self._known, self.held = [], [], set()

    def follow(self) -> None:
        """Runs came or went; one that was made since is ticked, older ones are not."""
        names = [r.name for r in self.session.runs]
        last = max((place for place, name in enumerate(names) if name in self._known), default=-1)
        new = [n for n in names[last + 1 :] if n not in self._known]
        self._known = names
        self.ticked = [n for n in self.ticked if n in names]
        self.held &= {*names}
        if new:
            stay = [n for n in self.ticked if n in self.held] or (self.ticked if len(self.ticked) > 1 else [])
            self.ticked = self._most([*stay, new[-1]])
        self.fill()

    def fill(self) -> None:
        self.list.blockSignals(True)
        now = self.list.currentItem()
        chosen = now.data(Qt.ItemDataRole.UserRole) if now else None
        self.list.clear()
        for run in reversed(self.session.runs):
            held = "   held" if run.name in self.held else ""
            item = QListWidgetItem(f"{run.name}   {run.made[11:16]}{held}\n{run.differs or 'as before'}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if run.name in self.ticked else Qt.CheckState.Unchecked)
            item.setIcon(swatch(self.tint(run.name)))
            item.setSizeHint(QSize(100, 40))
            item.setData(Qt.ItemDataRole.UserRole, run.name)
            size = size_of(run)
            lines = [f"{run.name}: {run.differs}", run.message or "complete", *([megabytes(size)] if size else [])]
            lines += listed(run, MOST_DIFFERENCES)
            item.setToolTip("\n".join(lines))
            self.list.addItem(item)
            if run.name == chosen:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        count, size = len(self.session.runs), sum(map(size_of, self.session.runs))
        self.total.setText(f"{count} run{'s' if count != 1 else ''}, {megabytes(size)}")
        self.total.setVisible(size > 0)
        older = self.session.shelf.older
        self.older_button.setText(f"Read {older} older run{'s' if older != 1 else ''}")
        self.older_button.setVisible(older > 0)

    def take_tints(self, tints: dict[str, str]) -> None:
        if tints != self.tints:
            self.tints = tints
            self.fill()

    def tint(self, name: str) -> str:
        if name in self.tints and name in self.ticked:
            return self.tints[name]
        return trace_colour(self.ticked.index(name)) if name in self.ticked else ""

    @property
    def shown(self) -> list[tuple[KeptRun, str]]:
        """Runs that are ticked, with their colours."""
        by_name = {r.name: r for r in self.session.runs}
        return [(by_name[n], self.tint(n)) for n in self.ticked if n in by_name]

    def tick_only(self, names: list[str]) -> None:
        self.ticked = names
        self.fill()
        self.changed.emit()

    def _ticked(self, item: QListWidgetItem) -> None:
        name = item.data(Qt.ItemDataRole.UserRole)
        if item.checkState() == Qt.CheckState.Checked and name not in self.ticked:
            self.ticked = self._most([*self.ticked, name])
        elif item.checkState() == Qt.CheckState.Unchecked and name in self.ticked:
            self.ticked.remove(name)
        self.tick_only(self.ticked)

    def _most(self, names: list[str]) -> list[str]:
        """As many as can be told apart: of others than those that are held the oldest go, and of these then."""
        while len(names) > MOST_TICKED:
            names.remove(next((n for n in names if n not in self.held), names[0]))
        return names

    def hold_current(self) -> None:
        """Hold the run that is chosen, else the latest that is ticked, or let it go."""
        run = self._current()
        name = run.name if run is not None else self.ticked[-1] if self.ticked else ""
        if name:
            self.hold(name)

    def hold(self, name: str) -> None:
        """Keep a run ticked while new ones come, or no longer."""
        self.held ^= {name}
        if name in self.held and name not in self.ticked:
            self.ticked = self._most([*self.ticked, name])
        self.tick_only(self.ticked)
        held = name in self.held
        self.status_message.emit(f"{name} stays shown beside new runs." if held else f"{name} goes when new runs come.")

    def hold_only(self, names: list[str]) -> None:
        """Keep these runs ticked while new ones come, and no others."""
        self.held = set(names)
        self.ticked = self._most([*(n for n in self.ticked if n not in self.held), *names])
        self.tick_only(self.ticked)

    def _current(self) -> KeptRun | None:
        item = self.list.currentItem()
        name = item.data(Qt.ItemDataRole.UserRole) if item else None
        return next((r for r in self.session.runs if r.name == name), None)

    def _menu(self, at: QPoint) -> None:
        item, shelf = self.list.itemAt(at), self.session.shelf
        menu = QMenu(self)
        if item is not None:
            run = next(r for r in self.session.runs if r.name == item.data(Qt.ItemDataRole.UserRole))
            menu.addAction("Rename …", lambda: self._rename(run))
            menu.addAction("Only this one", lambda: self.tick_only([run.name]))
            held = menu.addAction("Hold this one\tH", lambda: self.hold(run.name))
            assert held is not None
            held.setCheckable(True)
            held.setChecked(run.name in self.held)
            menu.addAction("Take the drive as it was in this run", lambda: self._take_drive_of(run))
            menu.addAction("Delete this run", lambda: self._delete(run))
        if self.ticked and len(self.ticked) < len(self.session.runs):
            menu.addAction("Delete all but those ticked …", self.delete_unticked)
        if shelf.deleted:
            menu.addAction(literal(f"Bring {shelf.deleted[-1][1].name} back"), shelf.bring_back)
        if menu.actions():
            menu.exec(self.list.mapToGlobal(at))

    def rename_current(self) -> None:
        if (run := self._current()) is not None:
            self._rename(run)

    def _rename(self, run: KeptRun) -> None:
        text, good = QInputDialog.getText(self, "Rename a run", "Name", text=run.differs or run.name)
        if good and text.strip():
            try:
                self.session.shelf.relabel(run, text.strip())
            except FileProblem as problem:
                self.status_message.emit(str(problem))
            self.fill()

    def _delete_current(self) -> None:
        if (run := self._current()) is not None:
            self._delete(run)

    def _delete(self, run: KeptRun) -> None:
        self.session.shelf.remove(run)
        self.status_message.emit(f"Deleted {run.name}; the list's menu brings it back until the drive is closed.")

    def delete_unticked(self) -> None:
        """All that are in the list and not shown, after a question, as few of them can be brought back."""
        gone = [run for run in self.session.runs if run.name not in self.ticked]
        size = megabytes(sum(map(size_of, gone)))
        of = f"{len(gone)} of {len(self.session.runs)} runs ({size})"
        words = f"Delete {of}? The last {MOST_DELETED} of them can be brought back."
        answer = QMessageBox.question(self, "Delete runs", words)
        if answer == QMessageBox.StandardButton.Yes:
            for run in gone:
                self.session.shelf.remove(run)
            self.status_message.emit(f"Deleted {len(gone)} runs; the list's menu brings the last ones back.")

    def _take_drive_of(self, run: KeptRun) -> None:
        """In one step of undo; the drive's file stays as it is until it is saved."""
        session = self.session
        try:
            command = commands.as_in(session.drive, file.from_text(run.drive_text), f"Take the drive of {run.name}")
        except PendelError as problem:
            self.status_message.emit(str(problem))
            return
        session.do(command)
        taken = f"The drive is as it was in {run.name}"
        self.status_message.emit(f"{taken}; Ctrl+Z takes that back." if command.changes else f"{taken} already.")


def size_of(run: KeptRun) -> int:
    """Bytes of its file; zero where it has none."""
    try:
        return run.file.stat().st_size if run.file is not None else 0
    except OSError:
        return 0


__all__ = ["RunList"]

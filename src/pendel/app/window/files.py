"""A drive's file: new, open, save, recent files, the autosave that is offered after a crash."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from PyQt6.QtCore import QObject, QSettings, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QMenu, QMessageBox, QWidget

from pendel.app.session.autosaves import Slot, slots
from pendel.app.session.differences import differences
from pendel.app.session.listed import Listed
from pendel.app.session.preferences import BEGIN, FOLDER, NO, YES, Preferences
from pendel.app.session.run_shelf import writable
from pendel.app.session.session import Session
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.basic import literal
from pendel.core.catalogue.shelf import on_shelf
from pendel.core.drive import commands, file
from pendel.core.drive.document import Drive
from pendel.core.drive.examples import DEMO, EXAMPLES
from pendel.core.drive.lock import FileLock, lock_of, take
from pendel.core.errors import FileProblem
from pendel.core.wording import sentence_case

MOST_RECENT = 12
MOST_TOLD = 12
"""Sentences in a question."""


class DriveFiles(QObject):
    """Opens and saves the session's drive. ``commit`` takes over what is still being typed."""

    status_message = pyqtSignal(str)
    created = pyqtSignal()
    steps_wanted = pyqtSignal()
    """The tour for who is new."""

    def __init__(
        self,
        session: Session,
        settings: QSettings,
        preferences: Preferences,
        commit: Callable[[], None],
        window: QWidget,
    ):
        super().__init__(window)
        self.session, self.settings, self.preferences = session, settings, preferences
        self.commit, self.window = commit, window
        session.drive_wanted.connect(lambda path: self.may_leave() and self.open_path(Path(path)))

    def may_leave(self) -> bool:
        """Ask once about unsaved changes; true when it is all right to go on."""
        self.commit()
        if not self.session.dirty:
            return True
        answer = QMessageBox.question(
            self.window,
            "Unsaved changes",
            f"Save the changes to {self.session.drive.title}?",
            QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
            QMessageBox.StandardButton.Save,
        )
        if answer == QMessageBox.StandardButton.Save:
            return self.save_drive()
        if answer == QMessageBox.StandardButton.Discard:
            self.session.discard_autosave()
            return True
        return False

    def new_drive(self) -> None:
        if self.may_leave():
            self.session.open(Drive(), None)
            self.created.emit()

    def ask_new_drive(self) -> None:
        """An empty sheet, or a drive from a goal: whoever asks for one decides in a dialog."""
        from pendel.app.window.new_drive import NewDriveDialog  # slow to load, and not needed to start

        if self.may_leave():
            dialog = NewDriveDialog(self.session, self.window)
            dialog.chosen.connect(self.take_new)
            dialog.open()

    @property
    def begins(self) -> bool:
        """Whether the page of what can be opened is shown where no file is."""
        return self.preferences[BEGIN] == YES

    def begin(self) -> None:
        """Recent files, examples, and what was left unsaved, each with what it is about."""
        from pendel.app.window.begin import BeginDialog  # slow to load, and not needed with a file

        dialog = BeginDialog(self.session.jobs, self._recent(), at_start=self.begins, parent=self.window)

        def instead(does: Callable[[], object]) -> None:
            dialog.accept()
            does()

        dialog.chosen.connect(lambda one: instead(lambda: self._open_listed(one)))
        dialog.new_wanted.connect(lambda: instead(self.ask_new_drive))
        dialog.file_wanted.connect(lambda: instead(self.open_drive))
        dialog.steps_wanted.connect(lambda: instead(self.steps_wanted.emit))
        dialog.at_start_changed.connect(lambda shown: self.preferences.set(BEGIN, YES if shown else NO))
        dialog.open()

    def _open_listed(self, one: Listed) -> None:
        if not self.may_leave():
            return
        if one.autosave is not None:
            self._take_up(one.path, one.autosave)
        elif one.path is not None:
            self.open_path(one.path)

    def _take_up(self, path: Path | None, autosave: Path) -> None:
        """Open what was left unsaved of a drive."""
        for slot in slots(path, used=True):
            if slot.path == autosave and (drive := self._autosaved(slot)) is not None:
                self._open_unsaved(drive, path, slot)
                return
            slot.lock.release()
        self.status_message.emit("What was left unsaved is open in another window, or gone.")

    def _open_unsaved(self, drive: Drive, path: Path | None, slot: Slot) -> None:
        self.session.open(drive, path, slot)
        self.session.undo.resetClean()
        self.session.file_changed.emit()
        self.created.emit()

    def take_new(self, drive: Drive, title: str) -> None:
        """Open an empty drive, and make of it what came of a goal, as one step of undo."""
        self.session.open(Drive(), None)
        if drive.cards:
            self.session.do(commands.as_in(self.session.drive, drive, title, whole=True))
        self.created.emit()

    def open_drive(self) -> None:
        if self.may_leave():
            path, _ = QFileDialog.getOpenFileName(
                self.window,
                "Open a drive",
                str(self.folder),
                "Pendel drives (*.pendel);;All files (*)",
            )
            if path:
                self.open_path(Path(path))

    def open_path(self, path: Path) -> bool:
        """Open a file; what another window left unsaved of it is offered. False, with a sentence, when it
        cannot be read."""
        self.commit()  # what is still being typed belongs to the drive that is open
        if not self._may_share(path):
            return False
        try:
            drive = file.load(path)
        except FileProblem as problem:
            return self._offer_autosave(path) or self._open_damaged(path, problem)
        if not self._offer_autosave(path, drive):
            self.session.open(drive, path)
        self._remember(path)
        return True

    def _may_share(self, path: Path) -> bool:
        """Whether nobody else has the file open, or the user wants it all the same."""
        if path == self.session.path or path.parent == EXAMPLES or not path.is_file():
            return True
        lock = take(lock_of(path)) if writable(path.parent) else None
        if isinstance(lock, FileLock):
            lock.release()
            return True
        if lock is None:
            return True
        answer = QMessageBox.question(
            self.window,
            "Open elsewhere",
            f"{path.name} is open in another window of Pendel ({lock}). Open it here too? Before either "
            "saves over the other, it is asked.",
            QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.No,
            QMessageBox.StandardButton.No,
        )
        return answer == QMessageBox.StandardButton.Yes

    def _open_damaged(self, path: Path, problem: FileProblem) -> bool:
        """Offer what can be read of a file as a new drive. The file itself stays as it is."""
        try:
            drive, left_out = file.load_as_far_as_it_goes(path)
        except FileProblem:
            self.complain(problem)
            return False
        sentences = "\n".join(f"· {sentence}" for sentence in left_out[:MOST_TOLD])
        more = f"\n… and {len(left_out) - MOST_TOLD} more" if len(left_out) > MOST_TOLD else ""
        answer = QMessageBox.question(
            self.window,
            "Not all can be read",
            f"{path.name} can be read in part: {len(drive.cards)} cards, {len(drive.wires)} wires. Left "
            f"out would be:\n\n{sentences}{more}\n\n"
            "Open what there is as a new drive? The file stays as it is.",
        )
        if answer != QMessageBox.StandardButton.Yes:
            return False
        self.session.open(drive, None)
        self.session.undo.resetClean()
        self.session.file_changed.emit()
        return True

    def offer_untitled_autosave(self) -> None:
        self._offer_autosave(None)

    def _offer_autosave(self, path: Path | None, saved: Drive | None = None) -> bool:
        """Offer what a window that is gone left unsaved, one after the other; true where it was taken up."""
        for slot in slots(path, used=True):
            drive = self._autosaved(slot)
            if drive is None or (saved is not None and file.to_text(drive) == file.to_text(saved)):
                if drive is not None:
                    slot.path.unlink(missing_ok=True)
                slot.lock.release()
                continue
            name = path.name if path else "a drive that was never saved"
            answer = QMessageBox.question(
                self.window, "Autosave", f"Pendel ended before {name} was saved. Take up the unsaved changes?"
            )
            if answer == QMessageBox.StandardButton.Yes:
                self._open_unsaved(drive, path, slot)
                return True
            slot.path.unlink(missing_ok=True)
            slot.lock.release()
        return False

    def _autosaved(self, slot: Slot) -> Drive | None:
        """The drive of an autosave, as far as it can be read; one that cannot be is put aside, never
        deleted."""
        try:
            return file.load_as_far_as_it_goes(slot.path)[0]
        except FileProblem as problem:
            aside = slot.path.with_name(f"{slot.path.stem}-{datetime.now():%Y%m%d-%H%M%S}.unreadable")
            with contextlib.suppress(OSError):
                slot.path.rename(aside)
            self.complain(FileProblem(str(aside), f"an autosave cannot be read and was put there. {problem.reason}"))
            return None

    def complain(self, problem: FileProblem) -> None:
        QMessageBox.warning(self.window, "File", str(problem))

    def save_drive(self) -> bool:
        self.commit()
        if self.session.path is None or self.session.path.parent == EXAMPLES:
            return self.save_drive_as()
        return self._save_to(self.session.path)

    @property
    def folder(self) -> Path:
        """Where files are looked for and saved: beside the drive, unless it is an example, else as is preferred."""
        if self.session.path is not None and self.session.path.parent != EXAMPLES:
            return self.session.path.parent
        return Path(self.preferences[FOLDER] or ".").expanduser()

    def save_drive_as(self) -> bool:
        suggestion = str(self.folder / (self.session.path.name if self.session.path else "drive.pendel"))
        path = asked_path(self.window, "Save the drive", suggestion, {".pendel": "Pendel drives"})
        return self._save_to(Path(path)) if path else False

    def _save_to(self, path: Path) -> bool:
        if self.session.changed_by_others(path):
            wanted = self._where_instead(path)
            if wanted is None:
                return False
            path = wanted
        try:
            self.session.save(path)
        except FileProblem as problem:
            self.complain(problem)
            return False
        self._remember(path)
        self.status_message.emit(f"Saved {path}.")
        return True

    def _where_instead(self, path: Path) -> Path | None:
        """The file is not as it was when it was opened or saved here: over it, beside it, or not at all."""
        shown = ""
        while True:
            box = QMessageBox(self.window)
            box.setWindowTitle("Changed elsewhere")
            box.setText(
                f"{path.name} was changed by another program since it was opened here. Saving over it "
                f"loses what was changed there.{shown}"
            )
            over = box.addButton("Save over it", QMessageBox.ButtonRole.DestructiveRole)
            beside = box.addButton("Save beside it", QMessageBox.ButtonRole.AcceptRole)
            differs = box.addButton("Show what differs", QMessageBox.ButtonRole.ActionRole)
            box.addButton(QMessageBox.StandardButton.Cancel)
            box.setDefaultButton(beside)
            box.exec()
            chosen = box.clickedButton()
            if chosen is over:
                return path
            if chosen is beside:
                return free_beside(path)
            if chosen is not differs:
                return None
            shown = f"\n\nHere, compared with there: {self._difference(path)}."

    def _difference(self, path: Path) -> str:
        try:
            there = file.load_as_far_as_it_goes(path)[0]
        except FileProblem as problem:
            return f"the file cannot be read: {problem.reason}"
        return differences(there, self.session.drive, MOST_TOLD, both=True)

    def _remember(self, path: Path) -> None:
        recent = [str(path), *(p for p in self._recent() if p != str(path))][:MOST_RECENT]
        self.settings.setValue("recent", recent)

    def _recent(self) -> list[str]:
        stored = self.settings.value("recent") or []
        return [stored] if isinstance(stored, str) else list(stored)

    def fill_examples(self, menu: QMenu) -> None:
        """The shipped drives by title, the demo first."""
        menu.clear()
        for path in sorted(EXAMPLES.glob("*.pendel"), key=lambda p: (p != DEMO, p.name)):
            title = json.loads(path.read_text("utf-8"))["settings"]["title"].split("·")[-1].strip()
            menu.addAction(literal(sentence_case(title)), lambda p=path: self.may_leave() and self.open_path(p))

    def fill_shelf(self, menu: QMenu) -> None:
        """What is on the user's own shelf; choosing one takes it off."""
        menu.clear()
        for name, path in on_shelf():
            menu.addAction(literal(name), lambda n=name, p=path: self.take_off_shelf(n, p))
        if menu.isEmpty():
            menu.addAction("Nothing yet").setEnabled(False)

    def take_off_shelf(self, name: str, path: Path) -> None:
        try:
            path.replace(path.with_suffix(".bak"))
        except OSError as problem:
            self.status_message.emit(f"{name} cannot be taken off the shelf: {problem.strerror}.")
            return
        self.status_message.emit(f"{name} is off your shelf. Its file stays as {path.with_suffix('.bak')}.")

    def forget_recent(self) -> None:
        self.settings.setValue("recent", [])

    def fill_recent(self, menu: QMenu) -> None:
        menu.clear()
        for text in self._recent():
            menu.addAction(literal(text), lambda p=text: self.may_leave() and self.open_path(Path(p)))
        if menu.isEmpty():
            menu.addAction("None yet").setEnabled(False)
        else:
            menu.addSeparator()
            menu.addAction("Forget these", self.forget_recent)


def free_beside(path: Path) -> Path:
    """A name beside a file that no file has."""
    number = 2
    while (free := path.with_stem(f"{path.stem} {number}")).exists():
        number += 1
    return free

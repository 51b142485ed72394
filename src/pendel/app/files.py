"""A drive's file: new, open, save, recent files, the autosave that is offered after a crash."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, QSettings, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QMenu, QMessageBox, QWidget

from pendel.app.session import DEMO, Session, autosave_path
from pendel.core.drive import file
from pendel.core.drive.document import Drive
from pendel.core.drive.shelf import on_shelf
from pendel.core.errors import FileProblem

MOST_RECENT = 8
EXAMPLES = DEMO.parent
"""The shipped drives; what is changed in them is saved elsewhere."""


class DriveFiles(QObject):
    """Opens and saves the session's drive. ``commit`` takes over what is still being typed."""

    said = pyqtSignal(str)
    created = pyqtSignal()

    def __init__(self, session: Session, settings: QSettings, commit: Callable[[], None], window: QWidget):
        super().__init__(window)
        self.session, self.settings, self.commit, self.window = session, settings, commit, window

    def may_leave(self) -> bool:
        """Ask once about unsaved changes; true when it is all right to go on."""
        self.commit()
        if not self.session.dirty:
            return True
        answer = QMessageBox.question(self.window, "Unsaved changes", f"Save the changes to {self.session.drive.title}?",
                                      QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Save)  # fmt: skip
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

    def open_drive(self) -> None:
        if self.may_leave():
            path, _ = QFileDialog.getOpenFileName(
                self.window,
                "Open a drive",
                str(self.session.path.parent) if self.session.path else "",
                "Pendel drives (*.pendel);;All files (*)",
            )
            if path:
                self.open_path(Path(path))

    def open_path(self, path: Path) -> bool:
        """Open a file; an autosave that is newer is offered. False, with a sentence, when it cannot be read."""
        try:
            drive = file.load(path)
        except FileProblem as problem:
            self.complain(problem)
            return self._offer_autosave(path)
        if not self._offer_autosave(path):
            self.session.open(drive, path)
        self._remember(path)
        return True

    def offer_untitled_autosave(self) -> None:
        self._offer_autosave(None)

    def _offer_autosave(self, path: Path | None) -> bool:
        saved = autosave_path(path)
        if not saved.exists():
            return False
        try:
            drive = file.load(saved)
        except FileProblem:
            saved.unlink(missing_ok=True)
            return False
        name = path.name if path else "a drive that was never saved"
        answer = QMessageBox.question(
            self.window, "Autosave", f"Pendel ended before {name} was saved. Take up the unsaved changes?"
        )
        if answer != QMessageBox.StandardButton.Yes:
            saved.unlink(missing_ok=True)
            return False
        self.session.open(drive, path)
        self.session.undo.resetClean()
        self.session.file_changed.emit()
        return True

    def complain(self, problem: FileProblem) -> None:
        QMessageBox.warning(self.window, "File", str(problem))

    def save_drive(self) -> bool:
        self.commit()
        if self.session.path is None or self.session.path.parent == EXAMPLES:
            return self.save_drive_as()
        return self._save_to(self.session.path)

    def save_drive_as(self) -> bool:
        suggestion = self.session.path.name if self.session.path else "drive.pendel"
        path, _ = QFileDialog.getSaveFileName(
            self.window, "Save the drive", suggestion, "Pendel drives (*.pendel)"
        )
        if not path:
            return False
        return self._save_to(Path(path if path.endswith(".pendel") else path + ".pendel"))

    def _save_to(self, path: Path) -> bool:
        try:
            self.session.save(path)
        except FileProblem as problem:
            self.complain(problem)
            return False
        self._remember(path)
        self.said.emit(f"Saved {path}.")
        return True

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
            menu.addAction(
                f"{title[:1].upper()}{title[1:]}", lambda p=path: self.may_leave() and self.open_path(p)
            )

    def fill_shelf(self, menu: QMenu) -> None:
        """What is on the user's own shelf; choosing one takes it off."""
        menu.clear()
        for name, path in on_shelf():
            menu.addAction(name, lambda n=name, p=path: self.take_off_shelf(n, p))
        if menu.isEmpty():
            menu.addAction("Nothing yet").setEnabled(False)

    def take_off_shelf(self, name: str, path: Path) -> None:
        try:
            path.replace(path.with_suffix(".bak"))
        except OSError as problem:
            self.said.emit(f"{name} cannot be taken off the shelf: {problem.strerror}.")
            return
        self.said.emit(f"{name} is off your shelf. Its file stays as {path.with_suffix('.bak')}.")

    def fill_recent(self, menu: QMenu) -> None:
        menu.clear()
        for text in self._recent():
            menu.addAction(text, lambda p=text: self.may_leave() and self.open_path(Path(p)))
        if menu.isEmpty():
            menu.addAction("None yet").setEnabled(False)

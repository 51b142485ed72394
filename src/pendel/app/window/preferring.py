"""Does in the window what its user prefers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject
from PyQt6.QtGui import QKeySequence

from pendel.app.session.preferences import AUTOSAVE, CORES, KEPT, MEMORY, SCRIPTS, SERIES, SETTLED, Preferences
from pendel.app.window.actions import ACTIONS
from pendel.core.cores import use_cores
from pendel.core.series.traces import allow_megabytes
from pendel.remote.given import given_folder

if TYPE_CHECKING:
    from pendel.app.window.main_window import MainWindow


class Preferring(QObject):
    """Takes the preferences over at the start and with each change."""

    def __init__(self, window: MainWindow):
        super().__init__(window)
        self.window = window
        self.preferences = Preferences(window.settings, self)
        self.preferences.changed.connect(self._changed)
        for name in (CORES, MEMORY, KEPT, SERIES, AUTOSAVE, SCRIPTS, SETTLED):
            self._changed(name)

    def _changed(self, name: str) -> None:
        session = self.window.session
        if name == CORES:
            wanted = int(self.preferences.number(CORES))
            if wanted or self.preferences.settings.contains(f"preferences/{CORES}"):
                use_cores(wanted)  # else it stays what the environment says
        elif name == SERIES:
            if self.preferences.settings.contains(f"preferences/{SERIES}"):
                allow_megabytes(int(self.preferences.number(SERIES)))
        elif name == MEMORY:
            session.shelf.hidden_bytes = int(self.preferences.number(MEMORY) * 2**20)
        elif name == KEPT:
            session.shelf.kept_bytes = int(self.preferences.number(KEPT) * 1e6)
        elif name == AUTOSAVE:
            session.autosave_within(self.preferences.number(AUTOSAVE))
        elif name == SCRIPTS:
            session.scripts_folder = given_folder(self.preferences[SCRIPTS])
        elif name == SETTLED:
            before, session.band = session.band, self.preferences.number(SETTLED) / 100
            if session.band != before:
                session.runs_changed.emit()
        elif name.startswith("keys/"):
            self.give_keys()

    def give_keys(self) -> None:
        """Each action its key: the usual one, or what was chosen. Of two actions with one key the second has none."""
        taken: set[str] = set()
        for spec in ACTIONS:
            action = self.window.actions_by_name.get(spec.name)
            if action is None:
                continue
            key = QKeySequence(self.preferences.key(spec.name, spec.key))
            words = key.toString()
            if words in taken:
                key, words = QKeySequence(), ""
            taken |= {words} - {""}
            action.setShortcut(key)

    def tell_problems(self) -> None:
        """Say what could not be taken."""
        if self.preferences.problems:
            self.window.say(" ".join(self.preferences.problems))

    def show(self) -> None:
        from pendel.app.window.preferences_window import PreferencesDialog  # loaded when it is asked for

        PreferencesDialog(self.preferences, self.window.actions_by_name, self.window).open()

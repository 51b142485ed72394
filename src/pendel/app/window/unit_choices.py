"""The units in which the user reads signals: kept from one start to the next, single signals by the drive
they are of."""

from __future__ import annotations

import contextlib
import json

from PyQt6.QtCore import QObject, QSettings, pyqtSignal
from PyQt6.QtGui import QAction

from pendel.app.session.preferences import ANGLES, SPEEDS, TEMPERATURES, VELOCITIES, Preferences
from pendel.app.session.session import Session
from pendel.core.runs.record.display_units import OTHERS, SPEED, TEMPERATURE

DECLARED = {SPEEDS: SPEED, ANGLES: "rad", VELOCITIES: "m/s", TEMPERATURES: TEMPERATURE}
"""What signals are declared with, by the preference in which they are shown."""
MOST_DRIVES = 50
"""Whose choices are kept."""


def read(settings: QSettings, name: str) -> dict:
    """A table from the settings; an empty one where there is none that can be read."""
    with contextlib.suppress(ValueError, TypeError):
        chosen = json.loads(str(settings.value(f"units/{name}", "{}")))
        if isinstance(chosen, dict):
            return chosen
    return {}


def only_known(table: object) -> dict[str, str]:
    known = {u for others in OTHERS.values() for u in others}
    items = table.items() if isinstance(table, dict) else ()
    return {k: v for k, v in items if isinstance(k, str) and v in known}


class UnitChoices(QObject):
    """Keeps the session's choices of units in the settings."""

    status_message = pyqtSignal(str)

    def __init__(self, session: Session, settings: QSettings, preferences: Preferences, parent: QObject):
        super().__init__(parent)
        self.session, self.settings, self.preferences = session, settings, preferences
        self._action: QAction | None = None
        session.shelf.units.preferred = {declared: preferences[name] for name, declared in DECLARED.items()}
        preferences.changed.connect(self._changed)
        session.opened.connect(self._recall)
        session.units_changed.connect(self._keep)
        self._recall()

    def _recall(self) -> None:
        of_drive = read(self.settings, "chosen").get(self.session.drive.title)
        self.session.shelf.units.chosen = only_known(of_drive)

    def _keep(self) -> None:
        units, title = self.session.shelf.units, self.session.drive.title
        chosen = {k: v for k, v in read(self.settings, "chosen").items() if k != title}
        chosen[title] = units.chosen
        self.settings.setValue("units/chosen", json.dumps(dict(list(chosen.items())[-MOST_DRIVES:])))

    def follow(self, action: QAction) -> None:
        """Let an action of the menu show whether speeds are in rpm."""
        self._action = action
        action.setCheckable(True)
        action.setChecked(self._in_rpm)

    @property
    def _in_rpm(self) -> bool:
        return self.session.shelf.units.preferred.get(SPEED) == "rpm"

    def toggle_speeds(self) -> None:
        wanted = SPEED if self._in_rpm else "rpm"
        self.preferences.set(SPEEDS, wanted)
        self.status_message.emit(f"Angular speeds are shown in {wanted}.")

    def _changed(self, name: str) -> None:
        if name not in DECLARED:
            return
        self.session.prefer_unit(DECLARED[name], self.preferences[name])
        if self._action is not None:
            self._action.setChecked(self._in_rpm)

"""What somebody prefers, from one start to the next: declared once, with what each may be.

A value that cannot be taken counts as its default, and a sentence says so; nothing in the file can end the window."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from PyQt6.QtCore import QObject, QSettings, pyqtSignal

from pendel.core.cores import all_cores
from pendel.core.errors import PendelError, shorten
from pendel.remote.given import given_folder

NO_STRIPS = hashlib.sha256(b"[]").hexdigest()[:16]
"""What stands for the strips of a file that has none."""
VERSION, VERSION_KEY = 1, "preferences/version"


class PreferenceProblem(PendelError):
    """A value that a preference cannot have."""


@dataclass(frozen=True)
class Preference:
    """``options`` are pairs of a value and its words; without them it is a number from ``low`` to ``high``, or, with
    ``folder``, a folder that is there, or empty. ``at_start``: it holds from the next start on."""

    name: str
    group: str
    title: str
    sentence: str
    default: str
    options: tuple[tuple[str, str], ...] = ()
    low: float = 0.0
    high: float = 0.0
    unit: str = ""
    folder: bool = False
    check: Callable[[str], object] | None = None
    """Refuses what is a folder, but cannot be taken: raises `PendelError`."""
    at_start: bool = False

    def read(self, text: str) -> str:
        """A text as it is kept. Raises `PreferenceProblem`."""
        text = text.strip()
        if self.options:
            if text not in dict(self.options):
                known = ", ".join(value for value, _ in self.options)
                raise PreferenceProblem(f"{self.title} cannot be “{shorten(text, 40)}”. It is one of {known}.")
            return text
        if self.folder:
            if text and not Path(text).expanduser().is_dir():
                raise PreferenceProblem(f"{self.title}: there is no folder “{shorten(text, 80)}”. Make it first.")
            if self.check is not None:
                try:
                    self.check(text)
                except PendelError as problem:
                    raise PreferenceProblem(str(problem)) from problem
            return text
        number = text.removesuffix(self.unit).strip() if self.unit else text
        with contextlib.suppress(ValueError):
            if self.low <= float(number) <= self.high:
                return f"{float(number):g}"
        unit = f" {self.unit}" if self.unit else ""
        raise PreferenceProblem(
            f"{self.title} cannot be “{shorten(text, 40)}”. Take {self.low:g} to {self.high:g}{unit}."
        )


YES, NO = "yes", "no"
OR_NOT = ((YES, "yes"), (NO, "no"))
THEME, SIZE = "theme", "size"
SPEEDS, ANGLES, VELOCITIES, TEMPERATURES = "speeds", "angles", "velocities", "temperatures"
SIZES = "sizes"
CORES, MEMORY, AUTOSAVE, KEPT, SERIES = "cores", "memory", "autosave", "kept_runs", "series_traces"
COMPILER, FOUND, DIGITS = "compiler", "found", "digits"
FOLDER, BEGIN, SCRIPTS, SETTLED = "folder", "begin", "scripts_folder", "settled"
PREFERENCES = (
    Preference(
        THEME,
        "Look",
        "Colours",
        "Light, dark, or as the desktop has it.",
        "system",
        (("system", "as the desktop"), ("light", "light"), ("dark", "dark")),
        at_start=True,
    ),
    Preference(
        SIZE,
        "Look",
        "Size of text",
        "Of all that is shown, with its fields and symbols.",
        "100",
        (("90", "90 %"), ("100", "100 %"), ("115", "115 %"), ("130", "130 %"), ("150", "150 %"), ("175", "175 %")),
        at_start=True,
    ),
    Preference(
        BEGIN, "Look", "Begin with examples and recent drives", "Where no file is opened at the start.", YES, OR_NOT
    ),
    Preference(
        SPEEDS,
        "Units shown",
        "Angular speeds",
        "Of runs, on cards and in figures. A single signal is chosen in the menu of its strip.",
        "rad/s",
        (("rad/s", "rad/s"), ("rpm", "rpm")),
    ),
    Preference(ANGLES, "Units shown", "Angles", "As above.", "rad", (("rad", "rad"), ("°", "°"))),
    Preference(VELOCITIES, "Units shown", "Velocities", "As above.", "m/s", (("m/s", "m/s"), ("km/h", "km/h"))),
    Preference(
        TEMPERATURES,
        "Units shown",
        "Temperatures",
        "As above. Fields, limits and heat over a duty stay in °C, and differences in K.",
        "°C",
        (("°C", "°C"), ("K", "K")),
    ),
    Preference(
        SIZES,
        "Units shown",
        "Sizes of responses",
        "In plots of Loops, gain margins and what is read there.",
        "dB",
        (("dB", "dB"), ("ratio", "ratio")),
        at_start=True,
    ),
    Preference(
        SETTLED,
        "Figures",
        "Band of settling and recovery",
        "Of a step, or of the target after a load, within which a signal must stay in figures of runs.",
        "2",
        low=0.1,
        high=20,
        unit="%",
    ),
    Preference(
        DIGITS,
        "Figures",
        "Digits",
        "Significant ones of figures and readings, where none is fixed.",
        "4",
        (("4", "4"), ("5", "5"), ("6", "6"), ("8", "8")),
        at_start=True,
    ),
    Preference(
        COMPILER,
        "Work",
        "C compiler",
        "With which drives are built to run.",
        FOUND,
        ((FOUND, "the first that is found"), ("gcc", "GCC"), ("clang", "Clang"), ("zig", "Zig's")),
        at_start=True,
    ),
    Preference(
        CORES,
        "Work",
        "Cores",
        "That series, sweeps and builds may use at once; 0 for all that there are.",
        "0",
        low=0,
        high=float(max(64, all_cores())),
    ),
    Preference(
        MEMORY,
        "Work",
        "Memory of runs that are not shown",
        "What is beyond it is read from disk again when it is wanted.",
        "24",
        low=1,
        high=65536,
        unit="MB",
    ),
    Preference(
        KEPT,
        "Work",
        "Runs kept beside a drive",
        "At most so much on disk; beyond it the oldest that no strip shows go for good. 0 for all of them.",
        "0",
        low=0,
        high=1e6,
        unit="MB",
    ),
    Preference(
        SERIES,
        "Work",
        "Traces of a series",
        "At most so much on disk for those that its rows keep; a series that could take more does not begin.",
        "1000",
        low=1,
        high=1e6,
        unit="MB",
    ),
    Preference(
        AUTOSAVE,
        "Work",
        "Autosave after",
        "Of the last edit; at most three times as long after the first.",
        "1.5",
        low=0.5,
        high=120,
        unit="s",
    ),
    Preference(
        FOLDER,
        "Files",
        "Folder of drives",
        "Where files are looked for and saved while no drive has one. Empty for the present folder.",
        "",
        folder=True,
    ),
    Preference(
        SCRIPTS,
        "Files",
        "Folder for scripts",
        "Scripts that were allowed here may read and write in it, besides the folder NAME.files of their drive. Empty "
        "for none. Calls of other programs may not.",
        "",
        folder=True,
        check=given_folder,
    ),
)
BY_NAME = {each.name: each for each in PREFERENCES}


class Preferences(QObject):
    """The values, and who hears of a change."""

    changed = pyqtSignal(str)
    """A name of `PREFERENCES`, or of an action whose key is another: ``keys/NAME``."""

    def __init__(self, settings: QSettings, parent: QObject | None = None):
        super().__init__(parent)
        self.settings = settings
        self.problems: list[str] = []
        """Sentences on what could not be taken."""
        migrate(settings)
        for each in PREFERENCES:
            try:
                each.read(self._kept(each))
            except PreferenceProblem as problem:
                self.problems.append(f"{problem} “{each.default or 'none'}” is used.")

    def _kept(self, preference: Preference) -> str:
        kept = self.settings.value(f"preferences/{preference.name}")
        return preference.default if kept is None else str(kept)

    def __getitem__(self, name: str) -> str:
        preference = BY_NAME[name]
        try:
            return preference.read(self._kept(preference))
        except PreferenceProblem:
            return preference.default

    def number(self, name: str) -> float:
        return float(self[name])

    def set(self, name: str, text: str) -> None:
        """Raises `PreferenceProblem`."""
        preference = BY_NAME[name]
        value = preference.read(text)
        if value == self[name]:
            return
        self.settings.setValue(f"preferences/{name}", value)
        self.changed.emit(name)

    # keys

    def key(self, action: str, usual: str) -> str:
        """Of an action of the menus; empty for none."""
        kept = self.settings.value(f"keys/{action}")
        return usual if kept is None else str(kept)

    def set_key(self, action: str, key: str, usual: str) -> None:
        if key == usual:
            self.settings.remove(f"keys/{action}")
        else:
            self.settings.setValue(f"keys/{action}", key)
        self.changed.emit(f"keys/{action}")


def migrate(settings: QSettings) -> None:
    """Bring the settings of an earlier Pendel to what this one reads; those of a later one stay as they are."""
    with contextlib.suppress(ValueError, TypeError):
        version = int(str(settings.value(VERSION_KEY, 0)))
        for earlier in range(max(0, version), VERSION):
            STEPS[earlier](settings)
        if version >= VERSION:
            return
    settings.setValue(VERSION_KEY, VERSION)


def strips_by_view(settings: QSettings) -> None:
    """0 to 1: strips that were chosen say what the drive's file had then, which was nothing, and
    the units that were preferred are preferences."""
    with contextlib.suppress(ValueError, TypeError, RecursionError):
        units = json.loads(str(settings.value("units/preferred", "{}")))
        for name, declared in ((SPEEDS, "rad/s"), (ANGLES, "rad"), (VELOCITIES, "m/s")):
            if isinstance(units, dict) and isinstance(units.get(declared), str):
                settings.setValue(f"preferences/{name}", units[declared])
        settings.remove("units/preferred")
    with contextlib.suppress(ValueError, TypeError, RecursionError):
        table = json.loads(str(settings.value("strips/chosen", "{}")))
        if isinstance(table, dict):
            new = {path: _with_base(text) for path, text in table.items() if isinstance(text, str)}
            settings.setValue("strips/chosen", json.dumps(new))


def _with_base(text: str) -> str:
    with contextlib.suppress(ValueError, RecursionError):
        if isinstance(json.loads(text), dict):
            return text
    return json.dumps({"strips": text, "base": NO_STRIPS})


STEPS: dict[int, Callable[[QSettings], None]] = {0: strips_by_view}
"""What leads from a version to the next."""


def sound_settings(settings: QSettings) -> tuple[QSettings, str]:
    """The settings; where their file cannot be read, it is put aside, and a sentence says where."""
    path = Path(settings.fileName())
    if settings.format() not in (QSettings.Format.IniFormat, QSettings.Format.NativeFormat) or not path.exists():
        return settings, ""
    reason = next(_reasons(settings, path), "")
    if not reason:
        return settings, ""
    aside = path.with_name(f"{path.name}.{datetime.now():%Y%m%d-%H%M%S}.unreadable")
    try:
        os.replace(path, aside)
    except OSError as problem:
        return QSettings(), f"The preferences cannot be read ({reason}) nor put aside ({problem.strerror})."
    sentence = f"The preferences could not be read: {reason}. They were put aside as {aside}; the usual ones are used."
    return QSettings(str(path), QSettings.Format.IniFormat), sentence


def _reasons(settings: QSettings, path: Path) -> Iterator[str]:
    if path.is_dir():
        yield "a folder is where their file belongs"
        return
    try:
        text = path.read_bytes()
    except OSError as problem:
        yield problem.strerror or "the file cannot be read"
        return
    settings.allKeys()
    if settings.status() == QSettings.Status.FormatError:
        yield "the file is no list of names and values"
    if b"\0" in text:
        yield "the file holds no text"

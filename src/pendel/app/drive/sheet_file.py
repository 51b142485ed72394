"""A drive's sheet as a picture, drawn without a window: ``python -m pendel.app.drive.sheet_file DRIVE SHEET.svg``.

The process draws and ends: nothing is judged, run or kept."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication

from pendel.app.drive.sheet.view import SheetView
from pendel.app.session.session import Session
from pendel.app.widgets.theme import LIGHT, dress
from pendel.core.drive.file import load


def draw(drive: Path, picture: Path) -> None:
    """Raises `FileProblem` for a drive that cannot be read."""
    settings = QSettings(str(picture.with_suffix(".ini")), QSettings.Format.IniFormat)
    session = Session(settings=settings)
    view = SheetView(session)
    session.open(load(drive), None)
    view.sync()
    picture.write_bytes(view.drawing().svg(session.drive.title, view.backgroundBrush().color()))


if __name__ == "__main__":
    application = QApplication(["pendel"])
    dress(application, LIGHT)
    draw(Path(sys.argv[1]), Path(sys.argv[2]))
    sys.stdout.flush()
    os._exit(0)  # whatever the session would begin beside is not wanted

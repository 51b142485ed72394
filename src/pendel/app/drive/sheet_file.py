"""A drive's sheet as a picture, drawn without a window: ``python -m pendel.app.drive.sheet_file DRIVE SHEET.svg``.

The process draws and ends: nothing is judged, run or kept."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from PyQt6.QtCore import QRectF, QSettings
from PyQt6.QtGui import QPainter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QApplication

from pendel.app.drive.sheet.view import SheetView
from pendel.app.session.session import Session
from pendel.app.widgets.theme import LIGHT, dress
from pendel.core.drive.file import load

MARGIN = 16.0
"""Points around the drawing."""


def draw(drive: Path, picture: Path) -> None:
    """Raises `FileProblem` for a drive that cannot be read."""
    settings = QSettings(str(picture.with_suffix(".ini")), QSettings.Format.IniFormat)
    session = Session(settings=settings)
    view = SheetView(session)
    session.open(load(drive), None)
    view.sync()
    view.router.finish()
    shown = view.sheet.itemsBoundingRect().adjusted(-MARGIN, -MARGIN, MARGIN, MARGIN)
    whole = QRectF(0, 0, shown.width(), shown.height())
    generator = QSvgGenerator()
    generator.setFileName(str(picture))
    generator.setTitle(session.drive.title)
    generator.setSize(whole.size().toSize())
    generator.setViewBox(whole)
    painter = QPainter(generator)
    painter.fillRect(whole, view.backgroundBrush())
    view.sheet.render(painter, whole, shown)
    painter.end()


if __name__ == "__main__":
    application = QApplication(["pendel"])
    dress(application, LIGHT)
    draw(Path(sys.argv[1]), Path(sys.argv[2]))
    sys.stdout.flush()
    os._exit(0)  # whatever the session would begin beside is not wanted

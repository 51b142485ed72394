"""What leaves the window: traces of the strips and pictures of the page."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QGuiApplication
from PyQt6.QtWidgets import QMessageBox, QWidget

from pendel.app.session.jobs import MOMENT, SAVE_TRACES, TAKE_PICTURE, End, Job
from pendel.app.session.session import Session
from pendel.app.session.usual_strips import keys_of
from pendel.app.widgets.asked_path import asked_path
from pendel.app.widgets.drawing import Drawing, png
from pendel.app.widgets.theme import tokens
from pendel.core.errors import FileProblem
from pendel.core.files.writing import write_atomically

PICTURES = {".png": "PNG", ".svg": "SVG"}
SHARPNESS = 2.0
"""Pixels of an image for each on the screen, so that it is sharp in print."""


class Exports(QObject):
    """``runs_page`` gives the Runs page, ``draw_page`` what a picture of the page shows."""

    status_message = pyqtSignal(str)

    def __init__(
        self,
        session: Session,
        window: QWidget,
        runs_page: Callable[[], QWidget],
        draw_page: Callable[[], Drawing],
    ):
        super().__init__(window)
        self.session, self.window, self.runs_page, self.draw_page = session, window, runs_page, draw_page

    def save_traces(self, path: str = "") -> None:
        page = self.runs_page()
        runs = [r for r, _ in page.shown_runs()] or self.session.runs[-1:]
        if not runs:
            self.status_message.emit("There is no run to save yet. Press Ctrl+R.")
            return
        from pendel.core.formats.traces import formats, save_traces

        if not path:
            path = asked_path(self.window, "Save traces", "traces.csv", formats())
        if not path:
            return
        known = {key for run in runs for key in run.keys}
        keys = [key for key in dict.fromkeys(keys_of(page.strips.specs)) if key in known] or runs[0].keys

        def done(job: Job) -> None:
            if job.end is End.FAILED:
                QMessageBox.warning(self.window, "File", job.sentence)
            elif job.end is End.FINISHED:
                self.status_message.emit(
                    f"Saved {len(keys)} signals of {len(runs)} run{'s' if len(runs) > 1 else ''} to {path}."
                )

        self.status_message.emit(f"Saving {path} …")
        self.session.jobs.start(SAVE_TRACES, lambda job: save_traces(runs, keys, Path(path)), done, at_once=MOMENT)

    def copy_picture(self) -> None:
        """Copy a picture of the page."""
        self.take_picture(self.draw_page, to_file=False)

    def save_picture(self, path: str = "") -> None:
        """Save a picture of the page."""
        self.take_picture(self.draw_page, to_file=True, path=path)

    def take_picture(self, draw: Callable[[], Drawing], *, to_file: bool, path: str = "") -> None:
        """Copy or save a picture of something; without a path one is asked for."""
        if to_file:
            path = path or asked_path(self.window, "Save the picture", "picture.png", PICTURES)
            if not path:
                return
        drawing, title, ground = draw(), self.session.drive.title, QColor(tokens().paper)

        def done(job: Job) -> None:
            if job.end is not End.FINISHED:
                self.status_message.emit(job.sentence)
            elif to_file:
                self.status_message.emit(f"Saved {path}.")
            else:
                QGuiApplication.clipboard().setImage(job.result)
                self.status_message.emit("The picture is on the clipboard.")

        work = (
            (lambda job: write(drawing, Path(path), title, ground))
            if to_file
            else (lambda job: drawing.image(SHARPNESS, ground))
        )
        self.session.jobs.start(TAKE_PICTURE, work, done)


def write(drawing: Drawing, path: Path, title: str, ground: QColor) -> None:
    """As SVG or PNG, by the ending. Raises `FileProblem`."""
    if path.suffix.lower() not in PICTURES:
        raise FileProblem(str(path), f"a picture ends in {' or '.join(PICTURES)}.")
    as_svg = path.suffix.lower() == ".svg"
    write_atomically(path, drawing.svg(title, ground) if as_svg else png(drawing.image(SHARPNESS, ground)))

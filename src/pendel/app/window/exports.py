"""What leaves the window: traces of the strips and pictures of the page."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QGuiApplication
from PyQt6.QtWidgets import QFileDialog, QMessageBox, QWidget

from pendel.app.session.jobs import MOMENT, SAVE_TRACES, TAKE_PICTURE, End, Job
from pendel.app.session.session import Session
from pendel.app.widgets.drawing import Drawing, png
from pendel.app.widgets.theme import tokens
from pendel.core.errors import FileProblem

KINDS = {"PNG (*.png)": ".png", "SVG (*.svg)": ".svg"}
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
            kinds = ";;".join(f"{title} (*{ending})" for ending, title in formats().items())
            path = QFileDialog.getSaveFileName(self.window, "Save traces", "traces.csv", kinds)[0]
        if not path:
            return
        keys = list(dict.fromkeys(s for spec in page.strips.specs for s in spec.signals)) or runs[0].keys

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
            path = path or self._asked_path()
            if not path:
                return
            if Path(path).suffix.lower() not in (".png", ".svg"):
                path += ".png"
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

    def _asked_path(self) -> str:
        """Where to, with the ending of the kind that is chosen."""
        path, kind = QFileDialog.getSaveFileName(self.window, "Save the picture", "picture.png", ";;".join(KINDS))
        known = Path(path).suffix.lower() in KINDS.values()
        return path if not path or known else path + KINDS.get(kind, ".png")


def write(drawing: Drawing, path: Path, title: str, ground: QColor) -> None:
    """As SVG or PNG, by the ending. Raises `FileProblem`."""
    if path.suffix.lower() == ".svg":
        data = drawing.svg(title, ground)
    else:
        data = png(drawing.image(SHARPNESS, ground))
    try:
        path.write_bytes(data)
    except OSError as problem:
        raise FileProblem(
            str(path), f"the picture cannot be written: {problem.strerror or problem}. Choose another folder."
        ) from problem

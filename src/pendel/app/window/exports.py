"""What leaves the window: traces of the strips and pictures of the page."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QImage, QPainter
from PyQt6.QtWidgets import QFileDialog, QMessageBox, QWidget

from pendel.app.session.jobs import MOMENT, SAVE_TRACES, End, Job
from pendel.app.session.session import Session


class Exports(QObject):
    """``runs_page`` gives the Runs page, ``shown`` the widget a picture is to show."""

    status_message = pyqtSignal(str)

    def __init__(
        self,
        session: Session,
        window: QWidget,
        runs_page: Callable[[], QWidget],
        shown: Callable[[], QWidget],
    ):
        super().__init__(window)
        self.session, self.window, self.runs_page, self.shown = session, window, runs_page, shown

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
        QGuiApplication.clipboard().setImage(self.picture())
        self.status_message.emit("The picture is on the clipboard.")

    def picture(self) -> QImage:
        target = self.shown()
        return target.picture() if hasattr(target, "picture") else target.grab().toImage()

    def save_picture(self, path: str = "") -> None:
        path = (
            path
            or QFileDialog.getSaveFileName(self.window, "Save the picture", "picture.png", "PNG (*.png);;SVG (*.svg)")[
                0
            ]
        )
        if not path:
            return
        if path.endswith(".svg"):
            good = self._save_svg(path)
        else:
            path = path if path.endswith(".png") else path + ".png"
            good = self.picture().save(path)
        self.status_message.emit(f"Saved {path}." if good else f"{path} cannot be written. Choose another folder.")

    def _save_svg(self, path: str) -> bool:
        from PyQt6.QtSvg import QSvgGenerator

        target = self.shown()
        generator = QSvgGenerator()
        generator.setFileName(path)
        generator.setSize(target.size())
        generator.setViewBox(target.rect())
        painter = QPainter()
        if not painter.begin(generator):
            return False
        target.render(painter)
        painter.end()
        return True

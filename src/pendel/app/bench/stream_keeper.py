"""The stream of samples that is kept: added to while it lasts, saved beside the window, and never lost unasked."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QMessageBox, QWidget

from pendel.app.session.jobs import MOMENT, SAVE_TRACES, End, Job, Jobs
from pendel.app.widgets.asked_path import asked_path
from pendel.core.bench.description import Channel
from pendel.core.bench.recording import Recording
from pendel.core.bench.sampling import Samples
from pendel.core.quantities.units import figure


class StreamKeeper(QWidget):
    """Has no look of its own; its questions and dialogs belong to the widget it is made in."""

    status_message = pyqtSignal(str)
    changed = pyqtSignal()

    def __init__(self, jobs: Jobs, parent: QWidget):
        super().__init__(parent)
        self.hide()
        self._jobs = jobs
        self.recording: Recording | None = None
        """What was recorded and is not saved."""
        self.running = False
        """Whether samples that come are added to it."""

    @property
    def unsaved(self) -> bool:
        return self.recording is not None and len(self.recording) > 0

    def begin(self, channels: Sequence[Channel], tick: float) -> bool:
        """Keep what comes from now on; False where an older recording is to stay."""
        if not self.may_be_lost("Before another is begun: save"):
            return False
        self.recording, self.running = Recording(channels, tick), True
        return True

    def end(self) -> None:
        """What was recorded stays until it is saved, or another is begun."""
        self.running = False

    def add(self, samples: Samples) -> None:
        if self.running and self.recording is not None:
            self.recording.add(samples)

    @property
    def words(self) -> str:
        """How far it has come; empty where nothing is added."""
        if not self.running or self.recording is None:
            return ""
        full = ", as much as fits" if self.recording.full else ""
        return f" · recorded {figure(self.recording.seconds, 's', 3)}{full}"

    def may_be_lost(self, question: str, saved: Callable[[], None] = lambda: None) -> bool:
        """Ask what is to become of a recording that is not saved; true when it is all right to go on at once.
        ``saved`` is called where it was to be saved first, and was."""
        if not self.unsaved:
            return True
        assert self.recording is not None
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self,
            "Recording",
            f"{question} the recorded stream of {figure(self.recording.seconds, 's', 3)}?",
            buttons.Save | buttons.Discard | buttons.Cancel,
            buttons.Save,
        )
        if answer == buttons.Discard:
            self.end()
            self.recording = None
            self.changed.emit()
            return True
        if answer == buttons.Save:
            self.end()
            self.save(self.recording, then=saved)
        return False

    def save(self, recording: Recording, path: str = "", then: Callable[[], None] = lambda: None) -> None:
        """Save what there is of a recording; ``then`` is called once that is done."""
        from pendel.core.formats.traces import formats

        if not path:
            path = asked_path(self, "Save the recording", "recording.mf4", formats())
        if not path:
            return
        so_far = recording.so_far()

        def done(job: Job) -> None:
            if job.end is not End.FINISHED:
                self.status_message.emit(job.sentence)
                return
            if recording is self.recording and not self.running and len(recording) == len(so_far):
                self.recording = None
            self.status_message.emit(f"Saved {len(so_far)} samples of {len(so_far.channels)} channels to {path}.")
            self.changed.emit()
            then()

        self.status_message.emit(f"Saving {path} …")
        self._jobs.start(SAVE_TRACES, lambda job: so_far.save(Path(path)), done, at_once=MOMENT)

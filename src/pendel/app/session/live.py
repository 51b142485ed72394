"""The live run of a window: its process, what its watched signals did lately, and what is done with it."""

from __future__ import annotations

import contextlib
import secrets
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.app.session.card_text import main_signals
from pendel.app.session.jobs import KEEP_LIVE, End, Job
from pendel.app.session.live_view import LiveView
from pendel.app.widgets.timers import single_shot
from pendel.core.drive.file import to_text
from pendel.core.errors import FileProblem
from pendel.core.live.client import LiveRun, bring
from pendel.core.live.frames import LiveFrame
from pendel.core.runs.kept import KeptRun, SignalInfo
from pendel.core.trust import brings_c

if TYPE_CHECKING:
    from pendel.app.session.session import Session

SPAN = 2.0
"""Seconds of the latest part that is shown, of the simulated time, unless the drive's run is shorter."""
CHANGE_AFTER_MS = 20
CARDS_EVERY_MS = 250


class Live(QObject):
    """One live run at a time."""

    changed = pyqtSignal()
    """It began or ended, or its state changed."""
    moved = pyqtSignal()
    """A frame came."""
    status_message = pyqtSignal(str)

    def __init__(self, session: Session, parent: QObject):
        super().__init__(parent)
        self.session = session
        self.run: LiveRun | None = None
        self.view: LiveView | None = None
        self.status: dict[str, Any] = {}
        self.may_run: Callable[[], bool] = lambda: True
        """Asks before C of the drive's author runs."""
        self.extra_keys: Callable[[], list[str]] = list
        """What the strips show."""
        self._traces: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        self._infos: dict[str, SignalInfo] = {}
        self._sampled: frozenset[str] = frozenset()
        self._keys: list[str] = []
        self._drive: object = None
        self._told = ""
        self.span = SPAN
        self._threads = LiveThreads(self)
        self._threads.framed.connect(self._take_frame)
        self._threads.kept.connect(self._take_kept)
        self._threads.ended.connect(self._take_end)
        self._late_change = single_shot(self, CHANGE_AFTER_MS, self._send_change)
        self._cards = QTimer(self)
        self._cards.setInterval(CARDS_EVERY_MS)
        self._cards.timeout.connect(session.live_moved)
        self._begun = 0.0
        """When the latest frame came, s of the monotonic clock."""
        self._drawn = single_shot(self, 0, self._rest)
        self._next = single_shot(self, 0, self._wish_next)
        session.changed.connect(lambda _: self._late_change.start() if self.run else None)
        session.opened.connect(self.stop)
        session.at_close.append(self._close)

    @property
    def running(self) -> bool:
        return self.run is not None

    @property
    def paused(self) -> bool:
        return self.status.get("state") in ("paused", "ended")

    def start(self) -> None:
        from pendel.core.runs.simulate import signal_infos  # slow to load, and not needed to start the window

        if self.run is not None or not self.may_run():
            return
        session = self.session
        self._drive, self._told = session.drive, ""
        self._infos = signal_infos(session.drive)
        self._sampled = frozenset(k for k in self._infos if is_block(session, k))
        self._traces, self.status = {}, {"state": "preparing", "time": 0.0}
        self.span = min(SPAN, max(1e-3, session.examined.settings.get("until", SPAN)))
        threads = self._threads
        self.run = LiveRun(
            to_text(session.drive),
            own_c=brings_c(session.drive),
            on_frame=threads.framed.emit,
            on_kept=lambda path, problem: threads.kept.emit(str(path), problem),
            on_end=threads.ended.emit,
        )
        self._keys = []
        self.watch()
        self._show()
        self._cards.start()
        self.changed.emit()

    def stop(self) -> None:
        run, self.run = self.run, None
        if run is None:
            return
        self._end_timers()
        run.close()
        self.view = self.session.live = None
        self.changed.emit()
        self.session.live_moved.emit()

    def _close(self) -> None:
        self._end_timers()
        self._late_change.stop()
        if self.run is not None:
            self.run.close()
            self.run = None

    def _end_timers(self) -> None:
        for timer in (self._cards, self._drawn, self._next):
            timer.stop()

    def watch(self) -> None:
        """Have in its frames what is shown now."""
        keys = [k for k in dict.fromkeys([*self.extra_keys(), *main_signals(self.session.drive)]) if k in self._infos]
        if self.run is not None and keys != self._keys:
            self._keys = keys
            self.run.watch(keys, self.span)
            self._traces = {k: v for k, v in self._traces.items() if k in keys}

    # What it is told.

    def set_pace(self, factor: float) -> None:
        if self.run is not None:
            self.run.set_pace(factor)

    def pause_or_go(self) -> None:
        if self.run is not None:
            self.run.go_on() if self.paused else self.run.pause()

    def step(self, ticks: int) -> None:
        if self.run is not None:
            self.run.go_on(ticks)

    def keep(self, seconds: float) -> None:
        """Keep the latest seconds as a run."""
        if self.run is not None:
            self.run.keep(seconds, f"Run {self.session.shelf.next_number()}")

    def _send_change(self) -> None:
        if self.run is None or self.session.drive is not self._drive:
            return
        if self.session.examined.faults:
            return  # the fields say what is wrong; the run goes on with what it has
        self.run.change(to_text(self.session.drive))

    # What it says.

    def _take_frame(self, frame: LiveFrame) -> None:
        if self.run is None:
            return
        self._begun = time.monotonic()
        before, self.status = self.status, frame.status
        end = float(self.status.get("time", 0.0))
        for key, (t, y) in frame.traces.items():
            if key in self._keys:
                known = self._traces.get(key, (np.zeros(0), np.zeros(0)))
                t, y = np.concatenate([known[0], t]), np.concatenate([known[1], y])
                first = max(0, int(np.searchsorted(t, end - self.span)) - 1)
                self._traces[key] = (t[first:], y[first:])
        self._show()
        self.moved.emit()
        self._drawn.start()
        if self.status.get("state") != before.get("state"):
            self.changed.emit()
        sentence = str(self.status.get("sentence", ""))
        if sentence and sentence != self._told:
            self.status_message.emit(sentence)
        self._told = sentence

    def _rest(self) -> None:
        """Leave as long to all else as the frame took until it was drawn, before the next."""
        self._next.start(round(1e3 * (time.monotonic() - self._begun)))

    def _wish_next(self) -> None:
        if self.run is not None:
            self.run.taken()

    def _show(self) -> None:
        end = max(float(self.status.get("time", 0.0)), 1e-9)
        begin = max(0.0, end - self.span)
        self.view = LiveView(
            self._infos,
            self._sampled,
            dict(self._traces),
            self.session.shelf.units,
            begin,
            max(end, self.span),
        )
        self.session.live = self.view

    def _take_kept(self, path: str, problem: str) -> None:
        if problem:
            self.status_message.emit(problem)
            return
        shelf, number = self.session.shelf, self.session.shelf.next_number()
        target = shelf.folder / f"run{number}_{secrets.token_hex(3)}.h5"
        own_c, drive = brings_c(self.session.drive), self.session.drive

        def work(job: Job) -> KeptRun:
            from pendel.core.runs import kept
            from pendel.core.runs.simulate import reopen

            bring(Path(path), target)
            return reopen(target, shelf.evaluator.content) if own_c else kept.load(target)

        def done(job: Job) -> None:
            if job.end is End.FAILED:
                self.status_message.emit(job.sentence)
            elif job.end is End.FINISHED and self.session.drive is drive:
                run: KeptRun = job.result
                run.differs = f"live, {run.begin:.4g} to {run.end:.4g} s"
                with contextlib.suppress(FileProblem):  # its label is lost with its file
                    kept_label(run)
                self.session.add_run(run)
                self.status_message.emit(f"Kept {run.name}: {run.differs}.")

        self.session.jobs.start(KEEP_LIVE, work, done)

    def _take_end(self, sentence: str) -> None:
        if self.run is not None:
            self.stop()
            self.status_message.emit(sentence)


def kept_label(run: KeptRun) -> None:
    from pendel.core.runs import kept

    kept.relabel(run, run.differs)


def is_block(session: Session, key: str) -> bool:
    from pendel.core.catalogue.declare import Block
    from pendel.core.catalogue.index import kind_of

    card = session.drive.cards.get(key.partition(".")[0])
    return card is not None and isinstance(kind_of(card), Block)


class LiveThreads(QObject):
    """What its thread reports, taken in the window's."""

    framed = pyqtSignal(object)
    kept = pyqtSignal(str, str)
    ended = pyqtSignal(str)

"""The live run of a window: its process, what its watched signals did lately, and what is done with it."""

from __future__ import annotations

import contextlib
import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.app.session.card_text import main_signals
from pendel.app.session.jobs import KEEP_LIVE, End, Job
from pendel.app.session.live_view import LiveView
from pendel.app.widgets.timers import Later
from pendel.core.drive.document import Drive
from pendel.core.drive.file import to_text
from pendel.core.errors import FileProblem
from pendel.core.live.client import LiveRun, bring
from pendel.core.live.frames import LiveFrame
from pendel.core.runs.record.kept import KeptRun, SignalInfo
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
        self._token: object = None
        """Stands for the run in what its thread reports, which may be heard when it was stopped."""
        self._keeping: dict[object, list[Keeping]] = {}
        self._ending: dict[object, LiveRun] = {}
        """Runs that were stopped, of which something is still to be kept."""
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
        self.threads = LiveThreads(self)
        self.threads.framed.connect(self._take_frame)
        self.threads.kept.connect(self.take_kept)
        self.threads.ended.connect(self._take_end)
        self._late_change = Later(self, CHANGE_AFTER_MS, self._send_change)
        self._cards = QTimer(self)
        self._cards.setInterval(CARDS_EVERY_MS)
        self._cards.timeout.connect(session.live_moved)
        self._begun = 0.0
        """When the latest frame came, s of the monotonic clock."""
        self._drawn = Later(self, 0, self._rest, at_last=True)
        self._next = Later(self, 0, self._wish_next)
        session.changed.connect(lambda _: self._late_change.start() if self.run else None)
        session.opened.connect(self.stop)
        session.at_close.append(self._close)

    @property
    def running(self) -> bool:
        return self.run is not None

    @property
    def is_ending(self) -> bool:
        """Whether something is still to be kept of a run that was stopped."""
        return bool(self._ending)

    @property
    def paused(self) -> bool:
        return self.status.get("state") in ("paused", "ended")

    def start(self) -> None:
        from pendel.core.runs.preparing.simulate import signal_infos  # slow to load, and not needed to start the window

        if self.run is not None or not self.may_run():
            return
        session = self.session
        self._drive, self._told = session.drive, ""
        self._infos = signal_infos(session.drive)
        self._sampled = frozenset(k for k in self._infos if is_block(session, k))
        self._traces, self.status = {}, {"state": "preparing", "time": 0.0}
        self.span = min(SPAN, max(1e-3, session.examined.settings.get("until", SPAN)))
        threads, token = self.threads, object()
        self._token = token
        self.run = LiveRun(
            to_text(session.drive),
            own_c=brings_c(session.drive),
            on_frame=lambda frame: threads.framed.emit(token, frame),
            on_kept=lambda path, problem: threads.kept.emit(token, str(path), problem),
            on_end=lambda sentence: threads.ended.emit(token, sentence),
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
        if self._keeping.get(self._token):  # what is to be kept of it comes first
            run.pause()
            self._ending[self._token] = run
        else:
            run.close()
        self._token = None
        self.view = self.session.live = None
        self.changed.emit()
        self.session.live_moved.emit()

    def _close(self) -> None:
        self._end_timers()
        self._late_change.stop()
        for run in (*self._ending.values(), self.run):
            if run is not None:
                run.close()
        self.run = None
        self._ending.clear()

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
            shelf, drive, before = self.session.shelf, self.session.drive, self._keeping.setdefault(self._token, [])
            number = max([shelf.next_number(), *(k.number + 1 for k in before)])
            target = shelf.folder / f"run{number}_{secrets.token_hex(3)}.h5"
            before.append(Keeping(number, target, drive, brings_c(drive)))
            self.run.keep(seconds, f"Run {number}")

    def _send_change(self) -> None:
        if self.run is None or self.session.drive is not self._drive:
            return
        if self.session.examined.faults:
            return  # the fields say what is wrong; the run goes on with what it has
        self.run.change(to_text(self.session.drive))

    # What it says.

    def _take_frame(self, token: object, frame: LiveFrame) -> None:
        if token is not self._token:  # of a run that was stopped meanwhile
            return
        self._begun = time.monotonic()
        before, self.status = self.status, frame.status
        end = float(self.status.get("time", 0.0))
        for key, (t, y) in frame.traces.items():
            if key in self._keys:
                known = self._traces.get(key, (np.zeros(0), np.zeros(0)))
                t, y = np.concatenate([known[0], t]), np.concatenate([known[1], y])
                # What is sampled holds from the tick before; a line from there would lead over what was left out.
                first = max(0, int(np.searchsorted(t, end - self.span)) - (key in self._sampled))
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

    def take_kept(self, token: object, path: str, problem: str) -> None:
        """Parts come in the order in which they were asked for."""
        keeping = next((k for k in self._keeping.get(token, ()) if not k.arrived), None)
        if keeping is None:
            return
        keeping.arrived = True
        if problem:
            self._end_when_kept(token, keeping)
            self.status_message.emit(problem)
            return
        evaluator = self.session.shelf.evaluator

        def work(job: Job) -> KeptRun:
            from pendel.core.runs.preparing.simulate import reopen
            from pendel.core.runs.record import kept

            bring(Path(path), keeping.target)
            run = reopen(keeping.target, evaluator.content) if keeping.own_c else kept.load(keeping.target)
            run.differs = f"live, {run.begin:.4g} to {run.end:.4g} s"
            with contextlib.suppress(FileProblem):  # its label is lost with its file
                kept.relabel(run, run.differs)
            return run

        def done(job: Job) -> None:
            self._end_when_kept(token, keeping)
            if job.end is End.FAILED:
                self.status_message.emit(job.sentence)
            elif job.end is End.FINISHED and self.session.drive is keeping.drive:
                run: KeptRun = job.result
                self.session.add_run(run)
                self.status_message.emit(f"Kept {run.name}: {run.differs}.")

        self.session.jobs.start(KEEP_LIVE, work, done)

    def _end_when_kept(self, token: object, keeping: Keeping) -> None:
        """A part is in its place, or cannot be had; a run that was stopped ends with the last one."""
        if keeping in self._keeping.get(token, ()):
            self._keeping[token].remove(keeping)
        if not self._keeping.get(token) and (run := self._ending.pop(token, None)) is not None:
            run.close()

    def _take_end(self, token: object, sentence: str) -> None:
        self._keeping.pop(token, None)
        if token is self._token:
            self.stop()
            self.status_message.emit(sentence)
        elif (run := self._ending.pop(token, None)) is not None:
            run.close()
            self.status_message.emit(sentence)


@dataclass(eq=False)
class Keeping:
    """A part of a live run that is to be kept: where, and of which drive, which may be another by the time it
    comes."""

    number: int
    target: Path
    drive: Drive
    own_c: bool
    arrived: bool = False
    """Whether its process has written it, so that it is on its way to its place."""


def is_block(session: Session, key: str) -> bool:
    from pendel.core.catalogue.declare import Block
    from pendel.core.catalogue.index import known_kind

    card = session.drive.cards.get(key.partition(".")[0])
    return card is not None and isinstance(known_kind(card), Block)


class LiveThreads(QObject):
    """What its thread reports, taken in the window's."""

    framed = pyqtSignal(object, object)
    kept = pyqtSignal(object, str, str)
    ended = pyqtSignal(object, str)

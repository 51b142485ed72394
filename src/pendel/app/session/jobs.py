"""Work beside the window. What takes longer than a moment is a job: it begins, can be stopped, and ends exactly
once: finished, stopped or failed."""

from __future__ import annotations

import logging
import time
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotDone
from dataclasses import dataclass
from enum import Enum, auto
from typing import Any

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from pendel.core.errors import PendelError, Stopped

LOG = logging.getLogger("pendel")
REPORT_EVERY = 0.03
"""Seconds between two reports of progress that the window hears of."""
MOMENT = 0.05
"""Seconds that the window may wait for a job that is likely to be a short one."""


class End(Enum):
    FINISHED = auto()
    STOPPED = auto()
    FAILED = auto()


@dataclass(frozen=True)
class JobKind:
    """What is done.

    Parameters
    ----------
    lane
        jobs of one lane wait for each other.
    newest_wins
        whether a newer job stops those of its kind before it.
    failure
        how the sentence of a failure begins that nobody foresaw.
    """

    name: str
    lane: str
    failure: str
    newest_wins: bool = False


RUN = JobKind("run", "run", "The run cannot be shown")
JUDGE = JobKind("judge", "process beside", "The loops cannot be judged", newest_wins=True)
PROPOSE = JobKind("propose", "process beside", "No gains proposed")
CHECK_SHIPPED = JobKind("check shipped code", "process beside", "The shipped code cannot be checked")
WRITE_C = JobKind("write C", "firmware", "The C cannot be written", newest_wins=True)
FIND_RANGES = JobKind("find ranges", "process beside", "No ranges found")
PROPOSE_FORMATS = JobKind("propose formats", "process beside", "No formats proposed")
ON_PROCESSOR = JobKind("run on a processor", "process beside", "It did not run on a processor")
WORK_OUT = JobKind("work out", "firmware", "What follows from a table is not known")
READ_RUNS = JobKind("read kept runs", "disk", "The kept runs cannot be read", newest_wins=True)
BRING_RUNS = JobKind("bring kept runs along", "disk", "The kept runs do not belong to the new file")
DESCRIBE = JobKind("describe the board", "firmware", "The board cannot be described", newest_wins=True)
BENCH = JobKind("bench", "bench", "The board cannot do this")
LOOK_AT_BOARD = JobKind("look at the board", "bench", "The board cannot be looked at")
TRANSFER = JobKind("look between two points", "process beside", "There is no model", newest_wins=True)
MODES = JobKind("look for modes", "process beside", "No modes found", newest_wins=True)
CALM = JobKind("calm a mode", "process beside", "Nothing was put in", newest_wins=True)
TOLERATE = JobKind("judge a spread", "process beside", "The spread cannot be judged", newest_wins=True)
FLOWS = JobKind("find energy flows", "process beside", "The flows cannot be shown", newest_wins=True)
BEST_SPLIT = JobKind("look for the best split", "process beside", "The best split is not known", newest_wins=True)
HEAT = JobKind("tell heat over a duty", "process beside", "The duty cannot be worked out", newest_wins=True)
HELD = JobKind("find what can be held", "process beside", "What can be held is not known", newest_wins=True)
ENVELOPE = JobKind("make an envelope", "process beside", "The envelope cannot be made", newest_wins=True)
TUNE = JobKind("tune within limits", "tune", "No gains found", newest_wins=True)
LAY_UNDER = JobKind("lay a way under", "process beside", "There is no model")
SWEEP = JobKind("sweep a run", "process beside", "The run cannot be swept", newest_wins=True)
LOOK_AT_UNIT = JobKind("look at a unit", "unit", "The drive cannot be exported", newest_wins=True)
EXPORT_UNIT = JobKind("export a unit", "unit", "The drive cannot be exported")
KEEP_LIVE = JobKind("keep a live run", "signals", "The live run cannot be kept")
AUTOSAVE = JobKind("autosave", "autosave", "The autosave cannot be written")
SAVE_TRACES = JobKind("save traces", "traces", "The traces cannot be saved")
SPECTRUM = JobKind("find lines", "spectrum", "There is no spectrum", newest_wins=True)
ROTOR = JobKind("find vectors", "rotor", "There are no vectors", newest_wins=True)
TAKE_PICTURE = JobKind("take a picture", "traces", "The picture cannot be taken")
EVALUATE = JobKind("evaluate signals", "signals", "Signals of a run cannot be shown")
SERIES = JobKind("run a series", "series", "The series cannot run")
BRING_SERIES = JobKind("bring series along", "series rows", "The series do not belong to the new file")
READ_SERIES = JobKind("read a series", "series rows", "The rows cannot be read", newest_wins=True)
JUDGE_GOAL = JobKind("judge a goal", "process beside", "The loops cannot be judged", newest_wins=True)
LIST_DRIVES = JobKind("list drives", "disk", "The drives cannot be listed", newest_wins=True)
COMPLETE = JobKind("complete a line", "words", "There are no words", newest_wins=True)
TYPESET = JobKind("set equations", "typeset", "The equations cannot be shown", newest_wins=True)
KINDS = tuple(kind for kind in list(globals().values()) if isinstance(kind, JobKind))


class Job:
    """One piece of work. ``work`` gets the job, and reads there whether it is to stop."""

    def __init__(self, kind: JobKind, work: Callable[[Job], Any], then: Callable[[Job], None]):
        self.kind, self.work, self.then = kind, work, then
        self.stopping = False
        """Whether it was asked to stop."""
        self.end: End | None = None
        self.result: Any = None
        self.sentence = ""
        """Why it failed."""
        self._reports: Callable[[Job, float], None] = lambda job, value: None
        self._reported = 0.0

    def stop(self) -> None:
        """Ask it to stop; it ends when it has."""
        self.stopping = True

    def report(self, value: float) -> None:
        """Report progress, from the thread in which it runs."""
        now = time.monotonic()
        if now - self._reported > REPORT_EVERY:
            self._reported = now
            self._reports(self, value)

    def run(self) -> tuple[End, Any, str]:
        """Do the work, in its lane's thread."""
        if self.stopping:
            return End.STOPPED, None, ""
        try:
            return End.FINISHED, self.work(self), ""
        except Stopped:
            return End.STOPPED, None, ""
        except PendelError as problem:
            return End.FAILED, None, str(problem)
        except Exception as problem:  # the job's boundary: it must end, and say so
            LOG.exception("%s failed", self.kind.name)
            return End.FAILED, None, f"{self.kind.failure}: {problem}."


class Jobs(QObject):
    """All jobs of a window. What comes after a job is done in the window's thread."""

    progressed = pyqtSignal(object, float)
    _done = pyqtSignal(object)

    def __init__(self, parent: QObject):
        super().__init__(parent)
        self._lanes: dict[str, ThreadPoolExecutor] = {}
        self._open: dict[JobKind, list[Job]] = defaultdict(list)
        self._ends: dict[Job, Future[tuple[End, Any, str]]] = {}
        self._closed = False
        self._done.connect(self._take, Qt.ConnectionType.QueuedConnection)

    def start(
        self,
        kind: JobKind,
        work: Callable[[Job], Any],
        then: Callable[[Job], None],
        *,
        at_once: float = 0.0,
    ) -> Job:
        """Begin a job. ``then`` is called with it once it has ended, before this returns if that takes no
        longer than ``at_once`` seconds."""
        job = Job(kind, work, then)
        if self._closed:
            job.end = End.STOPPED
            return job
        if kind.newest_wins:
            for older in list(self._open[kind]):
                older.stop()
                self._end(older, End.STOPPED)
        job._reports = self._report
        lane = self._lanes.setdefault(kind.lane, ThreadPoolExecutor(1, kind.lane))
        self._open[kind].append(job)
        future = self._ends[job] = lane.submit(job.run)
        try:
            if at_once:
                future.result(at_once)
        except NotDone:
            at_once = 0.0
        if at_once:
            self._take(job)
        else:
            future.add_done_callback(lambda _: self._send(job))
        return job

    def busy(self, *kinds: JobKind) -> bool:
        """Whether jobs of these kinds, or of any, have not ended."""
        return any(self._open[kind] for kind in kinds or list(self._open))

    def stop(self, kind: JobKind) -> None:
        """Ask all jobs of a kind to stop."""
        for job in self._open[kind]:
            job.stop()

    def close(self) -> None:
        """End for good: what runs is asked to stop, and nothing that follows is done."""
        self._closed = True
        for job in [j for jobs in self._open.values() for j in jobs]:
            job.stop()
            job.end = End.STOPPED
        self._open.clear()
        for lane in self._lanes.values():
            lane.shutdown(wait=False, cancel_futures=True)

    def _report(self, job: Job, value: float) -> None:
        if not self._closed:
            self.progressed.emit(job, value)

    def _send(self, job: Job) -> None:
        """In the thread of the lane, which may outlive the window."""
        if not self._closed:
            self._done.emit(job)

    def _take(self, job: Job) -> None:
        """In the window's thread. A job that was superseded has had its end."""
        future = self._ends.pop(job, None)
        if job.end is None and not self._closed and future is not None:
            end, job.result, job.sentence = future.result()
            self._end(job, end)

    def _end(self, job: Job, end: End) -> None:
        job.end = end
        self._open[job.kind].remove(job)
        job.then(job)

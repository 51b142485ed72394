"""A live run for scripts: advanced, changed and kept while it lasts. See docs/python.md."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from pendel.core.drive.file import to_text
from pendel.core.drive.user_text import read_figure
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.live.client import LiveRun
from pendel.core.live.frames import LiveFrame
from pendel.core.runs.record.kept import load
from pendel.interface.run_view import Run

if TYPE_CHECKING:
    from pendel.interface.api import Drive

PREPARING, ANSWERING = 120.0, 60.0
"""Seconds that the process has to order and build the drive, and to answer later."""
STANDS = ("paused", "ended")


class Live:
    """A live run: made by `pendel.Drive.live`, stands at its start, ends with its ``with`` block. It belongs to one
    thread.

    Example
    -------
    >>> import pendel
    >>> with pendel.open_example("car_door_drive").live() as live:
    ...     live.advance("100 ms")
    ...     live.set("K_p", "60 A*s/m")
    ...     live.advance("50 ms")
    ...     run = live.keep("150 ms")
    >>> print(f"{run['door_leaf.speed'].t[-1]:.3f} s")
    0.150 s
    """

    def __init__(self, drive: Drive, tick: float, *, own_c: bool):
        self.drive, self._tick = drive, tick
        """A copy of its own, with the values as they are now."""
        self._heard = threading.Condition()
        self._status: dict[str, Any] = {"state": "preparing"}
        self._kept: tuple[Path, str] | None = None
        self._read: tuple[dict[str, float], str] | None = None
        self._ended, self._given = "", 1
        self._run: LiveRun | None = None
        run = LiveRun(
            to_text(drive.document),
            own_c=own_c,
            paused=True,
            on_frame=self._take,
            on_kept=self._take_kept,
            on_read=self._take_read,
            on_end=self._take_end,
        )
        self._run = run
        run.taken()
        try:
            self._until(lambda: self._status["state"] != "preparing", PREPARING)
            if self._status["state"] == "ended":
                raise RunProblem(str(self._status["sentence"]))
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Live:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    # In the thread of the wire.

    def _take(self, frame: LiveFrame) -> None:
        with self._heard:
            self._status = frame.status
            self._heard.notify_all()
        if self._run is not None:
            self._run.taken()

    def _take_kept(self, path: Path, problem: str) -> None:
        with self._heard:
            self._kept = path, problem
            self._heard.notify_all()

    def _take_read(self, values: dict[str, float], problem: str) -> None:
        with self._heard:
            self._read = values, problem
            self._heard.notify_all()

    def _take_end(self, sentence: str) -> None:
        with self._heard:
            self._ended = sentence
            self._heard.notify_all()

    # What a script does with it.

    @property
    def _process(self) -> LiveRun:
        if self._run is None:
            raise RunProblem("The live run is closed. Begin another with Drive.live().")
        return self._run

    def _until(self, holds: Callable[[], bool], longest: float | None = ANSWERING) -> None:
        with self._heard:
            came = self._heard.wait_for(lambda: bool(self._ended) or holds(), longest)
        if self._ended:
            raise RunProblem(self._ended)
        if not came:
            raise RunProblem(f"The live run did not answer within {longest:g} s. Close it and begin another.")

    def _seconds(self, span: float | str) -> float:
        return read_figure(self.drive.document, span, "s", 0.0) if isinstance(span, str) else float(span)

    @property
    def time(self) -> float:
        """s of the run, as last told."""
        return float(self._status.get("time", 0.0))

    @property
    def state(self) -> str:
        """paused, runs or ended."""
        return str(self._status["state"])

    def advance(self, span: float | str) -> None:
        """Go on by so many seconds (or a text such as ``"50 ms"``), in whole ticks, as fast as it can, and stop
        there. A drive without a controller stops at the end of the step that gets there; `time` is where that is.

        Raises
        ------
        DriveProblem
            for less than a tick.
        RunProblem
            where the run ends before that.
        """
        seconds = self._seconds(span)
        ticks = round(seconds / self._tick) if 0 < seconds < float("inf") else 0
        if ticks < 1:
            raise DriveProblem(
                f"A live run cannot advance by {seconds:g} s. Choose a tick of {self._tick:g} s or more."
            )
        process = self._process
        goal = (int(self.time / self._tick + 1e-6) + ticks) * self._tick
        process.set_pace(float("inf"))
        process.go_on(ticks)
        near = goal - 1e-6 * self._tick - 1e-12 * goal
        self._until(lambda: self.state == "ended" or (self.state == "paused" and self.time >= near), None)
        if self.state == "ended":
            raise RunProblem(str(self._status["sentence"]))

    def go(self, pace: float = 1.0) -> None:
        """Go on by itself, at so many simulated seconds per second by the clock, until `pause`."""
        if not pace > 0:
            raise DriveProblem(f"A pace of {pace:g} cannot be. Choose one above 0; 1 is that of the clock.")
        self._process.set_pace(pace)
        self._process.go_on()
        self._until(lambda: self.state != "paused")

    def pause(self) -> None:
        """Stand."""
        self._process.pause()
        self._until(lambda: self.state in STANDS)

    def set(self, name: str, value: str | float) -> None:
        """Set a quantity or a card's value, as `pendel.Drive.set`, from now on; profiles too.

        Raises
        ------
        DriveProblem
            also for what cannot be changed while it runs; then nothing is.
        """
        process = self._process
        self.drive.set(name, value)
        self._given += 1
        process.change(to_text(self.drive.document))
        self._until(lambda: int(self._status.get("followed", 0)) >= self._given)
        if sentence := str(self._status["sentence"]):
            self.drive.undo()
            raise DriveProblem(sentence)

    def keep(self, span: float | str) -> Run:
        """The latest seconds as a run; shorter where a value of a part was changed since.

        Raises
        ------
        DriveProblem
            for a span that is none.
        RunProblem
            where nothing was recorded in it.
        """
        process, seconds = self._process, self._seconds(span)
        if not seconds > 0:
            raise DriveProblem(f"The latest {seconds:g} s cannot be kept. Choose more than 0.")
        with self._heard:
            self._kept = None
        process.keep(seconds, self.drive.document.title)
        self._until(lambda: self._kept is not None)
        assert self._kept is not None
        path, problem = self._kept
        if problem:
            raise RunProblem(problem)
        kept = load(path)
        path.unlink(missing_ok=True)
        if not len(kept.rows):
            raise RunProblem(f"Nothing was recorded in the latest {seconds:g} s. Advance, or keep more.")
        return Run(kept)

    def value(self, signal: str) -> float:
        """What a signal is at this instant (SI); one of a block as of the latest tick. Raises `RunProblem` for one that
        there is not."""
        process = self._process
        with self._heard:
            self._read = None
        process.read([signal])
        self._until(lambda: self._read is not None)
        assert self._read is not None
        values, problem = self._read
        if problem:
            raise RunProblem(problem)
        return values[signal]

    def close(self) -> None:
        """End it; no process stays. It may be closed twice."""
        run, self._run = self._run, None
        if run is not None:
            run.close()


__all__ = ["Live"]

"""What an oscilloscope shows of samples that go on: the latest, or those around an event."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from pendel.core.bench.sampling import Samples


class Mode(Enum):
    FREE = "free-running"
    NORMAL = "normal"
    SINGLE = "single"


class Condition(Enum):
    """``number`` is the board's; see ``pd_condition_t`` in ``pd_board.h``."""

    AT_ONCE = "at once"
    RISES = "rises above"
    FALLS = "falls below"
    LEAVES = "leaves"
    ENTERS = "enters"
    CHANGES = "changes"

    @property
    def number(self) -> int:
        return list(Condition).index(self)

    @property
    def levels(self) -> int:
        """How many levels it has."""
        return {"rises above": 1, "falls below": 1, "leaves": 2, "enters": 2}.get(self.value, 0)

    def at(self, y: np.ndarray, low: float, high: float) -> np.ndarray:
        """Where it happens, by samples; never at the first."""
        before, now = y[:-1], y[1:]
        if self is Condition.RISES:
            met = (before <= high) & (now > high)
        elif self is Condition.FALLS:
            met = (before >= low) & (now < low)
        elif self is Condition.CHANGES:
            met = before != now
        elif self is Condition.AT_ONCE:
            met = np.ones(len(now), dtype=bool)
        else:
            was, is_in = (before >= low) & (before <= high), (now >= low) & (now <= high)
            met = (was & ~is_in) if self is Condition.LEAVES else (~was & is_in)
        return np.concatenate([np.zeros(min(1, len(y)), dtype=bool), met])


@dataclass(frozen=True)
class Trigger:
    """``source`` is a channel's number; levels in SI; ``before`` the part of the window that lies before the event;
    ``hold_off`` s from one event to the next."""

    mode: Mode = Mode.FREE
    condition: Condition = Condition.RISES
    source: int = 0
    low: float = 0.0
    high: float = 0.0
    before: float = 0.25
    hold_off: float = 0.0


@dataclass(frozen=True)
class Frame:
    """A window of samples; ``times`` in s, from the event where there was one, else until now. ``at`` is the tick of
    time 0."""

    times: np.ndarray
    values: np.ndarray
    at: int
    triggered: bool


class Scope:
    """Frames out of samples. ``samples`` is how many a frame has."""

    def __init__(self, trigger: Trigger, samples: int, tick: float):
        self.trigger, self.samples, self.tick = trigger, max(2, samples), tick
        self.done = False
        """Whether a single frame was taken."""
        self._ticks = np.zeros(0, dtype=np.int64)
        self._values: np.ndarray | None = None
        self._looked = 0
        """Samples in which no event is looked for any more."""
        self._next = 0
        """The tick from which on an event counts."""

    @property
    def before(self) -> int:
        """Samples before an event."""
        return min(self.samples - 1, max(0, round(self.trigger.before * self.samples)))

    def add(self, new: Samples) -> Frame | None:
        """Take samples; returns the newest frame, if there is one."""
        if len(new):
            self._ticks = np.concatenate([self._ticks, new.ticks])
            known = self._values if self._values is not None else new.values[:0]
            self._values = np.concatenate([known, new.values])
        if self._values is None or self.done:
            return None
        frame = self._latest() if self.trigger.mode is Mode.FREE else self._around_event()
        self._forget()
        return frame

    def _latest(self) -> Frame | None:
        if not len(self._ticks):
            return None
        assert self._values is not None
        ticks, values = self._ticks[-self.samples :], self._values[-self.samples :]
        self._looked = len(self._ticks)
        return Frame((ticks - ticks[-1]) * self.tick, values, int(ticks[-1]), False)

    def _around_event(self) -> Frame | None:
        assert self._values is not None
        trigger, frame = self.trigger, None
        while True:
            begin = max(self._looked, self.before)
            y = self._values[max(0, begin - 1) :, trigger.source]
            events = np.flatnonzero(trigger.condition.at(y, trigger.low, trigger.high)) + max(0, begin - 1)
            events = events[(events >= begin) & (self._ticks[events] >= self._next)]
            if not len(events):
                self._looked = max(self._looked, len(self._ticks))
                return frame
            event = int(events[0])
            end = event - self.before + self.samples
            if end > len(self._ticks):
                self._looked = event  # the rest of it is still to come
                return frame
            part = slice(event - self.before, end)
            at = int(self._ticks[event])
            frame = Frame((self._ticks[part] - at) * self.tick, self._values[part], at, True)
            self._looked = end
            self._next = at + round(trigger.hold_off / self.tick)
            if trigger.mode is Mode.SINGLE:
                self.done = True
                return frame

    def _forget(self) -> None:
        """What no frame can need any more."""
        assert self._values is not None
        keep = (
            self.samples
            if self.trigger.mode is Mode.FREE
            else max(self.before + 1, len(self._ticks) - self._looked + self.before + 1)
        )
        if len(self._ticks) > 2 * keep + self.samples:
            gone = len(self._ticks) - keep
            self._ticks, self._values = self._ticks[gone:].copy(), self._values[gone:].copy()
            self._looked = max(0, self._looked - gone)


__all__ = ["Condition", "Frame", "Mode", "Scope", "Trigger"]

"""A board on the bench for scripts: loaded, enabled, written, sampled and recorded. See docs/python.md."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from types import TracebackType

import numpy as np

from pendel.core.bench.bench import Bench
from pendel.core.bench.capture import CaptureState
from pendel.core.bench.description import Channel, Description, describe
from pendel.core.bench.errors import BenchProblem
from pendel.core.bench.facts import BoardFacts, BoardState, Order
from pendel.core.bench.standin_process import StandInProcess
from pendel.core.bench.trigger import Condition, Mode, Trigger
from pendel.core.bench.value_sets import value_of
from pendel.core.drive.document import Drive as Document
from pendel.core.drive.file import to_text
from pendel.core.drive.user_text import near_words, read_figure
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.firmware.targets import image_for
from pendel.core.runs.preparing.simulate import prepare, signal_infos

STAND_IN = "stand-in"
LOOK = 0.005
"""s between two looks at a record that is not full."""
LONGEST = 30.0
"""s that a record may wait for its event."""


@dataclass(frozen=True)
class Record:
    """Samples of a board. ``t`` (n,) in s from the first, or from the event where there was one; ``values`` by channel,
    SI; ``lost`` samples that never came."""

    t: np.ndarray
    values: Mapping[str, np.ndarray]
    lost: int = 0

    def __getitem__(self, channel: str) -> np.ndarray:
        return self.values[channel]


class Board:
    """A board with the controller of a drive: made by `pendel.Drive.board`, left as it is at the end of its ``with``
    block; a stand-in ends then. All raise `BenchProblem`, a sentence, where the board does not do as it is asked.

    Example
    -------
    >>> import pendel
    >>> drive = pendel.open_example("car_door_drive")
    >>> drive.set_live("speed_pi.K_p")
    >>> with drive.board() as board:
    ...     board.load()
    ...     board.enable()
    ...     board.set("speed_pi.K_p", 40)
    ...     len(board.record(["current_pi.out"], samples=100)["current_pi.out"])
    40.0
    100
    """

    def __init__(self, drive: Document, address: str, target: str, *, own_c: bool):
        self.drive, self.target, self._own_c = drive, target, own_c
        lowered = prepare(drive).lowered
        if not lowered.blocks:
            raise DriveProblem("The control deck is empty: there is nothing to load. Add a regulator.")
        self._lowered = lowered
        self.description: Description = describe(drive, lowered)
        """Channels that can be read and recorded, values that can be set, by their keys."""
        self._bench, self._stand_in = Bench(), None
        try:
            if address == STAND_IN:
                self._stand_in = StandInProcess(["tcp"])
                self._surround(self._stand_in)
            else:
                self._bench.connect(address)
        except BaseException:
            self.close()
            raise

    _stand_in: StandInProcess | None

    def _surround(self, stand_in: StandInProcess) -> None:
        """Put the drive around a stand-in, which is empty then."""
        self._bench.disconnect()
        stand_in.surround(to_text(self.drive), own_c=self._own_c)
        self._bench.connect(stand_in.addresses[0], stand_in.secret)

    def __enter__(self) -> Board:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Take leave of the board; no process and no thread stays. It may be closed twice."""
        self._bench.disconnect()
        stand_in, self._stand_in = self._stand_in, None
        if stand_in is not None:
            stand_in.close()

    # Status and orders.

    @property
    def facts(self) -> BoardFacts:
        return self._bench.facts()

    @property
    def state(self) -> str:
        """idle, enabled or fault."""
        return self.facts.state.name.lower()

    def load(self) -> None:
        """Compile the drive's controller for the board, load it and start it. Refused while it is enabled."""
        image = image_for(self._lowered, self.target)
        if self._stand_in is not None and self.facts.state is not BoardState.ENABLED:
            self._surround(self._stand_in)
        self._bench.load(image)

    def enable(self) -> None:
        """Enable the power stage. Refused where the code on the board is of another drive."""
        self._bench.must_match(self.description)
        self._bench.order(Order.ENABLE)

    def idle(self) -> None:
        self._bench.order(Order.IDLE)

    def acknowledge(self) -> None:
        """A fault."""
        self._bench.order(Order.ACKNOWLEDGE)

    def trip(self) -> None:
        self._bench.order(Order.TRIP)

    # Values and samples.

    def values(self) -> dict[str, float]:
        """What the board has of the values that can be set (SI)."""
        self._bench.must_match(self.description)
        return self._bench.read_values(list(self.description.values.values()))

    def set(self, name: str, value: str | float) -> float:
        """Set a live value: a text, or a number in its own unit; returns what the board has then (SI).

        Raises
        ------
        DriveProblem
            for one that cannot be set; `pendel.Drive.set_live` before loading makes it so
        """
        live = self.description.values.get(name)
        if live is None:
            near = near_words(name, self.description.values)
            raise DriveProblem(
                f"The board has no value “{name}” that can be set.{near} Call set_live() on the drive, and load."
            )
        try:
            wished = value_of(self.drive, live, str(value))
        except ExpressionProblem as problem:
            raise DriveProblem(f"{live.channel.title}: {problem}") from None
        return self._bench.write_value(self.description, name, wished)

    def read(self, channel: str) -> float:
        """A number on the board (SI). Raises `DriveProblem` for one that it has not."""
        self._bench.must_match(self.description)
        return self._bench.read(self._channel(channel))

    def _channel(self, key: str) -> Channel:
        """By its key, a signal's or a tap's name."""
        known = self.description.channels
        signal = str(self.drive.taps[key]) if key in self.drive.taps else key
        for name in (signal, f"input:{signal}", f"output:{signal}"):
            if name in known:
                return known[name]
        if signal in signal_infos(self.drive):
            read = ", ".join(k for k in known if k.startswith("input:")) or "no input"
            raise DriveProblem(
                f"{key} is a signal of the plant. The board has what its controller reads ({read}) and computes."
            )
        try:
            return self.description.channel(key)
        except BenchProblem as problem:
            near = near_words(key, self.description.channels)
            raise DriveProblem(f"{problem}{near}") from None

    def _channels(self, keys: Sequence[str]) -> list[Channel]:
        if not keys:
            raise DriveProblem("There is nothing to record. Name at least one channel.")
        return [self._channel(key) for key in keys]

    def _seconds(self, time: str | float) -> float:
        return read_figure(self.drive, time, "s", 0.0) if isinstance(time, str) else time

    def sample(self, channels: Sequence[str], seconds: str | float, *, every: int = 1) -> Record:
        """Every so many ticks for so long, over the line; a time in s, or as text with its unit."""
        seconds = self._seconds(seconds)
        if not 0 < seconds < float("inf"):
            raise DriveProblem(f"Samples cannot be taken for {seconds:g} s. Choose more than 0.")
        self._bench.must_match(self.description)
        sampler = self._bench.sample(self._channels(channels), every)
        tick, parts = self.description.tick, []
        wanted, until = max(1, round(seconds / (tick * every))), time.monotonic() + 10 * seconds + LONGEST
        count = 0
        try:
            while count < wanted:
                if time.monotonic() > until or not self._bench.connected:
                    raise NoSamples(count)
                parts.append(sampler.get())
                count += len(parts[-1])
                time.sleep(LOOK)
        finally:
            self._bench.stop_sampling()
        ticks = np.concatenate([p.ticks for p in parts])[:wanted]
        values = np.concatenate([p.values for p in parts])[:wanted]
        return Record((ticks - ticks[0]) * tick, dict(zip(channels, values.T)), sampler.lost)

    def record(
        self,
        channels: Sequence[str],
        samples: int = 2000,
        *,
        every: int = 1,
        rises: float | None = None,
        falls: float | None = None,
        changes: bool = False,
        before: float = 0.25,
        longest: str | float = LONGEST,
    ) -> Record:
        """A record that the board takes at its full rate: at once, or around the instant at which the first channel
        rises above or falls below a level (SI) or changes; ``before`` is the part that lies before it.

        Raises
        ------
        BenchProblem
            also where nothing of it happens for the ``longest`` time (s)
        """
        longest = self._seconds(longest)
        if samples < 2 or every < 1 or not 0 <= before <= 1:
            raise DriveProblem(
                f"A record of {samples} samples, every {every} ticks, {before:g} of it before the event, cannot be. "
                "Choose 2 samples, 1 tick and 0 at least, and 1 before at most."
            )
        if sum((rises is not None, falls is not None, changes)) > 1:
            raise DriveProblem("A record begins with one event. Give one of rises, falls and changes.")
        self._bench.must_match(self.description)
        if rises is not None:
            trigger = Trigger(Mode.SINGLE, Condition.RISES, 0, rises, rises, before)
        elif falls is not None:
            trigger = Trigger(Mode.SINGLE, Condition.FALLS, 0, falls, falls, before)
        else:
            mode = Mode.SINGLE if changes else Mode.FREE
            trigger = Trigger(mode, Condition.CHANGES if changes else Condition.AT_ONCE, before=before)
        capture = self._bench.capture(self._channels(channels), trigger, samples, every, self.description)
        until = time.monotonic() + longest
        while capture.state() is not CaptureState.FULL:
            if time.monotonic() > until:
                capture.stop()
                raise NothingHappened(channels[0], longest)
            time.sleep(LOOK)
        frame = capture.fetch()
        return Record(frame.times, dict(zip(channels, frame.values.T)))


class NoSamples(BenchProblem):
    def __init__(self, count: int):
        super().__init__(count)
        self.count = count

    def __str__(self) -> str:
        return (
            f"The board sends no more samples after {self.count}. Sample fewer channels or less often, or connect "
            "again."
        )


class NothingHappened(BenchProblem):
    def __init__(self, channel: str, seconds: float):
        super().__init__(channel, seconds)
        self.channel, self.seconds = channel, seconds

    def __str__(self) -> str:
        return (
            f"Nothing that {self.channel} did began the record within {self.seconds:g} s. Choose another level, or "
            "wait longer."
        )


__all__ = ["Board", "NoSamples", "NothingHappened", "Record"]

"""The board on the bench as the window sees it: its link, its state, its values, and what is done with it beside the
window. Views listen; every verb is a job."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import Enum
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pendel.app.session.jobs import BENCH, DESCRIBE, LOOK_AT_BOARD, End, Job
from pendel.app.session.session import Session
from pendel.app.widgets.timers import Later
from pendel.core.bench.bench import Bench
from pendel.core.bench.capture import Capture, CaptureState
from pendel.core.bench.described import Described
from pendel.core.bench.description import Channel, Description, LiveValue
from pendel.core.bench.errors import BenchProblem
from pendel.core.bench.facts import BoardFacts, BoardState, Order
from pendel.core.bench.sampling import Sampler
from pendel.core.bench.standin_process import NoStandIn, StandInProcess
from pendel.core.bench.trigger import Frame, Trigger
from pendel.core.drive.file import to_text
from pendel.core.firmware.targets import HOST, image_for
from pendel.core.processes.requests import DescribeRequest
from pendel.core.trust import brings_c

LOOK_EVERY_MS, VALUES_EVERY = 300, 5
"""Between two looks at the board, and looks from one reading of its live values to the next."""
DESCRIBE_AFTER_MS = 150
STAND_IN = "stand-in"
"""In place of an address: a board of the window's own."""


class LinkState(Enum):
    CLOSED = "not connected"
    OPENING = "connecting …"
    OPEN = "connected"
    LOST = "link lost"


@dataclass(frozen=True)
class Looked:
    """What a look at the board found: its facts, a record or how far one is, figures and live values in
    SI."""

    facts: BoardFacts
    frame: Frame | CaptureState | None
    figures: dict[str, float]
    values: dict[str, float]


class Board(QObject):
    """One board at a time."""

    changed = pyqtSignal()
    """Its link, its state or what it has."""
    values_read = pyqtSignal()
    logged = pyqtSignal(str)
    """A sentence on what happened."""
    framed = pyqtSignal(object, object)
    """A record at full rate that was fetched, and its channels."""
    progressed = pyqtSignal(float)

    def __init__(self, session: Session, parent: QObject):
        super().__init__(parent)
        self.session = session
        self.bench = Bench(self._link_ended)
        self.stand_in: StandInProcess | None = None
        self.link = LinkState.CLOSED
        self._links = 0
        """How often a link was begun or left."""
        self.facts: BoardFacts | None = None
        self.described: Described | None = None
        self.watched: list[str] = []
        """Signals whose figures are read while it is connected, and ..."""
        self.figures: dict[str, float] = {}
        """... what they were last, in SI."""
        self.on_board: dict[str, float] = {}
        """Live values as the board was found to have them, in SI."""
        self.status: dict[str, Any] = {}
        """Status of the stand-in board."""
        self.sampler: Sampler | None = None
        self._wanted_samples: object = None
        """Stands for the samples that were asked for last; None where none are wanted."""
        self._capture: Capture | None = None
        self._sent: dict[str, float] = {}
        """Values of the drive that the board was brought to, or that it was left without."""
        self.target = HOST
        """What programs are built for."""
        self.may_run: Callable[[str], bool] = lambda address: True
        """Asks before C of the drive's author runs."""
        self.in_view: Callable[[], bool] = lambda: True
        """Tells whether somebody looks at the board."""
        self._closed, self._looks = False, 0
        self._describe = Later(self, DESCRIBE_AFTER_MS, self.describe)
        self._look = QTimer(self)
        self._look.setInterval(LOOK_EVERY_MS)
        self._look.timeout.connect(self._look_at_board)
        self._from_threads = Threads(self)
        self._from_threads.lost.connect(self._take_loss)
        self._from_threads.reported.connect(self._take_status)
        session.changed.connect(lambda _: self._drive_changed())
        session.opened.connect(self._opened)
        session.jobs.progressed.connect(self._progress)
        session.at_close.append(self.close)

    # What the drive has.

    @property
    def description(self) -> Description | None:
        return self.described.description if self.described else None

    @property
    def matches(self) -> bool:
        """Whether the board's code was made from the drive as it is."""
        d, f = self.description, self.facts
        return d is not None and f is not None and f.checksum == d.checksum and f.own_bytes == d.size

    def describe(self) -> None:
        """Find out, beside the window, what a board with this drive has."""
        if self._closed:
            return
        drive, lowering = self.session.drive.copy(), self.session.lowering
        if not drive.cards:
            self._take_description(Described(problem="The sheet is empty. Open or draw a drive first."))
            return

        def work(job: Job) -> Described:
            description: Described = lowering.ask(DescribeRequest, drive, lambda: job.stopping)
            return description

        self.session.jobs.start(DESCRIBE, work, self._described)

    def _described(self, job: Job) -> None:
        if job.end is End.STOPPED or job.stopping:  # of a drive that is another by now
            return
        described = job.result if job.end is End.FINISHED else Described(problem=job.sentence)
        self._take_description(described)

    def _take_description(self, described: Described) -> None:
        before, self.described = self.described, described
        if before is not None and described.plant and described.plant != before.plant and self.matches:
            self._change_around()
        self.changed.emit()
        self._write_changed()

    def _opened(self) -> None:
        self.disconnect()
        self.described = None
        self._describe_when_wanted(self.in_view())

    def _drive_changed(self) -> None:
        self._write_changed()
        self._describe_when_wanted(self.in_view() or self.link is not LinkState.CLOSED)

    def _describe_when_wanted(self, wanted: bool) -> None:
        """What is being found out is of another drive from now on; where nobody looks at the board, whoever does next
        has it found out."""
        self.session.jobs.stop(DESCRIBE)
        if wanted:
            self._describe.start()
        else:
            self._describe.stop()
            self.described = None

    # The link.

    def connect_to(self, address: str) -> None:
        """Connect to a board at an address, or to a stand-in board that is started for it."""
        if not self.may_run(address):
            return
        self._links += 1
        self.link = LinkState.OPENING
        self.changed.emit()
        text, own_c = to_text(self.session.drive), brings_c(self.session.drive)

        def work(job: Job) -> BoardFacts:
            self.bench.disconnect()
            if address != STAND_IN:
                self._end_stand_in()
                return self.bench.connect(address)
            board = self._started_stand_in()
            try:
                board.surround(text, own_c=own_c)
            except NoStandIn:
                if board.alive:
                    raise
                board = self._started_stand_in()  # the one before was just ending
                board.surround(text, own_c=own_c)
            return self.bench.connect(board.addresses[0], board.secret)

        self._do(work, self._connected, "connect")

    def _started_stand_in(self) -> StandInProcess:
        if self.stand_in is None or not self.stand_in.alive:
            self._end_stand_in()
            self.stand_in = StandInProcess(["tcp"], self._from_threads.reported.emit)
        return self.stand_in

    def _connected(self, facts: BoardFacts) -> None:
        self.link = LinkState.OPEN
        assert self.bench.capability is not None
        self.log(f"Connected to {self.bench.address}: {self.bench.capability.identity}.")
        self._take_facts(facts)
        self._look.start()
        if self.matches:
            self.read_back()
        if self.described is None:
            self.describe()

    def disconnect(self) -> None:
        """Leave the board as it is."""
        if self.link is LinkState.CLOSED and self.stand_in is None:
            return
        self._look.stop()
        self.sampler = None

        def work(job: Job) -> None:
            self.bench.disconnect()
            self._end_stand_in()

        self._forget_board(LinkState.CLOSED)
        self._do(work, lambda _: self.log("Disconnected."), "disconnect")

    def _forget_board(self, link: LinkState) -> None:
        self._links += 1
        self.link, self.facts, self.on_board, self.status = link, None, {}, {}
        self.figures = {}
        self._sent, self._capture, self.sampler, self._wanted_samples = {}, None, None, None
        self.changed.emit()

    def _link_ended(self, problem: BenchProblem) -> None:
        """In the thread of the link."""
        if not self._closed:
            self._from_threads.lost.emit(str(problem))

    def _take_loss(self, sentence: str) -> None:
        if self.link is not LinkState.OPEN:
            return
        self._look.stop()
        self._forget_board(LinkState.LOST)
        self.log(sentence)
        self._do(lambda job: self.bench.disconnect(), lambda _: None, "disconnect")

    def _end_stand_in(self) -> None:
        board, self.stand_in = self.stand_in, None
        if board is not None:
            board.close()

    def close(self) -> None:
        """End for good, with what runs for it."""
        self._closed = True
        self._look.stop()
        self._describe.stop()
        self.bench.disconnect()
        self._end_stand_in()

    def _take_status(self, status: dict[str, Any]) -> None:
        new = status.get("sentence", "")
        if new and new != self.status.get("sentence", ""):
            self.log(new)
        self.status = status
        self.changed.emit()

    # What is done with it.

    def order(self, order: Order) -> None:
        words = {
            Order.IDLE: "Set idle.",
            Order.ENABLE: "Enabled.",
            Order.ACKNOWLEDGE: "Fault acknowledged.",
            Order.TRIP: "Tripped.",
        }

        def work(job: Job) -> BoardFacts:
            if order is Order.ENABLE and self.description is not None:
                self.bench.must_match(self.description)
            return self.bench.order(order)

        def done(facts: BoardFacts) -> None:
            self.log(words[order])
            self._take_facts(facts)

        self._do(work, done, order.name.lower())

    def load(self, *, idle_first: bool = False) -> None:
        """Compile the drive's controller for the board, load it and start it. Refused while it is enabled."""
        described = self.described
        if described is None or described.description is None:
            self.log(described.problem if described else "The drive is still being checked. Load in a moment.")
            return
        if not self.may_run(STAND_IN if self.stand_in is not None else self.bench.address):
            return
        text, own_c = to_text(self.session.drive), brings_c(self.session.drive)
        self.sampler, target = None, self.target

        def work(job: Job) -> BoardFacts:
            facts = self.bench.facts()
            if idle_first and facts.state is BoardState.ENABLED:
                self.bench.order(Order.IDLE)
            assert described.lowered is not None
            image = image_for(described.lowered, target)
            board = self.stand_in
            if board is not None and (idle_first or facts.state is not BoardState.ENABLED):
                self.bench.disconnect()
                board.surround(text, own_c=own_c)
                self.bench.connect(board.addresses[0], board.secret)
            return self.bench.load(image, job.report)

        def done(facts: BoardFacts) -> None:
            self.log(f"Loaded and started, checksum {facts.checksum:08x}.")
            self._take_facts(facts)
            self.read_back()

        self._do(work, done, "load")

    def read_back(self) -> None:
        """Read all live values."""
        description = self.description
        if description is None or not self.matches:
            return
        values = list(description.values.values())

        def done(values: dict[str, float]) -> None:
            self._take_values(values)

        self._do(lambda job: self.bench.read_values(values), done, "read back")

    def _take_values(self, values: Mapping[str, float]) -> None:
        self.on_board.update(values)
        now = self.of_drive()
        for key in values:
            self._sent.setdefault(key, now.get(key, values[key]))
        self.values_read.emit()

    def of_drive(self) -> dict[str, float]:
        """Live values as the drive has them, in SI."""
        description, values = self.description, self.session.examined.values
        if description is None:
            return {}
        values_of_drive = {}
        for key, live in description.values.items():
            block, _, name = key.partition(".")
            values_of_drive[key] = values.get(block, {}).get(name, live.facts.now)
        return values_of_drive

    def differing(self) -> dict[str, float]:
        """Values that the board has otherwise than the drive: what it has."""
        description, now = self.description, self.of_drive()
        if description is None:
            return {}
        return {
            key: value
            for key, value in self.on_board.items()
            if key in now and not same(value, now[key], description.values[key].channel)
        }

    def _write_changed(self) -> None:
        """Values of the drive that were changed since the board had them are written to it at once."""
        description = self.description
        if description is None or self.link is not LinkState.OPEN or not self.matches:
            return
        now = self.of_drive()
        new = {k: v for k, v in now.items() if k in self._sent and v != self._sent[k] and v == v}
        self._sent.update(new)
        channels = {k: live.channel for k, live in description.values.items()}
        new = {k: v for k, v in new.items() if not same(v, self.on_board.get(k, math.nan), channels[k])}
        if new:
            self.write(new)

    def write_all(self) -> None:
        """Bring the board to what the drive has."""
        now = self.of_drive()
        if self.differing():
            self.write({key: now[key] for key in self.differing()})

    def write(self, values: Mapping[str, float]) -> None:
        """Write live values (SI)."""
        description = self.description
        if description is None:
            return
        begun = time.perf_counter()

        def done(values: dict[str, float]) -> None:
            took = 1e3 * (time.perf_counter() - begun)
            names = ", ".join(description.values[k].channel.title for k in values)
            self.log(f"Wrote {names} in {took:.1f} ms.")
            self._take_values(values)

        self._do(lambda job: self.bench.write_values(description, values), done, "write")

    # Samples.

    def sample(self, channels: list[Channel], every: int, then: Callable[[Sampler], None]) -> None:
        wanted = self._wanted_samples = object()

        def done(sampler: Sampler) -> None:
            if wanted is self._wanted_samples:  # else others are wanted by now, or none
                self.sampler = sampler
                then(sampler)

        self._do(lambda job: self.bench.sample(channels, every), done, "sample")

    def stop_sampling(self) -> None:
        self.sampler = self._wanted_samples = None
        if self.link is LinkState.OPEN:
            self._do(lambda job: self.bench.stop_sampling(), lambda _: None, "stop sampling")

    def capture(self, channels: list[Channel], trigger: Trigger, samples: int, every: int) -> None:
        """Have the board take a record at full rate; `framed` comes when it is there."""
        description = self.description
        if description is None:
            return

        def done(record: Capture) -> None:
            self._capture = record
            self.log("The board takes a record.")

        self._do(lambda job: self.bench.capture(channels, trigger, samples, every, description), done, "record")

    # Jobs.

    @property
    def looking(self) -> bool:
        """Whether its state is asked for again and again."""
        return self._look.isActive()

    def _look_at_board(self) -> None:
        """State and record, while nothing else is being done."""
        if self.session.jobs.busy(BENCH, LOOK_AT_BOARD) or self.link is not LinkState.OPEN:
            return
        record = self._capture
        channels, values = self._watched_channels(), self._values_due()

        def work(job: Job) -> Looked:
            frame: Frame | CaptureState | None = None
            if record is not None:
                frame = record.state()
                if frame is CaptureState.FULL:
                    frame = record.fetch()
            figures = {key: self.bench.read(c) for key, c in channels.items()}
            return Looked(self.bench.facts(), frame, figures, self.bench.read_values(values))

        def then(job: Job) -> None:
            if job.end is End.FINISHED and self.link is LinkState.OPEN:
                looked: Looked = job.result
                frame, self.figures = looked.frame, looked.figures
                self._take_facts(looked.facts)
                if looked.values and self.matches:
                    self._take_values(looked.values)
                if isinstance(frame, Frame) and record is self._capture:
                    self._capture = None
                    self.framed.emit(frame, list(record.channels))
                elif frame is CaptureState.OFF and record is self._capture:
                    self._capture = None
                    self.log("The board refused the record. Check its channels and how many samples it has.")
            elif job.end is End.FAILED and self.link is LinkState.OPEN:
                self.log(job.sentence)

        self.session.jobs.start(LOOK_AT_BOARD, work, then)

    def _values_due(self) -> list[LiveValue]:
        """Live values that are read back now: all of them, every so often."""
        self._looks += 1
        description = self.description
        if description is None or not self.matches or self._looks % VALUES_EVERY:
            return []
        return list(description.values.values())

    def _watched_channels(self) -> dict[str, Channel]:
        """Of the signals whose figures are wanted, those that the board has."""
        description = self.description
        if description is None or not self.matches:
            return {}
        by_signal: dict[str, Channel] = {}
        for channel in description.channels.values():
            by_signal.setdefault(channel.signal or channel.key, channel)
        return {key: by_signal[key] for key in self.watched if key in by_signal}

    @property
    def recording(self) -> bool:
        """Whether the board is taking a record."""
        return self._capture is not None

    def _take_facts(self, facts: BoardFacts) -> None:
        before, self.facts = self.facts, facts
        if before is not None and before.state is not facts.state and facts.state is BoardState.FAULT:
            self.log("Fault: the power stage is off. Acknowledge it to go on.")
        if before is not None and facts.lost > before.lost:
            self.log(f"The link is too slow: {facts.lost} samples were lost so far. Sample less often.")
        if before is not None and before.checksum != facts.checksum:
            self.on_board, self._sent = {}, {}
        self.changed.emit()

    def _do(self, work: Callable[[Job], Any], done: Callable[[Any], None], what: str) -> None:
        """A job on the board; what goes wrong is logged. What it brings is of no use once the link is another."""
        link = self._links

        def then(job: Job) -> None:
            if job.end is End.FINISHED and (link == self._links or what == "disconnect"):
                done(job.result)
            elif job.end is End.FAILED and link == self._links:
                if what == "connect":
                    self._forget_board(LinkState.CLOSED)
                self.log(job.sentence)
            self.changed.emit()

        if not self._closed:
            self.session.jobs.start(BENCH, work, then)
            self.changed.emit()

    @property
    def busy(self) -> bool:
        return self.session.jobs.busy(BENCH)

    def _progress(self, job: Job, share: float) -> None:
        if job.kind is BENCH:
            self.progressed.emit(share)

    def log(self, sentence: str) -> None:
        self.logged.emit(sentence)

    def _change_around(self) -> None:
        """The drive around the stand-in board follows the sheet."""
        board = self.stand_in
        if board is not None:
            board.change(to_text(self.session.drive), own_c=brings_c(self.session.drive))


class Threads(QObject):
    """What other threads report, taken in the window's."""

    lost = pyqtSignal(str)
    reported = pyqtSignal(dict)


def same(a: float, b: float, channel: Channel) -> bool:
    """Whether two values are one in a channel's format."""
    if channel.rep.floating and channel.rep.bits == 32:
        return abs(a - b) <= 2e-7 * max(abs(a), abs(b))
    return abs(a - b) <= 1e-12 * max(abs(a), abs(b))


__all__ = ["STAND_IN", "Board", "LinkState"]

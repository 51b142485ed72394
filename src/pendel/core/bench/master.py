"""The master of a board: commands of ASAM MCD-1 XCP with their answers, and the samples that come by themselves.

One thread reads. Each command waits for its answer, no longer than it says; samples go to whoever listens, in the
thread that reads."""

from __future__ import annotations

import contextlib
import queue
import struct
import threading
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from pendel.core.bench.errors import (
    BenchProblem,
    LinkLost,
    NoAnswer,
    Nonsense,
    Refused,
    TooMuch,
)
from pendel.core.bench.keys import keyed
from pendel.core.bench.links import Link

PATIENCE = 1.0
"""Seconds that an answer may take."""
CONNECT = b"\xff\x00"
SYNCHRONISED = b"\xfe\x00"
"""The answer to "synchronise", and to nothing else."""
LOADING = 0x10
"""The resource of programming, in the standard's bits."""
OVERLOAD = 0x05
UNITS = tuple(10.0**n * 1e-9 for n in range(10))
"""Of times, by their codes (s)."""


@dataclass(frozen=True)
class Capability:
    """What a board said of itself when it was connected."""

    max_cto: int
    max_dto: int
    resources: int
    identity: str
    tick: float
    """s."""


@dataclass(frozen=True)
class Spot:
    """A number on a board: where, and how many bytes."""

    extension: int
    address: int
    bytes: int


@dataclass(frozen=True)
class SampleList:
    """How samples come: for each packet its number, its length, and where each spot begins in it.

    ``record`` bytes are the packets of one sample, one behind the other; ``places`` the offsets in it.
    """

    first: int
    lengths: tuple[int, ...]
    places: tuple[int, ...]
    time_at: int

    @property
    def record(self) -> int:
        return sum(self.lengths)


class Master:
    """Raises `BenchProblem`s from all its verbs."""

    def __init__(
        self,
        link: Link,
        on_samples: Callable[[list[bytes]], None] = lambda packets: None,
        on_end: Callable[[BenchProblem], None] = lambda problem: None,
    ):
        self.link, self.on_samples, self.on_end = link, on_samples, on_end
        self.overloads = 0
        """How often the board reported lost samples."""
        self.stray = 0
        """Answers that nobody waited for."""
        self._answers: queue.SimpleQueue[bytes | BenchProblem] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._closing = False
        self._lost: BenchProblem | None = None
        self._waiting = False
        self._adrift = False
        """A command was given up, so its answer may still come, and pass for that of the next."""
        self._synchronising = 0
        """How often the board was asked to synchronise, and did not answer yet."""
        self._thread = threading.Thread(target=self._read, name="bench link", daemon=True)
        self._thread.start()

    def _read(self) -> None:
        while not self._closing:
            try:
                packets = self.link.receive()
            except BenchProblem as problem:
                if not self._closing:
                    self._lost = problem
                    self._answers.put(problem)
                    self.on_end(problem)
                return
            samples = []
            for packet in filter(None, packets):
                if packet[0] in (0xFF, 0xFE):
                    self._answers.put(packet) if self._waiting else self._count_stray()
                elif packet[0] == 0xFD:
                    self.overloads += packet[1:2] == bytes([OVERLOAD])
                elif packet[0] < 0xFC:
                    samples.append(packet)
            if samples:
                self.on_samples(samples)

    def _count_stray(self) -> None:
        self.stray += 1

    def close(self) -> None:
        """Close the link; no thread stays."""
        self._closing = True
        self.link.close()
        if self._thread is not threading.current_thread():
            self._thread.join(2.0)

    def ask(self, what: str, packet: bytes, *, minimum: int = 1, patience: float = 0.0) -> bytes:
        """Send a command and wait for its answer. ``what`` names it in words."""
        patience = patience or PATIENCE
        with self._lock:
            if self._lost is not None or self._closing:
                raise self._lost or LinkLost(self.link.address)
            self._drop_old_answers()
            with self._expecting():
                if self._adrift and packet != CONNECT:
                    self._synchronise()
                self.link.send(packet)
                while self._ends_synchronising(answer := self._next_answer(what, patience)):
                    self.stray += 1  # of a line that was slow to answer the first
        if answer[0] == 0xFE:
            raise Refused(what, answer[1] if len(answer) > 1 else 0)
        if len(answer) < minimum:
            raise Nonsense(what, answer)
        return answer

    @contextlib.contextmanager
    def _expecting(self) -> Iterator[None]:
        self._waiting = True
        try:
            yield
        finally:
            self._waiting = False

    def _drop_old_answers(self) -> None:
        while not self._answers.empty():  # of a command that was given up
            self._answers.get_nowait()
            self.stray += 1

    def _next_answer(self, what: str, patience: float) -> bytes:
        try:
            answer = self._answers.get(timeout=patience)
        except queue.Empty:
            self._adrift = True
            raise NoAnswer(what, patience) from None
        if isinstance(answer, BenchProblem):
            raise answer
        return answer

    def _synchronise(self) -> list[bytes]:
        """Let the answers that are still on their way pass by, and return them: that to "synchronise" comes behind
        them, as a board answers in the order in which it was asked (ASAM MCD-1 XCP, part 2, error handling)."""
        self.link.send(b"\xfc")
        self._synchronising += 1
        passed, heard = [], False
        while self._synchronising:  # also for those that were given up, or theirs would pass for this one's
            try:
                answer = self._next_answer("synchronise", PATIENCE)
            except NoAnswer:
                if not heard:
                    raise
                break  # the others were lost
            if self._ends_synchronising(answer):
                heard = True
            else:
                passed.append(answer)
        self._synchronising = 0
        self._adrift = False
        self.stray += len(passed)
        return passed

    def _ends_synchronising(self, answer: bytes) -> bool:
        if answer[:2] == SYNCHRONISED:
            self._synchronising = max(0, self._synchronising - 1)
            return True
        return False

    # Connecting.

    def _greeted(self) -> bytes:
        """The answer to "connect", which is sent once more where none comes: it may have been lost on the way."""
        with contextlib.suppress(NoAnswer):
            return self._greet()
        return self._greet()

    def _greet(self) -> bytes:
        if self._adrift:
            with contextlib.suppress(NoAnswer), self._lock, self._expecting():  # as of a board that is not connected
                self._synchronise()
        answer = self.ask("connect", CONNECT, minimum=8)
        if self._adrift:  # it may be one of before, and that to "connect" the last on its way
            with self._lock, self._expecting():
                answer = next((a for a in reversed(self._synchronise()) if len(a) >= 8 and a[0] == 0xFF), answer)
        return answer

    def connect(self) -> Capability:
        answer = self._greeted()
        resources, mode, max_cto = answer[1], answer[2], answer[3]
        if mode & 0x07 or max_cto < 8:
            raise Nonsense("connect", answer)  # bytes in another order or in words: no board of ours
        max_dto = int.from_bytes(answer[4:6], "little")
        self.max_cto = max_cto
        identity = self.identity()
        tick = 0.0
        with contextlib.suppress(Refused):
            timing = self.ask("how it counts time", b"\xd9", minimum=8)
            unit = min(timing[5] >> 4, len(UNITS) - 1)
            tick = int.from_bytes(timing[6:8], "little") * UNITS[unit]
        self.capability = Capability(max_cto, max_dto, resources, identity, tick)
        return self.capability

    def identity(self) -> str:
        answer = self.ask("what it is", b"\xfa\x00", minimum=8)
        length = min(int.from_bytes(answer[4:8], "little"), 1000)
        name = b""
        while len(name) < length:
            part = min(length - len(name), self.max_cto - 1)
            name += self.ask("what it is", bytes([0xF5, part]), minimum=part + 1)[1 : part + 1]
        return name.decode("ascii", "replace")

    def disconnect(self) -> None:
        self.ask("disconnect", b"\xfe")

    def unlock(self, secret: bytes) -> None:
        """Show that one knows the secret of who may load."""
        seed = self.ask("a seed", bytes([0xF8, 0, LOADING]), minimum=2)
        length = seed[1]
        key = keyed(secret, int.from_bytes(seed[2 : 2 + length], "little"))
        data = key.to_bytes(8, "little")[:length]
        self.ask("unlock loading", bytes([0xF7, len(data)]) + data, minimum=2)

    # Memory.

    def read(self, extension: int, address: int, count: int, what: str = "read") -> bytes:
        data = b""
        if count > self.max_cto - 1:
            self.point(extension, address)
            while len(data) < count:
                part = min(count - len(data), self.max_cto - 1)
                data += self.ask(what, bytes([0xF5, part]), minimum=part + 1)[1 : part + 1]
            return data
        packet = struct.pack("<BBBBI", 0xF4, count, 0, extension, address)
        return self.ask(what, packet, minimum=count + 1)[1 : count + 1]

    def point(self, extension: int, address: int) -> None:
        self.ask("set the address", struct.pack("<BHBI", 0xF6, 0, extension, address))

    def write(self, extension: int, address: int, data: bytes, what: str = "write") -> None:
        """In as few commands as there can be; what fits one is written at once."""
        room = self.max_cto - 8
        if 0 < len(data) <= room:
            self.ask(what, struct.pack("<BBBBI", 0xED, len(data), 0, extension, address) + data)
            return
        self.point(extension, address)
        room = self.max_cto - 2
        for at in range(0, len(data), room):
            part = data[at : at + room]
            self.ask(what, bytes([0xF0, len(part)]) + part)

    # Samples.

    def sample(self, spots: list[Spot], every: int) -> SampleList:
        """Have these numbers sampled at every so many ticks; `start` begins."""
        self.ask("forget its lists", b"\xd6")
        tables = self._tables(spots)
        try:
            self._allocate(tables)
        except Refused as problem:
            reason = f"it has no room for {len(tables)} packets of them"
            raise TooMuch(len(spots), reason) from problem
        for number, table in enumerate(tables):
            if table:  # the first holds the time alone where nothing else fits
                self.ask("point at its list", struct.pack("<BBHBB", 0xE2, 0, 0, number, 0))
            for spot in table:
                entry = struct.pack("<BBBBI", 0xE1, 0xFF, spot.bytes, spot.extension, spot.address)
                self.ask("add a channel", entry)
        self.ask("set the rate", struct.pack("<BBHHBB", 0xE0, 0x10, 0, 0, every, 0))
        answer = self.ask("choose its list", struct.pack("<BBH", 0xDE, 2, 0), minimum=2)
        lengths = [1 + 4 * (n == 0) + sum(s.bytes for s in table) for n, table in enumerate(tables)]
        places, at = [], 0
        for n, table in enumerate(tables):
            inside = at + 1 + 4 * (n == 0)
            for spot in table:
                places.append(inside)
                inside += spot.bytes
            at += lengths[n]
        return SampleList(answer[1], tuple(lengths), tuple(places), 1)

    def _allocate(self, tables: list[list[Spot]]) -> None:
        self.ask("make a list", struct.pack("<BBH", 0xD5, 0, 1))
        self.ask("make its packets", struct.pack("<BBHB", 0xD4, 0, 0, len(tables)))
        for number, table in enumerate(tables):
            self.ask("make its channels", struct.pack("<BBHBB", 0xD3, 0, 0, number, len(table)))

    def _tables(self, spots: list[Spot]) -> list[list[Spot]]:
        """Spots by packet, in their order."""
        tables: list[list[Spot]] = [[]]
        room = self.capability.max_dto - 5
        for spot in spots:
            if spot.bytes > room:
                tables.append([])
                room = self.capability.max_dto - 1
            tables[-1].append(spot)
            room -= spot.bytes
        if len(tables) > 64:
            raise TooMuch(len(spots), f"they need {len(tables)} packets a sample")
        return tables

    def start(self) -> None:
        self.ask("begin to measure", b"\xdd\x01")

    def stop(self) -> None:
        self.ask("stop measuring", b"\xdd\x00")

    # Loading.

    def load(self, image: bytes, report: Callable[[float], None] = lambda share: None) -> None:
        """Load a program and start the board with it; the link must be connected again then."""
        self.ask("begin loading", b"\xd2", minimum=7)
        self.point(0, 0)
        self.ask("make room", struct.pack("<BBHI", 0xD1, 0, 0, len(image)), patience=5 * PATIENCE)
        room = self.max_cto - 2
        for at in range(0, len(image), room):
            part = image[at : at + room]
            self.ask("load", bytes([0xD0, len(part)]) + part)
            report(at / len(image))
        self.ask("end loading", b"\xd0\x00")
        self.ask("restart", b"\xcf")

    def checksum(self, extension: int, address: int, count: int) -> int:
        """CRC-32 of a stretch of memory, by the board."""
        self.point(extension, address)
        answer = self.ask("sum up memory", struct.pack("<BBHI", 0xF3, 0, 0, count), minimum=8)
        if answer[1] != 0x09:
            raise Nonsense("sum up memory", answer)
        return int.from_bytes(answer[4:8], "little")


def crc32(data: bytes) -> int:
    return zlib.crc32(data)


__all__ = ["Capability", "Master", "SampleList", "Spot"]

"""A board that answers nonsense: whatever comes over the link, a verb of the bench ends with a sentence, or with
numbers."""

from __future__ import annotations

import contextlib
import queue
import threading
from functools import lru_cache
from pathlib import Path
from random import Random

import pendel
from pendel.core.bench import master
from pendel.core.bench.capture import Capture
from pendel.core.bench.description import Description, describe
from pendel.core.bench.errors import LinkLost
from pendel.core.bench.facts import SIZE, read_facts
from pendel.core.bench.links import Stream
from pendel.core.bench.master import Master
from pendel.core.bench.sampling import Sampler
from pendel.core.bench.trigger import Trigger
from pendel.core.drive.file import load
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.faults.report import Boundary

DOOR = Path(pendel.__file__).parent / "examples" / "car_door_drive.pendel"
PATIENCE = 0.004
"""Seconds that a master waits here."""


@lru_cache(maxsize=1)
def description() -> Description:
    drive = load(DOOR)
    return describe(drive, prepare(drive).lowered)


class NonsenseLink:
    """Answers each command with bytes that look more or less like packets, framed or not; ``frames`` counts them."""

    address = "nowhere"

    def __init__(self, rng: Random):
        self.rng, self.frames, self.closed = rng, 0, False
        self.sense = rng.choice((0.3, 0.9, 0.99, 0.998))
        summed = rng.random() < 0.5
        self.stream, self.sender = Stream(summed=summed), Stream(summed=summed if rng.random() < 0.95 else not summed)
        self.waiting: queue.SimpleQueue[bytes] = queue.SimpleQueue()

    def packet(self, command: bytes) -> bytes:
        rng = self.rng
        kind = rng.random()
        if kind < self.sense:  # the answer, of its length
            return b"\xff" + rng.randbytes(command[1] if command[0] in (0xF4, 0xF5) else 7)
        kind = rng.random()
        if kind < 0.75:
            return b"\xff" + rng.randbytes(rng.choice((0, 1, 7, rng.randrange(0, 255))))
        if kind < 0.8:
            return b"\xfe" + rng.randbytes(rng.randrange(0, 3))
        if kind < 0.85:
            return b"\xfd" + rng.randbytes(rng.randrange(0, 6))
        return rng.randbytes(rng.randrange(0, 300))

    def send(self, packet: bytes) -> None:
        rng = self.rng
        usual = rng.random() < self.sense
        for _ in range(1 if usual else rng.choice((0, 1, 2, 5))):
            self.frames += 1
            data = self.packet(packet)
            self.waiting.put(self.sender.framed(data) if data and (usual or rng.random() < 0.5) else data)
        while rng.random() < 0.3:  # samples come in between
            self.frames += 1
            self.waiting.put(self.sender.framed(bytes([rng.randrange(0, 0xFC)]) + rng.randbytes(rng.randrange(4, 40))))
        if rng.random() < 0.0005:
            self.closed = True

    def receive(self) -> list[bytes]:
        if self.closed:
            raise LinkLost(self.address)
        try:
            data = self.waiting.get(timeout=PATIENCE)
        except queue.Empty:
            return []
        return self.stream.packets(data)

    def close(self) -> None:
        self.closed = True


def board_answers(rng: Random, into: Boundary) -> None:
    """Connected, looked at, sampled, recorded, loaded: until the link is lost or all was tried."""
    usual, master.PATIENCE = master.PATIENCE, PATIENCE
    try:
        all_verbs(rng, into)
    finally:
        master.PATIENCE = usual


def all_verbs(rng: Random, into: Boundary) -> None:
    of, seed = description(), rng.random()
    link = NonsenseLink(rng)
    spots = rng.sample(list(of.channels.values()), rng.randrange(1, 8))
    sampler = Sampler(spots, rng.choice((1, 2, 255)))
    with contextlib.closing(Master(link, sampler.take)) as board:

        def sampled() -> None:
            sampler.follow(board.sample([c.spot for c in spots], sampler.every))
            board.start()
            for _ in range(5):
                board.read(0, 0, 40)
                sampler.get()

        def recorded() -> None:
            record = Capture(board, spots, Trigger(), rng.randrange(1, 40), 1, of.tick, 1 << 16)
            record.begin()
            record.state()
            record.fetch()

        verbs = (
            board.connect,
            lambda: read_facts(board.read(1, 0, SIZE)),
            lambda: board.unlock(rng.randbytes(16)),
            lambda: board.write(0, rng.randrange(1 << 32), rng.randbytes(rng.randrange(1, 400))),
            sampled,
            recorded,
            lambda: board.load(rng.randbytes(rng.randrange(0, 600))),
            lambda: board.checksum(0, 0, 40),
            board.disconnect,
        )
        board.max_cto = rng.choice((8, 64, 255))
        board.capability = master.Capability(board.max_cto, rng.choice((8, 64, 1400)), 0, "", 5e-5)
        for number in range(12):
            verb = verbs[0] if number == 0 else rng.choice(verbs)
            case = f"{seed} {number}".encode()
            into.meet(case, verb)
    into.pieces += link.frames
    if any(thread.name == "bench link" for thread in threading.enumerate()):
        into.fail(f"{seed}".encode(), "a thread stays behind")


__all__ = ["board_answers"]

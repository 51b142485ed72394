"""A board on the bench: connected, loaded, enabled, its values read and written, its numbers sampled.

All verbs wait for the board, at most as long as its master does, and raise `BenchProblem`s; call them beside the
window. Nothing here knows whether the board is a real one."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from pendel.core.bench.capture import Capture
from pendel.core.bench.description import BOARD, Channel, Description, LiveValue
from pendel.core.bench.errors import (
    BenchProblem,
    BeyondEnds,
    Nonsense,
    NotConnected,
    OtherCode,
    StillEnabled,
)
from pendel.core.bench.facts import (
    KEY_AT,
    KEYED_LAYOUT,
    ORDER_AT,
    ORDER_KEY_AT,
    SIZE,
    BoardFacts,
    BoardState,
    Order,
    order_bytes,
    read_facts,
)
from pendel.core.bench.links import open_link, read_address
from pendel.core.bench.master import LOADING, Capability, Master
from pendel.core.bench.sampling import Sampler
from pendel.core.bench.trigger import Trigger

RESTARTING = 5.0
"""Seconds that a board has to start a program that was loaded."""
MOST_EVERY = 255
"""The standard divides rates by at most so much."""


class Bench:
    """``on_end`` is called, in a thread of the link, when the link is lost."""

    def __init__(self, on_end: Callable[[BenchProblem], None] = lambda problem: None):
        self._on_end = on_end
        self._master: Master | None = None
        self._sampler: Sampler | None = None
        self.address = ""
        self.capability: Capability | None = None

    # The link.

    @property
    def connected(self) -> bool:
        return self._master is not None

    @property
    def master(self) -> Master:
        if self._master is None:
            raise NotConnected
        return self._master

    def connect(self, address: str, secret: bytes = b"") -> BoardFacts:
        """Connect to the board at an address; ``secret`` is the key of boards that only some may load."""
        self.disconnect()
        master = Master(open_link(read_address(address)), self._samples, self._lost)
        try:
            self.capability = master.connect()
            if secret and self.capability.resources & LOADING:
                master.unlock(secret)
            self._master, self.address, self._secret = master, address, secret
            return self.facts()
        except BenchProblem:
            self._master = None
            master.close()
            raise

    def disconnect(self) -> None:
        """Take leave of the board, where it still answers; no thread stays."""
        master, self._master, self._sampler = self._master, None, None
        if master is not None:
            with contextlib.suppress(BenchProblem):
                master.disconnect()
            master.close()

    def _lost(self, problem: BenchProblem) -> None:
        self._on_end(problem)

    # What it is, and its status.

    def facts(self) -> BoardFacts:
        data = self.master.read(BOARD, 0, SIZE, "its status")
        facts = read_facts(data)
        if facts is None:
            raise Nonsense("its status", data)
        return facts

    def order(self, order: Order) -> BoardFacts:
        """Have it change its state. To enable takes the key of this connection, which only who reads knows."""
        if order is Order.ENABLE and self.facts().layout >= KEYED_LAYOUT:
            give_key(self.master)
        self.master.write(BOARD, ORDER_AT, order_bytes(order), order.name.lower())
        return self.facts()

    def must_match(self, description: Description) -> None:
        """Raise `OtherCode` where the code on the board was made from another drive, or from none."""
        facts = self.facts()
        if facts.checksum != description.checksum or facts.own_bytes != description.size:
            raise OtherCode(facts.checksum, description.checksum)

    # Loading.

    def load(self, image: bytes, report: Callable[[float], None] = lambda share: None) -> BoardFacts:
        """Load a program, start it, and connect again. Raises `StillEnabled` while the power stage is
        enabled."""
        if self.facts().state is BoardState.ENABLED:
            raise StillEnabled
        self._sampler = None
        self.master.load(image, report)
        until = time.monotonic() + RESTARTING
        while True:  # a board that starts is deaf for a moment
            time.sleep(0.05)
            try:
                self.capability = self.master.connect()
                if self._secret and self.capability.resources & LOADING:
                    self.master.unlock(self._secret)
                return self.facts()
            except BenchProblem:
                if time.monotonic() > until:
                    raise

    # Values.

    def read_values(self, values: Sequence[LiveValue]) -> dict[str, float]:
        """What the board has of these, in SI."""
        return {v.key: self._read(v.channel) for v in values}

    def _read(self, channel: Channel) -> float:
        spot = channel.spot
        data = self.master.read(spot.extension, spot.address, spot.bytes, channel.title)
        return float(channel.in_si(np.frombuffer(data, channel.dtype))[0])

    def read(self, channel: Channel) -> float:
        """A number on the board, in SI."""
        return self._read(channel)

    def write_value(self, description: Description, key: str, value: float) -> float:
        """Write a live value (SI); returns what the board has then. Raises `BeyondEnds` and `OtherCode`."""
        self.must_match(description)
        return self._write(description.values[key], value)

    def write_values(self, description: Description, values: Mapping[str, float]) -> dict[str, float]:
        """Write several, all or none where one is beyond its ends."""
        self.must_match(description)
        for key, value in values.items():
            must_be_within(description.values[key], value)
        return {key: self._write(description.values[key], value) for key, value in values.items()}

    def _write(self, live: LiveValue, value: float) -> float:
        must_be_within(live, value)
        channel = live.channel
        data = np.array([channel.word(value)]).astype(channel.dtype).tobytes()
        self.master.write(channel.spot.extension, channel.spot.address, data, channel.title)
        return self._read(channel)

    # Samples.

    def sample(self, channels: Sequence[Channel], every: int) -> Sampler:
        """Begin to sample; what was sampled before ends."""
        if not 1 <= every <= MOST_EVERY:
            raise NoRate(every)
        master = self.master
        self._sampler = None
        sampler = Sampler(channels, every)
        plan = master.sample([c.spot for c in channels], every)
        sampler.follow(plan)
        self._sampler = sampler
        master.start()
        return sampler

    def stop_sampling(self) -> None:
        self._sampler = None
        self.master.stop()

    def capture(
        self,
        channels: Sequence[Channel],
        trigger: Trigger,
        samples: int,
        every: int,
        description: Description,
    ) -> Capture:
        """A record at full rate, begun on the board."""
        room = self.facts().record_bytes
        record = Capture(self.master, channels, trigger, samples, every, description.tick, room)
        record.begin()
        return record

    def _samples(self, packets: list[bytes]) -> None:
        sampler = self._sampler
        if sampler is not None:
            sampler.take(packets)


class NoRate(BenchProblem):
    def __init__(self, every: int):
        super().__init__(every)
        self.every = every

    def __str__(self) -> str:
        return f"Every {self.every} ticks cannot be sampled. Choose 1 to {MOST_EVERY}."


def must_be_within(live: LiveValue, value: float) -> None:
    """Raise `BeyondEnds` for a value that the board would limit, or that is no number."""
    slack = 1e-6 * max(abs(live.low), abs(live.high))  # ends are kept in the format of the code
    if not live.low - slack <= value <= live.high + slack:
        raise BeyondEnds(live.channel.title, value, live.low, live.high, live.channel.unit)


def give_key(master: Master) -> None:
    """Show a board that we read what it says, before it is enabled."""
    master.write(BOARD, ORDER_KEY_AT, master.read(BOARD, KEY_AT, 4, "its key"), "the key")


__all__ = ["Bench", "NoRate", "give_key"]

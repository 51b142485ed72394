"""What a simulator is watched by, what it records, and what it goes on from."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from pendel.core.plant.program import Inputs, Outcome


@dataclass
class Recorded:
    """Raw result: rows of (t, states, inputs, modes) and of control signals per tick."""

    rows: np.ndarray
    ticks: np.ndarray
    outcome: Outcome
    culprit: str
    ended_at: float
    counters: dict[str, int]
    thinned_until: float = 0.0
    """Until this time (s) one row is kept for each ``thinned_to`` (s)."""
    thinned_to: float = 0.0
    computing: float = 0.0
    """Of a fixed-step run: seconds of computing in its steps, and of the slowest."""
    worst_step: float = 0.0
    remembered: dict[str, float] = field(default_factory=dict)
    """What the blocks remember at the end, by ``block.state``."""
    first_tick: int = 0
    """Number of the tick whose signals stand first; above zero where the record begins with a snapshot."""


@dataclass(frozen=True)
class Latest:
    """The last part of a record: rows and ticks as in `Recorded`, and the numbers of the first of each."""

    rows: np.ndarray
    first_row: int
    ticks: np.ndarray
    first_tick: int


@dataclass(frozen=True)
class Ring:
    """How much a run without an end keeps at least. Its older three quarters go whenever there is four times as
    much."""

    rows: int
    ticks: int


@dataclass
class Watch:
    """Shared flags of a run: set ``stop`` to end it, read ``progress`` (s); ``busy`` is above zero where it
    looks at its record and hears of a stop only afterwards."""

    stop: np.ndarray
    progress: np.ndarray
    busy: np.ndarray = field(default_factory=lambda: np.zeros(1, dtype=np.int32))

    @classmethod
    def private(cls) -> Watch:
        return cls(np.zeros(1, dtype=np.int32), np.zeros(1))

    def ask_to_stop(self) -> None:
        self.stop[0] = 1


@dataclass(frozen=True, eq=False)
class Snapshot:
    """All that decides how a run goes on from ``time`` (s), values included; the record behind it is no part
    of it.

    It can be pickled, and restored by any simulator of the same program. The bytes are trusted as code is:
    take none from files of others.
    """

    program: str
    time: float
    inputs: Inputs
    plant: np.ndarray
    """Bytes."""
    control: bytes
    branch: tuple[str, int]
    """Which record it was taken behind, and at which row."""

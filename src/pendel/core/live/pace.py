"""Simulated time against the clock."""

from __future__ import annotations

import math
import time

LONGEST_BEHIND = 0.1
"""Seconds by the clock that are caught up; what lies further back is given up, and counted."""


class Pace:
    """How far a simulation should be by now. ``factor`` is simulated time per time by the clock; infinite: as fast
    as it can."""

    def __init__(self, factor: float = 1.0):
        self.factor = factor
        self.given_up = 0.0
        """Seconds by the clock by which it fell behind for good."""
        self._clock, self._simulated = time.monotonic(), 0.0

    def begin(self, simulated: float) -> None:
        """From now on it goes from this time (s) on."""
        self._clock, self._simulated = time.monotonic(), simulated

    def change(self, factor: float, simulated: float) -> None:
        self.factor = factor
        self.begin(simulated)

    def due(self) -> float:
        """How far it should be (s)."""
        if math.isinf(self.factor):
            return math.inf
        return self._simulated + (time.monotonic() - self._clock) * self.factor

    def behind(self, simulated: float) -> float:
        """By how much a simulation is late, in seconds by the clock."""
        if math.isinf(self.factor):
            return 0.0
        late = (self.due() - simulated) / self.factor
        if late > LONGEST_BEHIND:
            self.given_up += late - LONGEST_BEHIND
            self._clock += late - LONGEST_BEHIND
            return LONGEST_BEHIND
        return max(0.0, late)

    def is_due(self, until: float) -> bool:
        """Whether it should be there (s simulated) by now. Who goes on to where it should be instead, and not by
        whole slices, computes all the time: short ones cost as much, and are followed by shorter ones."""
        return until <= self.due()

    def wait(self, simulated: float, ahead: float) -> float:
        """Seconds until it is to go on from this time by ``ahead`` (s simulated)."""
        if math.isinf(self.factor):
            return 0.0
        return max(0.0, (simulated + ahead - self.due()) / self.factor)


__all__ = ["LONGEST_BEHIND", "Pace"]

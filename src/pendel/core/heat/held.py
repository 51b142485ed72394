"""What torque heat allows over speed, as it was found: see `pendel.core.heat.holding`."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pendel.core.files.writing import write_atomically
from pendel.core.quantities.units import figure


@dataclass(frozen=True)
class HeldCurve:
    """What can be held for ``time`` (s, infinite for ever) at each speed: torque (N*m; not-a-number where not even none
    can be held) and what limits it: the title of a place, or `AS_ASKED`, `BY_DRIVE` or `BY_SPEED`."""

    time: float
    torque: np.ndarray
    limits: tuple[str, ...]

    @property
    def title(self) -> str:
        return "for ever" if math.isinf(self.time) else f"for {figure(self.time, 's', 3)}"


MOST_SPEEDS = 60
AS_ASKED, BY_DRIVE, BY_SPEED = "largest asked", "limit of the drive", "voltage at this speed"
"""What limits where all that is asked for is cool enough: nothing but that no more was asked for; what limits at
standstill, too, such as a current; or what does so only at this speed, as the link voltage does."""


@dataclass(frozen=True)
class Held:
    """``speeds`` (rad/s) and ``largest``, the torque that comes when the most is asked for (N·m), shape (n,), before
    heat has a say; ``before`` is the share of what is held for ever that had lasted until a time begins."""

    machine: str
    speeds: np.ndarray
    largest: np.ndarray
    curves: tuple[HeldCurve, ...]
    before: float
    runs: int

    def rows(self) -> list[list[str]]:
        """A head and a row for each speed, torque and limit of each curve."""
        heads = ["speed (rpm)", "at most (N·m)"]
        for curve in self.curves:
            heads += [f"{curve.title} (N·m)", f"limited {curve.title} by"]
        rows = [heads]
        for k, speed in enumerate(self.speeds):
            row = [f"{speed * 30 / math.pi:.6g}", f"{self.largest[k]:.6g}"]
            for curve in self.curves:
                row += ["" if math.isnan(curve.torque[k]) else f"{curve.torque[k]:.6g}", curve.limits[k]]
            rows.append(row)
        return rows

    def save(self, path: Path) -> None:
        """Write the rows as CSV. Raises `FileProblem`."""
        out = io.StringIO()
        csv.writer(out).writerows(self.rows())
        write_atomically(path, out.getvalue())


__all__ = ["AS_ASKED", "BY_DRIVE", "BY_SPEED", "MOST_SPEEDS", "Held", "HeldCurve"]

"""Powers of a voltage and a current between two times, and their power factor.

IEEE Std 1459-2010, section 3.1.2 (non-sinusoidal, single-phase; from memory): P = ⟨u·i⟩, S = U·I with rms values,
N = √(S² − P²), power factor P/S."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from pendel.core.errors import DriveProblem
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.measures import Pieces


@dataclass(frozen=True)
class Powers:
    """Active power (W), apparent and non-active power (VA), and power factor: not-a-number where nothing
    flows."""

    active: float
    apparent: float
    factor: float

    @property
    def non_active(self) -> float:
        return math.sqrt(max(0.0, self.apparent**2 - self.active**2))


def powers(run: KeptRun, voltage: str, current: str, start: float, end: float) -> Powers:
    """Of two signals of a run, over a window (s).

    Raises
    ------
    DriveProblem
        where one is a sampled signal and the other is not, they do not have the same ticks, or the run was thinned
        where the window begins.
    """
    u, i = run.pieces(voltage), run.pieces(current)
    if (u.middle is None) != (i.middle is None) or not np.array_equal(u.t, i.t):
        raise DriveProblem(
            f"{voltage} and {current} are not known at the same times, so there is no power of them. Take "
            f"both from the "
            "power deck, or both from blocks of one sampling period."
        )
    run.must_be_whole(voltage, start, "powers")
    size_u, size_i = u.rms(start, end), i.rms(start, end)
    apparent = size_u * size_i
    if not apparent > 0:
        return Powers(0.0 if apparent == 0 else math.nan, apparent, math.nan)
    # ⟨x·y⟩ from the mean squares of x + y and x − y: of what lies between the points then counts what rms
    # values count.
    more, less = (_sum(u, i, 1 / size_u, sign / size_i).rms(start, end) for sign in (1.0, -1.0))
    share = (more**2 - less**2) / 4
    return Powers(share * apparent, apparent, share)


def _sum(u: Pieces, i: Pieces, a: float, b: float) -> Pieces:
    """a·u + b·i, without what was thinned."""
    middle = None if u.middle is None or i.middle is None else a * u.middle + b * i.middle
    return Pieces(u.t, a * u.y + b * i.y, middle)

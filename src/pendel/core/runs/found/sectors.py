"""The sectors of block commutation along a run."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pendel.core.runs.found.run_roles import signals_with
from pendel.core.runs.record.kept import KeptRun
from pendel.core.vocabulary import SignalRole


@dataclass(frozen=True)
class Sectors:
    """Sector ``number[k]`` (1 to 6, 0 unknown) holds from ``begins[k]`` (s) to the next; shape (n,) each."""

    begins: np.ndarray
    number: np.ndarray
    end: float

    def at(self, time: float) -> int:
        k = int(np.searchsorted(self.begins, time, side="right")) - 1
        return int(self.number[k]) if k >= 0 else 0


def sector_signals(run: KeptRun) -> list[str]:
    """Signals of a run that give a sector."""
    return [key for key in signals_with(run, SignalRole.SECTOR) if key in run.tick_signals]


def sectors_of(run: KeptRun, signal: str) -> Sectors:
    """Where the sector that a signal gives changes."""
    trace = run.trace(signal)
    number = np.rint(trace.y).astype(int)
    changes = np.concatenate([[0], np.flatnonzero(np.diff(number)) + 1]) if len(number) else np.empty(0, int)
    return Sectors(trace.t[changes], number[changes], run.end)


def rotor_angle(run: KeptRun, time: float) -> float:
    """Electrical angle (rad) of the first machine that has one; not a number where none has."""
    key = next(iter(signals_with(run, SignalRole.ROTOR_ANGLE)), "")
    if not key:
        return float("nan")
    trace = run.trace(key)
    return float(np.interp(time, trace.t, np.unwrap(trace.y)))

"""Traces that are kept with the rows of a series: what is seen of them in a picture, both extremes of each piece."""

from __future__ import annotations

import contextlib
import math
import os
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pendel.core.errors import DriveProblem
from pendel.core.plant.program import Doubles
from pendel.core.runs.record.drawn import thinned
from pendel.core.runs.record.kept import KeptRun
from pendel.core.wording import megabytes

COLUMNS = 200
"""Half as many as the pieces of a trace, of each of which both extremes are kept."""
MOST_POINTS = 4 * COLUMNS + 4
"""Of a kept trace."""
VARIABLE, USUAL_MB = "PENDEL_SERIES_MB", 1000
"""Of the environment: what the traces of one series may take on disk."""


@dataclass(frozen=True)
class RowTrace:
    """A signal in a row: times (s) and values (SI), both shape (n,), with steps as they are drawn."""

    number: int
    t: Doubles
    y: Doubles


def kept_of(run: KeptRun, signals: Sequence[str]) -> tuple[Doubles, ...]:
    """What is kept of signals of a run: times and values, each shape (2, n). A signal that a row has not is empty."""
    run.fetch([key for key in signals if key in run.structure.signals])
    return tuple(_kept(run, key) for key in signals)


def _kept(run: KeptRun, key: str) -> Doubles:
    if key not in run.keys:
        return np.zeros((2, 0))
    t, y = run.trace(key).drawn
    return np.vstack(thinned(np.asarray(t, float), np.asarray(y, float), -math.inf, math.inf, COLUMNS))


def written(trace: Doubles) -> bytes:
    """As a store has it. Raises `ValueError` for what is no trace, such as from a process that fails."""
    if trace.ndim != 2 or trace.shape[0] != 2 or trace.shape[1] > MOST_POINTS or trace.dtype != np.float64:
        raise ValueError(f"a trace of shape {trace.shape}")
    return trace.astype("<f8").tobytes()


def read(number: int, kept: bytes) -> RowTrace:
    """The inverse of `written`. Raises `ValueError`."""
    t, y = np.frombuffer(kept, "<f8").reshape(2, -1).astype(float)
    return RowTrace(number, t, y)


def expected_bytes(signals: int, count: int) -> int:
    """Of traces on disk, at most."""
    return 16 * MOST_POINTS * signals * count


def allowed_bytes() -> int:
    """What the traces of one series may take; what is no number of MB from 1 on is passed over."""
    with contextlib.suppress(ValueError):
        if (wanted := int(os.environ.get(VARIABLE, ""))) >= 1:
            return wanted * 10**6
    return USUAL_MB * 10**6


def allow_megabytes(count: int) -> None:
    """Let the traces of a series take as much from now on."""
    os.environ[VARIABLE] = str(count)


def refuse_too_many(signals: int, count: int) -> None:
    """Raises `DriveProblem` where traces would take more than is allowed."""
    size = expected_bytes(signals, count)
    if size > allowed_bytes():
        raise DriveProblem(
            f"Traces of {signals} signal{'s' * (signals > 1)} in {count} rows may take {megabytes(size)}, and "
            f"{megabytes(allowed_bytes())} are allowed. Keep fewer, or allow more: Preferences, Work, or {VARIABLE}."
        )

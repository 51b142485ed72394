"""Verbs about the way from one point of a drive to another: its linear model, and the same measured in a
run."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.drive.document import Drive, KeptTransfer
from pendel.core.errors import DriveProblem

if TYPE_CHECKING:
    from pendel.core.loops.models.sweep import SweptPoint
    from pendel.core.loops.models.transfer import Transfer


@dataclass(frozen=True)
class PoleReport:
    """``natural`` in Hz; infinite for what is gone within a sample. ``states``: those it lives in."""

    natural: float
    damping: float
    stable: bool
    states: list[str]


@dataclass(frozen=True)
class SweptReport:
    """What a sine of ``amplitude`` (SI) at ``frequency`` (Hz) gave, beside the model."""

    frequency: float
    magnitude: float
    phase: float
    off_db: float
    off_degrees: float
    harmonics: float
    amplitude: float
    linear: bool


@dataclass(frozen=True)
class TransferReport:
    """A linear model between two points. ``order`` is that of its minimal realisation, ``left_out`` what that
    does without; the margins are NaN where it is no loop, ``crossover`` is in Hz, ``phase_margin`` in
    degrees, ``gain_margin`` in dB."""

    source: str
    target: str
    opened: list[str]
    point: str
    dt: float
    states: int
    order: int
    poles: list[PoleReport]
    left_out: list[str]
    crossover: float
    phase_margin: float
    gain_margin: float
    ms: float
    remarks: list[str]
    swept: list[SweptReport]
    transfer: Transfer = field(repr=False)
    """The model itself."""

    def save(self, path: Path) -> None:
        """Write the model by the ending of the file. Raises `FileProblem`."""
        from pendel.core.formats.linear_models import save_model

        save_model(self.transfer, path)


def linear_between(
    drive: Drive,
    *,
    source: str | None = None,
    target: str | None = None,
    opened: Iterable[str] = (),
    at: str | None = None,
    swept: Iterable[str] = (),
    continuous: bool = False,
) -> TransferReport:
    """The linear model between two points of a drive with its converters averaged, and the same measured in
    runs at its level of detail.

    Parameters
    ----------
    source, target, opened
        signals, or taps by their names.
    at
        rest, steady, built up, end, any, measured, or a time in a run; any without it.
    continuous
        margins as of a continuous drive, with delays as such, where it can be seen so.
    swept
        frequencies, or ``usual`` for forty of them.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.drive.user_text import read_figure
    from pendel.core.loops.judging.looked_at import looked_at
    from pendel.core.loops.models.sweep import Sweep, usual_frequencies
    from pendel.core.runs.preparing.simulate import prepare

    if not source or not target:
        raise DriveProblem("A model goes from one signal to another. Name both, with --from and --to.")
    seen = looked_at(drive, KeptTransfer(source, target, tuple(opened), at or ""))
    smooth = seen.as_continuous() if continuous else None
    transfer, minimum, loop = seen.transfer, seen.minimal, (smooth or seen).loop
    ends = transfer.ends
    points: tuple[SweptPoint, ...] = ()
    if wished := list(swept):
        usual = wished == ["usual"]
        measured = usual_frequencies(transfer).tolist() if usual else [read_figure(drive, f, "Hz", 0.0) for f in wished]
        points = Sweep(prepare(drive), transfer).run(measured).points
    return TransferReport(
        ends.source,
        ends.target,
        list(ends.opened),
        transfer.point.name,
        transfer.model.dt,
        len(transfer.model.states),
        len(minimum.model.states),
        [PoleReport(p.natural, p.damping, not transfer.grows(p), [n for n, _ in p.states]) for p in minimum.poles],
        [f"{each.reason}: {', '.join(n for n, _ in each.pole.states)}" for each in minimum.left_out],
        *((loop.crossover, loop.phase, loop.gain_db, loop.ms) if loop else (math.nan,) * 4),
        list(transfer.remarks),
        [swept_report(p) for p in points],
        transfer,
    )


def swept_report(point: SweptPoint) -> SweptReport:
    import cmath

    return SweptReport(
        point.frequency,
        abs(point.response),
        math.degrees(cmath.phase(point.response)),
        point.off_db,
        point.off_degrees,
        point.harmonics,
        point.amplitude,
        point.linear,
    )

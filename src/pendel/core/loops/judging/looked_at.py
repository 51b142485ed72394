"""All that a page shows of the way between two points, worked out beside it."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from pendel.core.drive.document import Drive, KeptTransfer
from pendel.core.drive.file import from_text
from pendel.core.drive.user_text import read_figure
from pendel.core.errors import DriveProblem
from pendel.core.loops.mechanics.calming import DAMPED, By, Calming, calming
from pendel.core.loops.mechanics.mechanics import mechanics_of
from pendel.core.loops.mechanics.modes import Mechanics
from pendel.core.loops.models.margins import Margins, margins
from pendel.core.loops.models.realisation import Minimal, minimal, zeros_of
from pendel.core.loops.models.sweep import Sweep
from pendel.core.loops.models.transfer import ANY, PLACES, PLACES_OF_WAYS, REST, Ends, Transfer, points_for
from pendel.core.loops.regulators.between import model_between
from pendel.core.runs.preparing.simulate import averaged, prepare, prepare_run

CREEPS, SHOWN = 0.1, 5.0
"""A step has moved once it stays within this share of its end; so many times as long is shown."""


@dataclass(frozen=True)
class LookedAt:
    """``frequency`` in Hz; ``response`` complex; ``t`` in s and ``y`` after a step of one; ``loop`` where it
    comes back to where it began, with the sign of negative feedback taken out."""

    transfer: Transfer
    minimal: Minimal
    zeros: np.ndarray
    frequency: np.ndarray
    response: np.ndarray
    t: np.ndarray
    y: np.ndarray
    loop: Margins | None

    def as_continuous(self) -> LookedAt | None:
        """Its curves as of a continuous drive, delays as such; None where that cannot be given."""
        if self.transfer.smooth is None:
            return None
        frequency, response = self.transfer.smooth
        loop = self.loop and margins(frequency, -response, stable=self.loop.stable)
        return replace(self, frequency=frequency, response=response, loop=loop)

    @property
    def shown(self) -> np.ndarray:
        """The response; of a loop L, with the sign of negative feedback taken out."""
        return self.response if self.loop is None else -self.response


def ends_of(drive: Drive, kept: KeptTransfer) -> Ends:
    """A kept way, its taps resolved. Raises `DriveProblem`."""

    def named(name: str) -> str:
        return str(drive.taps[name]) if name in drive.taps else name

    return Ends(named(kept.source), named(kept.target), tuple(map(named, kept.opened)), place_of(drive, kept.at))


def place_of(drive: Drive, at: str, known: Collection[str] = PLACES_OF_WAYS) -> str | float:
    """An operating point by its name, or a time in a run (s). Raises `DriveProblem`."""
    if (at or ANY) in known:
        return at or ANY
    try:
        return read_figure(drive, at, "s", 0.0)
    except DriveProblem as problem:
        words = f"“{at}” is no operating point. Choose {', '.join(known)}, or a time in a run."
        raise DriveProblem(words) from problem


def mechanics_at(drive: Drive, at: str = "") -> Mechanics:
    """The modes of a drive about an operating point; at rest with everything in contact without one. Raises as
    `transfer`."""
    prepared = prepare(averaged(drive))
    place = place_of(drive, at, PLACES)
    if place in (ANY, REST):
        return mechanics_of(prepared)
    return mechanics_of(prepared, next(points_for(prepared, Ends("", "", at=place))))


def looked_at(drive: Drive, kept: KeptTransfer, stopping: Callable[[], bool] = lambda: False) -> LookedAt:
    """Raises as `model_between`."""
    transfer = model_between(drive, ends_of(drive, kept), stopping)
    frequency = transfer.frequencies()
    response = transfer.response(frequency)
    around = transfer.ends.source == transfer.ends.target
    loop = margins(frequency, -response, stable=True) if around else None
    minimum = minimal(transfer.model)
    return LookedAt(transfer, minimum, zeros_of(minimum.model), frequency, response, *step_that_shows(transfer), loop)


def calming_of(
    drive: Drive, by: By, number: int = 1, at: str = "", speed: str = "", damping: float = DAMPED
) -> Calming:
    """What to put against a mode of a drive: `calming`."""
    prepared = prepare(averaged(drive))
    return calming(prepared, mechanics_of(prepared), by, number, at=at, speed=speed, damping=damping)


def step_that_shows(transfer: Transfer) -> tuple[np.ndarray, np.ndarray]:
    """The step for as long as it moves: what creeps for long after that would hide it."""
    t, y = transfer.step()
    with np.errstate(invalid="ignore", over="ignore"):
        away = np.flatnonzero(np.abs(y - y[-1]) > CREEPS * np.ptp(y))
    settled = t[away[-1]] if len(away) and np.all(np.isfinite(y)) else t[-1]
    shortest = 30 * (transfer.lifted.tick if transfer.lifted is not None else 0.0)
    span = max(SHOWN * float(settled), shortest)
    return transfer.step(span) if 0 < span < 0.3 * t[-1] else (t, y)


@lru_cache(maxsize=1)
def sweep_of(drive_text: str, kept: KeptTransfer) -> Sweep:
    """The last sweep that was asked for, prepared once, as its frequencies come in pieces. Raises as `Sweep`, also
    where the drive brings C that was not allowed before."""
    drive = from_text(drive_text)
    return Sweep(prepare_run(drive), model_between(drive, ends_of(drive, kept)))


__all__ = ["LookedAt", "calming_of", "ends_of", "looked_at", "mechanics_at", "place_of", "sweep_of"]

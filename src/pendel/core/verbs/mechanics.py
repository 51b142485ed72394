"""Verbs about what moves in a drive: its modes, and blocks against them."""

from __future__ import annotations

from dataclasses import dataclass

from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem
from pendel.core.verbs.changing import apply


@dataclass(frozen=True)
class ModeReport:
    """``frequency`` (natural) and ``held`` in Hz; ``shape``: speeds of bodies seen from the first, the largest 1;
    ``elastic``: shares of its energy by what gives way."""

    number: int
    name: str
    frequency: float
    damping: float
    shape: dict[str, float]
    elastic: dict[str, float]


@dataclass(frozen=True)
class ChainReport:
    """Bodies on shafts and rods that are connected; ``inertia`` is all of it, seen from the first body, in its
    unit; ``held`` natural frequencies (Hz) while the first is held."""

    bodies: list[str]
    inertia: float
    held: list[float]
    modes: list[ModeReport]


@dataclass(frozen=True)
class MechanicsReport:
    at: str
    chains: list[ChainReport]
    remarks: list[str]


@dataclass(frozen=True)
class CalmedReport:
    """What was put in: behind ``at``, by ``how``; for a damping loop its gain (SI), the speed it feeds back, and the
    damping of the mode before and with it."""

    how: str
    at: str
    frequency: float
    speed: str
    gain: float
    before: float
    reached: float
    remarks: list[str]


def modes(drive: Drive, *, at: str | None = None) -> MechanicsReport:
    """Natural frequencies, damping and shapes of what swings in a drive.

    Parameters
    ----------
    at
        steady, built up, end or a time in a run; at rest with everything in contact without it.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.loops.judging.looked_at import mechanics_at

    mechanics = mechanics_at(drive, at or "")
    numbers = {id(mode): n for n, (_, mode) in enumerate(mechanics.modes, 1)}
    chains = [
        ChainReport(
            [b.name for b in chain.bodies],
            chain.inertia,
            list(chain.held),
            [
                ModeReport(
                    numbers[id(mode)],
                    mode.name,
                    mode.frequency,
                    mode.damping,
                    {b.name: mode.shape[b.state].real for b in chain.bodies},
                    {s.name: mode.elastic[s.state] for s in chain.springs},
                )
                for mode in chain.modes
            ],
        )
        for chain in mechanics.chains
    ]
    return MechanicsReport(mechanics.at, chains, list(mechanics.remarks))


def calm(
    drive: Drive,
    *,
    by: str | None = None,
    mode: str | None = None,
    behind: str | None = None,
    speed: str | None = None,
    damping: str | None = None,
) -> CalmedReport:
    """Put blocks that fit against a mode of the mechanics.

    Parameters
    ----------
    by
        notch, low-pass or damping; damping without it.
    mode
        its number, slowest first; 1 without it.
    behind
        the block output that they act on; the torque, force or current nearest to the plant without it.
    speed
        what a damping loop feeds back; that of the first body without it.
    damping
        for a damping loop to reach; 0.3 without it.

    Raises
    ------
    DriveHasFindings, DriveProblem
    """
    from pendel.core.drive.user_text import read_figure
    from pendel.core.loops.judging.looked_at import calming_of
    from pendel.core.loops.mechanics.calming import DAMPED, command_for, means_of

    if mode and not mode.strip().isdigit():
        raise DriveProblem(f"“{mode}” is no number of a mode. Count from 1, the slowest.")
    calming = calming_of(
        drive,
        means_of(by or "damping"),
        int(mode or 1),
        tap_or_signal(drive, behind or ""),
        tap_or_signal(drive, speed or ""),
        read_figure(drive, damping, "", DAMPED),
    )
    apply(drive, command_for(drive, calming))
    return CalmedReport(
        calming.by.value,
        calming.at,
        calming.frequency,
        calming.speed,
        calming.gain,
        calming.before,
        calming.reached,
        list(calming.remarks),
    )


def tap_or_signal(drive: Drive, name: str) -> str:
    return str(drive.taps[name]) if name in drive.taps else name


__all__ = ["CalmedReport", "ChainReport", "MechanicsReport", "ModeReport", "calm", "modes"]

"""Strips that somebody lays out by naming signals."""

from __future__ import annotations

from collections.abc import Sequence

from pendel.core.catalogue.index import kind_of
from pendel.core.drive.document import Drive
from pendel.core.drive.views import View, ViewStrip
from pendel.core.errors import DriveProblem
from pendel.core.vocabulary import SignalRole


def setpoints_of(drive: Drive) -> set[str]:
    """Signals that something in the drive follows."""
    found = set()
    for wire in drive.wires.values():
        try:
            ports = kind_of(drive.cards[wire.b.card]).port_names(SignalRole.SETPOINT)
        except (DriveProblem, KeyError):
            continue
        if wire.b.port in ports:
            found.add(str(wire.a))
    return found


def laid_out(
    drive: Drive, strips: Sequence[Sequence[str]], cursors: tuple[float, ...] = (), heights: Sequence[float] = ()
) -> View:
    """A view with these signals on its strips, those that something follows dashed. ``heights`` are those of the first
    strips, others have the usual one. Raises `DriveProblem` for more heights than strips."""
    if len(heights) > len(strips):
        raise DriveProblem(f"There are {len(heights)} heights for {len(strips)} strips. Give one for each.")
    dashed = setpoints_of(drive)
    high = [float(height) for height in heights] + [1.0] * (len(strips) - len(heights))
    made = (
        ViewStrip(tuple(strip), tuple(s for s in strip if s in dashed and len(strip) > 1), height)
        for strip, height in zip(strips, high)
    )
    return View(tuple(made), tuple(cursors))

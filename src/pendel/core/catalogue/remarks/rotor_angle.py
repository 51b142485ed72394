"""Whether what the controller takes for the rotor's angle is the machine's: Hall lines swapped, sensors or
encoders turned."""

from __future__ import annotations

import itertools

import numpy as np

from pendel.core.catalogue.control.sectors import FIRST_EDGE, HALLS
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.drive.findings import Remark
from pendel.core.vocabulary import SignalRole

LINES = "abc"
NEARLY_ALL, TOO_FEW = 0.9, 0.8
"""Shares of ticks at which the sensors tell the machine's sector."""
SECTOR = np.pi / 3
WORTH_TELLING = np.radians(15.0)
SETTLED = 0.2
"""rad: how far the difference of two angles may scatter and still be an offset."""


def hall_fault(seen: Seen, decoder: str) -> Remark | None:
    """Whether a decoder's Hall lines tell the sector of the machine whose sensors they come from."""
    ends = [e for n in seen.kinds[decoder].port_names(SignalRole.HALL_LINE) if (e := seen.source(decoder, n))]
    sensor = ends[0].card if len(ends) == 3 else ""
    if not sensor or any(str(e) not in seen.signals(sensor, SignalRole.HALL_LINE) for e in ends):
        return None
    machine = seen.machine_turning(sensor)
    if not machine or not len(seen.ticks):
        return None
    lines_on = seen.at_ticks([str(e) for e in ends], seen.ticks) > 0.5
    angle = seen.rotor_angle(machine, seen.ticks)

    def fits(lines: tuple[int, ...], turned: int) -> float:
        sector = np.floor((angle - FIRST_EDGE) / SECTOR + turned).astype(int) % 6 + 1
        meant = np.array([[HALLS[s][n] for s in range(1, 7)] for n in range(3)]) > 0.5
        return float(np.mean(np.all(lines_on[list(lines)] == meant[:, sector - 1], axis=0)))

    if fits((0, 1, 2), 0) >= TOO_FEW:
        return None
    name = seen.name(decoder)
    for lines in sorted(itertools.permutations(range(3)), key=lambda p: sum(a != b for a, b in zip(p, range(3)))):
        if fits(lines, 0) >= NEARLY_ALL:
            moved = [LINES[n] for n, line in enumerate(lines) if line != n]
            words = " and ".join(moved) if len(moved) == 2 else "a, b and c"
            verb = "are swapped" if len(moved) == 2 else "are each one line on"
            return Remark(
                f"{name}: the Hall lines {words} {verb}, so that the wrong phases are driven. Swap them "
                "back at the sensor or at the decoder.",
                sensor,
                0.0,
            )
    for turned in range(1, 6):
        if fits((0, 1, 2), turned) >= NEARLY_ALL:
            degrees = 60 * turned if turned <= 3 else 60 * turned - 360
            return Remark(
                f"{name}: the Hall sensors are {abs(degrees)} electrical degrees "
                f"{'ahead of' if degrees > 0 else 'behind'} the machine. Turn them back or change the "
                "commutation.",
                sensor,
                0.0,
            )
    return None


def angle_fault(seen: Seen, block: str) -> Remark | None:
    """Whether the electrical angle that a block makes of a position is the machine's."""
    sensor = seen.source(block, "position")
    machine = seen.machine_turning(sensor.card) if sensor is not None else ""
    if not machine or not len(seen.ticks):
        return None
    given = seen.at_ticks([f"{block}.angle"], seen.ticks)[0]
    gap = np.exp(1j * (given - seen.rotor_angle(machine, seen.ticks)))
    middle = np.mean(gap)
    offset = float(np.angle(middle))
    if abs(offset) < WORTH_TELLING or 1 - abs(middle) > SETTLED**2 / 2:
        return None
    side = "ahead of" if offset > 0 else "behind"
    return Remark(
        f"{seen.name(block)}: its angle is {abs(np.degrees(offset)):.0f}° {side} the machine's, so that the "
        "current turns out along the wrong axis. Correct its offset or the sensor's place.",
        block,
        0.0,
    )

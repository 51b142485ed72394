"""Whether what the controller takes for the rotor's angle is the machine's: Hall lines swapped, sensors or
encoders turned."""

from __future__ import annotations

import itertools

import numpy as np

from pendel.core.catalogue.control.commutation import FIRST_EDGE, HALLS
from pendel.core.drive.document import Drive
from pendel.core.runs.kept import KeptRun, Remark

LINES = "abc"
NEARLY_ALL, TOO_FEW = 0.9, 0.8
"""Shares of ticks at which the sensors tell the machine's sector."""
SECTOR = np.pi / 3
WITH_MAGNETS = ("pmsm", "pmsm_tables", "trapezoidal")
"""Kinds whose rotor has an electrical angle of its own."""
WORTH_TELLING = np.radians(15.0)
MOST_TICKS = 200
SETTLED = 0.2
"""rad: how far the difference of two angles may scatter and still be an offset."""


def orientation_faults(run: KeptRun, drive: Drive) -> list[Remark]:
    """A remark on each Hall decoder and electrical angle that does not fit its machine."""
    if not len(some_ticks(run)):
        return []
    sources = {str(w.b): w.a for w in drive.wires.values()}
    found: list[Remark | None] = []
    for key, card in drive.cards.items():
        if card.kind == "hall_decoder":
            found.append(hall_fault(run, drive, key, sources))
        elif card.kind == "electrical_angle":
            found.append(angle_fault(run, drive, key, sources))
    return [remark for remark in found if remark is not None]


def machine_behind(drive: Drive, sources: dict, sensor: str, port: str) -> str:
    """The machine whose shaft angle a sensor measures; empty where it is none with a rotor's angle of its
    own."""
    end = sources.get(f"{sensor}.{port}")
    if end is None:
        return ""
    known = end.port == "angle" and drive.cards[end.card].kind in WITH_MAGNETS
    return end.card if known else ""


def some_ticks(run: KeptRun) -> np.ndarray:
    """Numbers of up to `MOST_TICKS` ticks, evenly over what of the run is kept in full."""
    first = int(np.ceil(run.thinned_until / run.tick))
    count = min(len(run.ticks) - first, MOST_TICKS)
    return np.linspace(first, len(run.ticks) - 1, max(0, count)).astype(int)


def true_angle(run: KeptRun, machine: str, ticks: np.ndarray) -> np.ndarray:
    return run.on_rows([f"{machine}.angle_e"], run.rows_of(ticks))[:, 0]


def hall_fault(run: KeptRun, drive: Drive, decoder: str, sources: dict) -> Remark | None:
    ends = [e for n in LINES if (e := sources.get(f"{decoder}.h_{n}")) is not None]
    sensor = ends[0].card if len(ends) == 3 else ""
    if not sensor or any(e.card != sensor for e in ends) or drive.cards[sensor].kind != "hall_sensors":
        return None
    machine = machine_behind(drive, sources, sensor, "angle")
    if not machine:
        return None
    ticks = some_ticks(run)
    seen = run.on_ticks([str(e) for e in ends], ticks).T > 0.5
    angle = true_angle(run, machine, ticks)

    def fits(lines: tuple[int, ...], turned: int) -> float:
        sector = np.floor((angle - FIRST_EDGE) / SECTOR + turned).astype(int) % 6 + 1
        meant = np.array([[HALLS[s][n] for s in range(1, 7)] for n in range(3)]) > 0.5
        return float(np.mean(np.all(seen[list(lines)] == meant[:, sector - 1], axis=0)))

    if fits((0, 1, 2), 0) >= TOO_FEW:
        return None
    name = drive.cards[decoder].name
    for lines in sorted(
        itertools.permutations(range(3)), key=lambda p: sum(a != b for a, b in zip(p, range(3)))
    ):
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


def angle_fault(run: KeptRun, drive: Drive, block: str, sources: dict) -> Remark | None:
    sensor = sources.get(f"{block}.position")
    if sensor is None:
        return None
    measured = {"encoder": "angle"}.get(drive.cards[sensor.card].kind, "measured")
    machine = machine_behind(drive, sources, sensor.card, measured)
    if not machine:
        return None
    ticks = some_ticks(run)
    gap = np.exp(1j * (run.on_ticks([f"{block}.angle"], ticks)[:, 0] - true_angle(run, machine, ticks)))
    middle = np.mean(gap)
    offset = float(np.angle(middle))
    if abs(offset) < WORTH_TELLING or 1 - abs(middle) > SETTLED**2 / 2:
        return None
    card = drive.cards[block]
    side = "ahead of" if offset > 0 else "behind"
    return Remark(
        f"{card.name}: its angle is {abs(np.degrees(offset)):.0f}° {side} the machine's, so that the "
        "current turns out along the wrong axis. Correct its offset or the sensor's place.",
        block,
        0.0,
    )

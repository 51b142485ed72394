"""The few numbers of a machine with its converter that a trip takes, fitted to operating points; how far they are off
is reported by points that the fit did not see."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import nnls

from pendel.core.catalogue.systems.envelope import KIND, TERMS, UNITS, loss_terms
from pendel.core.drive.document import Drive
from pendel.core.envelope.bench import bench_of, held_at
from pendel.core.envelope.points import Point, between, grid, run_points
from pendel.core.errors import DriveProblem

SMALL = 0.02
"""Of the largest power: where less goes through, an error counts as a fraction of this."""
REACHED = 0.98
"""Of a torque that was asked: what counts as reached."""
ABLE = 0.2
"""Of the largest torque: where more than that drives, none that is asked for is none."""
LEFT, ALL = 0.5, 0.8
"""Of the bench's link voltage: without torque below, all of it from. Not measured: an assumption, to be changed."""


@dataclass(frozen=True)
class Made:
    """``values`` are texts for a card of the kind `KIND`; ``points`` the fit's and ``checks`` those it did not see.
    Errors are of the link's power, over that power or `SMALL` of the largest: ``worst`` and ``rms`` of the checks,
    ``at`` the check that is worst; ``fit_worst`` of the fit's own points."""

    machine: str
    values: dict[str, str]
    points: tuple[Point, ...]
    checks: tuple[Point, ...]
    worst: float
    rms: float
    at: Point
    fit_worst: float
    per: float
    """Torque (N·m) at standstill for one of what is asked for (SI)."""
    torque_misfit: float
    """How far the torque of a point is from that times what was asked, within its limits and less the drag; of the
    largest torque."""
    drag: tuple[float, float]
    """N·m·s and N·m·s²: the torque that is missing where none is asked for, by speed and by its square."""
    limits: tuple[tuple[float, float, float], ...]
    """Speed (rad/s), and the most torque (N·m) before that drag that drove and that braked there."""
    link: float
    """V, of the bench."""
    errors: tuple[tuple[float, ...], tuple[float, ...]]
    """Of ``points`` and of ``checks``, as ``worst`` counts them, with their signs."""


def made_of(points: Sequence[Point], checks: Sequence[Point], machine: str, lag: float, link: float) -> Made:
    """Fit the losses with coefficients of zero or more, each point weighed by what its error counts.

    Raises
    ------
    DriveProblem
        where no torque came.
    """
    w, m, loss = (np.array([getattr(p, name) for p in points]) for name in ("speed", "torque", "loss"))
    largest = float(np.max(np.abs(m), initial=0.0))
    if not largest > 0:
        raise DriveProblem(
            "No torque came at any point. Choose where the torque of this machine is asked for, and look at the drive "
            "on a test bench."
        )
    power = float(np.max(np.abs(m * w)))
    terms = loss_terms(w, m, largest)
    counts = 1 / np.maximum(np.abs(m * w + loss), SMALL * power)
    sizes = np.max(np.abs(terms), axis=0)
    coefficients = nnls(terms * counts[:, None] / sizes, loss * counts)[0] / sizes
    numbers = dict(zip(TERMS, map(float, coefficients)))
    values = {name: _text(number, UNITS[name]) for name, number in numbers.items()}
    values |= {
        "M_max": _text(largest, "N*m"),
        "P_max": _text(_most_power(points, power), "W"),
        "T_lag": _text(lag, "s"),
        "U_low": _text(LEFT * link, "V"),
        "U_full": _text(ALL * link, "V"),
    }

    def errors(of: Sequence[Point]) -> np.ndarray:
        speed, torque, lost = (np.array([getattr(p, name) for p in of]) for name in ("speed", "torque", "loss"))
        through = np.maximum(np.abs(torque * speed + lost), SMALL * power)
        return np.asarray((loss_terms(speed, torque, largest) @ coefficients - lost) / through)

    off, own = errors(checks), errors(points)
    per = proportion(points)
    worst = int(np.argmax(np.abs(off)))
    return Made(
        machine,
        values,
        tuple(points),
        tuple(checks),
        float(np.abs(off[worst])),
        float(np.sqrt(np.mean(off**2))),
        checks[worst],
        float(np.abs(own).max()),
        per,
        misfit_of(points, per),
        drag_of(points),
        limits_of(points),
        link,
        (tuple(own.tolist()), tuple(off.tolist())),
    )


def proportion(points: Sequence[Point]) -> float:
    """Torque for one of what is asked for, at the lowest speed, points aside where no more torque comes; 1 where there
    are none."""
    slow = [p for p in points if p.speed == min(each.speed for each in points)]
    most = max(abs(p.torque) for p in slow)
    ratios = [p.torque / p.asked for p in slow if p.asked and SMALL * most < abs(p.torque) < REACHED * most]
    return float(np.median(ratios)) if ratios else 1.0


def misfit_of(points: Sequence[Point], per: float) -> float:
    """See `Made.torque_misfit`."""
    linear, square = drag_of(points)
    limits = {speed: (drives, brakes) for speed, drives, brakes in limits_of(points)}
    off = []
    for p in points:
        drives, brakes = limits[p.speed]
        foretold = max(-brakes, min(drives, per * p.asked)) - linear * p.speed - square * p.speed**2
        off.append(abs(foretold - p.torque))
    return max(off) / max(abs(p.torque) for p in points)


def drag_of(points: Sequence[Point]) -> tuple[float, float]:
    """By speed and by its square, from where no torque is asked for, at speeds at which its regulator could give any:
    above, the machine brakes as its voltage is beyond the link's."""
    most = {speed: max(p.torque for p in points if p.speed == speed) for speed in {p.speed for p in points}}
    able = {speed for speed, torque in most.items() if torque > ABLE * max(most.values())}
    idle = [(p.speed, -p.torque) for p in points if p.asked == 0 and p.speed > 0 and p.speed in able]
    if not idle:
        return 0.0, 0.0
    w, m = np.array(idle).T
    sizes = w.max(), w.max() ** 2
    linear, square = nnls(np.stack([w, w * w], axis=1) / sizes, m)[0] / sizes
    return float(linear), float(square)


def limits_of(points: Sequence[Point]) -> tuple[tuple[float, float, float], ...]:
    """See `Made.limits`. What drives is less than 0 where the machine brakes whatever is asked for."""
    linear, square = drag_of(points)
    found = []
    for speed in sorted({p.speed for p in points}):
        drag = linear * speed + square * speed**2
        torques = [p.torque + drag for p in points if p.speed == speed]
        found.append((speed, max(torques), max(0.0, -min(torques))))
    return tuple(found)


def _most_power(points: Sequence[Point], otherwise: float) -> float:
    """Power at which what is asked gives no longer the torque that it gives at standstill: the largest where so."""
    slow = {p.asked: p.torque for p in points if p.speed == 0}
    short = [p.torque * p.speed for p in points if p.asked in slow and 0 < p.torque < REACHED * slow[p.asked]]
    return max(short, default=otherwise)


def _text(number: float, unit: str) -> str:
    return f"{100 * number:.5g} %" if unit == "%" else f"{number:.5g} {unit}"


def make(
    drive: Drive,
    machine: str,
    torque: str,
    top: float,
    top_speed: float,
    *,
    speeds: int = 8,
    torques: int = 12,
    checks: int = 12,
    length: float = 0.0,
    temperature: float = math.nan,
    progress: Callable[[str], None] = lambda _: None,
    stopping: Callable[[], bool] = lambda: False,
) -> Made:
    """Cut a machine out of a drive, run it over speeds and torques, and fit.

    Parameters
    ----------
    machine, torque
        the machine's card, and the output of a block that asks for its torque, ``card.port``.
    top, top_speed
        what is asked for at most (SI, in the unit of that output), and the largest speed (rad/s) of the map.
    length
        s, of the first run of a point; the drive's own where it is 0.
    temperature
        °C, at which all is held that gives heat away; not-a-number for the drive as it is.

    Raises
    ------
    DriveProblem, DriveHasFindings, RunProblem
    """
    if not (top > 0 and top_speed > 0):
        raise DriveProblem("The largest torque and the largest speed of a map are above 0.")
    if not (2 <= speeds <= 60 and 4 <= torques <= 60 and 1 <= checks <= 500):
        raise DriveProblem("A map has 2 to 60 speeds, 4 to 60 torques, and 1 to 500 points that check it.")
    bench = bench_of(drive, machine, torque)
    if not math.isnan(temperature):
        bench = held_at(bench, temperature)
    from pendel.core.check.rules import examine

    length = length or examine(bench.drive).settings["until"]
    places = grid(top_speed, top, speeds, torques)
    apart = between(top_speed, top, checks)
    points = run_points(bench, [*places, *apart], length, progress=progress, stopping=stopping)
    fit, seen = points[: len(places)], points[len(places) :]
    from pendel.core.envelope.points import lag_of, link_of

    return made_of(fit, seen, machine, lag_of(bench, top_speed / 2, top / 2, length), link_of(bench, length))


__all__ = ["KIND", "Made", "make", "made_of"]

"""Operating points of a part on its bench: torque and losses once they are steady."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from pendel.core.cores import usable_cores
from pendel.core.envelope.bench import Bench
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.quantities.units import figure, unit
from pendel.core.runs.found.run_roles import signals_of
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record.kept import KeptRun
from pendel.core.runs.record.measures import averages
from pendel.core.runs.remarks.balance import losses
from pendel.core.vocabulary import SignalRole

AGREE, ENOUGH = 0.02, 1.5e-3
"""Of a point's losses, and of the largest power: how far means over the last two quarters of a run may differ."""
DOUBLED = 6
"""Times that a run is made twice as long until its means agree."""
DENSE = 1.7
"""Exponent by which torques are denser about zero, where losses have their kink."""


@dataclass(frozen=True)
class Point:
    """Speed (rad/s), what was asked for (SI), the torque that came (N·m), losses (W)."""

    speed: float
    asked: float
    torque: float
    loss: float


def grid(top_speed: float, top: float, speeds: int, torques: int) -> list[tuple[float, float]]:
    """Speeds (rad/s) evenly from standstill, demands (SI) of both signs denser about zero, zero among them."""
    side = np.linspace(0, 1, torques // 2 + 1)[1:] ** DENSE
    levels = np.concatenate([-side[::-1], [0.0], side]) * top
    return [(float(w), float(m)) for w in np.linspace(0, top_speed, speeds) for m in levels]


def between(top_speed: float, top: float, count: int, seed: int = 1) -> list[tuple[float, float]]:
    """Places at random for a check, which no fit sees."""
    rng = np.random.default_rng(seed)
    return [(float(a) * top_speed, float(b) * top) for a, b in zip(rng.random(count), rng.uniform(-1, 1, count))]


def run_points(
    bench: Bench,
    places: Sequence[tuple[float, float]],
    length: float,
    *,
    progress: Callable[[str], None] = lambda _: None,
    stopping: Callable[[], bool] = lambda: False,
) -> list[Point]:
    """Run each place, side by side. ``length`` (s) is that of the first try.

    Raises
    ------
    DriveProblem, DriveHasFindings, RunProblem
        where the bench cannot run, or a place does not settle.
    """
    top_speed, top = (max((abs(place[k]) for place in places), default=0.0) for k in (0, 1))
    # It makes the code that all others use, and shows what is much and what is little.
    largest = abs(_point(bench, 0.0, top, length, 0.0).torque) * top_speed
    done = 0

    def one(place: tuple[float, float]) -> Point:
        nonlocal done
        if stopping():
            raise RunProblem("Stopped.")
        point = _point(bench, *place, length, largest)
        done += 1
        progress(f"{done} of {len(places)} points")
        return point

    with ThreadPoolExecutor(max_workers=usable_cores()) as pool:
        return list(pool.map(one, places))


def _point(bench: Bench, speed: float, asked: float, length: float, largest: float) -> Point:
    prepared = prepare(bench.at(speed, asked), with_energy=True)
    where = f"{figure(speed, 'rpm')} and {figure(asked / unit(bench.unit)[0], bench.unit)}"
    for doubled in range(DOUBLED + 1):
        until = length * 2**doubled
        run = run_drive(prepared, until=until)
        if run.message:
            raise RunProblem(f"The bench does not run at {where}: {run.message}")
        parts = [_means(bench, run, a * until, b * until) for a, b in ((0.5, 0.75), (0.75, 1.0))]
        (m_1, loss_1), (m_2, loss_2) = parts
        apart = max(abs(m_1 - m_2) * abs(speed), abs(loss_1 - loss_2))
        if apart <= max(AGREE * abs(loss_2), ENOUGH * largest):
            return Point(speed, asked, (m_1 + m_2) / 2, (loss_1 + loss_2) / 2)
    raise DriveProblem(
        f"At {where} torque and losses do not settle within "
        f"{figure(length * 2**DOUBLED, 's')}. Look at the drive on a test bench there; its loops may swing."
    )


def _means(bench: Bench, run: KeptRun, start: float, end: float) -> tuple[float, float]:
    """Torque at the shaft (N·m, positive where it drives) and losses of the part (W)."""
    held = signals_of(run, bench.holder, SignalRole.TORQUE)[0]
    torque = -averages(run.pieces(held), start, end).mean
    names = {run.infos[key].card_key for key in run.infos} & bench.sources
    sources = {bench.drive.cards[key].name for key in names | set(bench.sources)}
    lost = sum(each.power for each in losses(run, start, end) if each.what not in sources)
    return torque, lost


def lag_of(bench: Bench, speed: float, torque: float, length: float) -> float:
    """Time (s) after which 63 % of a torque that is asked from the start has come.

    Raises
    ------
    RunProblem
        where the bench cannot run.
    """
    run = run_drive(prepare(bench.at(speed, torque), with_energy=True), until=length)
    if run.message:
        raise RunProblem(f"The bench does not run: {run.message}")
    trace = run.trace(signals_of(run, bench.holder, SignalRole.TORQUE)[0])
    end, begin = float(trace.y[-1]), float(trace.y[0])
    reached = np.abs(trace.y - begin) >= (1 - np.exp(-1)) * abs(end - begin)
    return max(float(trace.t[int(np.argmax(reached))]), run.tick)


def link_of(bench: Bench, length: float) -> float:
    """Voltage (V) of the first source on the bench."""
    run = run_drive(prepare(bench.at(0.0, 0.0), with_energy=True), until=length)
    for source in sorted(bench.sources):
        for key in run.keys:
            if key.startswith(f"{source}.") and run.infos[key].unit == "V":
                return abs(averages(run.pieces(key), length / 2, length).mean)
    return 0.0

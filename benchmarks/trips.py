"""What a trip takes, of minutes and of a day, many of them, and an envelope from a detailed drive."""

from __future__ import annotations

import resource
import time
from collections.abc import Callable

import pendel
from pendel.core.runs.preparing.simulate import prepare, run_drive

Tell = Callable[[str, str, str], None]
DAY = 86_400.0
TRIP = 195


def trips(row: Tell) -> None:
    drive = pendel.open_example("day_of_trips")
    drive.run()
    prepared = prepare(drive.document)
    took = min(_seconds(lambda: run_drive(prepared)) for _ in range(7))
    row("195 s of the hybrid, with remarks", f"{1e3 * took:.0f} ms", "30 ms")
    row("195 s of the hybrid, time loop", f"{1e3 * min(drive.run().kept.seconds for _ in range(7)):.0f} ms", "15 ms")
    drive.profile("plan", "urban", times=int(DAY / TRIP) + 1)
    drive.set("battery.Q", "2000 Ah")  # that its charge does not decide
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    whole = prepare(drive.document)
    took = _seconds(lambda: run_drive(whole, until=DAY))
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    row("a day of the hybrid", f"{took:.1f} s", "8 s")
    row("a day of the hybrid, memory", f"+{grown:.0f} MB", "+200 MB")


def best_split(row: Tell) -> None:
    drive = pendel.open_example("day_of_trips")
    drive.profile("plan", "urban", times=6)
    run = drive.run(1170.0)
    run.best_split(0.0, 20.0)
    row("best split of 1170 s at 1 s", f"{_seconds(run.best_split):.1f} s", "3 s")


def many(row: Tell) -> None:
    drive = pendel.open_example("day_of_trips")
    count = 200
    values = [f"{3.5 + 1.5 * n / count:.4f}" for n in range(count)]
    figures = ["last(engine.fuel)"]
    list(drive.series({"z_axle": values[:8]}, figures=figures))
    took = _seconds(lambda: list(drive.series({"z_axle": values}, figures=figures)))
    row("1000 trips of 195 s by a series", f"{1000 / count * took:.1f} s", "20 s")


def envelopes(row: Tell) -> None:
    drive = pendel.open_example("haul_drive")
    asked = ("haul_machine", "torque_demand.out", "400 N*m", "1150 rpm")
    drive.envelope(*asked, speeds=2, torques=4, checks=1)
    made = None

    def make() -> None:
        nonlocal made
        made = drive.envelope(*asked)

    took = _seconds(make)
    assert made is not None
    row("an envelope of 117 points", f"{took:.1f} s", "10 s")
    row("its worst error at points that it did not see", f"{100 * made.worst:.1f} %", "3 %")


def _seconds(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def report(row: Tell) -> None:
    for part in (trips, best_split, many, envelopes):
        part(row)


if __name__ == "__main__":
    report(lambda what, figure, wanted: print(f"{what:60} {figure:>12}   {wanted}"))

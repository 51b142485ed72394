"""What heat over a duty takes, and what bodies and booked switching energies cost in a run."""

from __future__ import annotations

import time
from collections.abc import Callable
from statistics import median

import pendel
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import load
from pendel.core.heat.duty import duty_of_plan
from pendel.core.heat.over import heat_over
from pendel.core.runs.found.flows import flows_of

Tell = Callable[[str, str, str], None]
WARM = EXAMPLES / "warm_haul_drive.pendel"
TIMES = 7


def seconds(act: Callable[[], object], count: int = TIMES) -> float:
    """Of the middle one of so many, behind one that builds what is missing."""
    act()
    spent = []
    for _ in range(count):
        begun = time.perf_counter()
        act()
        spent.append(time.perf_counter() - begun)
    return median(spent)


def loops(drive: pendel.Drive) -> list[float]:
    """s in the time loop, of some runs behind one that builds what is missing."""
    drive.run()
    return [drive.run().kept.seconds for _ in range(TIMES)]


def duties(row: Tell) -> None:
    for level, wanted in (("averaged", "1 s, 2 s"), ("switching", "1 s, 2 s")):
        drive = load(WARM)
        drive.settings["level"] = level
        for name in ("S3 40 %", "Hoist and rest"):
            duty = duty_of_plan(drive, drive.duties[name], name)
            took = seconds(lambda d=drive, of=duty: heat_over(d, of, steady=True), 2)  # type: ignore[misc]
            row(f"{name}, the cycle that repeats itself, {level}", f"{took:.2f} s", wanted)


def runs(row: Tell) -> None:
    """The time loop of one drive, with and without what is wired to its heat ports."""
    for level, wanted in (("averaged", "1.7"), ("switching", "1.1 to 1.2"), ("device", "1.3")):
        warm, cold = pendel.open_drive(WARM), pendel.open_example("haul_drive")
        for drive in (warm, cold):
            drive.set("level", level)
        ratio = min(loops(warm)) / min(loops(cold))
        row(f"time loop with heat over that without, {level}", f"{ratio:.2f} ×", f"{wanted} ×")


def picture(row: Tell) -> None:
    kept = pendel.open_example("works_car").run().kept
    row("energy flows of a trip, once built", f"{1e3 * seconds(lambda: flows_of(kept, 0.0, kept.end)):.0f} ms", "")


def report(row: Tell) -> None:
    duties(row)
    runs(row)
    picture(row)


if __name__ == "__main__":
    report(lambda what, figure, wanted: print(f"{what:60} {figure:>12}   {wanted}"))

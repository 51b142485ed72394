"""What a simulator costs: from a changed value to inputs, snapshots, slices, threads, and the first run of another
process."""

from __future__ import annotations

import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pendel
from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.file import load
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import RunSettings
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import Prepared, prepare

EXAMPLES = Path(pendel.__file__).parent / "examples"


def drive_of(name: str, level: str = "averaged") -> Drive:
    drive = load(EXAMPLES / f"{name}.pendel")
    drive.settings["level"] = level
    return drive


def ladder(sections: int) -> Drive:
    """Resistors and capacitors in a row behind a source."""
    d = pendel.Drive("Ladder")
    d.add("dc_source", "Feed", U_0="10", R_i="1")
    d.add("pair_opener", "Ends")
    d.connect("feed.dc", "ends.pair")
    last = "ends.plus"
    for k in range(sections):
        d.add("resistor", f"R {k}", R="10")
        d.add("capacitor", f"C {k}", C="1", R_s="0")
        d.connect(last, f"r_{k}.a")
        d.connect(f"r_{k}.b", f"c_{k}.a")
        d.connect(f"c_{k}.b", "ends.minus")
        last = f"r_{k}.b"
    return d.document


def median(action: Callable[[], object], times: int) -> float:
    """Seconds."""
    action()
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        action()
        found.append(time.perf_counter() - begun)
    return statistics.median(found)


def changed_value(name: str) -> float:
    """From a drive with a changed value to the inputs of its run (s)."""
    drive = drive_of(name)
    return median(lambda: prepare(drive).inputs(RunSettings(1.0)), 41)


def snapshots(prepared: Prepared) -> tuple[float, float, int]:
    """Seconds to take a snapshot and to restore it, and its bytes."""
    with Simulator(prepared.program, prepared.inputs(RunSettings(0.5, h_max=5e-4))) as simulator:
        simulator.advance(0.3)
        snapshot = simulator.state()
        return (
            median(simulator.state, 201),
            median(lambda: simulator.restore(snapshot), 201),
            len(snapshot.plant) + len(snapshot.control),
        )


def sliced_over_whole(prepared: Prepared, until: float, slice_: float = 1e-3) -> float:
    inputs = prepared.inputs(RunSettings(until, h_max=until / 1000))

    def sliced() -> None:
        with Simulator(prepared.program, inputs) as simulator:
            t = 0.0
            while t < until:
                t += slice_
                simulator.advance(t)
            simulator.finish()

    ratios = [median(sliced, 3) / median(lambda: integrate(prepared.program, inputs), 3) for _ in range(5)]
    return statistics.median(ratios)


def threads_over_one(prepared: Prepared, until: float, count: int = 4) -> float:
    """How many times as fast ``count`` runs are in as many threads as one after the other."""
    inputs = prepared.inputs(RunSettings(until, h_max=until / 1000))

    def together() -> None:
        threads = [threading.Thread(target=integrate, args=(prepared.program, inputs)) for _ in range(count)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def one_by_one() -> None:
        for _ in range(count):
            integrate(prepared.program, inputs)

    return statistics.median(median(one_by_one, 1) / median(together, 1) for _ in range(5))


def at_zero_torque(level: str) -> float:
    """How many times as long the haul drive takes with its currents hovering about zero as under load."""
    runs = []
    for torque in ("0 N*m", "400 N*m"):
        drive = drive_of("haul_drive", level)
        for name in ("before", "after"):
            commands.set_value(drive, "torque_demand", name, torque).apply(drive)
        prepared = prepare(drive)
        runs.append((prepared.program, prepared.inputs(RunSettings(0.5, h_max=5e-4))))
    ratios = [median(lambda: integrate(*runs[0]), 3) / median(lambda: integrate(*runs[1]), 3) for _ in range(5)]
    return statistics.median(ratios)


FRESH = """
import sys, time
from pathlib import Path
from pendel.core.drive.file import load
from pendel.core.runs.preparing.simulate import prepare, run_drive
drive = load(Path(sys.argv[1])); drive.settings["until"] = "1 us"
begun = time.perf_counter()
run_drive(prepare(drive))
print(time.perf_counter() - begun)
"""


def fresh_process(name: str) -> float:
    """Seconds in a process of its own from an opened drive to a run that has begun, its structure and builds being on
    disk."""
    command = [sys.executable, "-c", FRESH, str(EXAMPLES / f"{name}.pendel")]
    found = [float(subprocess.run(command, capture_output=True, text=True, check=True).stdout) for _ in range(6)]
    return statistics.median(found[1:])


def report(row: Callable[[str, str, str], None]) -> None:
    for name, wanted in (("car_door_drive", 3), ("old_haul_drive", 8)):
        row(f"changed value to inputs, {name}", f"{1e3 * changed_value(name):.1f} ms", f"{wanted} ms")
    for prepared, wanted in (
        (prepare(ladder(40)), "50 us"),
        (prepare(drive_of("old_haul_feedback", "device")), ""),
    ):
        states, _, modes = prepared.structure.row_shape
        taken, restored, size = snapshots(prepared)
        row(
            f"snapshot and restore, {states} states, {modes} modes",
            f"{1e6 * taken:.0f} and {1e6 * restored:.0f} us, {size / 1e3:.0f} kB",
            wanted,
        )
    for name, level, until in (("car_door_drive", "averaged", 1.2), ("haul_drive", "switching", 0.3)):
        row(
            f"slices of 1 ms over one call, {name} {level}",
            f"{sliced_over_whole(prepare(drive_of(name, level)), until):.3f}",
            "1.05",
        )
    row(
        "four runs in four threads over one after the other",
        f"{threads_over_one(prepare(drive_of('haul_drive', 'switching')), 3.0):.2f}",
        "1.85",
    )
    for level in ("averaged", "switching"):
        row(f"zero torque over load, haul_drive {level}", f"{at_zero_torque(level):.1f}", "3")
    for name in ("old_haul_feedback", "old_haul_drive"):
        row(f"first run of another process, {name}", f"{fresh_process(name):.2f} s", "0.25 s")


if __name__ == "__main__":
    report(lambda *cells: print("|", " | ".join(cells), "|"))

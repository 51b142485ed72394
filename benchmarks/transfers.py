"""Linear models between two points and swept runs: seconds, and rates within one run. ``python benchmarks/transfers.py``."""

from __future__ import annotations

import time
from pathlib import Path

import pendel
from pendel.core.drive.file import load
from pendel.core.loops.sweep import Sweep, usual_frequencies
from pendel.core.loops.transfer import Ends, transfer
from pendel.core.runs.simulate import averaged, prepare

EXAMPLES = Path(pendel.__file__).parent / "examples"
WAYS = {
    "car_door_drive": Ends("current_pi.out", "current_sensor.value", (), "rest"),
    "haul_drive": Ends("current_regulator.u_d", "measured_currents.d", (), "rest"),
    "haul_drive_rope": Ends("current_regulator.u_q", "measured_currents.q", (), "rest"),
}


def main() -> None:
    for name, ends in WAYS.items():
        drive = load(EXAMPLES / f"{name}.pendel")
        prepared = prepare(averaged(drive))
        begun = time.perf_counter()
        found = transfer(prepared, ends)
        first = time.perf_counter() - begun
        begun = time.perf_counter()
        transfer(prepared, ends)
        print(f"{name}: a model of {len(found.model.states)} states in {first:.2f} s, again in {time.perf_counter() - begun:.2f} s")
        for level in ("averaged", "switching"):
            drive.settings["level"] = level
            sweep = Sweep(prepare(drive), found)
            begun = time.perf_counter()
            points = sweep.run(usual_frequencies(found).tolist()).points
            seconds = time.perf_counter() - begun
            print(f"  {len(points)} frequencies {level}: {seconds:.1f} s, {len(points) / seconds:.1f} a second")


if __name__ == "__main__":
    main()

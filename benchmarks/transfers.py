"""Linear models between two points and swept runs: seconds, and rates within one run. ``python benchmarks/transfers.py``."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pendel
from pendel.core.drive.file import load
from pendel.core.loops.mechanics import mechanics_of
from pendel.core.loops.sweep import Sweep, usual_frequencies
from pendel.core.loops.transfer import Ends, transfer
from pendel.core.loops.tuning import standings
from pendel.core.runs.simulate import averaged, prepare

EXAMPLES = Path(pendel.__file__).parent / "examples"
WAYS = {
    "car_door_drive": Ends("current_pi.out", "current_sensor.value", (), "rest"),
    "haul_drive": Ends("current_regulator.u_d", "measured_currents.d", (), "rest"),
    "haul_drive_rope": Ends("current_regulator.u_q", "measured_currents.q", (), "rest"),
}


def seconds_of(work: Callable[[], object], times: int = 1) -> float:
    begun = time.perf_counter()
    for _ in range(times):
        work()
    return (time.perf_counter() - begun) / times


def chain(masses: int) -> pendel.Drive:
    """Inertias on elastic shafts: three states each but the last."""
    d = pendel.Drive("Chain")
    for n in range(masses):
        d.add("inertia", f"J{n}", J="1e-3 kg*m^2")
        if n:
            d.add("elastic_shaft", f"S{n}", k="400 N*m/rad", d="0.01 N*m*s")
            d.connect(f"j{n - 1}.b", f"s{n}.a")
            d.connect(f"s{n}.b", f"j{n}.a")
    d.add("load_torque", "Load", profile=(("0 s", "0 N*m"), ("1 s", "1 N*m")))
    d.connect(f"j{masses - 1}.b", "load.a")
    return d


def studies() -> None:
    """What takes long on the page Loops."""
    ready = prepare(averaged(chain(54).document))
    ends = Ends("load.profile", "j0.speed", (), "rest")
    first = seconds_of(lambda: transfer(ready, ends))
    again = seconds_of(lambda: transfer(ready, ends))
    print(f"chain of {len(ready.structure.state_keys)} states: a model in {first:.2f} s, again in {again:.2f} s; its modes in {seconds_of(lambda: mechanics_of(ready)):.2f} s")
    door = pendel.open_example("car_door_drive")
    seconds = seconds_of(lambda: door.tolerate("current_pi", {"door_motor.L_a": 0.2, "m_leaf": 0.3}, samples=300))
    print(f"door: {307 / seconds:.0f} samples of tolerance a second")
    haul = pendel.open_example("haul_drive_tables")
    haul.set("until", "300 ms")
    for turning in (False, True):
        found = standings(haul.document, turning=turning)
        seconds = seconds_of(lambda: standings(haul.document, turning=turning), 3)
        study = found[1].study
        slid = seconds_of(lambda: study.analyse({**study.gains_now, "K_p": study.gains_now["K_p"] * 1.01}), 10)
        print(f"haul drive with tables, {study.drive.point.name}: loops judged in {seconds:.2f} s, a gain slid in {1e3 * slid:.0f} ms")


def main() -> None:
    studies()
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

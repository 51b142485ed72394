"""Linear models between two points and swept runs: seconds, and rates within one run. ``python
benchmarks/transfers.py``."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

import pendel
from pendel.core.drive.file import load
from pendel.core.loops.mechanics.mechanics import mechanics_of
from pendel.core.loops.models.resolvent import one_by_one, outputs_over
from pendel.core.loops.models.sweep import Sweep, usual_frequencies
from pendel.core.loops.models.transfer import Ends, transfer
from pendel.core.loops.regulators.judged_at import JudgedAt
from pendel.core.loops.tuning.tuning import loop_statuses
from pendel.core.runs.preparing.simulate import averaged, prepare

EXAMPLES = Path(pendel.__file__).parent / "examples"
WAYS = {
    "car_door_drive": Ends("current_pi.out", "current_sensor.value", (), "rest"),
    "haul_drive": Ends("current_regulator.u_d", "measured_currents.d", (), "rest"),
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
    print(
        f"chain of {len(ready.structure.state_keys)} states: a model in {first:.2f} s, again in {again:.2f} s; "
        f"its modes in {seconds_of(lambda: mechanics_of(ready)):.2f} s"
    )
    door = pendel.open_example("car_door_drive")
    for regulator in ("current_pi", "speed_pi"):
        seconds = seconds_of(lambda: door.tolerate(regulator, {"door_motor.L_a": 0.2, "m_leaf": 0.3}, samples=1000))
        print(f"door, {regulator}: 1000 samples of tolerance in {seconds:.1f} s")
    haul = pendel.open_example("haul_drive_tables")
    haul.set("until", "300 ms")
    for at in (JudgedAt.REST, JudgedAt.STEADY):
        found = loop_statuses(haul.document, at=at)
        seconds = seconds_of(lambda: loop_statuses(haul.document, at=at), 3)
        study = found[1].study
        slid = seconds_of(lambda: study.analyse({**study.gains_now, "K_p": study.gains_now["K_p"] * 1.01}), 10)
        print(
            f"haul drive with tables, {study.drive.point.name}: "
            f"loops judged in {seconds:.2f} s, a gain slid in {1e3 * slid:.0f} ms"
        )


def responses() -> None:
    """By one triangular form for all frequencies, beside a solution for each."""
    for name in ("car_door_drive", "haul_drive_rope", "old_haul_feedback"):
        for each in loop_statuses(pendel.open_example(name).document):
            model, dt = each.study.plant_model, each.study.dt
            A, b, C = model.reduced
            s = np.exp(2j * np.pi * each.study.frequency * dt)
            alike = seconds_of(lambda: outputs_over(A, b, C, model.D, s), 20)
            alone = seconds_of(lambda: C @ one_by_one(A, b, s) + model.D, 20)
            print(
                f"{name}, {each.loop.key}: {len(A)} states at {len(s)} frequencies in {1e3 * alike:.1f} ms, "
                f"one by one {alone / alike:.1f} times as long"
            )


def main() -> None:
    studies()
    responses()
    for name, ends in WAYS.items():
        drive = load(EXAMPLES / f"{name}.pendel")
        prepared = prepare(averaged(drive))
        begun = time.perf_counter()
        found = transfer(prepared, ends)
        first = time.perf_counter() - begun
        begun = time.perf_counter()
        transfer(prepared, ends)
        print(
            f"{name}: a model of {len(found.model.states)} states in {first:.2f} s, "
            f"again in {time.perf_counter() - begun:.2f} s"
        )
        for level in ("averaged", "switching"):
            drive.settings["level"] = level
            sweep = Sweep(prepare(drive), found)
            begun = time.perf_counter()
            points = sweep.run(usual_frequencies(found).tolist()).points
            seconds = time.perf_counter() - begun
            print(f"  {len(points)} frequencies {level}: {seconds:.1f} s, {len(points) / seconds:.1f} a second")


if __name__ == "__main__":
    main()

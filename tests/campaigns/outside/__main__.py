"""Run the checks: ``python -m tests.campaigns.outside PYTHON``, where PYTHON is that of the environment with the other
programs. Names of checks behind it (``units``, ``recordings`` …) leave out the others."""

import json
import struct
import subprocess
import sys
import tempfile
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np

import pendel
from pendel.core.bench.bench import Bench
from pendel.core.bench.description import describe
from pendel.core.bench.facts import Order
from pendel.core.bench.standin_process import StandInProcess
from pendel.core.controllers.numbers.source import files
from pendel.core.drive.file import load, to_text
from pendel.core.firmware.a2l import a2l_of
from pendel.core.firmware.board_image import image_text
from pendel.core.firmware.places import code_places
from pendel.core.fmu.export import archive_of
from pendel.core.fmu.variables import Unit, What
from pendel.core.formats.mdf4 import Mdf4Writer
from pendel.core.plant.compiler import build_library
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import endless_settings, prepare
from pendel.core.verbs import live_values

EXAMPLES = Path(pendel.__file__).parent / "examples"
HERE = Path(__file__).parent


def prepared(name, live=(), number=""):
    drive = load(EXAMPLES / f"{name}.pendel")
    if number:
        drive.settings["number_format"] = number
        for key, card in list(drive.cards.items()):
            drive.cards[key] = replace(card, number_format="")
    if live:
        live_values(drive, wished=list(live))
    return drive, prepare(drive).lowered


def check_second_master(python):
    """pyxcp, a master of the protocol, measures and writes on the stand-in board over TCP, UDP and a serial line."""
    drive, made = prepared("haul_drive", ["current_regulator.K_d=0.5…80"], "float32")
    channels = describe(drive, made).channels
    board = StandInProcess(["tcp", "udp", "serial"])
    try:
        board.surround(to_text(drive), own_c=False)
        bench = Bench()
        bench.connect(board.addresses[0], board.secret)
        bench.load(build_library(image_text(made)).read_bytes())
        bench.order(Order.ENABLE)
        bench.disconnect()
        spots = [
            channels[k].spot.address for k in ("current_regulator.K_d", "input:resolver.value", "input:current_a.value")
        ]
        for kind, address in zip(("tcp", "udp", "serial"), board.addresses):
            place, _, number = address.partition("://")[2].rpartition("?" if kind == "serial" else ":")
            number = number.removeprefix("speed=")
            with tempfile.TemporaryDirectory() as folder:
                command = [python, str(HERE / "second_master.py"), kind, place, number, *map(str, spots)]
                ran = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=90)
            lines = [line for line in ran.stdout.splitlines() if line.startswith("FOUND ")]
            assert lines, ran.stdout + ran.stderr
            found = json.loads(lines[0][6:])
            assert found["supports"] == [True, True, True] and "stand-in" in found["identity"]
            info = found["info"]
            assert info["configType"] == "DYNAMIC" and info["prescalerSupported"] and info["timestampSupported"]
            assert info["overloadEvent"] and not info["overloadMsb"] and not info["pidOffSupported"]
            assert (found["resolution"], found["unit"]) == (1, "DAQ_TIMESTAMP_UNIT_100US")
            assert found["after"] == 41.5
            every = 50 if kind == "serial" else 10
            rows = np.array([[float(x) for x in row] for row in found["rows"]])
            assert len(rows) > 10_000 / every, f"{len(rows)} samples over {kind} within a minute"
            assert np.all(np.diff(rows[:, 4]) == every), f"{np.sum(np.diff(rows[:, 4]) != every)} gaps over {kind}"
            assert np.all(np.diff(rows[:, 1]) == every * 1e5)  # times in ns
            assert np.ptp(rows[:, 3]) > 100  # a phase current that turns
            print(f"  pyxcp over {kind}: {len(rows)} samples, none missing; a value written and read back")
    finally:
        board.close()


def check_descriptions(python):
    """a2ltool, strictly, on the descriptions of all examples; and it finds the same offsets in compiled code."""
    tool = str(Path(python).with_name("a2ltool"))
    for path in sorted(EXAMPLES.glob("*.pendel")):
        drive = load(path)
        made = prepare(drive).lowered
        if not made.blocks:
            continue
        with tempfile.TemporaryDirectory() as work:
            folder, name = Path(work), made.name
            text = a2l_of(made, describe(drive, made))
            (folder / "x.a2l").write_text(text)
            for file, source in files(made).texts.items():
                (folder / file).write_text(source)
            main = f'#include "{name}.h"\n{name}_t {name};\n'
            main += f"int main(void) {{ {name}_init(&{name}); {name}_tick(&{name}); return 0; }}\n"
            (folder / "main.c").write_text(main)
            checked = subprocess.run([tool, "--strict", "--check", "x.a2l"], cwd=folder, capture_output=True, text=True)
            assert checked.returncode == 0 and "No problems found" in checked.stdout + checked.stderr, checked.stdout
            sources = ["main.c", f"{name}.c", "pd_numbers.c"]
            subprocess.run(["gcc", "-g", "-O0", *sources, "-o", "x.elf", "-lm"], cwd=folder, check=True)
            update = ["--update", "FULL", "--update-mode", "PRESERVE"]
            subprocess.run(
                [tool, "--strict", "x.a2l", "-e", "x.elf", *update, "-o", "y.a2l"],
                cwd=folder,
                check=True,
                capture_output=True,
            )
            listed = subprocess.run(["nm", "x.elf"], cwd=folder, capture_output=True, text=True, check=True).stdout
            base = next(int(line.split()[0], 16) for line in listed.splitlines() if line.endswith(f" B {name}"))
            updated = (folder / "y.a2l").read_text().splitlines()
            for place in code_places(made):
                line = next(
                    x
                    for x in updated
                    if f"{name}.{place.member} " in x and ("MEASUREMENT" in x or "CHARACTERISTIC" in x)
                )
                words = line.split()
                at = words[words.index("ECU_ADDRESS") + 1] if "MEASUREMENT" in line else words[words.index("VALUE") + 1]
                assert int(at, 16) - base == place.offset, (place, line)
        print(f"  a2ltool on {path.stem}: strict, and {len(code_places(made))} offsets as in its debug data")


def check_recordings(python):
    """asammdf reads what was recorded, to the bit."""
    t = np.arange(20_000) * 5e-5
    values = np.column_stack([np.sin(300 * t), t**2, np.sign(np.cos(20 * t))])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "r.mf4"
        with Mdf4Writer(path, [("door.speed", "m/s"), ("µ & <x>", "°"), ("no unit", "")], "a note <&>") as file:
            for begin in range(0, len(t), 777):
                file.write(t[begin : begin + 777], values[begin : begin + 777])
        reading = (
            "import sys, asammdf; m = asammdf.MDF(sys.argv[1]); import numpy as n, zlib\n"
            "s = [m.get(x) for x in ('door.speed', 'µ & <x>', 'no unit')]\n"
            "print(m.version, [x.unit for x in s], [len(x) for x in s], "
            "*[zlib.crc32(n.ascontiguousarray(x.samples).tobytes()) for x in s], "
            "zlib.crc32(n.ascontiguousarray(s[0].timestamps).tobytes()))"
        )
        ran = subprocess.run([python, "-c", reading, str(path)], capture_output=True, text=True, timeout=120)
    columns = [np.ascontiguousarray(values[:, k]) for k in range(3)]
    sums = " ".join(str(zlib.crc32(c.tobytes())) for c in (*columns, t))
    assert ran.stdout.strip() == f"4.10 ['m/s', '°', ''] [20000, 20000, 20000] {sums}", ran.stdout + ran.stderr
    print("  asammdf: 20 000 rows of 3 channels, equal to the bit")


def second_simulator(python, order):
    """What FMPy made of units: names, rows and more, as `second_simulator.py` tells."""
    with tempfile.TemporaryDirectory() as folder:
        for name, content in order.pop("files").items():
            (Path(folder) / f"{name}.fmu").write_bytes(content)
            order[name] = str(Path(folder) / f"{name}.fmu")
        (Path(folder) / "orders.json").write_text(json.dumps(order))
        command = [python, str(HERE / "second_simulator.py"), "orders.json", "result.npz"]
        ran = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=300)
        assert ran.returncode == 0, ran.stdout + ran.stderr
        with np.load(Path(folder) / "result.npz") as result:
            return {name: result[name] for name in result.files}


def rows_of_ours(ready, names, step, steps, sets=None):
    """The same by the simulator of this program, at the ends of the steps."""
    rows = []
    with Simulator(ready.program, ready.inputs(endless_settings(ready))) as simulator:
        for n in range(steps):
            for name, value in (sets or {}).get(str(n), {}).items():
                simulator.write(name, value)
            simulator.advance((n + 1) * step)
            read = simulator.read(names)
            rows.append([read[name] for name in names])
    return np.array(rows)


UNITS = (
    (
        "car_door_drive",
        "",
        {"100": {"speed_pi.K_p": 20.0, "door_leaf.m": 90.0}},
        {"supply.R_i": 0.0, "supply.voltage": 1.0},
    ),
    ("car_door_drive", "switching", {}, {}),
    ("haul_drive", "", {"50": {"current_regulator.K_d": 9.0}}, {}),
    ("haul_inverter", "", {}, {}),
    ("haul_drive_tables", "", {}, {}),
    ("valley_filter", "", {"300": {"power_setpoint.value": 500.0}}, {}),
    ("cabin_fan", "", {}, {}),
    ("wayside_supply", "", {}, {}),
    ("warm_haul_drive", "switching", {}, {}),
)


def check_units(python):
    """FMPy finds no problem in units for co-simulation (FMI 3.0), and runs them as this program does, to the bit."""
    for name, level, sets, refused in UNITS:
        drive = load(EXAMPLES / f"{name}.pendel")
        if level:
            drive.settings["level"] = level
        ready = prepare(drive)
        unit = Unit(ready, What.DRIVE)
        order = {"files": {"file": archive_of(unit)}, "step": unit.tick, "steps": 400, "sets": sets, "refused": refused}
        theirs = second_simulator(python, order)
        ours = rows_of_ours(ready, list(theirs["names"]), unit.tick, 400, sets)
        assert np.array_equal(ours, theirs["rows"], equal_nan=True), (name, np.abs(ours - theirs["rows"]).max(axis=0))
        for half in np.split(theirs["again"], 2):
            assert np.array_equal(ours[200:], half, equal_nan=True), name
        assert len(theirs["refused"]) == len(refused), theirs["refused"]
        print(f"  {unit.drive.title}: {ours.shape[1]} signals at 400 ticks, from states and their bytes too")
    for name in ("car_door_drive", "haul_drive", "valley_filter"):
        ready = prepare(load(EXAMPLES / f"{name}.pendel"))
        files_ = {w.value: archive_of(Unit(ready, w)) for w in (What.PLANT, What.CONTROLLER)}
        theirs = second_simulator(python, {"files": files_, "step": ready.deck.tick, "steps": 400})
        kept = [n for n, key in enumerate(theirs["names"]) if key not in ready.structure.commands]
        ours = rows_of_ours(ready, [theirs["names"][n] for n in kept], ready.deck.tick, 400)
        assert ready.deck.delay == 1 and np.array_equal(ours, theirs["rows"][:, kept], equal_nan=True), name
        print(f"  {name}: plant and controller side by side are the drive")


WAYS = (
    ("car_door_drive", "current_pi.out", "door_motor.current", (), "rest"),
    ("car_door_drive", "speed_pi.out", "door_leaf.speed", ("speed_pi.out",), "rest"),
    ("car_door_drive", "current_pi.out", "current_pi.out", ("current_pi.out",), "rest"),
    ("car_door_drive", "bridge.duty", "door_motor.current", ("bridge.duty",), "rest"),
    ("haul_drive", "current_regulator.u_q", "current_regulator.u_q", ("current_regulator.u_q",), "steady"),
    ("wayside_supply", "voltage_pi.out", "voltage_pi.out", ("voltage_pi.out",), "end"),
    (
        "valley_filter",
        "current_error.out",
        "current_error.out",
        ("current_error.out", "current_setpoint.out"),
        "built up",
    ),
)


def check_linear_models(python):
    """SLICOT by slycot and python-control: minimal order and response, margins, the peak of S."""
    from pendel.core.loops.models.margins import margins
    from pendel.core.loops.models.realisation import minimal
    from pendel.core.loops.models.transfer import Ends
    from pendel.core.loops.regulators.between import model_between

    ours, arrays = {}, {}
    for name, source, target, opened, at in WAYS:
        key = f"{name}: {source} → {target}, {at}"
        found = model_between(load(EXAMPLES / f"{name}.pendel"), Ends(source, target, opened, at))
        model, f = found.model, found.frequencies()[::7]
        f = f[f < 0.4 / model.dt] if model.dt else f
        around = source == target
        dense = np.geomspace(found.frequencies()[0], 0.4999 / model.dt, 4000) if model.dt else found.frequencies()
        loop = margins(dense, -found.model.response(2 * np.pi * dense), stable=True) if around else None
        ours[key] = minimal(model), model.response(2 * np.pi * f), loop
        parts = {
            "A": model.A,
            "B": model.B,
            "C": model.C,
            "D": model.D,
            "dt": model.dt,
            "omega": 2 * np.pi * f,
            "around": around,
        }
        arrays |= {f"{key}|{part}": np.asarray(value) for part, value in parts.items()}
    with tempfile.TemporaryDirectory() as folder:
        np.savez(Path(folder) / "models.npz", **arrays)
        command = [python, str(HERE / "second_algebra.py"), "models.npz", "result.json"]
        ran = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=120)
        assert ran.returncode == 0, ran.stdout + ran.stderr
        theirs = json.loads((Path(folder) / "result.json").read_text())
    for key, (minimum, response, loop) in ours.items():
        found, order = theirs[key], len(minimum.model.states)
        scale = np.max(np.abs(response))
        alike = [
            int(o)
            for tolerance, o in found["orders"].items()
            if np.max(np.abs(np.array(found["responses"][tolerance]) @ [1, 1j] - response)) < 1e-6 * scale
        ]
        assert alike and order <= min(alike), (key, order, found["orders"], alike)
        words = f"order {order} (theirs {', '.join(map(str, sorted(set(alike))))})"
        if loop is not None:
            gain, phase, crossover, peak = found["loop"]
            assert abs(loop.ms / peak - 1) < 2e-3, (key, loop, peak)
            if abs(loop.crossover / crossover - 1) < 0.1:  # else L crosses more than once, and they take another
                assert abs(loop.phase - phase) < 0.2 and abs(loop.crossover / crossover - 1) < 2e-3, (
                    key,
                    loop,
                    found["loop"],
                )
                assert not np.isfinite(loop.gain + gain) or abs(loop.gain / gain - 1) < 5e-3, (key, loop, found["loop"])
            words += f", {loop.crossover:.4g} Hz, {loop.phase:.2f}°, Ms {loop.ms:.4f} (theirs {peak:.4f})"
        print(f"  {key}: {words}")


CHECKS = (check_second_master, check_descriptions, check_recordings, check_units, check_linear_models)


def main():
    assert struct.calcsize("P") == 8
    wished = sys.argv[2:]
    for check in CHECKS:
        if wished and check.__name__.removeprefix("check_") not in wished:
            continue
        print(check.__doc__.strip())
        check(sys.argv[1])
    print("All second opinions agree.")


if __name__ == "__main__":
    main()

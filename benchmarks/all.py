"""All figures, as ratios within one run: ``./run bench``. Prints the table kept in docs/numerics.md."""

from __future__ import annotations

import ctypes
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
import door_in_scipy
import formats
import heat
import large
import machines
import remote
import series
import simulator
import switching
import trips

import pendel
from pendel.core.drive import commands
from pendel.core.plant.compiler import build_library
from pendel.core.runs.preparing.simulate import run_drive

EXAMPLE = Path(pendel.__file__).parent / "examples" / "car_door_drive.pendel"
ORDER = (
    "R",
    "L",
    "k",
    "J",
    "b",
    "Ri",
    "Ron",
    "U",
    "n",
    "eta",
    "r",
    "kb",
    "db",
    "m",
    "Fc",
    "br",
    "Kp",
    "Ti",
    "Ki",
    "Ta",
    "imax",
)


def values(prepared) -> dict[str, float]:
    p = dict(zip(prepared.structure.parameter_keys, prepared.parameters.tolist()))
    q = prepared.examined.quantities
    pick = {
        "R": "door_motor.R_a",
        "L": "door_motor.L_a",
        "k": "door_motor.k",
        "J": "door_motor.J_m",
        "b": "door_motor.b_m",
        "Ri": "supply.R_i",
        "Ron": "bridge.R_on",
        "U": "supply.U_0",
        "n": "gear.ratio",
        "eta": "gear.eta",
        "r": "belt.r",
        "kb": "belt.k_b",
        "db": "belt.d_b",
        "m": "door_leaf.m",
        "Fc": "rail.F_c",
        "br": "rail.b",
    }
    return {n: p[k] for n, k in pick.items()} | {
        "Kp": q["K_p"],
        "Ti": q["T_i"],
        "Ki": q["K_i"],
        "Ta": q["T_a"],
        "imax": q["i_max"],
    }


def row(what: str, reached: str, wanted: str) -> None:
    print(f"| {what} | {reached} | {wanted} |")


def time_loop() -> None:
    drive = pendel.open(EXAMPLE)
    prepared = switching.warmed(drive)
    numbers = values(prepared)
    library = ctypes.CDLL(
        str(
            build_library(
                (Path(__file__).parent / "door_by_hand.c").read_text(),
                flags=("-std=c99", "-O2", "-fPIC", "-shared"),
            )
        )
    )
    library.door.restype = ctypes.c_double
    library.door.argtypes = [ctypes.c_void_p, ctypes.c_long, ctypes.c_double, ctypes.c_void_p]
    par = np.array([numbers[n] for n in ORDER])

    def by_hand(until: float = 10.0) -> np.ndarray:
        ticks = round(until / 50e-6)
        trace = np.empty((ticks, 12))
        library.door(par.ctypes.data, ticks, 50e-6, trace.ctypes.data)
        return trace

    (ratio,) = switching.beside(by_hand, [lambda: run_drive(prepared, until=10.0).seconds], 12)
    (ours,) = switching.alternately([lambda: run_drive(prepared, until=10.0).seconds], 3)
    begun = time.perf_counter()
    scipy_rows = door_in_scipy.simulate(numbers, 0.5)
    script = (time.perf_counter() - begun) * 20
    kept = run_drive(prepared, until=0.5)
    leaf = kept.trace("door_leaf.speed")
    at = np.arange(len(scipy_rows)) * 50e-6
    gap = np.max(np.abs(np.interp(at, leaf.t, leaf.y) - scipy_rows[:, 3]))
    gap_hand = np.max(np.abs(np.interp(at, leaf.t, leaf.y) - by_hand(0.5)[:, 5]))
    row("Car door drive, 10 s, against C written by hand (RK4 a tick)", f"{ratio:.1f} ×", "≤ 3 ×")
    row("the same, faster than SciPy `solve_ivp` from tick to tick", f"{script / ours:.0f} ×", "≥ 100 ×")
    row(
        "leaf speed, largest gap to SciPy and to the hand-written C over 0.5 s",
        f"{gap:.1e}, {gap_hand:.1e} m/s",
        "–",
    )


def window_times() -> None:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QEventLoop, QSettings
    from PyQt6.QtTest import QTest
    from PyQt6.QtWidgets import QApplication

    from pendel.app.runs.strips import Strips, StripSpec
    from pendel.app.widgets.theme import dress
    from pendel.app.window.main_window import MainWindow

    application = QApplication.instance() or QApplication([])
    dress(application)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"] = folder
        path = Path(folder) / "door.pendel"
        path.write_text(EXAMPLE.read_text())
        window = MainWindow(QSettings(f"{folder}/s.ini", QSettings.Format.IniFormat))
        window.resize(1280, 800)
        window.show()
        window.files.open_path(path)
        window.show_page("Runs")

        def run() -> float:
            begun = time.perf_counter()
            window.start_run()
            while window.jobs.running:  # waiting, as the window does: a loop that spins takes Python from its threads
                application.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            window.page("Runs").grab()
            return time.perf_counter() - begun

        run()
        run()
        times = []
        for k in (20, 30, 40, 50, 60):
            window.session.do(commands.set_quantity(window.session.drive, "K_p", f"{k} A*s/m"))
            QTest.qWait(900)
            times.append(run())
        row(
            "A changed gain to new traces on the screen, 1.2 s run",
            f"{1e3 * statistics.median(times):.0f} ms",
            "≤ 150 ms",
        )
        window.session.do(commands.add_card(window.session.drive, "inertia", f"Flywheel {os.getpid()}"))
        QTest.qWait(900)
        row("A changed structure to new traces", f"{run():.2f} s", "≤ 1 s")
        window.session.undo.setClean()
        window.close()
    strips = Strips()
    strips.resize(900, 650)
    strips.show()
    t = np.linspace(0, 1, 1_000_000)
    run_like = Million(t)
    strips.build([StripSpec([f"s.{k}"]) for k in range(5)], [(run_like, "#0072B2")])
    application.processEvents()
    frames = 40
    begun = time.perf_counter()
    for k in range(frames):
        strips.plots[0].vb.setXRange(0.01 * k, 0.01 * k + 0.5, padding=0)
        strips.grab()
    row(
        "Five traces of 1 000 000 points, pan and zoom",
        f"{frames / (time.perf_counter() - begun):.0f} frames a second",
        "≥ 30",
    )


class Million:
    """Stands for a run with five long traces."""

    def __init__(self, t):
        from pendel.core.runs.record.display_units import ShownUnits
        from pendel.core.runs.record.kept import SignalInfo
        from pendel.core.runs.record.trace import Trace

        rng = np.random.default_rng(1)
        self.keys = [f"s.{k}" for k in range(5)]
        self.infos = {k: SignalInfo(k, "s", k, "V") for k in self.keys}
        self.name, self.begin, self.end, self.units = "Run", 0.0, 1.0, ShownUnits()
        self._traces = {
            k: Trace(k, k, "V", t, np.sin(40 * t * (n + 1)) + 0.1 * rng.standard_normal(len(t)), False)
            for n, k in enumerate(self.keys)
        }

    def fetch(self, keys):
        """All is there."""

    def declared_unit(self, key):
        return self.infos[key].unit

    def trace(self, key):
        return self._traces[key]


START = """
import time
begun = time.perf_counter()
from pathlib import Path
from PyQt6.QtWidgets import QApplication
application = QApplication([])
from pendel.app.widgets.theme import dress
from pendel.core.drive.examples import DEMO
from pendel.app.window.main_window import MainWindow
dress(application)
window = MainWindow()
window.show()
window.files.open_path(DEMO)
application.processEvents()
window.grab()
print(time.perf_counter() - begun)
from PyQt6.QtTest import QTest
window.start_run()
while window.jobs.running: application.processEvents()
window.show_page('Runs'); window.show_page('Loops'); QTest.qWait(300)
import os
def memory(pid):
    return sum(int(line.split()[1]) for line in open(f'/proc/{pid}/smaps_rollup') if line.startswith('Pss:')) / 1024
print(memory(os.getpid()) + memory(window.jobs.worker.pid))
window.session.undo.setClean(); window.close()
"""


def start_and_memory() -> None:
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": folder}
        for _ in range(2):
            lines = subprocess.run(
                [sys.executable, "-c", START], env=environment, capture_output=True, text=True, check=True
            ).stdout.split()
    row("Warm start to a usable window", f"{float(lines[0]):.2f} s", "≤ 1 s")
    row(
        "Memory with the demo, run and loops shown (window and worker)",
        f"{float(lines[1]):.0f} MB",
        "≤ 400 MB",
    )


if __name__ == "__main__":
    print("| What | Reached | Wanted |\n|---|---|---|")
    time_loop()
    switching.report(row)
    machines.report(row)
    simulator.report(row)
    series.report(row)
    remote.report(row)
    heat.report(row)
    trips.report(row)
    large.report(row)
    formats.report(row)
    window_times()
    start_and_memory()

"""Figures of three-phase machines and their control. Called by ``all.py``."""

from __future__ import annotations

import ctypes
import math
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

import pendel
from pendel.core.drive import commands
from pendel.core.plant.compiler import build_library
from pendel.core.runs.preparing.simulate import run_drive

if __package__:
    from .switching import alternately, beside, warmed
else:
    from switching import alternately, beside, warmed

EXAMPLES = Path(pendel.__file__).parent / "examples"
FIRST_BUILD = """
import sys, time
import pendel
from pendel.core.runs.preparing.simulate import prepare, run_drive
drive = pendel.open_drive(sys.argv[1])
drive.set("level", "device")
begun = time.perf_counter()
run_drive(prepare(drive.document), until=1e-3)
print(time.perf_counter() - begun)
"""
TIDY = """
import time
from PyQt6.QtWidgets import QApplication
application = QApplication([])
from pendel.app.window.files import EXAMPLES
from pendel.app.window.main_window import MainWindow
from pendel.core.drive import clips, commands
window = MainWindow()
window.show()
window.files.open_path(EXAMPLES / "old_haul_feedback.pendel")
session = window.session
while len([c for c in session.drive.cards.values() if not c.inside]) < 60:
    shown = [k for k, c in session.drive.cards.items() if not c.inside and c.face is None]
    room = 60 - len([c for c in session.drive.cards.values() if not c.inside])
    session.do(clips.copy_cards(session.drive, shown[:room])[0])
application.processEvents()
times = []
for _ in range(5):
    begun = time.perf_counter()
    window.drive_page.sheet.tidy_all()
    application.processEvents()
    times.append(time.perf_counter() - begun)
    session.undo.undo()
    application.processEvents()
print(min(times))
session.undo.setClean(); window.close()
"""


def seconds_apart(code: str, *arguments: str) -> float:
    """What a program of its own prints, with caches and state of its own."""
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": folder, "XDG_CACHE_HOME": folder}
        done = subprocess.run(
            [sys.executable, "-c", code, *arguments], env=environment, capture_output=True, text=True, check=True
        )
    return float(done.stdout.split()[-1])


def prepared_at(name: str, level: str):
    drive = pendel.open_drive(EXAMPLES / f"{name}.pendel")
    drive.set("level", level)
    return warmed(drive)


def haul_drive(dead: str, method: str) -> pendel.Drive:
    """The haul drive with switches that are ideal but for a resistance, or with the dead time and drops of its
    IGBTs."""
    d = pendel.open_drive(EXAMPLES / "haul_drive.pendel")
    for name, text in (
        ("level", "switching"),
        ("method", method),
        ("link.R_i", "0"),
        ("inverter.t_dead", dead),
    ):
        d.set(name, text)
    if dead == "0":
        commands.set_choice(d.document, "inverter", "device", "mosfet").apply(d.document)
        d.set("inverter.V_d", "0")
    return d


def haul_by_hand(values, until: float, period: float = 1e-4):
    """The drive with its field orientation in C by hand: what to call, and its trace of i_d and i_q, shape (periods,
    2)."""
    library = ctypes.CDLL(
        str(
            build_library(
                Path(__file__).with_name("haul_by_hand.c").read_text(), flags=("-std=c99", "-O2", "-fPIC", "-shared")
            )
        )
    )
    m, r, t, demand = (values[n] for n in ("haul_machine", "current_regulator", "torque_to_currents", "torque_demand"))
    par = np.array(
        [
            m["R_s"] + values["inverter"]["R_on"],
            m["L_d"],
            m["L_q"],
            m["psi_f"],
            m["p"],
            570 * math.pi / 30,
            t["U_dc"],
            t["share"],
            t["I_max"],
            demand["before"],
            demand["after"],
            demand["t_0"],
            r["K_d"],
            r["T_d"],
            r["K_q"],
            r["T_q"],
            800 / 2**14,
        ]
    )
    trace = np.empty((round(until / period), 2))
    library.haul.argtypes = [ctypes.c_void_p, ctypes.c_long, ctypes.c_double, ctypes.c_void_p]
    return lambda: library.haul(par.ctypes.data, len(trace), period, trace.ctypes.data), trace


def report_haul(row, until: float = 0.9) -> None:
    drives = [warmed(haul_drive(dead, method)) for dead in ("0", "2 us") for method in ("auto", "fast")]
    hand, trace = haul_by_hand(drives[0].examined.values, until)
    hand()
    exact = run_drive(drives[0], until=until).trace("haul_machine.i_q")
    gap = np.max(np.abs(np.interp(np.arange(len(trace)) * 1e-4, exact.t, exact.y) - trace[:, 1]))
    row("Haul drive with its field orientation: largest gap of i_q to C by hand", f"{gap:.0e} A of 192 A", "–")
    ratios = beside(hand, [lambda p=p: run_drive(p, until=until).seconds for p in drives])
    wanted = ("≤ 2.2 ×", "≤ 1.5 ×", "≤ 4 ×", "≤ 3.4 ×")
    words = (
        "ideal switches",
        "ideal switches, fast option",
        "dead time, six IGBTs and diodes",
        "the same, fast option",
    )
    for word, ratio, limit in zip(words, ratios, wanted):
        row(f"Haul drive with its field orientation against C by hand, {word}", f"{ratio:.1f} ×", limit)


def report(row) -> None:
    report_haul(row)
    linear, tabled = (prepared_at(name, "switching") for name in ("haul_drive", "haul_drive_tables"))
    a, b = alternately([lambda: run_drive(linear, until=0.5).seconds, lambda: run_drive(tabled, until=0.5).seconds])
    row("Haul drive by flux tables against the linear machine, switching", f"{b / a:.1f} ×", "≤ 3 ×")
    for name, words in (
        ("cabin_fan", "Cabin fan, 20 kHz"),
        ("old_haul_drive", "Old haul drive: transformer, bridge, link, inverter, estimator, 5 kHz"),
        ("old_haul_feedback", "the same with an active front end"),
    ):
        prepared = prepared_at(name, "switching")
        until = float(prepared.examined.settings["until"])
        (took,) = alternately([lambda: run_drive(prepared, until=until).seconds], 3)
        row(f"{words}, switching, faster than real time", f"{until / took:.1f} ×", "≥ 1 ×")
    row(
        "First build of the largest example, at device level",
        f"{seconds_apart(FIRST_BUILD, str(EXAMPLES / 'old_haul_feedback.pendel')):.1f} s",
        "≤ 3 s",
    )
    row("Tidy of a sheet of 60 cards", f"{1e3 * seconds_apart(TIDY):.0f} ms", "≤ 200 ms")

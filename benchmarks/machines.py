"""Figures of three-phase machines and their control. Called by ``all.py``."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import pendel
from pendel.core.runs.simulate import prepare, run_drive

if __package__:
    from .switching import alternately
else:
    from switching import alternately

EXAMPLES = Path(pendel.__file__).parent / "examples"
FIRST_BUILD = """
import sys, time
import pendel
from pendel.core.runs.simulate import prepare, run_drive
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
from pendel.app.files import EXAMPLES
from pendel.app.window import MainWindow
from pendel.core.drive import commands
window = MainWindow()
window.show()
window.files.open_path(EXAMPLES / "old_haul_feedback.pendel")
session = window.session
while len([c for c in session.drive.cards.values() if not c.inside]) < 60:
    shown = [k for k, c in session.drive.cards.items() if not c.inside and c.face is None]
    session.do(commands.copy_cards(session.drive, shown[: 60 - len([c for c in session.drive.cards.values() if not c.inside])])[0])
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
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": folder, "XDG_CACHE_HOME": folder}  # fmt: skip
        done = subprocess.run([sys.executable, "-c", code, *arguments], env=environment, capture_output=True, text=True, check=True)  # fmt: skip
    return float(done.stdout.split()[-1])


def prepared_at(name: str, level: str):
    drive = pendel.open_drive(EXAMPLES / f"{name}.pendel")
    drive.set("level", level)
    prepared = prepare(drive.document)
    run_drive(prepared, until=0.01)
    return prepared


def report(row) -> None:
    linear, tabled = (prepared_at(name, "switching") for name in ("haul_drive", "haul_drive_tables"))
    a, b = alternately([lambda: run_drive(linear, until=0.5), lambda: run_drive(tabled, until=0.5)])
    row("Haul drive by flux tables against the linear machine, switching", f"{b / a:.1f} ×", "≤ 3 ×")
    for name, words in (("cabin_fan", "Cabin fan, 20 kHz"), ("old_haul_drive", "Old haul drive: transformer, bridge, link, inverter, estimator, 5 kHz"), ("old_haul_feedback", "the same with an active front end")):  # fmt: skip
        prepared = prepared_at(name, "switching")
        until = float(prepared.examined.settings["until"])
        (took,) = alternately([lambda: run_drive(prepared, until=until)], 3)
        row(f"{words}, switching, faster than real time", f"{until / took:.1f} ×", "≥ 1 ×")
    row("First build of the largest example, at device level", f"{seconds_apart(FIRST_BUILD, str(EXAMPLES / 'old_haul_feedback.pendel')):.1f} s", "≤ 3 s")  # fmt: skip
    row("Tidy of a sheet of 60 cards", f"{1e3 * seconds_apart(TIDY):.0f} ms", "≤ 200 ms")

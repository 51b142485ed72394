"""The Bench page over a long time: gaps of the window's event loop, and memory, with a clock that runs fast.

    python benchmarks/bench_window.py [seconds] [pace]

The stand-in board runs the door drive `pace` times as fast as the clock (30), for so many seconds (120: an hour of the
board), with eight channels on the oscilloscope, values written, records at full rate, a cut link and loading in
between."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="pendel-bench-")

from gaps import Pulse
from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication

from pendel.app.widgets.theme import dress
from pendel.app.window.main_window import MainWindow
from pendel.core.bench.facts import Order
from pendel.core.drive import commands
from pendel.core.drive.examples import DEMO

CHANNELS = (
    "speed_pi.out",
    "current_pi.out",
    "board:state",
    "board:ticks",
    "memory:speed_pi.integral",
    "memory:current_pi.integral",
)
EVERY = 20
"""Ticks a sample: at the pace of 30 there are 30 000 samples a second of each channel."""


def megabytes(pid: int) -> float:
    status = Path(f"/proc/{pid}/status").read_text("utf-8").split("VmRSS:")
    return int(status[1].split()[0]) / 1024 if len(status) > 1 else 0.0


def family(pid: int) -> list[int]:
    """A process and all that it started, with theirs."""
    found = [pid]
    for task in Path(f"/proc/{pid}/task").iterdir():
        for child in (task / "children").read_text("utf-8").split():
            found += family(int(child))
    return found


def main(seconds: float, pace: float) -> None:
    application = QApplication([])
    dress(application)
    window = MainWindow(QSettings(tempfile.mktemp(suffix=".ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    window.files.open_path(DEMO)
    live = {"K_p": ("8", "140"), "T_i": ("20 ms", "400 ms")}
    window.session.do(commands.set_live(window.session.drive, "speed_pi", live))
    window.show_page("Bench")
    page = window.page("Bench")
    board, scope = page.board, page.scope

    def wait(done, longest: float = 60.0) -> None:
        end = time.perf_counter() + longest
        while not done() and time.perf_counter() < end:
            application.processEvents()
            time.sleep(0.002)
        assert done()

    def rest(span: float) -> None:
        end = time.perf_counter() + span
        wait(lambda: time.perf_counter() > end, span + 5.0)

    def connected_and_loaded() -> None:
        page.link.connect_or_not()
        wait(lambda: board.facts is not None and not board.busy)
        board.load()
        wait(lambda: board.matches and not board.busy)
        board.stand_in.set_pace(pace)
        board.order(Order.ENABLE)
        wait(lambda: not board.busy)
        scope.start_or_stop()
        wait(lambda: scope.sampler is not None)

    wait(lambda: board.description is not None)
    page.link.connect_or_not()
    wait(lambda: board.facts is not None and not board.busy)
    for key in CHANNELS:
        scope.add(key)
    scope.trigger.every.setText(str(EVERY))
    scope.trigger.every.editingFinished.emit()
    page.link.connect_or_not()
    rest(0.5)
    pulse = Pulse()
    pulse.what = "connect, load"
    connected_and_loaded()
    begun, turn, seen = time.perf_counter(), 0, []
    while (at := time.perf_counter() - begun) < seconds:
        own, *others = family(os.getpid())
        seen.append((at, megabytes(own), sum(map(megabytes, others)), board.status.get("time", 0.0)))
        print(
            f"{at:5.0f} s, board {seen[-1][3]:6.0f} s: window {seen[-1][1]:.0f} MB, its processes {seen[-1][2]:.0f} MB",
            flush=True,
        )
        pulse.what = "sampling"
        rest(4.0)
        pulse.what = "values written"
        for gain in (30.0, 35.0):
            board.write({"speed_pi.K_p": gain})
            wait(lambda: not board.busy)
        turn += 1
        if turn % 4 == 0:
            pulse.what = "record at full rate"
            scope.record()
            rest(1.5)
        if turn % 8 == 0:
            pulse.what = "cut and again"
            page.link.connect_or_not()
            rest(0.5)
            connected_and_loaded()
    lost = board.facts.lost
    page.link.connect_or_not()
    rest(0.5)
    begun = time.perf_counter()
    window.session.undo.setClean()
    window.close()
    print(f"closing took {time.perf_counter() - begun:.2f} s; {lost} samples lost; channels {len(scope.shown)}")
    print(f"gaps above 100 ms: {len(pulse.gaps)}")
    for gap in sorted(pulse.gaps, key=lambda gap: gap.seconds, reverse=True)[:12]:
        print(f"{gap.seconds:.2f} s", f"worked {gap.worked:.2f} s", gap.what, gap.where, sep="\t")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 120.0, float(sys.argv[2]) if len(sys.argv) > 2 else 30.0)

"""How long the window's event loop stands still in a walk through all pages of all examples, with edits and runs.

    python benchmarks/gaps.py [example …]

Prints what lasted longest, each with the page and what the window's thread was doing; beside it how much of the gap
this thread worked, and what a virtual computer's host took from all cores meanwhile, which is nobody's fault here. Not
part of `all.py`: it takes minutes."""

from __future__ import annotations

import faulthandler
import os
import re
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="pendel-gaps-")

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtWidgets import QApplication

from pendel.app.main import TURN
from pendel.app.runs.page import RunsPage
from pendel.app.widgets.theme import dress
from pendel.app.window.main_window import MainWindow
from pendel.app.window.pages import load_ahead
from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.examples import DEMO

LEAST = 0.1
"""s: shorter gaps are not reported."""
PAGES = ("Runs", "Loops", "Firmware", "Drive")


def stolen() -> float:
    """What other guests of the host have taken from all cores so far, s (0 where the computer is a real one)."""
    return int(Path("/proc/stat").read_text().split()[8]) / os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True)
class Gap:
    """One standstill of the event loop, s; `worked` is the thread's own time in it, `taken` the host's on all cores."""

    seconds: float
    worked: float
    taken: float
    what: str
    where: str


class Pulse:
    """Beats in the window's thread; another thread looks where it stands when no beat comes."""

    def __init__(self) -> None:
        self.last, self.what, self.where = time.perf_counter(), "start", ""
        self.worked, self.taken = time.thread_time(), stolen()
        self.gaps: list[Gap] = []
        self.most = 0.0
        self.timer = QTimer()
        self.timer.setInterval(5)
        self.timer.timeout.connect(self.beat)
        self.timer.start()
        threading.Thread(target=self.watch, daemon=True).start()

    def beat(self) -> None:
        now, worked, taken = time.perf_counter(), time.thread_time(), stolen()
        self.most = max(self.most, worked - self.worked)
        if now - self.last > LEAST:
            gap = Gap(now - self.last, worked - self.worked, taken - self.taken, self.what, self.where)
            self.gaps.append(gap)
        self.last, self.worked, self.taken, self.where = now, worked, taken, ""

    def watch(self) -> None:
        """Where the window's thread is, as `faulthandler` writes it: whoever holds its frames may be the one that
        ends a painter, in the wrong thread."""
        main = threading.main_thread().ident or 0
        with tempfile.TemporaryFile("w+") as file:
            while True:
                time.sleep(0.02)
                if time.perf_counter() - self.last > 0.07:
                    file.seek(0)
                    file.truncate()
                    faulthandler.dump_traceback(file)
                    file.seek(0)
                    threads = re.split(r"^(?:Current t|T)hread 0x", file.read(), flags=re.MULTILINE)
                    stack = next((t for t in threads if re.match(rf"0*{main:x}\b", t)), "")
                    ours = re.findall(r"/pendel/\S*?([^/\s]+\.py)\", line (\d+)", stack)
                    self.where = " < ".join(f"{name}:{line}" for name, line in ours[:5])


def edited(drive: Drive, window: MainWindow) -> None:
    """One value of one card changes a little."""
    kinds = window.session.kinds()
    key = next(k for k, c in drive.cards.items() if c.face is None and k in kinds and kinds[k].values)
    value = next(v for v in kinds[key].values if v.default)
    text = drive.cards[key].values.get(value.name, value.default)
    window.session.do(commands.set_value(drive, key, value.name, f"({text})*1.0001"))


def panels_and_cursors(page: RunsPage, wait: Callable[[float], None]) -> None:
    """All panels open, the second cursor moves, and they close again."""
    toggles = (page.spectrum_button, page.rotor_button, page.sector_button, page.torque_button)
    opened = [toggle for toggle in toggles if toggle.isEnabled()]
    for toggle in opened:
        toggle.click()
        wait(0.3)
    end = max(page.strips.times)
    for part in (0.9, 0.8, 0.7, 1.0):
        page.strips.set_cursors(0.0, part * end)
        wait(0.3)
    for toggle in opened:
        toggle.click()
    wait(0.2)


def walk(names: list[str]) -> None:
    sys.setswitchinterval(TURN)
    application = QApplication([])
    dress(application)
    window = MainWindow(QSettings(tempfile.mktemp(suffix=".ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    pulse = Pulse()

    def wait(seconds: float) -> None:
        end = time.perf_counter() + seconds
        while time.perf_counter() < end:
            application.processEvents()
            time.sleep(0.002)

    window.build_ahead(load_ahead())  # as the program does
    wait(4.0)
    for path in sorted(DEMO.parent.glob("*.pendel")):
        if names and path.stem not in names:
            continue
        pulse.what = f"{path.stem}: open"
        window.files.open_path(path)
        wait(1.0)
        pulse.what = f"{path.stem}: run"
        window.start_run()
        wait(2.5)
        for page in PAGES:
            pulse.what = f"{path.stem}: {page}"
            window.show_page(page)
            wait(1.0)
            pulse.what = f"{path.stem}: edit on {page}"
            edited(window.session.drive, window)
            wait(1.2)
            if page == "Runs":
                pulse.what = f"{path.stem}: panels and cursors"
                panels_and_cursors(window.page("Runs"), wait)
        window.session.undo.setClean()
    begun = time.perf_counter()
    window.close()
    ours = sum(gap.worked > LEAST for gap in pulse.gaps)
    print(f"closing took {time.perf_counter() - begun:.2f} s")
    print(f"gaps above {1e3 * LEAST:.0f} ms: {len(pulse.gaps)}, of work alone: {ours}")
    print(f"most work in one turn: {pulse.most:.3f} s")
    for gap in sorted(pulse.gaps, key=lambda gap: gap.seconds, reverse=True)[:30]:
        print(
            f"{gap.seconds:.2f} s", f"worked {gap.worked:.2f} s, taken {gap.taken:.2f} s", gap.what, gap.where, sep="\t"
        )


if __name__ == "__main__":
    walk(sys.argv[1:])

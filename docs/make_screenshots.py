"""Take the pictures of `docs/screenshots` that show the main window, from the examples: python docs/make_screenshots.py
[NAME …]. Look at each before it is committed."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="pendel_pictures_")

from PyQt6.QtCore import QSettings
from PyQt6.QtWidgets import QApplication, QMessageBox

from pendel.app.bench.board import LinkState
from pendel.app.widgets.theme import dress
from pendel.app.window.main_window import MainWindow
from pendel.core.drive import commands
from pendel.core.drive.document import End, KeptTransfer, OwnEquations
from pendel.core.drive.examples import EXAMPLES

HERE = Path(__file__).parent / "screenshots"
WAIT = 120.0
"""s, for what is worked out beside the window."""
OWN_MOTOR = OwnEquations(
    ports=("winding: dc, u, i_w", "shaft: shaft, w_s, M"),
    values=("R = 0.46 ohm", "L = 0.61 mH", "k = 0.108 N*m/A", "J = 1.9e-4 kg*m^2"),
    states=("i = 0 A", "w = 0 rad/s"),
    equations=("i_w = i", "w_s = w", "L*der(i) = u - R*i - k*w", "J*der(w) = k*i + M"),
)
DOOR_MODES = OwnEquations(
    ports=("start: in", "fault: in", "enable: out", "level: out"),
    values=("wait = 0.2 s", "top = 1"),
    equations=(
        "idle: enable = 0; level = 0",
        "charge: enable = 0; level = 0",
        "run: enable = 1; level = top",
        "idle -> charge: start > 0.5",
        "charge -> run: elapsed > wait",
        "charge -> idle: start < 0.5",
        "run -> idle: start < 0.5 or fault > 0.5",
    ),
)


def settle(seconds: float = 0.3) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        QApplication.processEvents()


def until(done: Callable[[], Any]) -> None:
    end = time.monotonic() + WAIT
    while not done():
        QApplication.processEvents()
        if time.monotonic() > end:
            raise TimeoutError("What the picture is to show did not come.")
    settle()


@contextmanager
def example(name: str) -> Iterator[MainWindow]:
    """The window with an example, which it may change."""
    with tempfile.TemporaryDirectory() as folder:
        for path in EXAMPLES.iterdir():
            if path.is_file():
                shutil.copy(path, folder)
        window = MainWindow(QSettings(f"{folder}/settings.ini", QSettings.Format.IniFormat))
        window.resize(1280, 800)
        window.show()
        window.files.open_path(Path(folder) / f"{name}.pendel")
        settle()
        yield window
        window.session.undo.setClean()
        window.close()


def judged(window: MainWindow) -> None:
    settle()
    until(lambda: not window.session.judging)


def run(window: MainWindow, page: str) -> None:
    count = len(window.session.runs)
    window.start_run()
    until(lambda: len(window.session.runs) > count)
    window.show_page(page)
    settle(1.0)


def bench(window: MainWindow) -> None:
    window.session.do(
        commands.set_live(window.session.drive, "speed_pi", {"K_p": ("8", "140"), "T_i": ("20 ms", "400 ms")})
    )
    window.show_page("Bench")
    settle()
    page: Any = window.page("Bench")
    until(lambda: page.board.description is not None)
    page.link.connect_button.click()
    until(lambda: page.board.link is LinkState.OPEN and not page.board.busy)
    page.link.load_button.click()
    until(lambda: page.board.matches and not page.board.busy)
    while page.scope.shown:
        page.scope.remove(0)
    for key in ("speed_pi.out", "travel_plan.speed", "travel_speed.out"):
        page.scope.add(key)
    trigger = page.scope.trigger
    trigger.mode.setCurrentIndex(trigger.mode.findText("normal"))
    for field, text in ((trigger.every, "10"), (trigger.low, "2 A")):
        field.setText(text)
        field.committed.emit(text)
    page.scope.run_button.click()
    settle()
    page.link.enable_button.click()
    until(lambda: page.scope.frames > 0)
    settle(2.0)


def circuit(window: MainWindow) -> None:
    window.session.do(commands.set_setting(window.session.drive, "level", "switching"))
    run(window, "Drive")
    window.session.select(["bridge"])
    window.drive_page.open_circuit("bridge")
    settle()
    window.drive_page.circuit.slider.setValue(286)


def modes(window: MainWindow) -> None:
    window.show_page("Loops")
    judged(window)
    page: Any = window.page("Loops")
    page.show_modes()
    page.modes.swing.click()
    settle(1.0)


def rotor(window: MainWindow) -> None:
    run(window, "Runs")
    page: Any = window.page("Runs")
    page.panels.show(["rotor"])
    settle(1.0)


def switching(window: MainWindow) -> None:
    run(window, "Runs")
    window.session.do(commands.set_setting(window.session.drive, "level", "switching"))
    run(window, "Runs")
    page: Any = window.page("Runs")
    page.kept.hold_only([each.name for each in reversed(window.session.runs)])  # the wide one below
    settle()
    page.panels.show(["spectrum"])
    page.strips.set_cursors(0.4, 0.42)
    settle(1.5)


def transfer(window: MainWindow) -> None:
    window.show_page("Loops")
    judged(window)
    page: Any = window.page("Loops")
    words = page.way.sweep_button.text()
    page.draw_way("current loop alone", KeptTransfer("i_set", "i_door", ("speed_pi.out",)))
    until(page.way.sweep_button.isEnabled)
    page.way.sweep_button.click()
    until(lambda: page.way.sweep_button.text() == words)


def own(window: MainWindow) -> None:
    judged(window)
    window.session.do(commands.add_card(window.session.drive, "own", "Own motor", 5, 43, own=OWN_MOTOR))
    run(window, "Drive")
    window.fit()
    window.session.select(["own_motor"])
    judged(window)


def state_machine(window: MainWindow) -> None:
    session = window.session
    for name, y, at in (("Start", 105, "0.2 s"), ("Fault", 127, "0.9 s")):
        session.do(commands.add_card(session.drive, "step", name, 43, y))
        session.do(commands.set_value(session.drive, name.lower(), "t_0", at))
    session.do(commands.add_card(session.drive, "own_modes", "Door modes", 5, 116, own=DOOR_MODES))
    for name in ("start", "fault"):
        session.do(commands.add_wire(session.drive, End(name, "out"), End("door_modes", name)))
    run(window, "Drive")
    window.fit()
    session.select(["door_modes"])
    judged(window)


PICTURES: dict[str, tuple[str, Callable[[MainWindow], None]]] = {
    "bench": ("car_door_drive", bench),
    "circuit": ("car_door_drive", circuit),
    "modes": ("haul_drive_rope", modes),
    "own": ("car_door_drive", own),
    "rotor": ("haul_drive", rotor),
    "state_machine": ("car_door_drive", state_machine),
    "switching": ("car_door_drive", switching),
    "transfer": ("car_door_drive", transfer),
}


def main() -> None:
    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    dress(app)
    QMessageBox.question = QMessageBox.warning = lambda *_: QMessageBox.StandardButton.Discard  # type: ignore[assignment]
    for name in sys.argv[1:] or PICTURES:
        of, show = PICTURES[name]
        with example(of) as window:
            show(window)
            settle()
            window.grab().save(str(HERE / f"{name}.png"))
        print(name)


if __name__ == "__main__":
    main()

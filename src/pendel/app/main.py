"""Starts the window."""

from __future__ import annotations

import argparse
import contextlib
import os
import signal
import sys
import traceback
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from platformdirs import user_state_dir

LOAD_AHEAD_AFTER_MS = 300
TURN = 1e-3
"""Seconds after which a job beside the window lets it go on; the interpreter's own 5 ms add up over an edit."""


def keep_going(window) -> None:
    """An error inside the window is logged and told; the open drive and its autosave stay."""
    log = Path(user_state_dir("pendel")) / "pendel.log"

    def hook(kind, error, trace) -> None:
        text = "".join(traceback.format_exception(kind, error, trace))
        print(text, file=sys.stderr)
        with contextlib.suppress(OSError):
            log.parent.mkdir(parents=True, exist_ok=True)
            with log.open("a", encoding="utf-8") as stream:
                stream.write(f"{datetime.now().isoformat(timespec='seconds')}\n{text}\n")
        window.say(f"Something went wrong inside Pendel ({error}). Your drive is kept; details are in {log}.")

    sys.excepthook = hook


NO_SCREEN = (
    "The window cannot be shown here. Start it on a desktop (DISPLAY or WAYLAND_DISPLAY names its screen); without "
    "one, “pendel --help” tells what works in a terminal. The reason given:"
)


@contextlib.contextmanager
def told_without_screen() -> Iterator[None]:
    """Qt ends the process where it finds no screen, or a library of the screen is missing: it tells why to whoever
    listens, and aborts. What it tells otherwise goes where it would without this."""
    from PyQt6.QtCore import QtMsgType, qInstallMessageHandler

    reasons: list[str] = []

    def listen(kind: QtMsgType, _context: object, message: str | None) -> None:
        reasons.append(message or "")
        if kind == QtMsgType.QtFatalMsg:
            print(NO_SCREEN, *reasons, sep="\n", file=sys.stderr, flush=True)
            os._exit(2)

    qInstallMessageHandler(listen)
    try:
        yield
    finally:
        qInstallMessageHandler(None)
    for reason in reasons:
        print(reason, file=sys.stderr)


def main(arguments: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(prog="pendel-window", description="The Pendel window.")
    parser.add_argument("file", nargs="?", help="a .pendel drive to open")
    parser.add_argument("--demo", action="store_true", help="open the car door drive")
    options = parser.parse_args(arguments)
    from PyQt6.QtCore import QSettings, QTimer
    from PyQt6.QtGui import QIcon
    from PyQt6.QtWidgets import QApplication

    from pendel.app.session.preferences import (
        COMPILER,
        DIGITS,
        FOUND,
        SIZE,
        SIZES,
        THEME,
        Preferences,
        sound_settings,
    )
    from pendel.app.widgets.sizes import use_sizes
    from pendel.core.plant.compiler import COMPILER_CHOSEN
    from pendel.core.quantities.units import use_digits

    sys.setswitchinterval(TURN)
    settings, said = sound_settings(QSettings("pendel", "pendel"))
    preferences = Preferences(settings)
    use_digits(int(preferences[DIGITS]))
    use_sizes(preferences[SIZES])
    if (chosen := preferences[COMPILER]) != FOUND:
        os.environ.setdefault(COMPILER_CHOSEN, chosen)  # for processes beside, too
    if (size := preferences[SIZE]) != "100":
        os.environ.setdefault("QT_SCALE_FACTOR", f"{int(size) / 100:g}")
    from pendel.core.freed import give_back_large_arrays

    give_back_large_arrays()
    with told_without_screen():
        application = QApplication(sys.argv[:1])
    application.setApplicationName("Pendel")
    application.setDesktopFileName("pendel")
    from pendel.app.widgets.theme import DARK, LIGHT, dress
    from pendel.app.window.main_window import MainWindow
    from pendel.app.window.pages import load_ahead
    from pendel.core.drive.examples import DEMO

    dress(application, {"light": LIGHT, "dark": DARK}.get(preferences[THEME]))
    application.setWindowIcon(QIcon(str(Path(__file__).parent / "icons" / "pendel.svg")))
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    window = MainWindow(settings)
    keep_going(window)
    window.show()
    window.preferring.tell_problems()
    if said:
        window.say(said)
    if options.file:
        window.files.open_path(Path(options.file))
    elif options.demo:
        window.files.open_path(DEMO)
    elif window.files.begins:
        QTimer.singleShot(0, window.files.begin)
    else:
        window.files.offer_untitled_autosave()
    # Once the window is there and its drive open.
    QTimer.singleShot(LOAD_AHEAD_AFTER_MS, lambda: window.build_ahead(load_ahead()))
    return application.exec()


if __name__ == "__main__":
    sys.exit(main())

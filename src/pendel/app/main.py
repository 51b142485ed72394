"""Starts the window."""

from __future__ import annotations

import argparse
import signal
import sys
from pathlib import Path


def main(arguments: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(prog="pendel-window", description="The Pendel window.")
    parser.add_argument("file", nargs="?", help="a .pendel drive to open")
    parser.add_argument("--demo", action="store_true", help="open the car door drive")
    options = parser.parse_args(arguments)
    from PyQt6.QtGui import QIcon
    from PyQt6.QtWidgets import QApplication

    application = QApplication(sys.argv[:1])
    application.setApplicationName("Pendel")
    application.setDesktopFileName("pendel")
    from pendel.app.look import dress
    from pendel.app.window import DEMO, MainWindow

    dress(application)
    application.setWindowIcon(QIcon(str(Path(__file__).parent / "icons" / "pendel.svg")))
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    window = MainWindow()
    window.show()
    if options.file:
        window.open_path(Path(options.file))
    elif options.demo:
        window.open_path(DEMO)
    else:
        window.offer_untitled_autosave()
    return application.exec()


if __name__ == "__main__":
    sys.exit(main())

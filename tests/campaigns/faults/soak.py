"""A window that is used at random: pages, edits, undo, copies, runs and stops, files, and whatever hands do. Exceptions
and freezes are told, and a history that does not lead back to where it was."""

from __future__ import annotations

import contextlib
import os
import shutil
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from pathlib import Path
from random import Random

from tests.campaigns.faults import texts
from tests.campaigns.faults.report import Boundary

WAY = 5
"""Of the places that an exception came by, how many are told."""
FREEZE = 2.0
"""Seconds in which the window answers nothing."""


PAGES = ("Drive", "Runs", "Loops", "Firmware", "Bench")
ENDINGS = (".csv", ".mat", ".h5", ".mf4", ".png", ".svg", ".c", ".pendel", ".xyz", "")


def lost_on_the_way_back(window) -> str:
    """What differs after all is undone and done again; empty where nothing does."""
    from pendel.core.drive.file import to_text

    undo = window.session.undo
    undo.setIndex(undo.count())
    end, steps = to_text(window.session.drive), undo.count()
    undo.setIndex(0)
    undo.setIndex(steps)
    return "" if to_text(window.session.drive) == end else f"{steps} edits undone and done again lead elsewhere"


def soak(seconds: float, seed: int) -> Boundary:
    """For so many seconds; every exception that reaches the window's hook, and every freeze, is a failure."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    home = tempfile.mkdtemp(prefix="pendel-soak-")
    os.environ["XDG_STATE_HOME"] = home
    from PyQt6.QtCore import QSettings, Qt, QTimer
    from PyQt6.QtTest import QTest
    from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QInputDialog, QMessageBox

    import pendel
    from pendel.app.widgets.theme import dress
    from pendel.app.window.main_window import MainWindow
    from pendel.core.catalogue.index import kinds
    from pendel.core.drive import clips, commands
    from pendel.core.errors import PendelError
    from tests.campaigns.faults.hands import AT_ONCE, Hands

    application = QApplication.instance() or QApplication([])
    dress(application)  # type: ignore[arg-type]
    into, rng = Boundary("window, used at random"), Random(seed)
    doing = ["start"]

    def hook(kind, error, trace) -> None:
        places = [f"{Path(f.filename).name}:{f.lineno}" for f in traceback.extract_tb(trace)]
        way = " > ".join(places[-WAY:])
        into.fail(doing[0].encode(), f"{kind.__name__}: {str(error)[:80]} ({way}) while {doing[0]}")

    sys.excepthook = hook
    for name in ("question", "warning", "about"):
        setattr(
            QMessageBox,
            name,
            lambda *_, **__: rng.choice(
                (
                    QMessageBox.StandardButton.Discard,
                    QMessageBox.StandardButton.No,
                    QMessageBox.StandardButton.Yes,
                )
            ),
        )
    QMessageBox.exec = QDialog.exec = lambda *_: 0  # type: ignore
    QFileDialog.getSaveFileName = lambda *_, **__: (f"{home}/out{rng.choice(ENDINGS)}", "")  # type: ignore
    QFileDialog.getOpenFileName = lambda *_, **__: (f"{home}/none.pendel", "")  # type: ignore
    QFileDialog.getExistingDirectory = lambda *_, **__: f"{home}/out"  # type: ignore
    QInputDialog.getText = lambda *_, **__: (texts.text(rng, 12), rng.random() < 0.8)  # type: ignore
    window = MainWindow(QSettings(f"{home}/s.ini", QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    beat = [time.perf_counter()]

    def tick() -> None:
        now = time.perf_counter()
        gap = now - beat[0]
        beat[0] = now
        into.longest = max(into.longest, gap)
        if gap > FREEZE:
            into.fail(doing[0].encode(), f"froze for {gap:.1f} s while {doing[0].split(' ')[0]}")

    timer = QTimer()
    timer.timeout.connect(tick)
    timer.start(10)
    examples = sorted((Path(pendel.__file__).parent / "examples").glob("*.pendel"))
    session = window.session

    def card() -> str | None:
        return rng.choice(list(session.drive.cards)) if session.drive.cards else None

    def open_one() -> None:
        source = rng.choice(examples)
        path = Path(home) / source.name
        if not path.exists():
            shutil.copy(source, path)
        session.undo.setClean()
        window.files.open_path(path)

    def edit() -> None:
        key = card()
        if key is None:
            return
        values = kinds()[session.drive.cards[key].kind].values if session.drive.cards[key].kind in kinds() else ()
        ways: list[Callable[[], commands.Command]] = [
            lambda: commands.set_value(
                session.drive,
                key,
                rng.choice(values).name,
                texts.number(rng) if rng.random() < 0.5 else texts.text(rng),
            ),
            lambda: commands.rename_card(session.drive, key, texts.text(rng, 12) * rng.randrange(1, 4)),
            lambda: clips.copy_cards(session.drive, [key])[0],
            lambda: commands.remove_cards(session.drive, [key]),
            lambda: commands.add_card(
                session.drive,
                rng.choice(list(kinds())),
                texts.text(rng, 6) or "x",
                rng.randrange(300),
                rng.randrange(200),
            ),
            lambda: commands.move_cards(session.drive, {key: (rng.randrange(400), rng.randrange(300))}),
            lambda: commands.set_setting(
                session.drive, rng.choice(("until", "tick", "title", "method")), texts.text(rng)
            ),
            lambda: commands.rename_quantity(
                session.drive, rng.choice(list(session.drive.quantities)), texts.text(rng, 8)
            ),
        ]
        with contextlib.suppress(PendelError, IndexError):
            session.do(rng.choice(ways)())

    def several_undone() -> None:
        for _ in range(rng.randrange(1, 12)):
            window.editing.undo()

    def with_runs() -> None:
        """Show signals, delete a run and bring it back, take the drive of one."""
        shelf, page = session.shelf, window.page("Runs")
        run = rng.choice(session.runs) if session.runs else None
        if run is None:
            return
        ways: list[Callable[[], object]] = [
            lambda: page.strips.put([rng.choice(run.keys)], None),
            lambda: page.usual_strips(),
            lambda: shelf.remove(run),
            lambda: shelf.bring_back(),
            lambda: shelf.read_older(),
            lambda: page.kept._take_drive_of(run),
        ]
        rng.choice(ways)()

    def look_for() -> None:
        window.find()
        line = window.drive_page.find_line
        if line.isVisible():
            line.line.setText(texts.text(rng, 6))
            QTest.keyClick(line.line, rng.choice((Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Down)))

    def save_elsewhere() -> None:
        with contextlib.suppress(PendelError):
            session.save(Path(home) / f"other{rng.randrange(4)}.pendel")

    actions: dict[str, Callable[[], object]] = {
        "opening": open_one,
        "editing": edit,
        "editing more": edit,
        "editing again": edit,
        "undoing": several_undone,
        "redoing": lambda: session.undo.redo(),
        "turning to a page": lambda: window.show_page(rng.choice(PAGES)),
        "running": lambda: window.start_run(),
        "stopping": lambda: window.jobs.stop(),
        "selecting": lambda: session.select([k] if (k := card()) else []),
        "changing the level": lambda: session.do(
            commands.set_setting(session.drive, "level", rng.choice(("averaged", "switching", "device")))
        ),
        "saving": lambda: window.files.save_drive() if session.path else None,
        "moving hands": lambda: hands.move(),
        "moving hands more": lambda: hands.move(),
        "moving hands again": lambda: hands.move(),
        "having to do with runs": with_runs,
        "looking for something": look_for,
        "saving elsewhere": save_elsewhere,
        "copying": lambda: (window.editing.copy(), window.editing.paste()),
    }
    hands = Hands(window, rng, PAGES)
    until = time.monotonic() + seconds
    open_one()
    while time.monotonic() < until:
        doing[0] = rng.choice(list(actions))
        into.count += 1
        try:
            actions[doing[0]]()
        except Exception as error:  # noqa: BLE001  what is looked for
            hook(type(error), error, error.__traceback__)
        if rng.random() > AT_ONCE:
            QTest.qWait(rng.choice((0, 5, 30, 300)))
    if sentence := lost_on_the_way_back(window):
        into.fail(sentence.encode(), sentence)
    doing[0] = "closing"
    session.undo.setClean()
    begun = time.perf_counter()
    window.close()
    into.longest = max(into.longest, time.perf_counter() - begun)
    timer.stop()
    shutil.rmtree(home, ignore_errors=True)
    return into

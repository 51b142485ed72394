import contextlib
import gc
import os
import shutil
import threading
import time
from pathlib import Path

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QEvent, QSettings, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox

from pendel.app.session.jobs import KINDS, READ_RUNS, ROTOR, SAVE_TRACES, SPECTRUM, TAKE_PICTURE, WORK_OUT, WRITE_C
from pendel.app.session.lowering import Lowering
from pendel.core.drive import commands
from pendel.core.processes.worker import Beside, Worker
from pendel.core.runs.record.evaluating import EvaluatorProcess


@pytest.fixture(scope="session")
def application():
    from pendel.app.widgets.theme import dress
    from pendel.app.window.pages import PAGES

    for page in PAGES:  # else what is asked to be shown follows once it is
        page.load()
    made = QApplication.instance() or QApplication([])
    dress(made)
    return made


@pytest.fixture
def questions(monkeypatch):
    """Message boxes answered by the test: append answers, read what was asked."""

    class Asked(list):
        answers: list = []

    asked = Asked()
    asked.answers = []

    def ask(parent, title, text, *_):
        asked.append(text)
        return asked.answers.pop(0) if asked.answers else QMessageBox.StandardButton.Discard

    monkeypatch.setattr(QMessageBox, "question", ask)
    monkeypatch.setattr(QMessageBox, "warning", ask)
    return asked


class SharedBeside(Beside):
    """One process for the windows of all tests, since each takes seconds to start. What is asked when a window closes
    is given up."""

    def close(self):
        if self._lock.locked() and self._worker is not None:
            self._worker.end_now()


class SharedLowering(Lowering):
    """The same for what is lowered."""

    def __init__(self):
        super().__init__(SharedBeside(own_answers=True))


class SharedWorker(Worker):
    """One process for the runs of all windows. A run that a window leaves behind ends it, and the next starts
    another."""

    def kill(self):
        pass


class SharedEvaluator(EvaluatorProcess):
    """One process that evaluates the signals of all windows' runs."""

    def close(self):
        pass


@pytest.fixture(scope="session")
def worker():
    made = SharedWorker()
    yield made
    Worker.kill(made)


@pytest.fixture(scope="session")
def beside():
    made = SharedBeside()
    yield made
    Beside.close(made)


@pytest.fixture(scope="session")
def lowering():
    made = SharedLowering()
    yield made
    Beside.close(made.worker)


@pytest.fixture(scope="session")
def evaluator():
    made = SharedEvaluator()
    yield made
    EvaluatorProcess.close(made)


def left_behind():
    """What a closed window leaves: threads of jobs, and windows or menus that still show."""
    lanes = {kind.lane for kind in KINDS}
    threads = [t.name for t in threading.enumerate() if t.name.rpartition("_")[0] in lanes]
    return threads + [type(top).__name__ for top in QApplication.topLevelWidgets() if top.isVisible()]


@pytest.fixture(scope="session", autouse=True)
def nothing_is_left():
    """After the last test nothing runs that this process has started, and nothing of any window is there."""
    yield
    assert until(lambda: not children(), 10), children()
    if QApplication.instance() is not None:
        gc.collect()
        lay_out()
        assert not [type(widget).__name__ for widget in QApplication.allWidgets()]
        timers = (o for o in gc.get_objects() if isinstance(o, QTimer) and not sip.isdeleted(o))
        assert not [timer.interval() for timer in timers if timer.isActive()]


def children():
    found = []
    for path in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError):
            state, parent = path.read_text().rsplit(")", 1)[1].split()[:2]
            if int(parent) == os.getpid() and state != "Z":
                line = path.with_name("cmdline").read_text().replace("\0", " ")
                found += [line] if "resource_tracker" not in line else []  # Python's own
    return found


@pytest.fixture
def window(application, beside, lowering, worker, evaluator, questions, example_path, tmp_path, monkeypatch):
    """The real window with a copy of the car door drive; no runs are kept of any drive."""
    from pendel.app.window.main_window import MainWindow

    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setattr("pendel.app.session.session.Beside", lambda: beside)
    monkeypatch.setattr("pendel.app.session.session.Lowering", lambda: lowering)
    monkeypatch.setattr("pendel.app.series.runner.Beside", lambda: beside)
    monkeypatch.setattr("pendel.app.session.run_jobs.Worker", lambda: worker)
    monkeypatch.setattr("pendel.app.session.run_shelf.EvaluatorProcess", lambda: evaluator)
    path = tmp_path / "door.pendel"
    shutil.copy(example_path, path)
    made = MainWindow(QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    made.show()
    made.files.open_path(path)
    settle()
    yield made
    made.close()
    made.deleteLater()
    settle()
    assert until(lambda: not left_behind(), 30), left_behind()  # a judgement that has begun ends first


def until(condition, seconds=30.0):
    """Wait for something to hold; whether it does in the end."""
    end = time.monotonic() + seconds
    while not condition() and time.monotonic() < end:
        QTest.qWait(5)
    return condition()


def lay_out():
    """Do what was posted: layouts, paintings, and deletions, which else would wait for a loop of events to end."""
    QApplication.sendPostedEvents()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()


MOMENT, PAUSE = 100, 500
"""Longest timers (ms) of what follows an input by itself, and of what waits for a pause in typing."""


SHOWN_LATER = (READ_RUNS, WRITE_C, SAVE_TRACES, ROTOR, SPECTRUM, TAKE_PICTURE, WORK_OUT)
"""Jobs that follow an input by themselves, and whose end shows."""


def settle(typing=False):
    """Wait until every window rests: its timers have acted, nothing is evaluated or read beside it, and what
    was to be laid out and painted is. With ``typing``, also until a pause in typing was taken for its end."""
    longest = PAUSE if typing else MOMENT
    for _ in range(3):  # what one event leads to is another
        tops = QApplication.topLevelWidgets()
        # Looked for once a round: a window has thousands of children.
        timers = [t for top in tops for t in top.findChildren(QTimer) if t.isSingleShot() and t.interval() <= longest]
        sessions = [top.session for top in tops if hasattr(top, "session")]

        def rests(timers=timers, sessions=sessions):
            return not any(not sip.isdeleted(t) and t.isActive() for t in timers) and not any(
                s.evaluator.busy or s.jobs.busy(*SHOWN_LATER)
                for s in sessions
                if not sip.isdeleted(s) and not s.closing
            )

        assert until(rests, 60)
        lay_out()


def finish(window, seconds=60.0):
    """Wait for the run to end."""
    assert until(lambda: not window.jobs.running, seconds)
    settle()


def new_drive(window):
    """An empty drive from *New drive*, if nothing is left to be asked about."""
    from pendel.app.window.new_drive import NewDriveDialog

    window.actions_by_name["new"].trigger()
    for dialog in window.findChildren(NewDriveDialog):
        if dialog.isVisible():
            dialog.make_button.click()
    window.activateWindow()  # which a desktop does once its dialog is gone
    settle()


def judged(window):
    """Wait until the loops shown are those of the drive as it is."""
    settle()
    assert until(lambda: not window.session.judging, 60)
    settle()


@pytest.fixture
def bench(window):
    """The page with the door drive, whose speed regulator has live gains."""
    live = {"K_p": ("8", "140"), "T_i": ("20 ms", "400 ms")}
    window.session.do(commands.set_live(window.session.drive, "speed_pi", live))
    QTest.keyClick(window, Qt.Key.Key_6, Qt.KeyboardModifier.AltModifier)
    page = window.page("Bench")
    assert window.page_now == "Bench"
    assert until(lambda: page.board.description is not None, 60)
    return page

import shutil

import pytest
from PyQt6.QtCore import QSettings
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox

from pendel.core.runs.worker import Beside


@pytest.fixture(scope="session")
def application():
    from pendel.app.look import dress

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
    """One process for the windows of all tests, since each takes seconds to start. What is asked when a window closes is given up."""

    def close(self):
        if self._lock.locked() and self._worker is not None:
            self._worker.end_now()


@pytest.fixture(scope="session")
def beside():
    made = SharedBeside()
    yield made
    Beside.close(made)


@pytest.fixture
def window(application, beside, questions, example_path, tmp_path, monkeypatch):
    """The real window with a copy of the car door drive; no runs are kept of any drive."""
    from pendel.app.window import MainWindow

    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setattr("pendel.app.session.Beside", lambda: beside)
    path = tmp_path / "door.pendel"
    shutil.copy(example_path, path)
    made = MainWindow(QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    made.show()
    made.files.open_path(path)
    QTest.qWait(50)
    yield made
    made.close()
    made.deleteLater()
    QTest.qWait(10)


def until(condition, seconds=30.0):
    """Wait for something to hold; whether it does in the end."""
    for _ in range(int(seconds * 100)):
        if condition():
            break
        QTest.qWait(10)
    return condition()


def finish(window, seconds=60.0):
    """Wait for the run to end."""
    assert until(lambda: not window.jobs.running, seconds)
    QTest.qWait(60)


def judged(window):
    """Wait until the loops shown are those of the drive as it is."""
    QTest.qWait(10)
    assert until(lambda: not window.session.judging, 60)
    QTest.qWait(30)

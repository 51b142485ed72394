"""The window goes on answering: what takes long is done beside it."""

import time

import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtTest import QTest

from pendel.app.session.page import Page
from pendel.app.window.pages import load_ahead
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES

from .conftest import finish, until

PAGES = ("Runs", "Loops", "Firmware", "Bench", "Drive")
MOST = 20.0
"""Most work in one turn of the event loop, over that of a count to a million: some 0.3 s. `benchmarks/gaps.py` measures
0.05 s; judging a large drive takes 200 counts, fitting a flux table 100."""


def counted():
    """What this thread works for a count to a million, s; other programs do not count."""
    begun = time.thread_time()
    for _ in range(1_000_000):
        pass
    return time.thread_time() - begun


class Turns:
    def __init__(self):
        self.last, self.most, self.doing = time.thread_time(), (0.0, ""), ""
        self.timer = QTimer(interval=2)
        self.timer.timeout.connect(self.beat)
        self.timer.start()

    def beat(self):
        now = time.thread_time()
        self.most = max(self.most, (now - self.last, self.doing))
        self.last = now


@pytest.mark.parametrize("name", ["haul_drive_tables", "old_haul_feedback"])
def test_no_page_of_a_drive_holds_the_window_up(window, name):
    window.build_ahead(load_ahead())  # as the program does
    assert until(lambda: all(isinstance(page, Page) for page in window.pages.values()), 60)
    turns, before = Turns(), counted()
    QTest.qWait(20)
    turns.most, turns.doing = (0.0, ""), "open"
    assert window.files.open_path(EXAMPLES / f"{name}.pendel")
    session = window.session
    QTest.qWait(300)
    turns.doing = "run"
    session.do(commands.set_setting(session.drive, "until", "50 ms"))
    window.start_run()
    finish(window, 90)
    quantity = next(iter(session.drive.quantities))
    for page in PAGES:
        turns.doing = page
        window.show_page(page)
        QTest.qWait(300)
        turns.doing = f"edit on {page}"
        text = session.drive.quantities[quantity].text
        session.do(commands.set_quantity(session.drive, quantity, f"({text})*1.0001"))
        QTest.qWait(400)
    turns.timer.stop()
    work, doing = turns.most
    assert work < MOST * max(before, counted()), f"{doing}: {work:.2f} s of work in one turn"
    session.undo.setClean()

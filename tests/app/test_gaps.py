"""The window goes on answering: what takes long is done beside it."""

import gc
import time

import pytest
from PyQt6.QtCore import QTimer

from pendel.app.session.page import Page
from pendel.app.window.pages import load_ahead
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES

from .conftest import finish, judged, settle, until

PAGES = ("Runs", "Loops", "Firmware", "Bench", "Drive")
MOST = 60.0
"""Most work in one turn of the event loop, over that of a count to a million. It is 3 to 5 (0.05 to 0.07 s); what a
host takes from a virtual computer is counted in part. Judging a large drive takes 300 counts, fitting a flux table
200."""


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


@pytest.fixture
def without_the_garbage_of_other_tests():
    """Looking through all that other tests left takes half a second."""
    gc.collect()
    gc.freeze()
    yield
    gc.unfreeze()


@pytest.mark.usefixtures("without_the_garbage_of_other_tests")
@pytest.mark.parametrize("name", ["haul_drive_tables", "old_haul_feedback"])
def test_no_page_of_a_drive_holds_the_window_up(window, name):
    window.build_ahead(load_ahead())  # as the program does
    assert until(lambda: all(isinstance(page, Page) for page in window.pages.values()), 60)
    turns, before = Turns(), counted()
    settle()
    turns.most, turns.doing = (0.0, ""), "open"
    assert window.files.open_path(EXAMPLES / f"{name}.pendel")
    session = window.session
    judged(window)
    turns.doing = "run"
    session.do(commands.set_setting(session.drive, "until", "50 ms"))
    window.start_run()
    finish(window, 90)
    quantity = next(iter(session.drive.quantities))
    for page in PAGES:
        turns.doing = page
        window.show_page(page)
        judged(window)
        turns.doing = f"edit on {page}"
        text = session.drive.quantities[quantity].text
        session.do(commands.set_quantity(session.drive, quantity, f"({text})*1.0001"))
        judged(window)
    turns.timer.stop()
    work, doing = turns.most
    assert work < MOST * max(before, counted()), f"{doing}: {work:.2f} s of work in one turn"
    session.undo.setClean()

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
ONCE, ALWAYS = 60.0, 6.0
"""Most work in one turn of the event loop, over that of a count to a million: in any walk, and in the same act of
three walks. It is 3 to 5 (0.05 to 0.07 s) in most; what a host takes from a virtual computer is counted in part, at
any act. Judging a large drive takes 300 counts, fitting a flux table 200."""


def counted():
    """What this thread works for a count to a million, s; other programs do not count."""
    begun = time.thread_time()
    for _ in range(1_000_000):
        pass
    return time.thread_time() - begun


class Turns:
    """The most work in one turn of the event loop, s, for each act."""

    def __init__(self):
        self.last, self.act, self.most = time.thread_time(), "open", {}
        self.timer = QTimer(interval=2)
        self.timer.timeout.connect(self.beat)
        self.timer.start()

    def beat(self):
        now = time.thread_time()
        self.most[self.act] = max(self.most.get(self.act, 0.0), now - self.last)
        self.last = now


@pytest.fixture
def without_the_garbage_of_other_tests():
    """Looking through all that other tests left takes half a second."""
    gc.collect()
    gc.freeze()
    yield
    gc.unfreeze()


def walk(window, name):
    """Opens the example, runs it and shows every page with an edit on it; the most work in a turn for each act."""
    settle()
    turns = Turns()
    assert window.files.open_path(EXAMPLES / f"{name}.pendel")
    session = window.session
    judged(window)
    turns.act = "run"
    session.do(commands.set_setting(session.drive, "until", "50 ms"))
    window.start_run()
    finish(window, 90)
    quantity = next(iter(session.drive.quantities))
    for page in PAGES:
        turns.act = page
        window.show_page(page)
        judged(window)
        turns.act = f"edit on {page}"
        text = session.drive.quantities[quantity].text
        session.do(commands.set_quantity(session.drive, quantity, f"({text})*1.0001"))
        judged(window)
    turns.timer.stop()
    session.undo.setClean()
    return turns.most


@pytest.mark.usefixtures("without_the_garbage_of_other_tests")
@pytest.mark.parametrize("name", sorted(path.stem for path in EXAMPLES.glob("*.pendel")))
def test_no_page_of_a_drive_holds_the_window_up(window, name):
    window.build_ahead(load_ahead())  # as the program does
    assert until(lambda: all(isinstance(page, Page) for page in window.pages.values()), 60)
    slow = None
    for _ in range(3):
        before = counted()
        work = walk(window, name)
        count = max(before, counted())
        assert max(work.values()) < ONCE * count, work
        above = {act for act, seconds in work.items() if seconds > ALWAYS * count}
        slow = above if slow is None else slow & above
        if not slow:
            return
    pytest.fail(f"in three walks each did more than {ALWAYS:g} counts of work in one turn: {', '.join(sorted(slow))}")

"""The window goes on answering: what takes long is done beside it."""

import gc
import time

import numpy as np
import pytest
from PyQt6.QtCore import QTimer

from pendel.app.session.page import Page
from pendel.app.window.pages import load_ahead
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES

from ..conftest import examples_looked_at
from .conftest import finish, judged, settle, until

PAGES = ("Runs", "Loops", "Firmware", "Bench", "Drive")
ONCE, ALWAYS, WAITED = 60.0, 6.0, 25.0
"""Most work in one turn of the event loop, over that of a count to a million: in any walk, and in the same act of
three walks; and how long such a turn may take, over the time of the count, with what it waits for. It is 3 to 5 (0.05
to 0.07 s) in most; what a host takes from a virtual computer is counted in part, at any act. Judging a large drive
takes 300 counts, fitting a flux table 200."""


def clocks():
    """What this thread has worked, s, for which other programs do not count, and the time."""
    return np.array([time.thread_time(), time.perf_counter()])


def counted():
    """Both for a count to a million."""
    begun = clocks()
    for _ in range(1_000_000):
        pass
    return clocks() - begun


class Turns:
    """The most work in one turn of the event loop, and the longest turn, s, for each act."""

    def __init__(self):
        self.last, self.act, self.most = clocks(), "open", {}
        self.timer = QTimer(interval=2)
        self.timer.timeout.connect(self.beat)
        self.timer.start()

    def beat(self):
        now = clocks()
        self.most[self.act] = np.maximum(self.most.get(self.act, 0.0), now - self.last)
        self.last = now


@pytest.fixture
def without_the_garbage_of_other_tests():
    """Looking through all that other tests left takes half a second."""
    gc.collect()
    gc.freeze()
    yield
    gc.unfreeze()


def open_panels(page):
    """All of them, with a cursor that moves, and closes them again."""
    toggles = (page.spectrum_button, page.rotor_button, page.sector_button, page.torque_button)
    for toggle in toggles:
        toggle.click()
    settle()
    page.strips.set_cursors(0.0, 0.8 * page.strips.run_end)
    settle()
    for toggle in toggles:
        toggle.click()


def walk(window, name):
    """Opens the example, runs it, and shows every page with its panels and an edit on it; for each act what `Turns`
    has."""
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
        if page == "Runs":
            turns.act = "panels and cursors"
            open_panels(window.page("Runs"))
        turns.act = f"edit on {page}"
        text = session.drive.quantities[quantity].text
        session.do(commands.set_quantity(session.drive, quantity, f"({text})*1.0001"))
        judged(window)
    turns.timer.stop()
    session.undo.setClean()
    return dict(turns.most)


@pytest.mark.usefixtures("without_the_garbage_of_other_tests")
@pytest.mark.parametrize("name", [path.stem for path in examples_looked_at(EXAMPLES)])
def test_no_page_of_a_drive_holds_the_window_up(window, name):
    window.build_ahead(load_ahead())  # as the program does
    assert until(lambda: all(isinstance(page, Page) for page in window.pages.values()), 60)
    slow = None
    for _ in range(3):
        before = counted()
        most = walk(window, name)
        counts = {act: spent / np.maximum(before, counted()) for act, spent in most.items()}
        assert max(work for work, _ in counts.values()) < ONCE, counts
        above = {act for act, (work, took) in counts.items() if work > ALWAYS or took > WAITED}
        slow = above if slow is None else slow & above
        if not slow:
            return
    pytest.fail(f"in three walks each of these held the window up: {', '.join(sorted(slow))}; {counts}")

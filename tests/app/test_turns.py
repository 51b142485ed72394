"""What is done in the window in turns: in which order, whatever an action does, and that plots wait for theirs."""

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QEventLoop, QObject, QTimer
from PyQt6.QtTest import QTest

from pendel.app.plots.plot import Plot
from pendel.app.widgets.timers import Later

from .conftest import settle, until


@pytest.fixture
def owner(application):
    made = QObject()
    yield made
    if not sip.isdeleted(made):
        sip.delete(made)


def laters(owner, done, *names, **how):
    return [Later(owner, 0, lambda name=name: done.append(name), **how) for name in names]


def test_one_thing_is_done_in_a_turn_and_what_was_asked_for_at_last_comes_last(owner):
    done, beats = [], []
    (last,) = laters(owner, done, "last", at_last=True)
    first, second = laters(owner, done, "first", "second")
    beat = QTimer(owner)
    beat.timeout.connect(lambda: beats.append(list(done)))
    beat.start(0)
    for each in (last, first, second, first):  # asked for again, it keeps its place
        each.start()
        assert each.isActive() and not done
    assert until(lambda: len(done) == 3, 5)
    assert done == ["first", "second", "last"] and not last.isActive()
    assert ["first"] in beats and ["first", "second"] in beats, "all else has its turn between two"


def test_what_is_stopped_taken_away_or_started_again_waits_no_more_than_it_has_to(owner):
    done = []
    stopped, kept, again = laters(owner, done, "stopped", "kept", "again")
    other = QObject()
    gone, timed = Later(other, 0, lambda: done.append("gone")), Later(owner, 40, lambda: done.append("timed"))
    for each in (stopped, gone, kept, timed):
        each.start()
    stopped.stop()
    sip.delete(other)
    QTest.qWait(20)
    timed.start()  # waits its whole time again
    QTest.qWait(30)
    assert done == ["kept"] and timed.isActive() and not stopped.isActive()
    again.action = lambda: (done.append("again"), done.count("again") < 3 and again.start())
    again.start()
    assert until(lambda: "timed" in done and done.count("again") == 3, 5)
    timed.start(0)
    assert until(lambda: done.count("timed") == 2, 5) and "gone" not in done


def test_an_action_that_asks_a_question_or_fails_holds_up_no_other(owner, monkeypatch):
    done, problems = [], []
    monkeypatch.setattr("sys.excepthook", lambda *problem: problems.append(problem[0]))
    question = QEventLoop()
    asks = Later(owner, 0, lambda: (question.exec(), done.append("answered")))
    fails = Later(owner, 0, lambda: 1 / 0)
    (other,) = laters(owner, done, "other")
    for each in (asks, fails, other):
        each.start()
    QTimer.singleShot(100, question.quit)
    assert until(lambda: "answered" in done, 5)
    assert done == ["other", "answered"] and problems == [ZeroDivisionError]


def test_plots_are_painted_one_after_another_and_whole(application):
    """Nothing of a plot is painted before its turn, however often it changes before; then all of it is."""
    painted = []

    class Watched(Plot):
        def paintEvent(self, event):
            painted.append((self.called, len(self.frame.items)))
            super().paintEvent(event)

    plots = []
    for name in ("first", "second"):
        plot = Watched(name, "V")
        plot.called = name
        plot.resize(300, 200)
        plot.curve([0, 1, 2], [0, 1, 0], "#204060", 2)
        plots.append(plot)
    for plot in plots:
        plot.show()
        plot.level(0.5)
    settle()
    assert {name for name, _ in painted} == {"first", "second"}
    assert all(count == len(plots[0].frame.items) for _, count in painted), "never half of what is shown"
    picture = plots[1].grab().toImage()
    seen = {picture.pixelColor(x, y).name() for x in range(60, 290, 2) for y in range(20, 180, 2)}
    assert len(seen) > 3, "curve, ground and lines"
    painted.clear()
    plots[0].paint_in_turn()
    plots[0].wipe()
    plots[0].curve([0, 1], [1, 0], "#204060", 2)
    assert not painted
    settle()
    assert set(painted) == {("first", len(plots[0].frame.items))}
    for plot in plots:
        plot.close()
        plot.deleteLater()

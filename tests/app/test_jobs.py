"""Work beside the window: every job ends exactly once, whatever it does and whoever stops it."""

import logging
import threading
import time

import pytest
from PyQt6.QtCore import QObject, Qt
from PyQt6.QtTest import QTest

from pendel.app.session.jobs import End, JobKind, Jobs
from pendel.app.session.page import Page
from pendel.core.errors import DriveProblem, Stopped

from .conftest import settle, until

PLAIN = JobKind("plain", "first lane", "It went wrong")
NEWEST = JobKind("newest", "first lane", "It went wrong", newest_wins=True)
BESIDE = JobKind("beside", "second lane", "It went wrong")


@pytest.fixture
def jobs(application):
    owner = QObject()
    made = Jobs(owner)
    made.ends = []
    yield made
    made.close()


def start(jobs, kind, work, **how):
    def then(job):
        assert threading.current_thread() is threading.main_thread()
        jobs.ends.append((job, job.end))

    return jobs.start(kind, work, then, **how)


def waiting_for(event):
    def work(job):
        while not event.wait(0.005):
            if job.stopping:
                raise Stopped
        return "done"

    return work


def ends_of(jobs, job):
    return [end for each, end in jobs.ends if each is job]


def test_jobs_of_a_lane_wait_for_each_other_and_others_do_not(jobs):
    gate = threading.Event()
    first, second = start(jobs, PLAIN, waiting_for(gate)), start(jobs, PLAIN, lambda job: 2)
    other = start(jobs, BESIDE, lambda job: threading.current_thread().name)
    assert until(lambda: ends_of(jobs, other)) and other.result.startswith("second lane")
    assert not ends_of(jobs, second) and jobs.busy(PLAIN) and not jobs.busy(BESIDE)
    gate.set()
    assert until(lambda: ends_of(jobs, second))
    assert (first.result, second.result) == ("done", 2)
    settle()
    assert [ends_of(jobs, j) for j in (first, second, other)] == [[End.FINISHED]] * 3 and not jobs.busy()


def test_the_newest_wins_and_what_the_older_finds_out_is_dropped(jobs):
    """The running one is stopped though it pays no heed, the waiting one never begins."""
    gate, begun = threading.Event(), []

    def heedless(job):
        begun.append("old")
        gate.wait(10)
        return "old"

    old = start(jobs, NEWEST, heedless)
    assert until(lambda: begun)
    waiting = start(jobs, NEWEST, lambda job: begun.append("waiting"))
    newest = start(jobs, NEWEST, lambda job: "new")
    assert ends_of(jobs, old) == ends_of(jobs, waiting) == [End.STOPPED] and old.stopping
    gate.set()
    assert until(lambda: ends_of(jobs, newest))
    settle()
    assert newest.result == "new" and old.result is None and begun == ["old"]
    assert [len(ends_of(jobs, j)) for j in (old, waiting, newest)] == [1, 1, 1]


def test_a_failure_is_one_sentence_and_what_nobody_foresaw_is_logged(jobs, caplog):
    def refused(job):
        raise DriveProblem("The drive is wrong. Correct it.")

    with caplog.at_level(logging.ERROR, "pendel"):
        known = start(jobs, PLAIN, refused)
        odd = start(jobs, PLAIN, lambda job: {}["there"])
        after = start(jobs, PLAIN, lambda job: "goes on")
        assert until(lambda: ends_of(jobs, after))
    assert (known.end, known.sentence) == (End.FAILED, "The drive is wrong. Correct it.")
    assert (odd.end, odd.sentence) == (End.FAILED, "It went wrong: 'there'.")
    assert [r.exc_info[0] for r in caplog.records] == [KeyError] and after.result == "goes on"


def test_stopping_reporting_and_what_is_there_at_once(jobs):
    gate, shares = threading.Event(), []
    jobs.progressed.connect(lambda job, share: shares.append(share))

    def counting(job):
        for n in range(100000):
            job.report(n / 100000)
            if job.stopping:
                raise Stopped
            gate.wait(0.001)

    job = start(jobs, PLAIN, counting)
    assert until(lambda: len(shares) > 2) and shares == sorted(shares)
    jobs.stop(PLAIN)
    assert until(lambda: ends_of(jobs, job)) and ends_of(jobs, job) == [End.STOPPED]
    quick = start(jobs, BESIDE, lambda job: 1, at_once=5.0)
    assert ends_of(jobs, quick) == [End.FINISHED], "before start returned"
    slow = start(jobs, BESIDE, waiting_for(gate), at_once=0.01)
    assert not ends_of(jobs, slow)
    gate.set()
    assert until(lambda: ends_of(jobs, slow))
    settle()
    assert len(ends_of(jobs, quick)) == len(ends_of(jobs, slow)) == 1


def test_closing_waits_for_nothing_and_nothing_follows(jobs):
    gate, seen = threading.Event(), []

    def late(job):
        gate.wait(10)
        seen.append(job.stopping)
        return 1

    running, waiting = start(jobs, PLAIN, late), start(jobs, PLAIN, lambda job: seen.append("begun"))
    jobs.close()
    assert not jobs.busy() and (running.end, waiting.end) == (End.STOPPED, End.STOPPED)
    gate.set()
    assert until(lambda: seen)
    settle()
    assert seen == [True] and jobs.ends == []
    assert start(jobs, PLAIN, late).end is End.STOPPED and jobs.ends == []


def test_pages_are_built_one_after_another_before_they_are_shown(window):
    loading = threading.Thread(target=lambda: time.sleep(0.2))
    loading.start()
    built = ["Drive"]

    def look():
        now = [title for title, page in window.pages.items() if isinstance(page, Page)]
        assert len(now) <= len(built) + 1, "one at a time"
        assert not loading.is_alive() or now == ["Drive"]
        built[:] = now
        return len(built) == len(window.pages)

    window.build_ahead(loading)
    assert until(look, 30)
    assert window.page_now == "Drive" and window.stack.currentWidget() is window.drive_page
    QTest.keyClick(window, Qt.Key.Key_6, Qt.KeyboardModifier.AltModifier)
    assert window.page_now == "Bench" and window.stack.currentWidget() is window.pages["Bench"]
    loading.join()


def test_a_page_whose_building_failed_is_built_when_it_is_wanted_again(window, monkeypatch):
    from pendel.app.firmware.page import FirmwarePage

    building, fails = FirmwarePage.building, [True]

    def fails_once(page):
        yield
        if fails:
            fails.pop()
            raise RuntimeError("half way")
        yield from building(page)

    monkeypatch.setattr(FirmwarePage, "building", fails_once)
    with pytest.raises(RuntimeError, match="half way"):
        window.page("Firmware")
    window.show_page("Firmware")
    assert until(lambda: isinstance(window.stack.currentWidget(), FirmwarePage))

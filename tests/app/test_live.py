"""Live runs in the real window: strips that roll, values changed meanwhile, pause and steps, parts of it kept."""

import math
import os
import signal
import socket
import time
from concurrent.futures import Future
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

import pendel
from pendel.app.runs.strips import CAPTION
from pendel.core.drive import commands
from pendel.core.drive.file import load, to_text
from pendel.core.live.client import LiveRun
from pendel.core.live.frames import packed, thinned, unpacked
from pendel.core.live.run import LiveProcess
from pendel.core.plant.integrate import integrate
from pendel.core.runs.preparing.simulate import endless_settings, prepare

from .conftest import finish, lay_out, settle, until
from .test_window import LEFT, choose, type_into

EXAMPLES = Path(pendel.__file__).parent / "examples"


def begin(window):
    QTest.mouseClick(window.live_button, LEFT)
    assert until(lambda: window.live.status.get("state") == "runs", 60), window.live.status
    return window.live


def bar(window):
    from pendel.app.window.live_bar import LiveBar

    return window.findChild(LiveBar)


def test_a_live_run_moves_the_cards_and_strips_and_takes_changed_values(window):
    window.show_page("Runs")  # strips that have no data yet
    settle()
    live, session = begin(window), window.session
    window.show_page("Drive")
    assert until(lambda: session.live is not None and len(session.live.trace("door_motor.speed").y) > 20)
    item = window.drive_page.sheet.cards["door_motor"]
    shown = set()
    assert until(lambda: shown.add(item.face.figure) or len(shown) > 2), shown  # the card's figure moves
    window.show_page("Runs")
    page = window.page("Runs")
    assert until(lambda: len(page.strips.plots) > 2 and len(page.strips.traces[0][0].t) > 20)
    seen = page.strips.traces[0][0].t[-1]
    assert until(lambda: page.strips.traces[0][0].t[-1] > seen + 0.2)
    for frame, traces in zip(page.strips.plots, page.strips.traces):  # above the traces is room for the caption
        low, high = frame.vb.viewRange()[1]
        top = max(float(np.max(trace.y)) for trace in traces)
        assert (high - top) / (high - low) * frame.vb.height() > CAPTION - 2

    # A supply that sags while it runs shows on the strips; undone, it is as before.
    choose(bar(window).pace, 10.0)
    voltage = lambda: float(session.live.trace("supply.voltage").y[-1])  # noqa: E731
    assert until(lambda: live.status["time"] > 2.0 and abs(voltage() - 48.0) < 0.1)
    session.do(commands.set_value(session.drive, "supply", "U_0", "36 V"))
    assert until(lambda: abs(voltage() - 36.0) < 0.1), live.status
    assert live.status["since"] > 2.0
    session.undo.undo()
    assert until(lambda: abs(voltage() - 48.0) < 0.1)

    # Pause, one tick, go on; other parts cannot be had while it runs, which is said.
    press = lambda widget: QTest.mouseClick(widget, LEFT)  # noqa: E731
    press(bar(window).pause)
    assert until(lambda: live.status["state"] == "paused")
    at = live.status["time"]
    press(bar(window).tick)
    assert until(lambda: live.status["state"] == "paused" and live.status["time"] > at)
    assert live.status["time"] - at == pytest.approx(50e-6, rel=1e-6)
    press(bar(window).pause)
    assert until(lambda: live.status["state"] == "runs")
    session.do(commands.add_card(session.drive, "resistor", "Lamp", 10, 200))
    assert until(lambda: live.status["sentence"] != ""), live.status
    session.undo.undo()
    QTest.mouseClick(window.live_button, LEFT)
    assert not live.running and session.live is None
    lay_out()


def test_strips_of_a_run_show_the_live_run_and_then_the_run_again(window):
    """Of a length that a live run has gone on by from one frame to the next."""
    session = window.session
    session.do(commands.set_setting(session.drive, "until", "40 ms"))
    window.show_page("Runs")
    window.start_run()
    finish(window)
    strips = window.page("Runs").strips

    def shown():
        (low, high), _ = strips.plots[0].vb.viewRange()
        return low, high

    assert shown() == pytest.approx((-4e-4, 0.0404))
    session.do(commands.set_value(session.drive, "supply", "U_0", "480 V"))  # heights are others, too
    begin(window)
    assert until(lambda: strips.rolls and strips.traces[0] and strips.run_begin > 0.3)
    (low, high), last = shown(), max(trace.t[-1] for trace in strips.traces[0])
    assert high - last < 0.03 * (high - low) and high - low == pytest.approx(0.0408, rel=0.02)
    for frame, traces in zip(strips.plots, strips.traces):
        bottom, top = frame.vb.viewRange()[1]
        assert all(bottom <= np.min(t.y) and np.max(t.y) <= top for t in traces)
    window.live.stop()
    assert until(lambda: not strips.rolls)
    settle()
    assert shown() == pytest.approx((-4e-4, 0.0404))


def test_what_is_kept_of_a_live_run_is_what_a_run_has_to_the_bit(window):
    session, live = window.session, begin(window)
    assert until(lambda: live.status["time"] > 0.9, 60)
    type_into(bar(window).seconds, "0.3 s")
    QTest.mouseClick(bar(window).keep, LEFT)
    assert until(lambda: session.last_run is not None, 60)
    part = session.last_run
    settle()
    assert 0.28 < part.end - part.begin < 0.32 and part.begin > 0.5 and part.differs.startswith("live")
    prepared = prepare(session.drive)
    settings = replace(endless_settings(prepared), until=part.end + 0.01)
    whole = integrate(prepared.program, prepared.inputs(settings))
    at = part.first_tick
    assert len(part.ticks) > 5000 and np.array_equal(part.ticks, whole.ticks[at : at + len(part.ticks)])
    first = int(np.searchsorted(whole.rows[:, 0], part.rows[0, 0]))
    assert np.array_equal(part.rows, whole.rows[first : first + len(part.rows)])
    assert part.trace("speed_pi.out").t[0] == pytest.approx(part.first_tick * 50e-6)
    QTest.mouseClick(window.live_button, LEFT)
    window.show_page("Runs")
    strips = window.page("Runs").strips
    settle()
    assert strips.run_begin == pytest.approx(part.begin) and strips.plots[0].vb.viewRange()[0][0] > 0.4


def test_what_is_kept_outlives_the_live_run_and_goes_to_its_own_drive(window):
    """Kept and stopped at once, and kept while another drive is opened."""
    session, live = window.session, begin(window)
    assert until(lambda: live.status["time"] > 0.4, 60)
    type_into(bar(window).seconds, "0.2 s")
    QTest.mouseClick(bar(window).keep, LEFT)
    QTest.mouseClick(bar(window).keep, LEFT)
    QTest.mouseClick(window.live_button, LEFT)
    assert not live.running
    assert until(lambda: len(session.runs) == 2, 60) and session.last_run.differs.startswith("live")
    assert sorted(run.name for run in session.runs) == ["Run 1", "Run 2"]
    assert until(lambda: not live.is_ending)

    # Stopped while what was written is on its way to its place.
    begin(window)
    assert until(lambda: live.status["time"] > 0.4, 60)
    live.threads.kept.connect(lambda *_: live.stop())
    QTest.mouseClick(bar(window).keep, LEFT)
    assert until(lambda: len(session.runs) == 3, 60) and not live.running
    live.threads.kept.disconnect()
    live.threads.kept.connect(live.take_kept)
    assert until(lambda: not live.is_ending)

    begin(window)
    assert until(lambda: live.status["time"] > 0.4, 60)
    QTest.mouseClick(bar(window).keep, LEFT)
    before, path = session.shelf.folder, session.shelf.path
    kept = len(list(before.glob("*.h5")))
    window.files.open_path(EXAMPLES / "cabin_fan.pendel")
    assert session.shelf.folder != before and not live.running
    assert until(lambda: not live.is_ending, 60)
    settle()
    assert not session.runs and len(list(before.glob("*.h5"))) == kept + 1
    window.files.open_path(path)
    assert until(lambda: len(session.runs) == kept + 1, 60)
    assert session.last_run.differs.startswith("live")


def test_a_live_run_begun_again_shows_nothing_of_the_one_before(window):
    live, session = begin(window), window.session
    choose(bar(window).pace, math.inf)
    assert until(lambda: live.status["time"] > 3.0, 60)
    times = []
    live.run.taken()
    time.sleep(0.5)  # a frame is there that the window has not heard of
    QTest.mouseClick(window.live_button, LEFT)
    QTest.mouseClick(window.live_button, LEFT)
    live.moved.connect(lambda: times.append((live.status["time"], len(session.live.trace("door_motor.speed").t))))
    assert until(lambda: len(times) > 3 and times[-1][0] > 0.2, 60)
    assert max(at for at, _ in times) < 3.0 and [at for at, _ in times] == sorted(at for at, _ in times)
    QTest.mouseClick(window.live_button, LEFT)


def test_a_live_run_whose_process_dies_says_so(window):
    live, said = begin(window), []
    live.status_message.connect(said.append)
    os.kill(live.run.pid, signal.SIGKILL)
    assert until(lambda: not live.running) and "ended unexpectedly" in said[-1]
    assert window.live_button.text() == "Live"
    begin(window)
    QTest.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert not live.running


def test_a_drive_that_cannot_run_ends_its_live_run_with_a_sentence(example_path):
    drive, got = load(example_path), []
    drive.cards["speed_pi"] = drive.cards["speed_pi"].with_value("T_i", "0 s")
    run = LiveRun(to_text(drive), on_frame=lambda frame: got.append(frame.status) or run.taken())
    assert until(lambda: got and got[-1]["state"] == "ended", 60)
    assert "Speed PI" in got[-1]["sentence"]
    run.close()


def test_frames_keep_extremes_and_fit_their_messages():
    t = np.linspace(0.0, 1.0, 50_000)
    y = np.sin(700 * t)
    y[31_234], y[77] = 9.0, math.nan
    few_t, few_y = thinned(t, y, 400)
    assert len(few_t) <= 404 and np.all(np.diff(few_t) > 0) and few_t[-1] == 1.0
    assert np.nanmax(few_y) == 9.0 and set(few_y[np.isfinite(few_y)]) <= set(y[np.isfinite(y)])
    data = packed({"state": "runs"}, {f"c.{k}": (t, y) for k in range(20)}, 100_000)
    frame = unpacked(data)
    assert len(data) <= 100_000 and len(frame.traces) == 20 and len(frame.traces["c.3"][0]) > 100


@pytest.mark.parametrize(("name", "level"), [("car_door_drive", "averaged"), ("valley_feeder", "switching")])
def test_a_live_run_goes_on_in_a_faster_loop_with_the_same_rows(name, level, tmp_path):
    drive = load(EXAMPLES / f"{name}.pendel")
    drive.settings["level"] = level
    prepared, (ours, theirs) = prepare(drive), socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    process, built = LiveProcess(theirs, tmp_path), Future()
    process.follow(prepared)
    settings = process.simulator.inputs.settings
    process.simulator.advance(0.0213)
    built.set_result(True)
    process.faster = built
    process.go_on_faster()
    process.simulator.advance(0.04)
    part = process.latest_run(0.03, "Part")
    process.close()
    whole = integrate(prepared.program, prepared.inputs(replace(settings, until=0.05)))
    first = int(np.searchsorted(whole.rows[:, 0], part.rows[0, 0]))
    assert part.begin < 0.0213 and np.array_equal(part.rows, whole.rows[first : first + len(part.rows)])
    assert np.array_equal(part.ticks, whole.ticks[part.first_tick : part.first_tick + len(part.ticks)])
    for end in (ours, theirs):
        end.close()

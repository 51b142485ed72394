"""The oscilloscope's picture, a run beside it, and streams that are kept, as a hand uses them."""

import csv

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QMessageBox

from pendel.core.bench import recording as recordings
from pendel.core.bench.recording import Recording
from pendel.core.bench.sampling import Samples

from .at_the_bench import calm, connect, load, press, turn
from .conftest import finish, settle, until
from .test_window import LEFT, type_into

BUTTONS = QMessageBox.StandardButton


@pytest.fixture
def scope(bench):
    """The oscilloscope of a board that samples two of its signals."""
    connect(bench)
    load(bench)
    scope = bench.scope
    while scope.shown:
        scope.remove(0)
    assert not scope.run_button.isEnabled()
    for key in ("speed_pi.out", "board:ticks"):
        scope.add(key)
    press(scope.run_button)
    assert until(lambda: scope.frames > 2), bench.log.lines
    calm(bench)
    return scope


@pytest.fixture
def heard(bench):
    sentences = []
    bench.status_message.connect(sentences.append)
    return sentences


def record(scope, count=500):
    """Keep a stream of at least so many samples."""
    press(scope.keep_button)
    assert scope.keep_button.text() == "End stream …"
    assert until(lambda: scope.stream.recording is not None and len(scope.stream.recording) > count)


def table(path):
    rows = list(csv.reader(path.read_text().splitlines()))
    return rows[0], np.array([[float(x) for x in row] for row in rows[1:]])


def test_the_wheel_zooms_time_or_heights_about_the_pointer_and_a_double_click_fits(scope):
    press(scope.run_button)  # a picture that stands still
    calm(scope.parent().parent())
    plot = scope.plot
    plot.fit()
    before = np.array(plot.vb.viewRange())
    middle = plot.vb.mapSceneToView(plot.mapToScene(plot.rect().center())).x()
    turn(plot, 120)
    zoomed = np.array(plot.vb.viewRange())
    assert np.ptp(zoomed[0]) == pytest.approx(0.85 * np.ptp(before[0])) and np.allclose(zoomed[1], before[1])
    assert (middle - zoomed[0][0]) / np.ptp(zoomed[0]) == pytest.approx((middle - before[0][0]) / np.ptp(before[0]))
    turn(plot, 0)  # as a touch pad begins and ends
    assert np.allclose(plot.vb.viewRange(), zoomed)
    turn(plot, -120, Qt.KeyboardModifier.ShiftModifier)
    assert np.ptp(plot.vb.viewRange()[1]) == pytest.approx(np.ptp(before[1]) / 0.85)
    QTest.mouseDClick(plot.viewport(), LEFT, pos=plot.viewport().rect().center())
    assert np.allclose(plot.vb.viewRange()[0], before[0])


def test_a_run_is_drawn_beside_its_channels_and_goes_with_them(scope, window, heard):
    for _ in range(2):
        window.start_run()
        finish(window)
    first, second = window.session.runs
    first.name = second.name = "Alike"  # nothing keeps runs from having one name
    window.session.runs_changed.emit()
    assert [scope.overlay.itemText(k) for k in range(3)] == ["no run", "Alike", "Alike"]
    scope.overlay.setCurrentIndex(2)  # the older one
    scope.overlay.activated.emit(2)
    count = len(heard)
    assert scope.overlaid is first
    assert "Alike lies beside what is shown" in heard[-1], "free-running frames end at 0, where the run begins"
    type_into(scope.shift, "50 ms")
    (curve,) = scope.plot.overlays
    t, y = first.trace("speed_pi.out").drawn
    np.testing.assert_allclose(curve.xData, t - 0.05)
    assert len(heard) == count, "what is seen needs no words"
    np.testing.assert_allclose(curve.yData, y)
    assert curve.opts["pen"].color() == scope.plot.curves[0].opts["pen"].color()
    type_into(scope.shift, "50 kg")
    assert not scope.plot.overlays and scope.shift.property("wrong") and "kg" in scope.shift.toolTip()
    type_into(scope.shift, "0 s")
    assert len(scope.plot.overlays) == 1 and "Time of the run" in scope.shift.toolTip()
    window.session.runs_changed.emit()  # another run ends, or is renamed
    assert scope.overlaid is first and len(scope.plot.overlays) == 1
    scope.remove(0)
    assert not scope.plot.overlays, "the run's line of a channel that is not shown"
    scope.add("speed_pi.out")
    (curve,) = scope.plot.overlays
    assert curve.opts["pen"].color() == scope.plot.curves[1].opts["pen"].color()


def test_a_recorded_stream_has_the_channels_it_was_begun_with(scope, heard, tmp_path, monkeypatch):
    record(scope)
    scope.add("0:0x0 uint32")
    assert until(lambda: scope.frame is not None and scope.frame.values.shape[1] == 3)
    assert any("recorded stream has ended" in words for words in heard) and not scope.keep_button.isChecked()
    assert scope.keep_button.text() == "Record stream"
    count = len(scope.stream.recording)
    frames = scope.frames
    assert until(lambda: scope.frames > frames + 3) and len(scope.stream.recording) == count
    assert "recorded" not in scope.state.whole
    scope.save(str(tmp_path / "stream.csv"))
    settle()
    head, rows = table(tmp_path / "stream.csv")
    assert len(rows) == count and [h.split(" [")[0] for h in head] == ["time", "speed_pi.out", "board:ticks"]
    assert np.array_equal(np.diff(rows[:, 2]), np.ones(count - 1))
    assert not scope.stream.unsaved and f"Saved {count} samples of 2 channels" in heard[-1]

    # Another rate is another stream.
    record(scope)
    type_into(scope.trigger.every, "3")
    assert until(lambda: scope.sampler is not None and scope.sampler.every == 3)
    assert not scope.keep_button.isChecked() and not scope.stream.running
    scope.save(str(tmp_path / "first rate.csv"))
    settle()
    assert np.array_equal(np.unique(np.diff(table(tmp_path / "first rate.csv")[1][:, 2])), [1.0])

    # Saving while it runs keeps what there is and goes on.
    record(scope)
    scope.save(str(tmp_path / "part.csv"))
    settle()
    part = len(table(tmp_path / "part.csv")[1])
    assert until(lambda: len(scope.stream.recording) > part + 500) and scope.keep_button.isChecked()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: ("", ""))
    press(scope.keep_button)  # ended, and the dialog closed without a name
    count = len(scope.stream.recording)
    frames = scope.frames
    assert until(lambda: scope.frames > frames + 3)
    assert len(scope.stream.recording) == count and scope.stream.unsaved
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "none" / "x.csv"), ""))
    press(scope.save_button)
    settle()
    assert scope.stream.unsaved and "none" in heard[-1], "a folder that is none loses nothing"


def test_nothing_that_was_recorded_is_lost_unasked(scope, window, questions, tmp_path, monkeypatch):
    record(scope)
    press(scope.run_button)
    assert scope.stream.unsaved
    press(scope.run_button)
    assert until(lambda: scope.sampler is not None)
    questions.clear()
    questions.answers = [BUTTONS.Cancel]
    older = scope.stream.recording
    press(scope.keep_button)
    assert "Before another is begun" in questions[0]
    assert scope.stream.recording is older and not scope.keep_button.isChecked()
    window.session.undo.setClean()
    questions.answers = [BUTTONS.Cancel]
    assert not window.close() and scope.stream.recording is older
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "kept.mf4"), ""))
    questions.answers = [BUTTONS.Save]
    window.close()
    assert "Before Pendel closes" in questions[-1]
    assert until(lambda: not window.isVisible()), "closed once it is saved"
    assert (tmp_path / "kept.mf4").stat().st_size > 500 * 8


def test_a_recording_that_is_full_has_no_gap(monkeypatch):
    monkeypatch.setattr(recordings, "MOST", 8 * 100)
    recording = Recording([], 1e-3)
    for begin, count in ((0, 60), (60, 60), (120, 10)):  # the last would fit where the one before did not
        recording.add(Samples(np.arange(begin, begin + count), np.zeros((count, 0))))
    assert recording.full and len(recording) == 60 and recording.seconds == pytest.approx(0.059)

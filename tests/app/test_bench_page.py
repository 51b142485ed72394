"""The bench in the real window: connect, load, enable, watch, change, take over, and what goes wrong on the way."""

import gc
import json
import os
import re
import signal

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLineEdit

from pendel.app.bench.board import STAND_IN, LinkState
from pendel.app.bench.channel_table import OFFSET, SCALE
from pendel.app.bench.values_panel import BOARD, DRIVE
from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.session.jobs import DESCRIBE
from pendel.core.bench.described import described
from pendel.core.bench.facts import BoardState
from pendel.core.bench.standin_process import StandInProcess
from pendel.core.bench.trigger import Mode
from pendel.core.drive import commands

from .at_the_bench import calm, connect, load, press
from .conftest import lay_out, settle, until
from .test_power_drives import EXAMPLES
from .test_window import LEFT, choose, type_into


def row_of(page, key):
    return page.values.table.keys.index(key)


def cell(page, key, column):
    return page.values.table.item(row_of(page, key), column).text()


def type_value(page, key, text):
    table = page.values.table
    table.setFocus()
    table.setCurrentCell(row_of(page, key), DRIVE)
    QTest.keyClick(table, Qt.Key.Key_Return)
    (editor,) = (e for e in table.viewport().findChildren(QLineEdit) if e.isVisible())
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    settle()
    calm(page)


def test_a_board_is_loaded_watched_and_changed_while_it_runs(bench, window, tmp_path):
    page, board, session = bench, bench.board, window.session
    assert not page.link.load_button.isEnabled() and not page.scope.run_button.isEnabled()
    connect(page)
    assert page.link.state.text() == "Empty" and not page.link.enable_button.isEnabled()
    load(page)
    assert page.link.state.text() == "Idle" and "that of this drive" in page.link.code.text()
    assert (cell(page, "speed_pi.K_p", DRIVE), cell(page, "speed_pi.K_p", BOARD)) == ("K_p", "35")

    # The oscilloscope shows what the regulator does when it is enabled.
    choose(page.scope.trigger.mode, Mode.NORMAL)
    choose(page.scope.trigger.source, "speed_pi.out")
    type_into(page.scope.trigger.low, "2 A")
    press(page.scope.run_button)
    assert until(lambda: page.scope.sampler is not None)
    press(page.link.enable_button)
    assert until(lambda: board.facts is not None and board.facts.state is BoardState.ENABLED)
    assert until(lambda: page.scope.frame is not None and page.scope.frame.triggered), page.log.lines
    frame, speed_pi = page.scope.frame, [s.channel.key for s in page.scope.shown].index("speed_pi.out")
    at = int(np.argmin(np.abs(frame.times)))
    assert frame.values[at - 1, speed_pi] <= 2.0 < frame.values[at, speed_pi]
    drawn = page.scope.plot.curves[speed_pi]
    assert np.array_equal(drawn.yData, frame.values[:, speed_pi])
    figures = page.scope.table.item(speed_pi, 8).text()  # peak to peak between the cursors
    assert figures not in ("–", "")

    # A value typed, stepped by a key, and undone, each written at once.
    type_value(page, "speed_pi.K_p", "50")
    assert board.on_board["speed_pi.K_p"] == 50.0 and cell(page, "speed_pi.K_p", BOARD) == "50"
    QTest.keyClick(page.values.table, Qt.Key.Key_Plus)
    settle()
    assert until(lambda: board.on_board["speed_pi.K_p"] == 51.0), board.on_board
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert until(lambda: board.on_board["speed_pi.K_p"] == 35.0)
    assert session.drive.cards["speed_pi"].values["K_p"] == "K_p"

    # Beyond its ends it is refused in a sentence; the board keeps what it has, and the page marks the difference.
    type_value(page, "speed_pi.K_p", "1000")
    assert any("cannot become" in line for line in page.log.lines) or session.examined.faults
    assert board.on_board["speed_pi.K_p"] == 35.0
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    settle()
    calm(page)

    # Loading is refused while it is enabled, and the remedy is beside.
    assert not page.link.load_button.isEnabled()
    session.do(commands.set_value(session.drive, "speed_pi", "low", "-20 A"))
    assert until(lambda: not board.matches and "not that of this drive" in page.link.code.text(), 60)
    press(page.link.idle_load_button)
    assert until(lambda: board.matches and board.facts.state is BoardState.IDLE, 60), page.log.lines
    calm(page)
    assert board.facts.checksum == board.description.checksum


def test_what_the_board_has_can_be_taken_into_the_drive(bench, window, tmp_path):
    page, board, session = bench, bench.board, window.session
    connect(page)
    load(page)
    spot = board.description.values["speed_pi.K_p"].channel.spot
    session.do(commands.set_digits(session.drive, "speed_pi", "K_p", "3"))
    other = float(np.float32(43.972))
    board.bench.master.write(spot.extension, spot.address, np.float32(other).tobytes())  # by somebody else
    assert until(lambda: board.differing() == {"speed_pi.K_p": other})  # read back every so often
    press(page.values.read_button)
    assert until(lambda: board.differing() == {"speed_pi.K_p": other})
    calm(page)
    assert page.values.table.item(row_of(page, "speed_pi.K_p"), BOARD).font().bold()
    press(page.values.take_button)
    settle()
    calm(page)
    assert session.drive.cards["speed_pi"].values["K_p"] == "44" and not board.differing()
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert until(lambda: board.on_board["speed_pi.K_p"] == 35.0)  # undone on the board, too

    # Sets: saved, changed, compared, loaded as one step; a file that is none is refused.
    page.values.save_set(str(tmp_path / "set.json"))
    type_value(page, "speed_pi.K_p", "60")
    type_value(page, "speed_pi.T_i", "200 ms")
    page.values.compare_set(str(tmp_path / "set.json"))
    assert sum("in the set" in line for line in page.log.lines) == 2, page.log.lines
    steps = session.undo.count()
    page.values.load_set(str(tmp_path / "set.json"))
    settle()
    assert session.undo.count() == steps + 1
    assert until(lambda: board.on_board == {"speed_pi.K_p": 35.0, "speed_pi.T_i": np.float32(0.09)}), board.on_board
    said = []
    page.status_message.connect(said.append)
    (tmp_path / "none.json").write_text('{"format": "pendel values", "values": [1]}')
    page.values.load_set(str(tmp_path / "none.json"))
    assert "no set of values" in said[-1]


def test_the_oscilloscope_keeps_streams_records_and_set_ups(bench, window, tmp_path):
    page = bench
    connect(page)
    load(page)
    scope = page.scope
    scope.add("board:ticks")
    scope.add("0:0 uint32")
    scope.add("nonsense")
    assert [s.channel.key for s in scope.shown][-2:] == ["board:ticks", "0:0x0 uint32"]
    press(scope.run_button)
    assert until(lambda: scope.frames > 2)
    press(scope.keep_button)
    assert until(lambda: scope.stream.recording is not None and len(scope.stream.recording) > 3000)
    recording = scope.stream.recording
    ticks = recording.columns()[1 + [s.channel.key for s in scope.shown].index("board:ticks")][2]
    assert np.array_equal(np.diff(ticks), np.ones(len(ticks) - 1)) and scope.sampler.lost == 0
    for ending in ("csv", "mf4", "mat", "h5"):
        recording.save(tmp_path / f"r.{ending}")
        assert (tmp_path / f"r.{ending}").stat().st_size > 1000
    press(scope.run_button)  # stopped; what was recorded stays to be saved
    assert until(lambda: scope.sampler is None)
    scope.save(str(tmp_path / "kept.csv"))
    settle()
    lines = (tmp_path / "kept.csv").read_text().splitlines()
    assert len(lines) > 3000 and "board:ticks" in lines[0]

    # A record at full rate, as the board counts its ticks.
    calm(page)
    press(scope.single_button)
    assert until(lambda: scope.state.whole == "record at full rate", 30), page.log.lines
    at = [s.channel.key for s in scope.shown].index("board:ticks")
    assert np.array_equal(np.diff(scope.frame.values[:, at]), np.ones(len(scope.frame.times) - 1))

    # Its spectrum: the board's tick counter is a ramp, whose mean is that between the cursors; its largest line
    # is drawn as large as it is.
    scope.table.selectRow(at)
    press(scope.spectrum_button)
    assert until(lambda: "mean" in scope.spectrum.caption.toPlainText())
    a, b = scope.plot.cursor_times
    inside = (scope.frame.times >= a) & (scope.frame.times <= b)
    found = re.search(r"mean ([\d.\s]+),", scope.spectrum.caption.toPlainText())[1]
    mean = float("".join(found.split()))
    assert mean == pytest.approx(np.mean(scope.frame.values[inside, at]), rel=1e-3)
    (drawn,) = [i for i in scope.spectrum.frame.items if isinstance(i, LeanCurve)]
    largest = re.search(r"largest ([\d.\s]+) at", scope.spectrum.caption.toPlainText())[1]
    assert drawn.getPath().boundingRect().height() == pytest.approx(float("".join(largest.split())), rel=1e-3)

    scope.save_setup(str(tmp_path / "scope.json"))
    kept = json.loads((tmp_path / "scope.json").read_text())
    scope.table.selectRow(0)
    QTest.keyClick(scope.table, Qt.Key.Key_Delete)
    assert len(scope.shown) == len(kept["channels"]) - 1
    scope.load_setup(str(tmp_path / "scope.json"))
    assert [s.channel.key for s in scope.shown] == [c["key"] for c in kept["channels"]]
    said = []
    page.status_message.connect(said.append)
    kept["channels"].append(kept["channels"][1])
    kept["channels"][0]["key"] = "gone.out"
    (tmp_path / "scope.json").write_text(json.dumps(kept))
    scope.load_setup(str(tmp_path / "scope.json"))
    assert "gone.out" in said[-1]
    assert [s.channel.key for s in scope.shown] == [c["key"] for c in kept["channels"][1:-1]], "each but once"
    kept["channels"][0]["visible"] = "no"
    (tmp_path / "scope.json").write_text(json.dumps(kept))
    scope.load_setup(str(tmp_path / "scope.json"))
    assert "no set-up" in said[-1] and len(scope.shown) == len(kept["channels"]) - 2

    # Scale and offset as typed, with a sentence where that is no number.
    before = scope.frame.values[:, 0].copy() if scope.frame is not None else None
    first = scope.shown[0].channel
    for column, text, meant in (
        (SCALE, "0,5", 0.5),
        (SCALE, "1/4", 0.25),
        (OFFSET, "−3", -3.0),
        (SCALE, "0", None),
        (OFFSET, "abc", None),
    ):
        scope.table.item(0, column).setText(text)
        if meant is None:
            assert text in said[-1] and first.title in said[-1]
        else:
            assert (scope.shown[0].scale if column == SCALE else scope.shown[0].offset) == meant
    assert (scope.shown[0].scale, scope.shown[0].offset) == (0.25, -3.0) and before is None
    assert [scope.table.item(0, c).text() for c in (SCALE, OFFSET)] == ["0.25", "-3"]

    # A record of channels that are others by the time it comes is not drawn as theirs.
    scope.trigger.samples.setText("20000")
    press(scope.single_button)
    assert until(lambda: scope.board.recording)
    count = len(scope.shown)
    scope.remove(0)
    scope.add("speed_pi.out" if "speed_pi.out" not in scope.keys else "current_pi.out")
    assert len(scope.shown) == count
    assert until(lambda: "other channels" in said[-1], 30), page.log.lines
    assert scope.frame is None


def test_a_link_that_is_left_before_it_is_there_stays_left(bench, window):
    page, board = bench, bench.board
    press(page.link.connect_button)
    assert page.link.connect_button.text() == "Disconnect"
    QTest.mouseClick(page.link.connect_button, LEFT)
    calm(page)
    assert board.link is LinkState.CLOSED and board.facts is None and board.stand_in is None
    assert not board.looking and page.log.lines[-1].endswith("Disconnected.")
    for _ in range(3):  # connected, left, connected
        QTest.mouseClick(page.link.connect_button, LEFT)
    assert until(lambda: board.link is LinkState.OPEN, 60)
    calm(page)
    assert board.link is LinkState.OPEN and board.stand_in.alive and board.facts is not None
    page.link.load_button.click()
    QTest.mouseClick(page.link.connect_button, LEFT)
    calm(page)
    assert board.link is LinkState.CLOSED and board.facts is None and not board.matches and not board.looking


def test_channels_that_change_before_the_first_sample_are_those_that_are_drawn(bench):
    page, scope = bench, bench.scope
    connect(page)
    load(page)
    scope.add("board:ticks")
    press(scope.run_button)
    scope.add("0:0x0 uint32")  # before the board knows of the first ones
    for _ in range(len(scope.shown) - 2):
        scope.remove(0)
    assert [s.channel.key for s in scope.shown] == ["board:ticks", "0:0x0 uint32"]
    assert until(lambda: scope.frame is not None and scope.frame.values.shape[1] == 2, 30), page.log.lines
    assert np.array_equal(np.unique(np.diff(scope.frame.values[:, 0])), [1.0])
    press(scope.run_button)
    calm(page)
    QTest.mouseClick(scope.run_button, LEFT)
    QTest.mouseClick(scope.run_button, LEFT)  # stopped before it runs
    calm(page)
    assert scope.sampler is None and not scope.draws and page.board.sampler is None


def test_a_cut_link_is_said_and_can_be_connected_again(bench, window):
    page, board = bench, bench.board
    other = StandInProcess(["tcp"])
    try:
        choose(page.link.kind, "tcp://")
        page.link.place.setEditText("127.0.0.1:1")
        press(page.link.connect_button)
        assert until(lambda: any("cannot be opened" in line for line in page.log.lines))
        calm(page)
        page.link.place.setEditText(other.addresses[0].removeprefix("tcp://"))
        connect(page)
        os.kill(other.pid, signal.SIGKILL)
        assert until(lambda: board.link is LinkState.LOST)
        calm(page)
        assert page.link.state.text() == "Link lost" and any("was lost" in line for line in page.log.lines)
        choose(page.link.kind, STAND_IN)
        connect(page)
        load(page)
        os.kill(board.stand_in.pid, signal.SIGKILL)
        assert until(lambda: board.link is LinkState.LOST)
        calm(page)
        connect(page)
        assert page.link.state.text() == "Empty"
        press(page.link.connect_button)
        assert until(lambda: board.link is LinkState.CLOSED and board.stand_in is None and not board.busy)
    finally:
        other.close()


def test_a_board_nobody_looks_at_is_described_as_the_drive_is_when_somebody_does(bench, window):
    board, session = bench.board, window.session
    assert until(lambda: board.description is not None, 60)
    before = board.description.checksum
    session.do(commands.set_value(session.drive, "speed_pi", "low", "-20 A"))
    board.describe()  # still under way when the page is left and the drive changes again
    window.show_page("Drive")
    session.do(commands.set_value(session.drive, "speed_pi", "low", "-21 A"))
    assert until(lambda: not session.jobs.busy(DESCRIBE), 60)
    settle()
    assert board.described is None
    window.show_page("Bench")
    assert until(lambda: board.description is not None, 60)
    assert board.description.checksum == described(session.drive).description.checksum != before
    session.undo.setClean()


def test_a_channel_is_added_by_typing_it(bench):
    """Also long after the page was made, when what only Python's garbage held is gone."""
    scope = bench.scope
    line = scope.add_channel.lineEdit()
    gc.collect()

    def add(text):
        line.setFocus()
        line.selectAll()
        QTest.keyClicks(line, text)
        QTest.keyClick(line, Qt.Key.Key_Return)
        lay_out()

    said = []
    scope.status_message.connect(said.append)
    for key in [k for k in scope.keys if k != "speed_pi.out"]:
        scope.remove(scope.keys.index(key))
    add("0:0x24 int16")
    add("no such signal")
    add("   ")
    assert scope.keys == ["speed_pi.out", "0:0x24 int16"]
    assert len(said) == 1 and "no such signal" in said[0]
    assert line.text() == "" or line.text().isspace()


def test_channels_follow_a_block_that_is_called_otherwise(bench, window):
    """With their scales, there and back by undo; the unused name is not missed."""
    scope, session, said = bench.scope, window.session, []
    scope.status_message.connect(said.append)
    assert until(lambda: "speed_pi.out" in scope.keys)
    place, before = scope.keys.index("speed_pi.out"), list(scope.keys)
    scope.table.item(place, SCALE).setText("3")
    session.do(commands.rename_card(session.drive, "speed_pi", "Outer"))
    assert until(lambda: scope.keys[place] == "outer.out") and len(scope.keys) == len(before)
    assert scope.shown[place].scale == 3.0 and scope.shown[place].channel.title.startswith("Outer")
    session.undo.undo()
    assert until(lambda: scope.keys == before) and scope.shown[place].scale == 3.0 and not said


def test_another_drive_brings_its_own_channels_without_a_word(window):
    """What was chosen for the one before is not missed; when that is read again, it stays."""
    window.show_page("Bench")
    page, told = window.page("Bench"), []
    page.status_message.connect(told.append)
    assert until(lambda: page.scope.keys)
    before = list(page.scope.keys)
    page.scope.add("board:ticks")
    window.files.open_path(EXAMPLES / "car_door_drive.pendel")
    assert until(lambda: page.board.description is not None) and page.scope.keys == [*before, "board:ticks"]
    window.files.open_path(EXAMPLES / "cabin_fan.pendel")
    assert until(lambda: "hall_decoder.speed" in page.scope.keys) and "board:ticks" not in page.scope.keys
    while page.scope.keys:
        page.scope.remove(0)
    window.files.open_path(EXAMPLES / "car_door_drive.pendel")
    assert until(lambda: page.scope.keys == before) and not told

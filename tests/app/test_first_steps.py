"""The tour on the door drive: each station sees when it is done, by hand or by itself, and never gets in the way."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.app.window.first_steps import AT, STATIONS, FirstSteps
from pendel.core.drive import commands
from tests.app.conftest import finish, settle, until

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def tour(window):
    window.actions_by_name["first_steps"].trigger()
    shown = window.findChild(FirstSteps)
    settle()
    yield shown
    shown.close()


def test_every_station_does_itself_to_the_end(window, tour):
    assert len(STATIONS) == 8
    for number, station in enumerate(STATIONS):
        assert tour.number == number and station.title in tour.heading.text()
        assert tour.next_button.text() == "Skip" and not tour.was_done, station.title
        QTest.mouseClick(tour.do_button, LEFT)
        assert until(lambda: (tour.look(), settle(), tour.was_done)[-1], 60), station.title
        assert tour.next_button.text() == "Next" and tour.state.text() == "Done."
        tour.grab()
        QTest.mouseClick(tour.next_button, LEFT)
        settle()
    assert tour.station is None and "Ctrl+N" in tour.text.toPlainText()
    assert not [card for card in window.session.drive.cards.values() if card.own is not None], "taken off again"
    assert window.session.drive.quantities["m_leaf"].text == "60 kg"
    QTest.mouseClick(tour.next_button, LEFT)
    assert not tour.isVisible() and not tour.timer.isActive()
    window.page("Bench").board.disconnect()
    assert until(lambda: window.page("Bench").board.link.value == "not connected")


def test_what_is_done_by_hand_is_seen(window, tour):
    QTest.mouseClick(tour.next_button, LEFT)
    assert tour.ring.isVisible() and tour.number == 1
    window.run_or_stop()
    finish(window)
    tour.look()
    assert tour.was_done and not tour.ring.isVisible()
    QTest.mouseClick(tour.next_button, LEFT)
    window.session.do(commands.set_quantity(window.session.drive, "v_max", "0.5 m/s"))
    tour.look()
    assert not tour.was_done, "something else was changed"
    window.session.do(commands.set_quantity(window.session.drive, "m_leaf", "70 kg"))
    tour.look()
    assert tour.was_done
    QTest.mouseClick(tour.back_button, LEFT)
    assert tour.number == 1 and not tour.was_done, "again from here"


def test_it_is_left_and_taken_up_again_and_opens_its_drive(window, tour):
    for _ in range(3):
        QTest.mouseClick(tour.next_button, LEFT)
    tour.close()
    assert not tour.ring.isVisible() and window.settings.value(AT) == "3"
    window.actions_by_name["first_steps"].trigger()
    assert tour.isVisible() and tour.number == 3
    tour.close()
    window.session.undo.setClean()
    window.files.new_drive()
    window.settings.setValue(AT, "nonsense")
    window.actions_by_name["first_steps"].trigger()
    settle()
    assert "door_motor" in window.session.drive.cards and tour.number == 0

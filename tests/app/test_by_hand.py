"""Places that are seldom visited, by hand: starts of states, quantities and their notes, what surrounds a board."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QInputDialog, QMenu

from pendel.core.bench.facts import BoardState, Order
from pendel.core.drive import commands
from pendel.core.firmware.targets import image_for

from .at_the_bench import calm, connect, load, press
from .conftest import finish, settle, until
from .test_window import inspect, type_into


def test_a_run_begins_where_its_states_are_typed_to(window):
    inspector = inspect(window, "door_leaf")
    inspector.show_tab("Start")
    settle()
    assert set(inspector.fields) == {"start:v", "start:x"}
    type_into(inspector.fields["start:v"], "0.2 m/s + 5 cm/s")
    type_into(inspector.fields["start:x"], "-30 mm")
    assert window.session.drive.cards["door_leaf"].starts == {"v": "0.2 m/s + 5 cm/s", "x": "-30 mm"}
    window.start_run()
    finish(window)
    run = window.session.runs[-1]
    assert run.trace("door_leaf.speed").y[0] == pytest.approx(0.25)
    assert run.trace("door_leaf.position").y[0] == pytest.approx(-0.03)
    for wrong, words in (("3 kg", "kg"), ("half", "half")):
        type_into(inspector.fields["start:v"], wrong)
        finding = window.session.examined.finding_at("door_leaf", "start:v")
        assert finding is not None and words in finding.sentence, wrong
        assert inspector.fields["start:v"].property("wrong") and inspector.notes["start:v"].isVisible()
    for _ in range(4):
        window.editing.undo()
    settle()
    assert window.session.drive.cards["door_leaf"].starts == {}
    assert inspector.fields["start:v"].text() == "0" and not inspector.fields["start:v"].property("wrong")


def test_quantities_are_added_renamed_noted_and_deleted_from_the_spine(window, monkeypatch):
    spine, session, heard = window.drive_page.spine, window.session, []
    spine.status_message.connect(heard.append)
    session.refused.connect(heard.append)
    answers = []
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: answers.pop(0))
    answers.append(("L_new = 0.61 mH", True))
    spine.add_quantity()
    settle()
    assert session.drive.quantities["L_new"].text == "0.61 mH" and spine.fields["L_new"].text() == "0.61 mH"
    for text in ("L_new = 2 mH", "2x = 1", "m_leaf", "= 5"):
        before = dict(session.drive.quantities)
        answers.append((text, True))
        spine.add_quantity()
        settle()
        assert session.drive.quantities == before, text
    assert "already, 0.61 mH" in heard[0] and "2x" in heard[1] and "already, 38 kg" in heard[2] and len(heard) == 4
    answers.append(("never", False))
    spine.add_quantity()
    assert "never" not in session.drive.quantities

    # The menu of a name, as the mouse opens it.
    chosen = []
    monkeypatch.setattr(QMenu, "exec", lambda menu, *_: {a.text(): a for a in menu.actions()}[chosen.pop(0)].trigger())

    def from_menu(name, title, *given):
        chosen.append(title)
        answers.extend(given)
        spine.open_menu(name, spine.mapToGlobal(QPoint(3, 3)))
        settle()

    from_menu("L_new", "Note …", ("as <b>measured</b> & typed", True))
    assert session.drive.quantities["L_new"].note == "as <b>measured</b> & typed"
    assert "measured" in spine.fields["L_new"].toolTip() and "0.00061" in spine.fields["L_new"].toolTip()
    users = [key for key, card in session.drive.cards.items() if any("m_leaf" in v for v in card.values.values())]
    assert users
    from_menu("m_leaf", "Rename …", ("m_door", True))
    assert list(spine.fields)[1] == "m_door" == list(session.drive.quantities)[1], "at its place"
    assert all(any("m_door" in v for v in session.drive.cards[key].values.values()) for key in users)
    assert not session.examined.faults
    from_menu("m_door", "Rename …", ("U_link", True))
    assert "U_link exists already" in heard[-1]
    from_menu("m_door", "Delete")
    assert "m_door" not in spine.fields and session.examined.faults, "what used it says so"
    window.editing.undo()
    settle()
    assert "m_door" in spine.fields and not session.examined.faults


def test_what_surrounds_a_stand_in_board_follows_the_sheet_while_it_runs(bench, window):
    """The code on the board stays; only the drive around it is another."""
    page, board, session = bench, bench.board, window.session
    connect(page)
    load(page)
    leaf, checksum = board.described, board.facts.checksum

    def fastest(seconds):
        """The largest speed that the board measures in the last quarter of a time after it is enabled."""
        scope = page.scope
        if scope.sampler is None:
            for key in list(scope.keys):
                scope.remove(scope.keys.index(key))
            scope.add("travel_speed.out")
            press(scope.run_button)
            assert until(lambda: scope.sampler is not None)
        press(page.link.enable_button)
        calm(page)
        scope.stream.begin(scope.sampler.channels, board.description.tick)
        assert until(lambda: scope.stream.recording.seconds > seconds, 60)
        scope.stream.end()
        values = scope.stream.recording.columns()[1][2]
        scope.stream.recording = None
        press(page.link.idle_button)
        calm(page)
        return float(np.max(np.abs(values[3 * len(values) // 4 :])))

    assert fastest(1.0) > 0.3
    heavy = [("0 s", "1 MN"), ("1 s", "1 MN")]
    session.do(commands.set_profile(session.drive, "rubbing", heavy))
    assert until(lambda: board.described is not None and board.described is not leaf, 60)
    assert until(lambda: board.stand_in.settled, 60)
    calm(page)
    assert board.matches and board.facts.checksum == checksum and page.link.code.text().count("that of this drive")
    assert fastest(3.0) < 0.01
    # It stays so when the program is loaded by another master, who knows nothing of the drive around.
    board.sampler = None
    assert until(lambda: page.scope.sampler is None)
    board.bench.load(image_for(board.described.lowered, board.target))
    calm(page)
    assert fastest(3.0) < 0.01

    # A fault takes the power off until it is acknowledged.
    press(page.link.enable_button)
    assert until(lambda: board.facts.state is BoardState.ENABLED)
    board.order(Order.TRIP)
    assert until(lambda: board.facts.state is BoardState.FAULT)
    calm(page)
    assert any("Acknowledge it to go on" in line for line in page.log.lines)
    assert not page.link.enable_button.isEnabled()
    press(page.link.acknowledge_button)
    assert until(lambda: board.facts.state is BoardState.IDLE and page.link.enable_button.isEnabled())

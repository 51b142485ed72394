"""Cards wire themselves where only one way makes sense: by Shift+W, as they are added, and into a wire."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QDialog

from pendel.app.drive.wire_obvious import AskDialog
from pendel.core.drive import commands
from tests.app.conftest import finish, settle, until


@pytest.fixture
def sheet(window):
    window.files.new_drive()
    settle()
    window.drive_page.sheet.setFocus()
    return window.drive_page.sheet


def typed(window, text: str) -> str:
    """What `A` offers first for a text, added; returns what is said beside it."""
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_A)
    line = window.drive_page.search
    QTest.keyClicks(line.line, text)
    chosen = line.list.currentItem()
    words = " ".join(str(part) for part in (chosen.data(Qt.ItemDataRole.UserRole + 1) or ())[:3])
    QTest.keyClick(line.line, Qt.Key.Key_Return)
    settle()
    return words


def wires(window) -> set[str]:
    return set(window.session.drive.wires)


def test_a_drive_grows_by_what_completes_it(window, sheet):
    """By A, a word at most, and Enter."""
    session = window.session
    assert "Synchronous machine" in typed(window, "synchronous machine magnet")
    machine = session.selection[0]
    words = typed(window, "")
    assert "inverter" in words.lower() and "completes it" in words
    inverter = session.selection[0]
    assert wires(window) & {f"{inverter}.out -> {machine}.phases", f"{machine}.phases -> {inverter}.out"}
    assert session.undo.undoText() == "Add Three-phase inverter"
    typed(window, "modulator")
    assert {f"three_phase_modulator.d_{p} -> {inverter}.d_{p}" for p in "abc"} <= wires(window), "all three at once"
    assert "Three-phase current sensor" in typed(window, "phase current sensors"), "found though there is one of it"
    window.editing.undo()
    before = len(session.drive.cards), len(session.drive.wires)
    window.editing.undo()
    settle()
    assert len(session.drive.cards) == before[0] - 1 and len(session.drive.wires) <= before[1] - 3, "one step of undo"


def test_a_card_goes_into_the_selected_wire(window):
    session = window.session
    session.select([], "speed_pi.out -> current_pi.setpoint")
    settle()
    assert "completes it" in typed(window, "limiter")
    assert {"speed_pi.out -> limiter.x", "limiter.out -> current_pi.setpoint"} <= wires(window)
    assert "speed_pi.out -> current_pi.setpoint" not in wires(window)
    window.editing.undo()
    settle()
    assert "speed_pi.out -> current_pi.setpoint" in wires(window) and "limiter" not in session.drive.cards


def test_what_is_obvious_is_wired_by_a_key_and_the_rest_is_asked(window, monkeypatch):
    session = window.session
    whole = wires(window)
    gone = [key for key in whole if not key.startswith(("supply", "bridge.out"))]
    session.do(commands.remove_wires(session.drive, gone))
    settle()
    window.drive_page.sheet.setFocus()
    shown = []

    def answer(dialog: AskDialog) -> int:
        dialog.grab()
        for question, box in dialog.boxes:
            wanted = [k for k in whole if k.endswith(f"-> {question.target}") or k.startswith(f"{question.target} ->")]
            ends = {str(end) for key in wanted for end in key.split(" -> ")} - {str(question.target)}
            place = next((k for k in range(1, box.count()) if str(box.itemData(k)) in ends), 0)
            box.setCurrentIndex(place)
            shown.append((str(question.target), box.currentText()))
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr(AskDialog, "exec", answer)
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    settle()
    signals = {key for key in whole if "pi" in key or "sensor" in key or "encoder" in key}
    assert signals <= wires(window)
    assert shown and session.undo.undoText() == "Wire what is obvious"
    window.editing.undo()
    settle()
    assert wires(window) == whole - set(gone)

    monkeypatch.setattr(AskDialog, "exec", lambda dialog: QDialog.DialogCode.Rejected)
    before = wires(window)
    window.actions_by_name["wire_obvious"].trigger()
    assert wires(window) == before, "cancelled, nothing is wired"


def test_nothing_obvious_is_said(window, sheet):
    said = []
    window.editing.status_message.connect(said.append)
    window.session.do(commands.add_card(window.session.drive, "resistor", "R"))
    window.actions_by_name["wire_obvious"].trigger()
    assert said and "Nothing here is obvious" in said[-1]


def set_values(window, texts: dict[str, str]) -> None:
    for name, text in texts.items():
        card, _, value = name.partition(".")
        window.session.do(commands.set_value(window.session.drive, card, value, text))


@pytest.fixture
def nothing_is_asked(monkeypatch):
    def refuse(dialog: AskDialog) -> int:
        raise AssertionError([str(question.target) for question, _ in dialog.boxes])

    monkeypatch.setattr(AskDialog, "exec", refuse)


def wire_all(window) -> None:
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_W, Qt.KeyboardModifier.ShiftModifier)
    settle()


def test_a_brushed_drive_with_two_loops_grows_from_an_empty_sheet_without_a_click(window, sheet, nothing_is_asked):
    """Ten cards by A, a word and Enter, all wires by one key, own values; then the drive against its closed form."""
    for words in ("brushed dc", "", "", "pulse stage", "pi", "current sensor", "encoder", "pi", "step", "load torque"):
        before = wires(window)
        typed(window, words)
        if words == "encoder":
            assert wires(window) == before, "the chosen current sensor measures no speed"
        elif words == "step":
            assert wires(window) - before == {"step.out -> pi_regulator_2.setpoint"}, "not what is measured, too"
    wire_all(window)
    assert {
        "brushed_dc_machine.current -> current_sensor.measured",
        "current_sensor.value -> pi_regulator.actual",
        "pi_regulator_2.out -> pi_regulator.setpoint",
        "incremental_encoder.speed -> pi_regulator_2.actual",
        "pulse_stage.duty -> four_quadrant_bridge.duty",
    } <= wires(window) and len(wires(window)) == 11
    machine = {"R_a": "0.46 ohm", "L_a": "0.61 mH", "k_t": "0.108 N*m/A", "J_m": "1.9e-4 kg*m^2", "b_m": "0"}
    set_values(window, {f"brushed_dc_machine.{name}": text for name, text in machine.items()})
    inner = {"K_p": "2*pi*400 Hz*brushed_dc_machine.L_a", "T_i": "3 ms", "low": "-46 V", "high": "46 V"}
    set_values(window, {f"pi_regulator.{name}": text for name, text in inner.items()})
    outer = {"K_p": "0.11 A*s/rad", "T_i": "40 ms", "low": "-20 A", "high": "20 A"}
    set_values(window, {f"pi_regulator_2.{name}": text for name, text in outer.items()})
    set_values(window, {"step.after": "200 rad/s", "step.t_0": "10 ms", "incremental_encoder.lines": "2000"})
    window.session.do(commands.set_profile(window.session.drive, "load_torque", [("0 s", "0"), ("0.5 s", "1 N*m")]))
    assert until(lambda: not window.session.findings, 30), [f.sentence for f in window.session.findings]
    window.actions_by_name["run"].trigger()
    finish(window)
    (run,) = window.session.runs
    last = {name: run.trace(f"brushed_dc_machine.{name}").y[-1] for name in ("speed", "current", "voltage")}
    current = 1.0 / 0.108
    assert last["speed"] == pytest.approx(200.0, rel=2e-3) and last["current"] == pytest.approx(current, rel=0.02)
    assert last["voltage"] == pytest.approx(0.108 * 200.0 + 0.46 * current, rel=0.01)


def test_a_converter_with_a_voltage_loop_grows_and_only_what_is_ambiguous_is_asked(window, sheet, monkeypatch):
    """Which voltage is measured could be either; all else is known, and no line of a pair or signal is guessed."""
    for words in ("dc source", "step-down", "resistive load", "voltage sensor", "pi", "step"):
        typed(window, words)
    assert wires(window) == {
        "dc_source.dc -> step_down_converter.dc",
        "step_down_converter.out -> resistive_load.dc",
        "voltage_sensor.value -> pi_regulator.actual",
        "step.out -> pi_regulator.setpoint",
    }
    shown = {}

    def answer(dialog: AskDialog) -> int:
        for question, box in dialog.boxes:
            shown[str(question.target)] = [str(box.itemData(k)) for k in range(1, box.count())]
            wanted = {"voltage_sensor.measured": "step_down_converter.output_voltage"}.get(str(question.target))
            box.setCurrentIndex(1 + shown[str(question.target)].index(wanted) if wanted else 1)
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr(AskDialog, "exec", answer)
    wire_all(window)
    assert set(shown) == {"voltage_sensor.measured", "step_down_converter.duty"}
    assert shown["step_down_converter.duty"] == ["pi_regulator.out"]
    assert {"pi_regulator.out -> step_down_converter.duty"} <= wires(window) and len(wires(window)) == 6
    typed(window, "resistor")
    assert len(wires(window)) == 6, "which line of a pair is meant is not told"


def test_field_orientation_with_a_speed_loop_grows_without_a_click(window, sheet, nothing_is_asked):
    """An assembly is wired by what is within it, and the sensors that it wants are added."""
    for words in ("synchronous", "inverter", "dc source", "field orientation", "pi", "step", "load torque"):
        typed(window, words)
    wire_all(window)
    assert {
        "pi_regulator.out -> torque_to_currents.torque",
        "step.out -> pi_regulator.setpoint",
        "synchronous_machine.shaft -> load_torque.a",
        *(f"space_vector.d_{phase} -> three_phase_inverter.d_{phase}" for phase in "abc"),
        *(f"synchronous_machine.current_{phase} -> current_{phase}.measured" for phase in "abc"),
    } <= wires(window)
    assert until(lambda: not window.session.findings, 30), [f.sentence for f in window.session.findings]
    texts = {"K_p": "3 N*m*s/rad", "T_i": "80 ms", "low": "-100 N*m", "high": "100 N*m"}
    set_values(window, {f"pi_regulator.{name}": text for name, text in texts.items()})
    set_values(window, {"step.after": "100 rad/s", "step.t_0": "10 ms", "dc_source.U_0": "560 V"})
    window.actions_by_name["run"].trigger()
    finish(window)
    (run,) = window.session.runs
    assert run.trace("synchronous_machine.speed").y[-1] == pytest.approx(100.0, rel=0.01)

"""A converter opened into its circuit."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES

from ..conftest import examples_looked_at
from .conftest import finish, settle, until
from .test_machine_ways import covered
from .test_window import LEFT, card_point, click_card, on_sheet


def test_a_converter_opens_with_live_values_and_steps_from_switching_to_switching(window):
    session, page = window.session, window.drive_page
    session.do(commands.set_setting(session.drive, "level", "switching"))
    session.do(commands.set_value(session.drive, "bridge", "t_dead", "1 us"))
    session.do(commands.set_setting(session.drive, "until", "0.2 s"))
    window.start_run()
    finish(window)
    point = on_sheet(window, card_point(window, "bridge"))
    QTest.mouseDClick(page.sheet.viewport(), LEFT, Qt.KeyboardModifier.NoModifier, point)
    circuit = page.circuit
    assert page.middle.currentWidget() is circuit
    run = session.last_run
    circuit.go_to(0.15)
    assert until(lambda: not session.evaluator.busy)
    for _ in range(12):
        QTest.keyClick(circuit, Qt.Key.Key_Right)
        values = circuit.canvas.values
        # Kirchhoff at both poles, whatever conducts.
        for pole, sign in (("a", 1), ("b", -1)):
            pole_current = values[f"current_{pole}_upper"] - values[f"current_{pole}_lower"]
            assert abs(pole_current - sign * values["output_current"]) < 1e-6
        on = [e for e in circuit.canvas.drawing.elements if e.symbol == "transistor" and circuit.canvas.conducts(e)]
        assert 2 <= len(on) <= 4
    before = circuit.time
    QTest.keyClick(circuit, Qt.Key.Key_Left)
    assert circuit.time < before
    circuit.slider.setValue(1000)
    assert abs(circuit.time - run.end / 2) < 1e-3
    assert not circuit.grab().toImage().isNull()
    QTest.keyClick(circuit, Qt.Key.Key_Escape)
    assert page.middle.currentWidget() is page.sheet
    click_card(window, "gear")
    assert not window.actions_by_name["open_circuit"].isEnabled()
    QTest.keyClick(page.sheet, Qt.Key.Key_O)
    assert page.middle.currentWidget() is page.sheet


def test_three_phases_are_three_hairlines_and_signals_alone_have_arrows(window):
    window.session.undo.setClean()
    window.files.open_path(EXAMPLES / "haul_inverter.pendel")
    settle()
    sheet = window.drive_page.sheet
    wire = sheet.wires["inverter.out -> test_load.in"]
    (ax, ay), (bx, by) = wire.path[0], wire.path[-1]
    assert ay == by
    image = sheet.grab().toImage()
    x = sheet.mapFromScene((ax + bx) / 2, ay)
    column = [image.pixelColor(x.x(), x.y() + dy).lightness() < 150 for dy in range(-9, 10)]
    edges = sum(1 for a, b in zip(column, column[1:]) if b and not a)
    assert edges == 3


def test_examples_open_run_and_paint_their_circuits(window):
    for path in examples_looked_at(EXAMPLES):
        window.session.undo.setClean()
        assert window.files.open_path(path)
        assert not window.session.examined.faults
        window.session.do(commands.set_setting(window.session.drive, "until", "0.01 s"))
        ended = []
        window.jobs.ended.connect(lambda *told, ended=ended: ended.append(told))
        window.start_run()
        finish(window, 90)
        run = window.session.last_run
        assert run is not None, (path.name, ended)
        assert run.end == 0.01 and not run.message
        if not path.stem.startswith("old_haul"):  # whose traces take seconds
            window.show_page("Runs")
            settle()
            assert not covered(window.page("Runs").strips), "no caption stands on a trace"
            window.show_page("Drive")
        for card in window.session.drive.cards:
            if window.drive_page.can_open(card):
                window.session.select([card])
                window.drive_page.open_circuit(card)
                if window.session.inside == card:
                    assert window.drive_page.sheet.terminals.items
                    continue
                settle()  # of some the signals are evaluated beside the window
                assert window.drive_page.circuit.canvas.values
                window.drive_page.circuit.grab()
    window.session.undo.setClean()

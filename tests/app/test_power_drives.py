"""Assemblies, own circuits, three-phase drives and their diagrams in the real window."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtGui import QColor
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QTreeWidgetItemIterator

from pendel.app.drive.assembly_bar import AssemblyBar
from pendel.app.drive.editors.flux_dialogs import FluxWizard, fit_words
from pendel.app.runs.torque_panel import drive_of
from pendel.app.session.jobs import WORK_OUT
from pendel.app.widgets.theme import tokens
from pendel.core.catalogue import shelf
from pendel.core.catalogue.machines.flux import fitted, star_of, table_of
from pendel.core.check import examine
from pendel.core.drive import commands, file
from pendel.core.drive.document import Drive, End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.nesting import members
from pendel.core.errors import RunProblem
from pendel.core.formats.traces import save_traces
from pendel.core.runs.found.torque_speed import most_torque
from pendel.core.worked_out import NotYet, at_once

from ..core.test_assemblies import two_filters
from .conftest import finish, settle, until
from .test_window import LEFT, card_point, click_card, on_sheet, type_into

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def filters(window, tmp_path, monkeypatch):
    monkeypatch.setattr(shelf, "folder", lambda: tmp_path / "shelf")
    window.session.open(two_filters().document, None)
    window.drive_page.sheet.tidy_all()
    settle()
    yield window
    window.session.undo.setClean()


def group(window, cards, name):
    window.session.select([])
    for n, card in enumerate(cards):
        point = on_sheet(window, card_point(window, card))
        QTest.mouseClick(
            window.drive_page.sheet.viewport(), LEFT, SHIFT if n else Qt.KeyboardModifier.NoModifier, point
        )
    window.actions_by_name["group"].trigger()
    settle()
    field = window.drive_page.inspector.name_field
    assert field.hasFocus() or not window.isActiveWindow()
    type_into(field, name)
    settle()
    (made,) = window.session.selection
    return made


def add(window, words):
    """Add a card from the search line and return its id."""
    session, page = window.session, window.drive_page
    session.select([])
    before = set(session.drive.cards)
    page.open_search()
    QTest.keyClicks(page.search.line, words)
    QTest.keyClick(page.search.line, Qt.Key.Key_Return)
    settle()
    (new,) = (k for k in session.drive.cards if k not in before and not session.drive.cards[k].inside)
    return new


def wire(window, a, b):
    window.drive_page.sheet.wiring.connect_ends(End.parse(a), End.parse(b))


def face_row(window, card, item):
    tree = window.drive_page.inspector.face_editor.tree
    walk = QTreeWidgetItemIterator(tree)
    while walk.value() is not None:
        row = walk.value()
        data = row.data(0, Qt.ItemDataRole.UserRole)
        if data and data[0] == card and data[2] == item:
            return row
        walk += 1
    raise AssertionError(f"no row {card}.{item}")


def test_the_way_of_a_filter(filters):
    window = filters
    session, page = window.session, window.drive_page
    sheet, inspector = page.sheet, page.inspector
    window.start_run()
    finish(window)
    plain = session.last_run.trace("load.voltage").y
    first = group(window, ["coil", "bank"], "Filter")
    assert first == "filter" and set(sheet.cards) == {"supply", "ends", "load", "filter"}
    assert all(len(sheet.wires[k].path) >= 2 for k in sheet.wires)
    # its face
    QTest.mouseDClick(
        sheet.viewport(), LEFT, Qt.KeyboardModifier.NoModifier, on_sheet(window, card_point(window, first))
    )
    settle()
    assert session.inside == first and set(sheet.cards) == {"coil", "bank"}
    assert len(sheet.terminals.items) == 3 and set(sheet.terminals.wires) <= set(sheet.wires)
    assert inspector.card == first and inspector.tab == "Face"
    face_row(window, "coil", "L").setCheckState(0, Qt.CheckState.Checked)
    face_row(window, "coil", "L").setText(1, "L_f")
    face_row(window, "coil", "L").setText(0, "typed over")
    assert face_row(window, "coil", "L").text(1) == "L_f" and "typed" not in face_row(window, "coil", "L").text(0)
    QTest.keyClick(sheet, Qt.Key.Key_Escape)
    settle()
    assert session.inside == "" and "filter" in sheet.cards
    # used twice
    click_card(window, first)
    assert "L_f" in inspector.fields and inspector.fields["L_f"].text() == "0.2"
    window.actions_by_name["duplicate"].trigger()
    settle()
    (second,) = session.selection
    type_into(inspector.fields["L_f"], "0.5 mH")
    assert session.drive.cards["coil"].values["L"] == "0.2"
    twin = members(session.drive, second)
    assert session.drive.cards[twin["coil"]].values["L"] == "0.5 mH"
    # one edited, the other follows
    session.enter(first)
    settle()
    click_card(window, "bank")
    type_into(inspector.fields["C"], "330")
    assert session.drive.cards[twin["bank"]].values["C"] == "330"
    bar = page.findChild(AssemblyBar)
    assert bar.isVisible() and list(bar.boxes) == [second]
    bar.boxes[second].click()
    click_card(window, "bank")
    type_into(inspector.fields["C"], "47")
    assert session.drive.cards[twin["bank"]].values["C"] == "330"
    bar.boxes[second].click()
    assert session.drive.cards[twin["bank"]].values["C"] == "47"
    window.editing.undo()
    assert session.drive.cards[twin["bank"]].values["C"] == "330"
    # a card added and wired inside is inside, in both
    window.editing.redo()
    before = set(session.drive.cards)
    page.open_search()
    QTest.keyClicks(page.search.line, "resistor")
    QTest.keyClick(page.search.line, Qt.Key.Key_Return)
    settle()
    new = set(session.drive.cards) - before
    assert len(new) == 2 and {session.drive.cards[k].inside for k in new} == {first, second}
    session.undo.undo()
    session.select([second])
    QTest.keyClick(sheet, Qt.Key.Key_Delete)
    for _ in range(40):
        if first not in session.drive.cards:
            break
        window.editing.undo()
    window.start_run()
    finish(window)
    assert (session.last_run.trace("load.voltage").y == plain).all()


def test_the_shelf_and_dissolving_and_a_port_taken_off(filters):
    window = filters
    session, page = window.session, window.drive_page
    made = group(window, ["coil", "bank"], "Filter")
    window.actions_by_name["shelve"].trigger()
    assert [n for n, _ in shelf.on_shelf()] == ["Filter"]
    page.open_search()
    QTest.keyClicks(page.search.line, "filt")
    QTest.keyClick(page.search.line, Qt.Key.Key_Return)
    settle()
    (taken,) = session.selection
    assert taken != made and set(members(session.drive, taken)) == {"coil", "bank"}
    # A wire drawn to the face ends at the port behind it.
    page.sheet.wiring.connect_ends(
        *(type(next(iter(session.drive.wires.values())).a)(*e) for e in (("load", "a"), (taken, "a")))
    )
    inner = members(session.drive, taken)["coil"]
    assert f"load.a -> {inner}.a" in session.drive.wires
    settle()
    assert f"load.a -> {inner}.a" in page.sheet.wires
    session.enter(taken)
    settle()
    session.select([], "@a")
    QTest.keyClick(page.sheet, Qt.Key.Key_Delete)
    assert f"load.a -> {inner}.a" not in session.drive.wires
    assert "a" not in [p.name for p in session.drive.cards[taken].face.ports]
    text = file.to_text(session.drive)
    window.actions_by_name["dissolve"].trigger()
    settle()
    assert session.inside == "" and taken not in session.drive.cards and inner in page.sheet.cards
    window.editing.undo()
    assert file.to_text(session.drive) == text
    window.files.take_off_shelf(*shelf.on_shelf()[0])
    assert not shelf.on_shelf()


def test_a_table_of_harmonics_is_filled_by_hand(window):
    session, page = window.session, window.drive_page
    session.do(commands.add_card(session.drive, "ac_source", "Mains", 6, 60))
    settle()
    click_card(window, "mains")
    page.inspector.show_tab("Harmonics")
    editor = page.inspector.rows_editor
    editor.append()
    editor.append()
    settle()
    assert editor is page.inspector.rows_editor
    editor.table.item(1, 0).setText("7")
    editor.table.item(1, 1).setText("2.5 %")
    assert session.drive.cards["mains"].rows == (("5", "3", "0"), ("7", "2.5 %", "0"))
    editor.table.item(0, 0).setText("4.4")
    settle()
    assert "whole number" in page.inspector.rows_editor.note.text()
    window.editing.undo()
    settle()
    assert not session.examined.faults
    page.inspector.rows_editor.table.setCurrentCell(0, 0)
    page.inspector.rows_editor.remove()
    assert session.drive.cards["mains"].rows == (("7", "2.5 %", "0"),)
    finding = next(f for f in session.findings if f.card == "mains")
    window.go_to(finding)
    session.undo.setClean()


def test_switching_energies_stand_in_the_tree_and_among_the_losses(window):
    session = window.session
    for name, text in (("level", "device"), ("until", "0.3 s")):
        session.do(commands.set_setting(session.drive, name, text))
    session.do(commands.set_value(session.drive, "bridge", "t_dead", "1 us"))
    window.start_run()
    finish(window)
    window.show_page("Runs")
    runs = window.page("Runs")
    run = session.last_run
    assert "bridge.switching_energy_a_upper" in run.keys
    (folder,) = runs.tree.findItems("switching energy", Qt.MatchFlag.MatchRecursive)
    assert [folder.child(n).text(0) for n in range(4)] == ["a upper", "a lower", "b upper", "b lower"]
    assert folder.text(1) == "4 ×" and not folder.isExpanded()
    runs.strips.put(["bridge.switching_energy_a_upper"], None)
    settle()
    used = runs.tree.topLevelItem(0)
    assert used.text(0) == "Used last" and used.isExpanded()
    assert used.child(0).text(0).endswith("switching energy of a upper")
    runs.strips.set_cursors(0.25, 0.3)
    settle()
    texts = [getattr(runs.between.itemAt(n).widget(), "whole", "") for n in range(runs.between.count())]
    assert any("switching" in t for t in texts), texts
    session.undo.setClean()


def test_field_orientation_comes_from_the_search_line_and_turns_a_machine(window):
    """A drive of a synchronous machine in a few moves: cards from the search line, one ready assembly, wires,
    Ctrl+R."""
    session, page = window.session, window.drive_page
    session.undo.setClean()
    session.open(Drive("Winch"), None)
    ids = {}
    for words in (
        "dc source",
        "three-phase inverter",
        "pmsm",
        "imposed speed",
        "position sensor",
        "field orientation",
        "constant",
    ):
        ids[words] = add(window, words)
    assert {"psi_m", "L_d", "f_c"} <= set(session.drive.quantities)
    source, inverter, machine, bench, resolver, control, torque = ids.values()

    wire(window, f"{source}.dc", f"{inverter}.dc")
    wire(window, f"{inverter}.out", f"{machine}.phases")
    wire(window, f"{machine}.shaft", f"{bench}.a")
    wire(window, f"{machine}.angle", f"{resolver}.measured")
    wire(window, f"{resolver}.value", f"{control}.position")
    wire(window, f"{torque}.out", f"{control}.torque")
    for n in "abc":
        session.do(commands.add_card(session.drive, "current_sensor", f"Sensor {n}", 60, 60))
        wire(window, f"{machine}.current_{n}", f"sensor_{n}.measured")
        wire(window, f"sensor_{n}.value", f"{control}.{n}")
        wire(window, f"{control}.d_{n}", f"{inverter}.d_{n}")
    values = {source: {"U_0": "560"}, torque: {"value": "250 N*m"}, inverter: {"f_p": "10"}}
    for card, texts in values.items():
        for name, text in texts.items():
            session.do(commands.set_value(session.drive, card, name, text))
    session.do(commands.set_profile(session.drive, bench, [("0", "30"), ("9", "30")]))
    for name, text in (("tick", "100 us"), ("until", "40 ms")):
        session.do(commands.set_setting(session.drive, name, text))
    assert not session.examined.faults, session.examined.faults
    window.start_run()
    finish(window)
    torques = session.last_run.trace(f"{machine}.torque")
    assert abs(torques.y[-1] - 250) < 5
    # The inspector shows what follows, and the envelope; the pointer reads it.
    session.select([machine])
    settle()
    view = page.inspector.curve_view
    assert view.curve is not None and view.curve.y[0] == max(view.curve.y)
    QTest.mouseMove(view, view.rect().center())
    view.pointer = float(view.rect().center().x())
    plain = view.grab().toImage()
    view.pointer = None
    assert view.grab().toImage() != plain
    session.undo.setClean()


def test_the_rotor_diagram_follows_the_cursor_and_swaps_frames(window):

    session = window.session
    session.undo.setClean()
    window.files.open_path(EXAMPLES / "haul_drive.pendel")
    window.start_run()
    finish(window)
    window.show_page("Runs")
    settle()
    runs = window.page("Runs")
    runs.rotor_button.click()
    rotor = runs.rotor
    assert rotor.isVisible() and rotor.machine.currentData() == "haul_machine"
    seen = []
    for time in (0.03, 0.0345):
        runs.strips.set_cursors(0.0, time)
        settle()
        seen.append(rotor.vectors)
    # The rotor turns by 4 pole pairs times 570 rpm; from the rotor the vectors stand still.
    turned = (seen[1].angle - seen[0].angle) % 6.283185307179586
    assert abs(turned - 4 * 570 * 6.283185307179586 / 60 * 0.0045 % 6.283185307179586) < 0.02
    currents = [v.in_rotor(v.current) for v in seen]
    assert abs(currents[0] - currents[1]) < 0.03 * abs(currents[0])
    still, moved = rotor.rotor.vectors["current"], rotor.stator.vectors["current"]
    assert abs(abs(still) - abs(moved)) < 1e-6 * abs(still)
    assert np.abs(rotor.rotor.circle) == pytest.approx(260.0), "the current limit, all round, in either frame"
    assert rotor.rotor.scales["current"] > 260 > abs(still)
    told = [rotor.figures.itemAt(n).widget().text() for n in range(rotor.figures.count())]
    assert f"{100 * abs(still) / 260:.1f} %" in told
    picture = rotor.grab().toImage()
    runs.strips.set_cursors(0.0, 0.01)
    settle()
    assert rotor.grab().toImage() != picture
    shown = lambda: [s for spec in runs.strips.specs for s in spec.signals]  # noqa: E731
    assert {"haul_machine.current_a", "haul_machine.i_d"} <= set(shown())
    rotor.swap.click()
    assert "haul_machine.current_a" not in shown() and "haul_machine.i_d" in shown()
    rotor.swap.click()
    assert "haul_machine.current_a" in shown() and "haul_machine.i_d" not in shown()
    window.files.open_path(EXAMPLES / "haul_inverter.pendel")
    settle()
    assert rotor.vectors is None or rotor.machine.count() <= 1
    session.undo.setClean()


def test_an_own_circuit_replaces_the_step_up_converter(window):
    """The wayside supply's converter redrawn from parts and folded: the voltage loop holds its output as before."""
    session = window.session
    session.undo.setClean()
    window.files.open_path(EXAMPLES / "wayside_supply.pendel")
    session.do(commands.set_setting(session.drive, "level", "switching"))
    window.start_run()
    finish(window)
    ready = session.last_run.trace("equipment.voltage").y[-1]

    values = session.drive.cards["step_up"].values
    switch, diode, coil, bank, ends = (
        add(window, w) for w in ("transistor", "diode", "inductor", "capacitor", "pair opener")
    )
    session.do(commands.remove_cards(session.drive, ["step_up", "output"]))
    for a, b in (
        ("battery.dc", f"{ends}.pair"),
        (f"{ends}.plus", f"{coil}.a"),
        (f"{coil}.b", f"{switch}.a"),
        (f"{switch}.b", f"{ends}.minus"),
        (f"{coil}.b", f"{diode}.a"),
        (f"{diode}.b", f"{bank}.a"),
        (f"{bank}.b", f"{ends}.minus"),
        (f"{bank}.a", "equipment.a"),
        ("equipment.b", f"{ends}.minus"),
        ("equipment.voltage", "voltage_sensor.measured"),
        ("duty.out", f"{switch}.on"),
    ):
        wire(window, a, b)
    session.do(commands.set_choice(session.drive, switch, "gate", "duty"))
    for card, name, source in (
        (switch, "R_on", "R_on"),
        (switch, "f_p", "f_p"),
        (coil, "L", "L"),
        (coil, "R_s", "R_L"),
        (bank, "C", "C"),
        (bank, "R_s", "R_C"),
        (diode, "V_d", "V_d"),
    ):
        session.do(commands.set_value(session.drive, card, name, values[source]))
    session.select([switch, diode, coil, bank, ends])
    window.actions_by_name["group"].trigger()
    assert not session.examined.faults
    window.start_run()
    finish(window)
    assert abs(session.last_run.trace("equipment.voltage").y[-1] - ready) < 1e-3 * ready
    # Before the voltage loop the choke's current is what the transistor and the diode carry in turn.
    run = session.last_run
    currents = [run.trace(f"{card}.current").y for card in (switch, diode, coil)]
    assert abs(currents[0] + currents[1] - currents[2]).max() < 1e-3 * abs(currents[2]).max()
    session.undo.setClean()


def test_a_level_of_its_own_overrides_the_drives(window):
    session = window.session
    session.do(commands.set_setting(session.drive, "until", "20 ms"))
    click_card(window, "bridge")
    boxes = window.drive_page.inspector.findChildren(QComboBox)
    box = next(b for b in boxes if b.accessibleName() == "Level of detail")
    box.setCurrentIndex(box.findData("switching"))
    box.activated.emit(box.currentIndex())
    assert session.drive.cards["bridge"].choices["level"] == "switching"
    window.start_run()
    finish(window)
    assert "bridge.gate_a_upper" in session.last_run.keys and session.drive.settings["level"] == "averaged"
    window.editing.undo()
    window.start_run()
    finish(window)
    assert "bridge.gate_a_upper" not in session.last_run.keys


def test_a_fixed_step_run_says_its_load_and_its_traces_leave_the_window(window, tmp_path):
    import scipy.io

    session = window.session
    for name, text in (("level", "switching"), ("method", "fixed"), ("step", "2 us"), ("until", "30 ms")):
        session.do(commands.set_setting(session.drive, name, text))
    window.start_run()
    finish(window)
    run = session.last_run
    assert run.settings["load"] > 0 and run.settings["worst_step"] > 0
    # A hundred thousandth of the peak is what may be left out between rows, far fewer than there were steps.
    assert len(run.rows) < 0.8 * run.counters["steps"]
    window.show_page("Runs")
    settle()
    runs = window.page("Runs")
    runs.spectrum_button.click()
    runs.strips.set_cursors(0.01, 0.03)
    settle()
    assert runs.spectrum.isVisible() and runs.spectrum.shown.found
    save_traces([run], ["door_motor.current", "bridge.gate_a_upper"], tmp_path / "out.mat")
    found = scipy.io.loadmat(tmp_path / "out.mat")
    assert any("current" in k for k in found)
    session.undo.setClean()


def test_sectors_of_the_cabin_fan_on_dial_table_and_strips(window):
    """Run, open the sectors by their button, drag cursor 2 through a turn: dial, table and shades follow the Hall
    signals."""
    window.files.open_path(EXAMPLES / "cabin_fan.pendel")
    window.session.do(commands.set_setting(window.session.drive, "until", "0.4 s"))
    QTest.keyClick(window, Qt.Key.Key_R, CTRL)
    finish(window)
    window.show_page("Runs")
    settle()
    page = window.page("Runs")
    run = window.session.last_run
    page.strips.look_at(0.39, 0.008)
    settle()
    plain = page.strips.grab().toImage()
    QTest.mouseClick(page.sector_button, LEFT)
    settle()
    trace = run.trace("hall_decoder.sector")
    seen = set()
    for time in (0.3871, 0.3889, 0.3905, 0.3921):
        page.strips.set_cursors(0.38, time)
        settle()
        told = int(trace.y[trace.t <= time][-1])
        seen.add(told)
        assert page.sectors.dial.sector == told
        marked = [n for n, cells in page.sectors.cells.items() if cells[0].styleSheet()]
        assert marked == [told]
    assert len(seen) > 1
    assert len(page.strips.bands) == len(page.strips.plots)
    shaded = page.strips.grab().toImage()
    bands = [n for n in range(0, shaded.width(), 4) if shaded.pixel(n, 60) != plain.pixel(n, 60)]
    assert 20 < len(bands) < shaded.width() / 4  # some sectors are shaded, the others not
    QTest.mouseClick(page.sector_button, LEFT)
    settle()
    assert not page.sectors.isVisible() and not page.strips.bands
    window.session.undo.setClean()


def test_flux_tables_from_file_to_run(window, tmp_path):
    """Turn the haul machine into one by tables, load them through the wizard, look at them, run, undo."""
    window.files.open_path(EXAMPLES / "haul_drive.pendel")
    session, inspector = window.session, window.drive_page.inspector
    session.do(commands.set_kind(session.drive, "haul_machine", "pmsm_tables", "Change kind"))
    session.select(["haul_machine"])
    settle()
    assert any("no flux tables yet" in f.sentence for f in session.findings)
    (tab,) = (b for b in inspector.findChildren(QAbstractButton) if b.text() == "Tables")
    QTest.mouseClick(tab, LEFT)
    text = (EXAMPLES / "haul_flux.csv").read_text().replace("psi_d (Wb)", "first").replace("psi_q (Wb)", "second")
    (tmp_path / "mine.csv").write_text(text)
    seen = {}

    def through_the_wizard():
        (wizard,) = inspector.flux_editor.findChildren(FluxWizard)
        seen["lacking"] = (wizard.note.text(), wizard.take.isEnabled())
        for role, name in (("psi_d", "first"), ("psi_q", "second")):
            wizard.names[role].setCurrentIndex(wizard.names[role].findData(name))
        wizard.signs["psi_q"].setChecked(True)
        seen["wrong way round"] = wizard.note.text()
        wizard.signs["psi_q"].setChecked(False)
        wizard.winding.setCurrentIndex(1)
        seen["as a delta"] = (wizard.table.i_q[-1], wizard.table.psi_d[0][0])
        wizard.winding.setCurrentIndex(0)
        seen["as a star"] = (wizard.table.i_q[-1], wizard.table.psi_d[0][0])
        until(lambda: "misses them" in wizard.note.text())  # the smooth fit is worked out beside the window
        seen["fit"] = wizard.note.text()
        before = wizard.pair.surface.grab().toImage()
        QTest.mousePress(wizard.pair.surface, LEFT, pos=wizard.pair.surface.rect().center())
        QTest.mouseMove(wizard.pair.surface, wizard.pair.surface.rect().center() + QPoint(60, 20))
        QTest.mouseRelease(wizard.pair.surface, LEFT)
        seen["turned"] = wizard.pair.surface.grab().toImage() != before
        QTest.mouseClick(wizard.take, LEFT)

    QTimer.singleShot(150, through_the_wizard)
    inspector.flux_editor.load(tmp_path / "mine.csv")
    assert "psi_d, psi_q" in seen["lacking"][0] and not seen["lacking"][1]
    assert "sign convention is the other one" in seen["wrong way round"] and seen["turned"]
    assert "The smooth fit misses them by at most" in seen["fit"]
    (i_delta, psi_delta), (i_star, psi_star) = seen["as a delta"], seen["as a star"]
    assert (i_delta / i_star, psi_delta / psi_star) == pytest.approx((3**0.5, 3**-0.5))
    assert session.drive.cards["haul_machine"].flux is not None
    assert not [f for f in session.findings if f.card == "haul_machine"]
    window.actions_by_name["run"].trigger()
    finish(window)
    assert not session.last_run.message
    inspector.flux_editor.open_window()
    contours = inspector.flux_editor.window_.pair.contours
    assert len(contours.path) == len(session.last_run.trace("haul_machine.i_d").y)
    inspector.flux_editor.window_.close()
    session.undo.undo()
    assert session.drive.cards["haul_machine"].flux is None
    remembered = FluxWizard(tmp_path / "mine.csv", window.session, 250.0)
    assert remembered.names["psi_q"].currentData() == "second" and remembered.take.isEnabled()
    session.undo.setClean()


def test_torque_over_speed_shows_the_runs_within_the_envelope(window):
    window.session.undo.setClean()
    window.files.open_path(EXAMPLES / "haul_drive_tables.pendel")
    window.start_run()
    finish(window)
    window.show_page("Runs")
    settle()
    runs = window.page("Runs")
    runs.torque_button.click()
    panel = runs.torque
    assert panel.isVisible() and panel.machine.currentData() == "haul_machine"
    runs.strips.set_cursors(0.0, 0.05)
    settle()
    run = window.session.last_run
    (point, *_), *others = panel.points
    (x,), (y,) = point.getData()
    assert not others and abs(x - 570) < 0.5  # the bench turns at 570 rpm
    assert abs(y - np.interp(0.05, run.trace("haul_machine.torque").t, run.trace("haul_machine.torque").y)) < 1e-6
    assert "570 rpm" in panel.when.text()
    # The envelope against the definition: at 3000 rpm the most torque of currents whose flux the voltage leaves.
    drive = drive_of(run)
    curve = most_torque(drive, examine(drive).values, "haul_machine", 560.0)
    maximum = examine(drive).values["haul_machine"]["I_max"]
    d, q = np.meshgrid(np.linspace(-maximum, 0, 501), np.linspace(0, maximum, 501), indexing="ij")
    psi_d, psi_q = fitted(drive.cards["haul_machine"].flux).fluxes(d[:, 0], q[0])
    w = 4 * 3000 * np.pi / 30
    within = (np.hypot(d, q) <= maximum) & (w * np.hypot(psi_d, psi_q) <= 560 / np.sqrt(3))
    wanted = np.max(np.where(within, 6 * (psi_d * q - psi_q * d), 0.0))
    assert abs(np.interp(3000 * np.pi / 30, curve.x, curve.y) - wanted) < 0.02 * wanted
    picture = panel.plot.grab().toImage()
    brass = QColor(tokens().brass).rgb()
    assert any(picture.pixel(i, j) == brass for i in range(picture.width()) for j in range(0, picture.height(), 3))


def test_what_takes_long_about_a_table_is_worked_out_beside_the_window(window):
    """The fit of measured tables takes up to seconds: the drive is open meanwhile, and says the rest when it is
    known."""
    window.session.undo.setClean()
    window.files.open_path(EXAMPLES / "haul_drive_tables.pendel")
    session = window.session
    table = session.drive.cards["haul_machine"].flux
    psi_q = np.array(table.psi_q)
    psi_q[12, 20] *= 1.2  # a node that no machine has: the longest way to a fit
    bad = table_of(np.array(table.i_d), np.array(table.i_q), np.array(table.psi_d), psi_q, "measured")
    session.select(["haul_machine"])
    settle()
    inspector = window.drive_page.inspector
    (tab,) = (b for b in inspector.findChildren(QAbstractButton) if b.text() == "Values")
    QTest.mouseClick(tab, LEFT)
    figures = inspector.follow_box.count()
    assert figures and not [f for f in session.findings if "bend the wrong way" in f.sentence]
    session.do(commands.set_flux(session.drive, "haul_machine", bad))
    with at_once(), pytest.raises(NotYet):
        fitted(bad)  # so the edit was done without it
    assert not session.examined.faults and session.jobs.busy(WORK_OUT)
    inspector.refresh()
    assert inspector.follow_box.count() == 0
    settle()
    assert [f for f in session.findings if "bend the wrong way" in f.sentence and f.card == "haul_machine"]
    assert inspector.follow_box.count() == figures
    session.undo.undo()
    settle()
    assert not [f for f in session.findings if "bend the wrong way" in f.sentence]


def test_what_cannot_be_worked_out_is_said_once_and_the_drive_stays_open(window, monkeypatch):
    window.session.undo.setClean()
    asked = []

    def fails(work, stopping):
        asked.append(work)
        raise RunProblem("There is not enough memory.")

    monkeypatch.setattr(window.session.lowering, "work_out", fails)
    window.files.open_path(EXAMPLES / "haul_drive_tables.pendel")
    session = window.session
    table = session.drive.cards["haul_machine"].flux
    slow = star_of(table)
    session.do(commands.set_flux(session.drive, "haul_machine", slow))
    session.select(["haul_machine"])
    settle()
    assert len([w for w in asked if w.arguments == (slow,)]) == 1
    assert not session.examined.faults and slow == session.drive.cards["haul_machine"].flux
    assert "not enough memory" in fit_words(slow, session.slow_work)
    window.session.undo.setClean()

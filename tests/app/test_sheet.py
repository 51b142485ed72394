"""The sheet by keyboard and by its menus, the search line, taps."""

import json

import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer
from PyQt6.QtGui import QContextMenuEvent, QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QInputDialog, QMenu

from pendel.app.drive.match_delegate import LINE, MARGIN, ROLE, TITLE, lines_of
from pendel.app.drive.search_line import matches
from pendel.app.drive.sheet.geometry import segments
from pendel.app.drive.wire_dialog import WireDialog
from pendel.app.window.editing import CLIP_MIME
from pendel.core.catalogue.declare import Link
from pendel.core.catalogue.index import kinds
from pendel.core.catalogue.own_block import LANGUAGE
from pendel.core.catalogue.shelf import ready
from pendel.core.drive import commands
from pendel.core.drive.document import Drive, End, OwnEquations, Quantity

from .at_the_bench import turn
from .conftest import finish, lay_out, settle
from .test_power_drives import EXAMPLES
from .test_power_ways import opened
from .test_window import LEFT, card_point, click_card, drag, on_sheet, type_into


@pytest.mark.parametrize(
    ("text", "link", "first"),
    [
        ("inert", Link.SHAFT, "inertia"),
        ("pi", Link.SIGNAL_OUT, "pi"),
        ("pid", None, "pid"),
        ("gear", None, "gear"),
        ("diode", None, "diode"),
        ("diode", Link.LINE, "diode"),
        ("pmsm", None, "pmsm"),
        ("h-bridge", None, "four_quadrant_bridge"),
        ("friction", Link.ROD, "rail_friction"),
        ("friction", Link.SHAFT, "friction"),
        ("test bench", Link.SHAFT, "imposed_speed"),
        ("dc motor", None, "brushed_dc"),
        ("foc", None, "dq_current_regulator"),
        ("svm", None, "three_phase_modulator"),
        ("lowpass", None, "pt1"),
        ("absolute", None, "absolute_value"),
        ("divide", None, "quotient"),
        ("min", None, "smaller_of_two"),
        ("resistive load", None, "resistive_load"),
    ],
)
def test_search_puts_first_what_is_meant_and_fits(text, link, first):
    assert matches(text, link)[0].kind.id == first


def test_every_kind_is_found_by_its_own_title():
    for kind in kinds().values():
        assert kind.id in [m.kind.id for m in matches(kind.title, None)[:3]]


def test_the_search_line_by_keyboard(window):
    sheet, search = window.drive_page.sheet, window.drive_page.search
    before = set(window.session.drive.cards)
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_A)
    QTest.keyClicks(search.line, "no such thing")
    QTest.keyClick(search.line, Qt.Key.Key_Return)
    assert search.isVisible()
    assert set(window.session.drive.cards) == before
    for words, first in (
        ("step", "Step"),
        ("six", "Six-step speed control"),
        ("orientation", "Field orientation"),
    ):
        search.line.clear()
        QTest.keyClicks(search.line, words)
        assert search.list.item(0).data(Qt.ItemDataRole.UserRole).kind.title == first, "assemblies in their place"
    search.line.clear()
    QTest.keyClicks(search.line, "load")
    QTest.keyClick(search.line, Qt.Key.Key_Down)
    wanted = search.list.item(1).data(Qt.ItemDataRole.UserRole).kind.id
    QTest.keyClick(search.line, Qt.Key.Key_Return)
    (new,) = set(window.session.drive.cards) - before
    assert window.session.drive.cards[new].kind == wanted
    QTest.keyClick(sheet, Qt.Key.Key_A)
    QTest.keyClick(search.line, Qt.Key.Key_Escape)
    assert not search.isVisible()
    assert sheet.hasFocus()


def test_cards_are_walked_nudged_and_edited_by_keys(window):
    session, sheet = window.session, window.drive_page.sheet
    sheet.setFocus()
    keys = list(session.drive.cards)
    QTest.keyClick(sheet, Qt.Key.Key_Tab)
    QTest.keyClick(sheet, Qt.Key.Key_Tab)
    assert session.selection == [keys[1]]
    QTest.keyClick(sheet, Qt.Key.Key_Backtab)
    assert session.selection == [keys[0]]
    x = session.drive.cards[keys[0]].x
    steps = session.undo.count()
    for _ in range(3):
        QTest.keyClick(sheet, Qt.Key.Key_Right)
    assert session.drive.cards[keys[0]].x == x + 6
    assert session.undo.count() == steps + 1
    settle()
    QTest.keyClick(sheet, Qt.Key.Key_Return)
    assert QApplication.focusWidget() in window.drive_page.inspector.fields.values()
    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Escape)
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_Escape)
    assert session.selection == []
    settle()
    seen = set()
    for _ in range(6):
        window.actions_by_name["next_area"].trigger()
        focused = QApplication.focusWidget()
        seen.add(
            next(
                n
                for n in ("spine", "sheet", "inspector")
                if getattr(window.drive_page, n).isAncestorOf(focused) or getattr(window.drive_page, n) is focused
            )
        )
    assert seen == {"spine", "sheet", "inspector"}


def test_a_wire_is_chosen_from_lists(window, application):
    session = window.session
    session.do(commands.remove_wires(session.drive, ["travel_speed.out -> speed_pi.actual"]))
    click_card(window, "travel_speed")

    def answer():
        dialog = application.activeModalWidget()
        try:
            assert isinstance(dialog, WireDialog)
            QTest.keyClicks(dialog.start.line, "travel speed output")
            target = dialog.target.list
            assert all("Travel speed" not in target.item(k).text() for k in range(target.count()))
            QTest.keyClicks(dialog.target.line, "speed pi actual")
            dialog.accept()
        finally:
            dialog.close()

    QTimer.singleShot(50, answer)
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_W)
    assert "travel_speed.out -> speed_pi.actual" in session.drive.wires


def test_a_wire_dropped_on_the_sheet_asks_what_to_add_there(window):
    session, sheet = window.session, window.drive_page.sheet
    click_card(window, "travel_plan")
    item = sheet.cards["travel_plan"]
    start = item.handles["speed"] if "speed" in item.handles else next(iter(item.handles.values()))
    drag(window, start, item.pos() + QPointF(-160, 40))
    search = window.drive_page.search
    assert search.isVisible()
    QTest.keyClicks(search.line, "gain")
    QTest.keyClick(search.line, Qt.Key.Key_Return)
    assert any(w.a.card == "travel_plan" and w.b.card == "gain" for w in session.drive.wires.values())


def test_which_signal_a_sensor_measures_is_asked_where_several_suit(window):
    """Three currents of phases look alike to a sensor: dropped on the sheet or on a sensor, the wire asks for one; of a
    signal that alone suits it takes that. A sensor on another quantity is a finding."""
    session, sheet, search = opened(window, "haul_drive"), window.drive_page.sheet, window.drive_page.search
    offered = []

    def choose_when_asked(words):
        def choose():
            menu = QApplication.activePopupWidget()
            if menu is None:  # on a busy machine it takes longer
                QTimer.singleShot(50, choose)
                return
            offered.append([action.text() for action in menu.actions()])
            menu.setActiveAction(next(a for a in menu.actions() if words in a.text()))
            QTest.keyClick(menu, Qt.Key.Key_Return)

        QTimer.singleShot(150, choose)

    def pull(end):
        click_card(window, "haul_machine")
        drag(window, sheet.cards["haul_machine"].handles["signals"], end)

    def read(sensor):
        return [w.a.port for w in session.drive.wires.values() if w.b.card == sensor]

    for words, suits, new in (("current sensor", "phase b", "current_sensor"), ("speed sensor", "", "speed_sensor")):
        pull(card_point(window, "haul_machine") + QPointF(-60, 420))
        QTest.keyClicks(search.line, words)
        if suits:
            choose_when_asked(suits)
        QTest.keyClick(search.line, Qt.Key.Key_Return)
        settle()
        assert read(new) == ["current_b" if suits else "speed"]
    window.editing.undo()
    session.do(commands.remove_wires(session.drive, ["haul_machine.current_b -> current_sensor.measured"]))
    settle()
    choose_when_asked("phase c")
    pull(card_point(window, "current_sensor"))
    assert read("current_sensor") == ["current_c"] and not session.findings
    assert len(offered) == 2 and all("(A)" in text for text in offered[0])
    window.editing.undo()
    sheet.wiring.connect_ends(End("haul_machine", "speed"), End("current_sensor", "measured"))
    (finding,) = session.findings
    assert "takes A, but is given the speed of Haul machine, in rad/s" in finding.sentence


def test_escape_and_undo_end_a_wire_being_drawn(window):
    session, sheet = window.session, window.drive_page.sheet
    session.do(commands.add_card(session.drive, "inertia", "Spare", 2, 40))
    settle()
    click_card(window, "spare")
    port, start = sheet.viewport(), on_sheet(window, sheet.cards["spare"].handles["a"])
    for end in (lambda: QTest.keyClick(sheet, Qt.Key.Key_Escape), window.editing.undo):
        session.select(["spare"])
        QTest.mousePress(port, LEFT, Qt.KeyboardModifier.NoModifier, start)
        QTest.mouseMove(port, start + QPoint(40, 30))
        assert sheet.wiring.start is not None
        end()
        settle()
        assert sheet.wiring.start is None
        assert not any(item.lit for item in sheet.cards.values())
        QTest.mouseRelease(port, LEFT, Qt.KeyboardModifier.NoModifier, start)


def test_cards_are_chosen_with_a_band_and_with_shift(window):
    session, sheet = window.session, window.drive_page.sheet
    boxes = sheet.boxes()
    first, second = boxes["supply"], boxes["bridge"]
    drag(window, QPointF(first.x - 10, first.y - 8), QPointF(second.x + second.w + 8, second.y + second.h + 4))
    assert set(session.selection) == {"supply", "bridge"}
    QTest.mouseClick(
        sheet.viewport(),
        LEFT,
        Qt.KeyboardModifier.ShiftModifier,
        on_sheet(window, card_point(window, "bridge")),
    )
    assert session.selection == ["supply"]


def test_the_wheel_zooms_the_sheet_as_it_is_turned_and_not_where_it_is_not(window):
    sheet = window.drive_page.sheet
    before = sheet.transform().m11()
    turn(sheet, 0)  # as a touch pad begins and ends
    assert sheet.transform().m11() == before and not sheet.zoomed_by_hand
    turn(sheet, 120)
    assert sheet.transform().m11() == pytest.approx(1.15 * before) and sheet.zoomed_by_hand
    turn(sheet, -120)
    assert sheet.transform().m11() == pytest.approx(before)
    for _ in range(40):
        turn(sheet, 120)
    assert sheet.transform().m11() <= 3.0


def test_the_menu_of_a_card_offers_what_applies(window, monkeypatch):
    offered = []
    monkeypatch.setattr(QMenu, "exec", lambda menu, *_: offered.append([a.text() for a in menu.actions()]))
    sheet = window.drive_page.sheet
    click_card(window, "speed_pi")
    at = on_sheet(window, card_point(window, "speed_pi"))
    sheet.contextMenuEvent(QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, sheet.mapToGlobal(at)))
    assert "Open or close this loop" in offered[0]
    window.session.select([])
    sheet.contextMenuEvent(QContextMenuEvent(QContextMenuEvent.Reason.Mouse, QPoint(3, 3), QPoint(3, 3)))
    assert [t.split(" …")[0] for t in offered[1]] == [
        "Add a part or block",
        "Note",
        "Wire what is obvious",
        "Tidy the sheet",
        "Copy picture",
        "Save picture",
    ]


def test_taps_are_listed_selected_renamed_and_taken_off(window, monkeypatch):
    session, taps = window.session, window.drive_page.spine.taps
    settle()
    assert list(taps.rows) == list(session.drive.taps)
    QTest.mouseClick(taps.rows["i_set"], LEFT)
    assert session.drive.wires[session.selected_wire].a == session.drive.taps["i_set"]
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("i_wanted", True))
    taps.rows["i_set"].setFocus()
    window.actions_by_name["rename"].trigger()
    assert "i_wanted" in session.drive.taps
    settle()
    QTest.keyClick(taps.rows["i_wanted"], Qt.Key.Key_Delete)
    assert "i_wanted" not in session.drive.taps
    window.editing.undo()
    window.editing.undo()
    assert session.drive.taps["i_set"] == End("speed_pi", "out")
    click_card(window, "gear")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("no good name", True))
    QTest.keyClick(window.drive_page.sheet, Qt.Key.Key_P)
    assert "no good name" in window.foot.status_message.whole


def test_quantities_are_renamed_with_f2_and_from_another_window_garbage_is_not_pasted(window, monkeypatch):
    spine = window.drive_page.spine
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("K_speed", True))
    settle()
    spine.fields["K_p"].setFocus()
    window.actions_by_name["rename"].trigger()
    assert window.session.drive.cards["speed_pi"].values["K_p"] == "K_speed"
    type_into(spine.fields["U_link"], "52 V")
    assert window.session.examined.quantities["U_link"] == 52.0
    before = dict(window.session.drive.cards)
    bad = [{"cards": {"x": {"kind": 3}}, "wires": []}]
    bad += [
        {"cards": {}, "wires": [], "quantities": q} for q in ({"no name": ["1", ""]}, {"q": [1, ""]}, {"q": "1"}, [])
    ]
    for data in (b"\xff\x00", b"[]", *(json.dumps(record).encode() for record in bad)):
        mime = QMimeData()
        mime.setData(CLIP_MIME, data)
        QGuiApplication.clipboard().setMimeData(mime)
        window.drive_page.sheet.setFocus()
        window.actions_by_name["paste"].trigger()
        assert "cannot be pasted" in window.foot.status_message.whole
    assert dict(window.session.drive.cards) == before


def test_what_is_looked_for_is_found_on_every_sheet_and_gone_to(window):
    """A card inside an assembly, a quantity, what is written in a value and in an equation; on Runs, a signal."""
    window.files.open_path(EXAMPLES / "service_trolley.pendel")
    settle()
    session, page = window.session, window.drive_page
    find = page.find_line

    def look_for(text):
        window.actions_by_name["find"].trigger()
        assert find.isVisible() and find.line.hasFocus()
        QTest.keyClicks(find.line, text)
        titles = [find.list.item(k).text() for k in range(find.list.count())]
        QTest.keyClick(find.line, Qt.Key.Key_Return)
        lay_out()
        return titles

    assert look_for("space vector")[0] == "Space vector"
    inside = session.selection[0]
    assert session.drive.cards[inside].name == "Space vector" and session.inside == session.drive.cards[inside].inside
    assert page.sheet.hasFocus() and not find.isVisible()
    assert look_for("mu_rail")[0] == "mu_rail" and page.spine.fields["mu_rail"].hasFocus()
    assert "Link: R_i" in look_for("internal 4 mohm") and session.selection == ["link"]
    assert page.inspector.fields["R_i"].hasFocus()
    own = OwnEquations(("y: out",), (), (), (), ("y = 12345",))
    session.do(commands.add_card(session.drive, LANGUAGE, "Odd", 0, 90, own=own))
    assert look_for("12345") == ["Odd: equations"] and page.inspector.tab == "Update"
    assert look_for("no such thing")[0].startswith("Nothing in this drive") and find.isVisible()
    QTest.keyClick(find.line, Qt.Key.Key_Escape)
    assert not find.isVisible()
    window.show_page("Runs")
    settle()
    window.actions_by_name["find"].trigger()
    assert window.page("Runs").find.hasFocus()
    session.undo.setClean()


def test_quantities_come_with_what_is_pasted_into_another_drive(window):
    """Those that are named, with those that these name; a drive keeps its own, and says so. One step of undo."""
    session = window.session
    session.do(commands.set_quantity(session.drive, "base", "2"))
    session.do(commands.set_quantity(session.drive, "twice", "2*base", "of the base"))
    session.do(commands.set_value(session.drive, "speed_pi", "K_p", "twice*U_link/1 V"))
    session.select(["speed_pi"])
    window.drive_page.sheet.setFocus()
    window.actions_by_name["copy"].trigger()
    wanted = {name: session.drive.quantities[name] for name in ("base", "twice", "U_link", "T_i", "i_max")}
    session.open(Drive("Other"), None)
    session.do(commands.set_quantity(session.drive, "base", "3"))
    steps = session.undo.count()
    window.drive_page.sheet.setFocus()
    window.actions_by_name["paste"].trigger()
    assert session.drive.quantities == {**wanted, "base": Quantity("3")} and "base" in window.foot.status_message.whole
    assert session.examined.values["speed_pi"]["K_p"] == pytest.approx(6 * session.examined.quantities["U_link"])
    session.undo.undo()
    assert session.undo.index() == steps and list(session.drive.quantities) == ["base"] and not session.drive.cards
    session.undo.setClean()


def test_any_signal_can_be_tapped_from_the_tree_of_a_run(window, monkeypatch):
    window.start_run()
    finish(window)
    window.show_page("Runs")
    page = window.page("Runs")
    item = page.tree.findItems("copper loss", Qt.MatchFlag.MatchRecursive | Qt.MatchFlag.MatchExactly)[0]
    chosen = []
    monkeypatch.setattr(QMenu, "exec", lambda menu, *_: chosen.extend(menu.actions()))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("p_copper", True))
    page.tree.customContextMenuRequested.emit(page.tree.visualItemRect(item).center())
    next(a for a in chosen if a.text().startswith("Tap")).trigger()
    assert window.session.drive.taps["p_copper"] == End("door_motor", "copper_loss")
    window.editing.undo()
    assert "p_copper" not in window.session.drive.taps


def test_nothing_crosses_what_is_written_among_the_wires_of_any_example(window):
    """Neither a wire nor a card nor other words; where a sheet is too full, words are shown on hover instead."""
    written = hidden = 0
    for path in sorted(EXAMPLES.glob("*.pendel")):
        window.session.undo.setClean()
        window.files.open_path(path)
        settle()
        sheet = window.drive_page.sheet
        wires = [item for item in sheet.wires.values() if item.words]
        words = [item.words_box() for item in wires if item.words_at]
        assert sheet.edge.words_box() and [name for name, _ in sheet.edge.names] == ["Power deck", "Control deck"]
        words.append(sheet.edge.words_box())
        lines = [s for item in sheet.wires.values() for s in segments(item.path)]
        for n, box in enumerate(words):
            assert not any(box.crossed_by(a, b, clearance=1.0) for a, b in lines), path.stem
            assert not any(box.overlaps(card) for card in sheet.boxes().values()), path.stem
            assert not any(box.overlaps(other) for other in words[:n]), path.stem
            assert sheet.sheet.sceneRect().contains(box.x, box.y), path.stem
        hidden += sum(not item.words_at and item.toolTip() == item.words for item in wires)
        written += len(words)
    assert written > 35 and hidden < 8


def test_energy_goes_through_parts_without_a_mark_and_ends_where_no_wire_goes_on(window):
    window.files.open_path(EXAMPLES / "old_haul_feedback.pendel")  # a transformer, a reactor and lines lie between
    spine = window.drive_page.spine
    assert spine.path_order() == [["grid", "front_end", "inverter", "old_machine", "drum", "rope_pull"]]
    window.session.do(commands.add_card(window.session.drive, "dc_source", "Spare battery", 10, 90))
    settle()
    assert spine.path_order()[1:] == [["spare_battery"]]
    assert spine.stations["rope_pull"].last and spine.stations["spare_battery"].first
    window.session.undo.setClean()


def test_results_of_the_search_have_a_symbol_and_their_whole_sentence(window):
    """Every kind and ready assembly: nothing of the sentence is cut, and something is drawn as its symbol."""
    page = window.drive_page
    page.open_search()
    settle()
    results = page.search.list
    assert results.count() == len(kinds()) + len(ready())
    QTest.keyClicks(page.search.line, "assembly")
    settle()
    assert any("Ready assembly. Reads" in results.item(n).data(ROLE)[1] for n in range(results.count()))
    page.search.line.clear()
    settle()
    for n in range(results.count()):
        title, sentence, _, kind = results.item(n).data(ROLE)
        results.scrollToItem(results.item(n))
        lay_out()
        rect = results.visualItemRect(results.item(n))
        lines = lines_of(sentence, rect.width() - MARGIN - 8)
        assert " ".join(lines) == " ".join(sentence.split()) and rect.height() >= 5 + TITLE + LINE * len(lines)
        image = results.viewport().grab(rect).toImage()
        tints = {image.pixel(x, y) for x in range(9, 46) for y in range(9, 38)}
        assert len(tints) > 2, f"{title} has no symbol"

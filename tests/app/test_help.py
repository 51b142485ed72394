"""Help says of every part and block what its declaration says, beside the sheet."""

from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtGui import QCursor, QHelpEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QListWidget,
    QPlainTextEdit,
    QPushButton,
    QToolTip,
    QTreeWidget,
    QWidget,
)

from pendel.app.plots.plot import Plot
from pendel.app.widgets.basic import Elided
from pendel.app.widgets.explained import PAGE, page_at, page_of
from pendel.app.window.heat_window import HeatWindow
from pendel.app.window.help_window import HelpWindow
from pendel.app.window.tips import TIPS, words_of, words_of_head
from pendel.core.catalogue.help import as_text, examples_with, help_of, matching
from pendel.core.catalogue.index import kinds
from pendel.core.drive import assemblies, commands
from pendel.core.measures import MEASURES
from pendel.core.plant.methods import METHODS
from pendel.core.series.columns import FIGURES, REACHES, WHOLE
from pendel.core.series.loop_figures import MARGINS
from pendel.core.topics import topics
from pendel.core.vocabulary.levels import OURS

from ..conftest import WHOLE as WHOLE_LIST
from .conftest import finish, judged, settle, until
from .test_series_page import planned, ran
from .test_window import LEFT


def test_every_kind_has_a_page_with_all_that_it_declares():
    bare = []
    for kind in kinds().values():
        found = help_of(kind)
        text = as_text(found)
        for each in (*kind.ports, *kind.values, *getattr(kind, "signals", ())):
            assert each.name in text and each.label in text, (kind.id, each.name)
        for choice in kind.choices:
            assert all(words in text for _, words in choice.options)
        if not any(section.text for section in found.sections):
            bare.append(kind.id)
    assert set(bare) <= {"own", "own_block", "own_modes", "own_matrices", "own_c"}, (
        "only what a user writes says nothing of itself"
    )
    assert "usually 40, above 0" in as_text(help_of(kinds()["battery"])), "limits are in the value's own unit"
    assert "Plett" in as_text(help_of(kinds()["battery"])) and "def " in as_text(help_of(kinds()["pi"]))


def test_words_find_what_does_it():
    for words, first in (("dc motor", "brushed_dc"), ("low pass", "pt1"), ("gear worm", "worm_gear")):
        assert first in [kind.id for kind in matching(words)][:6], words
    assert matching("no such thing at all") == []


def test_f1_opens_the_page_of_the_chosen_card_and_stays_beside(window):
    window.session.select(["gear"])
    settle()
    QTest.keyClick(window, Qt.Key.Key_F1)
    settle()
    help_window = window.findChild(HelpWindow)
    assert help_window.isVisible() and help_window.kind is kinds()["gear"] and not help_window.isModal()
    assert window.session.selection == ["gear"]
    help_window.line.setText("battery")
    assert help_window.kind.id == "battery"
    settle()
    shown = {each.text() for each in help_window.page.widget().findChildren(QLabel)}
    assert "Battery" in shown and "Open circuit" in shown
    copy = next(b for b in help_window.page.widget().findChildren(QPushButton) if b.text() == "Copy")
    QTest.mouseClick(copy, LEFT)
    assert QApplication.clipboard().text().startswith("Battery\n")
    window.session.select(["door_motor"])
    window.actions_by_name["help"].trigger()
    assert help_window.kind is kinds()["brushed_dc"] and help_window.line.text() == ""
    window.session.do(assemblies.group(window.session.drive, ["gear", "belt"], "Train"))
    window.session.select([next(key for key, card in window.session.drive.cards.items() if card.face is not None)])
    window.actions_by_name["help"].trigger()
    settle()
    assert help_window.kind.title == "Assembly" and "2 cards in one" in help_window.kind.sentence
    assert "Ports" in {each.text() for each in help_window.page.widget().findChildren(QLabel)}, "behind the equations"
    help_window.close()


def test_settings_measures_and_figures_of_loops_have_pages(window):
    """By F1 on what has the focus, and by their words; each measure and each setting of the drive has one."""
    known = topics()
    assert {f"measure:{m.id}" for m in MEASURES} <= set(known)
    shown = {name for name in window.drive_page.inspector.fields if name != "title"} | {"sensors", "controller"}
    assert {f"setting:{name}" for name in shown} <= set(known)
    assert {f"method:{m.id}" for m in METHODS} <= set(known) and {f"level:{level}" for level in OURS} <= set(known)
    assert "10 to 90 %" in known["measure:rise"].sentence
    window.drive_page.inspector.fields["tick"].setFocus()
    window.actions_by_name["help"].trigger()
    help_window = window.findChild(HelpWindow)
    assert help_window.kind is known["setting:tick"]
    window.show_page("Loops")
    window.actions_by_name["help"].trigger()
    assert help_window.kind is known["loop:crossover"]
    help_window.line.setText("largest sensitivity")
    assert help_window.kind.title.startswith("Ms")
    for number in range(help_window.list.count()):
        help_window.list.setCurrentRow(number)
    help_window.close()


def pointed_at(monkeypatch, widget, place=None):
    """The pointer on the middle, or a place, of a widget."""
    at = place if place is not None else widget.rect().center()
    monkeypatch.setattr(QApplication, "widgetAt", lambda *_: widget)
    monkeypatch.setattr(QCursor, "pos", lambda *_: widget.mapToGlobal(at))


def asked(window):
    """The id of the page that F1 opens."""
    QTest.keyClick(QApplication.activeWindow() or window, Qt.Key.Key_F1)
    settle()
    found = window.findChild(HelpWindow)
    found.hide()
    return found.kind.id


def test_f1_explains_the_figure_the_plot_or_the_finding_that_is_pointed_at(window, monkeypatch):
    window.start_run()
    finish(window)
    window.show_page("Runs")
    runs = window.page("Runs")
    runs.between.goes_on = lambda: True
    assert until(lambda: any(each.text() == "ripple p-p" for each in runs.findChildren(QLabel)))
    named = {each.text(): each for each in runs.findChildren(QLabel)}
    for words, page in (("settles 2 %", "settling"), ("overshoot", "overshoot"), ("ripple p-p", "ripple")):
        pointed_at(monkeypatch, named[words])
        assert asked(window) == f"measure:{page}"
    for widget, page in ((runs.strips, "strips"), (runs.spectrum.plot, "spectrum"), (runs.heading, "measures")):
        pointed_at(monkeypatch, widget)
        assert asked(window) == f"plot:{page}"
    window.session.do(commands.set_value(window.session.drive, "gear", "eta", "-1"))
    window.session.do(commands.set_setting(window.session.drive, "tick", "-1 s"))
    assert until(lambda: {(f.card, f.field) for f in window.foot.findings()} >= {("gear", "eta"), ("", "tick")})
    window.foot.open()
    settle()
    for card, page in (("gear", "gear"), ("", "setting:tick")):
        said = next(f.sentence for f in window.foot.findings() if f.card == card)
        pointed_at(monkeypatch, next(e for e in window.foot.panel.findChildren(QLabel) if e.text() == said))
        assert asked(window) == page
    window.foot.panel.hide()
    pointed_at(monkeypatch, window.until)
    assert asked(window) == "setting:until"
    for _ in range(2):
        window.session.undo.undo()
    window.show_page("Loops")
    judged(window)
    loops = window.page("Loops")
    named = {each.whole: each for each in loops.figures.findChildren(Elided)}
    for words, page in (("Ms", "loop:Ms"), ("rise", "measure:rise")):
        pointed_at(monkeypatch, named[words])
        assert asked(window) == page


def test_f1_explains_a_column_of_rows_and_is_heard_in_windows_beside(window, monkeypatch):
    page = planned(window, measures=("peak(door_motor.current)", "2*lost()", "m_leaf"))
    ran(page)
    head = page.table.horizontalHeader()
    pages = []
    for section in range(page.table.model().columnCount()):
        middle = head.sectionViewportPosition(section) + head.sectionSize(section) // 2
        pointed_at(monkeypatch, head.viewport(), QPoint(middle, 5))
        pages.append(page_at(QCursor.pos(), window))
    assert pages[-3:-1] == ["measure:peak", "measure:lost"] and not any((*pages[:-3], pages[-1]))
    window.actions_by_name["heat"].trigger()
    settle()
    heat = window.findChild(HeatWindow)
    heat.activateWindow()
    assert until(heat.isActiveWindow)
    pointed_at(monkeypatch, heat.plot)
    assert asked(window) == "plot:duty"
    heat.close()


def test_every_plot_and_every_function_of_a_column_has_a_page(window):
    """In all pages and windows beside; each page of a plot is shown by something."""
    for name in ("heat", "envelope", "held", "best_split", "flows"):
        window.actions_by_name[name].trigger()
    for name in window.pages:
        window.show_page(name)
        settle()
    assert window.page("Loops").way and window.page("Loops").modes  # built when first asked for
    given = {page_of(each): each for each in QApplication.allWidgets() if each.property(PAGE)}
    assert {page for page in given if page} <= set(topics()) | set(kinds())
    pages_of_plots = {id_ for id_ in topics() if id_.startswith("plot:")}
    assert pages_of_plots - set(given) == set(), "a page that F1 never opens"
    assert not [each.accessibleName() for each in window.findChildren(Plot) if page_of(each) not in pages_of_plots]
    functions = {*FIGURES, *WHOLE, *MARGINS, REACHES.id}
    assert {f"measure:{name}" for name in functions} <= set(topics())


def test_an_example_that_is_named_on_a_page_opens_from_there_and_no_edit_is_lost(window, monkeypatch):
    window.session.select(["gear"])
    QTest.keyClick(window, Qt.Key.Key_F1)
    help_window = window.findChild(HelpWindow)
    until(lambda: any(each.text() == "Examples with it" for each in help_window.page.widget().findChildren(QLabel)))
    links = {each.text(): each for each in help_window.page.widget().findChildren(QPushButton)}
    title, path = next((t, p) for t, p in examples_with()["gear"].items() if p != window.session.path)
    window.session.do(commands.set_value(window.session.drive, "gear", "eta", "91 %"))
    asked = []
    monkeypatch.setattr(window.files, "may_leave", lambda: bool(asked.append(1)))
    QTest.mouseClick(links[title], LEFT)
    assert asked and window.session.path != path and window.session.drive.cards["gear"].values["eta"] == "91 %"
    monkeypatch.setattr(window.files, "may_leave", lambda: True)
    QTest.mouseClick(links[title], LEFT)
    settle()
    assert window.session.path == path and window.session.drive.title == title and help_window.isVisible()


def test_a_page_is_whole_once_it_was_painted(window):
    """Its sections come one by one, none twice, and another page that is asked for meanwhile takes their place."""
    window.actions_by_name["help"].trigger()
    help_window = window.findChild(HelpWindow)
    longest = sorted(kinds().values(), key=lambda kind: -len(as_text(help_of(kind))))
    for kind in longest if WHOLE_LIST else longest[::12]:
        help_window.show_kind(kinds()["gear"])
        help_window.show_kind(kind)
        settle()
        inner = help_window.page.widget()
        labels = sorted(inner.findChildren(QLabel), key=lambda each: each.mapTo(inner, QPoint(0, 0)).y())
        shown = [each.text() for each in labels]
        titles = [section.title for section in help_of(kind).sections]
        assert [text for text in shown if text in titles and text != kind.title][: len(titles)] == titles, kind.id
    help_window.close()


def test_every_icon_field_and_head_says_what_it_is_for(window):
    """Of all pages, and the pointer that rests on one that brings no words itself gets them."""
    window.start_run()
    finish(window)
    places = [("Drive", name) for name in window.session.drive.cards]
    places += [(page, "door_motor") for page in ("Drive", "Runs", "Loops", "Series", "Firmware", "Bench")]
    kinds_ = QAbstractButton, QLineEdit, QComboBox, QPlainTextEdit, QListWidget, QTreeWidget
    bare = []
    for page, card in places:
        window.show_page(page)
        window.session.select([card])
        judged(window)
        for widget in window.findChildren(QWidget):
            inside = isinstance(widget.parent(), (QComboBox, QAbstractSpinBox))
            if widget.isVisible() and isinstance(widget, kinds_) and not inside and not words_of(widget):
                bare.append((page, type(widget).__name__, widget.accessibleName(), getattr(widget, "text", str)()))
            if (
                widget.isVisible()
                and isinstance(widget, QHeaderView)
                and widget.orientation() == Qt.Orientation.Horizontal
            ):
                bare += [(page, "head", n) for n in range(widget.count()) if not words_of_head(widget, n)]
    assert not bare
    button = next(b for b in window.findChildren(QAbstractButton) if b.isVisible() and b.text() == "Connect")
    assert not button.toolTip()
    middle = button.rect().center()
    QApplication.sendEvent(button, QHelpEvent(QEvent.Type.ToolTip, middle, button.mapToGlobal(middle)))
    assert until(lambda: QToolTip.text() == TIPS["Connect"])
    QToolTip.hideText()

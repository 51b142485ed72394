"""Help says of every part and block what its declaration says, beside the sheet."""

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QHelpEvent
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

from pendel.app.window.help_window import HelpWindow
from pendel.app.window.tips import TIPS, words_of, words_of_head
from pendel.core.catalogue.help import as_text, help_of, matching
from pendel.core.catalogue.index import kinds
from pendel.core.drive import commands
from pendel.core.measures import MEASURES
from pendel.core.plant.methods import METHODS
from pendel.core.topics import topics
from pendel.core.vocabulary.levels import OURS

from .conftest import finish, judged, settle, until
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


def test_f1_explains_the_figure_the_plot_or_the_finding_that_is_pointed_at(window, monkeypatch):
    window.start_run()
    finish(window)
    window.show_page("Runs")
    runs = window.pages["Runs"]
    assert until(lambda: runs.grid.itemAtPosition(2, 0) is not None)
    figure = next(each for each in runs.findChildren(QLabel) if each.text().startswith("settles"))
    window.session.do(commands.set_value(window.session.drive, "gear", "eta", "-1"))
    assert until(lambda: any(f.card == "gear" for f in window.foot.findings()))
    finding = next(f for f in window.foot.findings() if f.card == "gear")
    window.foot.open()
    settle()
    words = next(each for each in window.foot.panel.findChildren(QLabel) if each.text() == finding.sentence)
    wanted = {
        figure: "measure:settling",
        runs.strips: "plot:strips",
        runs.spectrum.plot: "plot:spectrum",
        words: "gear",
    }
    for widget, page in wanted.items():
        monkeypatch.setattr(QApplication, "widgetAt", lambda *_, at=widget: at)
        window.actions_by_name["help"].trigger()
        help_window = window.findChild(HelpWindow)
        assert help_window.kind.id == page
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

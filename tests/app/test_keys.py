"""Whatever can be done can be found by its words and done by a key."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QMenu, QMenuBar

from pendel.app.window.actions import ACTIONS
from pendel.app.window.do_line import KeysDialog, all_keys

from .conftest import finish, settle


def test_any_action_is_found_by_its_words_and_done(window):
    window.actions_by_name["do"].trigger()
    line = window.menus.do_line
    assert line.isVisible() and line.list.count() > 30
    QTest.keyClicks(line.line, "simulate")
    assert line.list.currentItem().text() == "Run or stop"
    QTest.keyClick(line.line, Qt.Key.Key_Return)
    finish(window)
    assert len(window.session.runs) == 1 and not line.isVisible()
    window.actions_by_name["do"].trigger()
    QTest.keyClicks(line.line, "loops page")
    QTest.keyClick(line.line, Qt.Key.Key_Return)
    settle()
    assert window.page_now == "Loops"
    window.actions_by_name["do"].trigger()
    QTest.keyClicks(line.line, "zzz")
    QTest.keyClick(line.line, Qt.Key.Key_Return)
    assert line.isVisible(), "what is not there does nothing"
    QTest.keyClick(line.line, Qt.Key.Key_Escape)
    assert not line.isVisible()


def test_keys_are_each_of_one_action_and_listed(window):
    keys = [spec.key for spec in ACTIONS if spec.key]
    assert len(set(keys)) == len(keys), "no key does two things"
    window.actions_by_name["keys"].trigger()
    dialog = next(w for w in QApplication.topLevelWidgets() if isinstance(w, KeysDialog) and w.isVisible())
    shown = {each.text() for each in dialog.findChildren(QLabel)}
    assert {key for _, key, _ in all_keys(window.actions_by_name)} <= shown
    dialog.reject()
    bar = window.menuWidget().findChild(QMenuBar)
    titles = [menu.title() for menu in bar.findChildren(QMenu) if menu.parent() is bar]
    assert all(title.startswith("&") for title in titles) and len({t[1] for t in titles}) == len(titles)

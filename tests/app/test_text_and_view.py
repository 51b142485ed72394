"""A drive explains itself and opens as it was left: its text, typed and shown, and the view of its runs in its file."""

from __future__ import annotations

import shutil

import pytest
from PyQt6.QtCore import QPoint, Qt, QUrl
from PyQt6.QtGui import QTextDocument
from PyQt6.QtTest import QTest

import pendel
from pendel.app.widgets.marked_text import MarkedText, set_marked
from pendel.core.drive import file
from pendel.core.drive.view_edits import about, view_of_runs
from tests.app.conftest import finish, settle, until


@pytest.fixture
def strips(window):
    window.start_run(show=True)
    finish(window)
    page = window.page("Runs")
    settle()
    assert until(lambda: page.strips.shows_runs)
    return page.strips


def test_a_text_is_typed_shown_undone_and_saved(window, tmp_path):
    box = window.drive_page.inspector.about
    QTest.mouseClick(box.change, Qt.MouseButton.LeftButton)
    box.editor.setPlainText("# Door\n\nTry a **heavier** leaf")
    QTest.keyClicks(box.editor, "!")  # at the beginning, where the cursor is
    QTest.keyClick(box.editor, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    settle()
    assert about(window.session.drive).startswith("!# Door") and window.session.undo.undoText() == "Describe the drive"
    assert "Try a heavier leaf" in box.text.toPlainText()
    window.editing.undo()
    settle()
    assert "first drive to look at" in box.text.toPlainText(), "the text it came with"

    box.edit()
    box.editor.setPlainText("")
    QTest.keyClick(box.editor, Qt.Key.Key_Escape)
    assert "first drive to look at" in about(window.session.drive), "Escape takes back what was typed"

    box.edit()
    box.editor.setPlainText("Typed, and not yet left.")
    window.files.save_drive()
    assert about(file.load(window.session.path)) == "Typed, and not yet left."
    box = window.drive_page.inspector.about
    box.edit()
    box.editor.setPlainText("Typed last.")
    window.session.select(["door_motor"])
    settle()
    assert about(window.session.drive) == "Typed last.", "a card that is chosen loses nothing"


HOSTILE = (
    "<b>bold</b> <img src='file:///etc/passwd'> <script>x</script>",
    "![picture](file:///etc/hostname) ![p](data:image/png;base64,AAAA)",
    "[words](http://elsewhere.example/) <http://elsewhere.example/> www.elsewhere.example",
    "> " * 3000 + "deep",
    "\n".join("  " * k + "- deep" for k in range(300)),
    "[" * 8000 + "](" * 3000,
    "|a|" * 2000 + "\n" + "|-|" * 2000 + "\n" + "|1|" * 2000,
    "`" * 9999,
    "&lt;i&gt; &#60;b&#62;",
)


@pytest.mark.parametrize("text", HOSTILE, ids=lambda text: text[:12])
def test_no_text_loads_or_leads_anywhere(application, monkeypatch, text):
    """HTML is shown as letters, links are words, nothing is loaded, and nothing is so deep that it ends the window."""
    shown = MarkedText("Text")
    asked = []
    monkeypatch.setattr(QTextDocument, "loadResource", lambda self, kind, name: asked.append(name))
    shown.resize(300, 200)
    shown.show_text(text)
    shown.grab()
    document = shown.document()
    assert "href" not in document.toHtml() and "<img" not in document.toHtml()
    assert not asked and document.resource(2, QUrl("file:///etc/hostname")) is None
    if text.startswith("<b>"):
        assert "<b>bold</b>" in shown.toPlainText()
    if text.startswith("[words]"):
        assert "words (http://elsewhere.example/)" in shown.toPlainText()
    set_marked(document, "x" * 30_000)
    assert document.characterCount() < 21_000


def test_the_gap_between_two_strips_is_dragged(window, strips):
    above, below = (strips.place_of(n) for n in (0, 1))
    at = QPoint(above.center().x(), (above.bottom() + below.top()) // 2)
    where = strips.viewport()
    before = strips.traces[0][0].y.copy()
    QTest.mousePress(where, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(where, at + QPoint(0, below.height() // 2))
    QTest.mouseRelease(where, Qt.MouseButton.LeftButton, pos=at + QPoint(0, below.height() // 2))
    settle()
    heights = [spec.height for spec in strips.specs]
    assert heights[0] > 1.3 and heights[0] + heights[1] == pytest.approx(2, abs=0.01) and heights[2:] == [1.0, 1.0]
    px = [strips.plots[n].vb.height() for n in range(4)]
    assert [p / px[3] for p in px] == pytest.approx(heights, rel=0.03), "heights are what they say"
    low, high = strips.plots[0].vb.viewRange()[1]
    assert low <= before.min() and high >= before.max(), "a strip that fits still does"
    QTest.mouseDClick(where, Qt.MouseButton.LeftButton, pos=at + QPoint(0, below.height() // 2))
    settle()
    assert [spec.height for spec in strips.specs] == [1.0] * 4


def test_a_drive_opens_as_it_was_left(window, strips, questions, tmp_path):
    page = window.page("Runs")
    session = window.session
    assert session.view_now().strips == () and session.view_now().cursors == (), "what nobody chose stays out of files"
    strips.change_heights({0: 2.0})
    strips.specs.pop()
    strips.changed.emit()
    settle()
    strips.set_cursors(0.3, 0.9)
    strips.plots[0].vb.setXRange(0.2, 1.0, padding=0)
    strips.plots[1].vb.setYRange(-3, 7, padding=0)
    QTest.mouseClick(page.spectrum_button, Qt.MouseButton.LeftButton)
    settle()
    assert not session.dirty, "to look is no edit"
    window.files.save_drive()
    there = view_of_runs(file.load(session.path))
    assert there.cursors == (0.3, 0.9) and there.panels == ("spectrum",)
    assert there.span == pytest.approx((0.2, 1.0)) and there.strips[1].axis == pytest.approx((-3, 7))
    assert there.strips[0].height == 2.0 and len(there.strips) == 3

    other = tmp_path / "with a colleague.pendel"  # of which the settings know nothing
    shutil.copy(session.path, other)
    window.files.open_path(other)
    settle()
    window.files.save_drive()
    assert view_of_runs(file.load(other)) == there, "saved before a run, it keeps how runs were looked at"
    window.start_run()
    finish(window)
    settle()
    assert until(lambda: strips.shows_runs)
    assert [s.signals for s in strips.specs] == [list(s.signals) for s in there.strips]
    assert strips.times == [0.3, 0.9] and page.panels.shown() == ("spectrum",)
    assert strips.plots[0].vb.viewRange()[0] == pytest.approx([0.2, 1.0])
    assert strips.plots[1].vb.viewRange()[1] == pytest.approx([-3, 7])

    page.strips.put(["gear.loss"], None)
    settle()
    window.files.open_path(session.path)
    settle()
    assert strips.specs[-1].signals == ["gear.loss"], "what was chosen here outlasts a new start, unsaved"
    page.usual_strips()
    settle()
    assert [s.signals for s in strips.specs] == [list(s.signals) for s in there.strips]
    page.usual_strips()
    settle()
    assert len(strips.specs) == 4, "once more: those that its parts ask for"

    drive = pendel.open(session.path)
    drive.lay_out([["gear.loss", "i_door"]])
    drive.save(session.path)
    window.files.open_path(session.path)
    settle()
    assert [s.signals for s in strips.specs] == [["gear.loss", "door_motor.current"]], "others since, by a colleague"


def test_a_shorter_run_shows_what_it_has(window, strips, tmp_path):
    """Cursors and times of the file that lie beyond the run are left out, rather than shown where nothing is."""
    strips.set_cursors(0.3, 1.1)
    strips.plots[0].vb.setXRange(0.9, 1.1, padding=0)
    window.files.save_drive()
    other = tmp_path / "other.pendel"
    shutil.copy(window.session.path, other)
    window.files.open_path(other)
    window.until.setText("0.5 s")
    window.until.editingFinished.emit()
    window.start_run(show=True)
    finish(window)
    settle()
    assert until(lambda: strips.shows_runs)
    low, high = strips.plots[0].vb.viewRange()[0]
    assert strips.times == [0.0, 0.5] and low < 0.1 and 0.4 < high < 0.6

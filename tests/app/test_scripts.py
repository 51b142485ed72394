"""Scripts in the window, and programs that have its drive."""

import threading

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog

import pendel
from pendel.app.session.trust import Question
from pendel.app.window.other_programs import OtherProgramsDialog
from pendel.core import trust
from pendel.core.drive import commands, file, script_edits

from .conftest import settle, until
from .test_series_page import page_of
from .test_window import LEFT

CONTROL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def scripts(window):
    page = page_of(window)
    QTest.mouseClick(page.tabs.button(1), LEFT)
    settle()
    view = page.scripts
    assert view.isVisible()
    return view


def typed(view, text):
    view.editor.selectAll()
    view.editor.removeSelectedText()
    view.editor.insert(text)  # typed letter by letter it would be indented twice
    settle()


def ran(view, seconds=60):
    QTest.keyClick(view.editor, Qt.Key.Key_Return, CONTROL)
    assert until(lambda: view.run is None, seconds)
    settle()
    return view.last_end


def test_a_user_writes_a_script_runs_it_and_finds_its_runs_and_one_step(window, scripts):
    QTest.mouseClick(scripts.new_button, LEFT)
    settle()
    window.session.do(commands.set_setting(window.session.drive, "until", "20 ms"))
    before = window.session.undo.index()
    typed(
        scripts,
        "import pendel\nd = pendel.here()\nfor gain in (30, 40):\n    d.set('K_p', f'{gain} A*s/m')\n"
        "    d.keep(d.run(), f'gain {gain}')\n    print('gain', gain)\nd.show('gear.angle_a', 'door_motor.speed')\n"
        "d.hold('gain 30')\ntry:\n    d.hold('gain 50')\nexcept pendel.DriveProblem as problem:\n    print(problem)\n",
    )
    end = ran(scripts)
    refused = "“gain 50” is no kept run of this drive. Kept are: gain 30, gain 40."
    assert end.sentence == "" and scripts.output.toPlainText() == f"gain 30\ngain 40\n{refused}\n"
    assert window.page("Runs").kept.held == {"Run 1"}
    assert [(run.name, run.differs) for run in window.session.runs] == [("Run 1", "gain 30"), ("Run 2", "gain 40")]
    assert window.session.drive.quantities["K_p"].text == "40 A*s/m"
    assert window.session.undo.undoText() == "Script" and window.session.undo.index() == before + 2, (
        "typing and its run"
    )
    window.session.undo.undo()
    assert window.session.drive.quantities["K_p"].text == "35 A*s/m" and len(window.session.runs) == 2
    assert [run.name for run, _ in window.page("Runs").shown_runs()] == ["Run 1", "Run 2"]
    specs = [spec.signals for spec in window.page("Runs").strips.specs]
    assert ["door_motor.speed"] in specs
    path = window.session.path
    window.session.save(path)
    assert file.load(path).scripts["Script"].text == scripts.editor.text()
    again = trust.is_script_allowed(scripts.editor.text())
    assert again, "typed here, so nobody is asked"


def test_a_script_that_fails_marks_its_line_and_what_it_changed_can_be_taken(window, scripts):
    scripts.add("import pendel\nd = pendel.here()\nd.set('K_p', '44 A*s/m')\n1 / 0\n", "Bad")
    settle()
    end = ran(scripts)
    assert (end.line, end.sentence) == (4, "division by zero")
    assert scripts.editor.markersAtLine(3) and not scripts.editor.markersAtLine(2)
    assert scripts.decide.isVisible() and window.session.drive.quantities["K_p"].text == "35 A*s/m"
    cursor = scripts.output.document().find('File "<Bad>"')
    scripts.output.setTextCursor(cursor)
    place = scripts.output.cursorRect(cursor).center()
    scripts.editor.setCursorPosition(0, 0)
    cursor.clearSelection()
    scripts.output.setTextCursor(cursor)
    QTest.mouseClick(scripts.output.viewport(), LEFT, pos=place)
    assert scripts.editor.getCursorPosition()[0] == 3
    scripts.take_left()
    assert window.session.drive.quantities["K_p"].text == "44 A*s/m" and not scripts.decide.isVisible()


def test_a_script_without_end_is_stopped_and_one_whose_drive_is_gone_changes_nothing(window, scripts, questions):
    scripts.add("import pendel\nd = pendel.here()\nd.set('K_p', '50 A*s/m')\nprint('on')\nwhile True: pass\n", "Loop")
    settle()
    QTest.mouseClick(scripts.run_button, LEFT)
    assert scripts.run_button.text() == "Stop" and until(lambda: "on" in scripts.output.toPlainText(), 30)
    QTest.mouseClick(scripts.run_button, LEFT)
    assert until(lambda: scripts.run is None, 20) and scripts.last_end.stopped
    settle()
    assert scripts.run_button.text() == "Run script"
    scripts.add(
        "import pendel, time\nd = pendel.here()\nd.set('K_p', '51 A*s/m')\nprint('on', flush=True)\ntime.sleep(2)\n",
        "Slow",
    )
    settle()
    QTest.mouseClick(scripts.run_button, LEFT)
    assert until(lambda: "on" in scripts.output.toPlainText(), 30)
    first = window.session.drive
    window.session.open(file.from_text(file.to_text(first)), None)
    assert until(lambda: scripts.run is None, 30)
    settle()
    assert window.session.drive.quantities["K_p"].text == "35 A*s/m" and not scripts.decide.isVisible()


def test_a_script_that_came_with_the_drive_is_asked_for_with_its_text(window, scripts, monkeypatch):
    monkeypatch.setattr(trust, "ALLOWED_HERE", set())
    text = "print('strange')\n"
    window.session.do(script_edits.set_script(window.session.drive, "Strange", text))
    settle()
    asked = []

    def answer(dialog):
        asked.append(dialog.code.toPlainText())
        return answers.pop(0)

    monkeypatch.setattr(Question, "exec", answer)
    answers = [QDialog.DialogCode.Rejected]
    scripts.choose("Strange")
    QTest.keyClick(scripts.editor, Qt.Key.Key_Return, CONTROL)
    assert scripts.run is None and asked == [text]
    typed(scripts, text + "print(2)\n")
    answers = [QDialog.DialogCode.Accepted]
    ran(scripts)
    assert asked == [text, text + "print(2)\n"], "a letter typed into it does not allow the rest"
    assert scripts.output.toPlainText() == "strange\n2\n"
    ran(scripts)
    assert len(asked) == 2
    scripts.duplicate()
    ran(scripts)
    assert len(asked) == 2


def test_scripts_are_listed_renamed_moved_and_removed_with_undo(window, scripts):
    session = window.session
    assert scripts.middle.currentIndex() == 0, "an empty page says how to begin"
    for name in ("One", "Two"):
        scripts.add(f"print('{name}')\n", name)
    settle()
    assert [scripts.list.item(k).text() for k in range(2)] == ["One", "Two"]
    scripts.list.item(0).setText("Two")
    settle()
    assert list(session.drive.scripts) == ["One", "Two"], "a name twice is refused"
    scripts.list.item(0).setText("First")
    settle()
    assert list(session.drive.scripts) == ["First", "Two"]
    scripts._moved(None, 0, 0, None, 2)
    assert list(session.drive.scripts) == ["Two", "First"]
    scripts.choose("Two")
    scripts.remove()
    assert list(session.drive.scripts) == ["First"] and scripts.name == "First"
    for _ in range(3):
        session.undo.undo()
    assert list(session.drive.scripts) == ["One", "Two"]
    typed(scripts, "x = 1\ny = x\n")
    scripts.look_for()
    QTest.keyClicks(scripts.search.find, "x")
    scripts.search.replace.setText("zz")
    scripts.search.replace_all()
    assert scripts.editor.text() == "zz = 1\ny = zz\n"
    scripts.editor.selectAll()
    scripts.editor.toggle_comment()
    assert scripts.editor.text() == "# zz = 1\n# y = zz\n"
    scripts.editor.selectAll()
    scripts.editor.toggle_comment()
    assert scripts.editor.text() == "zz = 1\ny = zz\n"
    session.do(commands.set_quantity(session.drive, "K_p", "31 A*s/m"))
    scripts.from_what_was_done()
    assert "d.set('K_p', '31 A*s/m')" in scripts.editor.text()


def test_a_program_elsewhere_works_on_the_drive_of_the_window_and_is_cut_off(window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    window.actions_by_name["other_programs"].trigger()
    dialog = next(w for w in QApplication.topLevelWidgets() if isinstance(w, OtherProgramsDialog) and w.isVisible())
    assert not dialog.on.isChecked() and dialog.socket.text() == "", "off until somebody wants it"
    dialog.on.click()
    settle()
    assert dialog.socket.text() and dialog.address.text().startswith("http://127.0.0.1:") and dialog.token.text()
    dialog._copy(dialog.token)
    assert QGuiApplication.clipboard().text() == window.others.server.token
    seen = []

    def elsewhere():
        d = pendel.here()
        d.set("K_p", "41 A*s/m")
        d.keep(d.run("20 ms"), "from elsewhere")
        seen.append(d.document.quantities["K_p"].text)
        gone.wait(30)
        try:
            d.set("K_p", "42 A*s/m")
        except pendel.core.errors.DriveProblem as problem:
            seen.append(str(problem))
        d.close()

    gone = threading.Event()
    thread = threading.Thread(target=elsewhere)
    thread.start()
    assert until(lambda: seen, 60)
    settle()
    assert window.others_button.text() == "1 program at work" and window.others_button.isVisible()
    assert window.session.undo.undoText() == "Set K_p" and window.session.runs[-1].differs == "from elsewhere"
    window.session.undo.undo()
    token = window.others.server.token
    dialog.cut.click()
    settle()
    gone.set()
    assert until(lambda: not thread.is_alive(), 30)
    assert "does not answer" in seen[1] and window.session.drive.quantities["K_p"].text == "35 A*s/m"
    assert dialog.token.text() not in ("", token)
    dialog.on.click()
    settle()
    assert not window.others.is_open and not (tmp_path / "pendel-window.sock").exists()
    dialog.reject()

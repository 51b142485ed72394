"""Files, windows and autosaves: what was edited is kept, whoever else works on it and however a window ends."""

import json
import os
import signal
import stat
import subprocess
import sys
import threading
import time
import traceback
from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox

import pendel
from pendel.app.session import autosaves
from pendel.app.session import session as sessions
from pendel.app.session.autosaves import autosave_path, slots
from pendel.app.session.jobs import AUTOSAVE
from pendel.app.session.run_shelf import MOST_DELETED, MOST_READ
from pendel.app.window.help_window import HelpWindow
from pendel.core.drive import clips, commands, file
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.lock import FileLock, lock_of, take
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.files.writing import write_atomically
from pendel.core.plant import runtime
from pendel.core.runs.record.evaluating import HERE

from .conftest import finish, lay_out, new_drive, settle, until

YES, NO = QMessageBox.StandardButton.Yes, QMessageBox.StandardButton.No


def change(window, text, name="m_leaf"):
    window.session.do(commands.set_quantity(window.session.drive, name, text))


def answer(words, chosen, seen):
    """Press the button that begins with these words in the next message box."""

    def press():
        box = QApplication.activeModalWidget()
        seen.append(box.text())
        next(b for b in box.buttons() if b.text().replace("&", "").startswith(words[0])).click()
        if words[1:]:
            answer(words[1:], chosen, seen)

    QTimer.singleShot(30, press)


def test_what_others_wrote_is_not_saved_over_unasked(window, questions):
    path = window.session.path
    change(window, "40 kg")
    other = file.load(path)
    commands.set_quantity(other, "m_leaf", "55 kg").apply(other)
    file.save(other, path)
    seen = []
    answer(["Show what differs", "Save beside it"], None, seen)
    assert window.files.save_drive()
    assert "changed by another program" in seen[0] and "m_leaf 55 kg → 40 kg" in seen[1]
    assert file.load(path).quantities["m_leaf"].text == "55 kg"
    assert window.session.path == path.with_name("door 2.pendel") and not window.session.dirty
    assert file.load(window.session.path).quantities["m_leaf"].text == "40 kg"
    change(window, "41 kg")
    assert window.files.save_drive(), "nobody touched it since"
    window.files.open_path(path)
    change(window, "42 kg")
    path.write_text(path.read_text() + "\n")
    answer(["Cancel"], None, seen)
    assert not window.files.save_drive() and window.session.dirty
    answer(["Save over it"], None, seen)
    assert window.files.save_drive() and file.load(path).quantities["m_leaf"].text == "42 kg"


HOLDER = """
import sys, time
from pathlib import Path
from pendel.core.drive.lock import lock_of, take
kept = take(lock_of(Path(sys.argv[1])))
print(kept is not None, flush=True)
time.sleep(60)
"""


def test_a_drive_that_is_open_elsewhere_is_opened_only_on_request(window, questions, example_path, tmp_path):
    path = tmp_path / "shared.pendel"
    path.write_text(example_path.read_text())
    with subprocess.Popen([sys.executable, "-c", HOLDER, str(path)], stdout=subprocess.PIPE, text=True) as holder:
        assert holder.stdout.readline().strip() == "True"
        before = window.session.path
        questions.answers = [NO]
        assert not window.files.open_path(path) and window.session.path == before
        assert f"process {holder.pid}" in questions[-1]
        questions.answers = [YES]
        assert window.files.open_path(path) and window.session.path == path
        holder.send_signal(signal.SIGKILL)
    window.files.open_path(before)
    asked = len(questions)
    assert window.files.open_path(path) and len(questions) == asked, "its owner is gone, however it ended"
    assert not isinstance(take(lock_of(path)), FileLock), "and now it is ours"


def test_kept_runs_go_with_a_drive_that_is_saved_elsewhere(window, tmp_path):
    """Out of where runs of drives without a file are; as copies into another file's place; one that ends later, too. A
    place where they cannot be is told, and they stay."""
    session, said = window.session, []
    session.open(session.drive.copy(), None)
    window.start_run()
    finish(window)
    unsaved = session.runs[0].file
    old = unsaved.with_name("run7_old.h5")
    old.touch()
    os.utime(old, (0, 0))
    session.save(tmp_path / "first.pendel")
    assert until(lambda: session.runs[0].file.parent == tmp_path / "first.runs") and not unsaved.exists()
    (tmp_path / "first.runs" / "sweeps.json").write_text("{}")
    (tmp_path / "second.runs").mkdir()
    (tmp_path / "second.runs" / "sweeps.json.part").symlink_to(tmp_path / "elsewhere")
    window.start_run()  # it ends where it began
    session.save(tmp_path / "second.pendel")
    finish(window)
    assert (
        until(lambda: {run.file.parent for run in session.runs} == {tmp_path / "second.runs"})
        and len(session.runs) == 2
    )
    assert len(list((tmp_path / "first.runs").glob("run*.h5"))) == 1 and (tmp_path / "second.runs/sweeps.json").exists()
    session.shelf.problems_found.connect(said.extend)
    (tmp_path / "third.runs").write_text("in the way")
    session.save(tmp_path / "third.pendel")
    assert until(lambda: said) and "cannot be brought there" in said[0] and str(tmp_path / "second.runs") in said[0]
    window.files.open_path(tmp_path / "first.pendel")
    assert until(lambda: [run.name for run in session.runs] == ["Run 1"])
    window.files.open_path(tmp_path / "second.pendel")
    assert until(lambda: [run.name for run in session.runs] == ["Run 1", "Run 2"])
    new_drive(window)
    assert until(lambda: not old.exists()) and session.shelf.next_number() == 1


def test_autosave_does_not_wait_for_a_pause_and_survives_what_cannot_be_examined(window, monkeypatch):
    monkeypatch.setattr(sessions, "examine", lambda drive: 1 / 0)
    saved = autosave_path(window.session.path)
    window.session.autosave_at_last.setInterval(400)
    begun = time.monotonic()
    while time.monotonic() < begun + 1.2 and not saved.exists():
        change(window, f"{40 + time.monotonic() - begun:.4f} kg")
        settle()
    assert saved.exists() and file.load(saved).quantities["m_leaf"].text != "38 kg"
    assert "cannot be examined" in window.session.examined.faults[0].sentence
    monkeypatch.undo()
    change(window, "39 kg")
    assert not window.session.examined.faults
    window.session.undo.setClean()


def test_a_slow_disk_holds_up_no_edit_and_leaves_no_autosave_of_what_was_saved(window, monkeypatch):
    """The disk says only after a while that an autosave is written; meanwhile the drive is edited, and saved."""
    session, saved, written, disk = window.session, autosave_path(window.session.path), [], threading.Event()

    def slowly(path, text):
        written.append(text)
        assert disk.wait(20)
        write_atomically(path, text)

    monkeypatch.setattr(autosaves, "write_atomically", slowly)
    session.autosave_soon.setInterval(0)
    change(window, "41 kg")
    assert until(lambda: written, 5) and "41 kg" in written[0]
    change(window, "42 kg")
    settle()
    assert session.drive.quantities["m_leaf"].text == "42 kg" and session.jobs.busy(AUTOSAVE) and not saved.exists()
    assert window.files.save_drive() and not session.dirty
    disk.set()
    assert until(lambda: not session.jobs.busy(AUTOSAVE), 10) and not saved.exists()
    change(window, "43 kg")  # the next is written all the same
    assert until(lambda: saved.exists() and not session.jobs.busy(AUTOSAVE), 10)
    assert file.load(saved).quantities["m_leaf"].text == "43 kg"
    session.undo.undo()
    window.files.new_drive()  # nothing is unsaved, so nothing is left to be offered
    assert not saved.exists()


def test_an_autosave_is_offered_when_it_differs_and_put_aside_when_it_cannot_be_read(
    window, questions, example_path, tmp_path
):
    path = tmp_path / "left.pendel"
    path.write_text(example_path.read_text())
    drive = file.load(path)
    saved = autosave_path(path)
    saved.parent.mkdir(parents=True, exist_ok=True)
    file.save(drive, saved)
    asked = len(questions)
    window.files.open_path(path)
    assert len(questions) == asked and not saved.exists(), "it is what the file holds"
    window.files.new_drive()
    saved.write_text("{ rubbish")
    window.files.open_path(path)
    aside = list(saved.parent.glob("*.unreadable"))
    assert len(aside) == 1 and aside[0].read_text() == "{ rubbish" and str(aside[0]) in questions[-1]
    # Two windows died; each left its own, and both are offered, the second after the first was declined.
    window.files.new_drive()
    for number, text in ((0, "61 kg"), (1, "62 kg")):
        commands.set_quantity(drive, "m_leaf", text).apply(drive)
        file.save(drive, autosave_path(path, number))
    questions.answers = [NO, YES]
    window.files.open_path(path)
    assert window.session.drive.quantities["m_leaf"].text == "62 kg" and window.session.dirty
    assert not autosave_path(path, 0).exists() and autosave_path(path, 1).exists()
    # One that another window is using is nobody else's.
    assert not list(slots(path, used=True))
    window.session.undo.setClean()


def test_a_damaged_file_opens_as_far_as_it_goes_and_stays_as_it_is(window, questions, tmp_path):
    text = file.to_text(window.session.drive)
    whole = json.loads(text)
    whole["cards"]["belt"]["values"] = {"k": 7, "d": "3 N*s/m"}
    whole["cards"]["ghost"] = {"name": "Ghost"}
    whole["colour"] = "blue"
    whole["version"] = 2
    newer, torn = tmp_path / "newer.pendel", tmp_path / "torn.pendel"
    newer.write_text(json.dumps(whole))
    torn.write_text(text[: text.index('"wires"') + 300])
    before = newer.read_bytes()
    questions.answers = [YES]
    assert window.files.open_path(newer)
    told = questions[-1]
    assert all(words in told for words in ("newer Pendel", "cards/belt/values/k", "cards/ghost", "colour"))
    drive = window.session.drive
    assert len(drive.cards) == len(whole["cards"]) - 1 and drive.cards["belt"].values == {"d": "3 N*s/m"}
    assert window.session.path is None and window.session.dirty and newer.read_bytes() == before
    window.session.undo.setClean()
    questions.answers = [YES]
    assert window.files.open_path(torn)
    assert len(window.session.drive.cards) == len(whole["cards"]) - 1 and window.session.drive.wires
    window.session.undo.setClean()
    with pytest.raises(FileProblem):
        pendel.open_drive(newer)


@pytest.mark.parametrize(
    ("example", "gone"),
    [
        ("car_door_drive", ("gear",)),
        ("car_door_drive", ("speed_pi", "current_sensor")),
        ("haul_drive", ("haul_machine", "current_regulator")),  # one of them inside an assembly
        ("day_of_trips", ("battery", "driver")),
    ],
)
def test_cards_of_a_kind_that_this_version_does_not_have_are_shown_told_once_and_kept(
    window, tmp_path, monkeypatch, example, gone
):
    raised = []
    monkeypatch.setattr(sys, "excepthook", lambda *problem: raised.append(traceback.format_exception(*problem)[-3:]))
    whole = json.loads((EXAMPLES / f"{example}.pendel").read_text())
    for key in gone:
        whole["cards"][key]["kind"] = "<b>of_a_later_version</b>"
    path = tmp_path / "later.pendel"
    path.write_text(json.dumps(whole))
    assert window.files.open_path(path)
    session, inspector = window.session, window.drive_page.inspector
    told = [f for f in session.findings if "which this version of Pendel does not have" in f.sentence]
    assert {f.card for f in told} == set(gone) and not [f for f in session.findings if "does not exist" in f.sentence]
    for page in window.pages:
        window.show_page(page)
        for key in session.drive.cards:
            session.select([key])
            settle()
    window.show_page("Drive")
    for key in gone:
        session.select([key])
        settle()
        assert key in window.drive_page.sheet.kinds() and inspector.card == key and inspector.name_field is not None
        window.actions_by_name["help"].trigger()
        settle()
        about = window.findChild(HelpWindow)
        assert about.kind.title == "Unknown kind" and "<b>of_a_later_version</b>: this version" in about.kind.sentence
        about.close()
        window.drive_page.sheet.setFocus()
        for action in ("add", "find"):
            window.actions_by_name[action].trigger()
            settle()
            for shown in (QApplication.activeModalWidget(), QApplication.focusWidget()):
                if shown is not None:
                    QTest.keyClick(shown, Qt.Key.Key_Escape)
    assert any(key in window.drive_page.spine.path_order()[0] for key in session.drive.cards)
    for action in ("copy", "paste", "wire_obvious", "tidy"):
        window.actions_by_name[action].trigger()
        settle()
    while session.undo.canUndo():
        session.undo.undo()
    settle()
    assert not raised
    session.save(tmp_path / "again.pendel")
    again = json.loads((tmp_path / "again.pendel").read_text())
    assert again["wires"] == whole["wires"] and all(again["cards"][key] == whole["cards"][key] for key in gone)
    session.do(commands.remove_cards(session.drive, gone))
    settle()
    assert not [f for f in session.findings if "does not have" in f.sentence] and not raised


def test_what_no_drive_can_hold_is_refused_with_a_sentence(window, tmp_path):
    session, said = window.session, []
    session.refused.connect(said.append)
    steps, before = session.undo.count(), file.to_text(session.drive)
    session.do(commands.set_value(session.drive, "belt", "k", "1" * 2001))
    session.do(commands.set_own(session.drive, "belt", replace(sessions_own(), equations=("\ud800",))))
    session.do(commands.set_rows(session.drive, "belt", [["1"]] * 1001))
    assert session.undo.count() == steps and file.to_text(session.drive) == before
    assert ["letters" in said[0], "half a letter" in said[1], "1000" in said[2]] == [True] * 3
    # Also in a drive with assemblies, where what follows from an edit is tried first.
    window.session.select(["belt", "door_leaf"])
    window.drive_page.group()
    grouped = file.to_text(session.drive)
    session.do(commands.set_value(session.drive, "belt", "k", "1" * 2001))
    assert "letters" in said[-1] and len(said) == 4 and file.to_text(session.drive) == grouped
    session.undo.undo()
    # A name so long that its number did not show in its id once hung the window.
    session.do(commands.rename_card(session.drive, "belt", "A belt with a name that is longer than its id can be"))
    for _ in range(3):
        command, new = clips.copy_cards(session.drive, [next(k for k in session.drive.cards if k.startswith("a_belt"))])
        session.do(command)
    assert len({c.name for c in session.drive.cards.values()}) == len(session.drive.cards)
    session.do(commands.move_cards(session.drive, {new[0]: (10**9, 0)}))
    file.save(session.drive, tmp_path / "far.pendel")
    assert file.load(tmp_path / "far.pendel").cards[new[0]].x == 100_000
    with pytest.raises(DriveProblem, match="letters"):
        pendel.Drive().add("resistor", "R", R="2" * 3000)
    session.undo.setClean()


def sessions_own():
    from pendel.core.drive.document import OwnEquations

    return OwnEquations()


def test_saving_keeps_rights_and_links_and_a_file_at_the_path(tmp_path):
    real, link = tmp_path / "real.pendel", tmp_path / "link.pendel"
    write_atomically(real, "one")
    real.chmod(0o640)
    link.symlink_to(real)
    write_atomically(link, "two", keep_previous=True)
    assert link.is_symlink() and real.read_text() == "two" and stat.S_IMODE(real.stat().st_mode) == 0o640
    assert (tmp_path / "real.pendel.bak").read_text() == "one"
    os.mkfifo(tmp_path / "pipe.pendel")
    for path in (tmp_path / "pipe.pendel", tmp_path):
        with pytest.raises(FileProblem, match="not a file|no file"):
            write_atomically(path, "x")
        with pytest.raises(FileProblem, match="no file|device"):
            file.load(path)


def test_a_run_is_its_file_whatever_it_is_called(window):
    for _ in range(2):
        window.start_run()
        finish(window)
    first, second = window.session.runs
    window.session.shelf.relabel(first, "same")
    first.name = second.name = "Run 7"
    os.mkfifo(window.session.shelf.folder / "run99_abc.h5")
    kept = second.file
    window.session.shelf.remove(first)
    assert window.session.runs == [second] and kept.exists()
    path = window.session.path
    window.session.open(file.load(path), path)  # the pipe named like a run holds nothing up
    assert until(lambda: not window.session.shelf.reading)
    assert [r.file for r in window.session.runs] == [kept] and not first.file.exists()
    assert window.session.shelf.next_number() == 100


def test_all_kept_runs_can_be_reached_and_a_deleted_one_comes_back_until_the_drive_is_closed(window):
    """A few are read when a drive is opened, the rest when they are asked for, those behind the newest first."""
    session, path = window.session, window.session.path
    for _ in range(2):
        window.start_run()
        finish(window)
    first, second = session.runs
    for number in range(3, MOST_READ + 5):
        copy = second.file.with_name(f"run{number}_copy.h5")
        copy.write_bytes(second.file.read_bytes())
        os.utime(copy, (1e9 + number, 1e9 + number))
    window.files.open_path(path)
    assert until(lambda: len(session.runs) == MOST_READ) and session.runs[-1].file == second.file
    window.show_page("Runs")
    page = window.page("Runs")
    lay_out()
    assert page.kept.older_button.isVisible() and page.kept.older_button.text() == "Read 4 older runs"
    ticked = list(page.kept.ticked)
    QTest.mouseClick(page.kept.older_button, Qt.MouseButton.LeftButton)
    assert until(lambda: len(session.runs) == MOST_READ + 4) and not page.kept.older_button.isVisible()
    assert page.kept.ticked == ticked and session.runs[-1].file == second.file
    names = [run.file.name for run in session.runs]
    assert names[:3] == [f"run{number}_copy.h5" for number in (3, 4, 5)]
    gone = session.runs[-2]
    session.shelf.remove(gone)
    assert gone not in session.runs and gone.file.exists()
    session.shelf.bring_back()
    assert [run.file.name for run in session.runs] == names
    for run in session.runs[: MOST_DELETED + 1]:
        session.shelf.remove(run)
    assert until(lambda: sum(not (second.file.with_name(name)).exists() for name in names) == 1), "the first of them"
    while session.shelf.deleted:
        session.shelf.bring_back()
    assert [run.file.name for run in session.runs] == names[1:]
    session.shelf.remove(gone)
    window.files.open_path(path)
    assert until(lambda: not gone.file.exists() and len(session.runs) == MOST_READ)
    assert gone.file not in [run.file for run in session.runs]


@pytest.fixture
def loaded(monkeypatch):
    """Compiled code of drives that this process loads."""
    found, build = [], runtime.build_library

    def recorded(text, *more, **flags):
        if "pd_layout" not in text:  # the time loop is Pendel's own
            found.append(text[:200])
        return build(text, *more, **flags)

    monkeypatch.setattr(runtime, "build_library", recorded)
    runtime.load.cache_clear()
    return found


def test_no_compiled_code_of_a_drive_is_loaded_by_the_window(window, loaded, evaluator, tmp_path):
    drive, page = window.session.drive, window.page("Runs")
    for name, value in {"level": "switching", "controller": "as shipped", "until": "0.1 s"}.items():
        window.session.do(commands.set_setting(drive, name, value))
    for _ in range(2):
        window.start_run()
        finish(window)
    for name in ("Loops", "Firmware", "Bench", "Drive", "Runs"):
        window.show_page(name)
        settle()
    for each in (page.spectrum_button, page.rotor_button, page.sector_button, page.torque_button):
        each.click()
        settle()
    run = window.session.last_run
    assert all(len(run.trace(key).y) for key in run.keys)
    window.exports.save_traces(str(tmp_path / "traces.csv"))
    settle()
    window.files.save_drive()
    window.files.open_path(window.session.path)
    assert until(lambda: len(window.session.runs) == 2)
    settle()
    # The process that does it may end at any time.
    os.kill(evaluator.pid, signal.SIGKILL)
    key = "door_motor.torque"
    assert np.array_equal(window.session.last_run.trace(key).y, run.trace(key).y)
    assert not loaded
    run.evaluator = HERE  # the test would find it
    run.on_rows([key], slice(1))
    assert len(loaded) == 1


def test_what_is_being_typed_stays_with_its_drive(window, tmp_path):
    """Another drive with a card of the same name is opened while a value is typed."""
    other = tmp_path / "other.pendel"
    twin = window.session.drive.copy()
    commands.set_value(twin, "door_motor", "L_a", "0.9").apply(twin)
    file.save(twin, other)
    window.session.select(["door_motor"])
    lay_out()
    field = window.drive_page.inspector.fields["L_a"]
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "0.33")
    first = window.session.drive
    window.files.open_path(other)
    lay_out()
    assert first.cards["door_motor"].values["L_a"] == "0.33"
    assert window.session.drive.cards["door_motor"].values["L_a"] == "0.9" and not window.session.dirty
    # A field of a card that is gone commits to nothing, and says so.
    said = []
    window.session.refused.connect(said.append)
    window.session.select(["door_motor"])
    lay_out()
    field = window.drive_page.inspector.fields["L_a"]
    command = commands.remove_cards(window.session.drive, ["door_motor"])
    command.apply(window.session.drive)  # behind the window's back
    field.committed.emit("0.5")
    assert said and said[-1].startswith("There is no card")


@pytest.mark.parametrize("screen", [{}, {"DISPLAY": ":4711"}, {"QT_QPA_PLATFORM": "unheard_of"}])
def test_without_a_screen_the_window_ends_with_a_sentence_and_not_in_an_abort(screen, tmp_path):
    kept = {n: v for n, v in os.environ.items() if n not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    done = subprocess.run(
        [sys.executable, "-m", "pendel.app.main", "--demo"],
        env=kept | screen | {"XDG_STATE_HOME": str(tmp_path), "XDG_RUNTIME_DIR": str(tmp_path)},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert done.returncode == 2
    assert done.stderr.startswith("The window cannot be shown here. Start it on a desktop")
    assert "platform plugin" in done.stderr and "Traceback" not in done.stderr

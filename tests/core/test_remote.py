"""Scripts of a drive and programs elsewhere: one interface, in a process that can do no harm."""

import ast
import base64
import contextlib
import http.client
import importlib
import inspect
import io
import json
import os
import shutil
import socket
import stat
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import h5py
import jsonschema
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import pendel
from pendel.cli import beside
from pendel.cli.apart import terminal
from pendel.core import trust
from pendel.core.drive import assemblies, commands, file, merging, script_edits, view_edits
from pendel.core.drive.document import End, Quantity
from pendel.core.drive.merging import changes_between, changes_from, merged, records_of
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.runs.preparing.simulate import reopen
from pendel.remote import server as doors
from pendel.remote.as_python import lines_of, script_of
from pendel.remote.beginnings import beginnings
from pendel.remote.channels import HttpChannel, unix_channel
from pendel.remote.completing import completed
from pendel.remote.describe import document, page
from pendel.remote.given import given_folder
from pendel.remote.messages import RemoteProblem, answer_to
from pendel.remote.methods import NOT_REMOTE, methods, public
from pendel.remote.owner import FileOwner, answer_of, files_folder
from pendel.remote.script_run import Host, ScriptRun

ROOT = Path(__file__).parents[2]
HEAD = "import pendel\nd = pendel.here()\n"


class Ran:
    """A script that ran to its end, what it printed, and whose drive it was."""

    def __init__(self, owner, path, text, seconds=60.0, name="Try"):
        printed = io.StringIO()
        self.run = ScriptRun(Host(files_folder(path)), name, text, answer_of(owner), printed.write)
        self.end = self.run.wait(seconds)
        assert self.end is not None
        self.printed = printed.getvalue()


@pytest.fixture
def place(tmp_path, example_path):
    return Path(shutil.copy(example_path, tmp_path / "door.pendel"))


@pytest.fixture
def owner(place):
    return FileOwner(file.load(place), place)


# a script ------------------------------------------------------------------------------------------------------------


def test_a_script_changes_runs_keeps_and_writes_and_is_one_step(owner, place):
    text = HEAD + (
        "for gain in (30, 40):\n"
        "    d.set('K_p', f'{gain} A*s/m')\n"
        "    run = d.run('20 ms')\n"
        "    d.keep(run, f'K_p = {gain}')\n"
        "    print(gain, run['door_motor.current'].y.max())\n"
        "d.add('inertia', 'Wheel', J='2e-4 kg*m^2')\n"
        "open('rows.csv', 'w').write('1,2')\n"
    )
    ran = Ran(owner, place, text)
    assert (ran.end.code, ran.end.sentence) == (0, "")
    assert [step.title for step in owner.steps] == ["Try"]
    assert owner.drive.quantities["K_p"].text == "40 A*s/m" and "wheel" in owner.drive.cards
    assert (place.parent / "door.files" / "rows.csv").read_text() == "1,2"
    from pendel.core.runs.preparing.simulate import reopen

    kept = [reopen(path) for path in sorted((place.parent / "door.runs").glob("*.h5"))]
    assert [run.differs for run in kept] == ["K_p = 30", "K_p = 40"]
    here = pendel.open(place)
    here.set("K_p", "40 A*s/m")
    same = here.run("20 ms")["door_motor.current"].y.max()
    assert float(ran.printed.split()[-1]) == same, "as in a process of one's own, to the bit"
    owner.steps[0].revert(owner.drive)
    assert file.to_text(owner.drive) == file.to_text(file.load(place))


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("import os\nwhile True: os.fork()", "A script is confined"),
        ("import subprocess\nsubprocess.run(['true'])", "A script is confined"),
        ("import socket\nsocket.socket()", "A script is confined"),
        ("import os\nopen(os.path.expanduser('~root') + '/.profile')", "A script is confined"),
        ("open('../door.pendel', 'w')", "A script is confined"),
        ("import os, signal\nos.kill(os.getppid(), signal.SIGKILL)", "PermissionError"),
        ("import os\nos.symlink('/etc/passwd', 'x'); print(open('x').read(5))\nopen('/etc/shadow')", "A script is"),
        ("def f(:\n", "SyntaxError"),
        ("if True:\n\tx = 1\n        y = 2\n", "TabError"),
        ("raise SystemExit('enough')", "enough"),
        ("d = 1 / 0", "ZeroDivisionError"),
        ("import threading, time\nthreading.Thread(target=time.sleep, args=(99,)).start()", "1 threads were still"),
    ],
)
def test_what_a_script_does_wrong_ends_the_script_alone_with_a_sentence(owner, place, text, says):
    before, begun = place.read_bytes(), time.monotonic()
    ran = Ran(owner, place, text)
    assert says in ran.printed and "Traceback" not in ran.end.sentence
    assert place.read_bytes() == before and owner.steps == [] and time.monotonic() - begun < 30
    assert "symlink" in text or not (place.parent / "door.files").exists(), "no empty folder is left"


def test_a_crash_an_exit_and_a_wrong_answer_end_the_script_alone(owner, place):
    assert "signal 11" in Ran(owner, place, "import ctypes\nctypes.string_at(0)").end.sentence
    assert Ran(owner, place, "import os\nos._exit(3)").end.code == 3
    assert Ran(owner, place, "exit()").end.code == 0
    text = "import gc, socket\nfor s in gc.get_objects():\n    if isinstance(s, socket.socket) and s.fileno() >= 0: "
    text += "s.sendall(b'\\xff\\n[]\\n')\n"
    assert Ran(owner, place, text).end is not None and owner.steps == [], "whatever it says on our wires"


def test_what_a_failed_or_stopped_script_had_changed_is_told_and_not_taken(owner, place):
    ran = Ran(owner, place, HEAD + "d.set('K_p', '41 A*s/m')\n\nraise ValueError('no')\n")
    assert (ran.end.line, ran.end.sentence) == (5, "no")
    assert [change.key for change in ran.end.left] == ["K_p"] and owner.drive.quantities["K_p"].text == "35 A*s/m"
    printed = io.StringIO()
    text = HEAD + "d.set('K_p', '42 A*s/m')\nprint('on')\nwhile True:\n    pass\n"
    run = ScriptRun(Host(files_folder(place)), "Try", text, answer_of(owner), printed.write)
    deadline = time.monotonic() + 30
    while "on" not in printed.getvalue() and time.monotonic() < deadline:
        time.sleep(0.01)
    run.stop()
    end = run.wait(20)
    assert end.stopped and end.sentence == "Stopped." and [c.after["value"] for c in end.left] == ["42 A*s/m"]
    run = ScriptRun(Host(files_folder(place)), "Try", "import signal\nsignal.signal(2, 1)\nwhile 1: pass", len, len)
    time.sleep(0.5)
    run.stop()
    assert run.wait(20) is not None, "one that hears nothing is ended"


def test_a_script_that_prints_without_end_holds_nothing_up(owner, place):
    size = 0

    def count(words):
        nonlocal size
        size += len(words)

    run = ScriptRun(Host(files_folder(place)), "Try", "while True: print('x' * 100000)", answer_of(owner), count)
    deadline = time.monotonic() + 30
    while size < 50_000_000 and time.monotonic() < deadline:
        time.sleep(0.01)
    run.stop()
    assert run.wait(20).stopped and size >= 50_000_000


def test_a_script_uses_the_folder_that_its_user_gives_and_no_other(place, tmp_path, monkeypatch, capfd):
    home = tmp_path / "home"
    given, other = home / "results", home / "letters"
    for folder in (given, other, home / ".config"):
        folder.mkdir(parents=True)
        (folder / "old.csv").write_text("3, 4")
    text = f"print(open('{given}/old.csv').read())\nopen('{given}/new.csv', 'w').write('5')\n"
    drive = file.load(place)
    script_edits.set_script(drive, "Results", text + f"open('{other}/old.csv')").apply(drive)
    assert beside.run_script(drive, name="Results", allow=True, folder=str(given), path=place) == 1
    told = capfd.readouterr()
    assert "3, 4" in told.out and "A script is confined" in told.out and (given / "new.csv").read_text() == "5"
    assert beside.run_script(drive, name="Results", path=place) == 1
    assert "3, 4" not in capfd.readouterr().out
    monkeypatch.setenv("HOME", str(home))
    (home / "link").symlink_to(home / ".config")
    for wrong, says in (
        ("/nowhere", "no such folder"),
        ("results", "no such folder"),
        ("/", "files of Pendel|another user's"),
        ("~", "files of Pendel"),
        ("~/.config", "hidden|files of Pendel"),
        ("~/link", "hidden|files of Pendel"),
        (os.environ.get("XDG_STATE_HOME", "~/.local/state"), "files of Pendel|hidden|no such"),
    ):
        with pytest.raises(DriveProblem, match=says):
            given_folder(wrong)
    assert given_folder("~/results") == given and given_folder(" ") is None


def test_a_folder_of_files_that_leads_elsewhere_is_refused(tmp_path, place):
    (tmp_path / "home").mkdir()
    (tmp_path / "door.files").symlink_to(tmp_path / "home")
    with pytest.raises(Exception, match="leads elsewhere"):
        files_folder(place)


def test_beginnings_and_what_was_done_run_as_they_stand(owner, place, door):
    from pendel.core.runs.preparing.simulate import signal_infos

    door.settings["until"] = "20 ms"
    signals = {key: info.unit for key, info in signal_infos(door).items()}
    hostile = 'x"); import os; os._exit(9) #'
    first = door.copy()
    first.quantities = {"K": Quantity(hostile), **door.quantities}
    for text in beginnings(first, signals).values():
        compile(text, "script", "exec")
        assert "os._exit" not in text.replace(repr(hostile), "")
    owner.drive.settings["until"] = "20 ms"
    for name, text in beginnings(owner.drive, signals).items():
        ran = Ran(owner, place, text)
        assert ran.end.code == 0, (name, ran.printed)
    done = [
        commands.set_quantity(door, "K_p", "40 A*s/m"),
        commands.set_value(door, "door_leaf", "m", "70 kg"),
        commands.set_choice(door, "bridge", "level", "switching"),
        commands.add_card(door, "inertia", "Wheel", values={"J": "1 kg*m^2", 'a="b"': "1"}),
        commands.remove_cards(door, ["rubbing"]),
        commands.rename_card(door, "rail", "Long\nrail"),
        commands.set_profile(door, "target_speed", [("0", "0"), ("1 s", "0.1 m/s")])
        if "target_speed" in door.cards
        else commands.set_setting(door, "until", "21 ms"),
    ]
    for command in done:
        command.apply(door)
    text = script_of(done[:5] + done[6:], run=False)
    ran = Ran(FileOwner(file.load(place), place), place, text)
    assert ran.end.code == 0, ran.printed
    wanted = door.copy()
    done[5].revert(wanted)
    mine = FileOwner(file.load(place), place)
    assert Ran(mine, place, text).end.code == 0
    assert mine.drive.quantities == wanted.quantities and set(mine.drive.cards) == set(wanted.cards)
    assert mine.drive.cards["door_leaf"].values == wanted.cards["door_leaf"].values


def test_words_come_for_the_drive_and_for_texts():
    text = "import pendel\nd = pendel.here()\nrun = d.run()\nrun.me"
    assert completed(text, 4, 6, [])["words"] == ["measure"]
    assert completed(text[:-6] + "d.set('door_m", 4, 13, ["door_motor", "rail"]) == {
        "words": ["door_motor"],
        "begun": 6,
    }
    answer = completed(text[:-6] + "d.propose_gains(", 4, 16, [])
    assert "regulator" in answer["call"]


# scripts of a file, and who allows them -------------------------------------------------------------------------------


def test_scripts_are_part_of_the_drive_and_hostile_ones_are_refused(door, tmp_path, capfd, monkeypatch):
    monkeypatch.setattr(trust, "ALLOWED_HERE", set())
    for name in ("First", "Second"):
        script_edits.set_script(door, name, "print('ran')\r\nprint(2)\n").apply(door)
    move = script_edits.move_script(door, "Second", 0)
    move.apply(door)
    again = file.from_text(file.to_text(door))
    assert again.scripts == door.scripts and list(again.scripts) == ["Second", "First"]
    assert "\r" not in again.scripts["First"].text
    move.revert(door)
    script_edits.rename_script(door, "First", "Third").apply(door)
    assert list(door.scripts) == ["Third", "Second"]
    for bad in ("", "  ", "Second"):
        with pytest.raises(DriveProblem):
            script_edits.rename_script(door, "Third", bad)
    path = tmp_path / "door.pendel"
    file.save(door, path)
    assert terminal(["script", str(path)]) == 0 and capfd.readouterr().out.split() == ["Third", "Second"]
    assert terminal(["script", str(path), "Third"]) == 2
    assert "never allowed here" in capfd.readouterr().err
    assert terminal(["script", str(path), "Fourth"]) == 2 and "Third, Second" in capfd.readouterr().err
    assert terminal(["script", str(path), "Third", "--allow"]) == 0 and capfd.readouterr().out == "ran\n2\n"
    assert terminal(["script", str(path), "Third"]) == 0, "remembered by its hash"
    script_edits.set_script(door, "Third", "print('ran!')\nprint(2)\n").apply(door)
    file.save(door, path)
    assert terminal(["script", str(path), "Third"]) == 2, "another letter is another script"


def test_the_terminal_runs_a_script_and_keeps_what_it_was_asked_to(door, tmp_path, capfd):
    text = HEAD + "d.set('K_p', '33 A*s/m')\nprint('\\x1b[2Jdone')\n"
    script_edits.set_script(door, "Set", text).apply(door)
    path, out = tmp_path / "door.pendel", tmp_path / "other.pendel"
    file.save(door, path)
    before = path.read_bytes()
    assert terminal(["script", str(path), "Set", "--allow"]) == 0
    told = capfd.readouterr()
    assert "\x1b" not in told.out and "\\x1b[2Jdone" in told.out and "as before" in told.err
    assert path.read_bytes() == before
    assert terminal(["script", str(path), "Set", "--out", str(out)]) == 0
    assert file.load(out).quantities["K_p"].text == "33 A*s/m"
    script_edits.set_script(door, "Set", "1/0\n").apply(door)
    file.save(door, path)
    assert (
        terminal(["script", str(path), "Set", "--allow"]) == 1 and "line 1: division by zero" in capfd.readouterr().err
    )


# changes from elsewhere -----------------------------------------------------------------------------------------------


def test_changes_meet_those_of_somebody_else_record_by_record(door):
    mine, theirs = door.copy(), door.copy()
    commands.set_quantity(mine, "K_p", "40 A*s/m").apply(mine)
    commands.remove_cards(mine, ["rubbing"]).apply(mine)
    commands.add_card(mine, "inertia", "Wheel").apply(mine)
    commands.add_wire(mine, End("door_motor", "shaft"), End("wheel", "a")).apply(mine)
    told = json.loads(json.dumps([c.as_list() for c in changes_between(records_of(door), records_of(mine))]))
    result = merged(theirs, changes_from(told), "Script")
    result.command.apply(theirs)
    assert not result.conflicts and records_of(theirs) == records_of(mine)
    result.command.revert(theirs)
    assert file.to_text(theirs) == file.to_text(door)
    commands.set_quantity(theirs, "K_p", "50 A*s/m").apply(theirs)
    commands.remove_cards(theirs, ["door_motor"]).apply(theirs)
    result = merged(theirs, changes_from(told), "Script")
    result.command.apply(theirs)
    assert len(result.conflicts) == 2 and "K_p was changed meanwhile" in result.conflicts[0]
    assert "ends at a card that is not there" in result.conflicts[1]
    assert theirs.quantities["K_p"].text == "50 A*s/m" and "wheel" in theirs.cards and "rubbing" not in theirs.cards
    file.from_text(file.to_text(theirs))


def test_how_a_wire_is_drawn_meets_changes_of_somebody_else(door):
    key = "encoder.speed -> travel_speed.x"
    mine, theirs = door.copy(), door.copy()
    command = view_edits.set_named(mine, [key], True)
    command.apply(mine)
    assert lines_of(command) == ["# Draw wire as a named link"], "no call says so"
    told = json.loads(json.dumps([c.as_list() for c in changes_between(records_of(door), records_of(mine))]))
    commands.set_quantity(theirs, "K_p", "50 A*s/m").apply(theirs)
    result = merged(theirs, changes_from(told), "Script")
    result.command.apply(theirs)
    assert not result.conflicts and theirs.wires[key].named and theirs.quantities["K_p"].text == "50 A*s/m"
    assert list(theirs.wires) == list(door.wires), "the order of wires is as it was"
    commands.remove_cards(theirs, ["encoder"]).apply(theirs)
    again = merged(theirs, changes_from(told), "Script")
    again.command.apply(theirs)
    assert again.conflicts and key not in theirs.wires
    told[0][3] = ["encoder.speed", "travel_speed.x", "curved"]
    with pytest.raises(PendelError):
        merged(door.copy(), changes_from(told), "Script").command.apply(door.copy())


@pytest.mark.parametrize(
    ("edits", "quick"),
    [
        ({"K_p": "40 A*s/m"}, True),
        ({"K_p": "40 A*s/m", "until": "0.3 s", "door_leaf.m": "50 kg", "bridge.level": "switching"}, True),
        ({"K_p": "35 A*s/m"}, False),  # as it is
        ({"rename": "Leaf"}, False),
        ({"rename": "Door  LEAF"}, False),  # by the same id
        ({"inside": "controller"}, False),
    ],
)
def test_a_few_records_that_are_written_over_are_taken_as_the_whole_drive_would_be(door, edits, quick, monkeypatch):
    mine = pendel.Drive(document=door.copy())
    for name, text in edits.items():
        if name == "rename":
            mine.rename("door_leaf", text)
        elif name == "inside":
            assemblies.group(mine.document, ["speed_pi", "travel_speed"], "Outer").apply(mine.document)
        else:
            mine.set(name, text)
    listed = changes_between(records_of(door), records_of(mine.document))
    told = changes_from(json.loads(json.dumps([c.as_list() for c in listed])))
    assert (merging._alone(door, told, "Script") is not None and bool(told)) == quick
    fast, slow = door.copy(), door.copy()
    later = [replace(each, before={"value": "1"}) for each in told]
    assert not told or merged(door.copy(), later, "Script").conflicts
    one = merged(fast, told, "Script")
    one.command.apply(fast)
    monkeypatch.setattr(merging, "_alone", lambda *_: None)
    other = merged(slow, told, "Script")
    other.command.apply(slow)
    assert file.to_text(fast) == file.to_text(slow) and records_of(fast) == records_of(mine.document)
    assert {(c.table, c.key) for c in one.command.changes} == {(c.table, c.key) for c in other.command.changes}
    one.command.revert(fast)
    assert file.to_text(fast) == file.to_text(door)


@pytest.mark.parametrize(
    "told",
    [
        None,
        {},
        [1],
        [["cards", "a", None]],
        [["listeners", "a", None, {}]],
        [["cards", "Not an id", None, {"kind": "inertia", "name": "x", "at": [0, 0]}]],
        [["cards", "a", None, {"kind": "inertia"}]],
        [["quantities", "q", None, {"value": 3}]],
        [["scripts", "s", None, "no list"]],
        [["taps", "x", None, 3]],
        [["settings", "until", "1.2 s", "\ud800"]],
        [["cards", "a", None, {"kind": "inertia", "name": "x" * 10**6, "at": [0, 0]}]],
    ],
)
def test_what_is_no_change_of_a_drive_is_refused(door, told):
    text = file.to_text(door)
    with pytest.raises(DriveProblem):
        merged(door, changes_from(told), "Script").command.apply(door)
    assert file.to_text(door) == text


# JSON-RPC -------------------------------------------------------------------------------------------------------------


def test_the_examples_of_the_specification_are_answered_as_it_says():
    """JSON-RPC 2.0 Specification (2013), section 7, https://www.jsonrpc.org/specification#examples. Messages of errors
    are ours; their codes and shapes are the specification's."""

    def do(call):
        if call.method == "subtract":
            a, b = call.params if isinstance(call.params, list) else (call.params["minuend"], call.params["subtrahend"])
            return a - b
        if call.method in ("update", "notify_hello", "notify_sum"):
            return None
        if call.method == "sum":
            return sum(call.params)
        if call.method == "get_data":
            return ["hello", 5]
        from pendel.remote.messages import NO_METHOD, WrongCall

        raise WrongCall("Method not found", NO_METHOD)

    def plain(answer):
        if isinstance(answer, list):
            return [plain(each) for each in answer]
        if isinstance(answer, dict) and "error" in answer:
            return {**answer, "error": answer["error"]["code"]}
        return answer

    def said(text):
        answer = answer_to(text, do)
        return plain(json.loads(answer)) if answer else None

    v = '"jsonrpc": "2.0"'

    def good(result, key):
        return {"jsonrpc": "2.0", "result": result, "id": key}

    def bad(code, key=None):
        return {"jsonrpc": "2.0", "error": code, "id": key}

    assert said(f'{{{v}, "method": "subtract", "params": [42, 23], "id": 1}}') == good(19, 1)
    assert said(f'{{{v}, "method": "subtract", "params": [23, 42], "id": 2}}') == good(-19, 2)
    named = '{"subtrahend": 23, "minuend": 42}'
    assert said(f'{{{v}, "method": "subtract", "params": {named}, "id": 3}}') == good(19, 3)
    assert said(f'{{{v}, "method": "update", "params": [1,2,3,4,5]}}') is None
    assert said(f'{{{v}, "method": "foobar"}}') is None
    assert said(f'{{{v}, "method": "foobar", "id": "1"}}') == bad(-32601, "1")
    assert said(f'{{{v}, "method": "foobar, "params": "bar", "baz]') == bad(-32700)
    assert said(f'{{{v}, "method": 1, "params": "bar"}}') == bad(-32600)
    assert said(f'[{{{v}, "method": "sum", "params": [1,2,4], "id": "1"}}, {{{v}, "method"]') == bad(-32700)
    assert said("[]") == bad(-32600)
    assert said("[1]") == [bad(-32600)]
    assert said("[1,2,3]") == [bad(-32600)] * 3
    batch = f"""[{{{v}, "method": "sum", "params": [1,2,4], "id": "1"}},
        {{{v}, "method": "notify_hello", "params": [7]}},
        {{{v}, "method": "subtract", "params": [42,23], "id": "2"}},
        {{"foo": "boo"}},
        {{{v}, "method": "foo.get", "params": {{"name": "myself"}}, "id": "5"}},
        {{{v}, "method": "get_data", "id": "9"}}]"""
    wanted = [good(7, "1"), good(19, "2"), bad(-32600), bad(-32601, "5"), good(["hello", 5], "9")]
    assert said(batch) == wanted
    assert said(f'[{{{v}, "method": "notify_sum", "params": [1,2,4]}}, {{{v}, "method": "notify_hello"}}]') is None


def test_every_public_method_can_be_called_from_elsewhere_or_is_named_with_the_reason():
    from pendel.remote.methods import OBJECTS

    for on, owner_type in OBJECTS:
        for name, each in public(owner_type):
            full = f"{on}.{name}"
            if inspect.isfunction(each) or isinstance(each, property):
                assert (full in methods()) != (full in NOT_REMOTE), full
    assert all(method.sentence for method in methods().values())
    assert set(NOT_REMOTE) - {f"{on}.{n}" for on, o in OBJECTS for n, _ in public(o)} <= {
        "drive.document",
        "run.kept",
        "card.key",
    }


def test_the_description_is_one_and_stands_in_the_docs():
    """OpenRPC 1.3 (https://spec.open-rpc.org): names are unique, required parameters come first, schemas are such."""
    whole = document()
    names = [method["name"] for method in whole["methods"]]
    assert len(set(names)) == len(names) and whole["openrpc"].startswith("1.3")
    for method in whole["methods"]:
        needed = [bool(p.get("required")) for p in method["params"]]
        assert needed == sorted(needed, reverse=True), method["name"]
        assert len({p["name"] for p in method["params"]}) == len(needed)
        for parameter in method["params"]:
            jsonschema.Draft7Validator.check_schema(parameter["schema"])
    assert page() in (ROOT / "docs" / "remote.md").read_text("utf-8"), "run docs/make_remote_page.py"


# doors ----------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def served(tmp_path_factory):
    from tests.conftest import EXAMPLE

    folder = tmp_path_factory.mktemp("served")
    path = Path(shutil.copy(EXAMPLE, folder / "door.pendel"))
    owner_ = FileOwner(file.load(path), path)
    server = doors.Server(files_folder(path), answer_of(owner_), path=folder / "door.sock", port=0)
    server.owner = owner_
    yield server
    server.close()


@pytest.fixture
def clean(served):
    """The served drive as its file has it."""
    yield served
    with contextlib.suppress(IndexError):
        while True:
            served.owner.steps.pop().revert(served.owner.drive)
    served.owner._generation += 1


def channels(served):
    return unix_channel(served.path), HttpChannel("127.0.0.1", served.port, served.token)


def test_a_program_elsewhere_has_the_drive_with_the_interface_of_one_of_its_own(clean):
    for address, token in ((str(clean.path), ""), (clean.address, clean.token)):
        d = pendel.connect(address, token)
        assert d.card("door_motor").L_a == 0.61e-3 and len(d.cards) == 15
        d.set("K_p", "41 A*s/m")
        assert clean.owner.drive.quantities["K_p"].text == "41 A*s/m" and clean.owner.steps[-1].title == "Set K_p"
        commands.set_quantity(clean.owner.drive, "K_p", "37 A*s/m").apply(clean.owner.drive)  # somebody else
        clean.owner._generation += 1
        time.sleep(0.01)
        assert d.document.quantities["K_p"].text == "37 A*s/m"
        with d.together("Two at once"):
            d.set("K_p", "35 A*s/m")
            d.define("q", "3 V")
        assert clean.owner.steps[-1].title == "Two at once"
        assert d.undo() and "q" not in clean.owner.drive.quantities, "one step here and there"
        run = d.run("10 ms")
        assert run["door_motor.current"].y.size > 10
        d.close()


def test_calls_over_both_doors_give_what_python_gives(clean):
    own = pendel.open_example("car_door_drive")
    own_run = own.run("20 ms")
    for channel in channels(clean):
        call = channel.call
        assert call("card.values", card="door_motor")["L_a"] == 0.61e-3
        run = call("drive.run", until="20 ms")
        trace = call("run.trace", run=run["run"], signal="door_motor.current")
        assert trace["y"] == own_run["door_motor.current"].y.tolist() and trace["unit"] == "A"
        measured = call("run.measure", run=run["run"], name="rms", key="door_motor.current", start=0.0, end=0.02)
        assert measured == own_run.measure("rms", "door_motor.current", 0, 0.02)
        loops = call("drive.judge")
        assert [loop["crossover"] for loop in loops] == [loop.crossover for loop in own.judge()]
        assert call("drive.add", kind="inertia", name="Wheel", J="1 kg*m^2") == "wheel"
        call("drive.remove", cards=["wheel"])
        call("drive.choose", card="bridge", level="switching")
        assert clean.owner.drive.cards["bridge"].choices["level"] == "switching"
        assert call("drive.undo") == "Set level of Bridge"
        rows = call("drive.series", what={"K_p": ["30 A*s/m", "40 A*s/m"]}, figures=["max(door_motor.current)"])
        assert [row["outcome"] for row in rows] == ["done", "done"]
        saved = call("run.save", run=run["run"], path="some.csv", signals=["door_motor.current"])
        assert saved is None and (Path(clean.path).parent / "door.files" / "some.csv").is_file()
        filed = call("run.trace", run=run["run"], signal="door_motor.current", form="file", path="one.h5")
        with h5py.File(Path(clean.path).parent / "door.files" / "one.h5") as file:
            arrays = []
            file.visititems(lambda name, item: arrays.append(item[()]) if isinstance(item, h5py.Dataset) else None)
        assert any(np.array_equal(each, trace["y"]) for each in arrays) and "y" not in filed
        assert Path(filed["path"]).name == "one.h5" and filed["unit"] == "A"
        for wrong in ({"form": "file"}, {"form": "wax"}, {"form": "file", "path": "/etc/one.h5"}):
            with pytest.raises(DriveProblem):
                call("run.trace", run=run["run"], signal="door_motor.current", **wrong)
        channel.close()


SWEEP = {"what": {"K_p": ["30 A*s/m", "40 A*s/m"]}, "figures": ["max(door_motor.current)"]}
WAY = {"source": "speed_pi.out", "target": "door_motor.current"}
LARGER = {
    "drive.series": SWEEP,
    "drive.search": {**SWEEP, "smallest": "max(door_motor.current)", "trials": 8},
    "drive.linear": WAY,
    "drive.transfer": WAY,
    "drive.sweep": {**WAY, "frequencies": [10.0]},
    "drive.tolerate": {"regulator": "speed_pi", "spreads": {"gear.ratio": 0.1}, "samples": 5},
    "drive.firmware": {},
    "drive.propose_formats": {},
    "drive.write_c": {"folder": "c"},
    "drive.calm": {"by": "low-pass", "behind": "speed_pi.out"},
}


def test_every_method_answers_with_json_or_a_sentence(clean):
    """Each with what it needs, else with nothing: none fails inside, whatever it is given."""
    channel = unix_channel(clean.path)
    run = channel.call("drive.run", until="5 ms")["run"]
    given = {"run": run, "card": "door_motor", "signal": "door_motor.current", "key": "door_motor.current"}
    given |= {"name": "rms", "start": 0.0, "end": 5e-3, "times": [0.0, 1e-3], "path": "x.csv"}
    given |= {"source": "gear.speed", "target": "door_motor.current", "regulator": "speed_pi", "text": "gear"}
    whole = document()
    results = {m["name"]: {**m["result"]["schema"], "components": whole["components"]} for m in whole["methods"]}
    answered = set()
    for name, method in methods().items():
        if name in ("drive.run", "drive.series", "drive.search", "drive.load", "drive.firmware", "drive.export_unit"):
            continue
        wanted = {p.name for p in method.parameters if p.required} | ({method.on} - {"drive"})
        for params in ({k: v for k, v in given.items() if k in wanted}, {"nonsense": [1, {}]}, [None] * 9):
            told = {"jsonrpc": "2.0", "id": 1, "method": name, "params": params}
            channel._wire.sendall(json.dumps(told).encode() + b"\n")
            answer = json.loads(channel._lines.line())
            assert answer.get("error", {}).get("code") != -32603, (name, params, answer)
            assert "has no form in JSON" not in json.dumps(answer), (name, params, answer)
            if "result" in answer:
                jsonschema.validate(answer["result"], results[name])
                answered.add(name)
    for name, params in LARGER.items():
        jsonschema.validate(channel.call(name, **params), results[name])
    with pytest.raises(RemoteProblem, match="no program is started .* by the command pendel"):
        channel.call("drive.firmware", check=True)
    channel.close()
    assert answered >= {"drive.judge", "drive.modes", "drive.loops", "run.balance", "run.flows", "run.spectrum"}
    assert answered >= {"drive.propose_gains", "drive.tune", "drive.find", "card.kind", "drive.cards", "run.losses"}


def test_a_client_made_of_the_description_by_a_general_tool_works(clean, tmp_path, monkeypatch):
    """openrpcclientgenerator and openrpc (PyPI) know of Pendel what the document says, and check what comes back."""
    import asyncio

    from openrpc import OpenRPC
    from openrpcclientgenerator import Language, generate

    made = generate(OpenRPC.model_validate(document()), Language.PYTHON, clean.address, tmp_path)
    monkeypatch.syspath_prepend(tmp_path / "python" / made)
    client_module = importlib.import_module(f"{made.replace('-', '_')}.client")

    async def work():
        client = client_module.ADriveInPendelClient({"Authorization": f"Bearer {clean.token}"}, clean.address)
        assert (await client.card.values("gear"))["ratio"] == pendel.open(clean.owner.path).card("gear").ratio
        await client.drive.set("K_p", "30 A*s/m")
        await client.drive.choose("bridge", options={"level": "switching"})
        run = await client.drive.run("20 ms")
        loops = await client.drive.judge()
        return run, await client.run.averages(run["run"], "door_motor.current", 0.0, 0.02), loops

    run, averages, loops = asyncio.run(work())
    own = pendel.open(clean.owner.path)
    own.set("K_p", "30 A*s/m")
    own.choose("bridge", level="switching")
    same = own.run("20 ms")
    assert clean.owner.drive.cards["bridge"].choices["level"] == "switching" and run["level"] == same.kept.level
    assert averages.mean == same.averages("door_motor.current", 0.0, 0.02).mean
    assert [loop.phase_margin for loop in loops] == [loop.phase_margin for loop in own.judge()]


def test_long_calls_have_tickets_and_what_happens_is_told(clean):
    channel, other = unix_channel(clean.path), unix_channel(clean.path)
    cursor = channel.call("events.since")["cursor"]
    ticket = channel.call("ticket.begin", method="drive.run", params={"until": "10000 s"})["ticket"]
    assert other.call("card.values", card="gear"), "nobody waits for it"
    assert not channel.call("ticket.look", ticket=ticket, wait=0.1)["done"]
    channel.call("ticket.stop", ticket=ticket)
    told = channel.call("ticket.look", ticket=ticket, wait=30)
    assert told["done"]
    quick = channel.call("ticket.begin", method="drive.judge")["ticket"]
    assert len(channel.call("ticket.look", ticket=quick, wait=30)["result"]) == 2
    other.call("drive.set", name="K_p", value="36 A*s/m")
    events = channel.call("events.since", cursor=cursor, wait=10)["events"]
    assert {"ticket done", "drive changed"} <= {event["event"] for event in events}
    for bad in ({"ticket": "none"}, {"nothing": 1}, {}):
        with pytest.raises(RemoteProblem):
            channel.call("ticket.look", **bad)
    channel.close()
    other.close()


def test_arrow_carries_a_trace_as_numbers_do(clean):
    pyarrow = pytest.importorskip("pyarrow")
    channel = unix_channel(clean.path)
    run = channel.call("drive.run", until="5 ms")["run"]
    plain = channel.call("run.trace", run=run, signal="door_motor.current")
    told = channel.call("run.trace", run=run, signal="door_motor.current", form="arrow")
    table = pyarrow.ipc.open_stream(base64.b64decode(told["arrow"])).read_all()
    assert table["y"].to_pylist() == plain["y"] and table["t"].to_pylist() == plain["t"]
    asked = {"run": run, "signal": "door_motor.current", "form": "arrow"}
    lies = channel.call("run.trace", **asked, path="current.arrow")["path"]
    with pyarrow.memory_map(lies) as mapped:
        assert pyarrow.ipc.open_stream(mapped).read_all() == table
    for elsewhere in ("/etc/current.arrow", "../current.arrow", "no/such/folder.arrow"):
        with pytest.raises(RemoteProblem, match="current.arrow|folder.arrow"):
            channel.call("run.trace", **asked, path=elsewhere)
    channel.close()


def raw(served, text, **head):
    with contextlib.closing(http.client.HTTPConnection("127.0.0.1", served.port, timeout=20)) as connection:
        connection.request("POST", "/", text, {"Authorization": f"Bearer {served.token}", **head})
        answer = connection.getresponse()
        return answer.status, answer.read()


def test_who_may_not_come_in_stays_out(served):
    call = json.dumps({"jsonrpc": "2.0", "id": 1, "method": "card.name", "params": {"card": "gear"}})
    assert raw(served, call)[0] == 200
    for token in ("", "Bearer", "Bearer x", f"Basic {served.token}", f"Bearer {served.token}x", "Bearer \xff"):
        assert raw(served, call, Authorization=token)[0] == 401
    assert raw(served, call, Origin="http://example.org")[0] == 403
    assert raw(served, call, Origin=f"http://127.0.0.1:{served.port}")[0] == 403, "no page of a browser at all"
    assert raw(served, call, Host="example.org")[0] == 403
    assert served.token not in str(served.__dict__.get("path")) and served.token not in " ".join(sys.argv)
    assert stat.S_IMODE(os.stat(served.path).st_mode) == 0o600
    with socket.create_connection(("127.0.0.1", served.port)) as wire:
        wire.sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        assert b" 405 " in wire.recv(100)
    with socket.create_connection(("127.0.0.1", served.port)) as wire:
        wire.sendall(b"\x00\xff nonsense\r\n\r\n")
        assert b" 400 " in wire.recv(100)
    with pytest.raises(DriveProblem, match="token"):
        pendel.connect(served.address, "another")
    with pytest.raises(DriveProblem, match="Nobody answers"):
        pendel.connect("/nowhere/at/all")
    with pytest.raises(DriveProblem, match="no address"):
        pendel.connect("http://nonsense")


def requested(served, data: bytes, answers: int = 1, patience: float = 5.0) -> bytes:
    """What comes back for bytes that claim to be requests, until the server closes or says no more."""
    told = b""
    with socket.create_connection(("127.0.0.1", served.port)) as wire:
        wire.settimeout(patience)
        wire.sendall(data)
        with contextlib.suppress(OSError):
            while data := wire.recv(1 << 16):
                told += data
                if told.count(b"HTTP/1.") >= answers:
                    wire.settimeout(0.05)  # for the rest of the last one
    return told


def test_requests_are_answered_as_http_says(served, caplog, capfd):
    """RFC 9110: 405 names what is allowed (15.5.6), HEAD has no content (9.3.2); RFC 9112: connections persist (9.3),
    content comes in chunks (7.1), and what gives its length twice over is not taken (6.3)."""
    call = b'{"jsonrpc": "2.0", "id": 1, "method": "card.name", "params": {"card": "gear"}}'
    head = f"POST / HTTP/1.1\r\nHost: 127.0.0.1:{served.port}\r\nAuthorization: Bearer {served.token}\r\n".encode()
    whole = head + b"Content-Length: %d\r\n\r\n" % len(call) + call
    chunked = head + b"Transfer-Encoding: chunked\r\n\r\n%x\r\n" % len(call) + call + b"\r\n0\r\n\r\n"
    assert unix_answer(served) == "Gear"
    assert requested(served, whole + chunked + whole, 3).count(b"Gear") == 3
    assert requested(served, whole.replace(b"\r\nHost", b"\r\nConnection: close\r\nHost")).count(b"Gear") == 1
    for method in (b"GET", b"PUT", b"DELETE", b"OPTIONS", b"PATCH"):
        told = requested(served, whole.replace(b"POST", method))
        assert b" 405 " in told and b"\nAllow: POST" in told
    told = requested(served, head.replace(b"POST", b"HEAD") + b"\r\n")
    assert b" 405 " in told and told.endswith(b"\r\n\r\n")
    both = head + b"Content-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n"
    assert b" 400 " in requested(served, both)
    assert b" 400 " in requested(served, head + b"Content-Length: 3\r\nContent-Length: 4\r\n\r\nabcd")
    assert b" 400 " in requested(served, head + b"Content-Length: -3\r\n\r\nabcd")
    told = requested(served, head.replace(served.token.encode(), served.token.encode() + b"\x00"))
    assert b" 400 " in told and served.token not in caplog.text + capfd.readouterr().err


pieces = st.sampled_from(
    [b"POST", b"GET", b" / ", b" /x ", b"HTTP/1.1", b"HTTP/9", b"\r\n", b"\n", b"Host: 127.0.0.1\r\n", b"Host:\r\n"]
    + [
        b"Content-Length: 5\r\n",
        b"Transfer-Encoding: chunked\r\n",
        b"5\r\nabcde\r\n",
        b"0\r\n\r\n",
        b": ",
        b"\x00",
        b"{}",
    ]
    + [b"Expect: 100-continue\r\n", b"Upgrade: x\r\nConnection: upgrade\r\n", b"ffffffffffffffff\r\n", b"A" * 9000]
)


@given(st.lists(st.one_of(pieces, st.binary(max_size=20)), max_size=12).map(b"".join))
@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_whatever_comes_as_a_request_gets_a_refusal_and_others_an_answer(served, data):
    told = requested(served, data, 1, 0.03)
    assert not told or told.startswith(b"HTTP/1.") and b" 200 " not in told.split(b"\r\n")[0] and b" 500 " not in told
    assert unix_answer(served) == "Gear"


def unix_answer(served) -> str:
    with contextlib.closing(unix_channel(served.path)) as channel:
        return channel.call("card.name", card="gear")


@pytest.mark.parametrize(
    ("text", "code"),
    [
        (b"", -32700),
        (b"{", -32700),
        (b"\xff\xfe", -32700),
        (b"[" * 100_000, -32700),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "card.name", "params": {"card": NaN}}', -32700),
        (b"[" + b",".join([b"1"] * 10_000) + b"]", -32600),
        (b'{"jsonrpc": "2.0", "id": {}, "method": "drive.check"}', -32600),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "drive.__init__"}', -32601),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "drive._performed"}', -32601),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "here.merge", "params": [1]}', -32602),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "here.keep", "params": {"run": "!!"}}', -32602),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "here.keep", "params": {"run": "AAAA"}}', None),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "run.trace", "params": {"run": "run 99", "signal": "x"}}', -32602),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "drive.set", "params": {"name": "K_p", "value": true}}', -32602),
    ],
)
def test_what_is_no_call_gets_an_error_and_the_next_call_an_answer(served, text, code):
    status, answer = raw(served, text)
    assert status == 200
    if code is not None:
        assert json.loads(answer)["error"]["code"] == code
    channel = unix_channel(served.path)
    if b"\n" not in text and text:
        channel._wire.sendall(text + b"\n")
        same = json.loads(channel._lines.line())
        assert same.get("error", {}).get("code") == json.loads(answer).get("error", {}).get("code")
    assert channel.call("card.name", card="gear") == "Gear"
    channel.close()


def test_large_slow_and_half_calls_hold_nobody_up(served, monkeypatch):
    monkeypatch.setattr(doors, "SLOWEST_BODY", 0.3)
    head = f"POST / HTTP/1.1\r\nHost: 127.0.0.1:{served.port}\r\nAuthorization: Bearer {served.token}\r\n"
    wires = [socket.create_connection(("127.0.0.1", served.port)) for _ in range(40)]
    for wire in wires:
        wire.sendall(f"{head}Content-Length: 100\r\n\r\n{{".encode())
    channel = unix_channel(served.path)
    assert channel.call("card.name", card="gear") == "Gear"
    assert b" 408 " in wires[0].recv(200)
    for wire in wires:
        wire.close()
    with socket.create_connection(("127.0.0.1", served.port)) as wire:
        wire.sendall(f"{head}Content-Length: {1 << 30}\r\n\r\n".encode() + b" " * 10000)
        with contextlib.suppress(OSError):
            for _ in range(300):
                wire.sendall(b" " * (1 << 20))
        wire.settimeout(10)
        assert b" 413 " in wire.recv(200)
    many = [unix_channel(served.path) for _ in range(doors.MOST_CONNECTIONS + 5)]
    with pytest.raises(RemoteProblem, match="programs are connected"):
        many[-1].call("card.name", card="gear")
    for each in many:
        each.close()
    channel.close()
    deadline = time.monotonic() + 10
    while served._open and time.monotonic() < deadline:
        time.sleep(0.01)
    assert served._open == 0


def test_a_desk_that_is_killed_costs_its_runs_alone(clean):
    channel = unix_channel(clean.path)
    channel.call("drive.run", until="5 ms")
    beside_it = Host(clean._link._host.files)
    beside_it.close()
    assert channel.call("drive.write_c", folder="c") and clean._link._host.files.is_dir(), "others work there still"
    host = clean._link._host
    host.process.kill()
    deadline = time.monotonic() + 20
    while clean._link._host is host and time.monotonic() < deadline:
        time.sleep(0.01)
    assert channel.call("card.name", card="gear") == "Gear" and channel.call("runs.list") == {}
    channel.close()


def test_a_second_server_leaves_the_socket_of_the_first_alone(served):
    owner_ = FileOwner(served.owner.drive.copy(), None)
    with pytest.raises(DriveProblem, match="cannot be opened"):
        doors.Server(served.path.with_suffix(".files"), answer_of(owner_), path=served.path)
    channel = unix_channel(served.path)
    assert channel.call("card.name", card="gear") == "Gear"
    channel.close()


def test_two_callers_at_once_lose_nothing(clean):
    """Each defines thirty quantities of its own, in turns with the other."""

    def work(which):
        d = pendel.connect(str(clean.path))
        for number in range(30):
            d.define(f"q_{which}_{number}", f"{number} V")
        d.close()

    threads = [threading.Thread(target=work, args=(which,)) for which in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    names = {name for name in clean.owner.drive.quantities if name.startswith("q_")}
    assert len(names) == 60


def test_pendel_serve_serves_saves_and_goes(tmp_path, place, monkeypatch):
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    said, stopping = [], threading.Event()
    drive = file.load(place)

    def work():
        beside.serve_drive(drive, socket=str(tmp_path / "s"), port="0", path=place, say=said.append, stopping=stopping)

    thread = threading.Thread(target=work)
    thread.start()
    deadline = time.monotonic() + 30
    while len(said) < 2 and time.monotonic() < deadline:
        time.sleep(0.01)
    address, token = said[1].split()[4].rstrip(","), Path(said[1].split()[-1])
    assert stat.S_IMODE(token.stat().st_mode) == 0o600
    d = pendel.connect(address, token.read_text())
    d.set("K_p", "34 A*s/m")
    d.save()
    d.keep(d.run("5 ms"), "from elsewhere")
    d.close()
    stopping.set()
    thread.join(20)
    assert not thread.is_alive() and not token.exists() and not (tmp_path / "s").exists()
    assert file.load(place).quantities["K_p"].text == "34 A*s/m"
    assert len(list((tmp_path / "door.runs").glob("*.h5"))) == 1
    for words in (["--port", "99999"], ["--port", "x"], []):
        assert terminal(["serve", str(place), *words]) == 2


def test_sockets_lie_in_no_folder_of_somebody_else(tmp_path, monkeypatch):
    from pendel.remote.here import runtime_folder

    monkeypatch.delenv("XDG_RUNTIME_DIR", raising=False)
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    folder = runtime_folder()
    assert stat.S_IMODE(folder.stat().st_mode) == 0o700
    folder.chmod(0o777)
    with pytest.raises(DriveProblem, match="open to others"):
        runtime_folder()
    folder.rmdir()
    (tmp_path / "elsewhere").mkdir(mode=0o700)
    folder.symlink_to(tmp_path / "elsewhere")
    with pytest.raises(DriveProblem, match="another user's"):
        pendel.connect()


CLIENTS = {
    "python": [sys.executable, "client.py"],
    "curl": ["bash", "client.sh"],
    "node": ["node", "client.mjs"],
    "java": ["java", "Client.java"],
    "c++": ["bash", "-c", "g++ -O1 -o $TMPDIR/client client.cpp && $TMPDIR/client"],
}


def test_the_notebook_runs_against_a_served_drive(clean, monkeypatch):
    """Executed as Jupyter executes it, by nbclient, in a kernel of its own."""
    import nbclient
    import nbformat

    monkeypatch.setenv("PENDEL_ADDRESS", str(clean.path))
    monkeypatch.setenv("PYDEVD_DISABLE_FILE_VALIDATION", "1")
    book = nbformat.read(ROOT / "examples" / "remote" / "notebook.ipynb", as_version=4)
    nbformat.validate(book)
    nbclient.NotebookClient(book, timeout=120).execute()
    own = pendel.open_example("car_door_drive")
    told = ast.literal_eval(book.cells[3].outputs[0].data["text/plain"])
    for gain, current in told.items():
        own.set("K_p", f"{gain} A*s/m")
        assert current == round(own.run("0.3 s")["door_motor.current"].y.max(), 3)
    assert "<table" in book.cells[1].outputs[0].data["text/html"] and len(told) == 3
    assert "door_leaf.speed" in book.cells[5].outputs[0].data["text/html"]
    with contextlib.closing(pendel.connect(str(clean.path))) as d:
        assert np.isclose(d.card("speed_pi").K_p, 35.0)
    kept = sorted(clean.owner.path.with_suffix(".runs").glob("*.h5"), key=lambda path: path.stat().st_mtime_ns)
    assert [reopen(path).differs for path in kept[-3:]] == [f"K_p = {gain}" for gain in told]


@pytest.mark.parametrize("name", CLIENTS)
def test_clients_in_other_languages_do_the_same(clean, name, tmp_path):
    """The examples of docs/remote.md: each sets a gain, runs, and prints the largest current."""
    command = CLIENTS[name]
    tool = "g++" if name == "c++" else "curl" if name == "curl" else command[0]
    if shutil.which(tool) is None:
        pytest.skip(f"{tool} is not installed")
    environment = {**os.environ, "PENDEL_ADDRESS": clean.address, "PENDEL_TOKEN": clean.token, "TMPDIR": str(tmp_path)}
    done = subprocess.run(
        command, cwd=ROOT / "examples" / "remote", env=environment, capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr
    own = pendel.open_example("car_door_drive")
    own.set("K_p", "30 A*s/m")
    assert float(done.stdout.split()[-1]) == pytest.approx(own.run("50 ms")["door_motor.current"].y.max(), rel=1e-12)
    with contextlib.closing(pendel.connect(str(clean.path))) as d:
        assert np.isclose(d.card("speed_pi").K_p, 30.0)

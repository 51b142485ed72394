"""A drive may come from anyone: its texts stay text, and what is built and run is ours."""

import os
import pickle
import platform
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import pytest

import pendel
from pendel.core import trust
from pendel.core.controllers.emit import simulation_source
from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import files
from pendel.core.controllers.own_c import CProblem, read_c
from pendel.core.cores import usable_cores
from pendel.core.drive.document import OwnEquations
from pendel.core.drive.file import from_text, to_text
from pendel.core.errors import BuildProblem, DriveHasFindings, DriveProblem, FileProblem, RunProblem
from pendel.core.firmware.document import document_of
from pendel.core.firmware.ship import build_strictly, write_sources
from pendel.core.plant import compiler
from pendel.core.plant.rows import BOTH
from pendel.core.plant.runtime import copy_loop, time_loop
from pendel.core.processes.requests import JudgeRequest, ModesRequest, ProposeRequest, RunRequest
from pendel.core.processes.worker import RunFinished, Worker
from pendel.core.runs.confined import child
from pendel.core.runs.confined.child import BEHIND
from pendel.core.runs.confined.confine import Held
from pendel.core.runs.preparing.simulate import prepare, reopen, run_drive
from pendel.core.runs.record import evaluating
from pendel.core.runs.record.evaluating import LARGE, WIRES, EvaluatorProcess
from pendel.core.runs.record.kept import save
from pendel.core.trust import allow, strange_c

HOSTILE = (
    "*/ int pwned = 1; /*",
    "*/ } int pwned(void) { return 1; } /*",
    "\\\n*/ #include </etc/passwd>",
    "??/\n*/",
    "/*/",
    '"; system("x");',
)


def controller(title="Plain", name="Gain", comment="A comment."):
    """A deck with a title, a card's name and a docstring of one's own."""
    d = pendel.Drive(title)
    d.set("tick", "1 ms")
    d.add("constant", "Wish", value="2")
    d.add(
        "own_block",
        "Own",
        own=OwnEquations(("x: in", "y: out"), ("K = 3",), (), (), (f'"""{comment}"""', "y = K * x")),
    )
    for card, new in (("wish", name), ("own", name)):
        d.document.cards[card] = type(d.document.cards[card])(**{**d.document.cards[card].__dict__, "name": new})
    d.connect("wish.out", "own.x")
    return prepare(from_text(to_text(d.document))).deck


def shipped(deck, number=NumberFormat.FLOAT32):
    return files(lower(deck, Choices(number)))


def without_comments(text):
    return re.sub(r"/\*.*?\*/", "", text, flags=re.DOTALL)


@pytest.mark.parametrize("text", HOSTILE)
def test_texts_of_a_drive_change_nothing_but_comments_in_its_c(text):
    plain = shipped(controller())
    for deck in (controller(name=text), controller(comment=text.replace("\\", "").replace('"', "'"))):
        hostile = shipped(deck)
        assert without_comments(hostile.source) == without_comments(plain.source)
        assert without_comments(simulation_source(deck)) == without_comments(simulation_source(controller()))
        build_strictly(hostile)
    assert "pwned" not in without_comments(shipped(controller(title=text)).source).replace("pwned_1", "").replace(
        "int_pwned", ""
    )


@pytest.mark.parametrize(
    "title", ["Constant", "Real", "Size", "Int", "Encoder", "Step", "Main", "math", "stdint", "pd_step", "In"]
)
def test_a_drive_or_a_card_may_be_called_like_a_block_or_a_type(title):
    deck = controller(title=title)
    build_strictly(shipped(deck))
    d = pendel.Drive("Cards")
    for n, name in enumerate(("In", "Out", "Tick", title)):
        d.add("constant", name, value=str(n))
    deck = prepare(d.document).deck
    build_strictly(shipped(deck, NumberFormat.FLOAT64))


def test_names_that_c_or_the_block_language_has_already_are_told_or_given_another():
    d = pendel.Drive("Names")
    d.set("tick", "1 ms")
    d.add(
        "own_block",
        "Own",
        own=OwnEquations(
            ("int: in", "NAN: out"),
            ("double = 3",),
            ("short = 0",),
            (),
            ("sqrt_ = int * double", "short = short + sqrt_", "NAN = short"),
        ),
    )
    deck = prepare(d.document).deck
    build_strictly(shipped(deck))
    for own in (
        OwnEquations(("x: in", "y: out"), (), ("table = 0",), (), ("y = mapped(table, 0.0, x, x)",)),
        OwnEquations(("x: in", "y: out"), (), (), (), ("y = interpolated(x, x)",)),
    ):
        d = pendel.Drive("Memory")
        d.add("own_block", "Own", own=own)
        assert any("means something already" in f.sentence or "needs a" in f.sentence for f in d.check())


def test_written_c_replaces_only_what_pendel_wrote(tmp_path):
    deck = controller(title="Main")
    paths = write_sources(lower(deck, Choices()), tmp_path)
    assert sorted(p.name for p in paths) == [
        "main.c",
        "main_drive.c",
        "main_drive.h",
        "main_drive_table.c",
        "pd_numbers.c",
        "pd_numbers.h",
    ]
    write_sources(lower(deck, Choices()), tmp_path)
    page = document_of(lower(controller(name="<script>alert(1)</script>"), Choices()), {})
    assert "<script>" not in page and "&lt;script&gt;" in page
    source = (tmp_path / "main_drive.c").read_text()
    (tmp_path / "main_drive.c").write_text("int nothing_of_ours;\n")
    with pytest.raises(FileProblem, match="not written by Pendel"):
        write_sources(lower(deck, Choices()), tmp_path)
    assert (tmp_path / "main_drive.c").read_text() == "int nothing_of_ours;\n"
    (tmp_path / "main_drive.c").write_text(source)
    # The example is there to be changed, and then stays; as it was written, it follows the drive.
    example = tmp_path / "main.c"
    written = example.read_text()
    other = lower(controller(title="Other"), Choices())
    assert example in write_sources(other, tmp_path) and example.read_text() != written
    for own in (written.replace("k < 10", "k < 20"), "int main(void) { return 0; }\n", "\x00\xff"):
        example.write_text(own)
        assert example not in write_sources(lower(deck, Choices()), tmp_path)
        assert example.read_text() == own


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setattr(compiler, "user_cache_dir", lambda name: str(tmp_path / name))
    return tmp_path / "pendel" / "builds"


SOURCE = "int answer(void);\nint answer(void) { return 42; }\n"


def test_a_damaged_build_is_built_again_and_the_cache_is_private(cache):
    library = compiler.build_library(SOURCE)
    assert cache.stat().st_mode & 0o777 == 0o700
    good = library.read_bytes()
    for bad in (b"", good[:100], b"rubbish" * 1000):
        library.write_bytes(bad)
        compiler.check_again()
        assert compiler.build_library(SOURCE) == library
        assert library.stat().st_size > 1000
        compiler.check_again()
        assert compiler.is_built(library)


def test_a_cache_of_another_user_is_refused(cache, monkeypatch):
    compiler.build_library(SOURCE)
    monkeypatch.setattr(compiler.os, "getuid", lambda: 4242)
    with pytest.raises(BuildProblem, match="another user"):
        compiler.build_library(SOURCE)


def test_one_text_is_built_once_whoever_asks_and_no_more_compilers_run_than_cores(cache, monkeypatch):
    real, running, maximum, calls = compiler.subprocess.Popen, [0], [0], [0]
    lock = threading.Lock()

    def counted(*arguments, **options):
        with lock:
            calls[0] += 1
            running[0] += 1
            maximum[0] = max(maximum[0], running[0])
        time.sleep(0.05)
        process = real(*arguments, **options)
        whole = process.communicate

        def communicate(*a, **k):
            try:
                return whole(*a, **k)
            finally:
                with lock:
                    running[0] -= 1

        process.communicate = communicate
        return process

    monkeypatch.setattr(compiler.subprocess, "Popen", counted)
    with ThreadPoolExecutor(12) as pool:
        assert len(set(pool.map(compiler.build_library, [SOURCE] * 12))) == 1
        assert calls[0] == 1
        list(pool.map(compiler.build_library, [SOURCE.replace("42", str(n)) for n in range(9)]))
    assert calls[0] == 10
    assert maximum[0] <= usable_cores()


def test_the_worker_imports_nothing_from_the_current_folder(tmp_path, monkeypatch):
    trap = tmp_path / "trapped"
    for name in ("casadi", "numpy", "pendel"):
        (tmp_path / f"{name}.py").write_text(f"open({str(trap)!r}, 'w').close()\n")
    monkeypatch.chdir(tmp_path)
    d = pendel.Drive("Alone")
    d.set("until", "1 ms")
    d.add("dc_source", "Feed")
    worker = Worker()
    try:
        worker.request(RunRequest(to_text(d.document), "Run", "", "kept.h5"))
        for _ in range(1500):
            answer = worker.answer()
            if answer is not None:
                break
            time.sleep(0.02)
        assert isinstance(answer, RunFinished) and answer.keep() == tmp_path / "kept.h5"
        assert (tmp_path / "kept.h5").exists()
    finally:
        worker.kill()
    assert not trap.exists()


def own_c(*lines, title="Foreign"):
    """A drive whose file brings C of its own."""
    d = pendel.Drive(title)
    d.set("until", "5 ms")
    d.set("tick", "1 ms")
    d.add("constant", "Wish", value="2")
    d.add("own_c", "Own", own=OwnEquations(("x: in", "y: out"), (), ("kept = 1",), (), ("y = x;",)))
    d.connect("wish.out", "own.x")
    card = d.document.cards["own"]
    d.document.cards["own"] = replace(card, own=replace(card.own, equations=lines))
    return from_text(to_text(d.document))


@pytest.mark.parametrize(
    ("lines", "line", "words"),
    [
        (("y = x;", "#include </etc/passwd>"), 1, "preprocessor"),
        (("%:include </etc/passwd>",), 0, "“%:”"),
        (("??=include </etc/passwd>",), 0, "“??”"),
        (
            (
                "/* a",
                "*/ #include </dev/zero>",
            ),
            1,
            "preprocessor",
        ),
        (("y = x; \\", "#define y"), 0, "backslash"),
        (("// all well \\", "y = x;"), 0, "backslash"),
        (("y = x; }", "static int pwned(void) { return 1;"), 0, "closes nothing"),
        (("y = x; <%",), 0, "“<%”"),
        (("y = (x;",), 0, "never closed"),
        (("y = x; /*",), 0, "comment is never closed"),
        (('__asm__(".incbin /etc/passwd");',), 0, "“__asm__”"),
        (("_Pragma", "(x)"), 0, "“_Pragma”"),
        (("y = x;", 'system("x");'), 1, "quotes"),
        (("y = x; \x0c#include <x>",), 0, "no sign of C"),
        (("y = \u00b5;",), 0, "no sign of C"),
        (("y = " + "(" * 200 + "x" + ")" * 200 + ";",), 0, "deep"),
    ],
)
def test_typed_c_is_statements_and_nothing_else(lines, line, words):
    with pytest.raises(CProblem, match=re.escape(words)) as told:
        read_c(lines)
    assert told.value.line == line
    found = pendel.Drive(document=own_c(*lines)).check()
    assert any(f.stops and f"update line {line + 1}" in f.sentence and words in f.sentence for f in found)


def test_c_that_came_with_a_file_meets_no_compiler_and_runs_nowhere_until_it_is_allowed(cache, monkeypatch):
    drive = own_c("y = x; // as it is", "  kept += nonsense;")
    asked = []
    real = compiler.run_compiler
    monkeypatch.setattr("pendel.core.controllers.own_c.run_compiler", lambda *a: asked.append(a) or real(*a))
    d = pendel.Drive(document=drive)
    assert not [f for f in d.check() if f.stops] and d.loops() == []
    prepared = prepare(drive)
    with pytest.raises(DriveProblem, match="brings C of its own"):
        run_drive(prepared)
    with pytest.raises(DriveProblem, match=r"run\(own_c=True\)"):
        d.run()
    assert not asked
    allow(c.own for c in drive.cards.values() if c.own)
    with pytest.raises(DriveHasFindings, match=r"update line 2: The compiler says: “nonsense” undeclared"):
        prepare(drive)
    assert len(asked) == 1
    # What was allowed is known by its text: in any drive, in the next session, and not with a letter changed.
    monkeypatch.setattr("pendel.core.trust.ALLOWED_HERE", set())
    assert not strange_c(drive) and strange_c(own_c("y = x; // as it was", "  kept += nonsense;")) == ["own"]
    trust.remembered_at().chmod(0o666)
    assert strange_c(drive) == ["own"], "a list that others can write is nobody's"
    allow(c.own for c in drive.cards.values() if c.own)
    monkeypatch.setattr("pendel.core.trust.ALLOWED_HERE", set())
    assert not strange_c(drive) and trust.remembered_count() == 1, "a new list is begun"


def ask(worker, text, path, own_c=False):
    worker.request(RunRequest(text, "Run", "", str(path), own_c))
    for _ in range(3000):
        if (answer := worker.answer()) is not None:
            return answer
        time.sleep(0.02)
    raise AssertionError("no answer")


HARM = """
    extern long syscall(long, ...); extern int open64(const char *, int, ...); extern int socket(int, int, int);
    extern int kill(int, int);
    extern int getppid(void);
    char a[] = {47,101,116,99,47,115,104,97,100,111,119,0}, b[] = {47,116,109,112,47,112,119,110,0};
    y = (open64(a, 0) >= 0) + 2 * (open64(b, 65, 420) >= 0) + 4 * (socket(2, 1, 0) >= 0)
        + 8 * (kill(getppid(), 0) == 0);
"""


def test_even_allowed_c_reads_no_files_of_the_users_writes_none_and_has_no_network(tmp_path, monkeypatch):
    """As far as this system confines a process at all; what it says must hold."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))  # shared with the worker, and with no other test
    worker = Worker()
    try:
        drive = own_c(*HARM.strip().splitlines())
        before = {p: p.stat().st_mtime for p in compiler.cache_folder().iterdir()}
        answer = ask(worker, to_text(drive), tmp_path / "r.h5", own_c=True)
        assert {p: p.stat().st_mtime for p in compiler.cache_folder().iterdir()} == before, "what others load"
        assert isinstance(answer, RunFinished), answer
        reached = int(reopen(answer.keep()).trace("own.y").y[-1])
        held = worker.held
    finally:
        worker.kill()
    forbidden = 3 * (Held.FILES in held) + 4 * (Held.NETWORK in held) + 8 * (Held.SIGNALS in held)
    assert reached & forbidden == 0
    if platform.system() == "Linux" and Held.FILES in held:
        assert "reads programs and libraries only" in str(held)


def test_links_that_c_of_a_user_leaves_behind_are_not_followed_when_its_process_begins_again(tmp_path, monkeypatch):
    """The window brings a built time loop to the new process; where older C could write, that would write wherever a
    link leads."""
    time_loop()
    temporary, victim = tmp_path / "temporary", tmp_path / "victim"
    temporary.mkdir()
    victim.mkdir()
    monkeypatch.setattr("tempfile.tempdir", str(temporary))
    worker = Worker()
    try:
        (folder,) = temporary.iterdir()
        for number in range(2):
            assert isinstance(ask(worker, to_text(own_c("y = x;")), tmp_path / f"{number}.h5", own_c=True), RunFinished)
            worker.end_now()
            worker.answer(5.0)
            for place in temporary.iterdir():
                if not (place / "pendel").exists():
                    (place / "pendel").symlink_to(victim)
        assert (folder / "pendel").is_symlink() and not list(victim.iterdir())
    finally:
        worker.kill()
    assert not list(temporary.iterdir()), "nothing is left"


def environment_of(pid: int | None) -> list[bytes]:
    """What a process was begun with; nothing while it is only about to be another program."""
    end = time.monotonic() + 10
    while not (found := Path("/proc", str(pid), "environ").read_bytes()) and time.monotonic() < end:
        time.sleep(0.01)
    return found.split(b"\0")


def test_whatever_may_run_c_of_a_user_shares_no_builds_and_all_stands_back_for_the_window(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    text, worker = to_text(own_c("y = x;")), Worker()
    try:
        for request, shares in (
            (JudgeRequest(text), True),
            (ProposeRequest(text, own_c=True), False),
            (ModesRequest(text, "rest"), True),
            (JudgeRequest(text, own_c=True), False),
        ):
            worker.request(request)
            environment = environment_of(worker.pid)
            assert (f"XDG_CACHE_HOME={tmp_path}".encode() in environment) == shares, request
            assert worker.answer(60.0) is not None
        wanted = min(19, os.getpriority(os.PRIO_PROCESS, 0) + BEHIND)
        assert os.getpriority(os.PRIO_PROCESS, worker.pid) == wanted
    finally:
        worker.kill()


def test_the_terminal_runs_a_drives_code_confined_and_a_crash_is_a_sentence(tmp_path, monkeypatch):
    """What the worker may not do, the command may not either: with --own-c, and where the C was allowed before."""
    time_loop()
    copy_loop(tmp_path / "cache")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    worker = Worker()
    ask(
        worker, to_text(own_c("y = x;")), tmp_path / "r.h5", own_c=True
    )  # tells what this system can hold, once it has begun
    held = worker.held
    worker.kill()
    forbidden = 3 * (Held.FILES in held) + 4 * (Held.NETWORK in held) + 8 * (Held.SIGNALS in held)

    def pendel_run(drive, *more):
        path = tmp_path / "drive.pendel"
        path.write_text(to_text(drive))
        asked = [
            sys.executable,
            "-m",
            "pendel.cli.main",
            "run",
            str(path),
            "--until",
            "5 ms",
            "--signals",
            "own.y",
            *more,
        ]
        return subprocess.run(asked, capture_output=True, text=True, cwd=tmp_path, check=False)

    harm = own_c(*HARM.strip().splitlines())
    built = compiler.cache_folder()
    before = {p.name for p in built.iterdir()}
    assert "brings C of its own" in pendel_run(harm).stderr
    target = tmp_path / "traces.csv"
    asked = pendel_run(harm, "--own-c", "--out", str(target))
    assert asked.returncode == 0, asked.stderr
    assert int(float(target.read_text().splitlines()[-1].split(",")[1])) & forbidden == 0
    allow(c.own for c in harm.cards.values() if c.own)
    again = pendel_run(harm)
    assert again.returncode == 0 and int(float(again.stdout.splitlines()[-1].split(",")[1])) & forbidden == 0
    assert {p.name for p in built.iterdir()} == before, "what others load"
    crash = pendel_run(
        own_c("extern void abort(void); if (x >= 0) { abort(); } y = x;"),
        "--own-c",
        "--out",
        str(tmp_path / "none.csv"),
    )
    assert crash.returncode == 1 and "ended unexpectedly" in crash.stderr and not (tmp_path / "none.csv").exists()


def test_a_run_that_does_not_stop_is_ended_and_one_that_lies_is_no_answer(tmp_path):
    worker = Worker()
    endless = to_text(own_c("for (;;) { kept = kept + 1; }", "y = kept;"))
    try:
        worker.request(RunRequest(endless, "Run", "", str(tmp_path / "r.h5"), own_c=True))
        begun = time.monotonic()
        while time.monotonic() < begun + 4:
            assert worker.answer() is None
            time.sleep(0.05)
        worker.stop()
        asked = time.monotonic()
        while (answer := worker.answer()) is None:
            time.sleep(0.01)
        assert "did not stop when asked" in answer.findings[0][0] and time.monotonic() - asked < 3
        wild = to_text(own_c("*(volatile double *)4096 = x;", "y = kept;"))
        worker.request(RunRequest(wild, "Run", "", str(tmp_path / "r.h5"), own_c=True))
        while (answer := worker.answer()) is None:
            time.sleep(0.01)
        assert "brings typed C, which can do that" in answer.findings[0][0]
        # A worker that is not itself any more sends a pickle of its choice, or a file from elsewhere.
        trap = tmp_path / "trap"
        for lie in (
            pickle.dumps(Lie(str(trap))),
            pickle.dumps(RunFinished("/etc/passwd", "", False, "/etc/hostname")),
            b"rubbish",
        ):
            worker.start()
            worker.received.put(lie)
            assert "no answer" in worker.answer().findings[0][0]
        assert not trap.exists()
    finally:
        worker.kill()


class Lie:
    def __init__(self, path):
        self.path = path

    def __reduce__(self):
        return (open, (self.path, "w"))


def test_a_request_to_a_worker_that_does_not_read_holds_nobody_up(tmp_path):
    worker = Worker()
    try:
        os.kill(worker.pid, signal.SIGSTOP)
        begun = time.monotonic()
        worker.request(RunRequest("x" * 50_000_000, "Run", "", str(tmp_path / "r.h5")))
        assert time.monotonic() - begun < 1
        assert worker.answer() is None
    finally:
        worker.kill()


def test_signals_are_evaluated_in_a_confined_process_to_the_bit_and_one_that_lies_is_no_answer(monkeypatch, tmp_path):
    drive = pendel.open_example("haul_drive")
    drive.set("level", "switching")
    run = drive.run().kept
    keys, beside = list(run.structure.signals), EvaluatorProcess()
    asked = run.structure, run.rows, run.parameters
    try:
        found = beside.refined(*asked, which=BOTH)
        wanted = run.evaluator.refined(*asked, which=BOTH)
        assert np.array_equal(found.rows, wanted.rows) and np.array_equal(found.half_way, wanted.half_way)
        assert found.rows.nbytes > LARGE > run.rows[:9].nbytes
        for rows in (found.rows, found.half_way, run.rows, run.rows[:9], run.rows[::7], run.rows[:0]):
            for chosen in (keys, keys[3:1:-1], []):
                here = run.evaluator.signals(run.structure, rows, run.parameters, chosen)
                with ThreadPoolExecutor(4) as several:
                    given = several.map(
                        lambda _, r=rows, c=chosen: beside.signals(run.structure, r, run.parameters, c), range(4)
                    )
                    assert all(np.array_equal(each, here) for each in given)
        # What a record of other values holds is not taken for what another at the same place held.
        for k in range(3):
            rows = found.rows + k
            assert np.array_equal(
                beside.signals(asked[0], rows, asked[2], keys[:2]),
                run.evaluator.signals(asked[0], rows, asked[2], keys[:2]),
            )
            del rows
        status = Path("/proc", str(beside.pid), "status").read_text()
        assert "NoNewPrivs:\t1" in status and (platform.machine() != "x86_64" or "Seccomp:\t2" in status)
        os.kill(beside.pid, signal.SIGKILL)  # another takes its place
        assert np.array_equal(
            beside.signals(run.structure, found.rows, run.parameters, keys[:2]), here_of(run, found.rows, keys[:2])
        )
        with pytest.raises(KeyError, match="no signal nothing"):
            beside.signals(*asked, ["nothing"])
        for lie in ("SHAPE.pack(True, 1 << 60, 2)", "SHAPE.pack(True, -1, 2)", "b'pickle'", "b''", TOO_SHORT):
            monkeypatch.setattr(child, "start_with_streams", partial(liar, lie, len(run.rows)))
            beside.kill()
            with pytest.raises(RunProblem, match="ended unexpectedly"):
                beside.signals(*asked, keys[:2])
        # A file that its library cannot get through is a sentence, too, and the next one is read.
        save(run, path := tmp_path / "run.h5")
        beside.kill()
        monkeypatch.setattr(evaluating, "READING", 0.3)
        monkeypatch.setattr(child, "start_with_streams", partial(liar, "(__import__('time').sleep(60), b'')[1]", 0))
        with pytest.raises(FileProblem, match="did not answer in time"):
            reopen(path, beside.content)
        monkeypatch.undo()
        again = reopen(path, beside.content)
        assert np.array_equal(again.rows, run.rows) and again.infos == run.infos and again.drive_text == run.drive_text
        (tmp_path / "bad.h5").write_bytes(path.read_bytes()[:3000])
        for bad in ("bad.h5", "none.h5", ".", *["bad.h5"] * WIRES):
            with pytest.raises(FileProblem):
                reopen(tmp_path / bad, beside.content)
    finally:
        beside.close()
    with pytest.raises(RunProblem, match="closing"):
        beside.signals(*asked, keys[:2])


def here_of(run, rows, keys):
    return run.evaluator.signals(run.structure, rows, run.parameters, keys)


TOO_SHORT = "SHAPE.pack(True, rows, 2)), wire.send_bytes(bytes(8)"
LIAR = """
import sys
from multiprocessing.connection import Connection
from pendel.core.runs.record.evaluating import SHAPE
wire = Connection(int(sys.argv[1]))
wire.recv_bytes(), wire.recv_bytes()
rows = {rows}
wire.send_bytes({lie})
wire.recv_bytes()
"""


def liar(lie, rows, module, folder, count):
    ours, theirs = socket.socketpair()
    process = subprocess.Popen(
        [sys.executable, "-c", LIAR.format(lie=lie, rows=rows), str(theirs.fileno())], pass_fds=[theirs.fileno()]
    )
    theirs.close()
    return process, [ours]

"""What typed C that was allowed can reach: it computes, and does nothing else. All of it runs in the process that is
confined for it; nothing here runs unconfined."""

import mmap
import os
import platform
import time
from dataclasses import dataclass
from pathlib import Path

import h5py
import numpy as np
import pytest

from pendel.core.drive.file import to_text
from pendel.core.files.hdf import held_within
from pendel.core.loops.judging.judgement import Judgement
from pendel.core.plant import compiler
from pendel.core.processes import answers
from pendel.core.processes.requests import JudgeRequest, ModesRequest, ProposeRequest
from pendel.core.processes.worker import Answered, RunFailed, RunFinished, Shared, Worker
from pendel.core.runs.preparing.simulate import reopen

from .test_safety import ask, own_c

KNOWN_MACHINE = platform.machine() == "x86_64"

CALLS = {
    "fork": "syscall(57)",
    "vfork by clone": "syscall(56, 17, 0, 0, 0, 0)",
    "clone3": "syscall(435, 0, 0)",
    "a signal to the parent": "syscall(62, getppid(), 0)",
    "a thread's signal to the parent": "syscall(200, getppid(), 0)",
    "limits of the parent": "syscall(302, getppid(), 7, 0, room)",
    "priority": "syscall(141, 0, getppid(), 0)",
    "scheduling": "syscall(203, 0, 8, room)",
    "keys into a terminal": "syscall(16, 0, 0x5412, room)",
    "watching files": "syscall(294, 0)",
    "shared memory of System V": "syscall(29, 0, 4096, 0x200 + 0600)",
    "queues of System V": "syscall(68, 0, 0x200 + 0600)",
    "sockets": "syscall(41, 1, 1, 0)",
    "another namespace": "syscall(272, 0x10000000)",
    "rights of a file": "syscall(90, name, 0644)",
    "times of a file": "syscall(132, name, 0)",
    "attributes of a file": "syscall(188, name, name, name, 1, 0)",
    "a path without opening it": "syscall(257, -100, name, 0x200000)",
    "a file of the user's": "syscall(257, -100, name, 0)",
    "a new file": "syscall(257, -100, name, 0x41, 0600)",
    "memory with a name": "syscall(319, name, 0)",
    "a handle of a process": "syscall(434, getppid(), 0)",
    "tracing": "syscall(101, 16, getppid(), 0, 0)",
}
"""By what it would reach: a call of the system (x86_64) that must give nothing. The name is /etc/shadow."""


@pytest.fixture
def worker(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    made = Worker()
    yield made
    made.kill()


def reached(worker, tmp_path, lines) -> int:
    answer = ask(worker, to_text(own_c(*lines)), tmp_path / "r.h5", own_c=True)
    assert isinstance(answer, RunFinished), answer
    return int(reopen(answer.keep()).trace("own.y").y[-1])


@pytest.mark.skipif(not KNOWN_MACHINE, reason="numbers of calls are those of x86_64")
def test_no_call_of_the_system_gives_typed_c_anything_but_computing(worker, tmp_path):
    letters = ",".join(str(ord(c)) for c in "/etc/shadow") + ",0"
    probes = [f"y = y * 2 + ({call} >= 0);" for call in CALLS.values()]
    lines = (
        "extern long syscall(long, ...); extern int getppid(void);",
        f"char name[] = {{{letters}}}; long room[64];",
        "y = 0; room[0] = 0; (void)name;",
        *probes,
    )
    bits = reached(worker, tmp_path, lines)
    assert [name for k, name in enumerate(reversed(CALLS)) if bits >> k & 1] == []


@pytest.mark.skipif(not KNOWN_MACHINE, reason="numbers of calls are those of x86_64")
def test_memory_that_is_shared_cannot_be_cut_shorter(worker, tmp_path):
    """Else the window would end where it looks at it."""
    lines = (
        "extern int ftruncate(int, long); int k; y = 0;",
        "for (k = 0; k < 64; k++) if (ftruncate(k, 0) == 0) y = k + 1;",
    )
    reached(worker, tmp_path, lines)
    assert worker.progress >= 0.0 and worker.alive


def test_progress_and_confinement_that_a_process_makes_up_are_clamped():
    worker = Worker.__new__(Worker)
    worker.shared = Shared(mmap.mmap(-1, 4096))
    for made_up in (float("nan"), float("inf"), -1.0):
        worker.shared.progress[0] = made_up
        assert worker.progress == 0.0
    worker.shared.held[0] = -1
    assert str(worker.held)


def test_typed_c_changes_no_build_that_a_later_request_loads(worker, tmp_path):
    """The builds of its process can be read, not written; those of others it does not know."""
    lines = (
        "extern long syscall(long, ...);",
        f"char name[] = {{{','.join(str(ord(c)) for c in '/tmp')},0}}; (void)name;",
        "y = syscall(257, -100, name, 0x41, 0600) >= 0;",
    )
    assert reached(worker, tmp_path, lines) == 0
    common = compiler.cache_folder()
    assert not list(common.glob("*.so")) or all(p.stat().st_uid == os.getuid() for p in common.glob("*.so"))
    assert worker._cache is not None and Path(worker._cache.name) not in common.parents


def test_all_that_judges_runs_with_typed_c_in_the_runner(worker):
    text = to_text(own_c("kept = kept + 0.001 * x; y = kept;"))
    for request in (
        JudgeRequest(text, own_c=True),
        ProposeRequest(text, own_c=True),
        ModesRequest(text, "rest", own_c=True),
    ):
        worker.request(request)
        answer = worker.answer(60.0)
        assert isinstance(answer, Answered) or "swings" in answer.sentence or "no" in answer.sentence, answer


def test_a_crash_of_typed_c_is_told_as_before_and_the_next_request_is_answered(worker, tmp_path):
    answer = ask(worker, to_text(own_c("extern void abort(void); abort(); y = x;")), tmp_path / "r.h5", own_c=True)
    assert isinstance(answer, RunFailed) and "-6" in answer.sentence and "typed C" in answer.sentence
    assert isinstance(ask(worker, to_text(own_c("y = x;")), tmp_path / "r.h5", own_c=True), RunFinished)


def test_a_process_that_holds_the_wire_holds_up_nobody(worker, tmp_path):
    """As a child that was left behind would; here the other end is kept open by this process."""
    held = os.dup(worker.connection.fileno())
    begun = time.monotonic()
    worker._end()
    assert time.monotonic() - begun < 5.0
    os.close(held)


# answers ----------------------------------------------------------------------------------------------------------


def test_answers_come_through_as_they_were():
    rng = np.random.default_rng(0)
    for value in (
        None, True, 3, -0.5, float("inf"), 1j, "text", (1, (2, "a")), [1, None], {"a": (1.0,), 2: [3]}, Path("/tmp/x"),
        rng.normal(size=(3, 4)), np.arange(5), np.zeros((0, 3)), np.array([1 + 2j]), np.array([True, False]),
    ):  # fmt: skip
        again = answers.decoded(answers.encoded(Answered(value))).result
        assert type(again) is type(value) or isinstance(value, np.generic)
        assert np.array_equal(again, value) if isinstance(value, np.ndarray) else again == value
    finished = RunFinished("/a", "message", False, "/b")
    assert answers.decoded(answers.encoded(finished)) == finished


@dataclass(frozen=True)
class Strange:
    x: int


def test_answers_that_are_none_are_refused_whatever_they_hold():
    good = answers.encoded(Answered((1.0, np.arange(4.0))))
    for cut in range(len(good) - 1):
        with pytest.raises(answers.NoAnswer):
            answers.decoded(good[:cut])
    with pytest.raises(answers.NoAnswer):
        answers.decoded(good + b"x")

    def head(text: str, tail: bytes = b"") -> bytes:
        return answers.HEAD.pack(len(text)) + text.encode() + tail

    number = answers.NUMBERS["pendel.core.processes.worker:RunFinished"]
    deep = '["t", ' * 100 + "1" + "]" * 100
    arrays = ('"<f8", [1000000000000]', '"<f8", [-1]', '"O", [1]', '"<f8", ["1"]', '"<M8[s]", [0]')
    records = ("-1", "99999, 1", f"{number}, 1, 2, 3, 4", f'{number}, "a"', f'{number}, ["t"], "", false, ""')
    others = ('["e", 0, 1]', '["z"]', "[]", "{}", "[[]]", deep, "nonsense", '["p", 3]', '["c", 1]')
    for text in (*(f'["a", {a}]' for a in arrays), *(f'["r", {r}]' for r in records), *others):
        with pytest.raises(answers.NoAnswer):
            answers.decoded(head(text))
    with pytest.raises(answers.NoAnswer):
        answers.decoded(answers.HEAD.pack(1 << 60) + b"x")
    with pytest.raises(TypeError):
        answers.encoded(Answered(Strange(1)))
    assert not answers.fits("1", float) and not answers.fits(True, int) and answers.fits(1, float)
    assert Judgement  # its fields are looked at by name, never by what an answer calls them


def test_numbers_in_another_file_are_not_read(tmp_path):
    """HDF5 follows external links, external storage and virtual datasets."""
    secret = tmp_path / "secret"
    secret.write_bytes(np.arange(8.0).tobytes())
    with h5py.File(tmp_path / "other.h5", "w") as file:
        file["rows"] = np.arange(4.0)
    with h5py.File(tmp_path / "run.h5", "w") as file:
        file["own"] = np.arange(3.0)
        file["linked"] = h5py.ExternalLink(str(tmp_path / "other.h5"), "/rows")
        file.create_dataset("stored", (8,), "f8", external=[(str(secret), 0, 64)])
        layout = h5py.VirtualLayout((4,), "f8")
        layout[:] = h5py.VirtualSource(tmp_path / "other.h5", "rows", (4,))
        file.create_virtual_dataset("virtual", layout)
        file["soft"] = h5py.SoftLink("/own")
    with h5py.File(tmp_path / "run.h5", "r") as file:
        assert np.array_equal(held_within(file, "own")[()], np.arange(3.0))
        for name in ("linked", "stored", "virtual", "soft", "nothing"):
            with pytest.raises(ValueError, match="file itself"):
                held_within(file, name)

"""Ctrl+C, and what the terminal does where its output or its arguments are none."""

import contextlib
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

import pendel
from pendel.cli import apart

DOOR = str(pendel.__path__[0]) + "/examples/car_door_drive.pendel"
TERMINAL = [sys.executable, "-P", "-m", "pendel.cli.main"]
LONG_RUN = """
import sys, time, pendel
d = pendel.open_example("car_door_drive")
d.set("level", "switching")
d.run(0.01)
print("runs", flush=True)
try:
    d.run(1000.0)
except KeyboardInterrupt:
    print("interrupted", flush=True)
print(d.run(0.01).kept.end, flush=True)
"""


def hear() -> None:
    """A test that runs in the background of a shell would hand on that interrupts are ignored."""
    signal.signal(signal.SIGINT, signal.default_int_handler)


def children_of(process: int) -> list[int]:
    return [int(n) for n in Path(f"/proc/{process}/task/{process}/children").read_text().split()]


def computed(process: int) -> float:
    """Seconds that a process has computed: proc_pid_stat(5)."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def test_an_interrupt_stops_a_run_of_a_script_at_once_and_the_next_one_goes():
    script = subprocess.Popen([sys.executable, "-c", LONG_RUN], stdout=subprocess.PIPE, text=True, preexec_fn=hear)
    late = threading.Timer(60.0, script.kill)
    late.start()
    assert script.stdout.readline() == "runs\n"
    time.sleep(0.5)
    script.send_signal(signal.SIGINT)
    begun = time.monotonic()
    assert script.stdout.readline() == "interrupted\n"
    assert time.monotonic() - begun < 1.0  # 0.2 s is the aim; other tests may have the cores
    assert script.stdout.readline() == "0.01\n" and script.wait() == 0
    late.cancel()
    script.stdout.close()


@pytest.mark.parametrize(
    ("verb", "to_all", "number"),
    [
        ("run", True, signal.SIGINT),
        ("run", False, signal.SIGINT),
        ("measure", True, signal.SIGINT),
        ("measure", False, signal.SIGINT),
        ("run", False, signal.SIGTERM),
        ("run", True, signal.SIGTERM),
    ],
)
def test_an_interrupt_ends_the_terminal_with_its_child(verb, to_all, number):
    """Ctrl+C reaches both processes; a signal may be sent to the first alone."""
    command = [*TERMINAL, verb, DOOR, "--until", "1000 s", "--set", "level=switching"]
    process = subprocess.Popen(
        command, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, start_new_session=True, preexec_fn=hear
    )
    until = time.monotonic() + 30
    while time.monotonic() < until and not (computing := [c for c in children_of(process.pid) if computed(c) > 2.0]):
        time.sleep(0.05)
    (os.killpg if to_all else os.kill)(process.pid, number)
    begun = time.monotonic()
    try:
        assert process.wait(10) == 130 and time.monotonic() - begun < 3.0
        assert b"Traceback" not in process.stderr.read()
    finally:
        for one in (process.pid, *computing):  # which would run on for a long time
            with contextlib.suppress(ProcessLookupError):
                os.kill(one, signal.SIGKILL)
        process.stderr.close()
    assert computing and not any(Path(f"/proc/{child}").exists() for child in computing)


def test_a_process_that_lost_an_interrupt_is_asked_again_and_one_that_hears_none_is_ended(monkeypatch):
    monkeypatch.setattr(apart, "KILLED", 2.0)
    lost = """
import signal, sys, time
heard = []
signal.signal(signal.SIGINT, lambda *_: heard.append(1) if not heard else sys.exit(130))
print("hears", flush=True)
time.sleep(60)
"""
    for text, code in ((lost, 130), (lost.replace("if not heard", "if True"), -signal.SIGKILL)):
        child = subprocess.Popen([sys.executable, "-c", text], stdout=subprocess.PIPE, text=True)
        assert child.stdout.readline() == "hears\n"
        assert apart._interrupted(child.pid) == code
        child.stdout.close()
        child.returncode = code  # which it would ask the system for


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["run", DOOR, "--out", ""], "out is empty"),
        (["run", DOOR, "--until", ""], "until is empty"),
        (["board", DOOR, "--link", "gopher"], "no kind of link"),
    ],
)
def test_a_call_that_says_nothing_is_a_wrong_call(arguments, words):
    told = subprocess.run([*TERMINAL, *arguments], capture_output=True, text=True)
    assert told.returncode == 2 and words in told.stderr and "Traceback" not in told.stderr


@pytest.mark.parametrize("to", ["> /dev/full", ">&-", "2>&-", "<&-"])
@pytest.mark.parametrize("verb", ["check", "run"])
def test_an_output_that_is_closed_or_full_gets_a_sentence_and_no_traceback(to, verb):
    words = f"{' '.join(TERMINAL)} {verb} {DOOR} --json {'--until 0.01s' if verb == 'run' else ''}"
    told = subprocess.run(f"{words} {to}", shell=True, capture_output=True, text=True)
    assert "Traceback" not in told.stderr
    assert told.returncode == (2 if "full" in to else 0)
    assert ("cannot be written" in told.stderr) == ("full" in to)


def test_a_file_that_cannot_be_written_whole_stays_as_it_was(tmp_path):
    """With no room for it (a limit on sizes of files stands for a full disk) the old file is untouched."""
    out = tmp_path / "door.csv"
    out.write_text("what was there\n")
    words = f"{' '.join(TERMINAL)} run {DOOR} --until 0.3s --out {out}"
    told = subprocess.run(f"ulimit -f 200; {words}", shell=True, capture_output=True, text=True, executable="/bin/bash")
    assert told.returncode != 0
    assert out.read_text() == "what was there\n" and os.listdir(tmp_path) == ["door.csv"]


@pytest.mark.parametrize(
    ("number", "in_background"), [(signal.SIGTERM, True), (signal.SIGTERM, False), (signal.SIGINT, False)]
)
def test_what_serves_a_drive_leaves_no_door_open_when_it_is_ended(number, in_background, tmp_path):
    """A shell lets what it runs in the background ignore interrupts; to be ended it has to hear all the same."""
    door = tmp_path / "door"
    process = subprocess.Popen(
        [*TERMINAL, "serve", DOOR, "--socket", str(door), "--port", "0"],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "XDG_RUNTIME_DIR": str(tmp_path)},
        preexec_fn=(lambda: signal.signal(signal.SIGINT, signal.SIG_IGN)) if in_background else hear,
    )
    try:
        told = [process.stdout.readline() for _ in range(2)]
        token = Path(told[1].split()[-1])
        assert door.exists() and token.exists()
        time.sleep(0.3)
        process.send_signal(number)
        assert process.wait(5) == 0
        assert not door.exists() and not token.exists()
    finally:
        process.kill()
        process.stdout.close()

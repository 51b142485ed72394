import csv
import fcntl
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import h5py
import numpy as np
import pytest
import scipy.io
from argparse_manpage.manpage import Manpage

import pendel
from pendel.cli.main import main, parser
from pendel.core.drive.document import OwnEquations
from pendel.core.drive.file import from_text
from pendel.core.errors import BuildProblem, FileProblem
from pendel.core.plant import compiler
from pendel.core.processes.requests import RunRequest
from pendel.core.processes.worker import RunFailed, Worker
from pendel.core.runs.preparing.simulate import reopen
from pendel.core.runs.record import kept
from pendel.core.verbs import VERBS

EXAMPLES = Path(pendel.__file__).parent / "examples"


def test_check_says_what_is_wrong_and_sets_the_exit_code(example_path, tmp_path, capsys):
    assert main(["check", str(example_path)]) == 0
    assert "no findings" in capsys.readouterr().out
    assert main(["check", str(example_path), "--set", "m_leaf=0 kg"]) == 1
    assert "fault: door_leaf.m" in capsys.readouterr().out
    assert main(["check", str(tmp_path / "none.pendel")]) == 2
    assert main(["run", str(example_path), "--set", "nothing=1"]) == 2
    assert "no quantity or setting nothing" in capsys.readouterr().err


@pytest.mark.parametrize("ending", ["csv", "h5", "mat"])
def test_run_writes_traces_with_names_and_units(example_path, tmp_path, ending):
    out = tmp_path / f"x.{ending}"
    assert (
        main(
            [
                "run",
                str(example_path),
                "--until",
                "0.2 s",
                "--set",
                "K_p=40 A*s/m",
                "--signals",
                "door_motor.speed,current_pi.out",
                "--out",
                str(out),
            ]
        )
        == 0
    )
    d = pendel.open(example_path)
    d.set("K_p", "40 A*s/m")
    speed = d.run(0.2)["door_motor.speed"].y
    if ending == "csv":
        with out.open() as stream:
            rows = list(csv.reader(stream))
        assert rows[0] == ["time [s]", "door_motor.speed [rad/s]", "current_pi.out [V]"]
        np.testing.assert_allclose([float(r[1]) for r in rows[1:]], speed, rtol=1e-7, atol=1e-9)
    elif ending == "h5":
        with h5py.File(out) as f:
            np.testing.assert_array_equal(f["door_motor.speed"][()], speed)
            assert f["door_motor.speed"].attrs["unit"] == "rad/s"
    else:
        np.testing.assert_array_equal(scipy.io.loadmat(out)["door_motor_speed"].ravel(), speed)


def test_written_c_compiles_strictly_and_runs(example_path, tmp_path):
    assert main(["c", str(example_path), str(tmp_path)]) == 0
    assert sorted(p.name for p in tmp_path.iterdir()) == [
        "car_door_drive.a2l",
        "car_door_drive.c",
        "car_door_drive.h",
        "car_door_drive.html",
        "car_door_drive.md",
        "car_door_drive_table.c",
        "main.c",
        "pd_numbers.c",
        "pd_numbers.h",
    ]
    assert "free of any condition" in (tmp_path / "car_door_drive.c").read_text()
    program = tmp_path / "example"
    subprocess.run(
        [
            *compiler.compiler(),
            "-std=c99",
            "-Wall",
            "-Wextra",
            "-Werror",
            "-pedantic",
            str(tmp_path / "car_door_drive.c"),
            str(tmp_path / "pd_numbers.c"),
            str(tmp_path / "main.c"),
            "-lm",
            "-o",
            str(program),
        ],
        check=True,
    )
    assert len(subprocess.run([str(program)], capture_output=True, check=True).stdout.split()) == 10


@pytest.mark.parametrize(
    ("example", "number"),
    [(name, number) for name in ("old_haul_link", "haul_drive_rope") for number in ("float32", "fixed32")]
    + [("own C", "float64")],
)
def test_c_of_any_controller_compiles_without_a_warning_and_includes_what_it_uses(example, number, tmp_path):
    """One without blocks, one whose comments speak of roots, one with typed C that takes a root."""
    if example == "own C":
        d = pendel.Drive("Own")
        d.add("step", "Ask", after="4")
        d.add("own_c", "Root", own=OwnEquations(("x: in", "y: out"), (), (), (), ("y = sqrt(x);",)))
        d.connect("ask.out", "root.x")
    else:
        d = pendel.open_example(example)
    d.set("number_format", number)
    name = next(p.stem for p in d.write_c(tmp_path) if p.suffix == ".a2l" or p.name.endswith("_table.c"))
    name = name.removesuffix("_table")
    units = [f"{name}.c", f"{name}_table.c", "pd_numbers.c"]
    strict = [*compiler.compiler(), "-std=c99", "-Wall", "-Wextra", "-Werror", "-pedantic", "-c", *units]
    subprocess.run(strict, check=True, cwd=tmp_path)
    assert ("#include <math.h>" in (tmp_path / f"{name}.c").read_text()) is (example == "own C")


def test_a_machine_without_compiler_gets_a_sentence(monkeypatch):
    compiler.compiler.cache_clear()
    monkeypatch.setenv("PATH", "/nowhere")
    monkeypatch.setattr(compiler.importlib.util, "find_spec", lambda name: None)
    with pytest.raises(BuildProblem, match="apt install gcc"):
        compiler.compiler()
    monkeypatch.undo()
    compiler.compiler.cache_clear()
    assert compiler.compiler()


def test_kept_run_explains_itself(door, tmp_path):
    run = pendel.Drive(document=door).run(0.1).kept
    kept.save(run, tmp_path / "run1.h5")
    again = kept.load(tmp_path / "run1.h5")
    assert "door_leaf" in again.drive_text
    for key in run.keys:
        np.testing.assert_array_equal(again.trace(key).y, run.trace(key).y)
        assert again.trace(key).unit == run.trace(key).unit
    kept.relabel(run, "with the heavy leaf")
    assert kept.load(tmp_path / "run1.h5").differs == "with the heavy leaf"
    (tmp_path / "bad.h5").write_bytes(b"garbage")
    with pytest.raises(FileProblem):
        kept.load(tmp_path / "bad.h5")


def test_a_lock_that_outlives_its_file_keeps_no_run_from_being_read(door, tmp_path):
    """A compiler started while a run is written inherits the descriptor, and with it any lock, for a moment."""
    run, path = pendel.Drive(document=door).run(0.02).kept, tmp_path / "run1.h5"
    kept.save(run, path)
    with open(path, "rb") as inherited:
        fcntl.flock(inherited, fcntl.LOCK_EX)
        assert kept.load(path).name == run.name
        kept.relabel(run, "again")
        kept.save(run, path)
    np.testing.assert_array_equal(kept.load(path).rows, run.rows)


def test_code_inside_a_kept_run_is_never_run(door, tmp_path):
    run = pendel.Drive(document=door).run(0.1).kept
    kept.save(run, tmp_path / "run1.h5")
    with h5py.File(tmp_path / "run1.h5", "r+") as file:
        del file["equations"]
        file["equations"] = "int pd_hoisted(void) { __builtin_trap(); }"
    again = reopen(tmp_path / "run1.h5")
    np.testing.assert_array_equal(again.trace("door_leaf.speed").y, run.trace("door_leaf.speed").y)
    with h5py.File(tmp_path / "run1.h5", "r+") as file:
        del file["rows"]
        file["rows"] = run.rows[:, :-1]
    with pytest.raises(FileProblem, match="another version"):
        reopen(tmp_path / "run1.h5")


def wait(worker):
    import time

    end = time.monotonic() + 60
    while time.monotonic() < end:
        answer = worker.answer()
        if answer is not None:
            return answer
        time.sleep(0.005)
    raise AssertionError("the worker never answered")


def test_worker_survives_stop_and_death(example_path, tmp_path):
    worker = Worker()
    text = example_path.read_text()
    try:
        worker.request(
            RunRequest(text.replace('"until": "1.2 s"', '"until": "500 s"'), "Run 1", "", str(tmp_path / "r.h5"))
        )
        while worker.progress < 0.01:
            assert worker.answer() is None
        worker.stop()
        assert wait(worker).stopped
        worker.request(
            RunRequest(text.replace('"until": "1.2 s"', '"until": "500 s"'), "Run 2", "", str(tmp_path / "r.h5"))
        )
        worker.end_now()
        answer = wait(worker)
        assert isinstance(answer, RunFailed)
        assert "unexpectedly" in answer.findings[0][0]
        worker.request(RunRequest(text, "Run 3", "", str(tmp_path / "r.h5")))
        assert wait(worker).message == ""
    finally:
        worker.kill()


def test_module_runs_from_the_shell(example_path):
    done = subprocess.run(
        [sys.executable, "-m", "pendel", "check", str(example_path)],
        capture_output=True,
        text=True,
        check=False,
    )
    assert (done.returncode, done.stdout) == (0, "no findings\n")
    none = subprocess.run(
        [sys.executable, "-m", "pendel", "check", "none.pendel"], capture_output=True, text=True, check=False
    )
    assert none.returncode == 2 and "none.pendel" in none.stderr


def test_what_a_run_found_is_told_in_the_terminal(tmp_path, capsys):
    arguments = [
        "run",
        str(EXAMPLES / "cabin_fan.pendel"),
        "--until",
        "0.2 s",
        "--out",
        str(tmp_path / "x.csv"),
    ]
    assert main([*arguments, "--signals", "fan_motor.speed"]) == 0
    assert "found:" not in capsys.readouterr().err
    assert main([*arguments, "--set", "hall_sensors.turned=60 deg"]) == 0
    assert "found: Hall decoder: the Hall sensors are 60 electrical degrees behind" in capsys.readouterr().err


def test_measures_and_losses_are_told_between_two_times(capsys):
    """Of an inverter in space-vector modulation within its linear range: the fundamental of the line voltage is √3
    times the demanded phase amplitude (Holmes and Lipo, Pulse Width Modulation, ch. 6), and the parts' losses are what
    the window's table tells."""
    path = str(EXAMPLES / "haul_inverter.pendel")
    call = [
        "measure",
        path,
        "--set",
        "inverter.t_dead=0",
        "--from",
        "20 ms",
        "--to",
        "60 ms",
        "--fundamental",
        "50 Hz",
    ]
    assert main([*call, "--signals", "inverter.line_voltage,test_load.current_a"]) == 0
    lines = [line.split("\t") for line in capsys.readouterr().out.splitlines()]
    assert lines[0] == ["signal", "unit", "mean", "rms", "ripple p-p", "at the fundamental", "THD %"]
    assert float(lines[1][5]) == pytest.approx(np.sqrt(3) * 280, rel=5e-3)
    d = pendel.open(path)
    d.set("inverter.t_dead", "0")
    run = d.run()
    of = run.averages("test_load.current_a", 0.02, 0.06)
    assert [float(x) for x in lines[2][2:5]] == pytest.approx([of.mean, of.rms, of.ripple], rel=1e-5)
    assert lines[3:5] == [[""], ["lost by", "mean power W", "energy J"]]
    told = {line[0]: (float(line[1]), float(line[2])) for line in lines[5:]}
    balance = run.balance(0.02, 0.06)
    wanted = {each.what: (each.power, each.energy) for each in balance.losses}
    wanted |= {words: (energy / balance.duration, energy) for words, energy in balance.sums}
    assert balance.open == pytest.approx(0, abs=1e-5 * balance.supplied)
    assert told.keys() == wanted.keys()
    assert all(told[k] == pytest.approx(wanted[k], rel=1e-5) for k in wanted)
    for wrong, words in (
        (["--from", "3 kV"], "in V, but s is needed"),
        (["--from", "1 s"], "ends at 0.06 s"),
        (["--from", "30 ms", "--to", "10 ms"], "30 ms to 10 ms is no span"),
        (["--signals", "inverter.nothing"], "no signal inverter.nothing"),
    ):
        assert main(["measure", path, *wrong]) == 2
        assert words in capsys.readouterr().err


def test_loops_are_told_in_the_terminal(capsys):
    assert main(["loops", str(EXAMPLES / "haul_drive.pendel")]) == 0
    rows = [line.split("\t") for line in capsys.readouterr().out.splitlines()]
    assert [r[0] for r in rows] == ["Current along d", "Current along q"] and all(r[-1] == "stable" for r in rows)
    found = pendel.open(EXAMPLES / "haul_drive.pendel").loops()
    assert [r[1] for r in rows] == [each.regulator for each in found]
    assert main(["loops", str(EXAMPLES / "haul_inverter.pendel")]) == 0
    assert capsys.readouterr().out == "no closed loop\n"


def in_shell(*arguments, text=None):
    command = [sys.executable, "-m", "pendel.cli.main", *map(str, arguments)]
    return subprocess.run(command, input=text, capture_output=True, text=True, check=False)


def test_verbs_read_and_write_standard_streams_and_answer_in_json(example_path, tmp_path):
    """From one verb into the next, as shells do; JSON has what the text has."""
    text = example_path.read_text()
    changed = in_shell("set", "-", "m_leaf=41 kg", "bridge.level=switching", "--out", "-", text=text)
    assert changed.returncode == 0, changed.stderr
    d = pendel.Drive(document=from_text(changed.stdout))
    assert d.document.quantities["m_leaf"].text == "41 kg" and d.card("bridge").choices["level"] == "switching"
    found = in_shell("signals", "-", "--json", text=changed.stdout)
    signals = json.loads(found.stdout)
    assert {"key": "door_motor.speed", "card": "Door motor", "label": "speed", "unit": "rad/s"} in signals
    run = in_shell("run", "-", "--until", "20 ms", "--signals", "door_motor.speed", "--json", text=text)
    trace = json.loads(run.stdout)["door_motor.speed"]
    assert trace["unit"] == "rad/s" and trace["time"][-1] == pytest.approx(0.02)
    wrong = in_shell("check", "-", text="no drive")
    assert wrong.returncode == 2 and "standard input" in wrong.stderr and not wrong.stdout
    faulty = in_shell("check", "-", "--set", "m_leaf=0", "--json", text=text)
    assert faulty.returncode == 1 and json.loads(faulty.stdout)[0]["severity"] == "fault"


@pytest.mark.parametrize("name", ["analogue_controller", "cabin_fan", "haul_drive", "valley_feeder", "wayside_supply"])
def test_json_is_that_of_its_standard_also_where_a_figure_means_nothing(name, capsys):
    """RFC 8259 knows no NaN and no infinity, which a loop that never settles and a step that is none would have."""

    def answered(*arguments):
        main([arguments[0], str(EXAMPLES / f"{name}.pendel"), *arguments[1:], "--json"])
        return json.loads(capsys.readouterr().out, parse_constant=lambda word: pytest.fail(f"{word} in {arguments}"))

    assert answered("check") == []
    keys = [signal["key"] for signal in answered("signals")]
    assert len(keys) == len(set(keys)) > 5
    measured = answered("measure", "--until", "5 ms", "--signals", ",".join(keys[:4]))
    assert measured
    assert answered("measure", "--until", "5 ms", "--signals", keys[1], "--setpoint", keys[0], "--fundamental", "1 kHz")
    answered("modes")


def test_a_loop_that_is_not_stable_ends_with_1_and_proposed_gains_cure_it(example_path, tmp_path):
    path = tmp_path / "door.pendel"
    shutil.copy(example_path, path)
    assert in_shell("set", path, "current_pi.K_p=900 V/A").returncode == 0
    judged = in_shell("loops", path, "--json")
    assert judged.returncode == 1
    assert [each["stable"] for each in json.loads(judged.stdout)][0] is False
    left = in_shell("propose", path)
    assert left.returncode == 0, left.stderr
    assert in_shell("loops", path).returncode == 0
    assert (tmp_path / "door.pendel.bak").is_file(), "what stood there is kept"
    before = path.read_bytes()
    assert in_shell("set", path, "nothing=1").returncode == 2 and path.read_bytes() == before
    assert "Is it K_p" in in_shell("set", path, "K_pp=1").stderr


def test_every_verb_has_a_manual_and_words_for_the_shell(tmp_path):
    words = str(Manpage(parser(), format="single-commands-section"))
    for verb in VERBS:
        assert verb.sentence.split(",")[0] in words.replace("\\", "")
    environment = {
        **os.environ,
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_IFS": " ",
        "COMP_LINE": "pendel me",
        "COMP_POINT": "9",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(tmp_path / "words"),
    }
    subprocess.run([sys.executable, "-m", "pendel.cli.apart"], env=environment, check=False, capture_output=True)
    assert (tmp_path / "words").read_text().split() == ["measure"]

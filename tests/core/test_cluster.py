"""Rows of a series on Dask's workers: the same rows, none lost and none twice, whatever goes away."""

import os
import signal
import subprocess
import sys
import time

import pytest

import pendel
from pendel.core.drive.document import OwnEquations
from pendel.core.errors import DriveProblem, RunProblem
from pendel.core.series import cluster

pytest.importorskip("distributed")
pytestmark = pytest.mark.filterwarnings("ignore")  # of Dask's own sockets and threads
PEAK = "max(door_motor.current)"


def door(until="20 ms"):
    d = pendel.open_example("car_door_drive")
    d.set("until", until)
    return d


def masses(count):
    return {"m_leaf": ("even", "40 kg", "90 kg", str(count))}


def told(rows):
    return [
        (row.number, dict(row.values), dict(row.figures), row.outcome) for row in sorted(rows, key=lambda r: r.number)
    ]


def test_rows_of_workers_are_those_of_this_process_to_the_bit(tmp_path):
    d = door()
    here = d.series(masses(30), [PEAK], cores=1).run()
    there = d.series(masses(30), [PEAK], workers="local:2", folder=tmp_path).run()
    assert told(there) == told(here)
    again = d.series(masses(30), [PEAK], cores=1, folder=tmp_path).run()
    assert told(again) == told(here), "what was run there is not run again here"


def test_a_row_that_ends_its_process_costs_that_row_alone():
    d = door()
    own = OwnEquations(
        ports=("x: in", "y: out"),
        values=("bad = 0",),
        equations=("int *nowhere = 0; if (bad > 45.5 && bad < 46.5) *nowhere = 1; y = x;",),
    )
    d.add("own_c", "Trap", own=own, bad="m_leaf/(1 kg)")
    d.connect("encoder.speed", "trap.x")
    rows = d.series({"m_leaf": ["45 kg", "46 kg", "47 kg"]}, [PEAK], workers="local:1", own_c=True).run()
    assert [row.outcome for row in rows] == ["done", "failed", "done"]
    assert "ended unexpectedly" in rows[1].reason


def test_a_worker_that_is_killed_loses_no_row_and_none_comes_twice(tmp_path):
    import distributed

    d = door("60 ms")
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as local:
        rows, killed = [], False
        for row in d.series(masses(60), [PEAK], workers=local.scheduler_address, folder=tmp_path):
            rows.append(row)
            if len(rows) >= 5 and not killed:
                killed = True
                os.kill(next(iter(local.workers.values())).pid, signal.SIGKILL)
    assert sorted(row.number for row in rows) == list(range(60)) and {row.outcome for row in rows} == {"done"}


def test_a_cluster_that_goes_away_leaves_a_series_that_goes_on_here(tmp_path):
    import distributed

    d = door("1.2 s")  # so long that most rows are still to come when it goes
    local = distributed.LocalCluster(n_workers=1, threads_per_worker=1, dashboard_address=None, silence_logs=50)
    rows = []
    with pytest.raises(RunProblem, match="went away"):
        for row in d.series(masses(80), [PEAK], workers=local.scheduler_address, folder=tmp_path):
            rows.append(row)
            if len(rows) == 3:
                local.close()
    assert 3 <= len(rows) < 80
    whole = d.series(masses(80), [PEAK], folder=tmp_path).run()
    assert [row.number for row in whole] == list(range(80))


def test_workers_of_another_version_or_none_are_refused(monkeypatch):
    import distributed

    d = door()
    with distributed.LocalCluster(n_workers=1, threads_per_worker=1, dashboard_address=None, silence_logs=50) as local:
        monkeypatch.setattr(cluster, "code_digest", lambda: "another")
        with pytest.raises(DriveProblem, match="Install the same there"):
            d.series(masses(3), [], workers=local.scheduler_address).run()
        monkeypatch.undo()
        assert len(d.series(masses(3), [PEAK], workers=local.scheduler_address).run()) == 3
    monkeypatch.setattr(cluster, "ANSWERED_WITHIN", 0.5)
    for address, says in (
        ("tcp://127.0.0.1:1", "Nobody answers"),
        ("nonsense", "no address"),
        ("local:0", "no number"),
    ):
        with pytest.raises(DriveProblem, match=says):
            d.series(masses(3), [], workers=address).run()


def test_the_terminal_runs_rows_on_workers(tmp_path, example_path):
    out = tmp_path / "rows.csv"
    words = [sys.executable, "-m", "pendel", "series", str(example_path), "--set", "until=20 ms"]
    words += ["--vary", "m_leaf=40 kg, 60 kg", "--figure", PEAK]

    def done(*more):  # in a process of its own: one with Dask's threads cannot be copied
        return subprocess.run([*words, *more], capture_output=True, text=True, timeout=120)

    assert done("--workers", "local:1", "--out", str(out)).returncode == 0
    assert len(out.read_text().splitlines()) == 3
    told = done("--workers", "nowhere")
    assert told.returncode == 2 and "no address" in told.stderr


def test_dask_s_own_commands_serve(tmp_path):
    """As docs/cluster.md says: a scheduler and a worker from a shell."""
    where = tmp_path / "scheduler.json"
    command = [sys.executable, "-m", "distributed.cli.dask_scheduler", "--port", "0", "--no-dashboard"]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    processes = [subprocess.Popen([*command, "--scheduler-file", str(where)], **quiet)]
    try:
        processes.append(
            subprocess.Popen(
                [sys.executable, "-m", "distributed.cli.dask_worker", "--scheduler-file", str(where), "--no-dashboard"],
                **quiet,
            )
        )
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline and not where.exists():
            time.sleep(0.1)
        import json

        address = json.loads(where.read_text())["address"]
        d = door()
        while True:
            try:
                assert len(d.series(masses(4), [PEAK], workers=address).run()) == 4
                break
            except DriveProblem:  # its worker is not there yet
                assert time.monotonic() < deadline
                time.sleep(0.5)
    finally:
        for process in processes[::-1]:
            process.terminate()
            process.wait(20)

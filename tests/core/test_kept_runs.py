"""Kept runs: what is read is what was written, also from files of before some facts were kept."""

from __future__ import annotations

import json
import os
from dataclasses import fields

import h5py
import numpy as np
import pytest

import pendel
from pendel.core.drive.document import OwnEquations
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.file import load as load_drive
from pendel.core.errors import FileProblem
from pendel.core.plant import rows
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record import kept

LATER = ("thinned_until", "first_tick", "remarks", "devices", "differences", "pulse_frequencies")
"""Facts that files did not always have."""


def run_of(name: str, level: str, until: float):
    drive = load_drive(EXAMPLES / f"{name}.pendel")
    drive.settings["level"] = level
    return run_drive(prepare(drive), until=until, name="A run")


@pytest.fixture(scope="module")
def switched():
    return run_of("car_door_drive", "device", 0.02)


def shown(run) -> dict[str, np.ndarray]:
    return {key: np.array([run.trace(key).t, run.trace(key).y]) for key in run.keys}


def test_a_run_is_read_as_it_was_written(switched, tmp_path):
    switched.differs, switched.differences = "K_p 20 → 25", [("speed_pi.out", 1e-3, 0.02)]
    kept.save(switched, tmp_path / "run.h5")
    read = kept.load(tmp_path / "run.h5")
    of_files = {"file", "units", "evaluator", "structure", "rows", "ticks", "parameters"}
    for each in fields(kept.KeptRun):
        if each.name not in of_files:
            assert getattr(read, each.name) == getattr(switched, each.name), each.name
    assert read.devices and read.pulse_frequencies
    for name in ("rows", "ticks", "parameters"):
        np.testing.assert_array_equal(getattr(read, name), getattr(switched, name))
    for (key, before), after in zip(shown(switched).items(), shown(read).values(), strict=True):
        np.testing.assert_array_equal(before, after, err_msg=key)


def test_a_file_of_before_some_facts_were_kept_shows_the_same_traces(switched, tmp_path):
    kept.save(switched, tmp_path / "run.h5")
    with h5py.File(tmp_path / "run.h5", "r+") as file:
        facts = json.loads(file.attrs["facts"])
        for name in LATER:
            del facts[name]
        file.attrs["facts"] = json.dumps(facts)
    read = kept.load(tmp_path / "run.h5")
    own = {device.key for device in switched.devices}  # energies need what devices were
    before = {key: trace for key, trace in shown(switched).items() if key not in own}
    for (key, trace), after in zip(before.items(), shown(read).values(), strict=True):
        np.testing.assert_array_equal(trace, after, err_msg=key)


@pytest.mark.parametrize("fact", ["tick", "delay", "outcome", "infos", "structure", "name", "seconds", "settings"])
@pytest.mark.parametrize("value", [None, "many", -1, [1], {"a": []}])
def test_a_fact_that_is_another_kind_of_thing_gets_a_sentence(switched, tmp_path, fact, value):
    kept.save(switched, tmp_path / "run.h5")
    with h5py.File(tmp_path / "run.h5", "r+") as file:
        facts = json.loads(file.attrs["facts"])
        before, facts[fact] = facts[fact], value
        file.attrs["facts"] = json.dumps(facts)
    try:
        read = kept.load(tmp_path / "run.h5")
    except FileProblem as problem:
        assert "run.h5" in str(problem) and "Delete it or run again" in str(problem)
        return
    # What was taken is at least of the kind that it must be.
    assert isinstance(value, type(before)) or (isinstance(before, float | int) and isinstance(value, int))
    for trace in shown(read).values():
        assert np.all(np.diff(trace[0]) >= 0)


def test_a_new_label_is_kept_and_a_file_that_is_gone_is_told(switched, tmp_path):
    kept.save(switched, tmp_path / "run.h5")
    kept.relabel(switched, "as it was")
    assert kept.load(tmp_path / "run.h5").differs == "as it was"
    os.remove(tmp_path / "run.h5")
    kept.relabel(switched, "again")  # it is only in memory now
    assert switched.differs == "again"
    with pytest.raises(FileProblem, match="no such file"):
        kept.load(tmp_path / "run.h5")


def test_a_kept_run_whose_equations_are_solved_goes_from_row_to_row(tmp_path, monkeypatch):
    """A cubic with three solutions: each row begins with that of the row before, as the run did, though the file does
    not say that there is something to solve."""
    drive = pendel.Drive("Fold")
    lines = OwnEquations(states=("x = 10",), unknowns=("y: 1",), equations=("der(x) = -11.5/(1 s)", "y*y*y - 3*y = x"))
    drive.add("own", "X", own=lines)
    run = run_drive(prepare(drive.document), until=1.0)
    upper = np.max(np.roots([1, 0, -3, 1.5]).real)
    assert run.trace("x.y").y[-1] == pytest.approx(upper, rel=1e-6)  # from 0 it would be the one in the middle
    kept.save(run, tmp_path / "run.h5")
    read = kept.load(tmp_path / "run.h5")
    monkeypatch.setattr(rows, "ROWS_A_THREAD", 2)
    monkeypatch.setattr(rows, "STEPS_A_THREAD", 2)
    monkeypatch.setattr(rows, "usable_cores", lambda: 4)
    for (key, before), after in zip(shown(run).items(), shown(read).values(), strict=True):
        np.testing.assert_array_equal(before, after, err_msg=key)

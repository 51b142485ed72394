"""Traces that rows of a series keep: what is seen of them, whatever ends a series, other traces later."""

import sqlite3

import h5py
import numpy as np
import pytest

import pendel
from pendel.core.drive.plans import Plan, Varied, plan_from, plan_record
from pendel.core.errors import DriveProblem, FileProblem, SyntaxProblem
from pendel.core.runs.record.drawn import thinned
from pendel.core.series.rows import Row
from pendel.core.series.store import RowStore
from pendel.core.series.tables import RowTable
from pendel.core.series.traces import MOST_POINTS, VARIABLE, RowTrace, written

MASSES = {"m_leaf": ["60 kg", "120 kg"]}
CURRENT, OUT = "door_motor.current", "speed_pi.out"


def door():
    d = pendel.open_example("car_door_drive")
    d.set("until", "0.2 s")
    return d


@pytest.mark.parametrize("count", [0, 1, 5, 799, 800, 801, 1199, 100_003])
def test_what_is_kept_of_a_trace_has_its_extremes_and_no_more_points_than_said(count):
    """Beside a look at each point: least, largest, both ends, in the order of time."""
    t, y = np.arange(count) * 1e-3, np.random.default_rng(count).normal(size=count)
    kept_t, kept_y = thinned(t, y, -np.inf, np.inf, 200)
    assert len(kept_t) <= MOST_POINTS and np.all(np.diff(kept_t) >= 0)
    assert len(written(np.vstack([kept_t, kept_y]))) == 16 * len(kept_t)
    if count:
        assert (kept_y.min(), kept_y.max()) == (y.min(), y.max())
        assert (kept_t[0], kept_t[-1], kept_y[0], kept_y[-1]) == (t[0], t[-1], y[0], y[-1])
        assert np.array_equal(kept_y, y[np.rint(kept_t / 1e-3).astype(int)])


def test_traces_of_rows_are_those_of_their_runs(tmp_path):
    """A signal of the plant and a sampled one, beside the run of the row's own drive; in a file too."""
    d = door()
    series = d.series(MASSES, [f"max({CURRENT})"], traces=[CURRENT, OUT], folder=tmp_path)
    for signal in (CURRENT, OUT):
        for trace in series.traces(signal):
            run = series.drive(trace.number).run()
            t, y = run.kept.trace(signal).drawn
            assert (trace.y.min(), trace.y.max(), trace.t[0], trace.t[-1]) == (y.min(), y.max(), t[0], t[-1])
            assert {*zip(trace.t, trace.y)} <= {*zip(t, y)} and len(trace.t) > 300
    series.save(tmp_path / "rows.h5")
    with h5py.File(tmp_path / "rows.h5") as file:
        assert [file[f"rows/c{k}"].attrs["name"] for k in range(3)] == ["row", "m_leaf", f"max({CURRENT}) [A]"]
        assert np.array_equal(file[f"traces/{OUT}/1"], [series.traces(OUT)[1].t, series.traces(OUT)[1].y])
    with pytest.raises(DriveProblem, match="no kept trace .door_leaf.speed.. It has door_motor.current, speed_pi.out"):
        series.traces("door_leaf.speed")


def test_other_traces_later_run_the_rows_again_and_leave_figures_as_they_were(tmp_path):
    d = door()
    before = d.series(MASSES, [f"max({CURRENT})"], folder=tmp_path)  # as of a version that kept none
    figures = [row.figures for row in before.run()]
    with sqlite3.connect(next(tmp_path.glob("*.rows"))) as file:
        file.execute("DROP TABLE traces")
    series = d.series(MASSES, [f"max({CURRENT})"], traces=[CURRENT], folder=tmp_path)
    assert [len(series.traces(CURRENT)), [row.figures for row in series.run()]] == [2, figures]
    other = d.series(MASSES, [f"max({CURRENT})"], traces=OUT, folder=tmp_path)
    assert len(other.traces(OUT)) == 2
    with sqlite3.connect(next(tmp_path.glob("*.rows"))) as file:
        assert {signal for (signal,) in file.execute("SELECT signal FROM traces")} == {OUT}
        file.execute("UPDATE traces SET points='no points'")
    with pytest.raises(FileProblem, match="a trace in it cannot be read"):
        other.traces(OUT)


def test_what_cannot_be_kept_is_said_before_a_row_runs(tmp_path, monkeypatch):
    d = door()
    with pytest.raises(DriveProblem, match="No trace of door_motor.curent can be kept.*door_motor.current"):
        d.series(MASSES, traces=["door_motor.curent"]).run()
    monkeypatch.setenv(VARIABLE, "1")
    with pytest.raises(DriveProblem, match="1 signal in 200 rows may take 2.57 MB, and 1 MB are allowed"):
        d.series({"m_leaf": ("even", "60 kg", "90 kg", 200)}, traces=[CURRENT], folder=tmp_path).run()
    monkeypatch.setenv(VARIABLE, "many")
    assert len(d.series({"m_leaf": ("even", "60 kg", "90 kg", 3)}, traces=[CURRENT]).traces(CURRENT)) == 3
    with pytest.raises(DriveProblem, match="is no list of signals"):
        d.series(MASSES, traces={CURRENT: 1})
    d.plan("Leaves", MASSES, [f"max({CURRENT})"], traces=[OUT])
    d.remove("speed_pi")
    assert any("speed_pi.out is of a card speed_pi" in finding.sentence for finding in d.check())
    store = RowStore(tmp_path / "x.rows")
    store.begin("", Plan((Varied("m_leaf"),), traces=(OUT,)), 1, "now")
    with pytest.raises(FileProblem, match="a row came with a trace of shape"):
        store.add([Row(0, ("60 kg",), "done", "", 1, 0.0, (), (), (np.zeros((2, MOST_POINTS + 1)),))])
    assert not len(store.numbers())
    store.close()


def test_a_plan_with_traces_follows_names_and_comes_back():
    plan = Plan((Varied("m_leaf", "list", ("1 kg",)),), measures=(f"max({CURRENT})",), traces=(CURRENT, OUT))
    assert plan_from(plan_record(plan)) == plan and "traces" not in plan_record(Plan())
    assert plan.with_card("door_motor", "motor").traces == ("motor.current", OUT)


def test_figures_are_taken_between_times_at_which_signals_come_to_values():
    """A triangle of 10 in 1 s up and 3 s down, by hand: means of its parts, instants, and what cannot be."""
    d = pendel.Drive()
    d.add("profile", "Up and down", profile=[("0 s", "0"), ("1 s", "10"), ("4 s", "-5"), ("5 s", "-5")])
    d.set("until", "5 s")
    d.set("tick", "1 ms")
    out = "up_and_down.out"
    expected = {
        f"when_max({out})": 1.0,
        f"when_min({out})": 4.0,
        f"reaches({out}, 4)": 0.4,
        f"reaches({out}, -2.5)": 3.5,
        f"reaches({out}, 4, when_max({out}), end)": 2.2,
        f"reaches({out}, 0)": 0.0,
        f"reaches({out}, 10)": 1.0,  # which it only touches
        f"mean({out}, start, when_max({out}))": 5.0,
        f"mean({out}, when_max({out}), reaches({out}, 0, 0.5 s, end))": 5.0,
        f"reaches({out}, max({out}) / 2) * 2": 1.0,
    }
    row = d.series({"seed": ["1"]}, list(expected)).run()[0]
    for text, value in expected.items():
        assert row.figures[text] == pytest.approx(value, abs=6e-3), text
    for text, why in (
        (f"reaches({out}, 11)", "does not come to the value"),
        (f"reaches({out}, 3 A)", "is in a plain number, and what it is to reach in A"),
        (f"mean({out}, reaches({out}, 11), end)", "does not come to the value"),
        (f"mean({out}, when_min({out}), when_max({out}))", "from 4 s to 1 s, which is no span"),
    ):
        row = d.series({"seed": ["1"]}, [text]).run()[0]
        assert np.isnan(row.figures[text]) and why in row.reason, row.reason
    with pytest.raises(DriveProblem, match="no loop of x"):
        d.series({"seed": ["1"]}, [f"mean({out}, phase_margin(x), end)"]).run()
    with pytest.raises(SyntaxProblem, match="takes a signal and a value"):
        d.series({"seed": ["1"]}, [f"reaches({out})"]).run()


def test_names_that_no_file_can_hold_are_said(tmp_path):
    trace = RowTrace(0, np.zeros(1), np.zeros(1))
    table = RowTable(Plan(), (), {"a.b": (trace,), "a.b/0": (trace,)})
    with pytest.raises(FileProblem, match="cannot be written"):
        table.save(tmp_path / "rows.h5")
    assert not list(tmp_path.iterdir())

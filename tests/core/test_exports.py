"""Traces in files, as other people's programs read them: pandas, SciPy, h5py, and MDF 4.1 by the layout of its
blocks."""

import io
import struct
from dataclasses import dataclass

import h5py
import numpy as np
import pandas
import pytest
import scipy.io
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import pendel
from pendel.core.drive.examples import DEMO
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.formats.mdf4 import Mdf4Writer
from pendel.core.formats.traces import columns, save_columns, save_traces, unlike
from pendel.core.runs.record.trace import Trace

FILES = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
ODD_NAMES = st.sampled_from(
    [
        "a.b",
        "a_b",
        "a/b",
        "names",
        "units",
        ".",
        "..",
        "=1+1",
        "9 lives",
        "_private",
        "Ä.ö",
        "\ud800",
        "x" * 200,
        "x" * 201,
        "a\0b",
        'q"u,o\nte',
        "",
    ]
)


@st.composite
def tables(draw):
    """Columns behind one or two times, with numbers of all sizes and names that no file format likes."""
    found = []
    for run in range(draw(st.integers(1, 2))):
        rows = draw(st.integers(1, 5))
        start = draw(st.sampled_from([0.0, 3599.9999, 86400.0 * 365]))
        found.append((f"Run {run}: time", "s", start + np.cumsum(np.full(rows, 1e-6))))
        for name in draw(st.lists(ODD_NAMES, max_size=4)):
            values = draw(st.lists(st.floats(width=64), min_size=rows, max_size=rows))
            found.append((name, draw(st.sampled_from(["A", "N*m", "°", "", "rad/s"])), np.array(values)))
    return found


def with_length(values, length):
    return np.concatenate([values, np.full(length - len(values), np.nan)])


@FILES
@given(tables())
def test_any_table_is_read_back_to_the_bit_by_pandas(tmp_path, table):
    save_columns(table, tmp_path / "t.csv")
    found = pandas.read_csv(tmp_path / "t.csv")
    assert found.shape[1] == len(table)
    for k, (_, unit, values) in enumerate(table):
        np.testing.assert_array_equal(found.iloc[:, k].to_numpy(float), with_length(values, len(found)))
        assert not found.columns[k].startswith(("=", "+", "-", "@"))
        assert not unit or f"[{unit}]" in found.columns[k]


@FILES
@given(tables())
def test_any_table_is_read_back_to_the_bit_by_scipy_each_under_a_name_of_its_own(tmp_path, table):
    save_columns(table, tmp_path / "t.mat")
    found = scipy.io.loadmat(tmp_path / "t.mat", squeeze_me=True)
    variables = [str(v) for v in np.atleast_1d(found["variables"])]
    assert len(set(variables)) == len(table)
    for variable, (_, _, values) in zip(variables, table):
        assert len(variable) <= 63 and variable.isascii() and variable.isidentifier() and not variable.startswith("_")
        np.testing.assert_array_equal(np.atleast_1d(found[variable]), values)
    assert [str(u) if np.size(u) else "" for u in np.atleast_1d(found["units"])] == [unit for _, unit, _ in table]


@FILES
@given(tables())
def test_any_table_is_read_back_to_the_bit_by_h5py(tmp_path, table):
    save_columns(table, tmp_path / "t.h5")
    with h5py.File(tmp_path / "t.h5") as file:
        assert len(file) == len(table) and all(isinstance(d, h5py.Dataset) for d in file.values())
        left = [(name, unit, values) for name, unit, values in table]
        for dataset in file.values():
            same = [
                k
                for k, (_, unit, values) in enumerate(left)
                if unit == dataset.attrs["unit"] and np.array_equal(values, dataset[()], equal_nan=True)
            ]
            assert same
            left.pop(same[0])


@dataclass
class Group:
    names: list[str]
    units: list[str]
    rows: np.ndarray


def groups_of(data: bytes) -> list[Group]:
    """Groups of a file by the layout of its blocks (ASAM MDF 4.1, part 1)."""

    def block(at):
        kind, length, links = struct.unpack_from("<4s4xQQ", data, at)
        return kind, struct.unpack_from(f"<{links}Q", data, at + 24), at + 24 + 8 * links, at + length

    def text(at):
        _, _, begin, end = block(at)
        return data[begin:end].rstrip(b"\0").decode()

    found, place = [], block(64)[1][0]
    while place:
        kind, (after, group, rows, _), _, _ = block(place)
        assert kind == b"##DG"
        kind, (_, channel, *_), about, _ = block(group)
        assert kind == b"##CG"
        names, units = [], []
        while channel:
            kind, (channel, _, name, _, _, _, unit, _), _, _ = block(channel)
            assert kind == b"##CN"
            names.append(text(name))
            units.append(text(unit) if unit else "")
        kind, _, begin, end = block(rows)
        assert kind == b"##DT"
        values = np.frombuffer(data[begin:end], "<f8").reshape(-1, len(names))
        assert struct.unpack_from("<Q", data, about + 8)[0] == len(values)
        found.append(Group(names, units, values))
        place = after
    return found


@FILES
@given(tables())
def test_runs_keep_times_of_their_own_in_mdf(tmp_path, table):
    """A shorter run is not carried on to the end of a longer one, and nothing is put on another run's times."""
    save_columns(table, tmp_path / "t.mf4")
    groups = groups_of((tmp_path / "t.mf4").read_bytes())
    read = [(u, g.rows[:, k]) for g in groups for k, u in enumerate(g.units)]
    assert len(groups) == sum(name.endswith("time") for name, *_ in table) and len(read) == len(table)
    for (unit, values), (_, wanted, of_table) in zip(read, table):
        assert unit == wanted
        np.testing.assert_array_equal(values, of_table)


def test_groups_are_written_as_they_come(tmp_path):
    with Mdf4Writer(tmp_path / "a.mf4", [("speed", "m/s")]) as file:
        file.write(np.array([0.0, 1.0]), np.array([[5.0], [6.0]]))
        file.begin_group([("u", "V"), ("i", "A")])
        for k in range(3):
            file.write(np.array([0.5 * k]), np.array([[10.0 * k, -k]]))
        with pytest.raises(ValueError, match="as many columns"):
            file.write(np.array([9.0]), np.array([[1.0]]))
    first, second = groups_of((tmp_path / "a.mf4").read_bytes())
    assert first.names == ["time", "speed"] and np.array_equal(first.rows, [[0, 5], [1, 6]])
    assert second.units == ["s", "V", "A"] and np.array_equal(second.rows, [[0, 0, 0], [0.5, 10, -1], [1, 20, -2]])


@given(st.lists(st.text(alphabet="ab_2", max_size=6), max_size=12), st.integers(3, 8))
def test_names_are_made_unlike_and_stay_short(names, longest):
    found = unlike(names, longest, taken=["a", "ab"])
    assert len({*found, "a", "ab"}) == len(names) + 2 and all(len(n) <= longest for n in found)
    for k, name in enumerate(names):  # nobody is renamed who need not be
        if name[:longest] not in {"a", "ab", *found[:k]}:
            assert found[k] == name[:longest]


@pytest.fixture(scope="module")
def runs():
    d = pendel.open(DEMO)
    found = []
    for until in ("0.12 s", "60 ms"):
        d.set("until", until)
        found.append(d.run().kept)
    return found


KEYS = ["door_motor.current", "speed_pi.out", "door_motor.speed"]


def test_two_runs_in_every_format_hold_the_same_numbers(runs, tmp_path):
    runs[1].name = "other"
    wanted = columns(runs, KEYS)
    for ending in (".csv", ".mat", ".h5", ".mf4"):
        save_traces(runs, KEYS, tmp_path / f"t{ending}")
    csv = pandas.read_csv(tmp_path / "t.csv")
    mat = scipy.io.loadmat(tmp_path / "t.mat", squeeze_me=True)
    groups = groups_of((tmp_path / "t.mf4").read_bytes())
    flat = [g.rows[:, k] for g in groups for k in range(len(g.names))]
    with h5py.File(tmp_path / "t.h5") as file:
        by_name = {d.attrs["name"]: d[()] for d in file.values()}
    for k, (name, unit, values) in enumerate(wanted):
        column = csv.iloc[:, k].to_numpy()
        assert csv.columns[k] == f"{name} [{unit}]"
        np.testing.assert_array_equal(column[: len(values)], values)
        assert np.all(np.isnan(column[len(values) :]))
        np.testing.assert_array_equal(mat[str(mat["variables"][k])], values)
        np.testing.assert_array_equal(by_name[name], values)
        np.testing.assert_array_equal(flat[k], values)


def test_a_sampled_signal_holds_its_value_between_ticks(runs):
    """Against the run's own ticks, at every time that is written."""
    run = runs[0]
    (_, _, times), (_, _, written) = columns([run], ["speed_pi.out"])
    k = np.minimum(np.floor((times + 1e-12) / run.tick).astype(int), len(run.ticks) - 1)
    np.testing.assert_array_equal(written, run.ticks[k, run.tick_signals.index("speed_pi.out")])
    assert np.all(np.diff(times) >= 0) and times[-1] == pytest.approx(0.12)


def test_a_tick_is_found_by_its_time_however_late_it_is():
    """A week into a run, where times as they are typed, counted and summed differ by rounding."""
    first, tick = 6_048_000_000, 1e-4
    numbers = first + np.arange(50)
    held = Trace("a.b", "", "", numbers * tick, np.arange(50.0), True)
    typed = np.array([float(f"{n // 10000}.{n % 10000:04d}") for n in numbers.tolist()])
    summed = first * tick + np.concatenate([[0.0], np.cumsum(np.full(49, tick))])
    assert np.any(typed < held.t) and np.any(summed != held.t)
    for times in (held.t, typed, summed):
        np.testing.assert_array_equal(held.at(times), np.arange(50.0))
    np.testing.assert_array_equal(held.at(held.t + 0.3 * tick), np.arange(50.0))
    assert held.at(np.array([0.0, 1e12])).tolist() == [0.0, 49.0]
    line = Trace("a.b", "", "", np.array([0.0, 1.0, 1.0, 2.0]), np.array([0.0, 2.0, 5.0, 6.0]), False)
    assert line.at(np.array([0.5, 1.5, 2.5])).tolist() == [1.0, 5.5, 6.0]
    assert np.isnan(Trace("a.b", "", "", np.empty(0), np.empty(0), True).at(np.array([1.0]))).all()


def test_what_cannot_be_written_gets_a_sentence(runs, tmp_path):
    with pytest.raises(FileProblem, match="ending must be one of"):
        save_traces(runs, KEYS, tmp_path / "t.doc")
    for ending in (".csv", ".mat", ".h5", ".mf4"):
        with pytest.raises(FileProblem, match="cannot be saved|Choose another folder"):
            save_traces(runs, KEYS, tmp_path / "none" / f"t{ending}")


def test_values_on_the_terminal_are_those_of_the_file(runs, tmp_path):
    from pendel.core.formats.traces_as.csv_text import write_to

    stream = io.StringIO(newline="")
    write_to(columns(runs[:1], KEYS), stream)
    save_traces(runs[:1], KEYS, tmp_path / "t.csv")
    assert (tmp_path / "t.csv").read_bytes().decode() == stream.getvalue()


def test_a_unit_holds_for_the_file_it_was_asked_for_and_a_signal_that_is_none_is_refused(tmp_path):
    d = pendel.open(DEMO)
    d.set("until", "20 ms")
    run = d.run()
    run.save(tmp_path / "t.csv", ["door_motor.speed"], units={"door_motor.speed": "rpm"})
    written = pandas.read_csv(tmp_path / "t.csv")
    assert list(written.columns) == ["time [s]", "door_motor.speed [rpm]"]
    np.testing.assert_allclose(written.iloc[:, 1], run["door_motor.speed"].y * 30 / np.pi, rtol=1e-12)
    assert run["door_motor.speed"].unit == "rad/s"
    for wrong in ({"signals": ["door_motor.sped"]}, {"units": {"door_motor.sped": "rpm"}}):
        with pytest.raises(DriveProblem, match="door_motor.sped"):
            run.save(tmp_path / "none.csv", **wrong)
    with pytest.raises(DriveProblem, match="cannot be shown in V"):
        run.save(tmp_path / "none.csv", units={"door_motor.speed": "V"})
    assert not (tmp_path / "none.csv").exists() and run["door_motor.speed"].unit == "rad/s"


def test_tables_have_both_sides_of_a_jump(tmp_path):
    """Voltages of pulses jump: at such a time a trace has two values, and so have its neighbours in a table."""
    d = pendel.open(DEMO.parent / "haul_inverter.pendel")
    d.set("level", "switching")
    d.set("until", "1 ms")
    run = d.run()
    keys = [k for k in run if not run[k].sampled][:12]
    frame, jumps = run.to_pandas(keys), np.flatnonzero(np.diff(run[keys[0]].t) == 0)
    assert len(jumps) > 10
    assert max(np.max(np.abs(run[k].y[jumps + 1] - run[k].y[jumps])) for k in keys) > 100
    data = run.to_xarray(keys)
    for key in keys:
        np.testing.assert_array_equal(frame[key].to_numpy(), run[key].y)
        np.testing.assert_array_equal(data[key].to_numpy(), run[key].y)

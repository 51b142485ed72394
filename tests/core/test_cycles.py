"""Speeds over time of a trip, and tables as somebody brings them."""

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.drive import cycles
from pendel.core.drive.findings import Severity
from pendel.core.errors import DriveProblem, FileProblem
from pendel.core.formats.cells import cells_of, cells_of_file, gap_in, rows_of


def numbers(corners):
    return [float(t.split()[0]) for t, _ in corners], [float(v.split()[0]) / 3.6 for _, v in corners]


@pytest.mark.parametrize(
    ("name", "seconds", "metres", "top", "stands"),
    [("urban", 195, 1013, 50, 60), ("extra_urban", 400, 6955, 120, 40), ("combined", 1180, 11007, 120, 280)],
)
def test_parts_of_the_cycle_are_those_of_the_regulation(name, seconds, metres, top, stands):
    """Durations, distances, top speeds and idling as UN Regulation No. 83, annex 4a, states them (from memory). The
    distances of the operations themselves are 0.15 % above its theoretical ones."""
    t, v = numbers(cycles.cycle(name))
    whole = cycles.trip(t, v)
    assert whole.lasts == t[-1] == seconds
    assert whole.distance == pytest.approx(metres, rel=2e-3) and whole.top * 3.6 == pytest.approx(top)
    assert sum(b - a for a, b, x, y in zip(t, t[1:], v, v[1:]) if x == y == 0) == stands
    assert whole.steepest <= 1.39 and np.all(np.diff(t) > 0)


def test_corners_are_repeated_joined_and_turned_round_without_a_corner_too_many():
    once = [("0 s", "0"), ("4 s", "5"), ("6 s", "0")]
    twice = cycles.repeated_texts(once, 2)
    assert twice == [*once, ("10 s", "5"), ("12 s", "0")]
    steps = cycles.repeated_texts([("1 s", "0"), ("3 s", "7")], 2)
    assert steps == [("1 s", "0"), ("3 s", "7"), ("3 s", "0"), ("5 s", "7")]  # a jump stays one
    assert cycles.mirrored(once, [0, 4, 6]) == [("0 s", "0"), ("2 s", "5"), ("6 s", "0")]
    assert cycles.joined(once, [0, 4, 6], [("2 s", "0"), ("5 s", "1")], [2, 5]) == [*once, ("9 s", "1")]
    assert cycles.joined(once, [0, 4, 6], [("2 s", "3"), ("5 s", "1")], [2, 5])[3] == ("6 s", "3")
    assert cycles.joined([], [], once, [0, 4, 6]) == once
    for corners, count in ((once, 200_000), ([("1 s", "0")], 2), ([("T", "0"), ("2*T", "1")], 2)):
        with pytest.raises(DriveProblem):
            cycles.repeated_texts(corners, count)


@pytest.mark.parametrize(
    ("text", "names", "units", "rows"),
    [
        ("t;v\ns;km/h\n0;0\n1,5;20,5", ("t", "v"), ("s", "km/h"), (("0", "0"), ("1.5", "20.5"))),
        ("time (s),speed [km/h],gear\n0,0,1\n\n# a remark\n1,2.5,1", ("time (s)", "speed [km/h]", "gear"), None, None),
        ("0 0\n1 2", ("column 1", "column 2"), ("", ""), (("0", "0"), ("1", "2"))),
        ("0,5 3,2\n1 4,2", None, None, (("0.5", "3.2"), ("1", "4.2"))),
        ("0, 0\n1, 20", None, None, (("0", "0"), ("1", "20"))),
        ("0\t0 km/h\n1\t5*x", None, ("", ""), (("0", "0 km/h"), ("1", "5*x"))),
        ("1;2;3\n4;5", None, None, (("1", "2", "3"), ("4", "5", ""))),
        ("\ufefftime\n0\n1".lstrip("\ufeff"), ("time",), ("",), (("0",), ("1",))),
        ("s\tA\n0\t1\n1\t2", ("s", "A"), ("s", "A"), None),
    ],
)
def test_tables_are_read_as_spreadsheets_and_instruments_write_them(text, names, units, rows):
    cells = cells_of(text)
    assert names is None or cells.names == names
    assert units is None or cells.units == units
    assert rows is None or cells.rows == rows


@pytest.mark.parametrize("text", ["", "hello\nworld", '"a;b\n0;1', "x" * 200_000 + ";1\n" + "y" * 200_000 + ";2"])
def test_what_is_no_table_gets_a_sentence(text, tmp_path):
    with pytest.raises(FileProblem):
        cells_of(text)
    with pytest.raises(FileProblem, match="no file"):
        cells_of_file(tmp_path)


def test_empty_cells_and_missing_rows_are_named():
    cells = cells_of("# plan\nt;v\n0;0\n1;\n2;4")
    with pytest.raises(FileProblem, match="line 4 has nothing in the column “v”"):
        rows_of(cells, (0, 1), ("s", "km/h"))
    assert rows_of(cells, (0,), ("s",))[1] == ("1 s",)
    seconds = [float(t) for t in range(30) if t not in (12, 13)]
    assert "after 11 s" in gap_in(seconds) and "next is at 14 s" in gap_in(seconds)
    assert gap_in([0, 1, 5, 6, 20, 21, 40, 41, 60, 61, 90]) == "" and gap_in(list(map(float, range(30)))) == ""


def test_a_trip_takes_a_cycle_from_python_and_the_terminal(tmp_path, capsys):
    d = pendel.open_example("works_car")
    d.profile("plan", "urban", times=2)
    assert d.check() == [] and len(d.document.cards["plan"].profile) == 51
    run = d.run(390.0)
    assert run["works_car.place"].y[-1] == pytest.approx(2 * 1014.6, rel=0.01)
    file = tmp_path / "car.pendel"
    d.save(file)
    table = tmp_path / "plan.csv"
    table.write_text("place;time (s);speed (km/h)\n0;0;0\n1;2,5;20\n9;9;0\n", encoding="utf-8")
    order = [
        "profile",
        str(file),
        "plan",
        "--table",
        str(table),
        "--column",
        "time (s)",
        "--column",
        "speed (km/h)",
        "--times",
        "2",
    ]
    assert main(order) == 0
    profile = pendel.open(file).document.cards["plan"].profile
    assert profile == (
        ("0 s", "0 km/h"),
        ("2.5 s", "20 km/h"),
        ("9 s", "0 km/h"),
        ("11.5 s", "20 km/h"),
        ("18 s", "0 km/h"),
    )
    for more in (
        ["--cycle", "tour"],
        [],
        ["--cycle", "urban", "--times", "1.5"],
        ["--table", str(table), "--column", "a"],
    ):
        assert main(["profile", str(file), "plan", *more]) != 0
    assert main(["profile", str(file), "battery", "--cycle", "urban"]) != 0
    assert pendel.open(file).document.cards["plan"].profile == profile
    capsys.readouterr()


@pytest.mark.parametrize(
    ("corners", "says"),
    [
        ((("0 s", "0 km/h"), ("1 s", "200 km/h")), "55.6 m/s²"),
        ((("0 ms", "0 km/h"), ("400 ms", "20 km/h"), ("2 s", "0 km/h")), "corner 2"),
        ((("0 s", "0 km/h"), ("5 s", "20 km/h"), ("5 s", "0 km/h")), "at once"),
        ((("0 s", "0 m/s"), ("0.1 s", "2 m/s")), None),
    ],
)
def test_a_plan_that_no_vehicle_can_follow_is_a_finding(corners, says):
    d = pendel.open_example("works_car")
    d.profile("plan", corners)
    found = [f for f in d.check() if "vehicle on wheels" in f.sentence]
    assert bool(found) == (says is not None)
    assert says is None or (says in found[0].sentence and found[0].severity is Severity.ATTENTION)

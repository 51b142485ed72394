"""Series of runs: rows by arithmetic, their points and figures, and rows that are never lost."""

import math
import os
import signal
import sqlite3
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy import optimize, stats

import pendel
from pendel.core.catalogue.index import kind_of
from pendel.core.check import examine
from pendel.core.check.targets import target, targets
from pendel.core.drive import commands
from pendel.core.drive.file import from_text, load, to_text
from pendel.core.drive.plans import COMBINED, GRID, HYPERCUBE, PAIRED, RANDOM, ROW_BY_ROW, SOBOL, Plan, Varied
from pendel.core.errors import DriveProblem, FileProblem, PendelError, RunProblem
from pendel.core.processes.requests import SeriesRequest
from pendel.core.processes.worker import Beside
from pendel.core.runs.preparing.simulate import prepare, settings_of_run
from pendel.core.series.columns import read_column
from pendel.core.series.following import Following
from pendel.core.series.gathered import Gathered, comparisons, what_matters, wilson
from pendel.core.series.goals import LARGEST, SMALLEST, Goal, Search
from pendel.core.series.mattering import grouped, shares, slopes
from pendel.core.series.points import points_of, seed_of_row
from pendel.core.series.rows import DONE, FAILED, Row, Series, run_rows
from pendel.core.series.running import Going, ProcessEnded, in_process, in_threads, state_of
from pendel.core.series.store import APPLICATION, RowStore, being_run, store_path

EXAMPLES = Path(pendel.__file__).parent / "examples"


def example(name):
    return load(EXAMPLES / f"{name}.pendel")


# rows by arithmetic ------------------------------------------------------------------------------------------------


def all_numbers(prepared):
    kinds = {key: kind_of(card) for key, card in prepared.drive.cards.items()}
    inputs = prepared.inputs(settings_of_run(prepared, kinds, None))
    arrays = [a.tobytes() for a in (inputs.parameters, inputs.starts, inputs.modes, inputs.controls)]
    return prepared.program, arrays, inputs.profiles, inputs.pulses, inputs.tick, inputs.delay, inputs.settings


def answer_of(make):
    try:
        return all_numbers(make())
    except PendelError as problem:
        return str(problem)


@pytest.mark.parametrize("name", ["wayside_supply", "valley_feeder", "haul_drive_tables"])
def test_a_row_has_the_numbers_that_the_whole_drive_would_have(name):
    drive = example(name)
    base, by_arithmetic = prepare(drive), 0
    for each in targets(drive):
        if each.options or not each.text.strip():
            continue
        following = Following(base, [each.name])
        for text in (f"1.25*({each.text})", "0", f"-({each.text})"):
            row = answer_of(lambda: following.row([text]))  # noqa: B023
            assert row == answer_of(lambda: prepare(following.drive_of([text]))), (each.name, text)  # noqa: B023
            by_arithmetic += not following.as_a_whole and not isinstance(row, str)
    assert by_arithmetic > 50


def test_what_changes_the_equations_or_the_code_is_prepared_as_a_whole():
    base = prepare(example("wayside_supply"))
    levels = Following(base, ["level", "R_load"])
    found = {text: levels.row([text, "50 ohm"]).structure.source for text in ("averaged", "switching")}
    assert found["averaged"] == base.structure.source != found["switching"]
    assert Following(base, ["voltage_pi.every"]).as_a_whole and Following(base, ["tick"]).as_a_whole
    zero = Following(base, ["step_up.R_L"])  # without it, the choke has other equations
    assert zero.row(["0"]).program == prepare(zero.drive_of(["0"])).program


def test_rows_are_the_same_wherever_they_run_and_those_of_single_runs():
    plan = Plan(
        (
            Varied("K_u", "list", ("0.0008 1/V", "0.001 1/V")),
            Varied("voltage_sensor.noise_absolute", "list", ("0", "1 V")),
        ),
        measures=("rms(voltage_sensor.value)", "max(step_up.input_current) / 2", "lost(step_up)", "remarks()"),
    )
    drive = example("wayside_supply")
    drive.settings["until"] = "20 ms"
    alone = sorted(run_rows(Series(drive, plan), range(4), 1), key=lambda row: row.number)
    beside = Beside()
    try:
        request = SeriesRequest(to_text(drive), plan, tuple(range(4)), 2)
        elsewhere = sorted(beside.ask(request, 60), key=lambda row: row.number)
    finally:
        beside.close()
    assert [row.outcome for row in alone] == [DONE] * 4
    assert [(r.texts, r.figures, r.units, r.seed) for r in alone] == [
        (r.texts, r.figures, r.units, r.seed) for r in elsewhere
    ]
    d = pendel.Drive(document=Series(drive, plan).row_drive(3))
    run = d.run()
    whole = (0.0, run.kept.end)
    assert alone[3].figures[0] == run.measure("rms", "voltage_sensor.value", *whole) != alone[2].figures[0]
    assert alone[3].figures[1] == run["step_up.input_current"].drawn[1].max() / 2
    assert alone[3].figures[2] == sum(each.energy for each in run.losses(*whole) if each.what.startswith("Step-up"))
    assert alone[3].units == ("V", "A", "J", "")


def test_a_thousand_loads_through_the_boundary_of_discontinuous_conduction():
    """M = (1 + √(1 + 4 D² / K)) / 2 with K = 2 L / (R T) below K_crit = D (1 − D)², 1 / (1 − D) above (Erickson and
    Maksimović: Fundamentals of Power Electronics, 2nd ed., section 5.3)."""
    d = pendel.open_example("wayside_supply")
    ideal = {"C": "47 uF", "R_L": "0", "R_C": "0", "R_on": "1 uohm", "V_d": "0", "R_d": "1 uohm"}
    for name, text in {**{f"step_up.{k}": v for k, v in ideal.items()}, "battery.R_i": "0"}.items():
        d.set(name, text)
    share, period = 0.5, 1 / 50e3
    for name, text in (
        ("voltage_pi.loop", "open"),
        ("voltage_pi.open_output", str(share)),
        ("level", "switching"),
        ("until", "0.5 s"),
    ):
        d.set(name, text)
    rows = d.series(
        {"R_load": ("ratio", "60 ohm", "1000 ohm", 7)}, ["mean(equipment.voltage, end - 1 ms, end) / U_bat"]
    ).run()
    regions = set()
    for row in rows:
        load = float(row.values["R_load"].split()[0])
        k = 2 * 220e-6 / (load * period)
        discontinuous = k < share * (1 - share) ** 2
        ratio = (1 + math.sqrt(1 + 4 * share**2 / k)) / 2 if discontinuous else 1 / (1 - share)
        assert next(iter(row.figures.values())) == pytest.approx(ratio, rel=4e-3), load
        regions.add(discontinuous)
    assert regions == {True, False}


# points --------------------------------------------------------------------------------------------------------------


def drive_of_quantities(**texts):
    d = pendel.Drive("Quantities")
    for name, text in texts.items():
        d.define(name, text)
    return d.document


def shares_of(points):
    return np.array([[float(text.split()[0]) for text in row] for row in points.rows(0, points.count)])


def test_points_are_what_the_plan_says():
    drive = drive_of_quantities(a="1 V", b="2", c="3 mm")
    rows = points_of(drive, Plan((Varied("a", "even", ("0.1 V", "0.3 V", "3")), Varied("b", "list", ("5", "a*7/V")))))
    assert rows.rows(0, 9)[:3] == [("0.1 V", "5"), ("0.1 V", "a*7/V"), ("0.2 V", "5")]
    assert rows.rows(4, 6)[1] == ("0.3 V", "a*7/V")
    ratio = points_of(drive, Plan((Varied("a", "ratio", ("1 V", "100 V", "3")),)))
    assert [row[0] for row in ratio.rows(0, 3)] == ["1.0 V", "10.0 V", "100.0 V"]
    paired = (Varied("a", "corners", ("1 V", "2 V")), Varied("c", "list", ("4 mm", "5 mm")))
    assert points_of(drive, Plan(paired, ROW_BY_ROW)).rows(0, 2) == [("1.0 V", "4 mm"), ("2.0 V", "5 mm")]
    spread = (Varied("a", "uniform", ("0 V", "1 V")), Varied("c", "uniform", ("0 mm", "1 mm")))
    sobol = points_of(drive, Plan(spread, SOBOL, "64", "7"))
    assert np.array_equal(shares_of(sobol), stats.qmc.Sobol(2, rng=7).random(64))
    squares = shares_of(points_of(drive, Plan(spread, HYPERCUBE, "50", "3")))
    assert all(len(set((column * 50).astype(int))) == 50 for column in squares.T)  # one in each stratum
    assert stats.qmc.discrepancy(squares) < stats.qmc.discrepancy(
        shares_of(points_of(drive, Plan(spread, RANDOM, "50")))
    )
    normal = Plan((Varied("a", "normal", ("5 V", "2 V", "1.5")),), HYPERCUBE, "4000")
    drawn = shares_of(points_of(drive, normal))[:, 0]
    assert drawn.min() >= 2 and drawn.max() <= 8
    assert stats.kstest(drawn, stats.truncnorm(-1.5, 1.5, 5, 2).cdf).pvalue > 0.01
    seeds = {seed_of_row(seed, row) for seed in (1, 2) for row in range(5000)}
    assert len(seeds) == 10_000 and seed_of_row(1, 3) == seed_of_row(1, 3)


@pytest.mark.parametrize(
    ("varied", "combined", "count", "sentence"),
    [
        ((), GRID, "1", "Nothing varies yet"),
        ((Varied("nothing", "list", ("1",)),), GRID, "1", "Nothing in this drive is called nothing"),
        ((Varied("a", "list", ()),), GRID, "1", "a has no values yet"),
        ((Varied("a", "list", ("1 V", "2 +")),), GRID, "1", "a: “2 +”"),
        ((Varied("a", "even", ("1 V", "2 A", "3")),), GRID, "1", "“2 A” is not in V"),
        ((Varied("a", "even", ("1 V", "2", "3")),), GRID, "1", "“2” is not in V"),
        ((Varied("a", "even", ("1 V", "2 V", "1e9")),), GRID, "1", "cannot be the count of a"),
        (
            (Varied("a", "even", ("1 V", "2 V", "10000")), Varied("b", "even", ("1", "2", "10000"))),
            GRID,
            "1",
            "100000000 runs",
        ),
        ((Varied("a", "ratio", ("0 V", "2 V", "3")),), GRID, "1", "no equal ratios"),
        ((Varied("a", "uniform", ("0 V", "2 V")),), GRID, "1", "a is a spread"),
        ((Varied("a", "normal", ("1 V", "0 V")),), SOBOL, "8", "no spread"),
        ((Varied("a", "list", ("1 V",)), Varied("b", "list", ("1", "2"))), ROW_BY_ROW, "1", "as many values"),
        ((Varied("a", "list", ("1 V",)), Varied("a", "list", ("2 V",))), GRID, "1", "a varies twice"),
        ((Varied("a", "list", ("1 V",)),), SOBOL, "-1", "cannot be the number of runs"),
        ((Varied("level", "list", ("averaged", "coarse")),), GRID, "1", "Level cannot be “coarse”"),
        ((Varied("level", "even", ("averaged", "device", "2")),), GRID, "1", "Level is a word"),
    ],
)
def test_a_plan_that_is_none_says_why(varied, combined, count, sentence):
    drive = drive_of_quantities(a="1 V", b="2")
    with pytest.raises(DriveProblem, match="^.*" + sentence.replace("+", r"\+")):
        points_of(drive, Plan(varied, combined, count))


# plans in a drive --------------------------------------------------------------------------------------------------


def test_plans_are_part_of_the_drive_and_follow_its_names():
    d = pendel.open_example("wayside_supply")
    figures = ["max(step_up.input_current) / (U_bat/1 ohm)", "lost(step_up)"]
    d.plan("Loads", {"R_load": ["30 ohm", "2*R_load"], "step_up.L": ("even", "1 uH", "2 uH", 3)}, figures)
    plan = d.document.plans["Loads"]
    assert from_text(to_text(d.document)).plans["Loads"] == plan
    d.do(commands.rename_card(d.document, "step_up", "Raiser"))
    d.do(commands.rename_quantity(d.document, "R_load", "R_e"))
    d.do(commands.rename_quantity(d.document, "U_bat", "U_b"))
    moved = d.document.plans["Loads"]
    assert [v.target for v in moved.varied] == ["R_e", "raiser.L"] and moved.varied[0].texts == ("30 ohm", "2*R_e")
    assert moved.measures == ("max(raiser.input_current) / (U_b/1 ohm)", "lost(raiser)")
    for _ in range(3):
        d.undo()
    assert d.document.plans["Loads"] == plan
    d.do(commands.remove_cards(d.document, ["step_up"]))
    found = [f for f in examine(d.document).findings if f.field == "plan:Loads"]
    assert len(found) == 2 and not any(f.stops for f in found) and "step_up.L" in found[0].sentence
    assert "max(step_up.input_current) / (U_bat/1 ohm) is of a card step_up" in found[1].sentence
    with pytest.raises(DriveProblem, match="no way to vary"):
        d.do(commands.set_plan(d.document, "Bad", Plan((Varied("U_b", "backwards", ("1",)),))))


def test_names_of_what_can_vary_are_found_again():
    for name in ("car_door_drive", "haul_drive_rope", "old_haul_drive"):
        drive = example(name)
        for each in targets(drive):
            assert target(drive, each.name) == each
    with pytest.raises(DriveProblem, match="inverter.T_j takes no part while"):
        target(example("works_machine"), "inverter.T_j")


# figures -----------------------------------------------------------------------------------------------------------


def test_figures_are_taken_where_they_say():
    d = pendel.open_example("car_door_drive")
    until = d.run().kept.end
    speed = "mean(door_leaf.speed, 0.2 s, end)"
    plan = Plan(
        (Varied("m_leaf", "list", ("80 kg",)),),
        measures=(
            speed,
            f"{speed} * 2 + 1 m/s",
            "max(1, 2) * 3 V",
            "last(door_leaf.position) - first(door_leaf.position)",
            "settling(door_leaf.speed, travel_speed.out) / 1 ms",
            "mean(door_leaf.speed, setpoint_step, end)",
            "mean(door_leaf.speed, 5 s, 9 s)",
            "m_leaf * peak(door_leaf.speed)^2 / 2",
        ),
    )
    row = Series(d.document, plan).run(0)
    run = pendel.Drive(document=Series(d.document, plan).row_drive(0)).run()
    mean = run.measure("mean", "door_leaf.speed", 0.2, until)
    assert row.outcome == DONE and row.figures[:3] == (mean, 2 * mean + 1, 6.0)
    assert row.figures[3] == pytest.approx(run["door_leaf.position"].y[-1], rel=1e-12)
    assert row.figures[4] == pytest.approx(
        1e3 * run.measure("settling", "door_leaf.speed", 0, until, setpoint="travel_speed.out"), nan_ok=True
    )
    assert math.isnan(row.figures[5]) and "no setpoint_step in this run" in row.reason
    assert math.isnan(row.figures[6]) and "no span of the run" in row.reason
    assert row.figures[7] == pytest.approx(80 * np.abs(run["door_leaf.speed"].drawn[1]).max() ** 2 / 2, rel=1e-12)
    assert row.units[:2] == ("m/s", "m/s") and row.units[7] == "J"


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("", "empty"),
        ("largest(a.b)", "largest is no figure"),
        ("mean()", "takes a signal first"),
        ("mean(a.b, 1 s)", "between two times"),
        ("mean(a.b", "missing"),
        ("max(a.b) +", "value is missing"),
        ("__import__('os').system('true')", "no place here"),
    ],
)
def test_a_figure_that_cannot_be_read_says_where(text, sentence):
    with pytest.raises(PendelError, match=sentence):
        read_column(text)


PI = ("speed_pi", "current_pi")


def test_margins_as_figures_are_those_of_the_loops():
    d = pendel.open_example("car_door_drive")
    known = {loop.regulator: loop for loop in d.judge()}
    now = d.document.quantities["K_p"].text
    figures = [
        "phase_margin(speed_pi)",
        "crossover(current_pi)",
        "gain_margin(current_pi)",
        "max_sensitivity(speed_pi)",
    ]
    rows = d.series({"K_p": [now, "2000 A*s/m"]}, [*figures, "max(door_motor.current)"]).run()
    phase, crossover, gain, peak = (rows[0].figures[text] for text in figures)
    assert math.degrees(phase) == pytest.approx(known["speed_pi"].phase_margin, rel=1e-9)
    assert crossover == pytest.approx(known["current_pi"].crossover, rel=1e-9)
    assert 20 * math.log10(gain) == pytest.approx(known["current_pi"].gain_margin, rel=1e-9)
    assert peak == pytest.approx(known["speed_pi"].ms, rel=1e-9)
    unsteady = rows[1].figures
    assert math.isnan(unsteady[figures[0]]) and "speed_pi is not stable" in rows[1].reason
    assert unsteady[figures[2]] == gain and unsteady["max(door_motor.current)"] > 0
    for wrong, words in (("gain_margin(gear)", "no loop of gear"), ("crossover(a, b)", "regulator alone")):
        with pytest.raises(PendelError, match=words):
            d.series({"K_p": [now]}, [wrong]).run()


def test_a_figure_of_a_signal_that_is_not_there_is_said_before_anything_runs():
    plan = Plan((Varied("R_load", "list", ("30 ohm",)),), measures=("max(step_up.inptu_current)",))
    with pytest.raises(DriveProblem, match="no signal step_up.inptu_current. Is it step_up.input_current"):
        Series(example("wayside_supply"), plan)


def test_a_text_alone_is_one_value_or_one_figure_and_what_is_no_list_is_refused():
    d = pendel.open_example("car_door_drive")
    d.set("until", "5 ms")
    (row,) = d.series({"K_p": "20"}, "max(door_motor.current)").run()
    assert row.values == {"K_p": "20"} and list(row.figures) == ["max(door_motor.current)"]
    for what, figures in (({"K_p": None}, ()), (None, ()), ({"K_p": [1]}, {"p": "max(x)"}), ({"K_p": [1]}, [3])):
        with pytest.raises(DriveProblem, match="Write"):
            d.series(what, figures)


def test_a_row_that_cannot_run_costs_that_row():
    plan = Plan(
        (Varied("R_load", "list", ("45 ohm", "-1 ohm", "45 V", "1e-9 ohm")),), measures=("mean(equipment.voltage)",)
    )
    rows = sorted(run_rows(Series(example("wayside_supply"), plan), range(4), 2), key=lambda row: row.number)
    assert [row.outcome for row in rows[:3]] == [DONE, FAILED, FAILED]
    assert "must be at least 0" in rows[1].reason and "but Ω is needed" in rows[2].reason
    assert math.isnan(rows[1].figures[0]) and rows[0].figures[0] > 100


# all rows ----------------------------------------------------------------------------------------------------------


def gathered_of(function, count, plan):
    """Rows of a plan over quantities x1, x2 … whose one figure is a function of them."""
    drive = drive_of_quantities(**{v.target: "1" for v in plan.varied})
    gathered = Gathered(drive, plan)
    for number, texts in enumerate(gathered.points.rows(0, count)):
        gathered.add([Row(number, texts, DONE, "", 1, 0.0, (function(*map(float, texts)),), ("",))])
    return gathered


def test_what_matters_is_what_is_known_to():
    """First-order indices of the Ishigami function (a = 7, b = 0.1: 0.314, 0.442, 0) and of the g-function (a = 0, 1,
    4.5, 9: 0.716, 0.179, 0.024, 0.007), as in Saltelli and others: Global Sensitivity Analysis (2008), chapter 4."""
    turn = tuple(Varied(f"x{k}", "uniform", (str(-math.pi), str(math.pi))) for k in (1, 2, 3))

    def ishigami(x, y, z):
        return math.sin(x) + 7 * math.sin(y) ** 2 + 0.1 * z**4 * math.sin(x)

    shares = {s.name: s for s in what_matters(gathered_of(ishigami, 4096, Plan(turn, SOBOL, "4096", "1", ("x",))), 3)}
    for name, true in (("x1", 0.3139), ("x2", 0.4424), ("x3", 0.0)):
        assert shares[name].share == pytest.approx(true, abs=0.03)
        assert shares[name].low - 0.02 <= true <= shares[name].high + 0.02
    unit = tuple(Varied(f"x{k}", "uniform", ("0", "1")) for k in (1, 2, 3, 4))

    def g(*x):
        return math.prod((abs(4 * each - 2) + a) / (1 + a) for each, a in zip(x, (0, 1, 4.5, 9)))

    shares = {s.name: s.share for s in what_matters(gathered_of(g, 4096, Plan(unit, SOBOL, "4096", "1", ("x",))), 4)}
    known = {"x1": 0.716, "x2": 0.179, "x3": 0.0237, "x4": 0.0072}
    assert all(shares[name] == pytest.approx(true, abs=0.03) for name, true in known.items())


def test_total_indices_are_those_of_analysis_and_of_salib():
    """Of the Ishigami function first order 0.3139, 0.4424, 0 and total 0.5576, 0.4424, 0.2437 (Saltelli and others:
    Global Sensitivity Analysis, 2008, chapter 4); of the same rows SALib's, which has the same formulas."""
    salib = pytest.importorskip("SALib.analyze.sobol")

    def ishigami(x, y, z):
        return math.sin(x) + 7 * math.sin(y) ** 2 + 0.1 * z**4 * math.sin(x)

    turn = tuple(Varied(f"x{k}", "uniform", (str(-math.pi), str(math.pi))) for k in (1, 2, 3))
    gathered = gathered_of(ishigami, 5 * 1024, Plan(turn, PAIRED, "6000", "1", ("x",)))
    assert gathered.points.count == 5 * 1024, "whole groups, a power of two of them"
    known = {"x1": (0.3139, 0.5576), "x2": (0.4424, 0.4424), "x3": (0.0, 0.2437)}
    found = {share.name: share for share in shares(gathered, 3)}
    problem = {"num_vars": 3, "names": list(known), "bounds": [[-math.pi, math.pi]] * 3}
    theirs = salib.analyze(problem, gathered.cells[:, 3], calc_second_order=False, seed=1)
    for k, (name, (first, total)) in enumerate(known.items()):
        share = found[name]
        assert share.share == pytest.approx(first, abs=0.02) and share.total == pytest.approx(total, abs=0.02)
        assert share.total_low - 0.01 <= total <= share.total_high + 0.01
        assert share.total == pytest.approx(theirs["ST"][k], rel=1e-6)
        assert share.share == pytest.approx(max(0.0, theirs["S1"][k]), abs=2e-3)
    assert gathered.points.rows(7, 9) == gathered.points.rows(0, 5120)[7:9]
    # A group with a row that failed is left out; few groups say nothing of totals.
    few = gathered_of(ishigami, 5 * 16, Plan(turn, PAIRED, "80", "1", ("x",)))
    few._failed[7] = True
    assert len(grouped(few, 3)) == 15
    little = gathered_of(ishigami, 5 * 4, Plan(turn, PAIRED, "20", "1", ("x",)))
    assert all(math.isnan(share.total) for share in shares(little, 3))
    still = gathered_of(lambda *x: 3.0, 5 * 16, Plan(turn, PAIRED, "80", "1", ("x",)))
    assert shares(still, 3) == [] and slopes(still, 3) == []


def test_python_tells_what_matters_in_a_series():
    d = pendel.open_example("car_door_drive")
    d.set("until", "0.3 s")
    what = {"m_leaf": ("uniform", "40 kg", "80 kg"), "K_p": ("uniform", "30 A*s/m", "31 A*s/m")}
    series = d.series(what, ["max(door_motor.current)"], combined=PAIRED, count=64)
    told = series.what_matters("max")
    assert told.figure == "max(door_motor.current)" and len(series.run()) == 64
    assert [share.name for share in told.shares] == ["m_leaf", "K_p"] and told.shares[0].total > 0.8
    assert told.slopes[0].name == "m_leaf" and told.slopes[0].slope > 10 * told.slopes[0].error > 0
    with pytest.raises(DriveProblem, match="K_p varies itself"):
        series.what_matters("K_p")


def test_slopes_are_those_of_least_squares():
    """Coefficients and standard errors as of `scipy.stats.linregress` for one thing, exact for a plane."""
    unit = tuple(Varied(f"x{k}", "uniform", ("0", "2")) for k in (1, 2))
    plane = gathered_of(lambda x, y: 4 + 3 * x - 0.5 * y, 64, Plan(unit, SOBOL, "64", "1", ("x",)))
    found = slopes(plane, 2)
    assert [(each.name, round(each.slope, 9)) for each in found] == [("x1", 3.0), ("x2", -0.5)]
    assert all(each.error < 1e-9 for each in found) and found[0].part == pytest.approx(0.9864, abs=0.01)
    bent = gathered_of(lambda x: x**3 + 1, 50, Plan(unit[:1], HYPERCUBE, "50", "1", ("x",)))
    line = stats.linregress(bent.cells[:, 0], bent.cells[:, 1])
    (one,) = slopes(bent, 1)
    assert (one.slope, one.error) == pytest.approx((line.slope, line.stderr), rel=1e-9)
    assert slopes(gathered_of(lambda x: x, 2, Plan(unit[:1], SOBOL, "2", "1", ("x",))), 1) == []


def test_rows_are_filtered_sorted_and_counted():
    plan = Plan((Varied("x1", "list", ("3", "1", "2", "1")),), measures=("max(a.speed)",))
    gathered = gathered_of(lambda x: math.nan if x == 2 else 10 * x, 4, plan)
    everything = gathered.matching("")
    assert gathered.order(0, falling=False, kept=everything).tolist() == [1, 3, 2, 0]
    assert gathered.order(1, falling=True, kept=everything).tolist() == [0, 1, 3, 2]  # what is no number comes last
    assert gathered.matching("x1 < 3 and max >= 10").tolist() == [False, True, False, True]
    again = Row(2, ("2",), DONE, "", 1, 0.0, (7.0,), ("",))
    gathered.add([again])
    assert gathered.count == 4 and gathered.cells[2].tolist() == [2.0, 7.0], "a row that comes again is replaced"
    assert gathered.narrowed("max >= 10 and x1 < 3", {0: (1.5, 2.25)}) == "max >= 10 and x1 >= 1.5 and x1 <= 2.25"
    assert gathered.narrowed("x1 < 3", {0: (-math.inf, math.inf)}) == ""
    assert comparisons("mean(a, 0 s, 1 s) < 3 and b > 2, c = 1") == ["mean(a, 0 s, 1 s) < 3", "b > 2", "c = 1"]
    for wrong in ("x1", "x1 < ", "nothing > 3", "x1 < 3 V"):
        with pytest.raises(PendelError):
            gathered.matching(wrong)
    for inside, count in ((0, 10), (3, 20), (50, 50), (412, 600)):
        assert wilson(inside, count) == pytest.approx(
            tuple(stats.binomtest(inside, count).proportion_ci(method="wilson")), abs=1e-6
        )


# goals ---------------------------------------------------------------------------------------------------------------


def searched(goal, function, ranges, figures=("max(a.speed)",)):
    """A search over figures that are functions of what varies."""
    varied = tuple(Varied(name, "uniform", ends) for name, ends in ranges.items())
    search = Search(drive_of_quantities(**dict.fromkeys(ranges, "1")), Plan(varied, measures=figures), goal)

    def run(numbers, texts):
        return [
            Row(n, tuple(each), DONE, "", 1, 0.0, tuple(function(*map(float, each))), ("",) * len(figures))
            for n, each in zip(numbers, texts)
        ]

    return search, search.find(run)


def test_a_goal_is_found_within_limits_as_scipy_finds_it():
    """The least of a quadratic on a circle's outside and in a bent valley (Rosenbrock, The Computer Journal 3 (1960)
    175), against SciPy's own constrained minimisers."""
    ranges, figures = {"x": ("-2", "2"), "y": ("-1", "3")}, ("max(a.speed)", "min(a.speed)")

    def bent(x, y):
        return (1 - x) ** 2 + 100 * (y - x * x) ** 2, x * x + y * y

    search, found = searched(Goal(SMALLEST, "max", "", budget=1500), bent, ranges, figures)
    assert found.best.figures[0] < 1e-4 and len(search.rows) <= 1500
    search, found = searched(Goal(SMALLEST, "max", "min <= 1", budget=1500), bent, ranges, figures)
    outside = {"type": "ineq", "fun": lambda p: 1 - p @ p}
    true = optimize.minimize(lambda p: bent(*p)[0], (0.5, 0.5), constraints=outside, method="SLSQP").fun
    assert found.keeps_limits and found.best.figures[0] == pytest.approx(true, abs=5e-3)
    assert "min <= 1 binds." in found.words and "not proven" in found.words
    search, found = searched(Goal(LARGEST, "min", "", budget=200), bent, ranges, figures)
    assert found.best.figures[1] == pytest.approx(13, rel=1e-3) and "x, y stands at an end" in found.words
    search, found = searched(Goal(SMALLEST, "max", "min < -1", budget=60), bent, ranges, figures)
    assert not found.keeps_limits and "No trial keeps all limits" in found.words


def test_the_load_of_a_conversion_ratio_in_discontinuous_conduction_is_bracketed():
    """M = 2.2 at K = 4 D² / ((2 M − 1)² − 1) (Erickson and Maksimović, as above)."""
    d = pendel.open_example("wayside_supply")
    values = {"C": "47 uF", "R_L": "0", "R_C": "0", "R_on": "1 uohm", "V_d": "0", "R_d": "1 uohm"}
    for name, text in {**{f"step_up.{k}": v for k, v in values.items()}, "battery.R_i": "0", "until": "0.5 s"}.items():
        d.set(name, text)
    d.set("voltage_pi.loop", "open")
    d.set("voltage_pi.open_output", "0.5")
    found = d.search(
        {"R_load": ("uniform", "100 ohm", "600 ohm")},
        ["mean(equipment.voltage, end - 1 ms, end) / U_bat"],
        equal="mean=2.2",
        trials=40,
    )
    assert float(found.values["R_load"].split()[0]) == pytest.approx(2 * 220e-6 * 50e3 * (3.4**2 - 1), rel=5e-3)
    assert len(found.table.rows) < 25 and found.keeps_limits
    for wrong in ({}, {"smallest": "mean", "largest": "mean"}, {"smallest": "R_load"}, {"equal": "mean"}):
        with pytest.raises(PendelError):
            d.search({"R_load": ["100 ohm", "200 ohm"]}, ["mean(equipment.voltage)"], **wrong)
    with pytest.raises(DriveProblem, match="one value only"):
        d.search({"R_load": ["100 ohm"]}, ["mean(equipment.voltage)"], smallest="mean")


# rows are never lost -----------------------------------------------------------------------------------------------


def going_of(folder, count):
    drive = example("wayside_supply")
    drive.settings["until"] = "20 ms"
    plan = Plan((Varied("R_load", "even", ("30 ohm", "90 ohm", str(count))),), measures=("mean(equipment.voltage)",))
    return Going(folder, "Loads", drive, plan)


def of_the_first(most):
    """A runner that does no more than so many of the rows, however slow the machine is at asking it to stop."""
    runs = in_threads(2)
    return lambda drive, plan, numbers, stopping: runs(drive, plan, numbers[:most], stopping)


def rows_in(going):
    store = going.store()
    try:
        return {row.number: row for row in store.rows(store.numbers().tolist())}
    finally:
        store.close()


def test_a_series_goes_on_where_it_was_left(tmp_path):
    going = going_of(tmp_path, 60)
    rows = going.rows(of_the_first(30))
    first = [next(rows), next(rows)]
    rows.close()  # nobody wants more
    kept = rows_in(going)
    assert {row.number for row in first} <= set(kept) and 2 <= len(kept) < 60
    going.drive.settings["until"] = "10 ms"  # it keeps the drive that it was begun with
    store = going.store()
    assert state_of(store, going.drive, going.plan).differs == "the drive was changed since"
    store.close()
    rest = list(going.rows(in_threads(2)))
    assert {row.number for row in rest} == set(range(60)) - set(kept)
    whole = rows_in(going)
    assert all(whole[n] == row for n, row in kept.items())
    assert list(going.rows(in_threads(2))) == []
    with being_run(store_path(tmp_path, "Loads")), pytest.raises(FileProblem, match="another window or program"):
        next(going.rows(in_threads(1)))
    again = list(going.rows(in_threads(2), anew=True))
    assert len(again) == 60 and again[0].figures != whole[again[0].number].figures


def test_figures_that_are_added_later_come_from_the_same_rows_once_more(tmp_path):
    going = going_of(tmp_path, 40)
    list(going.rows(in_threads(2)))
    before = rows_in(going)
    old = going.plan.measures
    more = Going(tmp_path, "Loads", going.drive, replace(going.plan, measures=("max(equipment.voltage)", *old)))

    def state(of):
        store = of.store()
        try:
            return state_of(store, of.drive, of.plan)
        finally:
            store.close()

    assert state(more).fresh == ("max(equipment.voltage)",) and (state(more).done, state(going).done) == (0, 40)
    nowhere = Going(tmp_path, "Loads", going.drive, replace(going.plan, measures=(*old, "max(equipment.nothing)")))
    with pytest.raises(DriveProblem, match="no signal"):
        list(nowhere.rows(in_threads(1)))
    assert rows_in(going) == before, "what cannot be reported changes nothing"
    rows = more.rows(of_the_first(20))
    next(rows)
    rows.close()
    part = state(more).done
    assert 1 <= part < 40 and not state(more).fresh and len(rows_in(more)) == 40
    assert len(list(more.rows(in_threads(2)))) == 40 - part, "a row is done once"
    after = rows_in(more)
    assert all(after[n].figures[1:] == row.figures and after[n].seed == row.seed for n, row in before.items())
    assert all(row.figures[0] >= row.figures[1] and row.units == ("V", "V") for row in after.values())
    assert list(going.rows(in_threads(1))) == [], "one that is left out again costs nothing"
    assert [row.figures for row in rows_in(going).values()] == [row.figures for row in before.values()]


def test_a_plan_that_cannot_run_leaves_the_rows_that_are_there(tmp_path):
    going = going_of(tmp_path, 2)
    assert len(list(going.rows(in_threads(1)))) == 2
    going.drive.quantities.pop("R_load")
    with pytest.raises(PendelError):
        list(going.rows(in_threads(1), anew=True))
    assert len(rows_in(going)) == 2


KILLED = """
import sys
from pathlib import Path
from tests.core.test_series import going_of
from pendel.core.series.running import in_threads
for row in going_of(Path(sys.argv[1]), 400).rows(in_threads(2)):
    print(row.number, flush=True)
"""


def test_rows_outlive_a_process_that_is_killed(tmp_path):
    told = set()
    for _ in range(3):
        process = subprocess.Popen(
            [sys.executable, "-c", KILLED, str(tmp_path)],
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONPATH": str(Path(__file__).parents[2])},
        )
        begun, before = time.monotonic(), len(told)
        for line in process.stdout:
            assert int(line) not in told  # done twice
            told.add(int(line))
            if len(told) > before + 5 or time.monotonic() - begun > 60:
                break
        process.send_signal(signal.SIGKILL)
        process.wait()
        process.stdout.close()
        assert told <= set(rows_in(going_of(tmp_path, 400)))
    assert len(told) > 10


@pytest.mark.parametrize(("varied", "figures"), [(1, 1), (4, 10), (8, 0)])
def test_what_a_store_will_take_is_near_what_it_takes(varied, figures, tmp_path):
    plan = Plan(tuple(Varied(f"v{k}", "even", ("1 V", "2 V", "3")) for k in range(varied)), measures=("x",) * figures)
    text, count = "{}" * 4000, 3000
    store = RowStore(tmp_path / "rows.sqlite")
    store.begin(text, plan, count, "2027-01-01T00:00:00")
    numbers = np.random.default_rng(1).normal(size=(count, figures))
    for begin in range(0, count, 100):
        store.add(
            [
                Row(
                    n,
                    tuple(f"{1 + n / count:.8f} V" for _ in range(varied)),
                    "",
                    "",
                    n * 7919,
                    0.0123,
                    tuple(numbers[n]),
                )
                for n in range(begin, begin + 100)
            ]
        )
    store.close()
    taken = sum(path.stat().st_size for path in tmp_path.iterdir())
    assert 0.6 < RowStore.expected_bytes(plan, count, text) / taken < 1.6


def test_a_store_that_is_none_of_ours_is_refused(tmp_path):
    path = store_path(tmp_path, "Loads")
    path.write_bytes(b"no database at all, but longer than a head of one would be " * 40)
    with pytest.raises(FileProblem, match="start the series anew"):
        RowStore(path)
    path.unlink()
    other = sqlite3.connect(path)
    other.execute("CREATE TABLE other (x)")
    other.commit()
    with pytest.raises(FileProblem, match="holds no rows of a series"):
        RowStore(path)
    other.execute(f"PRAGMA application_id={APPLICATION}")
    other.execute("PRAGMA user_version=99")
    other.close()
    with pytest.raises(FileProblem, match="newer Pendel"):
        RowStore(path)
    assert store_path(tmp_path, "A b").name != store_path(tmp_path, "a B").name
    assert store_path(tmp_path, "../../x").parent == tmp_path


def test_a_full_disk_is_said_and_loses_no_row_that_was_kept(tmp_path):
    going = going_of(tmp_path, 4)
    list(going.rows(in_threads(1)))
    store = going.store()
    store._open.execute(f"PRAGMA max_page_count={store._pragma('page_count')}")
    row = rows_in(going)[0]
    long = [Row(n, (row.texts[0] + " " * 4000,), DONE, "", 1, 0.0, row.figures, row.units) for n in range(10, 40)]
    with pytest.raises(FileProblem, match="Make room on the disk"):
        store.add(long)
    store.close()
    assert sorted(rows_in(going)) == [0, 1, 2, 3]


def test_a_row_that_ends_its_process_costs_that_row(tmp_path):
    asked = []

    def ask(text, plan, numbers, threads):
        asked.append(tuple(numbers))
        if 5 in numbers:
            raise ProcessEnded("The run's process ended unexpectedly (code -11).")
        return [Row(n, ("30 ohm",), DONE, "", 1, 0.0, (1.0,), ("V",)) for n in numbers]

    going = going_of(tmp_path, 8)
    rows = {row.number: row for row in going.rows(in_process(ask, 2))}
    assert sorted(rows) == list(range(8)) and [n for n, row in rows.items() if row.outcome == FAILED] == [5]
    assert "code -11" in rows[5].reason and asked.count((5,)) == 1


def test_own_c_of_a_file_or_a_store_does_not_run_unasked(tmp_path):
    drive = from_text(
        to_text(example("wayside_supply")).replace(
            '"kind": "pi"', '"kind": "own_c", "own": {"equations": ["for(;;);"]}', 1
        )
    )
    with pytest.raises((DriveProblem, RunProblem)):
        Series(drive, Plan((Varied("R_load", "list", ("30 ohm",)),)))
    going = going_of(tmp_path, 4)
    rows = going.rows(in_threads(1))
    next(rows)
    rows.close()
    with sqlite3.connect(store_path(tmp_path, "Loads")) as store:
        store.execute("UPDATE series SET drive = ?", (to_text(drive),))
    store.close()
    asked = []
    with pytest.raises(PendelError):
        list(going.rows(lambda *what: asked.append(what) or []))
    assert not asked


def test_the_terminal_runs_a_planned_series_and_writes_its_rows(tmp_path):
    import pandas

    path = tmp_path / "supply.pendel"
    d = pendel.open_example("wayside_supply")
    d.set("until", "20 ms")
    d.plan("Loads", {"R_load": ["30 ohm", "-3 ohm", "60 ohm"]}, ["mean(equipment.voltage)", "lost(step_up)"])
    path.write_text(to_text(d.document))
    call = [sys.executable, "-m", "pendel.cli.apart", "series", str(path)]

    def called(*more):
        return subprocess.run([*call, *more], capture_output=True, text=True, check=False)

    assert "Loads\tnot begun" in called().stdout
    ran = called("Loads", "--out", str(tmp_path / "rows.csv"))
    assert ran.returncode == 1, ran.stderr  # a row failed
    frame = pandas.read_csv(tmp_path / "rows.csv")
    assert list(frame["outcome"]) == ["done", "failed", "done"] and frame["R_load"][1] == "-3 ohm"
    assert frame["mean(equipment.voltage) [V]"][2] > frame["mean(equipment.voltage) [V]"][0]
    assert "3 of 3 rows" in called().stdout
    changed = called("Loads", "--set", "U_out=120 V")
    assert changed.returncode == 2 and "the drive was changed since" in changed.stderr
    assert called("Loads", "--anew", "--set", "U_out=120 V").returncode == 1
    assert called("Nothing").returncode == 2
    assert COMBINED[0] == GRID

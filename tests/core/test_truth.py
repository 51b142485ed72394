"""A fixed part of the campaign that `./run truth` goes through at length."""

import os
import subprocess
import sys

import numpy as np
import pytest

from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.plant import rows
from pendel.core.plant.compiler import compiler
from pendel.core.plant.rows import evaluate_signals, refined_rows
from tests.campaigns.truth import beyond, bits, blocks, figures, metamorphic, methods
from tests.campaigns.truth.drives import FAMILIES, case
from tests.campaigns.truth.report import Tallies, Tally, table

SEED = 2


@pytest.mark.parametrize("family", FAMILIES)
def test_random_drives_agree_by_every_method_and_figures_with_their_definitions(family):
    tallies, each = Tallies(), case(family, SEED)
    methods.compare(each, tallies)
    methods.again(each, tallies["threads"])
    figures.figures(each, tallies["figures"])
    assert not any(t.failed for t in tallies.values()), table(tallies.values())
    assert tallies["auto at 1e-6"].count == 1


def test_another_process_gives_the_same_rows():
    tally = Tally("process")
    methods.in_another_process(case("inverter", SEED), tally)
    assert tally.count == 1 and not tally.failed, table([tally])


def test_twins_agree():
    tallies = Tallies()
    metamorphic.twins(SEED, tallies)
    assert len(tallies) == 10
    assert all(t.count >= 1 and not t.failed for t in tallies.values()), table(tallies.values())


def test_scipy_with_its_own_events_agrees():
    tally = Tally("SciPy")
    methods.second_opinion(case("rectifier", 4), tally)
    assert tally.count == 1 and not tally.failed, table([tally])


@pytest.mark.parametrize(
    "kind",
    [
        "step",
        "ramp",
        "sine",
        "profile",
        "travel_plan",
        "pi",
        "moving",
        "integrator",
    ],
)
def test_a_block_in_32_bit_float_is_right_after_ten_hours(kind):
    """Ten hours in ticks of 2 ms: 18 million, more than a count in 32-bit float holds."""
    tally = Tally(kind)
    blocks.over_time(kind, SEED, blocks.HOURS, tally, tick=2e-3)
    assert tally.count and not tally.failed, table([tally])


@pytest.mark.parametrize("kind", ["pid", "pt2", "ramp", "park"])
def test_a_block_of_random_values_is_right_in_fixed_point(kind):
    tally = Tally(kind)
    for seed in (SEED, SEED + 1):
        blocks.in_words(kind, seed, tally)
    assert tally.count and not tally.failed, table([tally])


def test_random_controllers_in_fixed_point_hold_beyond_the_run_of_their_ranges():
    """The kinds whose blocks declare bounds, and chains; a bound that does not hold cuts something off."""
    tally = Tally("beyond")
    for kind in ("moving", "slew_limiter", "period_mean", "pll_3", "dq_current_regulator", "travel_plan"):
        beyond.beyond(SEED, tally, kind)
    for seed in range(8):
        beyond.beyond(seed, tally)
    assert tally.count > 20 and not tally.failed, table([tally])


def test_a_moving_rms_in_words_keeps_nothing_of_what_has_left_its_window():
    """The sum held each square to its last digit, the line of what is taken off again to 16 bits; the difference
    stayed."""
    tally = Tally("moving")
    blocks.in_words("moving", 47002, tally, ticks=40_000)
    assert tally.count and not tally.failed, table([tally])


@pytest.mark.parametrize(("family", "seed"), [("inverter", 906), ("dc_converter", 719)])
def test_voltages_that_settle_on_leaks_within_nanoseconds_have_their_means(family, seed):
    """All devices of a leg block at no current; then its voltage is another one within a part of a step."""
    tally = Tally(family)
    figures.figures(case(family, seed), tally)
    assert tally.count and tally.worst < 0.5, table([tally])


def test_settling_voltages_are_drawn_late_in_a_run_too():
    """An hour and months on, what settles is over between two times that floating point can tell apart."""
    run = methods.run_with(case("dc_converter", 719))
    wanted = evaluate_signals(run.structure, run.expanded, run.parameters, ["converter.transistor_voltage"])
    for later in (3600.0, 1e7):
        rows = run.rows.copy()
        rows[:, 0] += later
        drawn = refined_rows(run.structure, rows, run.parameters).rows
        voltage = evaluate_signals(run.structure, drawn, run.parameters, ["converter.transistor_voltage"])
        assert np.all(np.isfinite(drawn)) and np.all(np.diff(drawn[:, 0]) >= 0)
        assert np.ptp(voltage) == pytest.approx(np.ptp(wanted), rel=1e-6)
        mean = np.trapezoid(voltage[:, 0], drawn[:, 0]) / run.end
        assert mean == pytest.approx(np.trapezoid(wanted[:, 0], run.times) / run.end, rel=1e-3)


@pytest.mark.parametrize(("family", "seed"), [("inverter", 906), ("dc_converter", 719)])
def test_rows_are_the_same_in_threads_as_in_one_go(family, seed, monkeypatch):
    """Refined and evaluated; and as they are where they would take more memory than they may, to the last row."""
    run = methods.run_with(case(family, seed))
    keys = list(run.structure.signals)

    def seen(threads, most):
        for least in ("ROWS_A_THREAD", "STEPS_A_THREAD"):
            monkeypatch.setattr(rows, least, len(run.rows) // threads)
        monkeypatch.setattr(rows, "usable_cores", lambda: threads)
        monkeypatch.setattr(rows, "MOST_SHOWN_LOG2", most)
        drawn = refined_rows(run.structure, run.rows, run.parameters)
        return drawn.rows, drawn.half_way, evaluate_signals(run.structure, drawn.rows, run.parameters, keys)

    whole = seen(1, 29)
    assert len(whole[0]) == len(whole[1]) + 1 > 1.1 * len(run.rows) > 600
    too_little = int(np.log2(whole[0].nbytes))
    for most, wanted in ((29, whole), (too_little + 1, whole), (too_little, seen(1, 10))):
        for one, other in zip(seen(1, most) + seen(3, most), wanted + wanted):
            np.testing.assert_array_equal(one, other)
    assert len(wanted[0]) == len(run.rows)


def test_a_wrong_figure_would_be_found(monkeypatch):
    """The campaign sees an error of a few hundred millionths."""
    monkeypatch.setattr(
        methods,
        "states_at",
        lambda run, times, real=methods.states_at: real(run, times) * (1 + 1e-4 * (run.settings["tolerance"] > 1e-9)),
    )
    tallies = Tallies()
    methods.compare(case("ladder", SEED), tallies)
    assert tallies["auto at 1e-6"].failed


ORDERED = """
import hashlib, sys
from pathlib import Path
from pendel.core.drive.file import load
from pendel.core.runs.preparing.simulate import prepare
d = load(Path(sys.argv[1]))
d.settings["level"] = "switching"
print(hashlib.sha256(prepare(d).model.structure.source.encode()).hexdigest())
"""


def test_equations_are_ordered_alike_in_every_process(example_path):
    """Whatever the order of Python's sets: else another process builds anew, and its last digits differ."""
    found = set()
    for seed in ("1", "2"):
        path = example_path.with_name("service_trolley.pendel")
        done = subprocess.run(
            [sys.executable, "-c", ORDERED, str(path)],
            env={**os.environ, "PYTHONHASHSEED": seed},
            capture_output=True,
            text=True,
            check=True,
        )
        found.add(done.stdout)
    assert len(found) == 1


def test_every_build_and_processor_gives_the_same_bits_in_every_format():
    """Values as constants and live; other inputs give another hash."""
    tally = Tally("bits")
    bits.of_block("pid", SEED, tally, ticks=20_000, emulated=0)
    assert tally.count == 8 and not tally.failed, table([tally])
    made = lower(blocks.deck_of("pid", SEED, 1e-3), Choices(NumberFormat.FLOAT32))
    shape = np.array([(0.0, 1.0)] * len(made.inputs))
    hashes = {bits.on_host(made, shape * (1.0 + x), compiler(), "-O1", 1000) for x in (0.0, 0.0, 1e-6)}
    assert len(hashes) == 2

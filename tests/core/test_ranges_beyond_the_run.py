"""What is shipped in fixed point holds beyond the run in which its ranges were found, or it is said."""

import math
from dataclasses import replace

import numpy as np
import pytest

import pendel
from pendel.core.catalogue.declare import Link
from pendel.core.catalogue.index import kinds
from pendel.core.controllers.numbers.deck_ranges import Choices
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.lowering import lower
from pendel.core.controllers.numbers.ranges import Source
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import shipped_alone
from pendel.core.drive.document import OwnEquations
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.ship import replay
from pendel.core.plant.runtime import load
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.truth.blocks import sizes_while

TICK = 1e-3
FIXED = (NumberFormat.FIXED16, NumberFormat.FIXED32)


class Alone:
    """One block that is fed from outside: ranges found for some inputs, then given others."""

    def __init__(self, kind: str, tick: float = TICK, **values: str):
        d = pendel.Drive("Alone")
        d.set("tick", repr(tick))
        d.add(kind, "Block", **values)
        self.drive, deck = d.document, prepare(d.document).deck
        sources = {p.name: f"outside.{p.name}" for p in kinds()[kind].ports if p.link is Link.SIGNAL_IN and p.required}
        blocks = (replace(deck.blocks[0], sources=sources),)
        self.deck = replace(deck, blocks=blocks, measured=tuple(sources.values()), commands={})

    def shipped(self, number, first, later, declared=None):
        """Signals of the later inputs as shipped and in float 64, and the controller."""
        plain = lower(self.deck, Choices(NumberFormat.FLOAT64))
        first, later = (np.ascontiguousarray(np.atleast_2d(x).astype(float)) for x in (first, later))
        seen = sizes_while(self.deck, first)
        seen |= {i.signal: float(np.max(np.abs(first[:, k]))) for k, i in enumerate(plain.inputs)}
        ranges = {f"outside.{n}": Interval(*ends) for n, ends in (declared or {}).items()}
        made = lower(self.deck, Choices(number, ranges=ranges), seen)
        n = len(self.deck.signals)
        as_shipped, modelled = (replay(load(shipped_alone(x)), later, n)[0] for x in (made, plain))
        return as_shipped, modelled, made


def constant(*values: float, ticks: int) -> np.ndarray:
    return np.tile(values, (ticks, 1))


@pytest.mark.parametrize("number", FIXED)
def test_a_regulator_reaches_its_own_limit_whatever_load_its_ranges_were_found_at(number):
    pi = Alone("pi", K_p="0.5", T_i="50 ms", low="-46", high="46")
    declared = {"setpoint": (-100.0, 100.0), "actual": (-100.0, 100.0)}
    shipped, modelled, made = pi.shipped(
        number, constant(1.0, 0.5, ticks=200), constant(80.0, 60.0, ticks=2000), declared
    )
    assert modelled[-1, 0] == 46.0 and abs(shipped[-1, 0] - 46.0) < 0.01
    (block,) = made.blocks
    assert block.ranges.ranges["integral"].source is Source.PROVEN
    assert not findings_of(pi.drive, made) or block.lost


@pytest.mark.parametrize("number", FIXED)
def test_a_memory_that_its_own_limits_bound_is_limited_once_and_one_that_its_word_bounds_by_that(number):
    """A step of the sum is 20 V, and the integral is driven against both limits, then back."""
    pi = Alone("pi", K_p="1", T_i="1 ms", low="-46", high="46")
    declared = {"setpoint": (-20.0, 20.0), "actual": (-1.0, 1.0)}
    later = np.concatenate([constant(20.0, 0.0, ticks=9), constant(-20.0, 0.3, ticks=9), constant(0.25, 0.0, ticks=9)])
    shipped, modelled, made = pi.shipped(number, constant(1.0, 0.5, ticks=20), later, declared)
    assert np.abs(shipped - modelled).max() < (0.02 if number is NumberFormat.FIXED16 else 1e-6)
    source = shipped_alone(made)
    assert source.count("b->integral = ") == 1, "its own limits lie within its word"
    pi = Alone("pi", K_p="1", T_i="1 ms", low="-15", high="15")
    narrow = Choices(number, ranges={f"outside.{n}": Interval(*e) for n, e in declared.items()})
    narrow = replace(narrow, ranges=narrow.ranges | {"block.integral": Interval(-10.0, 10.0)})
    by_hand = lower(pi.deck, narrow)
    driven = np.concatenate([constant(2.0, 0.0, ticks=9), constant(0.0, 0.0, ticks=1)])
    last = replay(load(shipped_alone(by_hand)), driven, len(pi.deck.signals))[0][-1, 0]
    assert last == pytest.approx(10.0, abs=0.01), "a range by hand is a limit to the letter"


@pytest.mark.parametrize("number", FIXED)
def test_a_mean_forgets_a_peak_that_its_ranges_were_not_found_with(number):
    mean = Alone("moving", T="20 ms")
    inputs = np.concatenate([constant(10.0, ticks=50), constant(80.0, ticks=30), constant(0.0, ticks=60)])
    shipped, modelled, made = mean.shipped(number, constant(10.0, ticks=100), inputs, {"x": (-80.0, 80.0)})
    assert modelled[79, 0] == 80.0 and abs(shipped[79, 0] - 80.0) < 0.01
    assert shipped[-1, 0] == modelled[-1, 0] == 0.0
    assert made.blocks[0].ranges.ranges["total"].source is Source.PROVEN


@pytest.mark.parametrize("number", FIXED)
@pytest.mark.parametrize("hertz", [47.0, 55.0])
def test_a_loop_that_was_found_locked_at_50_hz_finds_other_grids(number, hertz):
    def grid(f: float, seconds: float) -> np.ndarray:
        t = 1e-4 * np.arange(round(seconds / 1e-4))[:, None]
        return 325.0 * np.sin(2 * math.pi * f * t + np.array([0.0, -2.0, 2.0]) * math.pi / 3)

    loop = Alone("pll_3", tick=1e-4)
    declared = dict.fromkeys("abc", (-400.0, 400.0))
    shipped, modelled, made = loop.shipped(number, grid(50.0, 0.4), grid(hertz, 1.0), declared)
    angle = loop.deck.signals.index("block.angle")
    off = np.angle(np.exp(1j * (shipped[-200:, angle] - modelled[-200:, angle])))
    assert np.max(np.abs(off)) < math.radians(0.3 if number is NumberFormat.FIXED16 else 0.01)
    assert made.blocks[0].ranges.ranges["integral"].source is Source.PROVEN


@pytest.mark.parametrize("number", FIXED)
def test_a_mode_that_waits_longer_than_the_run_is_left(number):
    d = pendel.Drive("Wait")
    d.set("tick", "1 ms")
    lines = ("wait: level = 0", "run: level = 1", "wait -> run: elapsed >= 5")
    d.add("own_modes", "Modes", own=OwnEquations(("level: out",), (), (), (), lines))
    deck = prepare(d.document).deck
    seen = sizes_while(deck, np.zeros((1000, 1)))
    level = deck.signals.index("modes.level")
    made = lower(deck, Choices(number), seen)
    told = replay(load(shipped_alone(made)), np.zeros((5100, 1)), len(deck.signals))[0][:, level]
    # By definition, as the mode was entered at the first tick; dt has 15 digits in 16 bits.
    assert np.flatnonzero(told > 0.5)[0] - 5000 in ((0, 1) if number is NumberFormat.FIXED16 else (0,))


def test_what_nothing_bounds_is_a_finding_and_what_is_cut_off_is_remarked():
    """An oscillator without limits: as modelled it follows any grid."""
    loop = Alone("pll_1", tick=1e-4)
    t = 1e-4 * np.arange(4000)[:, None]
    first, later = 20.0 * np.sin(2 * math.pi * 50 * t), 325.0 * np.sin(2 * math.pi * 50 * t)
    _, _, made = loop.shipped(NumberFormat.FIXED16, first, later, {"u": (-400.0, 400.0)})
    sources = {n: r.source for n, r in made.blocks[0].ranges.ranges.items()}
    assert sources["x"] is sources["y"] is Source.RUN and sources["integral"] is Source.PROVEN
    assert sources["amplitude"] is Source.FOLLOWS  # never proven, as x and y were only seen
    (finding,) = [f for f in findings_of(loop.drive, made) if "nothing bounds" in f.sentence]
    assert "x ±" in finding.sentence and finding.fix is not None


def test_memory_that_meets_its_end_in_a_run_is_remarked_and_counted():
    d = pendel.Drive("Oscillator")
    d.set("tick", "1 ms")
    d.set("until", "1 s")
    d.add("step", "Drive", before="0", after="0.1", t_0="0 s")
    d.add("function_z", "Sum", rows=[("0", "-1"), ("0.001", "1")])  # a sum, which nothing bounds
    d.connect("drive.out", "sum.x")
    d.find_ranges()
    d.set("number_format", "fixed16")
    (finding,) = [f for f in d.firmware().findings if "nothing bounds" in f.sentence]
    assert finding.card == "sum"
    d.set("controller", "as shipped")
    assert not d.run().limited
    d.set("drive.after", "0.9")
    run = d.run()
    assert {n.partition(".")[0] for n in run.limited} == {"sum"}
    assert any("met the end of its range" in text for text in run.remarks)


def test_a_size_of_exactly_a_power_of_two_has_c_in_32_bits():
    pi = Alone("pi", K_p="1", T_i="10 ms", low="-64", high="64")
    for size in (1.0, 2.0, 64.0, 2.0**20):
        pi.shipped(NumberFormat.FIXED32, constant(size, 0.5 * size, ticks=50), constant(size, 0.0, ticks=50))


def test_a_slow_slew_of_a_wide_range_moves_by_less_than_a_step_of_what_it_follows():
    slow = Alone("slew_limiter", rise="0.2", fall="0.05")
    inputs = np.concatenate([constant(30.0, ticks=5000), constant(-30.0, ticks=5000)])
    shipped, modelled, made = slow.shipped(NumberFormat.FIXED16, inputs, inputs)
    # By definition 0.2 1/s for 5 s, and 0.05 1/s down again; a step of the input is five times what a tick rises.
    assert made.inputs[next(iter(made.inputs))].step > 4 * 0.2 * TICK
    assert np.max(np.abs(modelled[:, 0] - shipped[:, 0])) < 2e-3
    assert modelled[4999, 0] == pytest.approx(1.0, abs=1e-9) and modelled[-1, 0] == pytest.approx(0.75, abs=1e-9)


def test_an_output_that_a_single_step_of_an_input_moves_far_is_a_finding():
    """A driver's acceleration is a difference over a tick: one step of a speed's word is m·r/dt of torque."""
    inputs = np.linspace(0.0, 15.0, 2000)[:, None] * np.array([1.0, 0.99])
    driver = Alone("driver", m="1200", r="0.3", low="-900", high="900")
    _, _, made = driver.shipped(NumberFormat.FIXED16, inputs, inputs)
    (told,) = [f for f in findings_of(driver.drive, made) if "out moves by" in f.sentence]
    speed = next(rep for i, rep in made.inputs.items() if i.signal.endswith("setpoint"))
    assert made.blocks[0].jumps["out"] == pytest.approx(1200 * 0.3 / TICK * speed.step, rel=0.02)
    assert told.fix_label == "Take 32 bits"
    _, _, wider = driver.shipped(NumberFormat.FIXED32, inputs, inputs)
    assert not findings_of(driver.drive, wider)


def test_a_frequency_that_grows_by_a_small_share_each_tick_keeps_its_phase_in_16_bits():
    sweep = Alone("swept_sine", f_0="1 Hz", f_1="119.2 Hz", duration="1 s")
    nothing = np.zeros((4000, 1))
    shipped, modelled, _ = sweep.shipped(NumberFormat.FIXED16, nothing, nothing)
    assert np.max(np.abs(shipped[:, 0] - modelled[:, 0])) < 5e-3


@pytest.mark.parametrize(
    ("kind", "inputs"),
    [
        ("gain", [1.0, 0.3]),
        ("product", [0.7, 0.2]),
        ("limiter", [0.9]),
        ("compare", [1.0, 0.2]),
        ("selector", [1.0, 0.5, 0.2]),
        ("six_step", [3.0, 24.0]),
        ("park", [0.4, 0.6, 0.2]),
        ("pi", [0.5, 0.2]),
    ],
)
def test_what_moves_between_few_values_or_by_its_own_steps_is_no_far_jump(kind, inputs):
    """A duty of a sector jumps by one since the sector changed, a product by as much as its factors say."""
    block = Alone(kind)
    reads = [p.name for p in kinds()[kind].ports if p.link is Link.SIGNAL_IN and p.required]
    values = np.abs(np.sin(np.linspace(0.0, 20.0, 400)))[:, None] * np.array(inputs[: len(reads)])
    if kind == "six_step":
        values[:, 0] = np.round(values[:, 0])
    _, _, made = block.shipped(NumberFormat.FIXED16, values, values)
    assert not [f for f in findings_of(block.drive, made) if "moves by" in f.sentence]

"""Number formats: what the shipped C computes, against exact arithmetic, closed forms, sanitizers and emulated
processors."""

import ctypes
import json
import math
import random
import re
import shutil
import subprocess
import tempfile
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import mpmath
import numpy as np
import pytest
import scipy.interpolate
import scipy.signal

import pendel
from pendel.cli.main import main
from pendel.core.check.formats import number_choices, sizes_seen
from pendel.core.controllers.c_layout import WIDTH, folded
from pendel.core.controllers.deck import BlockInstance, ControlDeck
from pendel.core.controllers.language import LanguageProblem, parse_update
from pendel.core.controllers.numbers.conversion import converted
from pendel.core.controllers.numbers.counted import counted_source, read_counts
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.lowering import Choices, lower, trees_of
from pendel.core.controllers.numbers.ranges import Hints, block_ranges
from pendel.core.controllers.numbers.representation import NumberFormat, Rep, turn_word, word_for
from pendel.core.controllers.numbers.source import files, library, shipped_alone, source
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive import clips, commands, file
from pendel.core.drive.assemblies import completed
from pendel.core.drive.document import OwnEquations
from pendel.core.errors import DriveHasFindings
from pendel.core.firmware import processors
from pendel.core.firmware.facts import facts_of
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.processors import PACKAGES, PROCESSORS, missing_tools, on_processor
from pendel.core.firmware.propose import propose_formats
from pendel.core.firmware.ranges import sizes_in
from pendel.core.firmware.ship import build_and_check, compare, replay
from pendel.core.plant.compiler import build_library, compiler, other_compiler, run_compiler
from pendel.core.plant.runtime import load
from pendel.core.quantities.units import figure
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.remarks.rounding import listed
from pendel.core.trust import allow_all_of

EXAMPLES = Path(pendel.__file__).parent / "examples"
FIXED = (NumberFormat.FIXED16, NumberFormat.FIXED32)
mpmath.mp.dps = 30


@pytest.fixture(scope="module")
def numbers():
    """The library as it is shipped."""
    texts = library()
    text = texts["pd_numbers.c"].replace('#include "pd_numbers.h"', texts["pd_numbers.h"])
    return ctypes.CDLL(str(build_library(text)))


def c_function(library, name, result, *arguments):
    found = getattr(library, name)
    found.restype, found.argtypes = result, arguments
    return found


def test_sine_arc_and_root_stay_within_their_stated_bounds(numbers):
    """Against mpmath; all 65536 angles in 16 bits, random ones and the rims in 32."""
    rng = np.random.default_rng(3)
    for bits, c_type, unit, bound, turns in (
        (16, ctypes.c_int16, 2**15, 6.2e-5, range(-(2**15), 2**15)),
        (
            32,
            ctypes.c_int32,
            2**30,
            4e-9,
            [*map(int, rng.integers(-(2**31), 2**31, 4000)), -(2**31), 2**31 - 1, 2**30, 0],
        ),
    ):
        for name, exact in (("sin", mpmath.sin), ("cos", mpmath.cos)):
            given = c_function(numbers, f"pd_{name}{bits}", c_type, c_type)
            every = turns if bits == 32 else turns[::7]
            worst = max(abs(given(t) / unit - float(exact(2 * mpmath.pi * t / 2**bits))) for t in every)
            assert worst < bound, (name, bits, worst)
        arc = c_function(numbers, f"pd_atan2_{bits}", c_type, ctypes.c_int32, ctypes.c_int32)
        maximum = 2 ** (bits - 1) - 2
        points = [(int(y), int(x)) for y, x in rng.integers(-maximum, maximum, (3000, 2))]
        points += [(0, maximum), (0, -maximum), (maximum, 0), (-maximum, 0), (1, 1), (-1, -1), (maximum, -maximum)]
        for y, x in points:
            gap = arc(y, x) / 2**bits - float(mpmath.atan2(y, x) / (2 * mpmath.pi))
            assert abs(gap - round(gap)) < (2.2e-5 if bits == 16 else 8e-10), (y, x)
        assert arc(0, 0) == 0
    roots = ((32, ctypes.c_uint32, 2**32), (64, ctypes.c_uint64, 2**62))
    for bits, c_type, end in roots:
        root = c_function(numbers, f"pd_sqrt{bits}", ctypes.c_int32, c_type)
        squares = [k * k + d for k in map(int, rng.integers(1, math.isqrt(end), 2000)) for d in (-1, 0, 1)]
        for x in [0, 1, 2, 3, end - 1, *map(int, rng.integers(0, end, 2000)), *squares]:
            if 0 <= x < end and math.isqrt(x) < 2**31:
                assert root(x) == math.isqrt(x)
    for suffix, c_type, bound in (("f", ctypes.c_float, 3e-7), ("d", ctypes.c_double, 5e-16)):
        sine, arc = (
            c_function(numbers, f"pd_{n}_{suffix}", c_type, *[c_type] * k) for n, k in (("sin", 1), ("atan2", 2))
        )
        for x in rng.uniform(-3, 3, 2000):
            x = float(c_type(x).value)
            assert abs(sine(x) - float(mpmath.sin(x))) < bound
            assert abs(arc(x, 0.7) - float(mpmath.atan2(x, c_type(0.7).value))) < bound


def random_word(rng):
    if rng.random() < 0.2:
        return turn_word(rng.choice((16, 32)))
    bits, size = rng.choice((16, 32)), 10 ** rng.uniform(-4, 4)
    return word_for(Interval(-size * rng.uniform(0.1, 1), size), bits, headroom=rng.choice((0, 1)))


def test_conversions_between_words_round_half_up_and_limit():
    """Against exact fractions, for words of random steps, at their rims too; an angle wraps."""
    rng = random.Random(5)
    pairs = [(random_word(rng), random_word(rng)) for _ in range(80)]
    lines = "".join(
        f"int32_t pd_test_{k}({a.c_type} x) {{ return (int32_t)({converted('x', a, b)}); }}\n"
        for k, (a, b) in enumerate(pairs)
    )
    texts = library()
    text = texts["pd_numbers.h"] + texts["pd_numbers.c"].replace('#include "pd_numbers.h"', "") + lines
    made = ctypes.CDLL(str(build_library(text)))
    for k, (given, wanted) in enumerate(pairs):
        call = c_function(made, f"pd_test_{k}", ctypes.c_int32, getattr(ctypes, f"c_int{given.bits}"))
        for word in [given.low, given.high, 0, 1, -1, *(rng.randint(given.low, given.high) for _ in range(40))]:
            step = Fraction(2) ** -given.fraction if not given.angle else None
            if given.angle or wanted.angle:  # π is no fraction: within a step
                exact = wanted.word(given.value(word))
                gap = call(word) - exact
                gap = (gap + 2 ** (wanted.bits - 1)) % 2**wanted.bits - 2 ** (wanted.bits - 1) if wanted.angle else gap
                assert abs(gap) <= 1 + abs(given.value(word)) / wanted.step * 2**-29
                continue
            exact = math.floor(step * word * 2**wanted.fraction + Fraction(1, 2))
            assert call(word) == max(wanted.low, min(wanted.high, exact)), (given, wanted, word)


# random blocks ----------------------------------------------------------------------------------------------


def random_expression(rng, names, depth):
    if depth == 0 or rng.random() < 0.15:
        return rng.choice([*names, f"{rng.uniform(-3, 3):.4g}"])
    inner = lambda: random_expression(rng, names, depth - 1)  # noqa: E731
    return rng.choice(
        (
            lambda: f"({inner()} + {inner()})",
            lambda: f"({inner()} - {inner()})",
            lambda: f"{rng.uniform(-2, 2):.5g} * ({inner()})",
            lambda: f"({inner()}) * ({inner()})",
            lambda: f"({inner()}) / ({rng.uniform(0.2, 3):.3g} + absolute({inner()}))",
            lambda: f"saturate({inner()}, -{rng.uniform(0.1, 3):.3g}, {rng.uniform(0.1, 3):.3g})",
            lambda: f"minimum({inner()}, {inner()})",
            lambda: f"maximum({inner()}, {inner()})",
            lambda: f"sqrt(absolute({inner()}))",
            lambda: f"sin({inner()})",
            lambda: f"(({inner()}) if {inner()} > {inner()} else ({inner()}))",
            lambda: f"floor({inner()})",
            lambda: f"wrapped({inner()})",
        )
    )()


def random_update(rng):
    """A block with two inputs, a local, a state that a limit bounds, and a branch."""
    first = random_expression(rng, ["x", "y", "s"], 2)
    lines = [
        f"u = {first}",
        f"out = {random_expression(rng, ['x', 'y', 's', 'u'], 3)}",
        f"if {random_expression(rng, ['x', 'u'], 1)} < {random_expression(rng, ['y', 's'], 1)}:",
        f"    out = {random_expression(rng, ['x', 'u'], 2)}",
        f"    s = s + {rng.uniform(0.001, 0.3):.3g} * ({random_expression(rng, ['x', 'y', 'u'], 1)})",
        "else:",
        f"    s = {rng.uniform(0.2, 0.99):.3g} * s",
        f"s = saturate(s, -{rng.uniform(0.5, 4):.3g}, {rng.uniform(0.5, 4):.3g})",
    ]
    return "def f(x, y, out, s, dt):\n" + "".join(f"    {line}\n" for line in lines)


def toys(texts, range_x=2.0, range_y=0.7):
    """A deck of blocks with these updates, all fed by the same two signals."""
    blocks = tuple(
        BlockInstance(
            f"toy_{k}",
            f"toy_{k}",
            f"Toy {k}",
            parse_update(text),
            ("x", "y"),
            ("out",),
            {},
            {"x": "outside.x", "y": "outside.y"},
            1,
            False,
        )
        for k, text in enumerate(texts)
    )
    deck = ControlDeck("Toys", blocks, 1e-3, 0, ("outside.x", "outside.y"), {})
    ranges = {"outside.x": Interval(-range_x, range_x), "outside.y": Interval(-range_y, range_y)}
    return deck, ranges


FUNCTIONS = {
    "saturate": lambda x, low, high: low if x < low else (high if x > high else x),
    "absolute": abs,
    "floor": math.floor,
    "sqrt": lambda x: math.sqrt(max(x, 0.0)),
    "sin": math.sin,
    "minimum": min,
    "maximum": max,
    "wrapped": lambda a: a - 2 * math.pi * math.floor(a / (2 * math.pi) + 0.5),
}


def test_proven_ranges_hold_all_that_random_blocks_come_to():
    """Inputs on the grid of an 8-bit toy word, all pairs of rims and many in between, through the update as Python runs
    it."""
    rng = random.Random(11)
    grid = [k / 127 for k in range(-127, 128)]
    for _ in range(60):
        text = random_update(rng)
        deck, ranges = toys([text])
        tree = trees_of(deck)["toy_0"]
        inputs = {"x": ranges["outside.x"], "y": ranges["outside.y"]}
        found = block_ranges(tree, {n: inputs[n] for n in tree.inputs}, Hints())
        scope = dict(FUNCTIONS)
        exec(text + "    return locals()\n", scope)
        s = 0.0
        sides = [(a, b) for a in (-1.0, 0.0, 1.0) for b in (-1.0, 0.0, 1.0)]
        for x, y in [*sides * 3, *((rng.choice(grid), rng.choice(grid)) for _ in range(250))]:
            after = scope["f"](2.0 * x, 0.7 * y, 0.0, s, 1e-3)
            s = after["s"]
            hold(found, tree, after, text)


def hold(found, tree, after, text):
    """What names came to lies within their ranges."""
    for name in ("out", "s", "u"):
        if name in found.ranges and name not in tree.angles:
            i = found.ranges[name].interval
            slack = 1e-9 * max(1.0, i.size)
            assert i.low - slack <= after[name] <= i.high + slack, (name, text)


def test_random_blocks_in_fixed_point_neither_overflow_nor_stray():
    """Built with the sanitizers of undefined behaviour and fed beyond their ranges; within them they are as float
    64."""
    rng = random.Random(17)
    texts = [random_update(rng) for _ in range(40)]
    deck, ranges = toys(texts)
    inputs = np.random.default_rng(1).uniform(-1.0, 1.0, (3000, 2)) * [2.0, 0.7]
    wild = np.random.default_rng(2).uniform(-1.0, 1.0, (3000, 2)) * [1e5, 1e3]
    wild[::3] = [[2.0, -0.7]]
    wild[:3] = [[np.inf, -np.inf], [np.nan, 0.0], [-2.0, 0.7]]
    plain = lower(deck, Choices(NumberFormat.FLOAT64, {}, ranges))
    exact = replay(load(shipped_alone(plain)), fed(plain, inputs), len(texts))[0]
    for number, allowed in ((NumberFormat.FIXED16, 0.03), (NumberFormat.FIXED32, 2e-3)):
        made = lower(deck, Choices(number, {}, ranges))
        given = replay(load(shipped_alone(made)), fed(made, inputs), len(texts))[0]
        strays = []
        for k, text in enumerate(texts):
            rep = made.blocks[k].reps["out"]
            gap = np.abs(given[:, k] - exact[:, k])
            size = np.pi if rep.angle else max(np.max(np.abs(exact[:, k])), 50 * rep.step)
            # A comparison may fall the other way, and what stands behind it with it: some ticks may be anything.
            if np.quantile(gap, 0.8) >= allowed * size:
                strays.append(text)
        assert len(strays) <= len(texts) // 20, strays  # one compares what is equal
        ran = sanitized(made, fed(made, np.vstack([inputs, wild])))
        assert ran.returncode == 0, ran.stderr[:2000]


def fed(made, inputs):
    """The columns x and y that a controller takes, in its order."""
    return inputs[:, [".xy".index(i.signal[-1]) - 1 for i in made.inputs]]


def sanitized(made, inputs, text=""):
    """The shipped C run over inputs, as a program with the sanitizers of the compiler."""
    text = text or shipped_alone(made)
    signals = sum(len(b.tree.outputs) for b in made.blocks)
    name = made.name
    main = f"""
#include <stdio.h>
int main(int n, char **files)
{{
    static {name}_t c;
    static double in[{inputs.shape[1]}], out[{signals + 1}], none[1];
    FILE *f = fopen(files[1], "rb");
    (void)n;
    pd_ctl_init(&c, none);
    while (fread(in, sizeof in, 1, f) == 1) pd_ctl_tick(&c, in, out, none);
    return 0;
}}
"""
    with tempfile.TemporaryDirectory() as work:
        source, program, data = (Path(work) / f"run{e}" for e in (".c", "", ".bin"))
        source.write_text(text + main)
        inputs.astype(float).tofile(data)
        flags = ("-fsanitize=undefined,address,float-cast-overflow", "-fno-sanitize-recover=all")
        run_compiler(
            [*compiler(), "-std=c99", "-O1", "-ffp-contract=off", *flags, str(source), "-o", str(program), "-lm"]
        )
        return subprocess.run([program, data], capture_output=True, text=True, timeout=120, check=False)


def test_blocks_of_all_formats_feed_each_other():
    """Chains of random blocks, each in a format of its own: words are shifted, limited, made floats and back, and
    angles wrap."""
    rng = random.Random(23)
    formats = list(NumberFormat)
    for _ in range(3):
        texts = [random_update(rng) for _ in range(12)]
        deck, ranges = toys(texts)
        blocks = tuple(
            b if k == 0 else replace(b, sources={"x": f"toy_{k - 1}.out", "y": b.sources["y"]})
            for k, b in enumerate(deck.blocks)
        )
        deck = replace(deck, blocks=blocks)
        mix = {b.name: rng.choice(formats) for b in blocks}
        inputs = np.random.default_rng(1).uniform(-1.0, 1.0, (1500, 2)) * [2.0, 0.7]
        plain, made = (lower(deck, Choices(NumberFormat.FLOAT64, m, ranges)) for m in ({}, mix))
        exact, given = (replay(load(shipped_alone(m)), fed(m, inputs), 12)[0] for m in (plain, made))
        near = []
        for k, block in enumerate(made.blocks):
            gap = np.abs(given[:, k] - exact[:, k])
            if "out" in block.tree.angles:
                gap = np.abs(np.remainder(gap + np.pi, 2 * np.pi) - np.pi)
            near.append(np.quantile(gap, 0.5) < 0.05 * max(np.max(np.abs(exact[:, k])), 0.05))
        assert np.mean(near) > 0.8, mix
        assert sanitized(made, fed(made, np.vstack([inputs, 1e4 * inputs]))).returncode == 0


@pytest.mark.parametrize("number", FIXED)
def test_a_memory_in_a_loop_is_read_before_it_is_written_in_fixed_point_too(number):
    """y[k] = x[k] − 0.6·y[k − n], as SciPy filters it, with a delay line and with an integrator in the loop."""
    tick = 1e-3
    for memory, values, coefficients in (
        ("delay", {"ticks": "4"}, ([1.0], [1, 0, 0, 0, 0.6])),
        ("integrator", {"K_i": "30", "low": "-4", "high": "4"}, ([1.0, -1.0], [1, -1 + 0.6 * 30 * tick])),
    ):
        d = pendel.Drive("Loop")
        d.set("tick", repr(tick))
        d.add("sum", "Add")
        d.add(memory, "Memory", **values)
        d.add("gain", "Back", K="-0.6")
        for a, b in (("back.out", "add.b"), ("add.out", "memory.x"), ("memory.out", "back.x")):
            d.connect(a, b)
        deck = prepare(d.document).deck
        fed_by = tuple(
            replace(b, sources={**b.sources, "a": "outside.x"}) if b.name == "add" else b for b in deck.blocks
        )
        deck = replace(deck, blocks=fed_by, measured=("outside.x",))
        ranges = {"outside.x": Interval(-1.0, 1.0), "add.out": Interval(-4.0, 4.0), "memory.out": Interval(-4.0, 4.0)}
        made = lower(deck, Choices(number, {}, ranges))
        x = np.random.default_rng(6).uniform(-1, 1, 800)
        given = replay(load(shipped_alone(made)), x[:, None], 3)[0]
        k = [b.name for b in made.blocks].index("add")
        wanted = scipy.signal.lfilter(*coefficients, x)
        assert np.max(np.abs(given[:, k] - wanted)) < (4e-3 if number is NumberFormat.FIXED16 else 1e-7)


def test_choices_within_choices_cost_no_more_than_their_number_and_too_deep_ones_are_refused():
    nested = "x"
    for k in range(60):
        nested = f"({k % 7}.5 if {nested} > {k * 0.01 + 0.1:.2f} else x + 0.{k % 9})"
    update = f"def f(x, y, out, s, dt):\n    out = {nested}\n"
    deck, ranges = toys([update, "def f(x, y, out, s, dt):\n    out = " + " + ".join(["x"] * 140) + "\n"])
    inputs = np.random.default_rng(8).uniform(-1.0, 1.0, (400, 1)) * 2.0
    plain = lower(deck, Choices(NumberFormat.FLOAT64, {}, ranges))
    exact = replay(load(shipped_alone(plain)), inputs, 2)[0]
    scope = dict(FUNCTIONS)
    exec(update + "    return out\n", scope)
    assert np.array_equal(exact[:, 0], [scope["f"](x, 0, 0, 0, 0) for x in inputs[:, 0]])
    given = replay(load(shipped_alone(lower(deck, Choices(NumberFormat.FIXED32, {}, ranges)))), inputs, 2)[0]
    assert np.mean(np.abs(given - exact) < 1e-5) > 0.97
    for lines, words in (
        ("    out = " + " + ".join(["x"] * 400), "split it over several lines"),
        (
            "    if x > 9.0:\n        out = 0.0\n"
            + "".join(f"    elif x > {-k}.0:\n        out = {k}.0\n" for k in range(400)),
            "decide in steps",
        ),
    ):
        with pytest.raises(LanguageProblem, match=words):
            parse_update(f"def f(x, y, out, s, dt):\n{lines}\n")


def test_a_map_is_straight_between_its_points_and_one_with_points_too_close_is_refused():
    """Against SciPy's interpolation on a grid, at the rim and beyond it too; level beyond."""
    xs, ys = np.array([-3.0, -1.0, 0.5, 4.0]), np.array([0.0, 2.0, 2.5])
    z = np.random.default_rng(9).uniform(-20, 20, (4, 3))

    def deck_of(xs):
        rows = [
            (repr(float(x)), repr(float(y)), repr(float(z[i, j]))) for i, x in enumerate(xs) for j, y in enumerate(ys)
        ]
        d = pendel.Drive("Map")
        d.set("tick", "1 ms")
        d.add("map", "Surface")
        d.rows("surface", rows)
        (block,) = prepare(d.document).deck.blocks
        block = replace(block, sources={"x": "outside.x", "y": "outside.y"})
        return ControlDeck("Map", (block,), 1e-3, 0, ("outside.x", "outside.y"), {})

    ranges = {"outside.x": Interval(-8.0, 8.0), "outside.y": Interval(-8.0, 8.0)}
    points = np.vstack(
        [np.random.default_rng(2).uniform(-6, 6, (500, 2)), [(x, y) for x in xs for y in ys], [[-8, -8], [8, 8]]]
    )
    within = np.clip(points, [xs[0], ys[0]], [xs[-1], ys[-1]])
    wanted = scipy.interpolate.RegularGridInterpolator((xs, ys), z)(within)
    for number, allowed in (
        (NumberFormat.FIXED16, 0.02),
        (NumberFormat.FIXED32, 1e-6),
        (NumberFormat.FLOAT32, 1e-5),
        (NumberFormat.FLOAT64, 1e-12),
    ):
        made = lower(deck_of(xs), Choices(number, {}, ranges))
        given = replay(load(shipped_alone(made)), fed(made, points), 1)[0][:, 0]
        assert np.max(np.abs(given - wanted)) < allowed, number
    close = np.array([-3.0, -1.0, -1.0 + 1e-9, 4.0])
    for number in (NumberFormat.FIXED16, NumberFormat.FLOAT32):
        with pytest.raises(CannotLower, match="closer than a step"):
            lower(deck_of(close), Choices(number, {}, ranges))


def test_own_c_stays_in_float_among_words_and_is_refused_in_fixed_point():
    d = pendel.Drive("Mixed")
    d.set("tick", "1 ms")
    d.set("number_format", "fixed16")
    d.add("sine", "Feed", amplitude="2", f="7")
    d.add(
        "own_c",
        "Own",
        own=OwnEquations(
            ("x: in", "y: out", "c: out"),
            ("K = 3",),
            ("at = 0",),
            (),
            ("at = at + 1;", "c = at;", "y = K * x + sqrt(c);"),
        ),
    )
    d.add("limiter", "Clip", low="-20", high="20")
    d.connect("feed.out", "own.x")
    d.connect("own.y", "clip.x")
    with pytest.raises(DriveHasFindings, match="Own: its C is written for float"):
        _ = prepare(d.document).lowered
    commands.set_number_format(d.document, "own", "float32").apply(d.document)
    commands.set_range(d.document, "own", "y", ("-40", "40")).apply(d.document)
    d.set("until", "0.1 s")
    allow_all_of(d.document)
    modelled = run_drive(prepare(d.document))
    d.set("controller", "as shipped")
    shipped = run_drive(prepare(d.document))
    for signal, allowed in (("own.y", 2e-3), ("clip.out", 3e-3)):
        assert np.max(np.abs(shipped.trace(signal).y - modelled.trace(signal).y)) < allowed
    assert not build_and_check(prepare(d.document).lowered, shipped).unlike


def test_formats_and_firmware_from_the_terminal(tmp_path, capsys):
    path = tmp_path / "haul.pendel"
    shutil.copy(EXAMPLES / "haul_drive.pendel", path)
    assert (
        main(["firmware", str(path), "--format", "fixed32", "--block", "space_vector=float32", "--check", "--json"])
        == 0
    )
    told = json.loads(capsys.readouterr().out)
    assert {b["block"]: b["number"] for b in told["blocks"]}["space_vector"] == "float32"
    speed = next(s for b in told["blocks"] for s in b["signals"] if s["signal"] == "electrical_angle.speed")
    assert speed["high"] == pytest.approx(math.pi / 1e-4, rel=1e-6) and told["check"]["unlike"] == []
    assert told["check"]["differences"]["current_regulator.u_q"] < 1e-3
    assert main(["ranges", str(path), "--until", "20 ms"]) == 0
    assert file.load(path).cards["resolver"].seen["value"] < 3.0
    assert main(["formats", str(path), "--error", "1 %", "--out", "-"]) == 0
    assert '"number_format"' in capsys.readouterr().out
    for words in (
        ["--format", "fixed8"],
        ["--block", "space_vector"],
        ["--block", "nobody=fixed16"],
        ["--processor", "m7"],
    ):
        assert main(["firmware", str(path), *words]) in (1, 2)
        assert capsys.readouterr().err.startswith("pendel: ")


# the regulator ------------------------------------------------------------------------------------------------


def pi_deck(K_p, T_i, limit, tick):
    d = pendel.Drive("Loop")
    d.set("tick", repr(tick))
    d.add("pi", "Regulator", K_p=repr(K_p), T_i=f"{T_i!r} s", low=repr(-limit), high=repr(limit))
    (block,) = prepare(d.document).deck.blocks
    sources = {"setpoint": "outside.w", "actual": "outside.y", "feedforward": None}
    deck = ControlDeck("Loop", (replace(block, sources=sources),), tick, 0, ("outside.w", "outside.y"), {})
    return deck, {"outside.w": Interval(-1.0, 1.0), "outside.y": Interval(-1.0, 1.0)}


def test_pi_in_fixed_point_follows_the_incremental_form_in_q31():
    """The recursion y[n] = y[n−1] + A0·x[n] + A1·x[n−1] of CMSIS-DSP's Q31 PID (documentation of arm_pid_q31, formulas
    written anew), A0 = K_p + K_i and A1 = −K_p, with K_i = K_p·T/T_i, away from limits."""
    K_p, T_i, tick = 0.4, 0.05, 1e-3
    deck, ranges = pi_deck(K_p, T_i, 0.999, tick)
    w = 0.4 * np.sin(np.arange(4000) * 0.01) + 0.05 * np.random.default_rng(4).normal(size=4000)
    inputs = np.column_stack([w, 0.5 * w])
    one = 2**31
    a0, a1 = round((K_p + K_p * tick / T_i) * one), round(-K_p * one)
    y, last, wanted = 0, 0, []
    for x in (inputs[:, 0] - inputs[:, 1]) * one:
        x = round(x)
        y = max(-one, min(one - 1, y + ((a0 * x + a1 * last) >> 31)))
        last = x
        wanted.append(y / one)
    assert np.max(np.abs(wanted)) < 0.99  # no limit is met
    for number, allowed in ((NumberFormat.FIXED32, 4000 * 2.0**-30), (NumberFormat.FIXED16, 2.5e-3)):
        made = lower(deck, Choices(number, {}, ranges))
        given = replay(load(shipped_alone(made)), inputs, 1)[0][:, 0]
        assert np.max(np.abs(given - wanted)) < allowed


def test_an_integral_takes_in_what_is_more_than_the_finding_says_and_nothing_less():
    """The figure of the finding is by its definition the input at which half a step of the state is reached."""
    tick = 5e-5
    deck, ranges = pi_deck(2e-4, 50.0, 1.0, tick)
    ranges = {k: Interval(-32.0, 32.0) for k in ranges}
    made = lower(deck, Choices(NumberFormat.FIXED16, {}, ranges))
    minimum = made.blocks[0].lost["integral"]
    assert minimum > 32 / 2**15  # more than a step of the input is lost
    for share, moves in ((0.9, False), (1.1, True)):
        error = np.floor(share * minimum * 2**9) / 2**9
        inputs = np.column_stack([np.full(60_000, error), np.zeros(60_000)])
        assert error > 0
        out = replay(load(shipped_alone(made)), inputs, 1)[0][:, 0]
        rises = out[-1] - out[0] > 0
        assert rises == moves, (share, error, out[0], out[-1])
        # Counted tick by tick, by C that gives the same bits.
        counted = counted_source(made)
        library = load(counted.text)
        assert counted.lost == ("regulator.integral",)
        read_counts(library, counted)
        np.testing.assert_array_equal(replay(library, inputs, 1)[0][:, 0], out)
        lost, cut = read_counts(library, counted)
        assert lost == {"regulator.integral": 0 if moves else 60_000} and not cut
    # In 32 bits nothing is lost, and the integral is that of the closed form K_p·e·t/T_i.
    wide = lower(deck, Choices(NumberFormat.FIXED32, {}, ranges))
    assert not wide.blocks[0].lost
    out = replay(load(shipped_alone(wide)), np.tile([1.0, 0.0], (4000, 1)), 1)[0][:, 0]
    np.testing.assert_allclose(out[-1] - out[0], 2e-4 * 3999 * tick / 50.0, rtol=0.02)


def test_the_dead_band_of_a_rounding_lag_is_half_a_step_over_its_coefficient():
    """Rounding holds a first-order filter where its increments are below half a step: the dead band of Oppenheim,
    Schafer: Discrete-Time Signal Processing, 3rd ed., section 6.10. States of double width make it vanish beside the
    output's step."""
    d = pendel.Drive("Lag")
    d.set("tick", "50 us")
    d.add("pt1", "Slow", T="0.2 s")
    (block,) = prepare(d.document).deck.blocks
    deck = ControlDeck("Lag", (replace(block, sources={"x": "outside.x"}),), 5e-5, 0, ("outside.x",), {})
    made = lower(deck, Choices(NumberFormat.FIXED16, {}, {"outside.x": Interval(-1.0, 1.0)}))
    (slow,) = made.blocks
    share = 1 - math.exp(-5e-5 / 0.2)
    assert slow.reps["level"].bits == 32
    band = 0.5 * slow.reps["level"].step / share
    out = replay(load(shipped_alone(made)), np.full((60_000, 1), 0.7), 1)[0][:, 0]
    assert abs(out[-1] - 0.7) <= band + slow.reps["out"].step


# whole drives -------------------------------------------------------------------------------------------------


def with_ranges(example):
    d = pendel.open_example(example)
    run = d.run().kept
    sizes = sizes_in(prepare(d.document).deck, run)
    commands.set_seen(d.document, sizes).apply(d.document)
    return d, run


def test_the_door_drive_in_16_bits_stays_within_one_percent_and_is_the_same_to_the_bit():
    d, modelled = with_ranges("car_door_drive")
    d.set("controller", "as shipped")
    currents = modelled.trace("door_motor.current")
    for number, allowed in (("fixed16", 0.01), ("fixed32", 1e-3), ("float64", 1e-12)):
        d.set("number_format", number)
        run = d.run().kept
        t = np.linspace(0, modelled.end, 5000)
        gap = np.interp(t, run.trace("door_motor.current").t, run.trace("door_motor.current").y)
        gap -= np.interp(t, currents.t, currents.y)
        assert np.sqrt(np.mean(gap**2)) < allowed * np.ptp(currents.y)
        if number == "fixed16":
            checked = build_and_check(prepare(d.document).lowered, run)
            assert checked.builds[:2] == ("cc -O0", "cc -O2") and not checked.unlike
            assert len(checked.builds) == (4 if other_compiler() else 2)
            # The run itself is compared too: with another record in its place, the first bit that differs is shown.
            run.ticks[5, :] += 1.0
            assert any("the run" in words for words in build_and_check(prepare(d.document).lowered, run).unlike)


def test_the_narrowest_mix_of_the_haul_drive_is_found_within_what_is_wanted():
    d, _ = with_ranges("haul_drive")
    found = propose_formats(d.document, 2e-3)
    assert found.reached and found.least < 5e-4
    assert set(found.formats.values()) == {"fixed16", "fixed32"}
    narrow = [t for t in found.tried if t.taken]
    assert all(t.error <= found.wanted for t in narrow)
    assert any(not t.taken and t.error > found.wanted for t in found.tried)
    commands.set_number_formats(d.document, found.formats, "").apply(d.document)
    d.set("controller", "as shipped")
    assert d.run().kept.end == pytest.approx(0.06)


@pytest.mark.skipif(bool(missing_tools()), reason=f"no emulated processors here: install {PACKAGES}")
@pytest.mark.parametrize("example", ["car_door_drive", "haul_drive"])
def test_emulated_processors_give_the_same_bits_in_every_format(example):
    d, run = with_ranges(example)
    document = d.document
    seen, examined = sizes_seen(document), prepare(document).examined
    deck = prepare(document).deck
    all_of_them = {"car_door_drive": (NumberFormat.FIXED16,), "haul_drive": (NumberFormat.FLOAT32, *FIXED)}
    wanted = [(number, processor) for number in all_of_them[example] for processor in PROCESSORS]
    if example == "haul_drive":
        wanted.append((NumberFormat.FLOAT64, PROCESSORS[1]))
    for number, processor in wanted:
        made = lower(deck, replace(number_choices(document, examined), default=number), seen)
        ran = on_processor(made, run, processor, 250)
        assert not ran.unlike, (number, processor.id)
        assert 0 < ran.mean <= ran.largest and ran.flash > 100
        assert 0.5 * ran.mean < sum(ran.by_block.values()) < 1.1 * ran.mean


@pytest.mark.parametrize("number", ["fixed32", "float64"])
def test_lines_of_c_are_short_and_folding_them_leaves_every_token(number):
    drive = pendel.open_example("haul_drive").document
    drive.settings["number_format"] = number
    made = prepare(drive).lowered
    written, plain = files(made).source, source(made)
    assert max(map(len, plain.split("\n"))) > 150 and max(map(len, written.split("\n"))) <= WIDTH
    tokens = lambda text: re.findall(r"\w+|[^\w\s]", re.sub(r"/\*.*?\*/", "", text, flags=re.DOTALL))  # noqa: E731
    assert tokens(written) == tokens(plain)
    words = lambda text: re.sub(r"\n \* |\s+", " ", text).split()  # noqa: E731
    assert words(written) == words(plain)
    # Nothing within quotes or behind a comment is touched, however long.
    for line in (
        f'    puts("{"a, b + c " * 20}");',
        f"    x = {'a + ' * 40}1; /* {'why, ' * 9}*/",
        "#define A " + "1 + " * 40,
    ):
        assert folded(line) == line


@pytest.mark.skipif(bool(missing_tools()), reason=f"no emulated processors here: install {PACKAGES}")
def test_a_deck_of_many_signals_and_no_input_is_replayed_as_far_as_memory_goes():
    d = pendel.Drive("Wide")
    d.set("tick", "50 us")
    d.set("until", "0.5 s")
    for n in range(90):
        d.add("constant", f"C {n}", value=f"{n}")
    made = lower(prepare(d.document).deck, Choices(NumberFormat.FLOAT32), {})
    ran = on_processor(made, d.run().kept, PROCESSORS[1])
    assert 1000 < ran.ticks < processors.LONGEST and not ran.unlike


def test_missing_tools_and_unknown_processors_are_told(monkeypatch):
    with pytest.raises(processors.UnknownProcessor, match="m4f, m3, m0"):
        processors.processor_of("m7")
    monkeypatch.setattr(shutil, "which", lambda name: None)
    with pytest.raises(processors.NoProcessor, match="sudo apt install gcc-arm-none-eabi"):
        processors.processor_of("m4f")


# the drive's own facts ----------------------------------------------------------------------------------------


def test_formats_and_ranges_are_kept_in_the_file_follow_a_card_and_can_be_undone():
    d = pendel.open_example("car_door_drive").document
    before = file.to_text(d)
    for command in (
        commands.set_number_format(d, "current_pi", "float64"),
        commands.set_range(d, "speed_pi", "out", ("-2*I_most", "30 A")),
        commands.set_seen(d, {"encoder": {"speed": 4.5}}),
    ):
        command.apply(d)
        after = file.to_text(d)
        command.revert(d)
        command.apply(d)
        assert file.to_text(d) == after
    commands.set_quantity(d, "I_most", "14 A").apply(d)
    commands.rename_quantity(d, "I_most", "I_top").apply(d)
    commands.rename_card(d, "speed_pi", "Outer loop").apply(d)
    again = file.from_text(file.to_text(d))
    assert again.cards["outer_loop"].ranges == {"out": ("-2*I_top", "30 A")}
    assert again.cards["current_pi"].number_format == "float64" and again.cards["encoder"].seen == {"speed": 4.5}
    choices = number_choices(again, prepare(again).examined)
    assert choices.ranges["outer_loop.out"] == Interval(-28.0, 30.0)
    assert (
        "outer_loop_update" in files(lower(prepare(again).deck, replace(choices, default=NumberFormat.FLOAT32))).source
    )
    copy, (new,) = clips.copy_cards(again, ["current_pi"])
    completed(again, copy).apply(again)
    assert again.cards[new].number_format == "float64"
    assert before != file.to_text(again)


def test_assemblies_of_one_design_keep_formats_and_ranges_of_their_own():
    d = pendel.open_example("haul_drive").document
    copied, (twin,) = clips.copy_cards(d, ["field_orientation"])
    completed(d, copied).apply(d)
    inside = {c.role: k for k, c in d.cards.items() if c.inside == twin}
    mine = next(k for k, c in d.cards.items() if c.inside == "field_orientation" and c.role in inside)
    theirs = inside[d.cards[mine].role]
    before = d.cards[theirs]
    for make in (
        lambda: commands.set_seen(d, {mine: {"out": 7.0}}),
        lambda: commands.set_number_format(d, mine, "float64"),
        lambda: commands.set_value(d, mine, "every", "2"),
    ):
        completed(d, make()).apply(d)
    after = d.cards[theirs]
    assert (after.seen, after.number_format) == (before.seen, before.number_format)
    assert after.values["every"] == "2" and d.cards[mine].seen == {"out": 7.0}


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda d: commands.set_range(d, "speed_pi", "out", ("3 A", "-3 A")), "above its highest"),
        (lambda d: commands.set_range(d, "speed_pi", "out", ("3 A", "3 A")), "Give it a width"),
        (lambda d: commands.set_range(d, "speed_pi", "out", ("0", "1 V")), "range of out"),
        (lambda d: commands.set_range(d, "speed_pi", "out", ("0", "1/0")), "range of out"),
        (lambda d: commands.set_range(d, "speed_pi", "integral", ("1", "2")), "begins at 0"),
        (lambda d: commands.set_range(d, "speed_pi", "intergal", ("-1", "2")), "no signal intergal"),
        (lambda d: commands.set_digits(d, "speed_pi", "K", "3"), "no value K that could have digits"),
        (lambda d: commands.set_base(d, "speed_pi", "K_p", "octal"), "decimal, hexadecimal, binary"),
        (lambda d: commands.set_step(d, "speed_pi", "out", "3"), "no value out that could have a step"),
        (lambda d: commands.set_number_format(d, "speed_pi", "fixed8"), "float64, float32, fixed32, fixed16"),
        (lambda d: commands.set_setting(d, "controller", "as dreamt"), "as modelled, as shipped"),
    ],
)
def test_bad_formats_and_ranges_get_a_sentence(change, words):
    d = pendel.open_example("car_door_drive").document
    change(d).apply(d)
    with pytest.raises(DriveHasFindings) as told:
        prepare(d)
    (finding,) = told.value.findings
    assert words in finding.sentence
    if finding.fix_label == "Take it off":
        finding.fix.apply(d)
        prepare(d)


def test_a_run_as_shipped_remarks_the_steps_that_a_sum_lost():
    d, _ = with_ranges("car_door_drive")
    d.set("number_format", "fixed16")
    d.set("controller", "as shipped")
    for T_i, lost in (("90 ms", False), ("90000 s", True)):
        d.set("speed_pi.T_i", T_i)
        run = d.run()
        remarks = [r.sentence for r in run.kept.remarks if "took no step in" in r.sentence]
        assert [r.startswith("Speed PI: integral") for r in remarks] == ([True] if lost else [])
        assert (run.lost_steps.get("speed_pi.integral", 0) > 100) == lost and not run.limited
    commands.set_range(d.document, "speed_pi", "out", ("-3 A", "3 A")).apply(d.document)
    run = d.run()
    y = run["speed_pi.out"].y
    assert np.max(np.abs(y)) <= 4.0  # what the word holds
    assert run.limited["speed_pi.out"] == np.sum((y == np.max(y)) | (y == np.min(y))) > 1000
    assert any(line.startswith("speed_pi.out met the end") for line in listed(run.kept, 1))
    # The end that is named is the one that was met, and first.
    for distance, end in (("0.6", np.max), ("-0.6", np.min)):
        d.set("travel_plan.distance", distance)
        run = d.run()
        trace = run["speed_pi.out"]
        first = trace.t[np.flatnonzero(trace.y == end(trace.y))[0]]
        assert first == np.min(trace.t[(trace.y == np.max(trace.y)) | (trace.y == np.min(trace.y))])
        (sentence,) = (r.sentence for r in run.kept.remarks if r.sentence.startswith("Speed PI: out met the end"))
        towards = "up" if end is np.max else "down"
        assert f"first at {figure(first, 's', 4)}; it holds {towards} to {figure(end(trace.y), 'A', 3)} as" in sentence


def test_what_has_no_range_or_no_words_is_refused_at_its_block():
    d = pendel.open_example("car_door_drive")
    d.set("number_format", "fixed16")
    commands.set_seen(d.document, {k: {} for k in d.document.cards}).apply(d.document)
    with pytest.raises(DriveHasFindings, match="Find ranges|find ranges"):
        _ = prepare(d.document).lowered
    d.set("controller", "as shipped")
    with pytest.raises(DriveHasFindings):
        d.run()
    far = "def f(x, y, out, s, dt):\n    out = x * 1e-300 + y * 1e300\n"
    deck, ranges = toys([far])
    for number in FIXED:
        try:
            lower(deck, Choices(number, {}, ranges))
        except CannotLower as problem:
            assert str(problem).startswith("Toy 0: ")


ODD = (0.0, 5e-324, 1e-300, 1e-30, 1e-9, 1.0, 3.7, 1e9, 1e30, 1e300, 1.7e308, -1.0, -1e-12, -1e300)


@pytest.mark.parametrize("example", ["haul_drive"])
def test_odd_values_ranges_and_sizes_give_c_or_a_sentence(example):
    """Any mix of formats; what is written compiles with constants that overflow as errors."""
    rng = random.Random(31)
    deck = prepare(pendel.open_example(example).document).deck
    signals = (*deck.signals, *deck.measured)
    built = 0
    for _ in range(60):
        blocks = tuple(
            replace(b, values={k: rng.choice(ODD) if rng.random() < 0.03 else v for k, v in b.values.items()})
            for b in deck.blocks
        )
        ends = {s: sorted((rng.choice(ODD), rng.choice(ODD))) for s in signals if rng.random() < 0.1}
        ranges = {s: Interval(low, high) for s, (low, high) in ends.items() if low < high}
        seen = {s: abs(rng.choice(ODD)) if rng.random() < 0.1 else 1.0 + len(s) % 7 for s in signals}
        mix = {b.name: rng.choice(list(NumberFormat)) for b in blocks}
        try:
            made = lower(replace(deck, blocks=blocks), Choices(NumberFormat.FIXED16, mix, ranges), seen)
        except CannotLower as problem:
            assert str(problem).endswith((".", "!")) and len(str(problem)) > 20
            continue
        text = shipped_alone(made)
        if built < 4:
            built += 1
            run_compiler([*compiler(), "-std=c99", "-Werror=overflow", "-fsyntax-only", "-x", "c", "-"], text)
    assert built == 4


def test_a_range_by_hand_that_does_not_hold_what_may_come_is_told_with_its_remedy():
    d, _ = with_ranges("car_door_drive")
    d.set("number_format", "fixed16")
    commands.set_range(d.document, "speed_pi", "out", ("-8 A", "8 A")).apply(d.document)
    (finding,) = findings_of(d.document, prepare(d.document).lowered)
    assert finding.card == "speed_pi" and "may reach 24 A" in finding.sentence
    d.set("controller", "as shipped")
    commands.set_range(d.document, "speed_pi", "out", ("-4 A", "4 A")).apply(d.document)
    run = d.run().kept
    ends = prepare(d.document).lowered.rep("speed_pi.out").range
    limited = run.trace("speed_pi.out").y
    count = int(np.sum((limited >= ends.high) | (limited <= ends.low)))
    assert count > 0 and any(f"end of its range at {count} ticks" in r.sentence for r in run.remarks)
    finding.fix.apply(d.document)
    assert not any("end of its range" in r.sentence for r in d.run().kept.remarks)
    made = prepare(d.document).lowered
    assert not findings_of(d.document, made)
    (signal,) = next(f for f in facts_of(made) if f.block == "speed_pi").signals
    assert signal.high >= 24.0 and signal.step == signal.high / (2**15 - 1) or signal.step == 2.0**-10


def test_a_run_as_shipped_shows_what_the_words_hold():
    """Every recorded signal of the controller is a whole number of its steps."""
    d, _ = with_ranges("car_door_drive")
    d.set("number_format", "fixed16")
    d.set("controller", "as shipped")
    prepared = prepare(d.document)
    run = run_drive(prepared)
    for block in prepared.lowered.blocks:
        for port in block.tree.outputs:
            rep: Rep = block.reps[port]
            words = run.trace(f"{block.name}.{port}").y / rep.step
            assert np.array_equal(words, np.round(words)) and rep.low <= words.min() and words.max() <= rep.high


def test_the_difference_of_an_angle_counts_no_whole_turns():
    d, _ = with_ranges("haul_drive")
    for name, text in {"number_format": "fixed16", "controller": "as shipped", "until": "600 ms"}.items():
        d.set(name, text)
    prepared = prepare(d.document)
    run = run_drive(prepared)
    angle = next(c for c in compare(prepared.lowered, run) if c.angle)
    assert np.max(np.abs(angle.shipped - angle.simulated)) > 6.0, "at some tick one of the two has wrapped"
    assert np.max(np.abs(run.trace(f"{angle.signal}_off").y - angle.gap)) < 1e-14
    assert next(largest for key, largest, _ in run.differences if key == angle.signal) < 1e-8


def test_a_quotient_that_ranges_let_grow_beyond_its_digits_is_told():
    """x³ over what may be tiny: in 32 bits the steps left are coarser than the result; limited where it is computed, it
    is right."""
    loose = (
        "def f(x, y, out, s, dt):\n    size = x * x + y * y\n    out = 0.6 * x * x * x / size if size > 1e-9 else 0.0\n"
    )
    tight = loose.replace("x * x * x / size", "x * saturate(x * x / size, 0.0, 1.0)")
    inputs = np.random.default_rng(4).uniform(-1.0, 1.0, (500, 2)) * [2.0, 0.7]
    wanted = 0.6 * inputs[:, 0] ** 3 / np.sum(inputs**2, axis=1)
    for text, right in ((loose, False), (tight, True)):
        deck, ranges = toys([text])
        made = lower(deck, Choices(NumberFormat.FIXED32, {}, ranges | {"toy_0.out": Interval(-2.0, 2.0)}))
        given = replay(load(shipped_alone(made)), fed(made, inputs), 1)[0][:, 0]
        assert (np.max(np.abs(given - wanted)) < 1e-6) == right
        assert bool(made.blocks[0].coarse) != right
        d = pendel.Drive("Loose")
        lines = tuple(line.strip() for line in text.split("\n")[1:] if line)
        d.add("own_block", "Mine", own=OwnEquations(("x: in", "y: in", "out: out"), equations=lines))
        for n, port in enumerate("xy"):
            d.add("sine", f"Wave {port}", amplitude="2", f=str(20 + n))
            d.connect(f"wave_{port}.out", f"mine.{port}")
        d.set("until", "0.1 s")
        d.find_ranges()
        d.set("number_format", "fixed32")
        told = [f.sentence for f in findings_of(d.document, prepare(d.document).lowered) if f.card == "mine"]
        assert any("Limit it where it is computed" in s or "too few digits" in s for s in told) != right, told

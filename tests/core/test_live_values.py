"""Live values: what is taken while the code runs is as if it had started so, stays within its ends, and overflows
nothing."""

import ctypes
import json
import random
import re
import shutil
import subprocess
from dataclasses import replace
from importlib import resources
from itertools import product

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.check.formats import number_choices, sizes_seen
from pendel.core.controllers.language import parse_update
from pendel.core.controllers.numbers.intervals import Interval, applied
from pendel.core.controllers.numbers.live_source import live_names
from pendel.core.controllers.numbers.lowering import Choices, lower, trees_of
from pendel.core.controllers.numbers.ranges import Hints, block_ranges
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import files, shipped_alone, shipped_values
from pendel.core.controllers.numbers.table_source import places_of
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive import clips, commands, file
from pendel.core.errors import DriveHasFindings, ExpressionProblem
from pendel.core.firmware.document import document_of
from pendel.core.firmware.processors import PACKAGES, PROCESSORS, missing_tools, on_processor
from pendel.core.firmware.ship import build_and_check, build_strictly, inputs_of, signals_of, write_sources
from pendel.core.firmware.values import values_of
from pendel.core.plant.compiler import build_library, compiler, other_compiler, run_compiler
from pendel.core.plant.program import RunSettings
from pendel.core.plant.runtime import load, pointer
from pendel.core.plant.simulator import Simulator
from pendel.core.quantities.named import Names
from pendel.core.quantities.stepping import stepped
from pendel.core.quantities.units import unit as unit_of
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record import kept
from pendel.core.runs.remarks.rounding import listed

from .test_numbers import EXAMPLES, FUNCTIONS, fed, hold, random_update, sanitized, toys, with_ranges

FORMATS = tuple(NumberFormat)


def replayed(made, inputs, changes=()):
    """Signals of a controller tick by tick; ``changes`` are live values that are taken before a tick."""
    library = load(shipped_alone(made))
    memory = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
    library.pd_ctl_tick.argtypes = library.pd_ctl_take.argtypes = library.pd_ctl_init.argtypes = None
    at = lambda a: ctypes.c_void_p(pointer(a))  # noqa: E731
    state, none, changes = ctypes.c_void_p(ctypes.addressof(memory)), np.zeros(1), dict(changes)
    library.pd_ctl_init(state, at(none))
    out = np.zeros((len(inputs), sum(len(b.tree.outputs) for b in made.blocks)))
    for k, row in enumerate(np.ascontiguousarray(np.column_stack([inputs, np.zeros(len(inputs))]))):
        if k in changes:
            values = np.array([*changes[k], 0.0], dtype=float)
            library.pd_ctl_take(state, at(values))
        library.pd_ctl_tick(state, at(row), at(out[k]), at(none))
    return out


def with_live(rng, text):
    """An update in which some of its numbers are values, with what they are and their ends."""
    values, ends = {}, {}

    def named(found):
        if rng.random() < 0.5:
            return found[0]
        name, now = f"k_{len(values)}", float(found[0])
        values[name] = now
        ends[name] = Interval(now * rng.uniform(0.3, 1.0), now * rng.uniform(1.0, 3.0))
        return name

    text = re.sub(r"\b\d+\.\d+\b", named, text)
    return text.replace("s, dt)", ", ".join(["s", *values, "dt)"])), values, ends


def live_toys(seed, count):
    rng = random.Random(seed)
    parts = [with_live(rng, random_update(rng)) for _ in range(count)]
    deck, ranges = toys(["def f(x, y, out, s, dt):\n    out = x\n"] * count)
    blocks = tuple(
        replace(b, update=parse_update(text), values=values) for b, (text, values, _) in zip(deck.blocks, parts)
    )
    live = {f"toy_{k}.{n}": i for k, (_, _, ends) in enumerate(parts) for n, i in ends.items()}
    return rng, replace(deck, blocks=blocks), ranges, live, parts


def at_random(rng, live, names):
    """Values within their ends, now and then at a rim."""
    return [rng.choice((live[n].low, live[n].high, rng.uniform(live[n].low, live[n].high))) for n in names]


def started_with(deck, names, numbers):
    """The deck as if these were its values."""
    given = dict(zip(names, numbers))
    blocks = (replace(b, values={n: given.get(f"{b.name}.{n}", v) for n, v in b.values.items()}) for b in deck.blocks)
    return replace(deck, blocks=tuple(blocks))


def test_random_blocks_take_values_as_if_they_had_started_with_them():
    rng, deck, ranges, live, _ = live_toys(5, 16)
    inputs = np.random.default_rng(1).uniform(-1.0, 1.0, (600, 2)) * [2.0, 0.7]
    for number, allowed in zip(FORMATS, (1e-9, 1e-3, 2e-3, 0.05)):
        made = lower(deck, Choices(number, {}, ranges, live))
        names = live_names(made)
        assert len(names) > 30
        other = started_with(deck, names, at_random(rng, live, names))
        started = lower(other, Choices(number, {}, ranges, live))
        taken = replayed(made, fed(made, inputs), {0: shipped_values(made, other, seed=0)})
        assert np.array_equal(taken, replayed(started, fed(started, inputs)), equal_nan=True), number
        # And as if they were constants, but where a comparison falls the other way.
        constant = lower(other, Choices(NumberFormat.FLOAT64, {}, ranges))
        exact = replayed(constant, fed(constant, inputs))
        near = []
        for k, block in enumerate(made.blocks):
            gap, rep = np.abs(taken[:, k] - exact[:, k]), block.reps["out"]
            if "out" in block.tree.angles:
                gap = np.abs(np.remainder(gap + np.pi, 2 * np.pi) - np.pi)
            size = np.pi if rep.angle else max(np.max(np.abs(exact[:, k])), 50 * rep.step)
            near.append(np.quantile(gap, 0.8) <= allowed * size)
        assert np.mean(near) >= 0.9, (number, np.flatnonzero(~np.array(near)))


def test_ranges_hold_for_all_that_live_values_may_be():
    rng, deck, ranges, live, parts = live_toys(8, 40)
    trees = trees_of(deck, Choices(NumberFormat.FLOAT64, {}, ranges, live))
    inputs = {"x": ranges["outside.x"], "y": ranges["outside.y"]}
    for k, (text, _, ends) in enumerate(parts):
        tree = trees[f"toy_{k}"]
        found = block_ranges(tree, {n: inputs[n] for n in tree.inputs}, Hints())
        scope = dict(FUNCTIONS)
        exec(text + "    return locals()\n", scope)
        s = 0.0
        for _ in range(300):
            x, y = (rng.choice((-1.0, 0.0, 1.0, rng.uniform(-1, 1))) for _ in "xy")
            after = scope["f"](2.0 * x, 0.7 * y, 0.0, s, *at_random(rng, ends, ends), 1e-3)
            s = after["s"]
            hold(found, tree, after, text)


def test_wild_values_taken_at_any_time_overflow_nothing(tmp_path):
    """With the sanitizers of undefined behaviour: values far beyond their ends, infinite and no numbers at all."""
    rng, deck, ranges, live, _ = live_toys(13, 8)
    wild = (float("nan"), float("inf"), -float("inf"), 1e300, -1e30, 0.0, -0.0, 5e-324)
    inputs = np.random.default_rng(2).uniform(-1.0, 1.0, (400, 2)) * [3.0, 3.0]
    for number in (NumberFormat.FIXED16, NumberFormat.FIXED32, NumberFormat.FLOAT32):
        made = lower(deck, Choices(number, {}, ranges, live))
        names = live_names(made)
        rows = [[rng.choice(wild) if rng.random() < 0.6 else v for v in at_random(rng, live, names)] for _ in inputs]
        text = (
            shipped_alone(made).replace("pd_ctl_tick(", "pd_plain_tick(")
            + f"""
void pd_ctl_tick({made.name}_t *c, const double *in, double *signals, double *out)
{{
    pd_ctl_take(c, in + {len(made.inputs)});
    pd_plain_tick(c, in, signals, out);
}}
"""
        )
        ran = sanitized(made, np.hstack([fed(made, inputs), rows]), text)
        assert ran.returncode == 0, (number, ran.stderr[:2000])
        # What was taken is within its ends, and a number.
        kept = replayed(made, fed(made, inputs), dict(enumerate(rows)))
        assert np.all(np.isfinite(kept)) or not number.fixed


def test_functions_of_intervals_hold_all_they_can_give():
    """Every triple of end points of a coarse grid, against all points between: limits may themselves move."""
    points = (-2.0, -0.5, 0.0, 1.0)
    pairs = [Interval(a, b) for a in points for b in points if a <= b]
    rng = random.Random(3)
    for name, count in (
        ("saturate", 3),
        ("minimum", 2),
        ("maximum", 2),
        ("absolute", 1),
        ("floor", 1),
        ("sqrt", 1),
    ):
        for at in product(pairs, repeat=count) if count < 3 else (rng.sample(pairs, 3) for _ in range(400)):
            found = applied(name, at)
            for arguments in product(*([i.low, 0.5 * (i.low + i.high), i.high] for i in at)):
                assert FUNCTIONS[name](*arguments) in found, (name, at, arguments)


def test_limits_that_move_are_held_in_words():
    """A limiter whose limits are signals, at all corners of their ranges (a limit above the other included)."""
    text = "def f(x, y, out, s, dt):\n    out = saturate(x, y - 1.0, 0.5 - 2.0 * y) - saturate(y, x, 0.25)\n"
    deck, ranges = toys([text])
    corners = np.array(list(product((-2.0, -0.6, 0.3, 2.0), (-0.7, -0.2, 0.5, 0.7))))
    plain = lower(deck, Choices(NumberFormat.FLOAT64, {}, ranges))
    exact = replayed(plain, fed(plain, corners))
    for number, allowed in ((NumberFormat.FIXED16, 1e-3), (NumberFormat.FIXED32, 1e-7)):
        made = lower(deck, Choices(number, {}, ranges))
        assert np.max(np.abs(replayed(made, fed(made, corners)) - exact)) < allowed
        assert sanitized(made, fed(made, corners)).returncode == 0


def live_door():
    d, run = with_ranges("car_door_drive")
    d.set_live("current_pi", "speed_pi.K_p=10…80", "travel_speed", "travel_plan.distance=-2 m…2 m", "pulse_stage")
    return d, run


def test_a_drive_with_live_values_is_shipped_run_and_changed_while_it_runs():
    """As shipped, a value that is written into the running simulation does what it does in a run that had it all
    along."""
    d, run = live_door()
    d.set("controller", "as shipped")
    for number in ("fixed16", "float32"):
        d.set("number_format", number)
        prepared = prepare(d.document)
        ran = run_drive(prepared)
        checked = build_and_check(prepared.lowered, ran)
        assert not checked.unlike and build_strictly(files(prepared.lowered)) > 500
        d.set("speed_pi.K_p", "20")
        found = []
        for each in (prepared, prepare(d.document)):
            with Simulator(each.program, each.inputs(RunSettings(0.5))) as simulator:
                simulator.write("speed_pi.K_p", 20.0)
                simulator.advance(0.3)
                found.append(simulator.read(["door_motor.current", "speed_pi.out"]))
        assert found[0] == found[1]
        d.undo()
    assert run.end == pytest.approx(1.2)


@pytest.mark.skipif(bool(missing_tools()), reason=f"no emulated processors here: install {PACKAGES}")
@pytest.mark.parametrize("number", [NumberFormat.FIXED16])
def test_processors_convert_live_values_to_the_same_bits(number):
    d, run = live_door()
    document = d.document
    choices = replace(number_choices(document, prepare(document).examined), default=number, blocks={})
    made = lower(prepare(document).deck, choices, sizes_seen(document))
    for processor in PROCESSORS:
        assert not on_processor(made, run, processor, 300).unlike


def test_live_values_follow_their_card_and_come_back_from_the_file_and_the_terminal(tmp_path, capsys):
    path = tmp_path / "door.pendel"
    shutil.copy(EXAMPLES / "car_door_drive.pendel", path)
    assert main(["live", str(path), "current_pi", "speed_pi.K_p=10…80"]) == 0
    d = file.load(path)
    assert d.cards["speed_pi"].live == {"K_p": ("10", "80")}
    assert set(d.cards["current_pi"].live) == {"K_p", "T_i", "low", "high"}
    assert d.cards["current_pi"].live["T_i"] == ("0.25*T_a", "4*T_a")
    commands.set_step(d, "speed_pi", "K_p", "×1.1").apply(d)
    commands.rename_quantity(d, "T_a", "T_armature").apply(d)
    commands.rename_card(d, "current_pi", "Inner loop").apply(d)
    again = file.from_text(file.to_text(d))
    assert again.cards["inner_loop"].live["T_i"] == ("0.25*T_armature", "4*T_armature")
    assert again.cards["speed_pi"].steps == {"K_p": "×1.1"}
    made = prepare(again).lowered
    page = document_of(made, {})
    assert "<td>T_i</td><td>0.00067</td><td>0.0001675</td><td>0.00268</td>" in page and "5e-05·K_p/T_i" in page
    source, header = files(made).source, files(made).header
    assert "inner_loop_values_take(" in source and "float K_p;  /* 10 to 80 */" in header
    assert main(["firmware", str(path), "--format", "fixed16", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    gain = next(v for v in told["values"] if v["block"] == "speed_pi" and v["name"] == "K_p")
    word, rep = gain["numbers"][0]["rep"], gain["numbers"][0]
    assert (
        gain["ends"] == ["10", "80"]
        and rep["now"] == 35.0
        and word["low"] <= 35 * 2 ** word["fraction"] <= word["high"]
    )
    assert main(["live", str(path), "speed_pi.K_p", "--off"]) == 0
    assert not file.load(path).cards["speed_pi"].live
    for words in (["speed_p"], ["speed_pi.K"], ["speed_pi.K_p=5"], ["encoder"], ["speed_pi", "--off"]):
        assert main(["live", str(path), *words]) == 2
        assert capsys.readouterr().err.startswith("pendel: ")


@pytest.mark.parametrize(
    ("card", "live", "words"),
    [
        ("speed_pi", {"K_p": ("40", "80")}, "goes from 40 to 80. Widen"),
        ("speed_pi", {"K_p": ("80", "10")}, "above its highest"),
        ("speed_pi", {"K_p": ("35", "35")}, "Give it a width"),
        ("speed_pi", {"K_p": ("1", "1/0")}, "live value K_p"),
        ("speed_pi", {"K_p": ("1 furlong", "90")}, "live value K_p"),
        ("speed_pi", {"T_i": ("0", "1 s")}, "above 0"),
        ("speed_pi", {"every": ("1", "40")}, "no value of that name"),
        ("speed_pi", {"out": ("-1", "1")}, "no value of that name"),
        ("encoder", {"counts": ("100", "9000")}, "only blocks of the control deck"),
        ("door_motor", {"R_a": ("1", "2")}, "only blocks of the control deck"),
    ],
)
def test_bad_live_values_get_a_sentence(card, live, words):
    d = pendel.open_example("car_door_drive").document
    commands.set_live(d, card, live).apply(d)
    with pytest.raises(DriveHasFindings) as told:
        prepare(d)
    assert words in str(told.value.findings[0]), told.value.findings[0]


def test_what_cannot_be_live_is_refused_at_its_block():
    divides = "def f(x, y, out, s, k, dt):\n    out = x / (k - 1.0)\n"
    turns = "def f(x, y, out, s, k, dt):\n    out = sin(k * wrapped(x))\n"
    deck, ranges = toys(["def f(x, y, out, s, dt):\n    out = x\n"])
    for text, number, words in (
        (divides, NumberFormat.FLOAT32, "leaves 0 out"),
        (turns, NumberFormat.FIXED16, "cannot be live"),
    ):
        block = replace(deck.blocks[0], update=parse_update(text), values={"k": 2.0})
        own = replace(deck, blocks=(block,))
        with pytest.raises(CannotLower, match=words):
            lower(own, Choices(number, {}, ranges, {"toy_0.k": Interval(0.5, 4.0)}))
    gains = "def f(x, y, out, s, k, dt):\n    out = x * k\n"
    for ends in (Interval(1.0, 1e39), Interval(1e-42, 2.0)):  # beyond what 32-bit float holds, either way
        own = replace(deck, blocks=(replace(deck.blocks[0], update=parse_update(gains), values={"k": 1.5}),))
        for number in (NumberFormat.FLOAT32, NumberFormat.FIXED16):
            with pytest.raises(CannotLower, match="32-bit float does not hold|too far apart|words can hold|no range"):
                lower(own, Choices(number, {}, ranges, {"toy_0.k": ends}))
    d = pendel.open_example("car_door_drive")
    d.add("delay", "Memory", ticks="4")
    commands.set_live(d.document, "memory", {"ticks": ("1", "9")}).apply(d.document)
    with pytest.raises(DriveHasFindings, match="must be a constant"):
        prepare(d.document)


def test_every_value_of_every_example_can_be_live():
    """All that the blocks' code uses and that is not 0, in C as strict as what is saved."""
    for example in ("haul_drive", "cabin_fan"):
        d, _ = with_ranges(example)
        deck, seen = prepare(d.document).deck, sizes_seen(d.document)
        plain = lower(deck, Choices(NumberFormat.FLOAT32))
        live = {
            v.key: Interval(*sorted((0.7 * v.now, 1.6 * v.now)))
            for v in values_of(d.document, plain)
            if v.now and not v.constant
        }
        made = lower(deck, Choices(NumberFormat.FLOAT32, {}, {}, live))
        assert len(live_names(made)) >= 10
        build_strictly(files(made))
        left, refused = dict(live), 0
        while True:  # pole pairs multiply angles and so on: named, one after the other
            try:
                made = lower(deck, Choices(NumberFormat.FIXED16, {}, {}, left), seen)
                break
            except CannotLower as problem:
                block = next(b.name for b in deck.blocks if b.title == problem.block)
                named = [
                    n
                    for n in left
                    if n.startswith(f"{block}.") and re.search(rf"\b{n.partition('.')[2]}\b", str(problem))
                ]
                assert named, problem
                left = {n: i for n, i in left.items() if n not in named}
                refused += 1
        assert refused < 6
        run_compiler(
            [*compiler(), "-std=c99", "-Wall", "-Werror", "-Wno-unused", "-fsyntax-only", "-x", "c", "-"],
            shipped_alone(made),
        )


@pytest.mark.parametrize(
    ("text", "unit", "figure"),
    [
        ("1800 rpm", "rpm", 1800),
        ("25 Hz", "rad/s", 50 * np.pi),
        ("0 Hz", "rad/s", 0),
        ("12", "rad/s", 12),
        ("2*30 rad/s", "rad/s", 60),
    ],
)
def test_a_value_of_any_unit_is_shown_in_one_that_its_figures_are_in(text, unit, figure):
    d = pendel.open_example("cabin_fan")
    d.set("speed_demand.after", text)
    values = {v.key: v for v in values_of(d.document, prepare(d.document).lowered)}
    found = values["speed_demand.after"]
    assert found.unit == unit and found.now / unit_of(unit)[0] == pytest.approx(figure, abs=1e-12)
    assert values["speed_regulator.high"].unit == "V" and values["speed_regulator.K_p"].unit == ""


def test_a_run_as_shipped_has_the_difference_of_each_signal_from_float_64(tmp_path):
    """To the bit what *Build and check* finds for the run's inputs; kept with the run, and none where all is in float
    64."""
    d = pendel.open_example("car_door_drive")
    d.set("until", "60 ms")
    d.set("controller", "as shipped")
    run = d.run()
    compared = {c.signal: c for c in build_and_check(prepare(d.document).lowered, run.kept).compared}
    kept.save(run.kept, tmp_path / "run.h5")
    for each in (run.kept, kept.load(tmp_path / "run.h5")):
        told = each.differences
        assert {key for key, *_ in told} == set(compared)
        for key, largest, share in told:
            assert np.array_equal(each.trace(f"{key}_off").y, compared[key].gap) and largest == compared[key].largest
            assert share == pytest.approx(largest / compared[key].span if compared[key].span else 0.0)
        assert [share for *_, share in told] == sorted((share for *_, share in told), reverse=True)
        assert told[0][2] > 1e-4 and each.infos["speed_pi.out_off"].unit == each.infos["speed_pi.out"].unit
    assert run.differences == run.kept.differences and "float 64" in listed(run.kept, 1)[0]
    for settings in ({"controller": "as modelled"}, {"number_format": "float64"}):
        twin = pendel.Drive(document=d.document.copy())
        for name, text in settings.items():
            twin.set(name, text)
        twin.document.cards = {k: replace(c, number_format="") for k, c in twin.document.cards.items()}
        assert not twin.run().differences


@pytest.mark.parametrize(
    ("text", "unit", "count", "step", "after"),
    [
        ("35", "", 1, "", "36"),
        ("1 A", "A", -1, "", "0.99 A"),
        ("0.99 A", "A", 1, "", "1 A"),
        ("2 mA", "A", 1, "0.5 A", "502 mA"),
        ("1.2", "", 3, "×1.1", "1.5972"),
        ("0.1", "", -1, "0.1", "0"),
        ("0", "A", -2, "", "-0.2"),
        ("−3 A", "A", 1, "1", "-2 A"),
        ("41\u2009000 V", "V", 1, "", "42000 V"),
    ],
)
def test_a_value_is_stepped_in_the_unit_it_is_written_in(text, unit, count, step, after):
    names = Names({"I_most": "12 A"})
    assert stepped(text, unit, count, step, names) == after
    with pytest.raises(ExpressionProblem, match="is an expression"):
        stepped("2*I_most", "A", count, step, names)
    for digits, figures in ((3, "42 A"), (4, "42.02 A"), (0, "42.021 A")):
        assert stepped("42.01 A", "A", 1, "11 mA", names, digits) == figures
    with pytest.raises(ExpressionProblem, match="2 digits of “42 A” do not show that step"):
        stepped("42 A", "A", 1, "0.1 A", names, 2)
    for bad in ("×1", "0", "×-2", "many"):
        with pytest.raises(ExpressionProblem):
            stepped("1 A", "A", 1, bad, names)


DEVIATIONS = {"10.1"}
"""Of MISRA C:2012's required rules, which docs/firmware.md names: right shifts of signed numbers, in two functions."""
ADVISORY = {"2.3", "2.4", "8.7", "8.9", "12.1", "15.5"}


@pytest.mark.skipif(shutil.which("cppcheck") is None, reason="no checker of MISRA's rules here: install cppcheck")
def test_what_is_shipped_keeps_the_required_rules_of_misra(tmp_path):
    """As far as cppcheck and its addon see; with the second compiler's warnings where there is one."""
    door, _ = live_door()
    haul, _ = with_ranges("haul_drive")
    for d, number in ((door, NumberFormat.FIXED16), (haul, NumberFormat.FLOAT32)):
        choices = replace(number_choices(d.document, prepare(d.document).examined), default=number, blocks={})
        made = lower(prepare(d.document).deck, choices, sizes_seen(d.document))
        folder = tmp_path / made.name
        write_sources(made, folder, d.document)
        for source in (f"{made.name}.c", f"{made.name}_table.c", "pd_numbers.c")[: 3 if d is door else 1]:
            flags = ("--addon=misra", "--enable=style", "--std=c99", "--template={id}:{line}:{file}")
            done = subprocess.run(["cppcheck", *flags, source], cwd=folder, capture_output=True, text=True, check=False)
            found = re.findall(r"misra-c2012-([\d.]+):(\d+):(\S+)", done.stderr)
            assert {rule for rule, *_ in found} <= DEVIATIONS | ADVISORY, found
            assert ADVISORY & {rule for rule, *_ in found}  # it did look
            shifts = {(int(line), name) for rule, line, name in found if rule == "10.1"}
            header = (folder / "pd_numbers.h").read_text().split("\n")
            assert all(name == "pd_numbers.h" and "return x >> k;" in header[line - 1] for line, name in shifts)
        if "clang" in "".join(other_compiler()):
            quiet = ("-Wno-padded", "-Wno-declaration-after-statement")
            run_compiler(
                [
                    *other_compiler(),
                    "-std=c99",
                    "-Weverything",
                    "-Werror",
                    *quiet,
                    "-fsyntax-only",
                    str(folder / f"{made.name}.c"),
                ]
            )
    flags = ("--addon=misra", "--enable=style", "--std=c99", "--template={id}")
    folder = resources.files("pendel.core.firmware") / "protocol"
    for source in ("pd_xcp.c", "pd_link.c", "pd_board.c"):
        done = subprocess.run(["cppcheck", *flags, source], cwd=folder, capture_output=True, text=True, check=False)
        rules = set(re.findall(r"misra-c2012-([\d.]+)", done.stderr))
        assert "18.4" in rules  # it did look
        assert rules <= ADVISORY | {"11.5", "12.3", "17.8", "18.4"}, (source, rules)


def test_the_table_finds_every_number_by_keys_that_stay(tmp_path):
    """Read out of the running controller's memory at its offsets, all signals are what the controller gives; a value
    that is written there acts after its conversion."""
    d, run = live_door()
    document = d.document
    commands.set_pinned_key(document, "current_pi", "7").apply(document)
    choices = replace(number_choices(document, prepare(document).examined), default=NumberFormat.FIXED16, blocks={})
    made = lower(prepare(document).deck, choices, sizes_seen(document))
    shipped, name = files(made), made.name
    library = ctypes.CDLL(
        str(build_library(f"{shipped_alone(made)}\n" + shipped.table.replace(f'#include "{name}.h"', "")))
    )
    memory = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
    state, none = ctypes.c_void_p(ctypes.addressof(memory)), np.zeros(1)
    inputs, signals = inputs_of(made, run)[:3000], signals_of(made)
    out = np.zeros(len(signals))

    def tick(k):
        row = np.ascontiguousarray(inputs[k])
        library.pd_ctl_tick(state, *(ctypes.c_void_p(pointer(a)) for a in (row, out, none)))

    def found(block, item):
        at = (ctypes.c_uint32 * 6)()
        return list(np.frombuffer(at, np.int32)) if getattr(library, f"{name}_find")(block, item, at) else None

    def held(place):
        _, _, offset, kind, bits, fraction = place
        kinds = {(0, 16): ctypes.c_int16, (0, 32): ctypes.c_int32, (1, 32): ctypes.c_float}
        return kinds[kind, bits].from_buffer(memory, int(offset)), 2.0 ** -int(fraction)

    library.pd_ctl_init(state, None)
    for k in range(3000):
        tick(k)
    places = places_of(made)
    assert len(places) == len({(p.block, p.item) for p in places}) > len(signals) + 8
    for p in places:
        if p.item < 100:
            word, step = held(found(p.block, p.item))
            assert word.value * step == out[signals.index(p.name)], p
    assert {p.block for p in places if p.name.startswith("current_pi.")} == {7}
    assert found(7, 99) is None and found(4, 1) is None
    gain, _ = held(found(7, 201))
    assert gain.value == pytest.approx(1.2)
    gain.value = 1e9
    getattr(library, f"{name}_convert")(state)
    assert gain.value == pytest.approx(4.8)  # brought to its end, four times
    # Kept through renaming, not copied, never twice.
    commands.rename_card(document, "current_pi", "Inner").apply(document)
    assert lower(prepare(document).deck, choices_of(document), sizes_seen(document)).keys["inner"] == 7
    copied, (twin,) = clips.copy_cards(document, ["inner"])
    copied.apply(document)
    assert (
        file.from_text(file.to_text(document)).cards["inner"].pinned_key == "7" and not document.cards[twin].pinned_key
    )
    for text, words in (
        ("7", "Inner has the pinned key 7 already"),
        ("0", "no whole number"),
        ("1e3", "no whole number"),
        ("²", "no whole"),
    ):
        command = commands.set_pinned_key(document, "speed_pi", text)
        command.apply(document)
        with pytest.raises(DriveHasFindings) as told:
            prepare(document)
        assert any(words in str(f) for f in told.value.findings) or words in str(told.value)
        command.revert(document)


def choices_of(document):
    return number_choices(document, prepare(document).examined)


@pytest.mark.parametrize("number", [NumberFormat.FLOAT32, NumberFormat.FIXED32])
def test_a_choice_can_be_changed_live(number):
    """A modulator with all its schemes in the C: taken while it runs, each is what it is when it alone is written."""
    d = pendel.Drive("Choice")
    d.set("tick", "100 us")
    d.add("three_phase_modulator", "Pulses", U_dc="560", d_min="1 %")
    deck = prepare(d.document).deck
    (block,) = deck.blocks
    sources = {f"u_{n}": f"outside.{n}" for n in "abc"}
    deck = replace(
        deck, blocks=(replace(block, sources={**block.sources, **sources}),), measured=tuple(sources.values())
    )
    # What the third harmonic divides by may be small, so the common voltage has no range of use by itself.
    ranges = {s: Interval(-300.0, 300.0) for s in (*sources.values(), "pulses.common")}
    t = np.arange(900) * 2 * np.pi / 200
    inputs = np.column_stack([250 * np.sin(t - k * 2 * np.pi / 3 + 0.01) for k in range(3)])
    live = lower(deck, Choices(number, {}, ranges, {"pulses.scheme": Interval(0.0, 5.0)}))
    assert len(files(live).source) > len(files(lower(deck, Choices(number, {}, ranges))).source) + 400
    schemes = range(6)
    given = replayed(live, inputs, {150 * k: [float(k)] for k in schemes})
    for k in schemes:
        blocks = (replace(b, values={**b.values, "scheme": float(k)}) for b in deck.blocks)
        alone = lower(replace(deck, blocks=tuple(blocks)), Choices(number, {}, ranges))
        wanted = replayed(alone, inputs)[150 * k : 150 * (k + 1)]
        allowed = 1e-5
        gap = np.abs(given[150 * k : 150 * (k + 1)] - wanted)
        assert np.quantile(gap, 0.98) < allowed, k  # where phases are equal either may be the highest

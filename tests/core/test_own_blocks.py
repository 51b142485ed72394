"""Blocks that the user types: block language, state machine and C agree with what they say, and say what is wrong."""

import ctypes
from dataclasses import replace

import numpy as np
import pytest
import scipy.signal

import pendel
from pendel.cli.main import main
from pendel.core.catalogue import own_block
from pendel.core.catalogue.own_block import EXAMPLES, LANGUAGE, MODES, C
from pendel.core.check.typed_c import refused_c
from pendel.core.controllers.numbers.source import files, library
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations
from pendel.core.drive.file import from_text, to_text
from pendel.core.errors import BuildProblem, DriveHasFindings, DriveProblem
from pendel.core.firmware import typed_c
from pendel.core.firmware.ship import build_and_check, build_strictly
from pendel.core.loops.models.points import WorkingPoints
from pendel.core.plant.compiler import build_library
from pendel.core.quantities.named import Names
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record.display_units import ShownUnits
from pendel.core.trust import allow_all_of, is_allowed, refuse_strange_c

TICK = 1e-3


def bench(kind, own=None, inputs=None, **values):
    """The block fed by profiles of (time, value), reloaded from its file."""
    d = pendel.Drive("Bench")
    d.set("tick", f"{TICK} s")
    d.add(kind, "Under test", own=own or EXAMPLES[kind], **values)
    for name, profile in (inputs or {}).items():
        source = d.add("profile", f"Feed {name}", profile=profile)
        d.connect(f"{source}.out", f"under_test.{name}")
    return pendel.Drive(document=from_text(to_text(d.document)))


NOISE = np.random.default_rng(3).uniform(-1, 1, 300)
FEED = [p for k, y in enumerate(NOISE) for p in ((f"{k * TICK} s", str(y)), (f"{(k + 0.9) * TICK} s", str(y)))]


def test_a_typed_update_and_c_give_the_same_filter_as_scipy():
    lines = ("share = dt / (T + dt)", "kept = kept + share * (x - kept)", "y = kept")
    typed = OwnEquations(("x: in", "y: out"), ("T = 5 ms",), ("kept = 0.25",), (), lines)
    in_c = OwnEquations(typed.ports, typed.values, (*typed.states, "part = 0"), (), EXAMPLES[C].equations)
    share = TICK / (5e-3 + TICK)
    wanted, _ = scipy.signal.lfilter([share], [1, share - 1], NOISE, zi=[0.25 * (1 - share)])
    for kind, own in ((LANGUAGE, typed), (C, in_c)):
        d = bench(kind, own, {"x": FEED})
        run = d.run(0.299)
        np.testing.assert_allclose(run["under_test.y"].y, wanted[: len(run["under_test.y"].y)], atol=1e-12)
        checked = build_and_check(prepare(d.document).lowered, run.kept)
        assert max(c.largest for c in checked.compared) < 1e-5
        assert not checked.unlike
    d.set("under_test.T", "50 ms")  # its values are values like any other
    assert np.max(np.abs(d.run(0.299)["under_test.y"].y - wanted[: len(run["under_test.y"].y)])) > 0.1


def test_a_state_machine_changes_when_its_conditions_hold():
    start = [("0", "0"), ("50 ms", "0"), ("50 ms", "1"), ("400 ms", "1"), ("400 ms", "0"), ("1", "0")]
    fault = [("0", "0"), ("350 ms", "0"), ("350 ms", "1"), ("360 ms", "1"), ("360 ms", "0"), ("1", "0")]
    d = bench(MODES, inputs={"start": start, "fault": fault})
    run = d.run(0.7)
    mode, enable = run["under_test.mode"], run["under_test.enable"].y
    changes = [(round(t, 6), m) for t, m, b in zip(mode.t[1:], mode.y[1:], mode.y[:-1]) if m != b]
    # charge at 50 ms, run once 0.2 s are over, idle by the fault at 350 ms, charge again as start is still on,
    # idle at 400 ms
    assert [m for _, m in changes] == [1, 2, 0, 1, 0]
    np.testing.assert_allclose([t for t, _ in changes], [0.05, 0.25, 0.35, 0.351, 0.4], atol=2.1e-3)
    np.testing.assert_array_equal(enable, mode.y == 2)


@pytest.mark.parametrize(
    ("kind", "changes", "words"),
    [
        (LANGUAGE, {"equations": ("y = z + 1",)}, "update line 1: z has no value here"),
        (LANGUAGE, {"equations": ("y = x", "x = 2")}, "x is given from outside"),
        (LANGUAGE, {"equations": ("y = (x",)}, "update line 1: This cannot be read"),
        (
            LANGUAGE,
            {"equations": ("y = x", "", "import os")},
            "update line 3: import is not part of the block language",
        ),
        (LANGUAGE, {"equations": ("y = x ** 2",)}, "powers are not part"),
        (LANGUAGE, {"ports": ("x: in",)}, "The block has no output"),
        (LANGUAGE, {"ports": ("x: in", "x: out")}, "x is defined twice"),
        (LANGUAGE, {"ports": ("dt: in", "y: out")}, "dt means something already"),
        (
            MODES,
            {"equations": ("idle: enable = 0", "run: enable = 1", "idle -> stop: start > 1")},
            "line 3: There is no mode stop",
        ),
        (MODES, {"equations": ("idle: enable = 0", "run: enable = 1")}, "line 2: No change leads to the mode run"),
        (
            MODES,
            {"equations": ("idle: enable = 0", "run: enable = 1", "idle -> run: begin > 1")},
            "line 3: begin has no value",
        ),
        (C, {"equations": ("y = kept", "kept = x;")}, "The compiler says: expected"),
        (C, {"equations": ("y = x;", "y = unknown;")}, "update line 2: The compiler says: “unknown” undeclared"),
        (C, {"equations": ("#include <stdlib.h>", "y = x;")}, "Lines for the preprocessor"),
        (C, {"equations": ("y = x; }",)}, "Braces and brackets must match"),
    ],
)
def test_what_is_wrong_is_told_with_its_line(kind, changes, words):
    own = EXAMPLES[kind]
    fields = {n: changes.get(n, getattr(own, n)) for n in OwnEquations.__dataclass_fields__}
    d = bench(kind, OwnEquations(**fields))
    with pytest.raises(DriveHasFindings) as caught:
        d.run(0.01)
    assert any(words in f.sentence for f in caught.value.findings), [f.sentence for f in caught.value.findings]


def test_c_from_a_file_runs_only_when_it_is_allowed(tmp_path, capsys, monkeypatch):
    foreign = replace(EXAMPLES[C], equations=(*EXAMPLES[C].equations, "/* from elsewhere */"))
    d = bench(C, foreign, {"x": FEED})
    monkeypatch.setattr("pendel.core.trust.ALLOWED_HERE", set())  # this process has not seen it
    points = WorkingPoints(prepare(d.document))
    assert [point.name for point in points] == ["at rest"]  # judging loops runs nothing
    path = tmp_path / "own.pendel"
    d.save(path)
    assert main(["run", str(path), "--until", "10 ms"]) != 0
    assert "brings C of its own" in capsys.readouterr().err
    assert main(["run", str(path), "--until", "10 ms", "--own-c"]) == 0


def test_two_own_blocks_of_one_kind_keep_apart():
    d = bench(LANGUAGE, inputs={"x": FEED})
    other = OwnEquations(("x: in", "y: out"), ("K = 3",), (), (), ("y = K * x",))
    d.add(LANGUAGE, "Second", own=other)
    d.connect("under_test.y", "second.x")
    run = run_drive(prepare(d.document), until=0.1)
    np.testing.assert_allclose(run.trace("second.y").y, 3 * run.trace("under_test.y").y, atol=1e-12)


def test_a_unit_that_was_chosen_counts_while_the_signal_is_of_that_kind():
    """A speed read in rpm becomes a current, and then a speed again."""
    shown = ShownUnits()
    for unit, read in (("rad/s", "rpm"), ("A", "A"), ("rad/s", "rpm"), ("", "")):
        own = OwnEquations(
            ("x: in", f"n: out{unit and ', ' + unit}"), (f"n_0 = 5 {unit}",), (), (), ("n = n_0 + 0 * x",)
        )
        run = bench(LANGUAGE, own, {"x": [("0", "0"), ("1", "0")]}).run(0.02).kept
        run.units = shown
        if not shown.chosen:
            shown.choose("under_test.n", run.declared_unit("under_test.n"), "rpm")
        assert run.trace("under_test.n").unit == read


def test_values_stand_in_the_unit_beside_them(tmp_path, capsys):
    """An output declared in rpm is 1500 in a file under [rpm], and its trace is 157.08 in SI, as every trace is."""
    own = OwnEquations(("x: in", "n: out, rpm"), ("n_0 = 1500 rpm",), (), (), ("n = n_0 + 0 * x",))
    d = bench(LANGUAGE, own, {"x": [("0", "0"), ("1", "0")]})
    run = d.run(0.02)
    assert run["under_test.n"].y == pytest.approx(157.0796, rel=1e-6)
    assert run["under_test.n"].y_in("rpm") == pytest.approx(1500)
    for units, name, value in (({}, "rpm", 1500.0), ({"under_test.n": "rad/s"}, "rad/s", 157.0796)):
        run.save(tmp_path / "n.csv", ["under_test.n"], units)
        head, first = (tmp_path / "n.csv").read_text().splitlines()[:2]
        assert head == f"time [s],under_test.n [{name}]" and float(first.split(",")[1]) == pytest.approx(
            value, rel=1e-6
        )
    with pytest.raises(DriveProblem, match="cannot be shown in V. Choose rpm or rad/s"):
        run.save(tmp_path / "n.csv", None, {"under_test.n": "V"})
    d.save(tmp_path / "bench.pendel")
    asked = ["--until", "20 ms", "--signals", "under_test.n"]
    assert main(["measure", str(tmp_path / "bench.pendel"), *asked, "--unit", "under_test.n=rad/s"]) == 0
    assert "under_test.n\trad/s\t157.08\t157.08" in capsys.readouterr().out
    assert main(["measure", str(tmp_path / "bench.pendel"), *asked]) == 0
    assert "under_test.n\trpm\t1500\t1500" in capsys.readouterr().out


def test_own_values_and_starts_count_what_they_were_typed_in():
    """100 rad/s are 100 and 100 rpm 10.47 in own equations, as values and as starts; 100 Hz and 100 1/s stay 100."""
    rates = ("100 rad/s", "100 rpm", "100 Hz", "100 1/s")
    own = OwnEquations(
        ("a: dc, u, i",),
        tuple(f"v_{k} = {text}" for k, text in enumerate(rates)),
        tuple(f"x_{k} = {text}" for k, text in enumerate(rates)),
        (),
        (*(f"der(x_{k}) = v_{k} * x_0" for k in range(4)), "i = 0 A"),
    )
    d = pendel.Drive("Own")
    d.set("until", "1 us")
    d.add("own", "Part", own=own)
    d.add("dc_source", "Feed")
    d.connect("feed.dc", "part.a")
    run = d.run()
    assert [run[f"part.x_{k}"].y[0] for k in range(4)] == pytest.approx([100, 10.471976, 100, 100])
    assert [run[f"part.x_{k}"].unit for k in range(4)] == ["rad/s", "rad/s", "Hz", "1/s"]
    assert [
        run.kept.parameters[run.kept.structure.parameter_keys.index(f"part.v_{k}")] for k in range(4)
    ] == pytest.approx([100, 10.471976, 100, 100])


def in_words(number, own=None, **settings):
    """The block in C, shipped in a format, beside SciPy's filter."""
    d = bench(C, own, {"x": FEED})
    allow_all_of(d.document)
    commands.set_number_format(d.document, "feed_x", "float64").apply(d.document)  # what is looked at is the other
    d.set("until", "0.299 s")
    run = d.run()
    d.find_ranges()
    for name, text in {"number_format": number, **settings}.items():
        d.set(name, text)
    return d, run.kept


@pytest.mark.parametrize(("number", "allowed"), [("fixed16", 2e-3), ("fixed32", 2e-4)])
def test_own_c_in_words_is_the_filter_of_scipy_and_the_same_to_the_bit(number, allowed):
    """Its coefficient is a word of 14 digits, made from its values when the controller starts and when they change."""
    d, run = in_words(number)
    for time_constant, live in (("5 ms", False), ("20 ms", True)):
        if live:
            d.set_live("under_test.T=1 ms…50 ms")
            d.set("under_test.T", time_constant)
            run = run_drive(prepare(d.document))
        made = prepare(d.document).lowered
        T = float(time_constant.split()[0]) * 1e-3
        part = np.floor(TICK / (T + TICK) * 2**14) / 2**14
        checked = build_and_check(made, run)
        assert not checked.unlike
        given = next(c for c in checked.compared if c.signal == "under_test.y").shipped
        wanted = scipy.signal.lfilter([part], [1, part - 1], NOISE)[: len(given)]
        assert np.max(np.abs(given - wanted)) < allowed
    d.set("controller", "as shipped")
    shipped = run_drive(prepare(d.document))
    assert not build_and_check(prepare(d.document).lowered, shipped).unlike


def test_c_for_float_alone_and_c_that_is_wrong_in_words_get_a_sentence():
    example = EXAMPLES[C]
    d, _ = in_words("fixed16", replace(example, words=(), convert=()))
    with pytest.raises(DriveHasFindings, match="write its update in words"):
        _ = prepare(d.document).lowered
    for change, words in (
        ({"words": ("y = moved(kept, 14 + z_q);",)}, "update in words line 1: The compiler says"),
        ({"convert": ("part = 1;", "part = T +;")}, "conversion line 2: The compiler says"),
        ({"words": ("y = x; }",)}, "closes nothing"),
        ({"words": ("#define y x",)}, "preprocessor"),
        ({"words": ()}, "no update in words"),
        ({"words": ("y = T;",)}, "The compiler says"),
        ({"equations": ("y = unheard_of(x);",)}, "declaration of function “unheard_of”."),
    ):
        d = bench(C, replace(example, **change), {"x": FEED})
        allow_all_of(d.document)
        with pytest.raises(DriveHasFindings) as told:
            prepare(d.document)
            raise DriveHasFindings(refused_c(d.document))
        assert any(words in f.sentence for f in told.value.findings), (words, told.value.findings)
    # Another word in it is other C, which was not allowed.
    other = replace(example, words=(*example.words, "y = y + 1;"))
    assert is_allowed(example) and not is_allowed(other)
    document = bench(C).document
    refuse_strange_c(document, "allow it")
    commands.set_own(document, "under_test", other).apply(document)
    with pytest.raises(DriveProblem, match="brings C"):
        refuse_strange_c(document, "allow it")


STRAYS = [
    (
        "int a[3];\na[(int)(x * 0 + 7)] = 1; y = a[1];",
        "Under test: “a[(int)(x * 0 + 7)] = 1; y = a[1];” is undefined in C: index 7",
    ),
    ("((double *)&y)[100000] = 1;", "is undefined in C: store"),
    ("int most = 2147483647; most += (int)(x * x) + 1; y = most;", "signed integer overflow"),
    ("*(volatile double *)4096 = 2.0; y = 1;", "Look at its pointers"),
    ("int unused = 0; y = x;", "Under test: The compiler says of “int unused = 0; y = x;”: unused variable “unused”."),
    ("for (;;) { kept += 1; } y = 1;", "did not come to its end in 2 s"),
]


@pytest.mark.parametrize(("typed", "words"), STRAYS)
def test_typed_c_that_does_what_c_leaves_undefined_is_told_before_its_build_is_checked(typed, words, monkeypatch):
    monkeypatch.setattr(typed_c, "COMPUTING", 2)
    example = EXAMPLES[C]
    d = bench(C, example, {"x": FEED})
    run = d.run(0.05).kept
    assert build_and_check(prepare(d.document).lowered, run).watched is True
    commands.set_own(d.document, "under_test", replace(example, equations=tuple(typed.split("\n")))).apply(d.document)
    allow_all_of(d.document)
    with pytest.raises(BuildProblem) as told:
        build_and_check(prepare(d.document).lowered, run)
    assert words in str(told.value) and str(told.value).startswith("Under test: ")


def test_what_is_missing_is_written_and_what_is_typed_stays():
    names = Names({})
    empty = OwnEquations(("x: in", "y: out, V", "n: out"), ("K = 2",), ("m = 0",))
    for kind in (C, LANGUAGE):
        framed = own_block.framed(empty, kind, names)
        d = bench(kind, framed, {"x": FEED})
        allow_all_of(d.document)
        assert np.all(d.run(0.01)["under_test.y"].y == 0.0)
        for port in ("y", "n"):
            commands.set_range(d.document, "under_test", port, ("-1", "1")).apply(d.document)
        commands.set_range(d.document, "feed_x", "out", ("-1", "1")).apply(d.document)
        d.set("number_format", "fixed16")
        build_strictly(files(prepare(d.document).lowered))
        line = "y = K * x + m;" if kind == C else "y = K * x + m"
        again = own_block.framed(replace(framed, equations=(line,), ports=(*empty.ports, "q: out")), kind, names)
        assert again.equations[0] == line and [e.split(" ")[0] for e in again.equations] == ["y", "n", "q"]
        assert again.words[: len(framed.words)] == framed.words
    with pytest.raises(DriveProblem, match="Ports, line 1"):
        own_block.framed(replace(empty, ports=("x",)), C, names)


def test_digits_are_taken_off_and_appended_as_far_as_there_is_room():
    """`moved` of own C in words against exact fractions, at both ends and beyond."""
    texts = library()
    made = ctypes.CDLL(
        str(build_library(texts["pd_numbers.c"].replace('#include "pd_numbers.h"', texts["pd_numbers.h"])))
    )
    for bits, kind in ((32, ctypes.c_int32), (64, ctypes.c_int64)):
        moved = getattr(made, f"pd_moved{bits}")
        moved.restype, moved.argtypes = kind, [kind, ctypes.c_int32]
        maximum = 2 ** (bits - 1) - 1
        for x in (0, 1, -1, 5, -5, 1000, maximum, -maximum):
            for k in (0, 1, 2, 7, bits - 1, bits, 1000, 2**31 - 1):
                wanted = (x + 2 ** (k - 1)) >> k if 0 < k < bits else (x if k == 0 else 0)
                assert moved(x, k) == wanted, (bits, x, k)
            for k in (-1, -4, 1 - bits, -bits, -(2**31)):
                limit = 2 ** (bits - 1) - 2
                assert moved(x, k) == max(-limit, min(limit, x * 2 ** min(-k, 80))), (bits, x, k)

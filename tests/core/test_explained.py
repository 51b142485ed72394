"""Shipped C says what its numbers are, of which drive it is, and how it is called."""

from __future__ import annotations

import hashlib
import re
import zlib

import numpy as np
import pytest

import pendel
from pendel.core.controllers.numbers.explained import Explained
from pendel.core.controllers.numbers.source import files
from pendel.core.drive import file
from pendel.core.firmware.ship import write_sources
from pendel.core.runs.preparing.simulate import prepare

NAMED = re.compile(
    r"(?:/\* (?P<above>[^*]*) \*/\n +)?const \w+ (?P<name>\w+) = \(?(?:-?INT64_C\()?(?P<word>[-\d.e+]+)f?\)*;"
    r"(?:  /\* (?P<beside>.*?) \*/)?\n"
)
FUNCTION = re.compile(r"^static void (\w+)_(?:update|give|take)\(.*?^}", re.MULTILINE | re.DOTALL)


@pytest.mark.parametrize(
    ("example", "number"),
    [("haul_drive", "float32"), ("cabin_fan", "fixed32"), ("service_trolley", "float32")]
    + [("car_door_drive", number) for number in ("float32", "fixed16", "fixed32")],
)
def test_named_numbers_of_a_block_are_what_their_formulas_give(example, number):
    """Every formula beside a number is evaluated with the block's values; in words, times the step that it names."""
    d = pendel.open_example(example)
    d.document.settings["number_format"] = number
    lowered = prepare(d.document).lowered
    instances = {lowered.members[b.name]: b.tree.instance for b in lowered.blocks}
    checked = 0
    for function in FUNCTION.finditer(files(lowered).source):
        instance = instances[function[1]]
        values = {**instance.values, "dt": lowered.deck.tick * instance.every}
        for m in NAMED.finditer(function[0]):
            told, steps = m["beside"] or m["above"] or "", None
            if found := re.search(r"(?:, )?in steps of 2\^(-?\d+)$", told):
                told, steps = told[: found.start()], 2.0 ** int(found[1])
            formula, _, shown = told.rpartition(" = ")
            if not told and m["name"] not in values:
                continue  # a local of the block
            wanted = eval(formula or m["name"], {"__builtins__": {}}, values)
            size = float(m["word"]) * (steps or 1.0)
            assert abs(size) == pytest.approx(abs(wanted), rel=1e-7, abs=0.5 * (steps or 0.0) + 1e-30), m[0]
            assert not shown or float(shown) == pytest.approx(wanted, rel=1e-5)
            checked += 1
    assert checked > 8


def test_an_explained_number_is_the_float_that_plain_arithmetic_gives():
    k, t, dt, low = (Explained(x, (n,)) for n, x in (("K", 0.3), ("T", 0.7), ("dt", 1e-4), ("low", -3.0)))
    for made, plain, formula in (
        (k * dt / t, 0.3 * 1e-4 / 0.7, "K*dt/T"),
        (1.0 / t * k, 1.0 / 0.7 * 0.3, "K/T"),
        (2.0 * (k + t) - 1.0, 2.0 * (0.3 + 0.7) - 1.0, "2*(K + T) - 1"),
        (k - (t - dt), 0.3 - (0.7 - 1e-4), "K - (T - dt)"),
        (-low / (k * t), 3.0 / (0.3 * 0.7), "-low/(K*T)"),
        (max(low, k), 0.3, "K"),
    ):
        assert made == plain and made.formula == formula
    assert type(k * t / t / k) is float, "nothing is left to say"
    assert type(k * t * dt * low * k * t) is float, "too much to say"


def test_in_closed_loop_the_difference_is_that_of_two_runs_and_drifts_no_further():
    """By definition: rms over the run of the run as shipped less that as modelled, over the signal's span."""
    d = pendel.open_example("car_door_drive")
    d.set("until", "0.6")
    d.find_ranges()
    check = d.firmware(check=True).check
    d.set("controller", "as modelled")
    exact = d.run()["speed_pi.out"].y
    d.set("controller", "as shipped")
    gap = d.run()["speed_pi.out"].y - exact
    rms, span = float(np.sqrt(np.mean(gap**2))), float(np.ptp(exact))
    assert check.closed["speed_pi.out"] == pytest.approx(rms / span, rel=1e-6) and rms > 0.0
    d.set("number_format", "float64")
    assert max(d.firmware(check=True).check.closed.values()) < 1e-12


def test_what_is_saved_says_of_which_drive_it_is_and_how_it_is_called(tmp_path):
    d = pendel.open_example("car_door_drive")
    d.document.settings["title"] = "Door | <b>*loud*</b> `x` [link](http://nowhere) */ int y; /*"
    d.rename("speed_pi", "Speed | <img src=x> *PI* */")
    d.save(tmp_path / "door.pendel")
    lowered = prepare(d.document).lowered
    name = lowered.name
    write_sources(lowered, tmp_path / "c", d.document)
    digest = hashlib.sha256((tmp_path / "door.pendel").read_bytes()).hexdigest()
    for ending in ("c", "h"):
        text = (tmp_path / "c" / f"{name}.{ending}").read_text("utf-8")
        head, _, rest = text.partition("\n */\n")
        assert digest in head and pendel.__version__ in head
        assert re.search(r"comment: ([0-9a-f]{8})", head)[1] == f"{zlib.crc32(rest.encode()):08x}"
    page = (tmp_path / "c" / f"{name}.md").read_text("utf-8")
    assert digest in page and f"`{name}_tick(&c)`" in page and "Every 50 µs" in page
    assert "| `in.current_sensor_value` | int16_t |" in page and "act 1 tick later" in page
    assert "<b>" not in page and "<img" not in page and "](http" not in page
    rows = [line for line in page.splitlines() if line.startswith("|")]
    assert {len(re.findall(r"(?<!\\)\|", row)) for row in rows} <= {6, 8}, "no title makes a column"
    d.set("K_p", "36 A*s/m")
    assert hashlib.sha256(file.to_text(d.document).encode()).hexdigest() != digest
    write_sources(prepare(d.document).lowered, tmp_path / "c", d.document)
    assert digest not in (tmp_path / "c" / f"{name}.md").read_text("utf-8")

"""What a run of a field-oriented drive tells of wrong wiring, lost estimates and a voltage that ends: common practice,
no source. Every shipped drive must stay silent."""

import dataclasses
from pathlib import Path

import numpy as np
import pytest

import pendel
from pendel.core.drive import commands
from pendel.core.errors import RunProblem

EXAMPLES = Path(pendel.__file__).parent / "examples"


def rewired(name, level, **pairs):
    """An example at a level, with each of ``pairs`` (input: signal) wired anew; ``__`` stands for the dot."""
    d = pendel.open_drive(EXAMPLES / f"{name}.pendel")
    d.set("level", level)
    new = {b.replace("__", "."): a for b, a in pairs.items()}
    old = [k for k, w in d.document.wires.items() if str(w.b) in new]
    d.do(commands.remove_wires(d.document, old))
    for b, a in new.items():
        d.connect(a, b)
    return d


def told(d, until=None):
    try:
        return [r.sentence for r in d.run(until).kept.remarks]
    except RunProblem as problem:
        return [r.sentence for r in problem.run.remarks]


@pytest.mark.parametrize("level", ["averaged", "switching"])
@pytest.mark.parametrize(
    ("swapped", "which"),
    [(("b", "c", "b"), "b and c"), (("a", "c", "a"), "a and c"), (("a", "b", "c", "a"), "a, b and c")],
)
def test_swapped_phases_are_named_on_either_side(level, swapped, which):
    turned = dict(zip(swapped, swapped[1:]))
    duties = {f"inverter__d_{n}": f"space_vector.d_{m}" for n, m in turned.items()}
    (sentence,) = told(rewired("haul_drive", level, **duties))
    assert f"the voltages {which} reach Haul machine swapped" in sentence
    currents = {f"measured_currents__{n}": f"current_{m}.value" for n, m in turned.items()}
    (sentence,) = told(rewired("haul_drive", level, **currents))
    assert f"its currents {which} are swapped" in sentence


def test_a_speed_beyond_the_voltage_is_told_with_the_limit():
    d = pendel.open_drive(EXAMPLES / "haul_drive.pendel")
    bench = d.document.cards["test_bench"]
    fast = (("0", "0"), ("0.02", "420"), ("9", "420"))
    d.document.cards["test_bench"] = dataclasses.replace(bench, profile=fast)
    (sentence,) = told(d)
    assert "Current regulator: the voltage is at its limit of 317 V" in sentence  # 98 % of 560 V/√3
    assert "beyond the voltage" in sentence


def test_an_estimate_that_loses_a_standing_machine_is_told():
    d = pendel.open_drive(EXAMPLES / "old_haul_drive.pendel")
    d.set("speed_demand.after", "0 rpm")
    (sentence,) = told(d)
    assert "it has lost the machine" in sentence and "Near standstill" in sentence


def test_an_estimate_of_nothing_at_rest_has_lost_nothing():
    """In the first instants the flux is built up; the shaft's speed, and the estimate, are rounding."""
    d = pendel.open_drive(EXAMPLES / "old_haul_drive.pendel")
    run = d.run(0.02)
    assert 0 < np.max(np.abs(run["speed_estimate.speed"].y)) < 1e-9
    assert not [m for m in run.kept.remarks if m.card == "speed_estimate"]
    assert [m for m in d.run(0.2).kept.remarks if m.card == "speed_estimate"], "6 rad/s at standstill is another thing"


@pytest.mark.parametrize("change", [{"R_r": "1 ohm"}, {"K": "0.1 rad/s"}])
def test_an_estimate_by_wrong_values_is_told(change):
    d = pendel.open_drive(EXAMPLES / "old_haul_drive.pendel")
    for name, text in change.items():
        d.set(f"speed_estimate.{name}", text)
    (sentence,) = told(d)
    assert "it has lost the machine" in sentence

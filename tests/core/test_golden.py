"""C as it is emitted for small drives, line by line: what a change of the emitters does to it is seen in its diff.

PENDEL_GOLDEN=write ./run test tests/core/test_golden.py      # takes the present texts; read the diff before you commit
"""

from __future__ import annotations

import difflib
import os
from collections.abc import Callable
from pathlib import Path

import pytest

import pendel
from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import files
from pendel.core.drive.document import Drive
from pendel.core.drive.examples import DEMO
from pendel.core.drive.file import load
from pendel.core.firmware.ranges import sizes_in
from pendel.core.runs.preparing.simulate import prepare, run_drive

GOLDEN = Path(__file__).with_name("golden")


def wired(drive: pendel.Drive, *wires: tuple[str, str]) -> Drive:
    for a, b in wires:
        drive.connect(a, b)
    return drive.document


def sliding_mass() -> Drive:
    """A force on a mass with dry friction: a mode, its guards, and what is held at zero."""
    d = pendel.Drive("Sliding mass")
    d.add("load_force", "Push", profile=[("0", "0"), ("1", "-30")])
    d.add("mass", "Block", m="2")
    d.add("rail_friction", "Rail")
    return wired(d, ("push.a", "block.a"), ("block.b", "rail.a"))


def charged_filter() -> Drive:
    """A diode between source and capacitor: a device, an algebraic node, losses."""
    d = pendel.Drive("Charged filter")
    d.add("ac_source", "Feed", U="10", f="50")
    d.add("ground", "Earth")
    d.add("resistor", "R", R="2")
    d.add("diode", "D")
    d.add("capacitor", "C", C="1 mF")
    return wired(d, ("feed.a", "r.a"), ("r.b", "d.a"), ("d.b", "c.a"), ("c.b", "earth.line"), ("feed.b", "earth.line"))


def gear_train() -> Drive:
    """Two inertias with one speed: a state that gives way, a starting value that must agree, a loss by its sign."""
    d = pendel.Drive("Gear train")
    d.add("imposed_torque", "Push", profile=[("0", "2"), ("9", "2")])
    d.add("inertia", "Fast", J="0.01")
    d.add("gear", "Gear", ratio="5", eta="90")
    d.add("inertia", "Slow", J="0.5", starts={"omega": "10"})
    return wired(d, ("push.a", "fast.a"), ("fast.b", "gear.a"), ("gear.b", "slow.a"))


def plant_of(drive: Drive) -> dict[str, str]:
    return {"plant.c": prepare(drive).structure.source}


def controller_of(number: NumberFormat) -> dict[str, str]:
    """The door's, with the ranges that its run has met."""
    prepared = prepare(load(DEMO))
    met = sizes_in(prepared.deck, run_drive(prepared))
    sizes = {f"{block}.{name}": size for block, found in met.items() for name, size in found.items()}
    texts = files(lower(prepared.deck, Choices(number), sizes)).texts
    return {name: text for name, text in texts.items() if not name.startswith("pd_numbers")}


CASES: dict[str, Callable[[], dict[str, str]]] = {
    "sliding_mass": lambda: plant_of(sliding_mass()),
    "charged_filter": lambda: plant_of(charged_filter()),
    "gear_train": lambda: plant_of(gear_train()),
    "door_as_modelled": lambda: {"control.c": prepare(load(DEMO)).program.control},
    "door_float32": lambda: controller_of(NumberFormat.FLOAT32),
    "door_fixed16": lambda: controller_of(NumberFormat.FIXED16),
}


@pytest.mark.parametrize("case", CASES)
def test_the_emitted_c_is_what_was_read_last(case):
    folder, texts = GOLDEN / case, CASES[case]()
    if os.environ.get("PENDEL_GOLDEN") == "write":
        folder.mkdir(parents=True, exist_ok=True)
        for name, text in texts.items():
            (folder / name).write_text(text, "utf-8")
    assert sorted(path.name for path in folder.iterdir()) == sorted(texts)
    for name, text in texts.items():
        kept = (folder / name).read_text("utf-8")
        changes = difflib.unified_diff(kept.splitlines(), text.splitlines(), "kept", "emitted", lineterm="", n=1)
        assert kept == text, "\n".join(list(changes)[:60])

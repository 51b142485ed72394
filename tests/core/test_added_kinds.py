"""What installed packages add: kinds, levels, measures, tuning rules, methods and trace formats."""

import json
import math
import os
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

import numpy as np
import pytest
import scipy.linalg

ADDITIONS = Path(__file__).parents[2] / "examples" / "additions"

USES = """
import json, sys, warnings
import pendel
from pendel.core.loops.tuning.tuning import propose
from pendel.core.vocabulary import levels

def regulator(level):
    d = pendel.Drive("Regulator")
    d.set("until", "200 s")
    d.set("level", level)
    d.add("dc_source", "Supply", U_0="24 V", R_i="0")
    d.add("line_regulator", "Regulator")
    d.add("pair_opener", "Terminals")
    d.add("resistor", "Load", R="1")
    for a, b in (("supply.dc", "regulator.dc"), ("regulator.out", "terminals.pair"), ("load.a", "terminals.plus"),
                 ("load.b", "terminals.minus")):
        d.connect(a, b)
    return d.run()

def coil(method, tolerance):
    d = pendel.Drive("Coil")
    d.set("until", "20 ms")
    d.set("method", method)
    d.set("tolerance", tolerance)
    d.add("dc_source", "Supply", U_0="12 V", R_i="0")
    d.add("voice_coil", "Coil")
    d.connect("supply.dc", "coil.coil")
    return d.run()

d = pendel.Drive("Vote")
d.set("until", "40 ms")
d.add("sine", "Tone", amplitude="3", f="50")
d.add("constant", "Outlier", value="9")
d.add("constant", "Low", value="-4")
d.add("median", "Median")
for n, source in zip("abc", ("tone", "outlier", "low")):
    d.connect(f"{source}.out", f"median.{n}")
vote = d.run()

coils = {m: coil(m, "1e-7") for m in ("heun", "explicit")}
door = pendel.open_drive(sys.argv[1]).document
print(json.dumps({
    "levels": levels(),
    "warm": regulator("warm")["load.current"].y[-1],
    "averaged": regulator("averaged")["load.current"].y[-1],
    "coil": {
        m: [run["coil.speed"].y[-1], *(run.kept.counters[n] for n in ("steps", "evaluations"))]
        for m, run in coils.items()
    },
    "crest": vote.measure("crest", "median.out", 0.0, 0.04),
    "T_i": {r: propose(door, "speed_pi", r)["T_i"] for r in ("symmetrical", "roomy")},
}))
"""


def install(folder: Path, name: str, module: str, entry_points: str) -> None:
    """What an installer leaves behind: the module, and the metadata beside it."""
    (folder / f"{name}.py").write_text(module)
    leave_metadata(folder, name, entry_points)


def leave_metadata(folder: Path, name: str, entry_points: str) -> None:
    info = folder / f"{name}-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(entry_points)


def install_additions(folder: Path) -> None:
    """The package of examples/additions, with the entry points of its pyproject."""
    shutil.copytree(ADDITIONS / "pendel_additions", folder / "pendel_additions")
    groups = tomllib.loads((ADDITIONS / "pyproject.toml").read_text())["project"]["entry-points"]
    points = "\n".join(
        line
        for group, entries in groups.items()
        for line in (f"[{group}]", *(f"{name} = {thing}" for name, thing in entries.items()))
    )
    leave_metadata(folder, "pendel_additions", points + "\n")


def python(folder: Path, *arguments: str) -> subprocess.CompletedProcess:
    environment = {**os.environ, "PYTHONPATH": f"{folder}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"}
    done = subprocess.run([sys.executable, *arguments], env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-2000:]
    return done


@pytest.fixture
def packages(tmp_path):
    folder = tmp_path / "site"
    folder.mkdir()
    return folder


def used(folder: Path, example: Path) -> dict:
    return json.loads(python(folder, "-c", USES, str(example)).stdout)


def test_one_file_adds_a_machine_a_converter_with_its_level_a_block_a_measure_a_rule_or_a_method(
    packages, example_path
):
    install_additions(packages)
    found = used(packages, example_path)
    assert found["levels"] == ["system", "averaged", "warm", "switching", "device"]
    assert found["averaged"] == pytest.approx(12 / 1.1, rel=1e-6)
    current, resistance = 0.0, 0.1  # R = 0.1·(1 + 0.004·5·R·i²), settled
    for _ in range(100):
        current = 12 / (1 + resistance)
        resistance = 0.1 * (1 + 0.004 * 5 * resistance * current**2)
    assert found["warm"] == pytest.approx(current, rel=1e-4)
    # u = R·i + L·di/dt + k·v, m·dv/dt = k·i, from rest: the matrix exponential is exact.
    flow = scipy.linalg.expm(0.02 * np.array([[-4 / 2e-3, -8 / 2e-3, 12 / 2e-3], [8 / 0.1, 0, 0], [0, 0, 0]]))
    for speed, *_ in found["coil"].values():
        assert speed == pytest.approx(flow[1, 2], rel=3e-6)
    (_, heun, evaluations), (_, explicit, _) = (found["coil"][m] for m in ("heun", "explicit"))
    assert heun > 10 * explicit and evaluations < 2.2 * heun, "it is a method of second order that steps"
    # The median of a sine, 9 and -4 is the sine: its crest factor is √2.
    assert found["crest"] == pytest.approx(math.sqrt(2), rel=2e-3)
    # T_i = a²·T_σ with a = 4 and 2 (Leonhard, Control of Electrical Drives, section 14).
    assert found["T_i"]["roomy"] == pytest.approx(4 * found["T_i"]["symmetrical"], rel=1e-9)
    # Another version of the package states other equations: nothing that was ordered for the first is taken for it.
    path = packages / "pendel_additions" / "converter.py"
    path.write_text(path.read_text().replace("ratio * u_in +", "2 * ratio * u_in +"))
    shutil.rmtree(packages / "pendel_additions" / "__pycache__", ignore_errors=True)
    assert used(packages, example_path)["averaged"] == pytest.approx(24 / 1.1, rel=1e-6)


def test_a_package_that_cannot_be_taken_is_left_out_and_told(packages):
    install(packages, "broken", "raise RuntimeError('not today')", "[pendel.kinds]\nbroken = broken:KIND\n")
    clashing = "from pendel.core.catalogue.mechanics.inertias import INERTIA as KIND\nNOTHING = 5\n"
    install(packages, "clashing", clashing, "[pendel.kinds]\nclash = clashing:KIND\nnothing = clashing:NOTHING\n")
    code = "from pendel.core.catalogue.index import kinds; from pendel.core.extensions import all_left_out\n"
    code += "print(len(kinds())); print(*all_left_out(), sep=chr(10))"
    count, *told = python(packages, "-c", code).stdout.splitlines()
    alone, *nothing = python(packages.parent, "-c", code).stdout.splitlines()
    assert count == alone and nothing == [""]
    assert "“broken” of broken cannot be loaded: not today" in told[0]
    assert "“inertia” of clashing has the id of another" in told[1] and "neither a part nor a block" in told[2]


def test_measures_rules_and_methods_that_cannot_be_taken_are_said(packages):
    module = (
        "from dataclasses import replace\n"
        "from pathlib import Path\n"
        "from pendel.core.measures.rms import MEASURE\n"
        "from pendel.core.plant.methods import RunMethod\n"
        "BARE, GONE = RunMethod('bare', 'Bare'), RunMethod('gone', 'Gone', source=Path('/nowhere.c'), table='GONE')\n"
        "INJECTED = RunMethod('bad', 'Bad', source=Path(__file__), table='X; int y')\n"
    )
    points = "[pendel.measures]\nrms = odd:MEASURE\n[pendel.tuning_rules]\nrule = odd:MEASURE\n[pendel.methods]\n"
    install(packages, "odd", module, points + "bare = odd:BARE\ngone = odd:GONE\ninjected = odd:INJECTED\n")
    code = (
        "from pendel.app.window.about import what_was_left_out; from pendel.core.plant.methods import METHODS\n"
        "print(len(METHODS), *what_was_left_out(), sep=chr(10))"
    )
    count, *told = python(packages, "-c", code).stdout.splitlines()
    assert count == "5" and len(told) == 5
    for words in (
        "“rms” of odd has the id",
        "no tuning rule",
        "“bare” of odd has no C file",
        "“gone” of odd has no C file",
        "“bad” of odd has no C file, or its table",
    ):
        assert any(words in sentence for sentence in told), words


def test_a_package_adds_a_format_of_traces(packages, tmp_path):
    install_additions(packages)
    install(
        packages,
        "clashing_traces",
        "def write(columns, path): raise RuntimeError",
        "[pendel.trace_formats]\ncsv = clashing_traces:write\n",
    )
    example = Path(__file__).parents[2] / "src" / "pendel" / "examples" / "valley_feeder.pendel"
    asked = [
        "-m",
        "pendel.cli.main",
        "run",
        str(example),
        "--until",
        "1 ms",
        "--signals",
        "grid.current",
        "--out",
    ]
    for name in ("traces.npz", "traces.csv"):
        python(packages, *asked, str(tmp_path / name))
    found = np.load(tmp_path / "traces.npz")
    assert list(found) == ["time [s]", "grid.current [A]"] and found["time [s]"][-1] == pytest.approx(1e-3)
    assert (tmp_path / "traces.csv").read_text().startswith("time [s],"), "ours stay ours"

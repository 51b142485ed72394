"""Kinds and trace formats that installed packages add."""

import math
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

MORE = Path(__file__).parents[2] / "examples" / "more_kinds"

BENCH = """
import pendel, sys
from pendel.core.catalogue.index import kinds, left_out
d = pendel.Drive("Blower bench")
d.set("until", "0.2 s")
d.add("imposed_speed", "Bench", profile=[("0", "0 rpm"), ("0.1 s", "1500 rpm")])
d.add("blower", "Blower", M_n="2", n_n="3000")
d.connect("bench.a", "blower.shaft")
d.save(sys.argv[1])
run = pendel.open_drive(sys.argv[1]).run()
print(run["blower.torque"].y[-1], run["blower.speed"].y[-1])
"""


def install(folder: Path, name: str, module: str, entry_points: str) -> None:
    """What an installer leaves behind: the module, and the metadata beside it."""
    (folder / f"{name}.py").write_text(module)
    info = folder / f"{name}-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(entry_points)


def python(folder: Path, *arguments: str) -> subprocess.CompletedProcess:
    environment = {**os.environ, "PYTHONPATH": f"{folder}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"}
    return subprocess.run(
        [sys.executable, *arguments], env=environment, capture_output=True, text=True, check=True
    )


@pytest.fixture
def packages(tmp_path):
    folder = tmp_path / "site"
    folder.mkdir()
    return folder


def test_a_package_adds_a_kind_by_being_installed(packages, tmp_path):
    """The one of examples/more_kinds, as its pyproject names it, runs: 2 N·m at 3000 rpm are 0.5 N·m at 1500 rpm (affinity law)."""
    (entry,) = [
        line for line in (MORE / "pyproject.toml").read_text().splitlines() if line.startswith("blower =")
    ]
    points = "[pendel.kinds]\n" + entry.replace('"', "") + "\n"
    install(packages, "pendel_more_kinds", (MORE / "pendel_more_kinds.py").read_text(), points)
    path = tmp_path / "bench.pendel"
    torque, speed = map(float, python(packages, "-c", BENCH, str(path)).stdout.split())
    assert speed == pytest.approx(1500 * math.pi / 30, rel=1e-6) and torque == pytest.approx(0.5, rel=1e-6)
    told = python(
        packages,
        "-m",
        "pendel.cli.main",
        "measure",
        str(path),
        "--signals",
        "blower.torque",
        "--from",
        "0.15 s",
    ).stdout
    assert float(told.splitlines()[1].split("\t")[2]) == pytest.approx(0.5, rel=1e-5)
    # Another version of the package states other equations: nothing that was ordered for the first is taken for it.
    text = (packages / "pendel_more_kinds.py").read_text()
    (packages / "pendel_more_kinds.py").write_text(text.replace("ca.fabs(share)", "1.0"))
    shutil.rmtree(packages / "__pycache__", ignore_errors=True)
    assert float(python(packages, "-c", BENCH, str(path)).stdout.split()[0]) == pytest.approx(1.0, rel=1e-6)


def test_a_package_that_cannot_be_taken_is_left_out_and_told(packages):
    install(packages, "broken", "raise RuntimeError('not today')", "[pendel.kinds]\nbroken = broken:KIND\n")
    clashing = "from pendel.core.catalogue.mechanics.inertias import INERTIA as KIND\nNOTHING = 5\n"
    install(
        packages, "clashing", clashing, "[pendel.kinds]\nclash = clashing:KIND\nnothing = clashing:NOTHING\n"
    )
    code = "from pendel.core.catalogue.index import kinds, left_out; print(len(kinds())); print(*left_out, sep=chr(10))"
    count, *told = python(packages, "-c", code).stdout.splitlines()
    alone, *nothing = python(packages.parent, "-c", code).stdout.splitlines()
    assert count == alone and nothing == [""]
    assert "“broken” of broken cannot be loaded: not today" in told[0]
    assert (
        "“inertia” of clashing has the id of another" in told[1] and "neither a part nor a block" in told[2]
    )


def test_a_package_adds_a_format_of_traces(packages, tmp_path):
    module = (
        "import numpy as np\n"
        "def write(table, path):\n"
        "    np.savez(path, **{name: values for name, unit, values in table})\n"
    )
    install(
        packages,
        "npz_traces",
        module,
        "[pendel.trace_formats]\nnpz = npz_traces:write\ncsv = npz_traces:write\n",
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
    assert list(found) == ["time", "grid.current"] and found["time"][-1] == pytest.approx(1e-3)
    assert (tmp_path / "traces.csv").read_text().startswith("time [s],"), "ours stay ours"

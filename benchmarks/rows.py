"""Hashes of the rows of every example at every level, by every method and at two tolerances, so that a change that
should change no result can show that it changes none to the bit.

python benchmarks/rows.py keep before.json          # on the commit before python benchmarks/rows.py compare before.json
# on the commit after; exits with 1 where rows differ python benchmarks/rows.py compare before.json --also sliced    #
the same, each run cut into slices, saved and restored

`keep` uses nothing but what every commit has: prepare, integrate and the shape of a record.
"""

from __future__ import annotations

import argparse
import hashlib
import itertools
import json
import sys
import warnings
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.campaigns.truth.slices import in_slices

import pendel
from pendel.core.drive.file import load
from pendel.core.errors import PendelError
from pendel.core.plant.integrate import integrate
from pendel.core.plant.methods import IN_CONTROL
from pendel.core.plant.program import RunSettings
from pendel.core.runs.preparing.simulate import prepare
from pendel.core.vocabulary.levels import OURS

EXAMPLES = Path(pendel.__file__).parent / "examples"
TOLERANCES = (1e-5, 1e-7)
LONGEST = {"auto": 0.02, "explicit": 2e-4, "stiff": 0.005, "fast": 0.005, "fixed": 0.02}
"""s, by method: explicit steps follow the fastest leak. Of the run as it was saved the whole is taken."""


def digest(recorded) -> str:
    rows, ticks = (np.ascontiguousarray(a) for a in (recorded.rows, recorded.ticks))
    whole = hashlib.sha256(rows.tobytes() + ticks.tobytes())
    whole.update(repr((rows.shape, ticks.shape, int(recorded.outcome), sorted(recorded.counters.items()))).encode())
    return whole.hexdigest()[:16]


def cases(name: str, level: str, *, sliced: bool) -> dict[str, str]:
    """Hashes of one example at one level, by method and tolerance; and of its whole run where the level is its own."""
    warnings.simplefilter("ignore")
    drive = load(EXAMPLES / name)
    own = drive.settings["level"] == level
    drive.settings["level"] = level
    label = f"{name.removesuffix('.pendel')} {level}"
    try:
        prepared = prepare(drive)
    except PendelError as problem:
        return {label: f"refused: {problem}"[:80]}
    settings = prepared.examined.settings
    wanted = {
        f"{label} {method} {tolerance:g}": RunSettings(
            min(LONGEST[method], settings["until"]),
            tolerance,
            method,
            1,
            h_max=2e-4,
            fixed_step=settings["step"],
        )
        for method, tolerance in itertools.product(IN_CONTROL, TOLERANCES)
        if method != "fixed" or tolerance == TOLERANCES[0]
    }
    if own:
        end = settings["until"]
        wanted[f"{label} as saved"] = RunSettings(
            end,
            settings["tolerance"],
            drive.settings["method"],
            1,
            h_max=end / 1000,
            fixed_step=settings["step"],
        )
    return {key: run_case(prepared, chosen, sliced=sliced) for key, chosen in wanted.items()}


def run_case(prepared, chosen: RunSettings, *, sliced: bool) -> str:
    inputs = prepared.inputs(chosen)
    return digest(in_slices(prepared.program, inputs) if sliced else integrate(prepared.program, inputs))


def gather(*, sliced: bool = False) -> dict[str, str]:
    names = sorted(p.name for p in EXAMPLES.glob("*.pendel"))
    found: dict[str, str] = {}
    with ProcessPoolExecutor(2) as pool:
        waiting = [pool.submit(cases, n, level, sliced=sliced) for n in names for level in OURS]
        for done in waiting:
            found |= done.result()
            print(f"\r{len(found)} runs", end="", file=sys.stderr)
    print(file=sys.stderr)
    return found


def main() -> int:
    reader = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    reader.add_argument("what", choices=("keep", "compare"))
    reader.add_argument("path", type=Path)
    reader.add_argument("--also", choices=("sliced",))
    chosen = reader.parse_args()
    found = gather(sliced=chosen.also == "sliced")
    if chosen.what == "keep":
        chosen.path.write_text(json.dumps(found, indent=1, sort_keys=True))
        print(f"{len(found)} hashes kept in {chosen.path}")
        return 0
    before = json.loads(chosen.path.read_text())
    differ = sorted(k for k in before.keys() | found.keys() if before.get(k) != found.get(k))
    for key in differ:
        print(f"{key}: {before.get(key, 'was not there')} -> {found.get(key, 'is not there')}")
    print(f"{len(differ)} of {len(before)} differ")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main())

"""Large drives: a chain of masses on springs and a ladder of resistors and capacitors, by how their cost grows."""

from __future__ import annotations

import math
import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

import pendel
from pendel.core.runs.preparing.simulate import prepare, run_drive

Row = Callable[[str, str, str], None]


def ladder(sections: int) -> pendel.Drive:
    d = pendel.Drive("Ladder")
    d.set("until", "10 ms")
    d.add("ac_source", "Feed", U="10", f="50")
    d.add("ground", "Earth")
    d.connect("feed.b", "earth.line")
    last = "feed.a"
    for k in range(sections):
        r, c = d.add("resistor", f"R {k}", R="10"), d.add("capacitor", f"C {k}", C="1 uF")
        for a, b in ((last, f"{r}.a"), (f"{r}.b", f"{c}.a"), (f"{c}.b", "earth.line")):
            d.connect(a, b)
        last = f"{r}.b"
    return d


def chain(masses: int) -> pendel.Drive:
    d = pendel.Drive("Chain")
    d.set("until", "0.2 s")
    d.set("method", "stiff")
    d.add("imposed_torque", "Push", profile=[("0", "1"), ("1", "1")])
    last = "push.a"
    for k in range(masses):
        mass = d.add("inertia", f"J {k}", J="1e-3")
        d.connect(last, f"{mass}.a")
        if k < masses - 1:
            spring = d.add("elastic_shaft", f"S {k}", k="2000", d="0.01")
            d.connect(f"{mass}.b", f"{spring}.a")
            last = f"{spring}.b"
    return d


def seconds_a_step(masses: int) -> float:
    prepared = prepare(chain(masses).document)
    run_drive(prepared)
    times = []
    for _ in range(5):
        begun = time.perf_counter()
        run = run_drive(prepared)
        times.append((time.perf_counter() - begun) / run.counters["steps"])
    return statistics.median(times)


def report(row: Row) -> None:
    few, many = seconds_a_step(40), seconds_a_step(160)
    row(
        "Chain of 40 to 160 masses, stiff: time for a step grows as n to the", f"{math.log(many / few, 4):.2f}", "≤ 1.3"
    )
    with tempfile.TemporaryDirectory() as fresh:
        before = os.environ.get("XDG_CACHE_HOME")
        os.environ["XDG_CACHE_HOME"] = fresh
        document = ladder(300).document
        begun = time.perf_counter()
        prepared = prepare(document)
        ordered = time.perf_counter()
        run_drive(prepared)
        row("Ladder of 300 sections: checked and ordered for the first time", f"{ordered - begun:.1f} s", "≤ 1 s")
        row("its first run, with the build", f"{time.perf_counter() - ordered:.1f} s", "≤ 5 s")
        if before is None:
            del os.environ["XDG_CACHE_HOME"]
        else:
            os.environ["XDG_CACHE_HOME"] = before


if __name__ == "__main__":
    report(lambda *columns: print(*columns, sep=" | "))

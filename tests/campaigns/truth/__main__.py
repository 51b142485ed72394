"""``./run truth [--n N] [--seed S] [--only …]``: how many random cases of each kind, from which seed on."""

from __future__ import annotations

import argparse
import sys
import time

from pendel.core.errors import PendelError
from tests.campaigns.truth import beyond, bits, blocks, figures, metamorphic, methods, sheets, slices
from tests.campaigns.truth.drives import FAMILIES, Case, case
from tests.campaigns.truth.report import FAILED, Tallies, table

CHAINS = 10
"""Random controllers for each drive of a family."""
SHEETS = 20
"""Data sheets for each number."""
PARTS = ("methods", "slices", "scipy", "metamorphic", "figures", "blocks", "beyond", "sheets", "bits")


def look_at(each: Case, parts: tuple[str, ...], tallies: Tallies) -> None:
    if "methods" in parts:
        methods.compare(each, tallies)
        methods.again(each, tallies["two threads, to the bit"])
        if each.seed % 4 == 0:
            methods.in_another_process(each, tallies["another process, to the bit"])
    if "slices" in parts:
        for method in ("auto", "fast", "stiff", "fixed"):
            slices.however_it_is_cut(each, method, tallies["in slices, saved and restored, to the bit"])
    if "scipy" in parts and each.seed % 4 == 0:
        methods.second_opinion(each, tallies["SciPy with its own events"])
    if "figures" in parts:
        figures.figures(each, tallies["mean and rms by definition"])


class Telling:
    """Says on the way what was looked at, and each failure once, since a campaign may take hours."""

    def __init__(self, tallies: Tallies):
        self.tallies, self.begun, self.told = tallies, time.monotonic(), set[str]()

    def after(self, what: str) -> None:
        failed = [f"{t.name}: {sentence}" for t in self.tallies.values() for sentence in t.failed]
        count = sum(t.count for t in self.tallies.values())
        print(f"{time.monotonic() - self.begun:7.0f} s  {what}: {count} looked at, {len(failed)} failed", flush=True)
        for sentence in failed:
            if sentence not in self.told:
                print(f"           {sentence}", flush=True)
        self.told.update(failed)


def campaign(n: int, seed: int, parts: tuple[str, ...] = PARTS) -> Tallies:
    """All checks; ``n`` cases of each family."""
    tallies = Tallies()
    telling = Telling(tallies)
    for number in range(seed, seed + n):
        for family in FAMILIES:
            each = case(family, number)
            try:
                look_at(each, parts, tallies)
            except PendelError as problem:
                tallies["drives that run at all"].fault(each.name, str(problem), each.drive)
        if "metamorphic" in parts:
            metamorphic.twins(number, tallies)
        if "blocks" in parts:
            for kind in blocks.control_kinds():
                blocks.over_time(kind, number, 0.01, tallies["blocks in 32-bit float, a moment"])
                blocks.in_words(kind, number, tallies["blocks in fixed point, a moment"])
        if "beyond" in parts:
            for kind in (*blocks.control_kinds(), *beyond.GRID, *beyond.MACHINE):
                beyond.beyond(number, tallies["blocks in fixed point beyond the run of their ranges"], kind)
            for k in range(CHAINS):
                beyond.beyond(CHAINS * number + k, tallies["chains in fixed point beyond the run of their ranges"])
        if "sheets" in parts:
            for k in range(SHEETS):
                sheets.sheets(SHEETS * number + k, tallies["drives made of sheets nobody tried"])
        telling.after(f"seed {number}")
    if "blocks" in parts:
        for kind in blocks.control_kinds():
            blocks.over_time(kind, seed, blocks.HOURS, tallies["blocks in 32-bit float, ten hours"])
        telling.after("ten hours")
    if "bits" in parts:
        tally = tallies["every build and processor, to the bit"]
        for kind in blocks.control_kinds():
            bits.of_block(kind, seed, tally)
        for example in bits.examples():
            bits.of_example(example, tally)
    return tallies


def main() -> int:
    asked = argparse.ArgumentParser(prog="run truth", description=__doc__)
    asked.add_argument("--n", type=int, default=10)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--only", choices=PARTS, action="append")
    options = asked.parse_args()
    begun = time.monotonic()
    tallies = campaign(options.n, options.seed, tuple(options.only or PARTS))
    print(table(tallies.values()))
    failures = sum(len(t.failed) for t in tallies.values())
    print(
        f"{sum(t.count for t in tallies.values())} looked at, {failures} failed, {time.monotonic() - begun:.0f} s."
        + (f" Failing drives are in {FAILED}." if failures else "")
    )
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())

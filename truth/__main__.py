"""``./run truth [--n N] [--seed S] [--only …]``: how many random cases of each kind, from which seed on."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable

from pendel.core.errors import PendelError
from truth import blocks, figures, metamorphic, methods
from truth.drives import FAMILIES, Case, case
from truth.report import FAILED, Tally, table

PARTS = ("methods", "scipy", "metamorphic", "figures", "blocks")


def look_at(
    each: Case, parts: tuple[str, ...], of_methods: dict[str, Tally], tally: Callable[[str], Tally]
) -> None:
    if "methods" in parts:
        methods.compare(each, of_methods)
        methods.again(each, tally("two threads, to the bit"))
    if "scipy" in parts and each.seed % 4 == 0:
        methods.second_opinion(each, tally("SciPy with its own events"))
    if "figures" in parts:
        figures.figures(each, tally("mean and rms by definition"))


def campaign(n: int, seed: int, parts: tuple[str, ...] = PARTS) -> list[Tally]:
    """All checks; ``n`` cases of each family."""
    found: dict[str, Tally] = {}

    def tally(name: str) -> Tally:
        return found.setdefault(name, Tally(name))

    of_methods = {
        name: Tally(name)
        for name in (
            "reference",
            "auto at 1e-6",
            "auto at 1e-8",
            "fast at 1e-6",
            "energy of auto",
            "order of fixed",
        )
    }
    of_twins = {
        name: Tally(name)
        for name in (
            "voltage scaled",
            "time scaled",
            "mirrored signs",
            "a part split in two",
            "everything later",
            "runs end to end",
            "phases swapped",
            "delta as star",
        )
    }
    for number in range(seed, seed + n):
        for family in FAMILIES:
            each = case(family, number)
            try:
                look_at(each, parts, of_methods, tally)
            except PendelError as problem:
                tally("drives that run at all").fault(each.name, str(problem), each.drive)
        if "metamorphic" in parts:
            metamorphic.twins(number, of_twins)
        if "blocks" in parts:
            for kind in blocks.control_kinds():
                blocks.over_time(kind, number, 0.01, tally("blocks in 32-bit float, a moment"))
    if "blocks" in parts:
        for kind in blocks.control_kinds():
            blocks.over_time(kind, seed, blocks.HOURS, tally("blocks in 32-bit float, ten hours"))
    used = [
        *(of_methods.values() if "methods" in parts else ()),
        *(of_twins.values() if "metamorphic" in parts else ()),
    ]
    return [*used, *found.values()]


def main() -> int:
    asked = argparse.ArgumentParser(prog="run truth", description=__doc__)
    asked.add_argument("--n", type=int, default=10)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--only", choices=PARTS, action="append")
    options = asked.parse_args()
    begun = time.monotonic()
    tallies = campaign(options.n, options.seed, tuple(options.only or PARTS))
    print(table(tallies))
    failures = sum(len(t.failed) for t in tallies)
    print(
        f"{sum(t.count for t in tallies)} looked at, {failures} failed, {time.monotonic() - begun:.0f} s."
        + (f" Failing drives are in {FAILED}." if failures else "")
    )
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())

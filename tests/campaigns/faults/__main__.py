"""``./run faults [--n N] [--seed S] [--only …] [--every]``: how many rounds, from which seed on; ``--soak SECONDS`` and
``--sanitize``."""

from __future__ import annotations

import argparse
import sys
import time
from random import Random

from tests.campaigns.faults import sanitize
from tests.campaigns.faults.boundaries import BOUNDARIES, SHARES, all_values, value_of_a_kind
from tests.campaigns.faults.report import FAILED, Boundary, table
from tests.campaigns.faults.soak import soak
from tests.campaigns.faults.texts import ODD_NUMBERS


def campaign(n: int, seed: int, only: list[str] | None = None) -> list[Boundary]:
    found = []
    for name in only or BOUNDARIES:
        boundary = Boundary(name)
        for number in range(max(1, round(n * SHARES[name]))):
            BOUNDARIES[name](Random(f"{name} {seed} {number}"), boundary)
        found.append(boundary)
    return found


def every_value(boundary: Boundary) -> Boundary:
    """Each odd number in each value of each kind, once."""
    rng = Random(1)
    for which in all_values():
        for number in ODD_NUMBERS:
            value_of_a_kind(rng, boundary, which, number)
    return boundary


def main() -> int:
    asked = argparse.ArgumentParser(prog="run faults", description=__doc__)
    asked.add_argument("--n", type=int, default=1000)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--only", choices=[*BOUNDARIES], action="append")
    asked.add_argument("--every", action="store_true", help="each odd number in each value of each kind, too")
    asked.add_argument(
        "--soak", type=float, metavar="SECONDS", help="use the window at random for so long, and nothing else"
    )
    asked.add_argument("--sanitize", action="store_true", help="run the examples through sanitizers, and nothing else")
    options = asked.parse_args()
    begun = time.monotonic()
    if options.sanitize:
        return sanitize.main()
    found = [soak(options.soak, options.seed)] if options.soak else campaign(options.n, options.seed, options.only)
    if options.every:
        found.append(every_value(Boundary("every value of every kind")))
    print(table(found))
    failures = sum(len(b.failed) for b in found)
    print(
        f"{sum(b.count for b in found)} tried, {failures} failed, {time.monotonic() - begun:.0f} s."
        + (f" Failing cases are in {FAILED}." if failures else "")
    )
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())

"""How many cores may be used at once: all that this process has, or fewer where somebody wants it so."""

from __future__ import annotations

import contextlib
import os

VARIABLE = "PENDEL_CORES"
"""Of the environment, by which processes that are started learn it too."""


def all_cores() -> int:
    """Those that this process may run on."""
    if hasattr(os, "sched_getaffinity"):
        return max(1, len(os.sched_getaffinity(0)))
    return max(1, os.cpu_count() or 1)


def usable_cores() -> int:
    """Those that work is spread over; a wish that is no number from 1 on is passed over."""
    with contextlib.suppress(ValueError):
        wanted = int(os.environ.get(VARIABLE, ""))
        if wanted >= 1:
            return min(wanted, all_cores())
    return all_cores()


def use_cores(count: int) -> None:
    """Use as many from now on; all with 0."""
    if count:
        os.environ[VARIABLE] = str(count)
    else:
        os.environ.pop(VARIABLE, None)

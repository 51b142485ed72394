"""What a controller in fixed point lost in a run: how often its sums took no step in though what they add was not zero,
and how often words cut something off that their ranges do not hold.

The controller is written with counters, built, and fed with what its inputs were in the run; it gives the same bits as
without."""

from __future__ import annotations

import ctypes
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from pendel.core.controllers.numbers.lowering import Lowered, lower
from pendel.core.controllers.numbers.source import shipped_alone

HEAD = """
typedef struct {{
    double ticks, first, last;
}} pd_cuts;

static double pd_now = -1.0;

static int64_t pd_cut(int64_t x, int64_t low, int64_t high, pd_cuts *cuts)
{{
    if ((x < low || x > high) && (cuts->last < pd_now || cuts->ticks == 0.0)) {{
        cuts->first = (cuts->ticks == 0.0) ? pd_now : cuts->first;
        cuts->ticks += 1.0;
        cuts->last = pd_now;
    }}
    return (x < low) ? low : ((x > high) ? high : x);
}}
{declared}
"""
TAIL = """
void pd_ctl_lost(double *out)
{{
    (void)out;
    pd_now = -1.0;
{given}}}
"""


@dataclass(frozen=True)
class Counted:
    """C that counts, and what the numbers that ``pd_ctl_lost`` gives are of, by ``block.name``: sums that lose steps
    (one each), then words that cut something off (ticks, and the first of them)."""

    text: str
    lost: tuple[str, ...]
    cut: tuple[str, ...]


@dataclass(frozen=True)
class Cut:
    """At how many ticks something was cut off, and the first of them."""

    ticks: int
    first: int


def may_count(lowered: Lowered) -> bool:
    """Whether a sum may lose steps at all, or a word that is not seen from outside cut something off."""
    return any(block.lost or block.limited - {*block.tree.outputs, ""} for block in lowered.blocks)


@lru_cache(maxsize=4)
def counted_source(lowered: Lowered) -> Counted:
    """Kept for the last controllers, as one that runs again is the same."""
    counting = lower(lowered.deck, lowered.choices, lowered.seen, counting=True)
    lost = {c: f"{b.name}.{n}" for b in counting.blocks for c, n in b.counted.items()}
    cut = {c: f"{b.name}.{n}" for b in counting.blocks for c, n in b.cut.items()}
    declared = "".join(f"static double {counter};\n" for counter in lost)
    declared += "".join(f"static pd_cuts {counter};\n" for counter in cut)
    numbers = [*lost, *(f"{counter}.{part}" for counter in cut for part in ("ticks", "first"))]
    given = "".join(f"    out[{k}] = {number};\n    {number} = 0.0;\n" for k, number in enumerate(numbers))
    text, tick = shipped_alone(counting), f"    {counting.name}_tick(c);\n"
    at, ticks = text.index(f"/* {counting.name}.h"), text.rindex(tick)
    text = f"{text[:at]}{HEAD.format(declared=declared)}{text[at:ticks]}    pd_now += 1.0;\n{text[ticks:]}"
    return Counted(text + TAIL.format(given=given), tuple(lost.values()), tuple(cut.values()))


def read_counts(library: ctypes.CDLL, counted: Counted) -> tuple[dict[str, int], dict[str, Cut]]:
    """Lost steps by sum and what was cut off by name, counted since they were read last."""
    numbers = np.zeros(max(1, len(counted.lost) + 2 * len(counted.cut)))
    library.pd_ctl_lost.argtypes = [ctypes.c_void_p]
    library.pd_ctl_lost(numbers.ctypes.data)
    return _added(counted.lost, numbers), _joined(counted.cut, numbers[len(counted.lost) :])


def _added(names: Sequence[str], numbers: np.ndarray) -> dict[str, int]:
    lost: dict[str, int] = {}
    for name, count in zip(names, numbers):
        lost[name] = lost.get(name, 0) + int(count)
    return lost


def _joined(names: Sequence[str], numbers: np.ndarray) -> dict[str, Cut]:
    """A name may be assigned at several places of an update, which runs in two halves at most."""
    cuts: dict[str, Cut] = {}
    for name, ticks, first in zip(names, numbers[0::2], numbers[1::2]):
        if ticks:
            before = cuts.get(name, Cut(0, int(first)))
            cuts[name] = Cut(max(before.ticks, int(ticks)), min(before.first, int(first)))
    return cuts

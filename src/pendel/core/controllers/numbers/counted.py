"""How often sums of a controller in fixed point took no step in, though what they add was not zero.

The controller is written with a counter behind each such assignment, built, and fed with what its inputs were
in a run; it gives the same bits as without."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from pendel.core.controllers.numbers.lowering import Lowered, lower
from pendel.core.controllers.numbers.source import shipped_alone


@dataclass(frozen=True)
class Counted:
    """C that counts, and ``block.state`` of each number that ``pd_ctl_lost`` gives."""

    text: str
    names: tuple[str, ...]


def may_lose(lowered: Lowered) -> bool:
    """Whether a sum may lose steps at all."""
    return any(block.lost for block in lowered.blocks)


@lru_cache(maxsize=4)
def counted_source(lowered: Lowered) -> Counted:
    """Kept for the last controllers, as one that runs again is the same."""
    counting = lower(lowered.deck, lowered.choices, lowered.seen, counting=True)
    counters = {c: f"{b.name}.{n}" for b in counting.blocks for c, n in b.counted.items()}
    text = shipped_alone(counting)
    at = text.index(f"/* {counting.name}.h")
    declared = "".join(f"static double {counter};\n" for counter in counters)
    given = "".join(f"    out[{k}] = {counter};\n" for k, counter in enumerate(counters))
    tail = f"\nvoid pd_ctl_lost(double *out)\n{{\n    (void)out;\n{given}}}\n"
    return Counted(f"{text[:at]}{declared}{text[at:]}{tail}", tuple(counters.values()))

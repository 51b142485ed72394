"""What a block computes from its live values whenever these change: numbers in its own format, under names
in C."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from pendel.core.controllers.c_names import identifier
from pendel.core.controllers.numbers.integers import rounded
from pendel.core.controllers.numbers.representation import FLOAT, Rep
from pendel.core.controllers.numbers.tree import Expr, Live, Name

FOR_NOW = "pd_live_"
"""What names in C begin with while a block is being written, as not all that is asked for is read in the
end."""
MOST_DIGITS = 31
"""Of the word of a live number, which is kept in 32 bits."""


@dataclass(frozen=True)
class LiveNumber:
    """One of them: its name in the block's struct, how it is computed, and how it is held."""

    name: str
    live: Live
    rep: Rep


@dataclass
class LiveNumbers:
    """Those of one block; ``values`` are its live values by their names in C, and ``taken`` names in its struct
    that are others'."""

    values: Mapping[str, str] = field(default_factory=dict)
    taken: set[str] = field(default_factory=set)
    by_use: dict[tuple[Expr, Rep], LiveNumber] = field(default_factory=dict)

    def in_float(self, live: Live, bits: int) -> str:
        """Where a number is that is held in float; a value alone is among the values."""
        if isinstance(live.of, Name):
            return f"b->values.{self.values[live.of.name]}"
        return f"b->{self._named(live, FLOAT[bits]).name}"

    def in_words(self, live: Live, fraction: int) -> LiveNumber | None:
        """A number in steps of 2^−fraction; none where that has more digits than its word."""
        if not -900 < fraction < 900:
            return None
        low, high = (rounded(math.ldexp(x, fraction)) for x in (live.low, live.high))
        if max(-low, high).bit_length() > MOST_DIGITS or max(-low, high) > 2**31 - 2:
            return None
        return self._named(live, Rep(False, 32, fraction, low, high))

    def _named(self, live: Live, rep: Rep) -> LiveNumber:
        key = live.of, rep
        if key not in self.by_use:
            self.by_use[key] = LiveNumber(f"{FOR_NOW}{len(self.by_use)}", live, rep)
        return self.by_use[key]

    def settle(self, lines: Iterable[str]) -> dict[str, LiveNumber]:
        """Those that C reads by the names they had for now, each with the name it gets."""
        read = set(re.findall(rf"\bb->({FOR_NOW}\d+)\b", "\n".join(lines)))
        numbers = [n for n in self.by_use.values() if n.name in read]
        numbers.sort(key=lambda n: not isinstance(n.live.of, Name))  # a value itself has its own name
        taken, settled = set(self.taken), {}
        for number in numbers:
            stem = name = identifier("_".join(names_in(number.live)))
            count = 2
            while name in taken:
                name, count = f"{stem}_{count}", count + 1
            taken.add(name)
            settled[number.name] = replace(number, name=name)
        return settled


def names_in(live: Live) -> list[str]:
    """The live values that a number hangs on, in their order."""
    return list(dict.fromkeys(e.name for e in live.of.walk() if isinstance(e, Name)))


def renamed(lines: Iterable[str], settled: Mapping[str, LiveNumber]) -> list[str]:
    """Lines of C with the names that live numbers got."""
    return [re.sub(rf"\bb->({FOR_NOW}\d+)\b", lambda m: f"b->{settled[m[1]].name}", line) for line in lines]

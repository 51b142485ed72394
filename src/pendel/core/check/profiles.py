"""Profiles: times and levels of their corners."""

from __future__ import annotations

import itertools
import math
from functools import lru_cache

from pendel.core.catalogue.declare import ANY, Kind
from pendel.core.check.examined import Examined
from pendel.core.check.signal_units import signal_unit
from pendel.core.check.values import of_any_unit
from pendel.core.drive.cycles import too_steep
from pendel.core.drive.document import Drive, End
from pendel.core.drive.findings import attention, fault
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.plain_numbers import plain_numbers
from pendel.core.quantities.units import figure


@lru_cache(maxsize=8)
def plain_corners(
    profile: tuple[tuple[str, str], ...], unit_text: str | None
) -> tuple[list[float], list[float]] | None:
    """Times and levels (SI) of a profile that is written in plain numbers, with one unit or none, as a
    measured one of many corners is; kept, as every edit of the drive reads them again. ``None`` where a
    corner needs more than a look."""
    times = plain_numbers((text for text, _ in profile), "s")
    levels = plain_numbers((text for _, text in profile), unit_text) if times is not None else None
    return None if times is None or levels is None else (times, levels)


def profile_of(drive: Drive, key: str, kind: Kind, names: Names, result: Examined) -> None:
    assert kind.has_profile is not None
    card = drive.cards[key]
    unit_text = kind.has_profile[1]
    times: list[float] = []
    levels: list[float] = []
    known = plain_corners(card.profile, None if unit_text == ANY else unit_text)
    if known is not None:
        times, levels = known
    for number, (time_text, value_text) in enumerate(card.profile if known is None else ()):
        try:
            times.append(value_in_field(time_text, "s", names))
            levels.append(
                of_any_unit(value_text, names, lambda: signal_unit(drive, End(key, "out")))
                if unit_text == ANY
                else value_in_field(value_text, unit_text, names)
            )
        except ExpressionProblem as problem:
            result.findings.append(
                fault(f"{card.name}, profile corner {number + 1}: {problem}", key, f"profile:{number}")
            )
            return
    number = next((n for n, (a, b) in enumerate(itertools.pairwise(times), 1) if b < a), 0)
    if number:
        result.findings.append(
            fault(
                f"{card.name}, profile corner {number + 1}: its time {card.profile[number][0]} lies before "
                f"the corner at {card.profile[number - 1][0]}. Sort the corners by time.",
                key,
                f"profile:{number}",
            )
        )
        return
    steep = too_steep(card.profile, times, levels)
    if steep is not None:
        number, slope = steep
        by = f"by {figure(slope, 'm/s²', 3)}" if math.isfinite(slope) else "at once"
        result.findings.append(
            attention(
                f"{card.name}, profile corner {number + 1}: the speed changes {by} to {card.profile[number][1]}, which "
                "no vehicle on wheels can follow. Check the unit of the times and of the speeds.",
                key,
                f"profile:{number}",
            )
        )
    if not times and not kind.profile_optional:
        result.findings.append(attention(f"{card.name} has no profile yet and gives 0. Add corners.", key, "profile"))
    result.profiles[key] = (times, levels)

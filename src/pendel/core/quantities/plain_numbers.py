"""Many texts that are plain numbers, read at once."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from functools import lru_cache

from pendel.core.quantities.units import is_unit, turn, unit

PLAIN = re.compile(r"\s*([-+]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][-+]?[0-9]+)?)\s*([A-Za-zµΩ]*(?:/[A-Za-z]+)?)\s*")


def plain_numbers(texts: Iterable[str], wanted_unit: str | None) -> list[float] | None:
    """SI values of texts that are all finite numbers in the field's own unit or one of the same kind, such as
    ms for s, much faster than one by one; ``None`` where one is not. A field without a unit of its own
    (``None``) takes all but those of turning."""
    wanted, dim = unit(wanted_unit or "")
    turning = turn(wanted_unit or "")
    factors = {"": wanted}
    numbers = []
    for text in texts:
        match = PLAIN.fullmatch(text)
        if match is None:
            return None
        number, name = match.groups()
        if name not in factors:
            if (
                not all(map(is_unit, name.split("/")))
                or turn(name) != turning
                or (wanted_unit is not None and unit(name)[1] != dim)
            ):
                return None
            factors[name] = unit(name)[0]
        value = float(number) * factors[name]
        if not math.isfinite(value):
            return None
        numbers.append(value)
    return numbers


@lru_cache(maxsize=8)
def first_of_each_unit(profile: tuple[tuple[str, str], ...]) -> tuple[tuple[int, str], ...]:
    """Number and text of the first level with each unit, and of each expression, without plain numbers. Kept, as a
    profile may have a hundred thousand corners and every edit of the drive asks for it."""
    first: dict[str, tuple[int, str]] = {}
    for number, (_, text) in enumerate(profile):
        match = PLAIN.fullmatch(text)
        first.setdefault(match[2] if match is not None else text, (number, text))
    return tuple(each for unit_text, each in first.items() if unit_text)

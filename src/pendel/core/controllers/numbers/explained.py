"""Numbers in shipped C that say what they are made of: gains and limits under their names, with what they are in SI."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple

from pendel.core.controllers.c_layout import WIDTH
from pendel.core.controllers.c_names import comment, identifiers
from pendel.core.controllers.deck import BlockInstance
from pendel.core.errors import shorten
from pendel.core.quantities.units import figure

MOST_NAMES = 5
"""Values of which one number is made, beyond which its formula says less than the number."""

LONGEST = 44
"""Letters of a name that is made of several."""


class Explained(float):
    """A number with its formula: the plain ``number`` times the names ``over`` those ``under`` the line.

    It is a float in every respect; products, quotients and sums of such numbers know their formulas, and whatever else
    is done leaves a plain float.
    """

    over: tuple[str, ...]
    under: tuple[str, ...]
    number: float

    def __new__(
        cls, value: float, over: tuple[str, ...] = (), under: tuple[str, ...] = (), number: float = 1.0
    ) -> Explained:
        self = super().__new__(cls, value)
        self.over, self.under, self.number = over, under, number
        return self

    @property
    def formula(self) -> str:
        """As C would have it, such as ``K_p*dt/T_i``."""
        over = "*".join(self.over) or "1"
        if abs(self.number) != 1.0:
            over = f"{self.number:.9g}*{over}" if self.over else f"{self.number:.9g}"
        elif self.number < 0.0:
            over = f"-{over}"
        under = "*".join(self.under)
        if not under and len(self.over) == 1 and over == self.over[0]:
            return over[1:-1] if over.startswith("(") else over
        return over + (f"/{under}" if len(self.under) == 1 else f"/({under})" if under else "")

    @property
    def stem(self) -> str:
        """What it is called in C."""
        over = "_".join(spoken(self.over)) or "one"
        stem = f"{over}_by_{'_'.join(spoken(self.under))}" if self.under else over
        if len(stem) > LONGEST:
            stem = "number"
        return f"{'minus_' if self.number < 0.0 else ''}{stem}{'_scaled' if abs(self.number) != 1.0 else ''}"

    def __mul__(self, other: float) -> float:
        return made(super().__mul__(other), *parts(self), *parts(other))

    __rmul__ = __mul__

    def __truediv__(self, other: float) -> float:
        (over, under, number), (below, above, divisor) = parts(self), parts(other)
        return made(super().__truediv__(other), over, under, number, above, below, 1.0 / divisor if divisor else 1.0)

    def __rtruediv__(self, other: float) -> float:
        (over, under, number), (below, above, divisor) = parts(other), parts(self)
        return made(super().__rtruediv__(other), over, under, number, above, below, 1.0 / divisor if divisor else 1.0)

    def __neg__(self) -> float:
        return Explained(super().__neg__(), self.over, self.under, -self.number)

    def __add__(self, other: float) -> float:
        return made(super().__add__(other), (joined(self, "+", other),))

    def __radd__(self, other: float) -> float:
        return made(super().__radd__(other), (joined(other, "+", self),))

    def __sub__(self, other: float) -> float:
        return made(super().__sub__(other), (joined(self, "-", other),))

    def __rsub__(self, other: float) -> float:
        return made(super().__rsub__(other), (joined(other, "-", self),))


def words(texts: Iterable[str]) -> list[str]:
    return re.findall(r"[A-Za-z]\w*", " ".join(texts))


def spoken(texts: Iterable[str]) -> list[str]:
    """The names, and signs between them as words."""
    signs = {" + ": " plus ", " - ": " less ", "(-": "(minus "}
    return words(re.sub(r" [+-] |\(-", lambda m: signs[m[0]], text) for text in texts)


def parts(value: float) -> tuple[tuple[str, ...], tuple[str, ...], float]:
    return (value.over, value.under, value.number) if isinstance(value, Explained) else ((), (), float(value))


def joined(a: float, sign: str, b: float) -> str:
    left, right = (x.formula if isinstance(x, Explained) else f"{x:.9g}" for x in (a, b))
    return f"({left} {sign} ({right}))" if sign == "-" and " " in right else f"({left} {sign} {right})"


def made(
    value: float,
    over: tuple[str, ...],
    under: tuple[str, ...] = (),
    number: float = 1.0,
    more_over: tuple[str, ...] = (),
    more_under: tuple[str, ...] = (),
    more: float = 1.0,
) -> float:
    """The outcome of an operation; plain where the formula would be too long to help."""
    above, below = [*over, *more_over], [*under, *more_under]
    for name in list(above):
        if name in below:
            above.remove(name)
            below.remove(name)
    if not above and not below or len(words([*above, *below])) > MOST_NAMES:
        return float(value)
    return Explained(value, tuple(above), tuple(below), number * more)


PLAIN = re.compile(r"[-+−]?\d[\d.,]*([eE][-+]?\d+)?(\s*(%|°|[^\W\d_])\S*)?")
"""A number with or without a unit, as it is written."""


def about(block: BlockInstance, tick: float) -> str:
    """What a block is, how often it runs, its values as they stand in the drive, and what its code says of itself."""
    rate = f", every {block.every} ticks ({figure(tick * block.every, 's', 4)})" if block.every > 1 else ""
    told = []
    for name, (text, unit) in block.written.items():
        text, value, any_unit = text.strip(), block.values.get(name), unit in ("", "*")
        if value is None or not text:
            continue
        worth = f"{value:.6g}" if any_unit else figure(value, unit, 6)
        plain = PLAIN.fullmatch(text) is not None
        told.append(f"{name} = {(text if any_unit else worth) if plain else f'{shorten(text)} = {worth}'}")
    why = f" {block.code.comment}" if block.code.comment else ""
    return f"{block.title}{rate}{': ' if told else ''}{', '.join(told)}.{why}"


FOR_NOW = "pd_number_"
"""What names in C begin with while a block is being written, as not all that is worked out is read in the end."""


class Use(NamedTuple):
    """A number as a function of C reads it."""

    stem: str
    formula: str
    value: str
    c_type: str
    literal: str
    steps: str

    def lines(self, name: str) -> list[str]:
        """Its declaration, with what it is made of and what it is in SI."""
        alone = self.formula == name
        value = "" if alone and not self.steps else self.value if alone else f"{self.formula} = {self.value}"
        told = ", ".join(filter(None, (value, self.steps)))
        declared = f"    const {self.c_type} {name} = {self.literal};"
        if len(declared) + len(told) > WIDTH - len("  /*  */"):
            return [f"    {comment(told)}", declared]
        return [f"{declared}  {comment(told)}" if told else declared]


@dataclass
class NamedNumbers:
    """Numbers of one function of a block; ``taken`` are names in its C that are others'."""

    taken: frozenset[str] = frozenset()
    by_use: dict[Use, str] = field(default_factory=dict)
    """What stands for a number for now."""

    def name(self, number: Explained, c_type: str, literal: str, steps: str = "") -> str:
        """What stands for a number in C, for now."""
        use = Use(number.stem, number.formula, f"{number:.6g}", c_type, literal, steps)
        return self.by_use.setdefault(use, f"{FOR_NOW}{len(self.by_use)}_")

    def settled(self, lines: list[str]) -> list[str]:
        """The lines of the function, before them the numbers that they read."""
        read = set(re.findall(rf"\b{FOR_NOW}\d+_", "\n".join(lines)))
        head, names = [], dict[str, str]()
        for use, now in self.by_use.items():
            if now in read:
                names[now] = identifiers([use.stem], {*self.taken, *names.values()})[use.stem]
                head += use.lines(names[now])
        return head + [re.sub(rf"\b{FOR_NOW}\d+_", lambda m: names[m[0]], line) for line in lines]

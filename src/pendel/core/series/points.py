"""The rows of a plan: the text of each thing that varies, for each run.

Points of Sobol and Latin hypercube are those of `scipy.stats.qmc`; spreads take them through the inverse of their
distribution."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from pendel.core.catalogue.card_names import names_of
from pendel.core.check.targets import Target, target
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import GRID, HYPERCUBE, PAIRED, RANDOM, ROW_BY_ROW, SAMPLED, SOBOL, SPREADS, Plan, Varied
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import Measured, evaluate, is_literal, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import figure, si_unit_of
from pendel.core.quantities.units import unit as unit_of

MOST_ROWS = 10_000_000
DEFAULT_CUT = 3.0
"""Deviations from its mean at which a normal spread ends."""
LARGEST_SEED = 2**31 - 1


@dataclass(frozen=True)
class Axis:
    """What one thing takes: ``texts`` of its points, or a spread that has a value for each share from 0 to 1."""

    target: Target
    texts: tuple[str, ...] = ()
    spread: Spread | None = None

    def at(self, share: float) -> str:
        """Its text at a share of all that it can be, 0 to 1."""
        if self.spread is not None:
            return self.spread.at(share)
        return self.texts[min(len(self.texts) - 1, int(share * len(self.texts)))]


@dataclass(frozen=True)
class Spread:
    """Between two figures in a unit: even, by equal ratios, or about a middle with a deviation."""

    low: float
    high: float
    unit: str
    ratio: bool = False
    middle: float = math.nan
    deviation: float = 0.0

    def at(self, share: float) -> str:
        share = min(max(share, 0.0), 1.0)
        if self.deviation > 0:
            from scipy.stats import truncnorm  # slow to load

            ends = (self.low - self.middle) / self.deviation, (self.high - self.middle) / self.deviation
            number = float(truncnorm.ppf(share, *ends, loc=self.middle, scale=self.deviation))
        elif self.ratio:
            number = self.low * (self.high / self.low) ** share
        else:
            number = self.low + share * (self.high - self.low)
        return with_unit(number, self.unit)


def with_unit(number: float, unit: str) -> str:
    return f"{number!r} {unit}".rstrip()


@dataclass(frozen=True)
class Points:
    """All rows of a plan."""

    axes: tuple[Axis, ...]
    combined: str
    count: int
    seed: int

    def rows(self, begin: int, end: int) -> list[tuple[str, ...]]:
        """Texts of the rows from ``begin`` to before ``end``, one for each axis."""
        end = min(end, self.count)
        if self.combined == ROW_BY_ROW:
            return [tuple(axis.texts[n] for axis in self.axes) for n in range(begin, end)]
        if self.combined == GRID:
            return [self._of_grid(n) for n in range(begin, end)]
        shares = self._shares[begin:end]
        return [tuple(axis.at(float(share)) for axis, share in zip(self.axes, row)) for row in shares]

    def _of_grid(self, number: int) -> tuple[str, ...]:
        """The last axis changes first."""
        texts = []
        for axis in reversed(self.axes):
            number, place = divmod(number, len(axis.texts))
            texts.append(axis.texts[place])
        return tuple(reversed(texts))

    @cached_property
    def _shares(self) -> np.ndarray:
        """Between 0 and 1, shape (count, axes)."""
        from scipy.stats import qmc  # slow to load

        if self.combined == RANDOM:
            return np.random.default_rng(self.seed).random((self.count, len(self.axes)))
        if self.combined == PAIRED:
            return paired(len(self.axes), self.count, self.seed)
        if self.combined == HYPERCUBE:
            return qmc.LatinHypercube(len(self.axes), rng=self.seed).random(self.count)
        whole = qmc.Sobol(len(self.axes), rng=self.seed)
        return whole.random_base2(max(0, math.ceil(math.log2(self.count))))[: self.count]


def paired(axes: int, count: int, seed: int) -> np.ndarray:
    """Group by group a point of A, A with each of its places from B in turn, and B; shape (count, axes)."""
    from scipy.stats import qmc  # slow to load

    groups = count // (axes + 2)
    both = qmc.Sobol(2 * axes, rng=seed).random_base2(max(0, math.ceil(math.log2(groups))))[:groups]
    a, b = both[:, :axes], both[:, axes:]
    rows = np.repeat(a[:, None, :], axes + 2, axis=1)
    rows[:, -1, :] = b
    for k in range(axes):
        rows[:, k + 1, k] = b[:, k]
    return rows.reshape(-1, axes)


def seed_of_row(seed: int, row: int) -> int:
    """Of the random sources of a row's run: its own, and the same wherever it runs."""
    return 1 + (seed * 1_000_003 + row * 7919) % LARGEST_SEED


def points_of(drive: Drive, plan: Plan) -> Points:
    """The rows of a plan for a drive.

    Raises
    ------
    DriveProblem
        where the plan is none, naming what varies, the text and the remedy.
    """
    if not plan.varied:
        raise DriveProblem("Nothing varies yet. Name a quantity, a setting, or a value of a card.")
    names = names_of(drive)
    axes: list[Axis] = []
    for varied in plan.varied:
        if varied.target in (axis.target.name for axis in axes):
            raise DriveProblem(f"{varied.target} varies twice. Leave one of the two out.")
        try:
            axes.append(axis_of(target(drive, varied.target), varied, names))
        except ExpressionProblem as problem:
            raise DriveProblem(f"{varied.target}: {problem}") from None
    count = count_of(axes, plan)
    if not 1 <= count <= MOST_ROWS:
        raise DriveProblem(f"That makes {count} runs; a series has at most {MOST_ROWS // 10**6} million. Vary less.")
    return Points(tuple(axes), plan.combined, count, whole_number("the seed", plan.seed, 0, LARGEST_SEED))


def count_of(axes: Sequence[Axis], plan: Plan) -> int:
    """How many rows a plan has. Raises `DriveProblem`."""
    if plan.combined in SAMPLED:
        count = whole_number("the number of runs", plan.count, 1, MOST_ROWS)
        # Of pairs whole groups, a power of two of them: else Sobol's points are not balanced.
        groups = count // (len(axes) + 2)
        return count if plan.combined != PAIRED else (len(axes) + 2) * 2 ** int(math.log2(max(1, groups)))
    spread = next((axis for axis in axes if axis.spread is not None and not axis.texts), None)
    if spread is not None:
        raise DriveProblem(
            f"{spread.target.name} is a spread, which has no points of its own. Combine by {SOBOL}, {HYPERCUBE} or "
            f"{RANDOM}, or give a list or a range."
        )
    counts = [len(axis.texts) for axis in axes]
    if plan.combined == GRID:
        return math.prod(counts)
    if len(set(counts)) > 1:
        listed = ", ".join(f"{axis.target.name} {len(axis.texts)}" for axis in axes)
        raise DriveProblem(f"Row by row, everything takes as many values, but here are: {listed}. Even them out.")
    return counts[0]


def whole_number(what: str, text: str, least: int, most: int) -> int:
    """Raises `DriveProblem`."""
    plain = text.strip()
    if not (plain.isascii() and plain.isdigit() and len(plain) < 12 and least <= int(plain) <= most):
        raise DriveProblem(f"“{text}” cannot be {what}. Give a whole number from {least} to {most}.")
    return int(plain)


def axis_of(of: Target, varied: Varied, names: Names) -> Axis:
    """Raises `DriveProblem` and `ExpressionProblem`."""
    if not varied.texts or not all(text.strip() for text in varied.texts):
        raise DriveProblem(f"{of.name} has no values yet. Give some, such as a list: 3, 4, 5.")
    if of.options:
        return _of_words(of, varied)
    if varied.how == "list":
        for text in varied.texts:
            evaluate(read(text), names, text)
        return Axis(of, tuple(varied.texts))
    first, second = (evaluate(read(text), names, text) for text in (*varied.texts, varied.texts[-1])[:2])
    unit = unit_for(of, varied.texts[0], first)
    if len(varied.texts) < 2:
        raise DriveProblem(f"{of.name}: “{varied.texts[0]}” is one value of two. Give the other, too.")
    return _between(
        of, varied, unit, in_unit(of, varied.texts[0], first, unit), in_unit(of, varied.texts[1], second, unit)
    )


def _of_words(of: Target, varied: Varied) -> Axis:
    texts = of.options if varied.how == "list" and varied.texts == ("all",) else varied.texts
    if varied.how != "list":
        raise DriveProblem(f"{of.title} is a word. Give a list of {', '.join(of.options)}.")
    if wrong := next((text for text in texts if text not in of.options), ""):
        raise DriveProblem(f"{of.title} cannot be “{wrong}”. Choose among {', '.join(of.options)}.")
    return Axis(of, tuple(texts))


def unit_for(of: Target, text: str, value: Measured) -> str:
    """In which a range is counted: that of its first end, which has none where it is a plain figure."""
    if unit := own_unit(text):
        return unit
    plain = is_literal(text) or not any(value.dim)
    return "" if plain else si_unit_of(value.dim, value.turn)


def in_unit(of: Target, text: str, value: Measured, unit: str) -> float:
    """A figure of a range, in the unit in which that is counted. Raises `DriveProblem`."""
    if not unit:
        if any(value.dim):
            raise DriveProblem(
                f"{of.name}: the one end has a unit, “{text}”, and the other has none. Give both the same."
            )
        return value.si
    factor, dimension = unit_of(unit)
    if value.dim != dimension:
        raise DriveProblem(f"{of.name}: “{text}” is not in {unit}, as the other value is. Give both the same unit.")
    number = own_number(text) if own_unit(text) == unit else None
    return value.si / factor if number is None else number


def own_number(text: str) -> float | None:
    """The figure of a plain text, as written, so that it is not rounded on its way through SI."""
    node = read(text)
    return float(node.value) if hasattr(node, "value") else None


def _between(of: Target, varied: Varied, unit: str, low: float, high: float) -> Axis:
    if varied.how == "corners":
        return Axis(of, (with_unit(low, unit), with_unit(high, unit)))
    if varied.how == "normal":
        cut = number_of(of, varied.texts[2]) if len(varied.texts) > 2 else DEFAULT_CUT
        if not (high > 0 and 0 < cut <= 100):
            raise DriveProblem(
                f"{of.name}: a deviation of {figure(high, unit)} cut at {cut:g} is no spread. Give both above 0."
            )
        return Axis(of, spread=Spread(low - cut * high, low + cut * high, unit, middle=low, deviation=high))
    ratio = varied.how == "ratio"
    if ratio and not low * high > 0:
        raise DriveProblem(
            f"{of.name}: from {low:g} to {high:g} there are no equal ratios. Give two values of one sign."
        )
    if not ratio and not math.isfinite(high - low):
        raise DriveProblem(
            f"{of.name}: from {low:g} to {high:g} is no range. Give values that are nearer to each other."
        )
    spread = Spread(low, high, unit, ratio)
    if varied.how in SPREADS:
        return Axis(of, spread=spread)
    count = whole_number(f"the count of {of.name}", varied.texts[2] if len(varied.texts) > 2 else "", 2, MOST_ROWS)
    return Axis(of, tuple(evenly(spread, count)), spread)


def evenly(spread: Spread, count: int) -> Iterator[str]:
    """Ends included, exactly."""
    yield with_unit(spread.low, spread.unit)
    for n in range(1, count - 1):
        yield spread.at(n / (count - 1))
    yield with_unit(spread.high, spread.unit)


def number_of(of: Target, text: str) -> float:
    """Raises `DriveProblem`."""
    try:
        return float(text)
    except ValueError:
        raise DriveProblem(f"{of.name}: “{text}” is no number.") from None


__all__ = ["Axis", "Points", "Spread", "points_of", "seed_of_row"]

"""All rows of a series at hand as columns of numbers: to sort, to filter, to draw, and to tell what matters."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.card_names import names_of
from pendel.core.drive.document import Drive
from pendel.core.drive.plans import Plan
from pendel.core.drive.user_text import near_words
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import evaluate, read, value_in_field
from pendel.core.quantities.stepping import own_unit
from pendel.core.quantities.units import number_text, with_symbols
from pendel.core.quantities.units import unit as unit_of
from pendel.core.series.columns import read_column
from pendel.core.series.points import Axis, Points, points_of
from pendel.core.series.rows import DONE, Row

FIRST_ROOM = 256
PARTS = re.compile(r"\band\b|,")
"""Between comparisons, where no bracket is open."""
COMPARED = re.compile(r"(<=|>=|!=|≤|≥|<|>|=)")
COMPARE: dict[str, Callable[[np.ndarray, float], np.ndarray]] = {
    "<": np.less,
    ">": np.greater,
    "<=": np.less_equal,
    "≤": np.less_equal,
    ">=": np.greater_equal,
    "≥": np.greater_equal,
    "=": np.equal,
    "!=": np.not_equal,
}


@dataclass(frozen=True)
class Head:
    """A column: its whole name and a short one, and the unit that it is shown in."""

    name: str
    short: str
    unit: str = ""
    words: tuple[str, ...] = ()
    """Of something that is a word: figures are places in these."""

    def shown(self, si: float) -> float:
        """In that unit."""
        return si / unit_of(self.unit)[0] if self.unit else si


@dataclass(frozen=True)
class Limit:
    """A comparison of a column with a figure (SI), as written."""

    text: str
    column: int
    sign: str
    value: float

    def beyond(self, figure: float) -> float:
        """By how much a figure breaks it, as a share of the limit; 0 where it keeps it, and negative by how much it is
        away from it."""
        size = abs(self.value) or 1.0
        if math.isnan(figure):
            return math.inf
        if self.sign in ("<", "<=", "≤"):
            return (figure - self.value) / size
        if self.sign in (">", ">=", "≥"):
            return (self.value - figure) / size
        return abs(figure - self.value) / size if self.sign == "=" else 0.0


class Gathered:
    """Rows as they come, in a table of floats (SI): what varied first, then figures.

    Raises
    ------
    DriveProblem
        where the plan is none.
    """

    def __init__(self, drive: Drive, plan: Plan):
        self.plan = plan
        self.points: Points = points_of(drive, plan)
        self._names = names_of(drive)
        self._known: dict[tuple[int, str], float] = {}
        self.heads = [self._head_of(axis) for axis in self.points.axes]
        self.heads += [Head(text, short_name(text)) for text in plan.measures]
        self.axes = len(self.points.axes)
        self._numbers = np.zeros(FIRST_ROOM, dtype=np.int64)
        self._cells = np.zeros((FIRST_ROOM, len(self.heads)))
        self._failed = np.zeros(FIRST_ROOM, dtype=bool)
        self.count = 0
        self._places: dict[int, int] = {}

    def _head_of(self, axis: Axis) -> Head:
        of = axis.target
        if of.options:
            return Head(of.name, of.name, words=of.options)
        text = axis.texts[0] if axis.texts else axis.at(0.5)
        return Head(of.name, of.name, with_symbols(own_unit(text) or of.unit or ""))

    @property
    def numbers(self) -> np.ndarray:
        """Of the rows, in the order in which they came; shape (count,)."""
        return self._numbers[: self.count]

    @property
    def cells(self) -> np.ndarray:
        """Shape (count, heads)."""
        return self._cells[: self.count]

    @property
    def failed(self) -> np.ndarray:
        """Whether rows could not run; shape (count,)."""
        return self._failed[: self.count]

    def add(self, rows: Iterable[Row]) -> None:
        """Rows that are done; one that is there already is replaced."""
        for row in rows:
            at = self._places.setdefault(row.number, self.count)
            if at == self.count:
                if self.count == len(self._numbers):
                    self._grow()
                self.count += 1
            self._numbers[at], self._failed[at] = row.number, row.outcome != DONE
            for k, text in enumerate(row.texts):
                self._cells[at, k] = self.value(k, text)
            self._cells[at, self.axes :] = row.figures
            for k, unit in enumerate(row.units):
                head = self.heads[self.axes + k]
                if unit and not head.unit:
                    self.heads[self.axes + k] = Head(head.name, head.short, unit)

    def with_figures(self, drive: Drive, plan: Plan) -> Gathered:
        """The same rows for a plan that reports other figures of them; what a row lacks is not-a-number."""
        other = Gathered(drive, plan)
        known = {head.name: k for k, head in enumerate(self.heads)}
        other._numbers, other._failed = self._numbers.copy(), self._failed.copy()
        other._cells = np.full((len(self._numbers), len(other.heads)), math.nan)
        for k, head in enumerate(other.heads):
            if head.name in known:
                other._cells[:, k] = self._cells[:, known[head.name]]
                other.heads[k] = self.heads[known[head.name]]
        other.count, other._places = self.count, dict(self._places)
        return other

    def _grow(self) -> None:
        self._numbers = np.concatenate([self._numbers, np.zeros_like(self._numbers)])
        self._cells = np.concatenate([self._cells, np.zeros_like(self._cells)])
        self._failed = np.concatenate([self._failed, np.zeros_like(self._failed)])

    def value(self, axis: int, text: str) -> float:
        """What a text of something that varies amounts to, in SI; of a word its place among all."""
        known = self._known.get((axis, text))
        if known is None:
            known = self._known[axis, text] = self._value(self.points.axes[axis], text)
        return known

    def _value(self, axis: Axis, text: str) -> float:
        of = axis.target
        try:
            if of.options:
                return float(of.options.index(text))
            if of.unit is not None:
                return value_in_field(text, of.unit, self._names)
            return evaluate(read(text), self._names, text).si
        except (ExpressionProblem, ValueError):
            return math.nan

    def column(self, name: str) -> int:
        """The place of a column by its name, or by what it begins with where only one does. Raises `DriveProblem`."""
        exact = [k for k, head in enumerate(self.heads) if name in (head.name, head.short)]
        found = exact or [k for k, head in enumerate(self.heads) if head.name.startswith(name) or name in head.name]
        if len(found) == 1:
            return found[0]
        names = [head.name for head in self.heads]
        if found:
            raise DriveProblem(f"“{name}” may be {' or '.join(names[k] for k in found[:3])}. Write more of it.")
        raise DriveProblem(f"No column is called “{name}”.{near_words(name, names)} There are {', '.join(names)}.")

    def matching(self, text: str) -> np.ndarray:
        """Which rows fulfil ``overshoot < 5 % and R_load > 40 ohm``; of an empty text all. Shape (count,).

        Raises
        ------
        DriveProblem, ExpressionProblem
            where it cannot be read.
        """
        kept = np.ones(self.count, dtype=bool)
        parts = comparisons(text)
        if "failed" in parts:
            kept &= self.failed
        for limit in self.limits(" and ".join(part for part in parts if part != "failed")):
            kept &= COMPARE[limit.sign](self.cells[:, limit.column], limit.value)
        return kept

    def limits(self, text: str) -> list[Limit]:
        """Comparisons as typed. Raises `DriveProblem` and `ExpressionProblem`."""
        found = []
        for part in comparisons(text):
            sides = COMPARED.split(part)
            if len(sides) != 3:
                raise DriveProblem(f"“{part.strip()}” is no comparison. Write such as overshoot < 5 %.")
            column = self.column(sides[0].strip())
            found.append(Limit(part.strip(), column, sides[1], self.limit(column, sides[2].strip())))
        return found

    def narrowed(self, text: str, ranges: Mapping[int, tuple[float, float]]) -> str:
        """What is typed, with ranges (SI) of columns in the place of what it says of these; an endless one says
        nothing."""
        kept = [part for part in comparisons(text) if self._compared(part) not in ranges]
        shorts = [head.short for head in self.heads]
        for column, (low, high) in ranges.items():
            head = self.heads[column]
            name = head.short if shorts.count(head.short) == 1 else head.name
            if head.words:
                words = [word for place, word in enumerate(head.words) if low <= place <= high]
                kept += [f"{name} = {words[0]}"] if len(words) == 1 else []
                continue
            for sign, end in ((">=", low), ("<=", high)):
                if math.isfinite(end):
                    kept.append(f"{name} {sign} {number_text(head.shown(end), 4)} {head.unit}".rstrip())
        return " and ".join(kept)

    def _compared(self, part: str) -> int:
        """The column that a comparison is of; -1 for none."""
        try:
            return self.column(COMPARED.split(part)[0].strip())
        except DriveProblem:
            return -1

    def limit(self, column: int, text: str) -> float:
        """A figure to compare a column with, in SI. Raises `DriveProblem` and `ExpressionProblem`."""
        head = self.heads[column]
        if head.words:
            if text not in head.words:
                raise DriveProblem(f"{head.name} is one of {', '.join(head.words)}.")
            return float(head.words.index(text))
        if not head.unit and column >= self.axes and not np.isfinite(self.cells[:, column]).any():
            return evaluate(read(text), self._names, text).si  # no row has told its unit yet
        return value_in_field(text, head.unit, self._names)

    def order(self, column: int, *, falling: bool, kept: np.ndarray) -> np.ndarray:
        """Places of the kept rows, sorted by a column (-1: their numbers); what is no number comes last."""
        places = np.flatnonzero(kept)
        keys = self.numbers[places].astype(float) if column < 0 else self.cells[places, column]
        keys = np.where(np.isnan(keys), np.inf, -keys if falling else keys)
        return places[np.lexsort((self.numbers[places], keys))]


def comparisons(text: str) -> list[str]:
    """Parts of ``overshoot < 5 % and mean(x, 0 s, 1 s) > 2 V``, without empty ones."""
    found, begun = [], 0
    for between in PARTS.finditer(text):
        before = text[: between.start()]
        if before.count("(") <= before.count(")"):
            found.append(text[begun : between.start()])
            begun = between.end()
    return [part.strip() for part in (*found, text[begun:]) if part.strip()]


def short_name(text: str) -> str:
    """Of a figure that is one function of a signal, such as “overshoot”; else the whole text."""
    try:
        column = read_column(text)
    except ExpressionProblem:
        return text
    taken = column.taken
    if len(taken) != 1 or text.strip() != text or not text.startswith(taken[0].function):
        return text
    card, _, signal = taken[0].names[0].rpartition(".") if taken[0].names else ("", "", "")
    signal = card if signal in ("value", "out") else signal
    return f"{taken[0].function} {signal}".strip() if text.endswith(")") else text


@dataclass(frozen=True)
class Share:
    """How much of the spread of a figure one thing explains by itself, with its interval."""

    name: str
    share: float
    low: float
    high: float
    total: float = math.nan
    """With all that it does together with others; not-a-number where the rows do not tell."""
    total_low: float = math.nan
    total_high: float = math.nan


FEWEST, BINS_MOST, RESAMPLED = 20, 32, 200


def what_matters(gathered: Gathered, column: int, rows: np.ndarray | None = None) -> list[Share]:
    """Sobol indices of first order from the rows that are there, largest first, with 95 % intervals.

    The variance of the means within classes of one input over the whole variance (Plischke, Borgonovo and Smith:
    Global sensitivity measures from given data, European J. Operational Research 226 (2013) 536), less what classes of
    so few rows would show by chance, resampled for the interval. It means something where inputs vary independently.
    """
    y = gathered.cells[:, column]
    good = np.isfinite(y) & ~gathered.failed
    if rows is not None:
        good &= rows
    y = y[good]
    if len(y) < FEWEST or not np.ptp(y) > 0:
        return []
    random = np.random.default_rng(1)
    shares = []
    for k in range(gathered.axes):
        x = gathered.cells[good, k]
        classes = _classes(x)
        if classes is None:
            continue
        estimate = _explained(classes, y)
        draws = [_explained(classes[pick], y[pick]) for pick in random.integers(0, len(y), (RESAMPLED, len(y)))]
        low, high = np.quantile(draws, (0.025, 0.975))
        shares.append(Share(gathered.heads[k].name, estimate, float(low), float(high)))
    return sorted(shares, key=lambda share: -share.share)


def _classes(x: np.ndarray) -> np.ndarray | None:
    """The class of each row: equal values, or ranges of equally many rows."""
    values, places = np.unique(x, return_inverse=True)
    if len(values) < 2:
        return None
    most = max(2, min(BINS_MOST, int(math.sqrt(len(x)) / 1.5)))
    if len(values) <= max(most, len(x) // 4):
        return np.asarray(places)
    ranks = np.argsort(np.argsort(x, kind="stable"), kind="stable")
    return np.asarray(ranks * most // len(x))


def _explained(classes: np.ndarray, y: np.ndarray) -> float:
    """Share of the variance between classes, as an unbiased estimate of variance components gives it."""
    counts = np.bincount(classes).astype(float)
    there = counts > 0
    means = np.bincount(classes, y)[there] / counts[there]
    total, n, groups = float(np.var(y)), len(y), int(there.sum())
    if total <= 0 or n <= groups:
        return 0.0
    between = float(np.dot(counts[there], (means - y.mean()) ** 2)) / n
    within = (total - between) * n / (n - groups)
    chance = within * (groups - 1) / n
    return min(1.0, max(0.0, (between - chance) / total))


def within_limits(
    values: Sequence[float] | np.ndarray, low: float = -math.inf, high: float = math.inf
) -> tuple[int, int]:
    """How many figures lie within limits, of how many; what is no number lies outside."""
    y = np.asarray(values, dtype=float)
    return int(np.count_nonzero((y >= low) & (y <= high))), len(y)


def wilson(inside: int, count: int, z: float = 1.959964) -> tuple[float, float]:
    """95 % interval of a share (Wilson 1927, as in NIST/SEMATECH e-Handbook of Statistical Methods, 7.2.4.1)."""
    if count == 0:
        return 0.0, 1.0
    p, zz = inside / count, z * z / count
    middle, half = p + zz / 2, z * math.sqrt(p * (1 - p) / count + zz / (4 * count))
    return max(0.0, (middle - half) / (1 + zz)), min(1.0, (middle + half) / (1 + zz))

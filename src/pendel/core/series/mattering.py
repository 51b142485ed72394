"""What matters for a figure, from the rows of a series: Sobol indices of first order from any rows, also total ones
from a set that is made for them, and slopes.

The set is A and B, each of N points, and for each thing that varies A with its column of B: N (D + 2) rows (Saltelli
and others: Variance based sensitivity analysis of model output, Computer Physics Communications 181 (2010) 259)."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from pendel.core.drive.plans import PAIRED
from pendel.core.errors import DriveProblem
from pendel.core.series.gathered import Gathered, Share, what_matters

FEWEST_GROUPS, RESAMPLED = 8, 300
ENDS = (0.025, 0.975)
"""Of a 95 % interval."""
EVEN = 1e-12
"""Of its size: a column that spreads by less is one value."""


@dataclass(frozen=True)
class Slope:
    """How a figure goes with one thing, all others held, by a plane through the rows: ``slope`` in SI of the figure
    over SI of the thing, ``error`` its standard error, and ``part``, by how many of its own standard deviations the
    figure moves with one of the thing's (the standardised regression coefficient)."""

    name: str
    slope: float
    error: float
    part: float


@dataclass(frozen=True)
class Mattering:
    """Of one figure of a series: `Share` and `Slope` of all that varies."""

    figure: str
    shares: list[Share]
    slopes: list[Slope]


def what_matters_for(gathered: Gathered, figure: str) -> Mattering:
    """By a figure's name, or what it begins with. Raises `DriveProblem` where there is none."""
    column = gathered.column(figure)
    if column < gathered.axes:
        known = "; ".join(gathered.plan.measures) or "none"
        raise DriveProblem(f"{figure} varies itself. The figures of this series are: {known}.")
    return Mattering(gathered.heads[column].name, shares(gathered, column), slopes(gathered, column))


def shares(gathered: Gathered, column: int) -> list[Share]:
    """Indices with 95 % intervals, the largest first; with totals where the rows are made for them."""
    found = _of_pairs(gathered, column) if gathered.plan.combined == PAIRED else None
    return what_matters(gathered, column) if found is None else found


def _of_pairs(gathered: Gathered, column: int) -> list[Share] | None:
    """First order S_i = mean(f_B (f_AB_i − f_A))/V, total T_i = mean((f_A − f_AB_i)²)/2V (Jansen: Computer Physics
    Communications 117 (1999) 35), resampled by groups for the interval; None where too few groups are whole."""
    groups = grouped(gathered, column)
    if len(groups) < FEWEST_GROUPS:
        return None
    random = np.random.default_rng(1)
    picks = random.integers(0, len(groups), (RESAMPLED, len(groups)))
    first, total = _indices(groups)
    draws = [_indices(groups[pick]) for pick in picks]
    if not np.isfinite(first).all():
        return None
    low, high = (np.nanquantile([draw[0] for draw in draws], end, axis=0).clip(0, 1) for end in ENDS)
    total_low, total_high = (np.nanquantile([draw[1] for draw in draws], end, axis=0) for end in ENDS)
    made = [
        Share(
            head.name,
            float(np.clip(first[k], 0, 1)),
            float(low[k]),
            float(high[k]),
            float(total[k]),
            float(total_low[k]),
            float(total_high[k]),
        )
        for k, head in enumerate(gathered.heads[: gathered.axes])
    ]
    return sorted(made, key=lambda share: -share.total)


def grouped(gathered: Gathered, column: int) -> np.ndarray:
    """Figures of whole groups: A, A with each column of B, B; shape (groups, D + 2)."""
    width = gathered.axes + 2
    whole = np.full((math.ceil((int(gathered.numbers.max(initial=-1)) + 1) / width), width), np.nan)
    y = np.where(gathered.failed, np.nan, gathered.cells[:, column])
    whole[gathered.numbers // width, gathered.numbers % width] = y
    return whole[np.isfinite(whole).all(axis=1)]


def _indices(groups: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    a, mixed, b = groups[:, 0], groups[:, 1:-1], groups[:, -1]
    both = np.concatenate([a, b])
    variance = float(np.var(both))
    if not variance > EVEN * float(np.mean(both**2)):
        return np.full(mixed.shape[1], np.nan), np.full(mixed.shape[1], np.nan)
    middle = both.mean()
    first = np.mean((b - middle)[:, None] * (mixed - a[:, None]), axis=0) / variance
    total = np.mean((a[:, None] - mixed) ** 2, axis=0) / (2 * variance)
    return first, total


def slopes(gathered: Gathered, column: int) -> list[Slope]:
    """By least squares over all that are numbers, the steepest part first; none where there are too few rows."""
    y = gathered.cells[:, column]
    kept = [k for k in range(gathered.axes) if not gathered.heads[k].words]
    x = gathered.cells[:, kept]
    good = np.isfinite(y) & np.isfinite(x).all(axis=1) & ~gathered.failed
    x, y = x[good], y[good]
    spread = x.std(axis=0) if len(x) else np.zeros(len(kept))
    moving = np.flatnonzero(spread > EVEN * np.abs(x).max(axis=0, initial=0.0)) if len(x) else np.zeros(0, dtype=int)
    freedom = len(y) - len(moving) - 1
    if freedom < 1 or not len(moving) or not y.std() > EVEN * np.abs(y).max():
        return []
    scaled = (x[:, moving] - x[:, moving].mean(axis=0)) / spread[moving]
    found, *_ = np.linalg.lstsq(scaled, y - y.mean(), rcond=None)
    left = y - y.mean() - scaled @ found
    covariance = np.linalg.pinv(scaled.T @ scaled) * float(left @ left) / freedom
    errors = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    made = [
        Slope(gathered.heads[kept[k]].name, float(b / spread[k]), float(e / spread[k]), float(b / y.std()))
        for k, b, e in zip(moving, found, errors)
    ]
    return sorted(made, key=lambda each: -abs(each.part))


__all__ = ["Mattering", "Slope", "grouped", "shares", "slopes", "what_matters_for"]

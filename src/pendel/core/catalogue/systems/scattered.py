"""A smooth surface through points that lie anywhere, as they are read off a printed map, for the code of a plant.

A tensor spline of degree 4 on even cells, by least squares with weights on its third differences, so that it is smooth
where there are no points (penalised splines; Eilers, Marx: Statistical Science 11 (1996) 89; from memory). How much is
smoothed is what misses points least that were left out of the fit. Beyond the points it is constant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.catalogue.declare import Contradiction, Figure
from pendel.core.catalogue.machines.co_energy import DEGREE, Beyond, values_of_basis
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.drive.findings import Remark
from pendel.core.quantities.units import figure

CELLS = 8
"""Along each axis, a margin of one on each side included."""
SMOOTHINGS = (1e-4, 1e-3, 1e-2, 1e-1, 1.0, 10.0, 100.0)
FOLDS = 5
ROOM = 0.02
"""Of what the points span: so far beyond them is not told."""
SMALLEST, LARGEST = 1e-30, 1e30
LEVEL = 1e-3
"""What first differences weigh beside the third: far from all points the surface is level."""


@dataclass(frozen=True, eq=False)
class Surface:
    """``low`` and ``step`` of both axes, coefficients (CELLS + 4, CELLS + 4), and what the points span."""

    low: tuple[float, float]
    step: tuple[float, float]
    coefficients: np.ndarray
    spans: tuple[tuple[float, float], tuple[float, float]]

    @property
    def beyond(self) -> tuple[Beyond, Beyond]:
        both = [Beyond(span, (2 * h, 2 * h), (0.0, 0.0), 0.0) for span, h in zip(self.spans, self.step)]
        return both[0], both[1]

    @property
    def numbers(self) -> tuple[float, ...]:
        """As ``plant/surfaces.c`` reads them."""
        head = (self.low[0], self.step[0], self.low[1], self.step[1])
        rims = (n for b in self.beyond for n in (*b.rims, *b.lengths, *b.fluxes, b.inductance))
        return (*head, *rims, *map(float, self.coefficients.ravel()))

    def at(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """Its values at pairs of places, shape (n,)."""
        led = [b.led(np.asarray(places, float))[0] for b, places in zip(self.beyond, (x, y))]
        along = [basis_of(self.low[k], self.step[k], led[k]) for k in (0, 1)]
        return np.asarray(np.sum((along[0] @ self.coefficients) * along[1], axis=1))


def beyond_figures(rows: Sequence[Sequence[float]], *others: float) -> list[Contradiction]:
    """A fault for numbers with which nothing can be fitted, as their squares are none."""
    for k, row in enumerate(rows):
        if any(number and not SMALLEST < abs(number) < LARGEST for number in row if number == number):
            return [Contradiction(f"Row {k + 1} has a figure far from all that is possible. Correct it.", f"rows:{k}")]
    if any(number and not SMALLEST < abs(number) < LARGEST for number in others):
        return [Contradiction("One of its values is far from all that is possible. Correct it.", "rows:0")]
    return []


@dataclass(frozen=True)
class Misfit:
    """Of a map, relative: the largest at its points and which that is; root mean square and largest at points that were
    left out of the fit."""

    worst: float
    worst_at: int
    left_out: tuple[float, float]

    @property
    def figures(self) -> list[Figure]:
        return [
            Figure("Map misses its points by up to", "", self.worst, "%"),
            Figure("and points left out of it, rms", "", self.left_out[0], "%"),
            Figure("by at most", "", self.left_out[1], "%"),
        ]


UNKNOWN = Misfit(0.0, 0, (0.0, 0.0))
"""Of a map that is not compared with its points yet."""


def misfit(errors: np.ndarray, off: np.ndarray) -> Misfit:
    """From relative errors at the points, and at each where it was left out; shape (n,)."""
    worst = int(np.argmax(np.abs(errors)))
    left_out = float(np.sqrt(np.mean(off**2))), float(np.max(np.abs(off)))
    return Misfit(float(abs(errors[worst])), worst, left_out)


def rough(missed: Misfit, place: str, what: str) -> Contradiction:
    """An attention on the row that a map misses most; ``place`` is where that row is, ``what`` the error relates to."""
    sentence = (
        f"the smooth map misses row {missed.worst_at + 1} ({place}) by {100 * missed.worst:.2g} % of {what}. Look "
        "for a point that is off, or give more points around it."
    )
    return Contradiction(sentence, f"rows:{missed.worst_at}", fault=False)


def left_points(
    seen: Seen,
    key: str,
    places: Sequence[np.ndarray],
    spans: Sequence[tuple[float, float]],
    axes: Sequence[tuple[str, str]],
) -> Remark | None:
    """A run that left the points of a card's map: when, for how long, how far. ``axes`` are words and units of both."""
    run, name = seen.run, seen.name(key)
    t = run.rows[:, 0]
    for at, (low, high), (what, unit) in zip(places, spans, axes):
        room = ROOM * (high - low)
        beyond = (at > high + room) | (at < low - room)
        lasts = float(np.sum(np.diff(t)[beyond[1:]])) if len(t) > 1 else 0.0
        if lasts > 0:
            first = float(t[int(np.argmax(beyond))])
            furthest = float(at[np.argmax(np.maximum(at - high, low - at))])
            return Remark(
                f"{name} left its map for {figure(lasts, 's', 3)} in all, first at {figure(first, 's', 4)}, up to "
                f"{figure(furthest, unit, 3)}: its points have {what} from {figure(low, unit, 3)} to "
                f"{figure(high, unit, 3)}. What holds beyond is a guess. Add points there.",
                key,
                first,
            )
    return None


def basis_of(low: float, step: float, x: np.ndarray) -> np.ndarray:
    knots = low + step * np.arange(-DEGREE, CELLS + DEGREE + 1)
    return values_of_basis(knots, x, 0)


def flat() -> Surface:
    """Zero everywhere."""
    return Surface((0.0, 0.0), (1.0, 1.0), np.zeros((CELLS + DEGREE,) * 2), ((1.0, CELLS - 1.0),) * 2)


def differences(order: int) -> np.ndarray:
    """Of one axis's coefficients; shape (CELLS + 4 − order, CELLS + 4)."""
    return np.diff(np.eye(CELLS + DEGREE), order, axis=0)


def penalty() -> np.ndarray:
    """Of all coefficients: third differences along both axes, and first ones a little; shape (n, n)."""
    one = np.eye(CELLS + DEGREE)
    total = np.zeros(((CELLS + DEGREE) ** 2,) * 2)
    for order, weight in ((3, 1.0), (1, LEVEL)):
        square = differences(order).T @ differences(order)
        total += weight * (np.kron(square, one) + np.kron(one, square))
    return total


def fit_surface(x: np.ndarray, y: np.ndarray, z: np.ndarray, weight: np.ndarray) -> tuple[Surface, np.ndarray]:
    """The surface for points, each with a ``weight`` on what it is missed by, and by how much each point is missed
    where it is left out of the fit, shape (n,). The surface is zero where no smoothing predicts the points better
    than that, or where all points have one x or one y."""
    axes, spans, lows, steps = (x, y), [], [], []
    for places in axes:
        spans.append((float(places.min()), float(places.max())))
        steps.append((spans[-1][1] - spans[-1][0]) / (CELLS - 2) or 1.0)
        lows.append(spans[-1][0] - steps[-1])
    count = CELLS + DEGREE
    level = Surface((lows[0], lows[1]), (steps[0], steps[1]), np.zeros((count, count)), (spans[0], spans[1]))
    if len(x) < FOLDS or any(low == high for low, high in spans):
        return level, z.copy()
    along = [basis_of(low, step, places) for low, step, places in zip(lows, steps, axes)]
    design = np.einsum("ni,nj->nij", *along).reshape(len(x), -1) * weight[:, None]
    wanted = z * weight
    folds = np.arange(len(x)) * 2 % FOLDS  # neighbours in a list are in different ones
    parts = [
        (design[folds == k].T @ design[folds == k], design[folds == k].T @ wanted[folds == k]) for k in range(FOLDS)
    ]
    square, right = sum(p[0] for p in parts), sum(p[1] for p in parts)
    size = float(np.trace(square)) / len(square)
    punished = penalty()
    best, off = None, wanted.copy()  # what nothing at all would miss
    for smoothing in SMOOTHINGS:
        stiff = smoothing * size * punished + 1e-12 * size * np.eye(len(square))
        left = np.empty(len(x))
        for k, (own, own_right) in enumerate(parts):
            out = folds == k
            left[out] = wanted[out] - design[out] @ np.linalg.solve(square - own + stiff, right - own_right)
        if np.mean(left**2) < np.mean(off**2):
            best, off = np.linalg.solve(square + stiff, right), left
    if best is None:
        return level, z.copy()
    return replace(level, coefficients=best.reshape(count, count)), off / weight

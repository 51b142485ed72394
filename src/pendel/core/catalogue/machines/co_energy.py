"""The smooth, convex co-energy behind flux tables: fitted where there are nodes, and going on beyond them.

One function w(i_d, i_q) is fitted so that its slopes are the tables, ψ_d = ∂w/∂i_d and ψ_q = ∂w/∂i_q: then no
current can run in a circle and gain energy, and the incremental inductances are w's second derivatives, equal
across (Vagati, Pastorelli, Franceschini: IEEE Trans. Ind. Appl. 33 (1997) 1111, for the condition; the fit is
our own). It is a tensor spline of degree 4 whose cells lie between the nodes of the table, and a margin
beyond; where it would not be convex it is the nearest that is. For the code it is written anew on even cells,
see ``plant/surfaces.c``.

Beyond the rim a current x is led along φ(x), which has slope 1 at the rim and comes to rest within the
margin:

    W = w(φ, ·) + c·(x − φ) + L·r,   φ'' ≤ 0 beyond the upper rim, r'' from 0 to 1,

with c the largest flux on the rim (at a lower rim the least). Then ∂²W = (∂²w)·φ'·φ' plus (w_x − c)·φ'' +
L·r'' ≥ 0 on the diagonal, so W is convex with continuous inductances, and its fluxes are straight in the end,
with the slope L."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.drive.document import FluxTable
from pendel.core.worked_out import worked_out

if TYPE_CHECKING:
    import scipy.sparse
    from numpy.typing import ArrayLike

DEGREE = 4
MOST_CELLS = 64
"""Along each axis, margins included."""
MARGIN, MOST_MARGIN = 0.25, 8
"""Of the table's range, on each side, in whole cells, at most so many: where the fit goes on beyond the rim,
and where φ comes to rest."""
STIFFNESSES = (1e-3, 1e-2, 3e-2, 1e-1, 3e-1, 1.0)
"""Weights of third differences, so that what the data leave open is smooth. The first does as long as the fit
with it is convex. Two tables that do not come from one energy, as measured ones never quite do, leave steps
between neighbours at the rim; a slack spline follows them with bends that no machine has."""
MORE_MISSED = 1.7
"""How many times as much (root mean square, at the nodes) a stiffer fit may miss as the first one: then it has left
out what lies between the tables. More, and the tables themselves bend."""
STANDS_OUT = 6.0
"""Times the root mean square: a node that is missed by more is wrong, where noise and tables of two energies spread
what is missed over all of them."""
FLATTEST = 0.02
"""Least incremental inductance, over the largest of the table, in any direction of the current."""
SURE = 0.25
"""Of that: what is made sure of in the end."""
ROUNDS = 400
"""Of looking for the nearest convex fit."""
GRID = 5
"""Points to a cell at which a fit must be convex."""


Axes = Sequence[np.ndarray]
"""One array for each of the two axes, or of both fluxes."""
Derivatives = Callable[[np.ndarray, np.ndarray, int, int], np.ndarray]
"""Of a function of two currents, of the orders given."""


@dataclass(frozen=True)
class Beyond:
    """How one axis goes on: the rims (A), the lengths over which φ comes to rest below and above (A), the
    fluxes c there (Wb), and the inductance L that is left (H)."""

    rims: tuple[float, float]
    lengths: tuple[float, float]
    fluxes: tuple[float, float]
    inductance: float

    def led(self, x: np.ndarray) -> tuple[np.ndarray, ...]:
        """φ, φ', φ'', the flux c, and L·(r, r', r'') for currents ``x``."""
        above = np.asarray(x) > self.rims[1]
        side = np.where(above, 1.0, -1.0)
        length = np.where(above, self.lengths[1], self.lengths[0])
        gone = np.maximum(0.0, np.where(above, x - self.rims[1], self.rims[0] - x))
        s = np.minimum(1.0, gone / length)
        further = np.maximum(0.0, gone - length)
        phi = x - side * (gone - length * (s - s**3 + 0.5 * s**4))
        slope = 1 - 3 * s**2 + 2 * s**3
        bend = -side * (6 * s - 6 * s**2) / length
        r1 = length * (s**3 - 0.5 * s**4) + further
        r0 = length**2 * (0.25 * s**4 - 0.1 * s**5) + further * (0.5 * length + 0.5 * further)
        r2 = 3 * s**2 - 2 * s**3
        held = np.where(above, self.fluxes[1], self.fluxes[0])
        return phi, slope, bend, held, self.inductance * r0, self.inductance * side * r1, self.inductance * r2


@dataclass(frozen=True, eq=False)
class CoEnergy:
    """The fitted w (J over 3/2) on ``cells`` even cells along d and q; ``low`` and ``step`` in A,
    coefficients (n_d + 4, n_q + 4)."""

    low: tuple[float, float]
    step: tuple[float, float]
    cells: tuple[int, int]
    coefficients: np.ndarray
    beyond: tuple[Beyond, Beyond]
    misfit: float
    """Largest gap of the fitted fluxes to the table's at its nodes, over the largest flux."""
    bent: float = 0.0
    """By how much of the largest inductance the plain fit lacked convexity; above zero where the nearest
    convex one was taken."""
    bent_at: tuple[float, float] = (0.0, 0.0)
    """Where it lacked most (A)."""
    stiffness: float = STIFFNESSES[0]
    """The weight of third differences with which it was fitted."""

    @property
    def numbers(self) -> tuple[float, ...]:
        """As ``plant/surfaces.c`` reads them."""
        head = (self.low[0], self.step[0], self.low[1], self.step[1])
        rims = (n for b in self.beyond for n in (*b.rims, *b.lengths, *b.fluxes, b.inductance))
        return (*head, *rims, *map(float, self.coefficients.ravel()))

    def derivative(self, i_d: ArrayLike, i_q: ArrayLike, by_d: int, by_q: int) -> np.ndarray:
        """A derivative of w, of order 2 at most, over a grid of any currents, shape (len(i_d), len(i_q))."""
        x, y = np.atleast_1d(np.asarray(i_d, float)), np.atleast_1d(np.asarray(i_q, float))

        def spline(p: np.ndarray, q: np.ndarray, n: int, m: int) -> np.ndarray:
            return self.basis(0, p, n) @ self.coefficients @ self.basis(1, q, m).T

        return self._composed(x[:, None], y[None, :], by_d, by_q, lambda p, q, n, m: spline(p.ravel(), q.ravel(), n, m))

    def along(self, i_d: np.ndarray, i_q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Fluxes at pairs of currents, shape (n,) each."""
        x, y = np.asarray(i_d, float), np.asarray(i_q, float)

        def spline(p: np.ndarray, q: np.ndarray, n: int, m: int) -> np.ndarray:
            return np.sum((self.basis(0, p, n) @ self.coefficients) * self.basis(1, q, m), axis=1)

        return self._composed(x, y, 1, 0, spline), self._composed(x, y, 0, 1, spline)

    def _composed(self, x: np.ndarray, y: np.ndarray, n: int, m: int, spline: Derivatives) -> np.ndarray:
        """W of the module's head, from the spline at the led currents."""
        (p, p1, p2, c, r0, r1, r2), (q, q1, q2, k, t0, t1, t2) = self.beyond[0].led(x), self.beyond[1].led(y)
        if (n, m) == (0, 0):
            return spline(p, q, 0, 0) + c * (x - p) + r0 + k * (y - q) + t0
        if (n, m) == (1, 0):
            return spline(p, q, 1, 0) * p1 + c * (1 - p1) + r1
        if (n, m) == (0, 1):
            return spline(p, q, 0, 1) * q1 + k * (1 - q1) + t1
        if (n, m) == (1, 1):
            return spline(p, q, 1, 1) * p1 * q1
        if (n, m) == (2, 0):
            return spline(p, q, 2, 0) * p1**2 + (spline(p, q, 1, 0) - c) * p2 + r2
        assert (n, m) == (0, 2)
        return spline(p, q, 0, 2) * q1**2 + (spline(p, q, 0, 1) - k) * q2 + t2

    def basis(self, axis: int, x: np.ndarray, derivative: int) -> np.ndarray:
        n = self.cells[axis]
        knots = self.low[axis] + self.step[axis] * np.arange(-DEGREE, n + DEGREE + 1)
        return values_of_basis(knots, x, derivative)

    def fluxes(self, i_d: ArrayLike, i_q: ArrayLike) -> tuple[np.ndarray, np.ndarray]:
        return self.derivative(i_d, i_q, 1, 0), self.derivative(i_d, i_q, 0, 1)

    def inductances(self, i_d: ArrayLike, i_q: ArrayLike) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Incremental L_dd, L_dq, L_qq (H) over a grid."""
        return tuple(self.derivative(i_d, i_q, *n) for n in ((2, 0), (1, 1), (0, 2)))  # type: ignore[return-value]


def values_of_basis(knots: np.ndarray, x: np.ndarray, derivative: int) -> np.ndarray:
    """Values of a derivative of all basis functions at ``x`` within the knots' inner range, shape (len(x),
    len(knots) - 5)."""
    import scipy.interpolate

    count = len(knots) - DEGREE - 1
    inside = np.clip(x, knots[DEGREE], knots[-DEGREE - 1])
    # A row of splines at once; SciPy takes coefficients of any trailing shape.
    values: np.ndarray = scipy.interpolate.BSpline(knots, np.eye(count), DEGREE)(inside, nu=derivative)
    return values


def design(knots: np.ndarray, x: np.ndarray, derivative: int) -> scipy.sparse.csr_matrix:
    """The same, sparse."""
    import scipy.sparse

    return scipy.sparse.csr_matrix(values_of_basis(knots, x, derivative))


def edges_of(axis: np.ndarray) -> np.ndarray:
    """Cell borders: the nodes, thinned where there are too many, and the margins in cells like those at the
    rims."""
    room = MOST_CELLS - 2 * MOST_MARGIN
    nodes = (
        axis
        if len(axis) - 1 <= room
        else axis[np.unique(np.round(np.linspace(0, len(axis) - 1, room + 1)).astype(int))]
    )
    first, last = nodes[1] - nodes[0], nodes[-1] - nodes[-2]
    counts = [int(np.clip(round(MARGIN * (axis[-1] - axis[0]) / h), 1, MOST_MARGIN)) for h in (first, last)]
    below = nodes[0] - first * np.arange(counts[0], 0, -1)
    above = nodes[-1] + last * np.arange(1, counts[1] + 1)
    return np.concatenate([below, nodes, above])


def knots_of(edges: np.ndarray) -> np.ndarray:
    first, last = edges[1] - edges[0], edges[-1] - edges[-2]
    steps = np.arange(1, DEGREE + 1)
    return np.concatenate([edges[0] - first * steps[::-1], edges, edges[-1] + last * steps])


@dataclass(frozen=True, eq=False)
class Fit:
    """A spline on uneven cells."""

    knots: tuple[np.ndarray, np.ndarray]
    coefficients: np.ndarray

    def derivative(self, i_d: np.ndarray, i_q: np.ndarray, order: tuple[int, int] = (0, 0)) -> np.ndarray:
        bases = [design(k, x, n) for k, x, n in zip(self.knots, (i_d, i_q), order)]
        return bases[0] @ self.coefficients @ bases[1].T.toarray()


ORDERS = (((2, 0), 1.0), ((1, 1), 2**0.5), ((0, 2), 1.0))
"""Second derivatives along both axes, and how they count: see `Problem.bending`."""
CORRECTIONS = 2


def lower_bands(square: scipy.sparse.csc_matrix) -> np.ndarray:
    """The lower half of a symmetric matrix by diagonals, as SciPy's banded factors take it."""
    entries = square.tocoo()
    below = entries.row >= entries.col
    rows, columns = entries.row[below], entries.col[below]
    bands = np.zeros((int(np.max(rows - columns)) + 1, square.shape[0]))
    bands[rows - columns, columns] = entries.data[below]
    return bands


class Problem:
    """A table's least squares: the spline whose slopes meet both tables at once at the nodes ``kept``.
    Numbers are over the largest flux times the shortest cell."""

    def __init__(
        self,
        axes: Axes,
        psi: Axes,
        edges: Axes,
        kept: np.ndarray | None = None,
        *,
        stiffness: float = STIFFNESSES[0],
    ) -> None:
        import scipy.sparse

        self.axes, self.edges = axes, edges
        self.knots = (knots_of(edges[0]), knots_of(edges[1]))
        self.count = [len(k) - DEGREE - 1 for k in self.knots]
        self.scale = max(float(np.max(np.abs(p))) for p in psi)
        self.unit = min(float(np.min(np.diff(e))) for e in edges)
        value, slope = ([design(k, a, n) for k, a in zip(self.knots, axes)] for n in (0, 1))
        weight = np.ones(psi[0].shape) if kept is None else kept.astype(float)
        rows = scipy.sparse.vstack([scipy.sparse.kron(slope[0], value[1]), scipy.sparse.kron(value[0], slope[1])])
        weights = scipy.sparse.diags(np.tile(weight.ravel(), 2))
        widths = [np.convolve(np.pad(np.diff(e), 1, mode="edge"), [0.5, 0.5], "valid") for e in edges]
        bends = [scipy.sparse.diags(h**3) @ design(k, e, 3) for h, k, e in zip(widths, self.knots, edges)]
        eye = [scipy.sparse.identity(n) for n in self.count]
        smooth = stiffness * scipy.sparse.vstack(
            [scipy.sparse.kron(bends[0], eye[1]), scipy.sparse.kron(eye[0], bends[1])]
        )
        # w is free by a constant; the last row settles it.
        anchor = scipy.sparse.csr_matrix(([1.0], ([0], [0])), shape=(1, rows.shape[1]))
        matrix = scipy.sparse.vstack([weights @ rows * self.unit, smooth, anchor]).tocsc()
        wanted = [
            *((weight * p / self.scale).ravel() * self.unit for p in psi),
            np.zeros(smooth.shape[0] + 1),
        ]
        self.matrix, self.wanted = matrix, np.concatenate(wanted)
        self.square, self.right = (matrix.T @ matrix).tocsc(), matrix.T @ self.wanted
        self.nodes = rows.shape[0]

    def plain(self) -> np.ndarray:
        """By the normal equations, corrected by what the result leaves of the table: as exact as by orthogonal
        factors where that is less than all digits (corrected seminormal equations; Björck: Numerical Methods for Least
        Squares Problems, section 6.6.5). Uncorrected, what the margins have little of was off by 3e-5."""
        import scipy.linalg
        import scipy.sparse.linalg  # slow to load, and few drives need it

        try:
            factors = scipy.linalg.cholesky_banded(lower_bands(self.square), lower=True)
        except np.linalg.LinAlgError:  # as good as singular
            return scipy.sparse.linalg.spsolve(self.square, self.right)
        solution = scipy.linalg.cho_solve_banded((factors, True), self.right)
        for _ in range(CORRECTIONS):
            left = self.matrix.T @ (self.wanted - self.matrix @ solution)
            solution += scipy.linalg.cho_solve_banded((factors, True), left)
        return solution

    def missed(self, coefficients: np.ndarray) -> tuple[float, float]:
        """Root mean square and largest of what the fluxes at the nodes are off."""
        left = (self.wanted - self.matrix @ coefficients)[: self.nodes]
        return float(np.sqrt(np.mean(left**2))), float(np.max(np.abs(left)))

    def fit(self, coefficients: np.ndarray) -> Fit:
        return Fit(self.knots, coefficients.reshape(self.count) * self.scale)

    @cached_property
    def points(self) -> list[np.ndarray]:
        """Where a fit must be convex, along both axes (A)."""
        return [np.unique(np.concatenate([np.linspace(a, b, GRID + 1) for a, b in zip(e, e[1:])])) for e in self.edges]

    @cached_property
    def bending(self) -> scipy.sparse.csr_matrix:
        """Second derivatives at the points: L_dd, √2·L_dq and L_qq one after the other, so that lengths are
        those of the matrices."""
        import scipy.sparse

        along = self.along
        return scipy.sparse.vstack(
            [scipy.sparse.kron(along[0][n], along[1][m]) * (size * self.unit**2) for (n, m), size in ORDERS]
        ).tocsr()

    @cached_property
    def along(self) -> list[list[scipy.sparse.csr_matrix]]:
        """By axis and derivative, the basis at the points."""
        return [[design(k, p, n) for n in range(3)] for k, p in zip(self.knots, self.points)]

    def bends(self, coefficients: np.ndarray) -> np.ndarray:
        """``bending @ coefficients``, along one axis after the other."""
        grid = coefficients.reshape(self.count)
        return np.concatenate(
            [
                ((self.along[0][n] @ grid) @ self.along[1][m].T.toarray() * (size * self.unit**2)).ravel()
                for (n, m), size in ORDERS
            ]
        )

    def lack(self, coefficients: np.ndarray) -> tuple[float, float, tuple[float, float], float]:
        """The largest inductance within the table; by how much of it the least falls short of `FLATTEST`
        there; where (A); and by how much with the margins."""
        packed = self.bends(coefficients)
        inside = [(p >= a[0]) & (p <= a[-1]) for p, a in zip(self.points, self.axes)]
        own = np.outer(*inside).ravel()
        dd, _, qq = np.split(packed, 3)
        top = float(max(np.max(dd[own]), np.max(qq[own])))
        lacks = FLATTEST - least_of(packed) / top
        worst = int(np.argmax(np.where(own, lacks, -np.inf)))
        k, j = np.unravel_index(worst, [len(p) for p in self.points])
        return (
            top,
            float(lacks[worst]),
            (float(self.points[0][k]), float(self.points[1][j])),
            float(np.max(lacks)),
        )

    def convex(self, begun: np.ndarray, minimum: float) -> np.ndarray:
        """Coefficients of the nearest fit all of whose inductances are ``minimum`` at least, found by
        splitting: a least-squares step, and one that lifts the second derivatives, point by point, to the
        nearest matrix that is positive definite (alternating direction method of multipliers; Boyd and
        others: Foundations and Trends in Machine Learning 3 (2011) 1, section 5)."""
        import scipy.sparse.linalg

        bending, solution = self.bending, begun
        push = float(self.square.diagonal().sum() / bending.multiply(bending).sum())
        solve = scipy.sparse.linalg.factorized((self.square + push * (bending.T @ bending)).tocsc())
        held, gap = lifted(bending @ begun, minimum), np.zeros(bending.shape[0])
        for _ in range(ROUNDS):
            solution = solve(self.right + push * (bending.T @ (held - gap)))
            now = bending @ solution
            if np.min(least_of(now)) > 0.5 * minimum:
                break
            held = lifted(now + gap, minimum)
            gap = gap + now - held
        return solution


def least_of(packed: np.ndarray) -> np.ndarray:
    """Least eigenvalues of matrices packed as a, √2·b, c one after the other."""
    a, b, c = np.split(packed, 3)
    return least_eigenvalue(a, b / 2**0.5, c)


def least_eigenvalue(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
    """Of the symmetric matrices [[a, b], [b, c]]."""
    return 0.5 * (a + c) - np.hypot(0.5 * (a - c), b)


def lifted(packed: np.ndarray, minimum: float) -> np.ndarray:
    """Nearest matrices with no eigenvalue below ``minimum``; packed as in `least_of`."""
    a, b, c = np.split(packed, 3)
    b = b / 2**0.5
    mean, half = 0.5 * (a + c), np.hypot(0.5 * (a - c), b)
    low, high = np.maximum(mean - half, minimum), np.maximum(mean + half, minimum)
    turned = np.divide(0.5 * (high - low), half, out=np.zeros_like(half), where=half > 0)
    mean = 0.5 * (high + low)
    return np.concatenate([mean + turned * 0.5 * (a - c), 2**0.5 * turned * b, mean - turned * 0.5 * (a - c)])


@worked_out
def fitted(table: FluxTable) -> CoEnergy:
    """The co-energy of a table that is free of faults."""
    axes = [np.array(table.i_d), np.array(table.i_q)]
    psi = [np.array(table.psi_d, float), np.array(table.psi_q, float)]
    edges = [edges_of(a) for a in axes]
    problem, stiffness = Problem(axes, psi, edges), STIFFNESSES[0]
    coefficients = problem.plain()
    top, lack, at, lack_anywhere = problem.lack(coefficients)
    if lack_anywhere > 0:
        stiffer = stiff_enough(problem, coefficients, psi)
        if stiffer is None:
            coefficients = problem.convex(coefficients, FLATTEST * top)
        else:
            stiffness, coefficients, lack = *stiffer, 0.0
    fit = problem.fit(coefficients)
    even = on_even_cells(fit, edges, axes)
    missing = lacking(even, edges)
    if missing > 0:
        even = on_even_cells(fit, edges, axes, missing)
    gaps = [np.max(np.abs(a - b)) for a, b in zip(even.fluxes(*axes), psi)]
    origin = even.derivative(0.0, 0.0, 0, 0)[0, 0]
    misfit, bent = float(max(gaps)) / problem.scale, max(0.0, lack - FLATTEST)
    centred = even.coefficients - origin
    return replace(even, coefficients=centred, misfit=misfit, bent=bent, bent_at=at, stiffness=stiffness)


def stiff_enough(slack: Problem, coefficients: np.ndarray, psi: Axes) -> tuple[float, np.ndarray] | None:
    """The least stiffness whose fit is convex, margins included, and its coefficients; none where it would have
    to leave the tables for that."""
    maximum = MORE_MISSED * slack.missed(coefficients)[0]
    for stiffness in STIFFNESSES[1:]:
        problem = Problem(slack.axes, psi, slack.edges, stiffness=stiffness)
        stiffer = problem.plain()
        mean, worst = problem.missed(stiffer)
        if mean > maximum or worst > STANDS_OUT * mean:
            return None
        if problem.lack(stiffer)[3] <= 0:
            return stiffness, stiffer
    return None


def lacking(even: CoEnergy, edges: Axes) -> float:
    """By how much (H) a spline lacks what its least incremental inductance is to be at least, margins
    included."""
    grid = [np.linspace(e[0], e[-1], 1 + GRID * n) for e, n in zip(edges, even.cells)]
    parts = even.inductances(*grid)
    top = max(float(np.max(parts[0])), float(np.max(parts[2])))
    return SURE * FLATTEST * top - float(np.min(least_eigenvalue(*parts)))


def on_even_cells(fit: Fit, edges: Axes, axes: Axes, lift: float = 0.0) -> CoEnergy:
    """The spline written anew on even cells, by interpolation at as many places as it has coefficients; with
    an inductance ``lift`` (H) added to all."""
    low, step, cells, solved = [], [], [], []
    for e in edges:
        n = int(min(MOST_CELLS, np.ceil((e[-1] - e[0]) / np.min(np.diff(e)) - 1e-6)))
        low.append(float(e[0]))
        step.append(float(e[-1] - e[0]) / n)
        cells.append(n)
    places = []
    for k in range(2):
        knots = low[k] + step[k] * np.arange(-DEGREE, cells[k] + DEGREE + 1)
        middle = np.array([np.mean(knots[j + 1 : j + DEGREE + 1]) for j in range(cells[k] + DEGREE)])
        # Greville's places, those beyond the range drawn in between its ends and their neighbours.
        inner = np.clip(middle, low[k], low[k] + cells[k] * step[k])
        inner[:2] = low[k] + step[k] * np.array([0.0, 0.25])
        inner[-2:] = low[k] + step[k] * (cells[k] - np.array([0.25, 0.0]))
        places.append(np.sort(inner))
        solved.append(np.linalg.inv(values_of_basis(knots, places[k], 0)))
    values = fit.derivative(places[0], places[1]) + 0.5 * lift * (places[0][:, None] ** 2 + places[1][None, :] ** 2)
    coefficients = solved[0] @ values @ solved[1].T
    still = Beyond((-np.inf, np.inf), (1.0, 1.0), (0.0, 0.0), 0.0)
    even = CoEnergy((low[0], low[1]), (step[0], step[1]), (cells[0], cells[1]), coefficients, (still, still), 0.0)
    return replace(even, beyond=(beyond_of(even, edges, axes, 0), beyond_of(even, edges, axes, 1)))


def beyond_of(even: CoEnergy, edges: Axes, axes: Axes, way: int) -> Beyond:
    """How an axis goes on: φ comes to rest at the end of the margin, c bounds the flux in it, and the least
    slope is left."""
    own, across = edges[way], edges[1 - way]
    rims = (float(axes[way][0]), float(axes[way][-1]))
    margins = (rims[0] - float(own[0]), float(own[-1]) - rims[1])
    other = np.linspace(across[0], across[-1], 4 * len(across))
    fluxes, slopes = [], []
    for low, high, bound in ((own[0], rims[0], np.min), (rims[1], own[-1], np.max)):
        strip = np.linspace(low, high, 9)
        grid = (strip, other) if way == 0 else (other, strip)
        orders = [(1, 0), (2, 0)] if way == 0 else [(0, 1), (0, 2)]
        values = even.derivative(*grid, *orders[0])
        hair = BOUND_HAIR * float(np.max(np.abs(values)))
        fluxes.append(float(bound(values)) + (hair if bound is np.max else -hair))
        slopes.append(float(np.min(even.derivative(*grid, *orders[1]))))
    return Beyond(rims, (2 * margins[0], 2 * margins[1]), (fluxes[0], fluxes[1]), max(min(slopes), 1e-12))


BOUND_HAIR = 1e-3
"""Of the largest flux: what its bound on the rim is beyond the samples it was found at."""
FOLDS = 5


@worked_out
def left_out(table: FluxTable) -> float:
    """By how much fluxes at nodes that were left out of the fit are missed, over the largest flux: every node
    is once. It tells what to expect between nodes, which the misfit at the nodes that were fitted does
    not. All folds are as stiff as the fit."""
    stiffness = fitted(table).stiffness
    axes = [np.array(table.i_d), np.array(table.i_q)]
    psi = [np.array(table.psi_d, float), np.array(table.psi_q, float)]
    edges = [edges_of(a) for a in axes]
    k, j = np.indices(psi[0].shape)
    worst = 0.0
    for fold in range(FOLDS):
        out = (k + 2 * j) % FOLDS == fold
        problem = Problem(axes, psi, edges, ~out, stiffness=stiffness)
        fit = problem.fit(problem.plain())
        for order, p in zip(((1, 0), (0, 1)), psi):
            worst = max(worst, float(np.max(np.abs(fit.derivative(axes[0], axes[1], order) - p)[out])))
    return worst / max(float(np.max(np.abs(p))) for p in psi)
